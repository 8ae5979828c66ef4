package record

import (
	"context"
	"errors"
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/session"
)

// ErrDiffers says that a session that is played again does not send what it sent then.
var ErrDiffers = errors.New("its frames are not those that were sent then")

// Source has the parts of one recording. Its errors are told as they are.
type Source interface {
	// CheckpointBefore returns the newest checkpoint at a tick or before it; nil when there is none, so that playing
	// begins with the session.
	CheckpointBefore(ctx context.Context, tick int64) (*Checkpoint, error)
	// Batch returns the batch with a number; nil when there is none, so that the recording ends before it.
	Batch(ctx context.Context, number int64) (*Batch, error)
}

// Player plays a recording.
type Player struct {
	contract *contract.Contract
	options  session.Options
	source   Source
	session  *session.Session
	decoder  decoder
	next     int64  // the number of the batch that comes next
	played   int64  // ticks since it began somewhere
	digest   uint32 // of all frames since then
	// Check has every tick's frames held against the recording; the error of one that differs is ErrDiffers.
	Check bool
	// FromStart has Seek begin with the session, and not with a checkpoint.
	FromStart bool
	// Skip leaves out the calls for which it returns true, to see what comes of the others; nil for none. What is sent
	// then is not what was sent: Check has to be false.
	Skip func(c *session.Call) bool
	// Called is told of every call before it is made; nil for nobody.
	Called func(c *session.Call)
}

// NewPlayer returns a player of a recording. The contract and the options have to be those with which the session was
// opened.
func NewPlayer(c *contract.Contract, o session.Options, source Source) *Player {
	return &Player{contract: c, options: o, source: source, Check: true}
}

// Session returns the session as far as it was played; nil before Seek.
func (p *Player) Session() *session.Session { return p.session }

// Played returns how many ticks were played since the player began, or went back.
func (p *Player) Played() int64 { return p.played }

// Digest returns a number for all frames of those ticks.
func (p *Player) Digest() uint32 { return p.digest }

// Seek goes to a tick: from where it is when that is on the way, else from the last checkpoint before it. The end of
// the recording is no error: the session is then where the recording ends.
func (p *Player) Seek(ctx context.Context, tick int64) error {
	if err := p.rewind(ctx, tick); err != nil {
		return err
	}
	return p.Each(ctx, tick, func(*session.Step) {})
}

// Each plays ticks up to one, or to the end of the recording, and tells of each. Seek has to come first.
func (p *Player) Each(ctx context.Context, until int64, ticked func(*session.Step)) error {
	for p.session.Now() < until {
		step, err := p.Next(ctx)
		if err != nil || step == nil {
			return err
		}
		ticked(step)
	}
	return nil
}

// rewind goes to a checkpoint before a tick, or at it, unless the session is nearer already.
func (p *Player) rewind(ctx context.Context, tick int64) error {
	var checkpoint *Checkpoint
	if !p.FromStart {
		var err error
		checkpoint, err = p.source.CheckpointBefore(ctx, tick)
		if err != nil {
			return err
		}
	}
	isNearer := p.session != nil && p.session.Now() <= tick && (checkpoint == nil || p.session.Now() >= checkpoint.Tick)
	if isNearer {
		return nil
	}
	return p.begin(checkpoint)
}

// begin begins with a checkpoint, or with the session.
func (p *Player) begin(from *Checkpoint) (err error) {
	p.decoder = decoder{}
	p.next = 1
	p.played = 0
	p.digest = 0
	if from == nil {
		p.session, err = session.New(p.contract, p.options)
		return err
	}
	data, err := decompress(from.Data)
	if err == nil {
		p.session, err = session.Restore(p.contract, p.options, data)
	}
	if err != nil {
		return fmt.Errorf("play a recording from tick %d: %w", from.Tick, err)
	}
	p.next = from.Next
	return nil
}

// NextBatch returns the number of the batch that follows what was played.
func (p *Player) NextBatch() int64 { return p.next }

// Next plays one tick, with all calls before it. The step is nil at the end of the recording, after all its calls.
func (p *Player) Next(ctx context.Context) (step *session.Step, err error) {
	defer func() { // as the session did then, or since it was another one
		if fault := recover(); fault != nil {
			err = fmt.Errorf("play a recording: the session fails inside after tick %d: %v", p.session.Now(), fault)
		}
	}()
	for {
		call, err := p.nextCall(ctx)
		if call == nil || err != nil {
			return nil, err
		}
		if p.Skip != nil && p.Skip(call) {
			continue
		}
		if p.Called != nil {
			p.Called(call)
		}
		step, err := p.session.Do(call)
		if err != nil {
			return nil, fmt.Errorf("play a recording: %w", err)
		}
		if step == nil {
			continue
		}
		sum := step.Sum()
		p.played++
		p.digest = p.digest*16777619 ^ sum
		if p.Check && sum != call.Frames {
			return step, fmt.Errorf("play a recording: tick %d: %w", step.Tick, ErrDiffers)
		}
		return step, nil
	}
}

// nextCall returns the next call; nil at the end of the recording.
func (p *Player) nextCall(ctx context.Context) (*session.Call, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if len(p.decoder.in) > 0 {
		return p.decoder.next()
	}
	batch, err := p.source.Batch(ctx, p.next)
	if batch == nil || err != nil {
		return nil, err
	}
	if batch.After != p.session.Now() {
		return nil, fmt.Errorf(
			"play a recording: batch %d follows tick %d, and the session is at %d", p.next, batch.After,
			p.session.Now(),
		)
	}
	calls, err := decompress(batch.Data)
	if err != nil {
		return nil, fmt.Errorf("play a recording: batch %d: %w", p.next, err)
	}
	p.next++
	p.decoder = decoder{in: calls, tick: batch.After}
	return p.decoder.next()
}

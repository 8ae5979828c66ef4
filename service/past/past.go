// Package past answers from recordings: it makes a session again as it was at any tick, off the goroutines of the
// sessions that run, and asks it. It stores nothing but what is imported, and knows nothing of HTTP.
//
// One recording is played at a time, so that whoever asks for much takes no more than a processor; whoever waits for
// their turn, and whoever is being answered, can give up.
package past

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/transcript"
	"kamerad.example/core/world"
	"kamerad.example/journal"
	"kamerad.example/service/gateway"
	"kamerad.example/service/observe"
	"kamerad.example/store"
)

// Records are where recordings are.
type Records interface {
	journal.Reader
	Recorded(ctx context.Context, session int64) (store.Recorded, error)
	Version(ctx context.Context, name string, version int) (store.Version, error)
}

// Shelf is where recordings are, and where those that are imported go.
type Shelf interface {
	Records
	VersionWith(ctx context.Context, name, source string, files map[string]string) (store.Version, error)
	ImportRecording(
		ctx context.Context, in store.Recorded, e store.Entries, seats []store.Seat,
	) (store.Session, error)
}

// Options is what a session was opened with, as it is stored.
type Options struct {
	Settings map[string]json.RawMessage `json:"settings,omitempty"`
	Seed     uint64                     `json:"seed,omitempty"`
	Paused   bool                       `json:"paused,omitempty"`
	Memory   int64                      `json:"memory"`
	World    *World                     `json:"world,omitempty"`
	From     *From                      `json:"from,omitempty"` // the session that has sent its clients here
}

// From says from where a session was opened, to which an exit of another one leads.
type From struct {
	Session int64  `json:"session"`
	Exit    string `json:"exit"`
	Key     string `json:"key,omitempty"`
}

// World is the world of a session, as it was when the session was opened.
type World struct {
	Name   string                     `json:"name"`
	Fence  int64                      `json:"fence"` // 0 until the session has what the world keeps
	Values map[string]json.RawMessage `json:"values"`
}

// session returns the options of the session that these are of.
func (o *Options) session(key []byte) (out session.Options, err error) {
	if len(key) != len(out.Key) {
		return out, errors.New("it was opened before there were recordings")
	}
	copy(out.Key[:], key)
	out.Trace = true
	out.Headroom = gateway.Headroom
	out.Settings = o.Settings
	out.Memory = o.Memory
	if w := o.World; w != nil {
		if w.Fence == 0 {
			return out, errors.New("the service ended before it was open")
		}
		out.World = session.World{Name: w.Name, Kept: session.Kept{Fence: w.Fence, Values: w.Values}}
	}
	return out, nil
}

// export returns the world as the head of an export has it; nil for none.
func (w *World) export() *session.World {
	if w == nil {
		return nil
	}
	return &session.World{Name: w.Name, Kept: session.Kept{Fence: w.Fence, Values: w.Values}}
}

// Recording is a recording that can be played.
type Recording struct {
	*record.Player
	Source  *journal.Source
	Options Options
	Row     store.Recorded
}

// UnplayableError says why a recording can never be played by this service. Any other error is about reading it.
type UnplayableError struct{ err error }

// Error says why.
func (e *UnplayableError) Error() string { return e.err.Error() }

// Unwrap returns what is wrong with the recording.
func (e *UnplayableError) Unwrap() error { return e.err }

// unplayable returns the error of a recording that is as it should not be.
func unplayable(format string, args ...any) error {
	return &UnplayableError{fmt.Errorf(format, args...)}
}

// Load returns a recording. The error is an *UnplayableError when it can never be played.
func Load(ctx context.Context, r Records, row store.Recorded) (*Recording, error) {
	out := &Recording{Source: journal.NewSource(r, row.ID), Row: row}
	if err := json.Unmarshal(row.Options, &out.Options); err != nil {
		return nil, unplayable("read what it was opened with: %w", err)
	}
	options, err := out.Options.session(row.Key)
	if err != nil {
		return nil, &UnplayableError{err}
	}
	if row.Engine != record.Revision {
		return nil, unplayable(
			"its recording is of engine %d, and this service has %d: they do not compute the same", row.Engine,
			record.Revision,
		)
	}
	version, err := r.Version(ctx, row.Contract, row.Version)
	if err != nil {
		return nil, err
	}
	c, err := Contract(version)
	if err != nil {
		return nil, &UnplayableError{err}
	}
	out.Player = record.NewPlayer(c, options, out.Source)
	return out, nil
}

// SeekEnd goes to the end of the recording. The error is an *UnplayableError when it does not come to what was sent, or
// calls are missing before its end.
func (r *Recording) SeekEnd(ctx context.Context) error {
	err := r.Seek(ctx, math.MaxInt64)
	var reading *journal.ReadError
	if err != nil && !errors.As(err, &reading) && ctx.Err() == nil {
		return &UnplayableError{err}
	}
	if err != nil {
		return err
	}
	follows, err := r.Source.Follows(ctx, r.NextBatch())
	if follows {
		err = unplayable(
			"the calls after tick %d are missing, and the checkpoint behind them cannot be read by this build",
			r.Session().Now(),
		)
	}
	return err
}

// Contract returns the model of a stored version.
func Contract(version store.Version) (*contract.Contract, error) {
	c, mistakes := compile.LoadWith(version.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return nil, fmt.Errorf("the text of the contract does not fit this version of Kamerad: %w", mistakes)
	}
	return c, nil
}

// Past answers from recordings. It may be used by any number of goroutines.
type Past struct {
	records Shelf
	turn    chan struct{} // has something while a recording is played
}

// New returns what answers from the recordings of r.
func New(r Shelf) *Past { return &Past{records: r, turn: make(chan struct{}, 1)} }

// play waits for its turn and loads a recording; done has to be called afterwards.
func (p *Past) play(ctx context.Context, id int64) (r *Recording, done func(), err error) {
	row, err := p.records.Recorded(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	select {
	case p.turn <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	done = func() { <-p.turn }
	r, err = Load(ctx, p.records, row)
	if err != nil {
		done()
		return nil, nil, fmt.Errorf("play session %d again: %w", id, err)
	}
	return r, done, nil
}

// Replay plays a session again from its beginning up to a tick, 0 for its end, and holds each frame against the
// recording. What differs is in the result; the error says that it could not be played at all.
func (p *Past) Replay(ctx context.Context, id, to int64) (api.Replayed, error) {
	r, done, err := p.play(ctx, id)
	if err != nil {
		return api.Replayed{}, err
	}
	defer done()
	if to <= 0 {
		to = math.MaxInt64
	}
	began := time.Now()
	r.FromStart = true
	err = r.Seek(ctx, to)
	if err == nil {
		err = r.playOn(ctx, to)
	}
	out := api.Replayed{Session: id, Seconds: time.Since(began).Seconds()}
	s := r.Session()
	if s == nil || ctx.Err() != nil {
		return out, err
	}
	out.Tick = s.Now()
	out.Ticks = r.Played()
	out.Digest = fmt.Sprintf("%08x", r.Digest())
	if err != nil {
		out.Differs = err.Error()
	}
	return out, nil
}

// playOn plays what was stored while the recording was played, of a session that runs. The error says that calls are
// missing in between.
func (r *Recording) playOn(ctx context.Context, to int64) error {
	for r.Session().Now() < to {
		last := r.Session().Now()
		follows, err := r.Source.Follows(ctx, r.NextBatch())
		if err != nil || !follows {
			return err
		}
		if err := r.Each(ctx, to, func(*session.Step) {}); err != nil {
			return err
		}
		if r.Session().Now() == last {
			return fmt.Errorf("the calls after tick %d were given up: the recording has a gap", last)
		}
	}
	return nil
}

// Why says why a property had its value at a tick, 0 for the end of the recording. of names it, such as `Dive.phase`,
// `Ana.Diver.hull`, `Eel[3].pos` for the third eel that there was, or `#123.hull` by the entity's number. Of what is
// gone at the end of the recording, it is the last tick in which it was there.
func (p *Past) Why(ctx context.Context, id int64, of string, at int64) (*record.Reason, error) {
	r, done, err := p.play(ctx, id)
	if err != nil {
		return nil, err
	}
	defer done()
	isEnd := at <= 0
	if isEnd {
		at = math.MaxInt64
	}
	r.Check = false
	if err := r.Seek(ctx, at); err != nil {
		return nil, err
	}
	entity, property, err := resolve(r.Session(), of)
	if err != nil && isEnd {
		at, err = lastOf(ctx, r, of, err)
		if err == nil {
			entity, property, err = resolve(r.Session(), of)
		}
	}
	if err != nil {
		return nil, err
	}
	return record.Why(ctx, r.Player, entity, property, at)
}

// lastOf goes to the last tick in which there was what a name stands for, and returns it; notFound is the error when
// there never was.
func lastOf(ctx context.Context, r *Recording, of string, notFound error) (last int64, err error) {
	r.FromStart = true
	defer func() { r.FromStart = false }()
	if err := r.Seek(ctx, 0); err != nil {
		return 0, err
	}
	for {
		step, err := r.Next(ctx)
		if err != nil {
			return 0, err
		}
		if step == nil {
			break
		}
		if _, _, err := resolve(r.Session(), of); err == nil {
			last = step.Tick
		}
	}
	if last == 0 {
		return 0, notFound
	}
	r.FromStart = false
	return last, r.Seek(ctx, last)
}

// State returns what the server, or a client by its name or number, held at a tick, 0 for the end of the recording.
func (p *Past) State(ctx context.Context, id, at int64, client string) (out api.PastState, err error) {
	r, done, err := p.play(ctx, id)
	if err != nil {
		return out, err
	}
	defer done()
	if at <= 0 {
		at = math.MaxInt64
	}
	r.Check = false
	if err := r.Seek(ctx, at); err != nil {
		return out, err
	}
	s := r.Session()
	out.Tick = s.Now()
	state := s.State()
	if client != "" {
		number := clientCalled(s, client)
		if number == 0 {
			number, _ = strconv.Atoi(client)
		}
		held, tick := s.ClientState(number)
		if held == nil {
			return out, &UnknownError{fmt.Sprintf("session %d has no client %.40s at tick %d", id, client, s.Now())}
		}
		state = held
		out.Sent = tick
	}
	out.State = state.JSON()
	return out, nil
}

// Export writes a recording as lines of JSON, or as a table, up to a tick, less than 0 for its end.
func (p *Past) Export(ctx context.Context, w io.Writer, row store.Recorded, to int64, asTable bool) error {
	r, err := Load(ctx, p.records, row)
	if err != nil {
		return fmt.Errorf("export session %d: %w", row.ID, err)
	}
	version, err := p.records.Version(ctx, row.Contract, row.Version)
	if err != nil {
		return err
	}
	export := record.Export
	if asTable {
		export = record.ExportTable
	}
	return export(ctx, w, record.Head{
		Engine:   row.Engine,
		Wire:     row.Wire,
		Contract: row.Contract,
		Version:  row.Version,
		Source:   version.Source,
		Files:    version.Files,
		Settings: r.Options.Settings,
		Memory:   r.Options.Memory,
		World:    r.Options.World.export(),
		Key:      row.Key,
	}, r.Source, to)
}

// Compare plays two sessions side by side until they differ: with another one, or, when that is 0, under another
// version of its contract.
func (p *Past) Compare(ctx context.Context, id, with int64, version int) (*record.Comparison, error) {
	row, err := p.records.Recorded(ctx, id)
	if err != nil {
		return nil, err
	}
	other := row
	if with != 0 {
		other, err = p.records.Recorded(ctx, with)
		if err != nil {
			return nil, err
		}
	}
	if version != 0 {
		other.Version = version
	}
	r, done, err := p.play(ctx, id)
	if err != nil {
		return nil, err
	}
	defer done()
	o, err := Load(ctx, p.records, other)
	if err != nil {
		return nil, fmt.Errorf("play session %d again: %w", other.ID, err)
	}
	return record.Compare(ctx, r.Player, o.Player)
}

// DrillFiles says how a drill of a stretch of a recording is called, and the files that lie beside it.
type DrillFiles struct {
	Name      string
	Contract  string
	Recording string // exported up to the tick from which the drill begins
}

// Drill writes a drill that begins from a recording at a tick, does what clients did up to another one, 0 for its end,
// and expects what came of it.
func (p *Past) Drill(ctx context.Context, id, from, to int64, files DrillFiles) (out api.WrittenDrill, err error) {
	r, done, err := p.play(ctx, id)
	if err != nil {
		return out, err
	}
	defer done()
	if to <= 0 {
		to = math.MaxInt64
	}
	notes, err := transcript.Stretch(ctx, r.Player, from, to, files.Recording)
	if err != nil {
		return out, err
	}
	out.Text, out.Left, err = notes.Drill(files.Name, files.Contract)
	return out, err
}

// maxStretch is how many ticks are played into a page at once.
const maxStretch = 2400

// Play plays the ticks after from up to to, 0 for the end of the recording, and returns what who watched the session
// would have been told: at most the last maxStretch of them, and fewer where that is very much.
func (p *Past) Play(ctx context.Context, id, from, to int64) (out api.PlayedDrill, err error) {
	r, done, err := p.play(ctx, id)
	if err != nil {
		return out, err
	}
	defer done()
	r.Check = false
	if to <= 0 {
		if err := r.Seek(ctx, math.MaxInt64); err != nil {
			return out, err
		}
		to = r.Session().Now()
	}
	for from = max(from, to-maxStretch, 0); ; from = (from + to + 1) / 2 {
		playback := observe.NewPlayback(r.Row.Contract, r.Row.Version, 0)
		if err := playStretch(ctx, r, playback, from, to); err != nil {
			return out, err
		}
		if playback.IsFull() && to-from > 1 {
			continue
		}
		stretch := api.Stretch{Session: id, From: from, To: r.Session().Now(), Last: r.Row.LastTick}
		return api.PlayedDrill{Result: api.Encode(stretch), Messages: playback.Messages()}, nil
	}
}

// playStretch plays some ticks and tells an observer of them.
func playStretch(ctx context.Context, r *Recording, to session.Observer, from, until int64) error {
	r.Called = nil
	if err := r.Seek(ctx, from); err != nil {
		return err
	}
	s := r.Session()
	to.Began(s)
	confirmed := func(client int, tick int64) {
		if tick <= s.Now() {
			to.Arrived(client, tick)
		}
	}
	r.Called = func(c *session.Call) {
		switch c.Type {
		case session.CallJoin:
			to.Joined(c.Client)
		case session.CallLeave:
			to.Left(c.Client)
		case session.CallConfirm:
			confirmed(c.Client, c.Tick)
		case session.CallAsk:
			confirmed(c.Client, c.Ask.Seen)
		case session.CallSteer:
			confirmed(c.Client, c.Move.Seen)
		}
	}
	defer func() { r.Called = nil }()
	return r.Each(ctx, until, func(step *session.Step) {
		for _, cut := range step.Cuts {
			to.Left(cut.Client)
		}
		to.Ticked(step)
	})
}

// UnknownError says that a recording has nothing of a name.
type UnknownError struct{ Detail string }

// Error says what there is not.
func (e *UnknownError) Error() string { return e.Detail }

// resolve returns the entity and the property that a name stands for.
func resolve(s *session.Session, of string) (entity uint32, property string, err error) {
	at := strings.LastIndexByte(of, '.')
	if at < 0 {
		return 0, "", &UnknownError{fmt.Sprintf("%.80q names no property: ENTITY.PROPERTY, such as Ana.Diver.hull", of)}
	}
	name := of[:at]
	e := find(s, name)
	if e == nil {
		return 0, "", &UnknownError{fmt.Sprintf("there is no %.80s at tick %d; ask about an earlier one with "+
			"--at", name,
			s.Now())}
	}
	p := e.Kind.Property(of[at+1:])
	if p == nil {
		return 0, "", &UnknownError{fmt.Sprintf("a %s has no property %.80q", e.Kind.Name, of[at+1:])}
	}
	return s.EntityNumber(e), p.Name, nil
}

// find returns the entity that a name stands for; nil for none.
func find(s *session.Session, name string) *world.Entity {
	if number, is := strings.CutPrefix(name, "#"); is {
		n, err := strconv.ParseUint(number, 10, 32)
		if err != nil {
			return nil
		}
		return s.FindEntity(uint32(n))
	}
	owner := 0
	if client, kind, is := strings.Cut(name, "."); is {
		owner = clientCalled(s, client)
		if owner == 0 {
			return nil
		}
		name = kind
	}
	serial := int64(0)
	if kind, number, is := strings.Cut(strings.TrimSuffix(name, "]"), "["); is {
		n, err := strconv.ParseInt(number, 10, 64)
		if err != nil || n < 1 {
			return nil
		}
		serial = n
		name = kind
	}
	for _, e := range s.World().Entities() {
		if e.Kind.Name == name && (owner == 0 || e.Owner == owner) && (serial == 0 || e.Serial == serial) {
			return e
		}
	}
	return nil
}

// clientCalled returns the number of the client with a name; 0 for none.
func clientCalled(s *session.Session, name string) int {
	for _, c := range s.Clients() {
		if c.Name == name {
			return c.Number
		}
	}
	return 0
}

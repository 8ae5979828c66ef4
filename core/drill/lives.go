package drill

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/eval"
	"kamerad.example/core/link"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/transcript"
	"kamerad.example/core/wire"
)

// recoverySeconds is how much later the ticks of a session go on whose process was killed, when the drill does not say
// it: what a service has to spare.
const recoverySeconds = 5

// start is a session that was recorded, as it was at the tick from which runs of a drill begin.
type start struct {
	options    session.Options
	checkpoint []byte
	clients    []*transcript.Seated
}

// start plays the recording of a drill up to its tick; it returns nil after a problem.
//
// The recording is played with the drill's contract, which may be another version than the one that it was recorded
// with: that is how a mistake that was mended is tried again.
func (l *loader) start(d *syntax.Drill, c *contract.Contract) *start {
	fail := func(err error) *start {
		l.fail(
			d.Recording.At, "recording", err.Error(), "kamerad drill from SESSION --from TICK writes both, the drill "+
				"and its recording",
		)
		return nil
	}
	if len(d.Settings) > 0 {
		return fail(errors.New("a recording has its own settings"))
	}
	text, err := l.open(d.Recording.Value)
	if err != nil {
		return fail(err)
	}
	head, recording, err := record.Import(strings.NewReader(text))
	if err != nil {
		return fail(err)
	}
	out := &start{options: session.Options{Settings: head.Settings, Memory: head.Memory, Prove: true, Trace: true}}
	if copy(out.options.Key[:], head.Key) != len(out.options.Key) {
		return fail(errors.New("its first line has no key"))
	}
	if head.World != nil {
		out.options.World = *head.World
	}
	to := int64(math.MaxInt64)
	if d.Tick != nil {
		to = d.Tick.Value
	}
	if err := out.play(c, recording, to); err != nil {
		return fail(err)
	}
	return out
}

// play goes to a tick of a recording, which has to be there.
func (x *start) play(c *contract.Contract, recording *record.Recording, to int64) error {
	ctx := context.Background()
	player := record.NewPlayer(c, x.options, recording)
	player.Check = false
	var progress transcript.Progress
	player.Called = progress.Called
	if err := player.Seek(ctx, 0); err != nil {
		return err
	}
	err := player.Each(ctx, to, func(step *session.Step) { progress.Ticked(player.Session(), step) })
	if err != nil {
		return err
	}
	if now := player.Session().Now(); to < math.MaxInt64 && now != to {
		return fmt.Errorf("the recording has no tick %d; it ends with %d", to, now)
	}
	x.clients = progress.Clients
	x.checkpoint, _, err = player.Session().Checkpoint()
	return err
}

// open opens the session of a run, and returns with which options.
func (d *Drill) open(seed uint64, explain bool) (*session.Session, session.Options, error) {
	if d.start != nil {
		s, err := session.Restore(d.Contract, d.start.options, d.start.checkpoint)
		return s, d.start.options, err
	}
	o := session.Options{Key: Key(seed), Prove: true, Trace: explain, Settings: d.Settings}
	o.World.Name = "drill"
	s, err := session.New(d.Contract, o)
	return s, o, err
}

// seated notes the clients that have seats when the drill begins.
func (k *checker) seated(clients []*transcript.Seated) {
	for _, c := range clients {
		k.joins(c.Name, c.Role)
		k.Clients[c.Name] = true
		k.in[c.Name] = true
		k.order = append(k.order, c.Name)
	}
}

// takeSeats puts a player into the seat of each client of a recording: with all that its client was sent, and numbered
// on from what it sent last.
func (r *run) takeSeats(clients []*transcript.Seated) error {
	w := r.stage
	for _, c := range clients {
		p := &player{name: c.Name, number: c.Number, ready: c.Ready, behind: c.Behind, seq: c.Seq, presses: c.Press}
		for _, x := range w.session.Clients() {
			if x.Number == c.Number {
				p.known = x.Name
			}
		}
		conditions := r.shaken(c.Name).worsen(c.Name, link.Conditions{})
		if err := w.add(p, conditions, r.shaken(c.Name)); err != nil {
			return err
		}
		if block, tick := w.session.ClientState(c.Number); block != nil && tick > 0 {
			p.copy.Apply(&wire.Frame{Tick: tick, Snapshot: true, Blocks: []*wire.Block{block}})
			p.arrived = tick
			p.newest = tick
			p.written = tick
		}
		for _, m := range c.Holds {
			held := wire.FromClient{Type: wire.MessagePress, Property: m.Property, Press: m.Press}
			held.Entity = m.Entity
			p.holds = append(p.holds, &hold{held, neverRenewed, w.now + neverRenewed})
		}
		if c.Lost {
			p.up.Cut()
			p.down.Cut()
			p.cut = true
		} else if !c.Ready && p.copy.Tick > 0 {
			w.send(p, &wire.FromClient{Type: wire.MessageReady})
		}
		if r.stage.history != nil {
			r.stage.history.names[c.Number] = c.Name
		}
	}
	return nil
}

// inputLog is what the session of a run was given since a checkpoint of it.
type inputLog struct {
	from   record.Checkpoint
	writer *record.Writer
}

// begin notes from here on what a session is given.
func (l *inputLog) begin(s *session.Session) error {
	data, _, err := s.Checkpoint()
	if err != nil {
		return err
	}
	l.from = record.Checkpoint{Tick: s.Now(), Next: 1, Data: record.Compress(data)}
	l.writer = record.NewWriter(s.Now(), 1)
	s.RecordCalls(l.writer.Record)
	return nil
}

// take returns what was noted, as a recording that can be played.
func (l *inputLog) take() *record.Recording {
	out := &record.Recording{Checkpoints: []record.Checkpoint{l.from}}
	if batch, ok := l.writer.Take(); ok {
		batch.Data = record.Compress(batch.Data)
		out.Batches = append(out.Batches, batch)
	}
	return out
}

// keep checks a line that says what a player has from an earlier session.
func (k *checker) keep(n *syntax.DrillKeep) func(r *run) error {
	k.client(n.Who)
	var kind *contract.Kind
	var p *contract.Property
	if m, ok := n.Target.(*syntax.Member); ok {
		kind = k.kindOf(m.X)
		if kind != nil {
			p = kind.Property(m.Name.Text)
		}
	}
	if p == nil || !p.Keep {
		k.Fail(
			n.Target.Span(), "unknown-name", "this is no property that players keep",
			"as in ana keeps Diver.tint = teal",
		)
		return nil
	}
	value := k.Compile(n.Value, eval.WantOf(p.Type))
	k.fits(n.Value, p.Type, value)
	return func(r *run) error {
		if p := r.stage.player(n.Who.Text); p != nil && p.out == "" {
			return fmt.Errorf("%s is in already, and what it keeps is read when it joins", n.Who.Text)
		}
		v, err := value(r.env(nil, 0))
		if err != nil {
			return err
		}
		c, err := eval.Write(p.Type, v)
		if err == nil {
			r.stage.keep(n.Who.Text, kind.Name+"."+p.Name, p.Type.AppendJSON(nil, c))
		}
		return err
	}
}

// keep notes what a player keeps.
func (w *stage) keep(player, property string, value json.RawMessage) {
	if w.kept[player] == nil {
		w.kept[player] = map[string]json.RawMessage{}
	}
	w.kept[player][property] = value
}

// nameOf returns what a client is called in the drill that the session knows by a name.
func (w *stage) nameOf(known string) string {
	for _, p := range w.players {
		if p.known == known {
			return p.name
		}
	}
	return known
}

// restart checks a line in which the session's process is killed.
func (k *checker) restart(n *syntax.DrillRestart) func(r *run) error {
	k.restarts = true
	losing, next := int64(0), int64(0)
	if n.Losing != nil {
		losing = n.Losing.Value
	}
	if n.Tick != nil {
		next = n.Tick.Value
	}
	return func(r *run) error { return r.restart(losing, next) }
}

// restart kills the session's process and has another one recover the session from what was recorded: without the last
// ticks, as many as losing says. It goes on with the tick next, 0 for some seconds later. Clients whose connections it
// ends are back at once.
func (r *run) restart(losing, next int64) error {
	w := r.stage
	if w.closed != "" {
		return fmt.Errorf("the session has closed: %s", w.closed)
	}
	for _, p := range w.players {
		if p.host && p.out == "" {
			return fmt.Errorf("%s is the host: the session ends with its process", p.name)
		}
	}
	to := w.session.Now() - losing
	if to < r.log.from.Tick {
		return fmt.Errorf("only %d ticks can be lost here", w.session.Now()-r.log.from.Tick)
	}
	least := w.session.Now() + 1
	if next == 0 {
		next = least + recoverySeconds*int64(w.second)
	}
	if next < least {
		return fmt.Errorf("tick %d has been: the session goes on with one after %d", next, w.session.Now())
	}
	player := record.NewPlayer(r.drill.Contract, r.opened, r.log.take())
	if losing == 0 {
		to = math.MaxInt64 // and what came since the last tick
	}
	if err := player.Seek(r.ctx, to); err != nil {
		return fmt.Errorf("recover the session: %w", err)
	}
	s := player.Session()
	r.earlier -= next - 1 - w.session.Now() // which nobody played
	s.Recover(next)
	w.recovered(s)
	return r.log.begin(s)
}

// recovered goes on with the session as it was recovered. What was under way is gone, and who was connected comes back.
func (w *stage) recovered(s *session.Session) {
	w.session = s
	w.sheet = nil
	w.settled = false
	if w.observer != nil {
		w.observer.Began(s)
	}
	seats := map[int]bool{}
	for _, c := range s.Clients() {
		seats[c.Number] = true
	}
	for _, p := range w.players {
		if p.out != "" {
			continue
		}
		if !seats[p.number] {
			p.out = "it is not kept that it joined"
			p.left = true
			continue
		}
		for _, o := range p.open {
			o.carried = 0
		}
		wasCut := p.cut
		p.up.Cut()
		p.down.Cut()
		p.frames = nil
		p.newest = 0
		if !wasCut {
			w.mend(p)
		}
	}
}

// nextSession ends the session once all is settled, and opens another one of the same contract, which nobody is in.
// What players keep is theirs there.
func (r *run) nextSession() error {
	w := r.stage
	if err := r.settle("all is decided before the next session"); err != nil {
		return err
	}
	if err := r.decided(false); err != nil {
		return err
	}
	for _, p := range w.players {
		if p.out == "" {
			w.session.Leave(p.number)
			w.left(p.number)
			p.out = "the session was closed"
		}
	}
	if err := r.step(); err != nil { // in which they leave
		return err
	}
	if err := r.sound(); err != nil {
		return err
	}
	// The next one has another key, as every session has.
	r.opened.Key = sha256.Sum256(r.opened.Key[:])
	r.opened.World = w.session.WorldKept()
	s, err := session.New(r.drill.Contract, r.opened)
	if err != nil {
		return err
	}
	r.earlier += w.session.Now()
	clear(r.names)
	clear(r.known)
	w.session = s
	w.closed = ""
	w.sheet = nil
	w.players = nil
	if w.observer != nil {
		w.observer.Began(s)
	}
	if r.drill.restarts {
		return r.log.begin(s)
	}
	return nil
}

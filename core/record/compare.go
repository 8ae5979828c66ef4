package record

import (
	"bytes"
	"context"
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// Comparison is what came of playing two sessions side by side: up to the first tick in which they differ.
type Comparison struct {
	Ticks int64 `json:"ticks"` // in which they are the same
	Tick  int64 `json:"tick"`  // the first one that differs; 0 for none
	// Ended says that one of the two ends there, or cannot go on; empty when neither does.
	Ended   string            `json:"ended,omitempty"`
	Values  []DifferentValue  `json:"values"`
	Decided []DifferentAnswer `json:"decided"` // requests that both decided in that tick, and not alike
	// Reasons say why the first of the values is what it is, in the one and in the other; nil for where it is not
	// there.
	Reasons [2]*Reason `json:"reasons"`
}

// DifferentValue is a property that differs, or an entity that only one of the two has.
type DifferentValue struct {
	Of       string    `json:"of"`                 // such as `Diver 2`
	Property string    `json:"property,omitempty"` // `owner` for that, empty for the entity itself
	Values   [2]string `json:"values"`             // for people; empty where it is not there
	entities [2]*world.Entity
}

// DifferentAnswer is a request with what became of it on both sides.
type DifferentAnswer struct {
	Client  string    `json:"client"`
	Request string    `json:"request"`
	Answers [2]string `json:"answers"`
}

// maxDifferent bounds the values that a comparison tells.
const maxDifferent = 20

// Compare plays two recordings side by side until they differ, or one ends: two sessions, or one under two contracts.
// Entities are the same when they are the how manyth of their kind to have been spawned; a property that only one of
// the two contracts has is not compared. Compare changes where the players are, and what they check.
func Compare(ctx context.Context, one, other *Player) (*Comparison, error) {
	c := &comparison{result: &Comparison{Values: []DifferentValue{}, Decided: []DifferentAnswer{}}}
	for i, p := range []*Player{one, other} {
		saved := &savedSource{Source: p.source}
		p.source = saved
		p.Check = false
		p.FromStart = true
		if err := p.Seek(ctx, 0); err != nil {
			return nil, err
		}
		p.FromStart = false
		c.sides[i] = &side{player: p, saved: saved, session: p.Session()}
	}
	c.compare()
	for c.result.Tick == 0 {
		c.note()
		more, err := c.play(ctx)
		if err != nil {
			return nil, err
		}
		if !more {
			break
		}
		c.compare()
		c.decisions()
	}
	c.result.Ticks = c.sides[0].session.Now()
	if c.result.Tick > 0 {
		c.result.Ticks = c.result.Tick - 1
	}
	return c.result, c.reasons(ctx)
}

// comparison is a Compare that runs.
type comparison struct {
	sides  [2]*side
	result *Comparison
}

// side is one of the two sessions.
type side struct {
	player  *Player
	session *session.Session
	saved   *savedSource
	step    *session.Step
	last    world.ID // the newest entity that was compared
	found   map[entityName]*world.Entity
}

// entityName says which entity something is, whatever its number.
type entityName struct {
	kind   string
	serial int64
}

// savedSource is a source with checkpoints of its own, which were taken while it was played: those that it has are of
// the contract with which it was recorded.
type savedSource struct {
	Source
	saved []Checkpoint
}

// CheckpointBefore is of Source.
func (s *savedSource) CheckpointBefore(_ context.Context, tick int64) (*Checkpoint, error) {
	return (&Recording{Checkpoints: s.saved}).CheckpointBefore(context.Background(), tick)
}

// savedEvery is how many ticks apart sides are saved, so that what a difference came of is soon found again; of what
// was saved, the newest few are kept.
const (
	savedEvery = 600
	savedMost  = 4
)

// note saves both sides from time to time.
func (c *comparison) note() {
	for _, x := range c.sides {
		p := x.player
		n := len(x.saved.saved)
		isDue := x.session.Now() > 0 && (n == 0 || x.session.Now() >= x.saved.saved[n-1].Tick+savedEvery)
		if !isDue || len(p.decoder.in) > 0 { // it is in the middle of a batch
			continue
		}
		data, _, err := x.session.Checkpoint()
		if err != nil {
			continue // it is played from its beginning then
		}
		x.saved.saved = append(x.saved.saved, Checkpoint{Tick: x.session.Now(), Next: p.next, Data: Compress(data)})
		if n >= savedMost {
			x.saved.saved = x.saved.saved[1:]
		}
	}
}

// play plays a tick of both, and reports whether they have one.
func (c *comparison) play(ctx context.Context) (bool, error) {
	for i, x := range c.sides {
		step, err := x.player.Next(ctx)
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		x.step = step
		if err != nil {
			c.end("%s cannot go on: %s", i, err.Error())
		}
	}
	a, b := c.sides[0].step, c.sides[1].step
	switch {
	case c.result.Ended != "" || a == nil && b == nil:
		return false, nil
	case a == nil:
		c.end("%s ends%s", 0, "")
	case b == nil:
		c.end("%s ends%s", 1, "")
	case a.Tick != b.Tick:
		c.result.Tick = min(a.Tick, b.Tick)
		c.result.Ended = fmt.Sprintf(
			"after a restart the first goes on with tick %d, the second with %d", a.Tick, b.Tick,
		)
	}
	return c.result.Ended == "", nil
}

// end notes that one side has no more ticks, in a format of its name and of why.
func (c *comparison) end(format string, side int, why string) {
	if c.result.Ended == "" {
		c.result.Tick = min(c.sides[0].session.Now(), c.sides[1].session.Now()) + 1
		c.result.Ended = fmt.Sprintf(format, [2]string{"the first", "the second"}[side], why)
	}
}

// compare holds what changed in the last tick of either side against the other.
func (c *comparison) compare() {
	lists := [2][]*world.Entity{c.sides[0].session.World().Entities(), c.sides[1].session.World().Entities()}
	for _, x := range c.sides {
		x.found = nil
	}
	for i, e := range lists[0] {
		var o *world.Entity
		if i < len(lists[1]) && nameOf(lists[1][i]) == nameOf(e) {
			o = lists[1][i]
		} else {
			o = c.sides[1].find(e)
		}
		c.compareEntity(e, o)
	}
	for i, o := range lists[1] {
		if i < len(lists[0]) && nameOf(lists[0][i]) == nameOf(o) {
			continue
		}
		if c.sides[0].find(o) == nil {
			c.compareEntity(nil, o)
		}
	}
	for _, x := range c.sides {
		x.last = x.session.World().LastID()
	}
}

// nameOf returns which entity one is.
func nameOf(e *world.Entity) entityName { return entityName{e.Kind.Name, e.Serial} }

// find returns the entity of the side that is the same as one of the other; nil for none.
func (x *side) find(e *world.Entity) *world.Entity {
	if x.found == nil {
		x.found = map[entityName]*world.Entity{}
		for _, o := range x.session.World().Entities() {
			x.found[nameOf(o)] = o
		}
	}
	return x.found[nameOf(e)]
}

// compareEntity compares an entity of both sides; one of the two may be nil.
func (c *comparison) compareEntity(a, b *world.Entity) {
	if a == nil || b == nil {
		there := a
		values := [2]string{"is there", ""}
		if a == nil {
			there = b
			values = [2]string{"", "is there"}
		}
		c.differ(DifferentValue{Of: describeEntity(there), Values: values, entities: [2]*world.Entity{a, b}})
		return
	}
	pair := [2]*world.Entity{a, b}
	if a.Owner != b.Owner {
		c.differ(DifferentValue{
			Of:       describeEntity(a),
			Property: "owner",
			Values:   [2]string{fmt.Sprint("client ", a.Owner), fmt.Sprint("client ", b.Owner)},
			entities: pair,
		})
	}
	for _, p := range a.Kind.Properties {
		q := b.Kind.Property(p.Name)
		if q == nil || !c.sides[0].isNew(a, p) && !c.sides[1].isNew(b, q) {
			continue
		}
		if !bytes.Equal(c.sides[0].neutral(a, p), c.sides[1].neutral(b, q)) {
			c.differ(DifferentValue{
				Of:       describeEntity(a),
				Property: p.Name,
				Values:   [2]string{c.sides[0].text(a, p), c.sides[1].text(b, q)},
				entities: pair,
			})
		}
	}
}

// describeEntity names an entity for people.
func describeEntity(e *world.Entity) string {
	if e.Kind.Shared {
		return e.Kind.Name
	}
	return fmt.Sprintf("%s %d", e.Kind.Name, e.Serial)
}

// differ adds a difference.
func (c *comparison) differ(d DifferentValue) {
	c.result.Tick = max(c.sides[0].session.Now(), 1)
	if len(c.result.Values) < maxDifferent {
		c.result.Values = append(c.result.Values, d)
	}
}

// isNew reports whether a property may have another value than when it was last compared.
func (x *side) isNew(e *world.Entity, p *contract.Property) bool {
	return e.ID > x.last || x.session.World().ChangedTick(e, p.Index) >= x.session.Now()
}

// neutral returns a value in a form that is the same on both sides: with entities by kind and count.
func (x *side) neutral(e *world.Entity, p *contract.Property) []byte {
	w := x.session.World()
	value := p.Type.Refs(w.Value(e, p), func(id int64) int64 {
		o := w.Entity(world.ID(id))
		if o == nil {
			return 0
		}
		sum := int64(0)
		for _, letter := range []byte(o.Kind.Name) {
			sum = sum*31 + int64(letter)
		}
		return sum<<24 + o.Serial
	})
	return p.Type.AppendJSON(nil, value)
}

// text returns a value for people.
func (x *side) text(e *world.Entity, p *contract.Property) string {
	w := x.session.World()
	return p.Type.Format(outside(x.session, p.Type, w.Value(e, p)))
}

// decisions notes the requests that both sides have decided in the last tick, and not alike.
func (c *comparison) decisions() {
	type request struct {
		client int
		seq    uint64
	}
	others := map[request]*session.Decision{}
	b := c.sides[1].step.Decisions
	for i := range b {
		others[request{b[i].Client.Number, b[i].Ask.Seq}] = &b[i]
	}
	a := c.sides[0].step.Decisions
	for i := range a {
		d := &a[i]
		o := others[request{d.Client.Number, d.Ask.Seq}]
		if o == nil || o.Outcome == d.Outcome && o.Reason == d.Reason {
			continue
		}
		c.result.Tick = d.Tick
		if len(c.result.Decided) < maxDifferent {
			c.result.Decided = append(c.result.Decided, DifferentAnswer{
				Client:  d.Client.Name,
				Request: d.Ask.Request,
				Answers: [2]string{answerText(d.Outcome, d.Reason), answerText(o.Outcome, o.Reason)},
			})
		}
	}
}

// answerText returns what became of a request.
func answerText(outcome wire.Outcome, reason string) string {
	if reason == "" {
		return string(outcome)
	}
	return fmt.Sprintf("%s %q", outcome, reason)
}

// reasons finds out why the first value that differs is what it is on both sides.
func (c *comparison) reasons(ctx context.Context) error {
	for _, d := range c.result.Values {
		if d.Property == "" || d.Property == "owner" {
			continue
		}
		var numbers [2]uint32
		for i, x := range c.sides {
			numbers[i] = x.session.EntityNumber(d.entities[i])
		}
		for i, x := range c.sides {
			r, err := Why(ctx, x.player, numbers[i], d.Property, c.result.Tick)
			if err != nil {
				return err
			}
			c.result.Reasons[i] = r
		}
		return nil
	}
	return nil
}

package record

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/session"
	"kamerad.example/core/world"
)

// Reason says why a property has a value: the chain from its last change down to what nothing in the session has
// caused.
type Reason struct {
	Entity   uint32          `json:"entity"`
	Kind     string          `json:"kind"`
	Serial   int64           `json:"serial"` // it was the how manyth of its kind, from 1
	Property string          `json:"property"`
	At       int64           `json:"at"`      // the tick that was asked about
	Value    json.RawMessage `json:"value"`   // at that tick
	Text     string          `json:"text"`    // the same, for people
	Changed  int64           `json:"changed"` // the tick in which it became that; 0 for since the session began
	Chain    []Link          `json:"chain"`   // from the change down; the last one has an End
	// Deliveries says of each client that was there when it got the value, or why it did not.
	Deliveries []Delivery `json:"deliveries"`
}

// End says what a chain ends in.
type End string

// What a chain can end in.
const (
	EndInput End = "input" // what a client sent, or somebody set from outside
	EndTimer End = "timer" // time alone: a timer, a tick, a lease
	EndStart End = "start" // the session's beginning
)

// Link is one step of a chain of causes.
type Link struct {
	Tick    int64          `json:"tick"`
	Type    string         `json:"type"`             // request, write, timer, action, motion, …
	Words   string         `json:"words"`            // what happened
	Through []string       `json:"through"`          // the bodies that ran, the outermost first
	File    string         `json:"file,omitempty"`   // of the body that wrote it
	Line    int            `json:"line,omitempty"`   // of that body
	Client  int            `json:"client,omitempty"` // whose input it is
	Seq     uint64         `json:"seq,omitempty"`    // of a request: its number
	Checks  []LinkCheck    `json:"checks,omitempty"` // of a request
	Changes []ChangedValue `json:"changes,omitempty"`
	End     End            `json:"end,omitempty"`
}

// LinkCheck is a check of a request with what it saw.
type LinkCheck struct {
	Text   string            `json:"text"`
	Result string            `json:"result"`
	Values map[string]string `json:"values"`
}

// ChangedValue is a value that the step changed and that the one before it in the chain is about.
type ChangedValue struct {
	Of      string          `json:"of"` // such as `Diver 2.hull`
	Old     json.RawMessage `json:"old,omitempty"`
	New     json.RawMessage `json:"new"`
	OldText string          `json:"old_text,omitempty"` // the same, for people
	NewText string          `json:"new_text"`
}

// Delivery says when a client got a value.
type Delivery struct {
	Client    int    `json:"client"`
	Name      string `json:"name"`
	Sent      int64  `json:"sent,omitempty"`      // the tick of the frame that brought it; 0 for none
	Confirmed int64  `json:"confirmed,omitempty"` // the tick by which the client had said that it has that frame
	Why       string `json:"why,omitempty"`       // it has not
}

// maxChain bounds the steps of a chain: what moves something that moves something.
const maxChain = 24

// deliverySeconds is for how long after a change it is looked for in frames.
const deliverySeconds = 5

// Why says why a property of an entity had its value at a tick; a tick beyond the end of the recording is its end. The
// player is somewhere else afterwards. The error says that there is no such entity or property then, or why the
// recording cannot be played.
func Why(ctx context.Context, p *Player, entity uint32, property string, at int64) (*Reason, error) {
	if err := p.Seek(ctx, at); err != nil {
		return nil, err
	}
	s := p.Session()
	e := s.FindEntity(entity)
	if e == nil {
		return nil, fmt.Errorf("say why: there is no entity %d at tick %d", entity, s.Now())
	}
	prop := e.Kind.Property(property)
	if prop == nil {
		return nil, fmt.Errorf("say why: a %s has no property %.80q", e.Kind.Name, property)
	}
	out := &Reason{
		Entity:   entity,
		Kind:     e.Kind.Name,
		Serial:   e.Serial,
		Property: property,
		At:       s.Now(),
		Value:    prop.Type.AppendJSON(nil, outside(s, prop.Type, s.World().Value(e, prop))),
		Text:     prop.Type.Format(outside(s, prop.Type, s.World().Value(e, prop))),
		Changed:  s.World().ChangedTick(e, prop.Index),
	}
	i := &inquiry{player: p, reason: out}
	if err := i.follow(ctx, subject{entity, prop}, out.Changed); err != nil {
		return nil, err
	}
	if err := i.deliveries(ctx); err != nil {
		return nil, err
	}
	return out, nil
}

// outside returns a value of the world as those outside have it: with entities by their public numbers.
func outside(s *session.Session, t *contract.Type, v contract.Value) contract.Value {
	return t.Refs(v, func(id int64) int64 {
		if e := s.World().Entity(world.ID(id)); e != nil {
			return int64(s.EntityNumber(e))
		}
		return 0
	})
}

// subject is a property of an entity.
type subject struct {
	entity   uint32
	property *contract.Property
}

// inquiry is a Why that is being answered.
type inquiry struct {
	player *Player
	reason *Reason
}

// playedTick is a tick that was played with its causes traced.
type playedTick struct {
	session *session.Session
	step    *session.Step
	causes  []*session.Caused // in their order, with those of calls before the tick
	numbers map[*world.Entity]uint32
	before  map[int]clientBefore // the clients that were there before the tick
	asked   map[int]bool         // those that gave up their seats before it
}

// clientBefore is what a client was before a tick.
type clientBefore struct {
	name string
	lost bool // its connection was
}

// play plays up to a tick, and returns what happened in it; nil when the recording has no such tick.
func (i *inquiry) play(ctx context.Context, tick int64) (*playedTick, error) {
	p := i.player
	if err := p.rewind(ctx, tick-1); err != nil {
		return nil, err
	}
	s := p.Session()
	out := &playedTick{
		session: s,
		numbers: map[*world.Entity]uint32{},
		before:  map[int]clientBefore{},
		asked:   map[int]bool{},
	}
	s.SetWatched(true)
	s.TraceCauses(func(c *session.Caused) {
		if c.Tick < tick {
			return
		}
		out.causes = append(out.causes, c)
		for _, change := range c.Changes {
			out.number(change.Entity) // an entity that is gone afterwards has none
		}
	})
	defer s.TraceCauses(nil)
	p.Called = func(c *session.Call) {
		if c.Type == session.CallLeave {
			out.asked[c.Client] = true
		}
	}
	defer func() { p.Called = nil }()
	for {
		if s.Now() == tick-1 {
			for _, c := range s.Clients() {
				out.before[c.Number] = clientBefore{c.Name, s.IsLost(c.Number)}
			}
		}
		step, err := p.Next(ctx)
		if step == nil || err != nil {
			return nil, err
		}
		if step.Tick >= tick {
			out.step = step
			return out, nil
		}
	}
}

// number returns the public number of an entity.
func (t *playedTick) number(e *world.Entity) uint32 {
	n, known := t.numbers[e]
	if !known {
		n = t.session.EntityNumber(e)
		t.numbers[e] = n
	}
	return n
}

// changeOf returns the last cause of the tick that changed a property, its place among the causes, and the change.
func (t *playedTick) changeOf(of subject) (at int, change *session.CausedChange) {
	for at := len(t.causes) - 1; at >= 0; at-- {
		c := t.causes[at]
		for n := range c.Changes {
			x := &c.Changes[n]
			if x.Property.Index == of.property.Index && t.number(x.Entity) == of.entity {
				return at, x
			}
		}
	}
	return -1, nil
}

// follow adds the chain of a change to the reason.
func (i *inquiry) follow(ctx context.Context, of subject, tick int64) error {
	if tick <= 0 {
		i.add(Link{Type: "start", Words: "it has been so since the session began", End: EndStart})
		return nil
	}
	t, err := i.play(ctx, tick)
	if err != nil {
		return err
	}
	if t == nil {
		return fmt.Errorf("say why: the recording has no tick %d", tick)
	}
	at, change := t.changeOf(of)
	if change == nil {
		return fmt.Errorf("say why: nothing in tick %d changed `%s`", tick, of.property.Name)
	}
	return i.cause(ctx, t, at, change)
}

// add adds a step.
func (i *inquiry) add(l Link) { i.reason.Chain = append(i.reason.Chain, l) }

// cause adds the chain that begins with a cause of a tick. change is what it is about; nil for the cause itself.
func (i *inquiry) cause(ctx context.Context, t *playedTick, at int, change *session.CausedChange) error {
	c := t.causes[at]
	link := Link{Tick: c.Tick, Type: string(c.Type), Client: c.Client, Seq: c.Seq, Through: []string{}}
	if change != nil {
		i.describe(t, &link, change)
	}
	if len(i.reason.Chain) >= maxChain {
		link.End = EndTimer
		link.Words = "the chain is longer than can be told"
		i.add(link)
		return nil
	}
	switch c.Type {
	case session.CauseRequest:
		i.request(t, &link, c)
	case session.CauseWrite:
		link.Words = fmt.Sprintf("%s wrote it", t.clientName(c.Client))
		link.End = EndInput
	case session.CauseHold:
		i.hold(t, at, &link)
	case session.CauseJoin, session.CauseLeave, session.CauseLost, session.CauseBack:
		t.connection(&link, c)
	case session.CauseSet:
		link.Words = "it was set from outside"
		link.End = EndInput
	case session.CauseTimer:
		link.Words = fmt.Sprintf("a timer of %s", t.entityName(c.Of))
		link.End = EndTimer
	case session.CauseHandler, session.CauseRole:
		return i.handler(ctx, t, at, link)
	case session.CauseAction:
		of := t.entityName(c.Of)
		link.Words = fmt.Sprintf("the action %s of %s, which has waited since tick %d", c.Action.Name, of, c.Scheduled)
		i.add(link)
		return i.scheduled(ctx, t, c)
	case session.CauseMotion:
		return i.motion(ctx, t, c, change, link)
	}
	i.add(link)
	return nil
}

// describe says of a step what it changed, and in which bodies.
func (i *inquiry) describe(t *playedTick, link *Link, change *session.CausedChange) {
	typ := change.Property.Type
	now := outside(t.session, typ, change.New)
	value := ChangedValue{
		Of:      fmt.Sprintf("%s.%s", t.entityName(change.Entity), change.Property.Name),
		New:     typ.AppendJSON(nil, now),
		NewText: typ.Format(now),
	}
	if !change.Spawned {
		before := outside(t.session, typ, change.Old)
		value.Old = typ.AppendJSON(nil, before)
		value.OldText = typ.Format(before)
	}
	link.Changes = append(link.Changes, value)
	for _, body := range change.Through {
		link.Through = append(link.Through, body.Name)
		link.File = body.File
		link.Line = body.Line
	}
}

// request says what a request was, and what its checks saw.
func (i *inquiry) request(t *playedTick, link *Link, c *session.Caused) {
	link.End = EndInput
	for n := range t.step.Decisions {
		d := &t.step.Decisions[n]
		if d.Client.Number != c.Client || d.Ask.Seq != c.Seq {
			continue
		}
		args := make([]string, 0, len(d.Ask.Args))
		for _, a := range d.Ask.Args {
			args = append(args, string(a))
		}
		link.Words = fmt.Sprintf("%s asked %s(%s)", d.Client.Name, d.Ask.Request, strings.Join(args, ", "))
		for _, check := range d.Checks {
			out := LinkCheck{Text: check.Check.Text, Result: string(check.Result), Values: map[string]string{}}
			for _, v := range check.Values {
				out.Values[v.Name] = v.Type.Format(v.Value)
			}
			link.Checks = append(link.Checks, out)
		}
		return
	}
	link.Words = fmt.Sprintf("%s asked for it", t.clientName(c.Client))
}

// hold says why a hold began or ended.
func (i *inquiry) hold(t *playedTick, at int, link *Link) {
	if link.Client != 0 && t.causes[at].Steered {
		link.Words = fmt.Sprintf("%s pressed or released it", t.clientName(link.Client))
		link.End = EndInput
		return
	}
	link.Words = "the hold ended: its lease was over, or its condition failed"
	link.End = EndTimer
}

// handler says what set off a handler of an entity, or that a client has another role.
func (i *inquiry) handler(ctx context.Context, t *playedTick, at int, link Link) error {
	c := t.causes[at]
	switch {
	case c.Type == session.CauseHandler && c.When == rules.OnTick:
		link.Words = fmt.Sprintf("%s does it in each tick", t.entityName(c.Of))
		link.End = EndTimer
	case c.Type == session.CauseHandler && c.When == rules.OnStart:
		link.Words = "the session began with it"
		link.End = EndStart
	case at > 0: // it follows from the cause before it
		link.Words = "it follows from what came before it in the tick"
		i.add(link)
		return i.cause(ctx, t, at-1, nil)
	default:
		link.Words = "a client's seat ended"
		link.End = EndInput
	}
	i.add(link)
	return nil
}

// scheduled adds the cause that had an action wait.
func (i *inquiry) scheduled(ctx context.Context, ran *playedTick, c *session.Caused) error {
	entity := ran.number(c.Of)
	t, err := i.play(ctx, c.Scheduled)
	if err != nil {
		return err
	}
	if t == nil || c.Scheduled <= 0 {
		i.add(Link{Type: "start", Words: "it has waited since the session began", Through: []string{}, End: EndStart})
		return nil
	}
	for at := len(t.causes) - 1; at >= 0; at-- {
		for _, d := range t.causes[at].Delays {
			if d.Action == c.Action && t.number(d.Entity) == entity {
				return i.cause(ctx, t, at, nil)
			}
		}
	}
	return fmt.Errorf("say why: nothing in tick %d had the action %s wait", c.Scheduled, c.Action.Name)
}

// motion says why something moves: its rate, or what carries it.
func (i *inquiry) motion(
	ctx context.Context, t *playedTick, c *session.Caused, change *session.CausedChange, link Link,
) error {
	moved := change
	if moved == nil || moved.Property.Follows == nil { // a handler wrote it, of a property that moved
		for n := range c.Changes {
			if c.Changes[n].Property.Follows != nil {
				moved = &c.Changes[n]
				break
			}
		}
	}
	if moved == nil || moved.Property.Follows == nil {
		link.Words = fmt.Sprintf("%s moves", t.entityName(c.Of))
		link.End = EndTimer
		i.add(link)
		return nil
	}
	by := moved.Property.Follows.Rate
	link.Words = fmt.Sprintf("%s moves", t.entityName(moved.Entity))
	if by == nil {
		by = moved.Property.Follows.Holder
		link.Words += fmt.Sprintf(" with its `%s`", by.Name)
	} else {
		link.Words += fmt.Sprintf(" by its `%s`", by.Name)
	}
	i.add(link)
	return i.follow(ctx, subject{t.number(moved.Entity), by}, t.session.World().ChangedTick(moved.Entity, by.Index))
}

// entityName returns what an entity is called in words.
func (t *playedTick) entityName(e *world.Entity) string {
	if e == nil {
		return "the contract"
	}
	if e.Kind.Shared {
		return e.Kind.Name
	}
	return fmt.Sprintf("%s %d", e.Kind.Name, e.Serial)
}

// clientName returns the name of a client, also of one that has left in the tick.
func (t *playedTick) clientName(number int) string {
	for _, c := range t.session.Clients() {
		if c.Number == number {
			return c.Name
		}
	}
	if before, was := t.before[number]; was {
		return before.name
	}
	return fmt.Sprintf("client %d", number)
}

// connection says what became of a client.
func (t *playedTick) connection(link *Link, c *session.Caused) {
	words := map[session.CauseType]string{
		session.CauseJoin:  "joined",
		session.CauseLeave: "left",
		session.CauseLost:  "lost the connection",
		session.CauseBack:  "came back",
	}[c.Type]
	link.End = EndInput
	if c.Type == session.CauseLeave && !t.asked[c.Client] {
		words = "was put out"
		if t.before[c.Client].lost {
			words = "did not come back in time, and its seat ended"
			link.End = EndTimer
		}
	}
	link.Words = t.clientName(c.Client) + " " + words
}

// Package audit attacks a contract as a cheater would and proves that nothing came of it.
//
// It derives its attacks from the contract alone and plays two sessions side by side in virtual time, with the same
// key: one meets everything, the other one everything but what the first refused. Whatever differs between the two, on
// the server or in a byte of a frame of anybody else, is an effect of something that was refused.
//
// # How it works
//
// attack.go derives attacks from a contract: for each request, hold and property, each way in which a client can send
// what it must not, such as a value out of range or a request to an entity that it cannot see. audit.go plays rounds
// with honest players and attackers and compares the two sessions after each tick. For an effect that it finds,
// effect.go searches the shortest series of inputs that shows it.
//
// reads.go looks for what is learned rather than changed: it changes a hidden value in one of two sessions and compares
// what a client gets. live.go attacks a session that runs, over its sockets, where there is no second session to
// compare with.
package audit

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/foresee"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// Bounds of an audit.
const (
	MaxRounds = 10_000
	MaxTicks  = 100_000 // of one round
	maxNotes  = 20      // of one cell
)

// Options of an audit.
type Options struct {
	Seed   uint64
	Rounds int                        // sessions that are played, each from its start; 0 for UsualRounds
	Ticks  int                        // of each; 0 for UsualTicks
	With   map[string]json.RawMessage // settings of the sessions
	Each   func(round int)            // called after each; may be nil
	// Findings are what the checker says of the contract: they stand in the report.
	Findings syntax.Problems
}

// What an audit is usually like.
const (
	UsualRounds = 24
	UsualTicks  = 500
)

// Cell says what came of one sort of attack on one target.
//
// While an audit runs only Tried, Outcomes, Effects and Why are kept up; Reached is set when the report
// is made.
type Cell struct {
	Tried    int            `json:"tried"`              // attacks of which it is known what they came to
	Outcomes map[string]int `json:"outcomes,omitempty"` // by decision, and what decided
	Effects  []string       `json:"effects,omitempty"`  // what an attack changed or learned
	Why      string         `json:"why,omitempty"`      // why it was not tried
	Reached  bool           `json:"reached"`            // it was tried, or cannot be
	untold   bool           // the last one that was accepted is not among Tried: what it changed is not known
}

// Row is one target with its cells, by the columns of the report.
type Row struct {
	Name   string        `json:"name"`
	Sort   string        `json:"sort"` // request, hold, write or value
	Cells  []Cell        `json:"cells"`
	Checks []CheckResult `json:"checks,omitempty"`
}

// CheckResult reports whether a check was seen to pass and to fail.
type CheckResult struct {
	Text   string `json:"text"`
	Passed bool   `json:"passed"`
	Failed bool   `json:"failed"`
}

// Report is what an audit found.
type Report struct {
	Contract string    `json:"contract"`
	Attacks  []string  `json:"attacks"` // the columns
	Rows     []Row     `json:"rows"`
	Effects  int       `json:"effects"` // what attacks changed, each cause once
	Causes   []*Effect `json:"causes"`  // these effects, in the order in which they were seen
	Learned  int       `json:"learned"` // values that were read by who may not have them
	Findings []string  `json:"findings"`
	Tried    int       `json:"tried"`
	Distinct int       `json:"distinct"` // of state, target, attack and class of values
	Filled   float64   `json:"filled"`   // the share of cells that were tried or cannot be
	Ticks    int64     `json:"ticks"`
	Seed     uint64    `json:"seed"`
	Unseen   []string  `json:"unseen"` // checks that never passed or never failed
	Empty    []Missing `json:"empty"`  // cells that were not reached
	// of a session that ran: nothing was read, and there was no second session to hold it against
	Live bool `json:"live"`
	// Door is how many attempts were refused to take a seat without the right to it, of a session that ran where
	// tickets are wanted; those that were not are findings.
	Door int `json:"door,omitempty"`
}

// Missing is a cell that was not reached, and why.
type Missing struct {
	Target string `json:"target"`
	Attack string `json:"attack"`
	Why    string `json:"why"`
}

// Clean reports whether nothing was changed, learned or found.
//
// It says nothing of cells that were not reached: Filled and Empty do.
func (r *Report) Clean() bool { return r.Effects+r.Learned+len(r.Findings) == 0 }

// Unread counts the values that are not for everyone and could not be varied behind a client's back: Empty names them.
func (r *Report) Unread() int {
	n := 0
	for _, m := range r.Empty {
		if m.Attack == Reads {
			n++
		}
	}
	return n
}

// someone is a client of both sessions. Its copy is of what both send: they have to send the same.
//
// Its copy is made of the first session's frames alone; that the second one's are the same bytes is
// what compare looks at.
type someone struct {
	me       wire.Client
	copy     replicate.Copy
	reader   *wire.Reader
	outline  *contract.Outline
	actor    *play.Actor
	forger   *forger // nil for an honest one
	seq      uint64  // of the newest request or write
	presses  uint64  // the number of the newest press
	unready  bool    // it has not said that it is ready, and may be sent no event
	left     bool
	attacked bool // something of it was refused in this tick
}

func (p *someone) Outline() *contract.Outline     { return p.outline }
func (p *someone) Me() wire.Client                { return p.me }
func (p *someone) Look(f func(c *replicate.Copy)) { f(&p.copy) }

// given is a message as it was given to the sessions.
type given struct {
	from   *someone
	m      wire.FromClient
	attack *attack // nil for honest play
	failed bool    // it failed inside: only a run that shows that has it
}

// auditor runs one round: two sessions of the same clients. All that clients send is given to the first one; what it
// refuses is kept from the second one. So whatever differs between them, an attack has changed.
//
// That is sound only as long as both sessions are given the same dice, the same names in the same
// order, and everything that the first one accepted: record keeps all of it, for runs that are searched
// later.
type auditor struct {
	contract  *contract.Contract
	outline   *contract.Outline
	targets   []*target        // of all rounds
	all, few  *session.Session // the second one meets nothing that was refused
	people    []*someone
	r         *rand.Rand
	distinct  map[uint64]struct{} // hashes of state, target, attack and class of values
	tried     int                 // attacks
	kinds     map[uint32]string   // of all entities that ever were
	gone      []uint32            // numbers of the newest entities that are gone
	names     int                 // clients that have joined: each gets a name of its own
	state     uint64              // the hash of the first session's state
	ended     bool                // the sessions have closed, or differ
	turn      int                 // the target whose turn it is
	foresight *foresee.Foresight  // nil when nothing can be foreseen
	places    [][]float64         // constants in checks: where something is to be

	number   int             // of the round, from 0
	options  session.Options // of the sessions
	effects  *effectSet      // of all rounds
	inputs   []input         // what the second session was given
	searches []func()        // for shorter runs that show this tick's effects
}

// Run audits a contract. What it finds is in the report; the error says that it could not be run.
//
// With the same options it comes to the same report on any machine. The rounds are played one after the
// other, then what can be read is looked at (reads.go).
func Run(ctx context.Context, c *contract.Contract, o Options) (*Report, error) {
	o.Rounds = cmp.Or(o.Rounds, UsualRounds)
	if o.Rounds < 1 || o.Rounds > MaxRounds {
		return nil, fmt.Errorf("audit %s in %d rounds: from 1 to %d", c.Name, o.Rounds, MaxRounds)
	}
	o.Ticks = cmp.Or(o.Ticks, UsualTicks)
	if o.Ticks < 1 || o.Ticks > MaxTicks {
		return nil, fmt.Errorf("audit %s for %d ticks: from 1 to %d", c.Name, o.Ticks, MaxTicks)
	}
	outline := c.Outline()
	list := targets(c, outline)
	distinct := map[uint64]struct{}{}
	report := newReport(c, o.Seed)
	found := &effectSet{}
	for round := range o.Rounds {
		a := &auditor{
			contract: c,
			outline:  outline,
			targets:  list,
			r:        rand.New(rand.NewPCG(o.Seed, uint64(round))),
			distinct: distinct,
			kinds:    map[uint32]string{},
			places:   places(c),
			effects:  found,
			number:   round,
			options:  sessionOptions(o, round),
		}
		var err error
		a.foresight, _ = foresee.New(outline)
		a.all, err = session.New(c, a.options)
		if err == nil {
			a.few, err = session.New(c, a.options)
		}
		if err != nil {
			return nil, fmt.Errorf("audit %s: %w", c.Name, err)
		}
		// Every fourth round is played with many clients.
		if err := a.round(ctx, o.Ticks, round%4 == 3); err != nil {
			return nil, fmt.Errorf("audit %s, round %d: %w", c.Name, round, err)
		}
		report.Ticks += a.all.Now()
		report.Tried += a.tried
		if o.Each != nil {
			o.Each(round + 1)
		}
	}
	if err := reads(ctx, c, o, list, report); err != nil {
		return nil, err
	}
	for _, p := range o.Findings {
		report.Findings = append(report.Findings, fmt.Sprintf("line %d: %s [%s]", p.Line, p.Message, p.Code))
	}
	report.Distinct = len(distinct)
	report.fill(c, list, found)
	return report, nil
}

// newReport returns a report without anything in it.
func newReport(c *contract.Contract, seed uint64) *Report {
	return &Report{
		Contract: c.Name,
		Attacks:  Attacks,
		Seed:     seed,
		Causes:   []*Effect{},
		Findings: []string{},
		Unseen:   []string{},
		Empty:    []Missing{},
	}
}

// fill makes the table.
//
// A cell counts as filled when its attack was tried or cannot be made at all, with the reason; reading
// a value that everyone may have is no cell, nor is sending what no client can send.
func (r *Report) fill(c *contract.Contract, list []*target, found *effectSet) {
	r.Causes = append(r.Causes, found.list...)
	r.Effects = len(r.Causes)
	cells := 0
	reached := 0
	for _, t := range list {
		row := Row{Name: t.name(), Sort: t.sort}
		for _, what := range Attacks {
			cell := *t.cells[what]
			switch {
			case cell.untold:
			case cell.Tried > 0:
				cell.Reached = true
				cell.Why = ""
			case cell.Why == "":
				cell.Why = t.can(c, what)
				cell.Reached = cell.Why != ""
				if !cell.Reached {
					cell.Why = "no state was reached in which it could be tried"
				}
			}
			hides := what == Reads && cell.Why != forEveryone && cell.Why != isComputed
			if hides || what != Reads && t.sort != OfValue {
				cells++
				if cell.Reached {
					reached++
				} else {
					r.Empty = append(r.Empty, Missing{row.Name, what, cell.Why})
				}
			}
			row.Cells = append(row.Cells, cell)
			if what == Reads {
				r.Learned += len(cell.Effects)
			}
		}
		for i, v := range t.seen {
			check := t.request.Checks[i]
			row.Checks = append(row.Checks, CheckResult{check.Text, v.yes, v.no})
			if !v.yes || !v.no {
				missing := "passed"
				if v.yes {
					missing = "failed"
				}
				r.Unseen = append(r.Unseen, fmt.Sprintf("%s: `%s` never %s", t.name(), check.Text, missing))
			}
		}
		r.Rows = append(r.Rows, row)
	}
	r.Filled = 1
	if cells > 0 {
		r.Filled = float64(reached) / float64(cells)
	}
}

// join seats somebody in both sessions.
//
// The second session has to seat it under the same number, or the two could not be compared.
func (a *auditor) join(role string, attacks, unready bool) error {
	a.names++
	name := fmt.Sprintf("c%d", a.names)
	n, err := a.all.Join(name, role)
	if err != nil {
		return nil // all seats are taken: fewer play
	}
	if m, err := a.few.Join(name, role); err != nil || m != n {
		return fmt.Errorf("the two sessions seat %s as %d and %d: %w", name, n, m, err)
	}
	p := &someone{
		me:      wire.Client{Number: n, Name: name, Role: role},
		outline: a.outline,
		reader:  a.all.Reader(n),
		unready: unready,
	}
	p.copy.Me = n
	r := rand.New(rand.NewPCG(a.r.Uint64(), uint64(n)))
	p.actor = play.NewActor(p, r)
	if attacks {
		p.forger = &forger{
			contract: a.contract,
			outline:  a.outline,
			actor:    p.actor,
			copy:     &p.copy,
			me:       p.me,
			kinds:    a.kinds,
			r:        r,
		}
	}
	a.record(input{client: n, join: p.me})
	if !unready {
		a.all.Ready(n)
		a.few.Ready(n)
		a.record(input{client: n, ready: true})
	}
	a.people = append(a.people, p)
	return nil
}

// record keeps what both sessions are given before the second one's next tick.
func (a *auditor) record(i input) {
	i.tick = a.few.Now()
	a.inputs = append(a.inputs, i)
}

// round plays one session; a full one has a client in every seat.
//
// Honest clients come first, so that they have the same numbers whoever attacks: three of the first
// role and one of each other, then an attacker of each role, and one that never says that it is ready. A session has
// one logic process, which attacks.
func (a *auditor) round(ctx context.Context, ticks int, full bool) error {
	c := a.contract
	for i, role := range c.Roles {
		if role == contract.LogicRole && c.Logic != nil {
			continue
		}
		for range map[bool]int{true: 3, false: 1}[i == 0] {
			if err := a.join(role, false, false); err != nil {
				return err
			}
		}
	}
	for _, role := range c.Roles {
		if err := a.join(role, true, false); err != nil {
			return err
		}
	}
	if err := a.join(c.Roles[0], true, true); err != nil {
		return err
	}
	for full && len(a.people) < min(c.Seats, 24) {
		before := len(a.people)
		if err := a.join(c.Roles[0], false, false); err != nil || len(a.people) == before {
			return err
		}
	}
	for i := range ticks {
		if i%64 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if err := a.tick(i); err != nil || a.ended {
			return err
		}
	}
	return nil
}

// give hands a message to a session.
func give(s *session.Session, g given) {
	switch n := g.from.me.Number; g.m.Type {
	case wire.MessageAsk:
		s.Ask(n, s.ReadRequest(g.m.Ask))
	default:
		s.Steer(n, s.ReadSteering(g.m.Type, g.m.Move()))
	}
}

// number numbers a message as the client's next one.
//
// A release has the number of the press that it ends, or 1 when there was none.
func (p *someone) number(m wire.FromClient, seen int64) wire.FromClient {
	m.Seen = seen
	if m.Type == wire.MessagePress || m.Type == wire.MessageRelease {
		if m.Type == wire.MessagePress {
			p.presses++
		}
		m.Press = max(p.presses, 1)
		return m
	}
	p.seq++
	m.Seq = p.seq
	return m
}

// play picks what somebody does honestly in this tick.
//
// It chooses by the copy, as a player would; attackers play as well, since much can only be attacked in
// the middle of a game.
func (a *auditor) play(p *someone) (out []wire.FromClient) {
	now := a.all.Now()
	if a.r.IntN(3) == 0 {
		if entity, request, args := p.actor.Pick(); request != "" &&
			(p.forger != nil || !a.vain(p, entity, request, args)) {
			m := wire.FromClient{Type: wire.MessageAsk}
			m.Request = request
			m.Entity = entity
			m.Args = args
			if m.Args == nil {
				m.Args = []json.RawMessage{}
			}
			out = append(out, p.number(m, now))
		}
	}
	if a.r.IntN(4) == 0 {
		if property, value := p.actor.Step(); property != "" {
			m := wire.FromClient{Type: wire.MessageWrite, Property: property, Value: value}
			out = append(out, p.number(m, now))
		}
	}
	if a.r.IntN(10) == 0 {
		for _, t := range a.targets {
			if t.sort == OfHold && p.copy.OwnedBy(t.kind.Name, p.me.Number) != nil {
				typ := []wire.MessageType{wire.MessagePress, wire.MessagePress, wire.MessageRelease}[a.r.IntN(3)]
				m := wire.FromClient{Type: typ, Property: t.name()}
				out = append(out, p.number(m, now))
			}
		}
	}
	return out
}

// vain reports whether a client's own copy says that a request will be denied: an honest client does not send it then.
//
// It keeps honest clients from earning strikes: whoever is thrown out in spite of it was treated
// unfairly, which out reports.
func (a *auditor) vain(p *someone, entity uint32, request string, args []json.RawMessage) bool {
	t := a.find(wire.FromClient{Type: wire.MessageAsk, Ask: wire.Ask{Request: request}})
	if a.foresight == nil || t == nil {
		return false
	}
	var values []contract.Value
	for i, param := range t.params() {
		v, err := param.ParseJSON(args[i])
		if err != nil {
			return true
		}
		values = append(values, v)
	}
	return a.foresight.Denies(&p.copy, p.me.Number, a.outline, request, entity, values) >= 0
}

// Messages of one attacker in a tick: what is beyond what a session looks at would tell nothing.
const (
	attacksPerTick = 16
	mostPerTick    = 30
)

// attack picks what an attacker tries in this tick: what was tried least.
//
// Targets take turns and attacks are drawn, so that all cells fill up evenly.
func (a *auditor) attack(p *someone) (out []given) {
	f := p.forger
	f.gone, f.hidden = a.gone, func(kind string) uint32 {
		for n, k := range a.kinds {
			if k == kind && p.copy.Entity(n) == nil && !slices.Contains(a.gone, n) {
				return n
			}
		}
		return 0
	}
	for tries := 0; len(out) < attacksPerTick && tries < 3*attacksPerTick; tries++ {
		t := a.targets[a.turn%len(a.targets)]
		a.turn++
		if t.sort == OfValue {
			continue
		}
		what := Attacks[a.r.IntN(len(Attacks))]
		if p.unready {
			what = Unready
		}
		var list []attack
		switch what {
		case Unready:
			if !p.unready {
				continue
			}
			list = []attack{{of: t, what: what, class: "legal", m: t.message(0, f.legal(t))}}
		case Broken:
			a.mangle(p, t)
			continue
		case Left, Reads:
			continue
		default:
			list = f.make(t, what)
		}
		for i := range list {
			x := &list[i]
			times := max(1, x.repeat)
			if len(out)+times+2 > mostPerTick {
				continue
			}
			if x.old && p.seq < 100 { // the old numbers have to have been answered long since
				continue
			}
			for range times {
				m := p.number(x.m, a.all.Now())
				if x.old {
					p.seq--
					m.Seq = 1 + uint64(a.r.IntN(20))
				}
				out = append(out, given{from: p, m: m, attack: x})
				if x.again {
					out = append(out, given{from: p, m: m, attack: x}, given{from: p, m: m, attack: x})
				}
			}
			a.count(x)
		}
	}
	return out
}

// count notes that an attack was tried.
//
// distinct tells how much of what was tried was new: the same attack in the same state counts once.
func (a *auditor) count(x *attack) {
	x.of.cells[x.what].Tried++
	a.tried++
	h := fnv.New64a()
	fmt.Fprint(h, a.state, x.of.sort, x.of.name(), x.what, x.class)
	a.distinct[h.Sum64()] = struct{}{}
}

// repeats reports whether an attack is about how much is sent, or about what was sent before.
func (x *attack) repeats() bool {
	return slices.Contains([]string{TooFast, Repeated, Disordered}, x.what)
}

// usedUp reports whether an attack was refused for how much its sender had sent before it, which says nothing about
// what the attack is for.
func (x *attack) usedUp(outcome wire.Outcome, stage wire.Stage) bool {
	switch {
	case x.repeats():
		return false
	case stage == wire.StageLimit:
		return x.of.sort == OfRequest
	}
	return stage == wire.StageBounds && outcome == wire.Dropped
}

// spent is why an attack that usedUp is of proves nothing.
const spent = "other attacks had used up what a client may send"

// unproven takes back that an attack was tried: what became of it does not tell whether the session held.
func (x *attack) unproven(why string) {
	cell := x.of.cells[x.what]
	cell.Tried--
	if !cell.untold {
		cell.Why = why
	}
}

// mangle breaks a message: one that cannot be read cuts who sent it and is never given to a session.
//
// Some broken messages can be read all the same. They are not sent, since nobody would know what they
// say.
func (a *auditor) mangle(p *someone, t *target) {
	before := p.seq
	m := p.number(t.message(0, p.forger.legal(t)), a.all.Now())
	p.seq = before // it is never given to a session
	bits := m.Pack(a.outline)
	for range 1 + a.r.IntN(4) {
		switch a.r.IntN(3) {
		case 0:
			bits = bits[:a.r.IntN(len(bits)+1)]
		case 1:
			bits = append(bits, byte(a.r.IntN(256)))
		default:
			if len(bits) > 0 {
				bits[a.r.IntN(len(bits))] ^= 1 << a.r.IntN(8)
			}
		}
	}
	x := &attack{of: t, what: Broken, class: fmt.Sprint(len(bits))}
	a.count(x)
	got := "cannot be read: who sent it is cut"
	if _, err := wire.UnpackFromClient(bits, a.outline); err == nil {
		got = "read all the same"
		x.unproven("what was broken could be read all the same")
	}
	t.cells[Broken].Outcomes[got]++
}

// poke changes something as the server in both sessions, so that more states are reached than by playing alone. Both
// sessions have to agree about whether that is possible.
//
// What it sets is legal for the property and need not be reachable by play, which is why effects say
// how their state came about.
func (a *auditor) poke() {
	b := a.all.State()
	if len(b.Spawned) == 0 {
		return
	}
	s := b.Spawned[a.r.IntN(len(b.Spawned))]
	for tries := 0; tries < 3 && s.Owner == 0; tries++ { // mostly something of a client
		s = b.Spawned[a.r.IntN(len(b.Spawned))]
	}
	if len(s.Fields) == 0 {
		return
	}
	f := s.Fields[a.r.IntN(len(s.Fields))]
	var k *contract.Kind
	for _, x := range a.contract.Kinds {
		if x.Name == s.Kind {
			k = x
		}
	}
	p := k.Property(f.Name)
	if p.Once || p.Hold != nil || p.Follows != nil && p.Follows.Holder != nil {
		return
	}
	v := a.people[0].actor.Value(&replicate.Copy{Clients: a.all.Clients()}, f.Type)
	if f.Type.Form == contract.FormVec2 || f.Type.Form == contract.FormVec3 { // where something else is
		places := a.placesOfOthers(b, s.Entity, f)
		if len(places) > 0 && a.r.IntN(5) > 0 {
			v = places[a.r.IntN(len(places))]
		}
	}
	if f.Type.Has(contract.FormEntity) || f.Type.Holder() && f.Type.Form != contract.FormStacks {
		return
	}
	if f.Type.Form == contract.FormStacks {
		v = a.stacks(f.Type)
	}
	a.record(input{entity: s.Entity, name: f.Name, value: v, typ: f.Type})
	first := a.all.Set(s.Entity, f.Name, v)
	second := a.few.Set(s.Entity, f.Name, v)
	// The server refuses in one of the two what it does in the other: they have parted before.
	if (first == nil) != (second == nil) {
		a.differ(fmt.Sprintf("setting %s.%s comes to %v in place of %v", s.Kind, f.Name, first, second), nil)
	}
}

// placesOfOthers returns where other entities are by the field f, and the places that the contract itself names.
func (a *auditor) placesOfOthers(b *wire.Block, entity uint32, f wire.Field) []contract.Value {
	var places []contract.Value
	for _, o := range b.Spawned {
		for _, g := range o.Fields {
			if g.Name == f.Name && g.Type.Form == f.Type.Form && o.Entity != entity {
				places = append(places, g.Value)
			}
		}
	}
	for _, c := range a.places {
		if len(c) == f.Type.Reals() {
			one := contract.Value{}
			for _, x := range c {
				count, _ := f.Type.Steps(x)
				one.Parts = append(one.Parts, contract.Value{Num: count})
			}
			places = append(places, one)
		}
	}
	return places
}

// stacks picks what stacks hold: every fourth time they are full, else up to one stack of each item.
func (a *auditor) stacks(t *contract.Type) contract.Value {
	v := contract.Value{}
	stack := func(item, count int64) contract.Value {
		return contract.Value{Parts: []contract.Value{{Num: item}, {Num: count}}}
	}
	if full := a.r.IntN(4) == 0; full {
		for i := range t.Max {
			v.Parts = append(v.Parts, stack(int64(i%len(t.Enum.Values)), t.Each))
		}
	}
	for i := range t.Enum.Values {
		if n := a.r.Int64N(t.Each + 1); n > 0 && len(v.Parts) < t.Max {
			v.Parts = append(v.Parts, stack(int64(i), n))
		}
	}
	return v
}

// tick lets both sessions go on by a tick and compares them.
//
// The first session's tick comes first, because only its decisions tell what the second one is to meet.
func (a *auditor) tick(i int) error {
	for range a.r.IntN(3) {
		a.poke()
	}
	if i%7 == 0 {
		a.digest()
	}
	a.followRoles()
	both, tries := a.gather(i)
	for _, g := range both {
		give(a.all, g)
	}
	for _, g := range tries {
		give(a.all, g)
	}
	step := a.all.Tick()
	frames, refused, err := a.take(step)
	if err != nil {
		return err
	}
	decided := map[[2]uint64]*session.Decision{}
	for j := range step.Decisions {
		d := &step.Decisions[j]
		decided[[2]uint64{uint64(d.Client.Number), d.Ask.Seq}] = d
		a.checked(d)
	}
	// What was accepted, the other session meets as well.
	second := append(both, a.taking(tries, decided, refused, step)...)
	a.fast(tries, step)
	for _, g := range second {
		if !g.failed {
			give(a.few, g)
		}
		a.record(input{client: g.from.me.Number, sent: g.m, failed: g.failed})
	}
	a.faults(step)
	other := a.few.Tick()
	for _, search := range a.searches {
		search()
	}
	a.searches = nil
	a.compare(step, frames, other, tries)
	return a.after(step, other)
}

// followRoles updates the roles that everybody has by now.
func (a *auditor) followRoles() {
	for _, c := range a.all.Clients() {
		if p := a.who(c.Number); p != nil && p.me.Role != c.Role {
			p.me.Role = c.Role
			if p.forger != nil {
				p.forger.me = p.me
			}
		}
	}
}

// gather returns what is sent in tick i: what honest clients say, which both sessions meet, and what attackers try.
//
// Attackers wait for a few ticks, until their copies hold something.
func (a *auditor) gather(i int) (both, tries []given) {
	for _, p := range a.people {
		if p.left {
			continue
		}
		for _, m := range a.play(p) {
			if g := (given{from: p, m: m}); p.forger == nil {
				both = append(both, g)
			} else if t := a.find(m); t != nil {
				g.attack = &attack{
					of:    t,
					what:  Checks,
					class: "play",
					m:     m,
				}
				a.count(g.attack)
				tries = append(tries, g)
			}
		}
		if p.forger != nil && i > 3 {
			tries = append(tries, a.attack(p)...)
		}
	}
	pressed := map[int]bool{} // a refused press has no number: one a tick tells which it was
	tries = slices.DeleteFunc(tries, func(g given) bool {
		press := g.m.Type == wire.MessagePress || g.m.Type == wire.MessageRelease
		twice := press && pressed[g.from.me.Number]
		if twice {
			g.attack.unproven("another press went with it")
		}
		pressed[g.from.me.Number] = pressed[g.from.me.Number] || press
		return twice
	})
	return both, tries
}

// writeKey names what a write is of: of several writes of one property in a tick only the newest counts.
func writeKey(g given) string { return fmt.Sprint(g.from.me.Number, g.m.Property, g.m.Entity) }

// taking notes what came of each try, and returns those that were taken, or that failed inside.
//
// A request that failed inside has changed nothing; it is kept in the inputs, since a run that shows
// the failure needs it, and not given to the second session.
func (a *auditor) taking(
	tries []given, decided map[[2]uint64]*session.Decision, refused map[[2]uint64]wire.Decision, step *session.Step,
) (taken []given) {
	done := map[[2]uint64]bool{}
	newest := map[string]uint64{}
	for _, g := range tries {
		if g.m.Type == wire.MessageWrite {
			newest[writeKey(g)] = g.m.Seq
		}
	}
	for _, g := range tries {
		outcomes := g.attack.of.cells[g.attack.what].Outcomes
		if g.m.Type == wire.MessageWrite && newest[writeKey(g)] != g.m.Seq {
			outcomes["overtaken by a newer write"]++
			g.attack.unproven("a newer write overtook it")
			continue
		}
		at := [2]uint64{uint64(g.from.me.Number), g.m.Seq}
		if g.m.Type != wire.MessageAsk {
			if d, ok := refused[at]; ok {
				outcomes[fmt.Sprintf("%s: %s", d.Outcome, d.Reason)]++
				g.from.attacked = true
				if g.attack.usedUp(d.Outcome, d.Stage) {
					g.attack.unproven(spent)
				}
				continue
			}
			outcomes["taken"]++
			a.taken(g, step)
			taken = append(taken, g)
			continue
		}
		d := decided[at]
		switch {
		case done[at], d == nil && (g.attack.old || g.attack.again):
			outcomes["answered as before, or not at all"]++
		case d == nil: // more than a client may send in one tick
			outcomes["not looked at"]++
			if !g.attack.repeats() {
				g.attack.unproven(spent)
			}
		default:
			a.judge(g, d)
			g.failed = d.Outcome == wire.Faulted
			if g.failed || d.Outcome == wire.Accepted {
				taken = append(taken, g)
			}
		}
		done[at] = true
	}
	return taken
}

// find returns the target that a message is for.
func (a *auditor) find(m wire.FromClient) *target {
	for _, t := range a.targets {
		if m.Type == wire.MessageAsk && t.request != nil && t.name() == m.Request ||
			m.Type != wire.MessageAsk && t.prop != nil && t.sort != OfValue && t.name() == m.Property {
			return t
		}
	}
	return nil
}

// take applies the frames of everybody, and returns what was decided of the writes and presses that were refused.
//
// Frames confirm at once: the audit has no links, only the session.
func (a *auditor) take(step *session.Step) (
	frames map[int][]byte, refused map[[2]uint64]wire.Decision, err error,
) {
	frames = map[int][]byte{}
	refused = map[[2]uint64]wire.Decision{}
	for _, cf := range step.Frames {
		p := a.who(cf.Client)
		if p == nil {
			continue
		}
		frames[cf.Client] = slices.Clone(cf.Bytes)
		f, err := p.reader.Read(cf.Bytes)
		if err != nil {
			return nil, nil, fmt.Errorf("client %d cannot read a frame: %w", cf.Client, err)
		}
		p.copy.Apply(f)
		for _, d := range f.Decisions {
			if d.Outcome != wire.Accepted {
				refused[[2]uint64{uint64(cf.Client), d.Seq}] = d
			}
		}
		a.all.Confirm(cf.Client, step.Tick)
	}
	return frames, refused, nil
}

// who returns the client of a number, or nil.
func (a *auditor) who(n int) *someone {
	for _, p := range a.people {
		if p.me.Number == n {
			return p
		}
	}
	return nil
}

// judge notes what became of an attack, and whether it should have.
//
// What an attack was made to be it may not have been any more when it was met: the first cases excuse
// an acceptance for which the attacker had come to have the right.
func (a *auditor) judge(g given, d *session.Decision) {
	said := string(d.Outcome)
	if d.Stage != "" {
		said += " at " + string(d.Stage)
	}
	if d.Outcome == wire.Denied || d.Outcome == wire.Dropped {
		said += ": " + d.Reason
	}
	if len(said) > 80 {
		said = said[:80]
	}
	g.attack.of.cells[g.attack.what].Outcomes[said]++
	g.from.attacked = g.from.attacked || d.Outcome != wire.Accepted
	if g.attack.usedUp(d.Outcome, d.Stage) {
		g.attack.unproven(spent)
	}
	switch {
	case d.Outcome == wire.Faulted:
		f, _ := d.Fault()
		a.effect(
			g, causeOf(&f), f.Words(fmt.Sprintf("%s as %s", a.said(g.m, a.now()), g.from.me.Role)),
			func(other *session.Decision) bool {
				same, _ := other.Fault()
				return other.Outcome == wire.Faulted && causeOf(&same) == causeOf(&f)
			},
		)
	case d.Outcome != wire.Accepted:
	case g.attack.what == Invisible && g.from.copy.Entity(g.m.Entity) != nil: // it came in sight in this very tick
	case g.attack.what == NotOwner && d.Owner == g.from.me.Number: // it became its own
	case g.attack.what == Role && !g.attack.of.barred(a.contract, d.Client.Role): // it has another role by now
	case g.attack.must:
		a.effect(g, "accepted", fmt.Sprintf("%s as %s was accepted", a.said(g.m, a.now()), g.from.me.Role), nil)
	case len(g.attack.of.request.Checks) == 0 && !g.attack.of.onlyOwner():
		foreign := func(d *session.Decision) int {
			return slices.IndexFunc(d.Changes, func(c session.Change) bool {
				return c.Owner != 0 &&
					c.Owner != d.Client.Number
			})
		}
		if at := foreign(d); at >= 0 {
			c := d.Changes[at]
			text := fmt.Sprintf(
				"%s changes the %s of a %s that belongs to somebody else, and nothing is checked", a.said(g.m, a.now()),
				c.Property, c.Kind,
			)
			a.effect(g, "foreign", text, func(other *session.Decision) bool {
				at := foreign(other)
				return at >= 0 && other.Changes[at].Property == c.Property && other.Changes[at].Kind == c.Kind
			})
		}
	}
}

// causeOf names what failed inside, so that it counts as one, whatever sets it off.
func causeOf(f *session.Fault) string { return "fault " + f.Cause() }

// effect notes what came of a message. cause tells it from other effects: of faults by itself, else together with the
// target. shows reports it of a decision, when it may be looked for a shorter run; nil otherwise.
//
// The search waits until the tick's inputs are recorded.
func (a *auditor) effect(g given, cause, text string, shows func(*session.Decision) bool) {
	if !strings.HasPrefix(cause, "fault ") {
		cause = g.attack.of.name() + " " + g.attack.what + " " + cause
	}
	e, search := a.effects.add(g.attack.of, g.attack.what, cause, text)
	if !search || shows == nil {
		return
	}
	a.searches = append(a.searches, func() {
		a.search(e, &g, func(step *session.Step) bool {
			return slices.ContainsFunc(step.Decisions, func(d session.Decision) bool {
				return d.Client.Number == g.from.me.Number && d.Ask.Seq == g.m.Seq && shows(&d)
			})
		})
	})
}

// faults notes what failed inside of what the contract does by itself, and of writes.
//
// A fault is an effect even when no attack set it off: it is a body that does not do what it was
// written for.
func (a *auditor) faults(step *session.Step) {
	for i := range step.Faults {
		f := step.Faults[i]
		e, search := a.effects.add(nil, "", causeOf(&f), f.Words(a.all.About(&f)))
		if !search {
			continue
		}
		a.searches = append(a.searches, func() {
			a.search(e, nil, func(step *session.Step) bool {
				return slices.ContainsFunc(
					step.Faults, func(x session.Fault) bool { return causeOf(&x) == causeOf(&f) },
				)
			})
		})
	}
}

// taken judges a write or press that was not refused in a tick.
//
// Presses are judged by who owns the entity now; only one of somebody else's must not be taken.
func (a *auditor) taken(g given, step *session.Step) {
	t := g.attack.of
	if t.sort == OfWrite && g.attack.what == Checks && t.prop.Set.Pace == nil && t.prop.Set.Rule == nil {
		a.effect(g, "any", fmt.Sprintf("%s takes any value: it has neither a pace nor a rule", t.name()), nil)
	}
	if !g.attack.must || g.attack.what == NotOwner && a.became(g, step) {
		return
	}
	if t.sort == OfWrite {
		a.effect(g, "taken", fmt.Sprintf("the write %s as %s was taken", a.said(g.m, a.now()), g.from.me.Role), nil)
	}
	if t.sort == OfHold && g.attack.what != WrongType {
		for _, x := range a.all.State().Spawned {
			if x.Entity == g.m.Entity && x.Owner != g.from.me.Number && x.Owner != 0 {
				a.effect(
					g, "taken", fmt.Sprintf("the press %s as %s was taken", a.said(g.m, a.now()), g.from.me.Role), nil,
				)
			}
		}
	}
}

// became reports whether an entity was given to the attacker in this tick, before its message was looked at or after,
// by what it or somebody else may do: then it may well have been the owner.
func (a *auditor) became(g given, step *session.Step) bool {
	_, _, owner, _ := a.all.Named(g.m.Entity)
	return owner == g.from.me.Number ||
		slices.ContainsFunc(step.ServerState.Owned, func(o wire.Owned) bool { return o.Entity == g.m.Entity })
}

// note adds an effect to a cell, each once.
//
// Texts that begin alike count as one, as they differ in numbers only.
func (c *Cell) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if len(c.Effects) < maxNotes &&
		!slices.ContainsFunc(
			c.Effects, func(s string) bool { return strings.HasPrefix(s, text[:min(len(text), 24)]) },
		) {
		c.Effects = append(c.Effects, text)
	}
}

// word describes a message.
func word(m wire.FromClient) string {
	to := ""
	if m.Entity != 0 {
		to = fmt.Sprintf(" on #%d", m.Entity)
	}
	switch m.Type {
	case wire.MessageAsk:
		parts := make([]string, len(m.Args))
		for i, x := range m.Args {
			parts[i] = string(x)
			if len(parts[i]) > 40 {
				parts[i] = parts[i][:40] + "…"
			}
		}
		return fmt.Sprintf("%s(%s)%s", m.Request, strings.Join(parts, ", "), to)
	case wire.MessageWrite:
		return fmt.Sprintf("%s = %.60s%s", m.Property, m.Value, to)
	}
	return m.Property + to
}

// checked notes which checks a decision shows to have passed or failed.
func (a *auditor) checked(d *session.Decision) {
	for _, t := range a.targets {
		if t.request != nil && t.name() == d.Ask.Request {
			t.checked(d)
			return
		}
	}
}

// checked notes which checks of the request a decision has seen hold and which one it has seen fail.
func (t *target) checked(d *session.Decision) {
	upTo := -1
	switch {
	case d.Outcome == wire.Accepted || d.Stage == wire.StageBody:
		upTo = len(t.seen)
	case d.Stage == wire.StageCheck: // a check that drops has no number
		upTo = slices.IndexFunc(t.request.Checks, func(c contract.Check) bool { return c.Text == d.Text })
		if d.Check >= 0 {
			upTo = d.Check
		}
		if upTo >= 0 {
			t.seen[upTo].no = true
		}
	}
	for i := range max(upTo, 0) {
		t.seen[i].yes = true
	}
}

// fast checks bursts against the limits and pauses.
//
// It counts what went past the limit, whatever became of it then: a request that its check denies has
// used the limit up all the same.
func (a *auditor) fast(tries []given, step *session.Step) {
	type use struct {
		client  int
		request string
		entity  uint32
	}
	passed := map[use]int{}
	accepted := map[use]int{}
	for i := range step.Decisions {
		d := &step.Decisions[i]
		k := use{d.Client.Number, d.Ask.Request, d.Entity}
		if d.Stage == wire.StageCheck || d.Stage == wire.StageBody || d.Outcome == wire.Accepted {
			passed[k]++
		}
		if d.Outcome == wire.Accepted {
			accepted[k]++
		}
	}
	for _, g := range tries {
		if g.attack.what != TooFast {
			continue
		}
		r := g.attack.of.request
		for k, n := range passed {
			if k.client != g.from.me.Number || k.request != r.FullName() {
				continue
			}
			if r.Limit != nil && n > r.Limit.Count {
				a.effect(
					g, "limit", fmt.Sprintf("%d of %s pass in one tick, %d are allowed", n, k.request, r.Limit.Count),
					nil,
				)
			}
			if r.Pause != nil && accepted[k] > 1 {
				a.effect(
					g, "pause",
					fmt.Sprintf("%d of %s are accepted in one tick, in spite of its pause", accepted[k], k.request),
					nil,
				)
			}
		}
	}
}

// sorted describes what changed for the server in an order that says nothing of what happened first.
//
// Two sessions may hold the same and have come to it in another order.
func sorted(b *wire.Block) []byte {
	out := wire.Block{
		Joined:  b.Joined,
		Spawned: slices.Clone(b.Spawned),
		Owned:   b.Owned,
		Values:  slices.Clone(b.Values),
		Gone:    b.Gone,
		Left:    b.Left,
	}
	slices.SortFunc(out.Values, func(x, y wire.Update) int { return cmp.Compare(x.Entity, y.Entity) })
	slices.SortFunc(out.Spawned, func(x, y wire.Spawn) int { return cmp.Compare(x.Entity, y.Entity) })
	return out.JSON()
}

// compare reports what differs between the two sessions.
//
// The server's state has to be the same, and so have the bytes that each honest client gets. An
// attacker's own may differ: it is told that it was refused.
func (a *auditor) compare(step *session.Step, frames map[int][]byte, other *session.Step, tries []given) {
	differs := ""
	if x, y := sorted(step.ServerState), sorted(other.ServerState); !bytes.Equal(x, y) {
		at := 0
		for at < min(len(x), len(y)) && x[at] == y[at] {
			at++
		}
		from := max(0, at-60)
		differs = fmt.Sprintf(
			"the server holds something else: …%.120s… in place of …%.120s…", x[from:], y[min(from, len(y)):],
		)
	}
	seen := map[int]bool{}
	for _, cf := range other.Frames {
		seen[cf.Client] = true
		a.few.Confirm(cf.Client, other.Tick)
		if p := a.who(cf.Client); p != nil && p.forger == nil && differs == "" &&
			!bytes.Equal(frames[cf.Client], cf.Bytes) {
			differs = fmt.Sprintf("%s, who did nothing, got other bytes at tick %d", p.me.Name, step.Tick)
		}
	}
	for _, p := range a.people {
		if p.forger == nil && differs == "" && frames[p.me.Number] != nil && !seen[p.me.Number] {
			differs = fmt.Sprintf("%s, who did nothing, got a frame at tick %d", p.me.Name, step.Tick)
		}
	}
	if differs == "" {
		return
	}
	a.differ(differs, tries)
}

// differ notes that the two sessions are not the same any more, with each attack that was refused in this tick; or,
// when none was, as a late effect of an earlier one. The round cannot go on.
func (a *auditor) differ(how string, tries []given) {
	a.ended = true
	told := false
	for _, g := range tries {
		if g.from.attacked {
			a.effects.add(
				g.attack.of, g.attack.what, "refused",
				fmt.Sprintf("one of what was refused had an effect: %s; %s", word(g.m), how),
			)
			told = true
		}
	}
	if !told {
		a.effects.add(
			a.targets[0], Checks, "refused",
			fmt.Sprintf("something that was refused had an effect later, at tick %d: %s", a.all.Now(), how),
		)
	}
}

// after lets those who were cut go in both sessions, and keeps up what is there and what is gone.
//
// An attacker that was expelled for what was refused leaves the second session as well, and another one
// takes its seat under a new name.
func (a *auditor) after(step, other *session.Step) error {
	if step.Closed != "" || other.Closed != "" {
		a.ended = true
	}
	for _, s := range step.ServerState.Spawned {
		a.kinds[s.Entity] = s.Kind
	}
	if step.ServerState.Gone != nil {
		a.gone = append(a.gone, step.ServerState.Gone...)
		a.gone = a.gone[max(0, len(a.gone)-40):]
	}
	cut := map[int]bool{}
	for _, c := range other.Cuts {
		cut[c.Client] = true
	}
	for _, p := range a.people {
		p.attacked = false
	}
	for _, c := range step.Cuts {
		p := a.who(c.Client)
		if p == nil || p.left {
			continue
		}
		p.left = true
		switch {
		case p.forger == nil:
			a.out(p, c, step)
		case !cut[c.Client]:
			a.few.Leave(c.Client)
			a.record(input{client: c.Client, leave: true})
		}
	}
	gone := slices.ContainsFunc(a.people, func(p *someone) bool { return p.left && p.forger != nil })
	if !gone {
		return nil
	}
	var back []*someone
	a.people = slices.DeleteFunc(a.people, func(p *someone) bool {
		if p.left {
			back = append(back, p)
		}
		return p.left
	})
	for _, p := range back {
		a.late(p)
		if err := a.join(p.me.Role, p.forger != nil, p.unready); err != nil {
			return err
		}
	}
	return nil
}

// out notes that somebody is out who played as its copy told it, with what it had asked for.
//
// Only a client that foresees what its checks will say can complain.
func (a *auditor) out(p *someone, cut session.Cut, step *session.Step) {
	if a.foresight == nil {
		return // it played without knowing what its copy tells
	}
	text := fmt.Sprintf("%s, who played as its copy told it, is out: %s", p.me.Name, cut.Reason)
	var of *target
	for i := range step.Decisions {
		d := &step.Decisions[i]
		if d.Client.Number != p.me.Number || !d.Strike {
			continue
		}
		m := wire.FromClient{Type: wire.MessageAsk, Ask: d.Ask}
		of = a.find(m)
		text += fmt.Sprintf(" (%s, line %d)", a.said(m, a.now()), d.Line)
	}
	e, search := a.effects.add(of, Checks, "out "+cut.Reason, text)
	if search {
		a.search(e, nil, func(step *session.Step) bool {
			return slices.ContainsFunc(step.Cuts, func(c session.Cut) bool {
				return c.Client == cut.Client &&
					c.Reason == cut.Reason
			})
		})
	}
}

// late sends something for a client that is out already.
//
// It is given to the first session alone: if it has any effect, the two differ.
func (a *auditor) late(p *someone) {
	if p.forger == nil {
		return
	}
	for _, t := range a.targets {
		if t.sort == OfValue {
			continue
		}
		x := &attack{
			of:    t,
			what:  Left,
			class: "legal",
			must:  true,
		}
		m := p.number(t.message(0, p.forger.legal(t)), a.all.Now())
		give(a.all, given{from: p, m: m, attack: x})
		t.cells[Left].Outcomes["nobody is there"]++
		a.count(x)
	}
}

// digest makes a number of what the server holds.
func (a *auditor) digest() {
	h := fnv.New64a()
	_, _ = h.Write(a.all.State().JSON())
	a.state = h.Sum64()
	if a.r.IntN(40) == 0 { // somebody leaves now and then
		for _, p := range a.people {
			if p.forger != nil && !p.left && a.r.IntN(3) == 0 {
				a.all.Leave(p.me.Number)
				a.few.Leave(p.me.Number)
				a.record(input{client: p.me.Number, leave: true})
				p.left = true
				break
			}
		}
	}
}

// places returns the constant vectors that checks speak of.
//
// Where a check wants something to be, poke puts it now and then: few would get there by chance.
func places(c *contract.Contract) (out [][]float64) {
	var walk func(x *contract.Expr)
	walk = func(x *contract.Expr) {
		if x == nil {
			return
		}
		if x.Op == contract.OpConst && x.Type != nil && x.Type.Per == 0 &&
			(x.Type.Form == contract.FormVec2 || x.Type.Form == contract.FormVec3) {
			place := []float64{}
			for _, n := range x.Nums {
				place = append(place, math.Float64frombits(uint64(n)))
			}
			out = append(out, place)
		}
		for _, a := range x.Args {
			walk(a)
		}
	}
	for _, r := range c.Requests {
		for _, s := range r.Head {
			walk(s.Value)
		}
	}
	return out
}

package audit

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Effect is one cause of what attacks changed or told, or of what failed inside, however many attacks show it.
type Effect struct {
	Text  string   `json:"text"`            // as it was when it was first seen
	Seen  []string `json:"seen"`            // by which attacks on what; maxSeen at most
	Times int      `json:"times"`           // how often it was seen
	State State    `json:"state,omitempty"` // empty when it was not looked for a shorter run
	Run   []string `json:"run,omitempty"`   // the shortest run that was found to lead there, in words
	// Played is that run, to be played again; nil without one, or when it is too long.
	Played *Played `json:"played,omitempty"`
}

// State says how a state came about in which an effect shows.
type State string

// The values of State.
const (
	ByPlay  State = "play"    // clients alone led there
	BySetup State = "setting" // only once the audit had set values itself, which play did not come to
)

// Apart reports whether some effects show only in states that play did not come to.
func (r *Report) Apart() bool {
	return slices.ContainsFunc(r.Causes, func(e *Effect) bool { return e.State == BySetup })
}

const (
	maxSeen    = 8
	maxReplays = 150 // runs of one search for a shorter run
	maxSearch  = 12  // effects of one audit for which it is looked for a shorter run
	maxRunLine = 30  // lines of a run that are told
)

// effectSet gathers the effects of an audit, each cause once.
type effectSet struct {
	list     []*Effect
	byCause  map[string]*Effect
	searches int
}

// add notes an effect of an attack on a target, in its cell and by its cause. It reports whether it is worth looking
// for a shorter run that shows it.
//
// t is nil for what no attack set off. A run that took the audit's own hand is searched again a few
// times, since a later one may do without; all searches together are bounded.
func (x *effectSet) add(t *target, what, cause, text string) (e *Effect, search bool) {
	seen := ""
	if t != nil {
		t.cells[what].note("%s", text)
		seen = t.name() + ", " + what
	}
	e = x.byCause[cause]
	if e == nil {
		if x.byCause == nil {
			x.byCause = map[string]*Effect{}
		}
		e = &Effect{Text: text}
		x.byCause[cause] = e
		x.list = append(x.list, e)
	}
	e.Times++
	if seen != "" && len(e.Seen) < maxSeen && !slices.Contains(e.Seen, seen) {
		e.Seen = append(e.Seen, seen)
	}
	if e.Run != nil && e.State == ByPlay || x.searches >= maxSearch {
		return e, false
	}
	return e, e.Run == nil || e.Times < 5
}

// input is what was given to a session before a tick.
type input struct {
	tick   int64 // the session's tick when it was given
	client int   // who joined, left or sent something; 0 for a value that the audit set
	join   wire.Client
	ready  bool
	leave  bool
	sent   wire.FromClient // with a type, unless it is one of the others
	failed bool            // what was sent failed inside: it is left out of runs that are to show something else
	entity uint32          // whose value was set
	name   string          // of the property
	value  contract.Value
	typ    *contract.Type // of the value
}

// set reports whether an input is a value that the audit set.
func (i *input) set() bool { return i.client == 0 }

// fixed reports whether an input stays in every run: without somebody's joining, the others have other numbers.
func (i *input) fixed() bool { return i.join.Name != "" || i.ready }

// give puts the input into a session.
//
// The error says that the run cannot be compared with the first one any more.
func (i *input) give(s *session.Session) error {
	switch {
	case i.set():
		_ = s.Set(i.entity, i.name, i.value) // in a shorter run there may be nothing to set
	case i.join.Name != "":
		n, err := s.Join(i.join.Name, i.join.Role)
		if err == nil && n != i.client {
			err = fmt.Errorf("%s gets the number %d and not %d", i.join.Name, n, i.client)
		}
		return err
	case i.ready:
		s.Ready(i.client)
	case i.leave:
		s.Leave(i.client)
	case i.sent.Type == wire.MessageAsk:
		s.Ask(i.client, s.ReadRequest(i.sent.Ask))
	default:
		s.Steer(i.client, s.ReadSteering(i.sent.Type, i.sent.Move()))
	}
	return nil
}

// replay runs a session anew with some inputs, up to and with a tick.
//
// It returns the step of that tick, or an earlier one in which the session closed.
func (a *auditor) replay(list []input, last int64) (*session.Step, error) {
	s, err := session.New(a.contract, a.options)
	if err != nil {
		return nil, err
	}
	for at := 0; ; {
		for ; at < len(list) && list[at].tick <= s.Now(); at++ {
			if err := list[at].give(s); err != nil {
				return nil, err
			}
		}
		step := s.Tick()
		for _, f := range step.Frames {
			s.Confirm(f.Client, step.Tick)
		}
		if step.Tick >= last || step.Closed != "" {
			return step, nil
		}
	}
}

// search looks for the shortest run that shows an effect: shows reports it of the run's last tick. sent is the message
// that shows it, or nil for what the contract does by itself.
//
// It first leaves out all that the audit set by its own hand, then as many inputs as it can, then the
// ticks in which nothing happens. The result is short rather than the shortest there is: the number of
// replays is bounded.
func (a *auditor) search(e *Effect, sent *given, shows func(*session.Step) bool) {
	a.effects.searches++
	last := a.all.Now()
	shown := func(i input) bool {
		return sent != nil && i.client == sent.from.me.Number && i.sent.Type == sent.m.Type &&
			i.sent.Seq == sent.m.Seq && i.sent.Press == sent.m.Press
	}
	list := slices.DeleteFunc(slices.Clone(a.inputs), func(i input) bool { return i.failed && !shown(i) })
	left := maxReplays
	holds := func(list []input, last int64) bool {
		left--
		if left < 0 {
			return false
		}
		step, err := a.replay(list, last)
		return err == nil && step.Tick == last && shows(step)
	}
	if !holds(list, last) { // it depends on what was refused, which is an effect of its own
		return
	}
	keep := func(i input) bool { return i.fixed() || shown(i) }
	state := BySetup
	if played := slices.DeleteFunc(slices.Clone(list), func(i input) bool { return i.set() }); holds(played, last) {
		list = played
		state = ByPlay
	}
	if e.Run != nil && state != ByPlay {
		return // it is known that far
	}
	list = fewest(list, keep, func(list []input) bool { return holds(list, last) })
	if !slices.ContainsFunc(list, func(i input) bool { return i.set() }) {
		state = ByPlay
	}
	list, last = soonest(list, last, holds)
	e.State = state
	e.Run = a.words(list, last)
	e.Played = a.played(list, last)
}

// fewest leaves out inputs, ever smaller parts of them at a time, for as long as holds.
//
// It is delta debugging (Zeller and Hildebrandt, 2002) without its second half: parts are only ever
// left out, and each size is gone through once.
func fewest(list []input, keep func(input) bool, holds func([]input) bool) []input {
	for size := max(len(list)/2, 1); ; size /= 2 {
		for from := len(list); from > 0; {
			to := from
			from = max(from-size, 0)
			less := slices.Clone(list[:from])
			for _, i := range list[from:to] {
				if keep(i) {
					less = append(less, i)
				}
			}
			less = append(less, list[to:]...)
			if len(less) < len(list) && holds(less) {
				list = less
			}
		}
		if size <= 1 {
			return list
		}
	}
}

// soonest moves inputs to earlier ticks, for as long as holds.
//
// All inputs from some tick on move together, by half as many ticks each time that it does not hold.
func soonest(list []input, last int64, holds func([]input, int64) bool) ([]input, int64) {
	ticks := []int64{last}
	for _, i := range list {
		ticks = append(ticks, i.tick)
	}
	slices.Sort(ticks)
	ticks = slices.Compact(ticks)
	for at := len(ticks) - 1; at > 0; at-- {
		for by := ticks[at] - ticks[at-1] - 1; by > 0; by /= 2 {
			from := ticks[at]
			moved := slices.Clone(list)
			for i := range moved {
				if moved[i].tick >= from {
					moved[i].tick -= by
				}
			}
			if !holds(moved, last-by) {
				continue
			}
			list = moved
			last = last - by
			for i := at; i < len(ticks); i++ {
				ticks[i] -= by
			}
			break
		}
	}
	return list, last
}

// words tells a run: what was sent and set, and by whom. Of the others it tells how many there are.
//
// The run is played once more, because an entity can be named only in the session that has it.
func (a *auditor) words(list []input, last int64) (out []string) {
	n := names{clients: map[int]wire.Client{}}
	sends := map[int]bool{}
	for _, i := range list {
		if i.join.Name != "" {
			n.clients[i.client] = i.join
		} else if i.sent.Type != "" {
			sends[i.client] = true
		}
	}
	var err error
	n.session, err = session.New(a.contract, a.options)
	if err != nil {
		return nil
	}
	if line := idle(list, n.clients, sends); line != "" {
		out = append(out, line)
	}
	add := func(i input, text string) {
		if len(out) == maxRunLine {
			out = append(out, "…")
		}
		if len(out) < maxRunLine {
			out = append(out, fmt.Sprintf("tick %d: %s", i.tick+1, text))
		}
	}
	at := 0
	for n.session.Now() < last {
		for ; at < len(list) && list[at].tick <= n.session.Now(); at++ {
			switch i := list[at]; {
			case i.set():
				add(i, fmt.Sprintf("the audit sets %s.%s = %s", n.entity(i.entity), i.name, i.typ.Format(i.value)))
			case i.join.Name != "" && sends[i.client]:
				add(i, fmt.Sprintf("%s joins as %s", i.join.Name, i.join.Role))
			case i.leave && sends[i.client]:
				add(i, n.client(i.client)+" leaves")
			case i.sent.Type != "":
				add(i, fmt.Sprintf("%s sends %s", n.client(i.client), a.said(i.sent, n)))
			}
			if list[at].give(n.session) != nil {
				return out
			}
		}
		step := n.session.Tick()
		for _, f := range step.Frames {
			n.session.Confirm(f.Client, step.Tick)
		}
	}
	if k := len(list); k > 0 && list[k-1].tick+1 < last {
		out = append(out, fmt.Sprintf("tick %d: it shows", last))
	}
	return out
}

// idle describes how many clients of a run send nothing, and who of them leave; "" when there are none.
//
// They stay in the run since the numbers of all others depend on them.
func idle(list []input, clients map[int]wire.Client, sends map[int]bool) string {
	var leave []string
	for _, i := range list {
		if i.leave && !sends[i.client] {
			leave = append(leave, clients[i.client].Name)
		}
	}
	others := len(clients) - len(sends)
	if others == 0 {
		return ""
	}
	out := fmt.Sprintf("%d more are there and send nothing", others)
	if len(leave) > 0 {
		const most = 6
		if len(leave) > most {
			leave = append(leave[:most], "others")
		}
		out += "; " + strings.Join(leave, ", ") + " leave"
	}
	return out
}

// names names the entities and clients of a session.
type names struct {
	session *session.Session
	clients map[int]wire.Client
}

// now returns the names of the session that meets everything.
func (a *auditor) now() names {
	n := names{a.all, map[int]wire.Client{}}
	for _, p := range a.people {
		n.clients[p.me.Number] = p.me
	}
	return n
}

// entity names an entity: whose it is, or the how manyth of its kind.
func (n names) entity(number uint32) string {
	kind, nth, owner, ok := n.session.Named(number)
	switch {
	case !ok:
		return fmt.Sprintf("#%d", number)
	case owner != 0:
		return n.client(owner) + "." + kind
	}
	return fmt.Sprintf("%s[%d]", kind, nth)
}

// client returns the name of a client.
func (n names) client(number int) string {
	if c := n.clients[number]; c.Name != "" {
		return c.Name
	}
	return fmt.Sprintf("client %d", number)
}

// value returns a value as text, with what it refers to by name.
func (n names) value(t *contract.Type, raw json.RawMessage) json.RawMessage {
	number, err := strconv.ParseUint(string(raw), 10, 32)
	switch {
	case err != nil || number == 0:
	case t.Form == contract.FormEntity:
		return json.RawMessage(n.entity(uint32(number)))
	case t.Form == contract.FormClient:
		return json.RawMessage(n.client(int(number)))
	}
	return raw
}

// said describes a message, with its entities and clients by name.
func (a *auditor) said(m wire.FromClient, n names) string {
	if t := a.find(m); t != nil && t.request != nil {
		m.Args = slices.Clone(m.Args)
		for i, p := range t.params() {
			if i < len(m.Args) {
				m.Args[i] = n.value(p, m.Args[i])
			}
		}
	}
	entity := m.Entity
	m.Entity = 0
	out := word(m)
	if entity != 0 {
		out += " on " + n.entity(entity)
	}
	switch m.Type {
	case wire.MessagePress:
		out = "a press of " + out
	case wire.MessageRelease:
		out = "a release of " + out
	}
	return out
}

// Package drill reads drills, scripted exercises with several clients over simulated links, and runs them in virtual
// time: with the real session, replication, wire and links, and without a clock, a socket or a thread.
//
// The same drill, seed and faults give the same run, byte for byte.
//
// Load reads the drills of a file, All plays a round of them, and a Drill can be played alone, over and over: it does
// not change. A Report is the caller's own.
//
// # How it works
//
// Load checks a drill line by line against its contract and turns each line into a function (drill.go). A run (run.go)
// calls them one after the other on a stage (stage.go): the session, its clients and their links in virtual time. The
// stage goes from one thing that is to happen to the next, such as a tick or the arrival of a message, and never waits.
//
// A decision is held against what its line expects when it arrives, whatever lines are run meanwhile; an expectation
// about values is evaluated on the client's own copy. shake.go repeats a drill with other links each time, history.go
// says in a failure what the server did last to what it is about, and target.go finds the entity that a line names.
package drill

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"time"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/eval"
	"kamerad.example/core/link"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// Bounds of drills.
const (
	MaxDrills  = 500 // of one file
	MaxRepeats = 10_000
	MaxWait    = 24 * time.Hour // of virtual time
	MaxSettle  = 60 * time.Second
)

// GCPercent is what a program that does nothing but run drills does well to give to debug.SetGCPercent: the worlds of
// drills are small, and would else be looked through all the time.
const GCPercent = 800

// Drill is a checked drill. It is immutable: it may be run several times, also at once.
type Drill struct {
	Name     string
	File     string
	Line     int // of its head
	Contract *contract.Contract
	Seed     uint64                     // where the session's dice and numbers come from
	Settings map[string]json.RawMessage // of the session
	start    *start                     // the recording from which it begins; nil for a new session
	restarts bool                       // it kills the session's process, so that its calls have to be recorded
	Clients  []string                   // that join at some time
	lines    []line
	faults   []*faultPattern // that are asked for
	src      *syntax.Source
	notices  map[string]bool // properties whose changes are asked for
	weighs   bool            // bytes are asked for
}

// Load reads and checks a file of drills. open returns the texts of contracts, and of what they include, by names from
// the folder of the file. The problems hold every mistake; drills that have none are given all the same.
//
// Two drills of one file may not share a name, since results and `--only` go by it. Problems come in
// the order of the text.
func Load(name, text string, open syntax.Open) ([]*Drill, syntax.Problems) {
	src := syntax.NewSource(name, text)
	file, problems := syntax.ParseDrills(src)
	l := &loader{
		name:      name,
		src:       src,
		open:      open,
		problems:  problems,
		contracts: map[string]*contract.Contract{},
	}
	if len(file.Drills) == 0 && len(problems) == 0 {
		l.fail(syntax.Span{}, "empty", "the file holds no drill", `as in: drill "a patch mends"`)
	}
	seen := map[string]bool{}
	var out []*Drill
	for i, d := range file.Drills {
		if i >= MaxDrills {
			l.fail(d.At, "out-of-range", "the file has too many drills", fmt.Sprint("at most ", MaxDrills))
			break
		}
		if seen[d.Name.Value] {
			l.fail(
				d.Name.At, "twice", fmt.Sprintf("another drill is called %q", d.Name.Value),
				"give each a name of its own",
			)
			continue
		}
		seen[d.Name.Value] = true
		if made := l.drill(d); made != nil {
			out = append(out, made)
		}
	}
	return out, l.problems.Sort()
}

// loader reads the drills of one file.
type loader struct {
	name      string // of the file
	src       *syntax.Source
	open      syntax.Open
	problems  syntax.Problems
	contracts map[string]*contract.Contract // by the name that drills use; nil for one that could not be read
}

// fail reports a mistake.
func (l *loader) fail(at syntax.Span, code, message, hint string) {
	l.problems = append(l.problems, l.src.Problem(at, code, message, hint))
}

// contract returns the contract that a drill uses, or nil. Its mistakes are told once, for the first drill that uses
// it.
//
// Drills of one file that use the same contract share it: it is never changed.
func (l *loader) contract(name *syntax.Literal) *contract.Contract {
	c, known := l.contracts[name.Value]
	if !known {
		c = l.readContract(name)
		l.contracts[name.Value] = c
	}
	return c
}

// readContract reads a contract, or tells why it cannot be read.
func (l *loader) readContract(name *syntax.Literal) *contract.Contract {
	body, err := l.open(name.Value)
	if err != nil {
		l.fail(name.At, "no-file", err.Error(), "name a contract beside the drill")
		return nil
	}
	// What a contract includes lies in its own folder.
	inner := func(included string) (string, error) {
		if !filepath.IsLocal(included) {
			return "", fmt.Errorf("the file %q leads out of the contract's folder", included)
		}
		return l.open(path.Join(path.Dir(name.Value), included))
	}
	c, wrong := compile.LoadWith(name.Value, body, inner)
	if c == nil {
		l.fail(
			name.At, "contract", fmt.Sprintf("the contract is not right: %s", wrong[0].Message),
			"kamerad check "+name.Value+" tells all of it",
		)
	}
	return c
}

// drill checks one drill; it returns nil when the drill has a mistake.
//
// The clients are gathered before the lines are checked, because any line may name one that joins
// further down.
func (l *loader) drill(d *syntax.Drill) *Drill {
	if d.Contract == nil {
		return nil // its mistake has been told
	}
	c := l.contract(d.Contract)
	if c == nil {
		return nil
	}
	k := &checker{
		notices: map[string]bool{},
		hosts:   map[string]bool{},
		in:      map[string]bool{},
		Scope: eval.Scope{
			Contract: c,
			Clients:  map[string]bool{},
			Roles:    map[string]string{},
			Names:    map[string]bool{},
			Kinds:    map[string]*contract.Kind{},
			Source:   l.src,
			Problems: &l.problems,
		},
	}
	before := len(l.problems)
	line, _ := l.src.Position(d.At.Start)
	made := &Drill{
		Name:     d.Name.Value,
		File:     l.name,
		Line:     line,
		Contract: c,
		Seed:     1,
		Settings: map[string]json.RawMessage{},
		src:      l.src,
	}
	if d.Seed != nil {
		made.Seed = uint64(d.Seed.Value)
	}
	for _, s := range d.Settings {
		k.setting(made, s)
	}
	if d.Recording != nil {
		made.start = l.start(d, c)
		if made.start == nil {
			return nil
		}
		k.seated(made.start.clients)
	}
	k.gather(d.Lines)
	made.Clients = k.order
	made.lines = k.lines(d.Lines)
	made.notices = k.notices
	made.weighs = k.weighs
	made.restarts = k.restarts
	made.faults = k.faults
	if len(l.problems) > before {
		return nil
	}
	return made
}

// checker checks one drill.
//
// It goes through a drill once, in the order of its lines; loops are checked once however often they
// run.
type checker struct {
	eval.Scope
	order   []string        // of clients, as they join
	notices map[string]bool // properties whose changes are asked for
	weighs  bool            // bytes are asked for
	faults  []*faultPattern // that are asked for

	restarts bool // the session's process is killed

	hosts map[string]bool // clients that play at the server itself
	in    map[string]bool // clients that are surely in, before the line that is checked
}

// line is a checked line: it is run by its do.
type line struct {
	at   syntax.Span
	text string
	do   func(r *run) error
}

// gather finds the clients of a drill, so that a link may stand before its client's join.
//
// The order of first joining is that in which shaking picks the faults of their links.
func (k *checker) gather(list []syntax.DrillLine) {
	for _, l := range list {
		switch n := l.(type) {
		case *syntax.DrillJoin:
			for _, name := range n.Names {
				k.hosts[name.Text] = k.hosts[name.Text] || n.Host
				k.joins(name.Text, n.Role.Text)
				k.Clients[name.Text] = true
				if !slices.Contains(k.order, name.Text) {
					k.order = append(k.order, name.Text)
				}
			}
		case *syntax.DrillLoop:
			k.gather(n.Body)
		}
	}
}

// joins notes in which role a client joins: the one that it has all the time, when it always joins in that one and the
// contract gives nobody another.
//
// With the role empty nothing is said about what the client has.
func (k *checker) joins(name, role string) {
	if role == "" {
		role = k.Contract.Roles[0]
	}
	if was, again := k.Roles[name]; again && was != role || k.Contract.GivesRoles() {
		role = ""
	}
	k.Roles[name] = role
}

// setting checks the value that a drill gives a setting of the contract, and keeps it in the drill.
func (k *checker) setting(d *Drill, s syntax.Set) {
	i := slices.IndexFunc(k.Contract.Settings, func(x *contract.Setting) bool { return x.Name == s.Name.Text })
	if i < 0 {
		k.Fail(s.Name.At, "unknown-name", fmt.Sprintf("the contract has no setting `%s`", s.Name.Text), "")
		return
	}
	t := k.Contract.Settings[i].Type
	value := k.Compile(s.Value, eval.WantOf(t))
	if !k.closed(s.Value, t) {
		k.Fail(
			s.Value.Span(), "not-constant", fmt.Sprintf("the setting `%s` is computed from the session", s.Name.Text),
			"it is given when the session is opened: write a value out",
		)
		return
	}
	v, err := value(&eval.Env{Names: map[string]any{}})
	if err == nil {
		var c contract.Value
		c, err = eval.Write(t, v)
		if err == nil {
			d.Settings[s.Name.Text] = t.AppendJSON(nil, c)
			return
		}
	}
	if !errors.Is(err, eval.ErrBroken) {
		k.Fail(s.Value.Span(), "type", err.Error(), "")
	}
}

// client checks that a name is that of a client, and reports whether it is.
func (k *checker) client(n syntax.Ident) bool {
	if k.Clients[n.Text] || k.Names[n.Text] {
		return true
	}
	k.Fail(
		n.At, "unknown-name", fmt.Sprintf("no client is called `%s`", n.Text),
		"clients join with `clients`, `host` or `join`",
	)
	return false
}

// lines checks lines of a drill and returns those that are right.
//
// A line with a mistake is left out here; the drill as a whole is not run then.
func (k *checker) lines(list []syntax.DrillLine) (out []line) {
	for _, l := range list {
		if do := k.line(l); do != nil {
			at := l.Span()
			out = append(out, line{at, k.Source.Text[at.Start:min(at.End, len(k.Source.Text))], do})
		}
	}
	return out
}

// line checks one line and returns what it does in a run, or nil after a problem.
//
// k.in is what is known for certain: a line that lets ticks pass, or has somebody act, may end
// anybody's seat, so nothing is known behind it.
func (k *checker) line(l syntax.DrillLine) func(r *run) error {
	switch n := l.(type) {
	case *syntax.Let:
		return k.let(n)
	case *syntax.DrillJoin:
		return k.join(n)
	case *syntax.DrillLink:
		return k.link(n)
	case *syntax.DrillSet:
		return k.set(n)
	case *syntax.DrillAct:
		clear(k.in) // whoever acts may be expelled, or expel somebody
		return k.act(n)
	case *syntax.DrillMove:
		k.client(n.Who)
		delete(k.in, n.Who.Text)
		return func(r *run) error { return r.move(n.Verb, n.Who.Text) }
	case *syntax.DrillSkip:
		k.client(n.Who)
		return func(r *run) error {
			p, err := r.player(n.Who.Text)
			if err == nil {
				p.seq += uint64(n.Count.Value)
			}
			return err
		}
	case *syntax.DrillWait:
		clear(k.in)
		return k.wait(n)
	case *syntax.DrillKeep:
		return k.keep(n)
	case *syntax.DrillRestart:
		clear(k.in)
		return k.restart(n)
	case *syntax.DrillArrivals:
		return func(r *run) error {
			r.stage.arrivalsFail = n.Fail
			return nil
		}
	case *syntax.DrillNext:
		clear(k.in)
		clear(k.Names) // what they stand for is of the session before
		return func(r *run) error { return r.nextSession() }
	case *syntax.DrillExpect:
		e := k.expect(n)
		if e == nil {
			return nil
		}
		return func(r *run) error { return e.hold(r) }
	case *syntax.DrillLoop:
		clear(k.in)
		return k.loop(n)
	}
	return nil
}

// let checks a line that gives a name to a value.
//
// The value is that of the server's sheet when the line runs. The kind of an entity is kept, since a
// later line may name it when it is gone.
func (k *checker) let(n *syntax.Let) func(r *run) error {
	value := k.Compile(n.Value, eval.Want{})
	kind := k.kindOf(n.Value)
	k.Names[n.Name.Text] = true
	k.Kinds[n.Name.Text] = kind
	return func(r *run) error {
		e := r.env(nil, 0)
		v, err := value(e)
		if err != nil {
			return err
		}
		r.names[n.Name.Text] = v
		if x, ok := v.(eval.Entity); ok {
			if t := e.On.Entity(uint32(x)); t != nil {
				r.known[x] = t.Kind
			}
		}
		return nil
	}
}

// join checks a line in which clients join.
//
// It ends when all of them are ready, unless the line says `meanwhile`.
func (k *checker) join(n *syntax.DrillJoin) func(r *run) error {
	for _, name := range n.Names {
		if k.in[name.Text] {
			k.Fail(
				name.At, "twice", fmt.Sprintf("%s is in already", name.Text),
				"let it leave first, or call the other one by a name of its own",
			)
		}
		k.in[name.Text] = true
	}
	if n.Role.Text != "" && !slices.Contains(k.Contract.Roles, n.Role.Text) {
		k.Fail(
			n.Role.At, "unknown-name", fmt.Sprintf("the contract has no role `%s`", n.Role.Text),
			fmt.Sprint("one of ", k.Contract.Roles),
		)
	}
	return func(r *run) error {
		for _, name := range n.Names {
			if err := r.join(name.Text, n.Role.Text, n.Host); err != nil {
				return err
			}
		}
		if n.Meanwhile {
			return nil
		}
		return r.settle("all are there and ready")
	}
}

// link checks a line that says how a client's connection is.
//
// It may stand before the client's join, and holds from then on.
func (k *checker) link(n *syntax.DrillLink) func(r *run) error {
	if k.client(n.Who); k.hosts[n.Who.Text] {
		k.Fail(
			n.Who.At, "not-here", fmt.Sprintf("%s is the host, and has no link", n.Who.Text),
			"a host plays at the server itself",
		)
	}
	number := func(x *syntax.Number) int64 {
		if x == nil {
			return 0
		}
		return x.Value
	}
	c := link.Conditions{
		Delay:     time.Duration(number(n.Delay)) * time.Millisecond,
		Jitter:    time.Duration(number(n.Jitter)) * time.Millisecond,
		Loss:      float64(number(n.Loss)) / 100,
		Reorder:   float64(number(n.Reorder)) / 100,
		Bandwidth: int(number(n.Bandwidth)),
	}
	if err := c.Check(); err != nil {
		k.Fail(n.At, "out-of-range", err.Error(), "")
	}
	return func(r *run) error { return r.link(n.Who.Text, c, n.Steady) }
}

// loop checks `repeat` and `for`.
//
// In a `for`, the name stands for the client both as a value and where a line says who acts; run.alias
// holds the second meaning.
func (k *checker) loop(n *syntax.DrillLoop) func(r *run) error {
	if n.Count != nil {
		if n.Count.Value < 1 || n.Count.Value > MaxRepeats {
			k.Fail(
				n.Count.At, "out-of-range", fmt.Sprintf("%d is out of range", n.Count.Value),
				fmt.Sprint("from 1 to ", MaxRepeats),
			)
		}
		body := k.lines(n.Body)
		return func(r *run) error {
			for range n.Count.Value {
				if err := r.lines(body); err != nil {
					return err
				}
			}
			return nil
		}
	}
	for _, c := range n.Over {
		k.client(c)
	}
	k.Names[n.Name.Text] = true
	body := k.lines(n.Body)
	return func(r *run) error {
		for _, c := range n.Over {
			p := r.stage.player(c.Text)
			if p == nil {
				return fmt.Errorf("%s has not joined", c.Text)
			}
			r.names[n.Name.Text] = eval.Seat(p.number)
			r.alias[n.Name.Text] = c.Text
			if err := r.lines(body); err != nil {
				return err
			}
		}
		delete(r.alias, n.Name.Text)
		return nil
	}
}

// place splits `entity.property`.
func (k *checker) place(x syntax.Expr) (of eval.Node, name syntax.Ident, ok bool) {
	m, ok := x.(*syntax.Member)
	if !ok {
		k.Fail(x.Span(), "expected", "this is no property", "as in ana.Diver.hull, or Dive.phase")
		return nil, name, false
	}
	return k.Compile(m.X, eval.Want{}), m.Name, true
}

// property finds the property that a name may mean, by the kind when that is known before it runs.
//
// With the kind unknown it is the first property of that name: its type may be another one than that of
// the entity that comes, which shows when the drill runs.
func (k *checker) property(x syntax.Expr, name syntax.Ident) *contract.Property {
	if kind := k.kindOf(x); kind != nil {
		p := kind.Property(name.Text)
		if p == nil {
			k.Fail(name.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", kind.Name, name.Text), "")
		}
		return p
	}
	for _, kind := range k.Contract.Kinds {
		if p := kind.Property(name.Text); p != nil {
			return p
		}
	}
	k.Fail(name.At, "unknown-name", fmt.Sprintf("no kind has a property `%s`", name.Text), "")
	return nil
}

// kindOf returns the kind of an entity that is called by its kind, or by a name that `let` gave to such a one; nil when
// only running tells.
func (k *checker) kindOf(x syntax.Expr) *contract.Kind {
	switch n := x.(type) {
	case *syntax.Ref:
		if k.Names[n.Text] {
			return k.Kinds[n.Text]
		}
		return k.Kind(n.Text)
	case *syntax.Member:
		return k.Kind(n.Name.Text)
	case *syntax.Index:
		return k.Nth(n)
	case *syntax.Query:
		if r, ok := n.In.X.(*syntax.Ref); ok &&
			slices.Contains([]string{"one", "first", "most", "least", "best"}, n.Fn.Text) {
			return k.Kind(r.Text)
		}
	}
	return nil
}

// set checks a line by which the server sets a property or gives an entity away.
//
// The server's own hand needs no request and no permission, but a value of the type. What it changes is
// told to clients like any other change.
func (k *checker) set(n *syntax.DrillSet) func(r *run) error {
	if n.Give {
		of := k.Compile(n.Target, eval.Want{})
		to := k.Compile(n.Value, eval.Want{})
		return func(r *run) error {
			e := r.env(nil, 0)
			x, err := r.entity(of, e)
			if err != nil {
				return err
			}
			c, err := to(e)
			if err != nil {
				return err
			}
			s, ok := c.(eval.Seat)
			if !ok {
				return fmt.Errorf("%s is no client", eval.Show(c))
			}
			r.stage.sheet = nil
			r.stage.settled = false
			return r.stage.session.Hand(uint32(x), int(s))
		}
	}
	target, ok := k.target(n.Target)
	if !ok {
		return nil
	}
	p := k.property(target.of, target.name)
	if p == nil {
		return nil
	}
	t := target.typ(p.Type)
	of := k.Compile(target.of, eval.Want{})
	value := k.Compile(n.Value, eval.WantOf(t))
	steps := k.steps(target.path)
	k.fits(n.Value, t, value)
	return func(r *run) error {
		e := r.env(nil, 0)
		x, err := r.entity(of, e)
		if err != nil {
			return err
		}
		v, err := value(e)
		if err != nil {
			return err
		}
		f, ok := e.On.Entity(uint32(x)).Field(target.name.Text)
		if !ok {
			return fmt.Errorf("%s has no property `%s`", e.On.Entity(uint32(x)).Kind, target.name.Text)
		}
		c, err := replaced(e, f.Type, f.Value, steps, v)
		if err != nil {
			return fmt.Errorf("set `%s`: %w", target.name.Text, err)
		}
		r.stage.sheet = nil
		r.stage.settled = false
		return r.stage.session.Set(uint32(x), target.name.Text, c)
	}
}

// wait checks a line that lets time pass.
//
// `settle` also compares every copy with what it should be, so that no drill passes over a copy that is
// wrong. `until` asks before each tick and once more at the end.
func (k *checker) wait(n *syntax.DrillWait) func(r *run) error {
	if n.Settle {
		return func(r *run) error {
			if err := r.settle("all that was sent has arrived"); err != nil {
				return err
			}
			return r.inStep()
		}
	}
	var ticks int64
	rate := int64(k.Contract.TickRate)
	switch {
	case n.Ticks != nil:
		ticks = n.Ticks.Value
	case n.Ms != nil:
		ticks = n.Ms.Value * rate / 1000
		if ticks*1000 != n.Ms.Value*rate {
			k.Fail(
				n.Ms.At, "no-ticks",
				fmt.Sprintf("%d ms is not a whole number of ticks at %d per second", n.Ms.Value, rate),
				fmt.Sprintf("nearest: %dms or %dms", ticks*1000/rate, (ticks+1)*1000/rate),
			)
		}
	}
	if ticks < 1 || ticks > int64(MaxWait/time.Second)*rate {
		k.Fail(
			n.At, "out-of-range", "this waits for no time, or for too much",
			fmt.Sprintf("from one tick to %s", MaxWait),
		)
	}
	var until *expectation
	if n.Until != nil {
		until = k.expect(n.Until)
		if until == nil {
			return nil
		}
	}
	return func(r *run) error {
		for i := range ticks {
			if until != nil && until.hold(r) == nil {
				r.took = append(r.took, i)
				return nil
			}
			if err := r.step(); err != nil {
				return err
			}
		}
		if until != nil {
			if err := until.hold(r); err != nil {
				return fmt.Errorf("not within %d ticks: %w", ticks, err)
			}
			r.took = append(r.took, ticks)
		}
		return nil
	}
}

// act is a line in which a client sends something, as it runs.
type act struct {
	line line
	who  string                      // the client
	text string                      // of the line, for messages
	want func(r *run, o *sent) error // holds a decision against what the line expects; nil for any
	met  []*sent                     // what was sent and has been decided

	faults bool // it wants to fail inside
}

// addressed finds the kind and the entity of what a client asks for; of is nil for its own of a kind.
//
// kind is nil when only running tells it; the line is then checked for every kind that has such a
// request or property.
func (k *checker) addressed(x syntax.Expr) (kind *contract.Kind, name syntax.Ident, of eval.Node, ok bool) {
	m, ok := x.(*syntax.Member)
	if !ok {
		k.Fail(x.Span(), "expected", "this names no kind", "as in Diver.use, or bo.Diver.use")
		return nil, name, nil, false
	}
	if r, bare := m.X.(*syntax.Ref); bare && !k.Names[r.Text] {
		kind = k.Kind(r.Text)
		if kind != nil {
			return kind, m.Name, nil, true
		}
	}
	return k.kindOf(m.X), m.Name, k.Compile(m.X, eval.Want{}), true
}

// message is what a line has a client send to entities of a kind.
type message struct {
	request  *contract.Request           // nil for a write or press
	property *contract.Property          // nil for a request
	args     []eval.Node                 // of a request
	forged   bool                        // it is sent as it stands, whatever its types
	value    eval.Node                   // of a write
	want     func(r *run, o *sent) error // nil for any decision
}

// typesOf says which type of message a verb sends.
var typesOf = map[syntax.DrillVerb]wire.MessageType{
	syntax.VerbAsks:     wire.MessageAsk,
	syntax.VerbForges:   wire.MessageAsk,
	syntax.VerbWrites:   wire.MessageWrite,
	syntax.VerbHolds:    wire.MessagePress,
	syntax.VerbPresses:  wire.MessagePress,
	syntax.VerbRenews:   wire.MessagePress,
	syntax.VerbReleases: wire.MessageRelease,
}

// message checks what a line has a client send to an entity of a kind; nil when the kind has no such request, property
// or hold.
//
// What is forged is hardly checked: its types and its number of values are what the drill wants to be
// wrong.
func (k *checker) message(n *syntax.DrillAct, kind *contract.Kind, name syntax.Ident) *message {
	m := &message{property: kind.Property(name.Text)}
	for _, q := range kind.Requests {
		if q.Name == name.Text {
			m.request = q
		}
	}
	switch n.Verb {
	case syntax.VerbAsks:
		if m.request == nil {
			k.Fail(
				name.At, "unknown-name", fmt.Sprintf("%s has no request `%s`", kind.Name, name.Text),
				"to send one that is not there, forge it",
			)
			return nil
		}
		if len(n.Args) != len(m.request.Params) {
			k.Fail(
				n.Target.Span(), "arguments",
				fmt.Sprintf("%s has %d arguments, not %d", m.request.FullName(), len(m.request.Params), len(n.Args)),
				"to send it as it stands, forge it",
			)
			return nil
		}
		for i, a := range n.Args {
			t := m.request.Params[i].Type
			arg := k.Compile(a, eval.WantOf(t))
			k.fits(a, t, arg)
			m.args = append(m.args, arg)
		}
	case syntax.VerbForges:
		m.forged = true
		for i, a := range n.Args {
			w := eval.Want{Forged: true}
			if m.request != nil && i < len(m.request.Params) {
				w = eval.WantOf(m.request.Params[i].Type)
				w.Forged = true
			}
			m.args = append(m.args, k.Compile(a, w))
		}
	case syntax.VerbWrites:
		if m.property == nil {
			k.Fail(name.At, "unknown-name", fmt.Sprintf("%s has no property `%s`", kind.Name, name.Text), "")
			return nil
		}
		m.value = k.Compile(n.Value, eval.WantOf(m.property.Type))
		k.fits(n.Value, m.property.Type, m.value)
	default:
		if m.property == nil || m.property.Hold == nil {
			k.Fail(name.At, "unknown-name", fmt.Sprintf("%s has no hold `%s`", kind.Name, name.Text), "")
			return nil
		}
	}
	if n.Want != nil {
		m.want = k.want(n.Want, m.request)
	}
	return m
}

// messages checks a line for each kind that its entity may be of, which only running tells. What does not fit one kind
// is no mistake, as long as it fits another one.
//
// The result is by the kind's name. With no kind that fits, the mistakes of the last one are told.
func (k *checker) messages(n *syntax.DrillAct, name syntax.Ident) map[string]*message {
	out := map[string]*message{}
	before := slices.Clone(*k.Problems)
	wrong := before
	for _, kind := range k.Contract.Kinds {
		p := kind.Property(name.Text)
		asked := slices.ContainsFunc(kind.Requests, func(q *contract.Request) bool { return q.Name == name.Text })
		if !asked && (p == nil || n.Verb == syntax.VerbForges) {
			continue
		}
		*k.Problems = slices.Clone(before)
		if m := k.message(n, kind, name); m != nil && len(*k.Problems) == len(before) {
			out[kind.Name] = m
		} else {
			wrong = *k.Problems
		}
	}
	switch {
	case len(out) > 0:
		*k.Problems = before
	case len(wrong) > len(before):
		*k.Problems = wrong
	default:
		*k.Problems = before
		k.Fail(name.At, "unknown-name", fmt.Sprintf("no kind has `%s`", name.Text), "")
	}
	return out
}

// act checks a line in which a client sends something.
//
// The line does not wait for the decision. It is compared when it arrives, at the latest when the drill
// ends.
func (k *checker) act(n *syntax.DrillAct) func(r *run) error {
	k.client(n.Who)
	kind, name, of, ok := k.addressed(n.Target)
	if !ok {
		return nil
	}
	var list map[string]*message
	if kind == nil {
		list = k.messages(n, name)
	} else if m := k.message(n, kind, name); m != nil {
		list = map[string]*message{kind.Name: m}
	}
	if len(list) == 0 {
		return nil
	}
	at := n.At
	text := k.Source.Text[n.At.Start:n.At.End]
	faults := n.Want != nil && n.Want.Outcome.Text == string(wire.Faulted)
	return func(r *run) error {
		p, err := r.player(n.Who.Text)
		if err != nil {
			return err
		}
		e := r.env(nil, p.number)
		sends := wire.FromClient{Type: typesOf[n.Verb]}
		what := ""
		if kind != nil {
			what = kind.Name
		}
		if of != nil {
			sends.Entity, what, err = r.addressee(of, e)
			if err != nil {
				return err
			}
		}
		m := list[what]
		if m == nil {
			return fmt.Errorf("%s has no `%s` that could be sent so", what, name.Text)
		}
		mine := &act{
			line:   line{at: at},
			who:    n.Who.Text,
			text:   text,
			want:   m.want,
			faults: faults,
		}
		r.acts = append(r.acts, mine)
		if err := m.fill(&sends, what+"."+name.Text, e); err != nil {
			return err
		}
		if sends.Type == wire.MessagePress || sends.Type == wire.MessageRelease {
			return r.press(n.Verb, p, sends, mine, m.property.Hold)
		}
		r.stage.ask(p, sends, mine)
		return nil
	}
}

// fill puts the name and the values into what is sent.
//
// Values are given as JSON; when the message is sent, the wire codes those that fit the outline.
func (m *message) fill(sends *wire.FromClient, full string, e *eval.Env) error {
	var values []any
	for _, arg := range m.args {
		v, err := arg(e)
		if err != nil {
			return err
		}
		values = append(values, v)
	}
	switch {
	case sends.Type != wire.MessageAsk:
		sends.Property = full
		if m.value == nil {
			return nil
		}
		v, err := m.value(e)
		if err != nil {
			return err
		}
		c, err := eval.Write(m.property.Type, v)
		if err != nil {
			return err
		}
		sends.Value = m.property.Type.AppendJSON(nil, c)
		return nil
	case m.forged:
		sends.Request = full
		sends.Args = []json.RawMessage{}
		for _, v := range values {
			sends.Args = append(sends.Args, eval.AnyJSON(v))
		}
		return nil
	}
	sends.Request = full
	sends.Args = []json.RawMessage{}
	for i, p := range m.request.Params {
		v, err := eval.Write(p.Type, values[i])
		if err != nil {
			return fmt.Errorf("the argument %d: %w", i+1, err)
		}
		sends.Args = append(sends.Args, p.Type.AppendJSON(nil, v))
	}
	return nil
}

// want checks a decision against what was wanted.
//
// Outcome, reason and reply all have to agree, as far as the line names them.
func (k *checker) want(n *syntax.DrillWant, request *contract.Request) func(r *run, o *sent) error {
	outcomes := []wire.Outcome{wire.Accepted, wire.Denied, wire.Dropped, wire.Malformed, wire.Faulted, overtaken}
	if !slices.Contains(outcomes, wire.Outcome(n.Outcome.Text)) {
		k.Fail(
			n.Outcome.At, "unknown-name", fmt.Sprintf("there is no decision `%s`", n.Outcome.Text),
			fmt.Sprint("one of ", outcomes),
		)
		return nil
	}
	var value eval.Node
	if n.Value != nil {
		if request == nil || request.Reply == nil {
			k.Fail(n.Value.Span(), "type", "the request replies nothing", "")
			return nil
		}
		value = k.Compile(n.Value, eval.WantOf(request.Reply))
	}
	return func(r *run, o *sent) error {
		d := o.decision
		if string(d.Outcome) != n.Outcome.Text || n.Reason != nil && n.Reason.Value != d.Reason {
			got := string(d.Outcome)
			if d.Reason != "" {
				got += fmt.Sprintf(" %q", d.Reason)
			}
			return fmt.Errorf("it was %s", got)
		}
		if value == nil {
			return nil
		}
		v, err := value(r.env(nil, 0))
		if err != nil {
			return err
		}
		got, err := request.Reply.ParseJSON(d.Reply)
		if err != nil {
			return err
		}
		same, err := eval.Same(nil, eval.Read(request.Reply, got), v)
		if err == nil && !same {
			err = fmt.Errorf("it replied %s, not %s", d.Reply, eval.Show(v))
		}
		return err
	}
}

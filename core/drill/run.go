package drill

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"kamerad.example/core/contract"
	"kamerad.example/core/eval"
	"kamerad.example/core/link"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// Options of a run.
type Options struct {
	Seed   uint64    // in place of the drill's own; 0 for that
	Shaken *Shaking  // nil for links as the drill says
	Trace  io.Writer // is told each message that arrives, one a line; nil for nobody
	// Tamper stands between a client and the frames that it gets: a test of whether drills find what is wrong. nil for
	// none.
	Tamper func(client int, f *wire.Frame) *wire.Frame
	// Observer is told what the run does, so that it can be looked at as a session can; nil for nobody.
	Observer session.Observer
}

// Result is what a run came to.
type Result struct {
	Drill   string        `json:"drill"`
	File    string        `json:"file"`
	Line    int           `json:"line"` // of the drill
	Passed  bool          `json:"passed"`
	Ticks   int64         `json:"ticks"`             // of all its runs
	Virtual time.Duration `json:"virtual_ns"`        // how long it took in virtual time
	Took    []int64       `json:"took,omitempty"`    // ticks or rounds that each `until` and `for … within` took
	Failure *Failure      `json:"failure,omitempty"` // nil when it passed
	Shaken  *Shaking      `json:"shaken,omitempty"`  // how the links were in the run that failed
	Runs    int           `json:"runs"`              // 1, or how often it was shaken
}

// Failure is the first thing that was not as expected.
type Failure struct {
	Line    int      `json:"line"` // of the file
	Text    string   `json:"text"` // of the line
	Message string   `json:"message"`
	Tick    int64    `json:"tick"`
	Sheet   []Beside `json:"sheet,omitempty"`  // what it is about, side by side
	Causes  []string `json:"causes,omitempty"` // the last ones of the server's value
	Before  []string `json:"before,omitempty"` // what led there
}

// Beside is what the server or a client has of something.
type Beside struct {
	Who    string `json:"who"`
	Client int    `json:"client"` // its number, 0 for the server
	Value  string `json:"value"`
	Behind int64  `json:"behind,omitempty"` // ticks that its copy is behind, because frames are on their way
}

// run is a drill as it runs.
//
// It is used for one run of the drill and by one goroutine.
type run struct {
	drill   *Drill
	options Options
	stage   *stage
	names   map[string]any             // what `let` and `for` gave
	alias   map[string]string          // of the name in a `for`: the client's
	known   map[eval.Entity]string     // the kinds of entities that `let` named, also of those that are gone
	links   map[string]link.Conditions // by client, as lines of the drill have set them
	steady  map[string]bool            // links that are not shaken
	acts    []*act                     // lines whose decisions have not all come
	dice    *rand.Rand                 // of `roll` in the drill, and of the links
	took    []int64                    // see Result.Took
	failed  *line                      // the one that failed; nil while all is well
	opened  session.Options            // of the session
	earlier int64                      // ticks of the sessions before it
	log     inputLog                   // what the session was given; empty unless the drill kills its process

	faultsSeen int             // how many of the stage's faults were looked at
	ctx        context.Context // ends a run that takes too long
}

// failing is what is not as expected, with what it is about.
type failing struct {
	message  string
	entity   uint32    // whose history belongs to the report; 0 for none
	property string    // of that entity
	about    eval.Node // evaluated for the server and each client
	self     int       // the client whose own entities a bare kind means in about
}

// Error says what is not as expected.
func (f *failing) Error() string { return f.message }

// Run runs a drill. What is not as expected is in the result; the error says that it could not be run.
//
// The same drill with the same options comes to the same result, on any machine: time is virtual and
// all dice have seeds. That is what a failed run is explained by: it is run again with everything
// written down.
func (d *Drill) Run(ctx context.Context, o Options) (*Result, error) {
	r, err := d.run(ctx, o, o.Observer != nil)
	if r == nil {
		return nil, err
	}
	out := &Result{
		Drill:   d.Name,
		File:    d.File,
		Line:    d.Line,
		Passed:  err == nil,
		Ticks:   r.earlier + r.stage.session.Now(),
		Virtual: r.stage.now,
		Took:    r.took,
		Shaken:  o.Shaken,
		Runs:    1,
	}
	if err == nil || ctx.Err() != nil {
		return out, ctx.Err()
	}
	// Once more, the same, to tell what led there.
	o.Trace = nil
	o.Observer = nil
	again, err := d.run(ctx, o, true)
	if again == nil || err == nil {
		return nil, fmt.Errorf("run the drill %q: it failed, and did not when it was run again: %w", d.Name, err)
	}
	out.Failure = again.explain(err)
	return out, ctx.Err()
}

// Key returns the key of a drill's session.
func Key(seed uint64) [32]byte { return sha256.Sum256(fmt.Appendf(nil, "drill %d", seed)) }

// run runs the drill. With explain it keeps a history, for a failure to be explained by. The error is that of the line
// that failed.
//
// r is nil only when the session could not be made.
func (d *Drill) run(ctx context.Context, o Options, explain bool) (*run, error) {
	seed := d.Seed
	if o.Seed != 0 {
		seed = o.Seed
	}
	s, opened, err := d.open(seed, explain)
	if err != nil {
		return nil, err
	}
	r := &run{
		drill:   d,
		options: o,
		stage:   newStage(d, s),
		names:   map[string]any{},
		alias:   map[string]string{},
		known:   map[eval.Entity]string{},
		links:   map[string]link.Conditions{},
		steady:  map[string]bool{},
		dice:    dice(seed),
		opened:  opened,
		ctx:     ctx,
	}
	if d.restarts {
		if err := r.log.begin(s); err != nil {
			return nil, err
		}
	}
	r.stage.trace = o.Trace
	r.stage.test = o.Tamper
	r.stage.observer = o.Observer
	if o.Observer != nil {
		o.Observer.Began(s)
	}
	if explain {
		r.stage.history = &history{names: map[int]string{}}
	}
	if d.start != nil {
		if err := r.takeSeats(d.start.clients); err != nil {
			return r, err
		}
	}
	if err := r.lines(d.lines); err != nil {
		return r, err
	}
	// What was asked is decided at the end at the latest.
	if slices.ContainsFunc(r.acts, func(a *act) bool { return a.want != nil && len(a.met) == 0 }) {
		if err := r.settle("all is decided"); err != nil {
			return r, err
		}
	}
	if err := r.decided(true); err != nil {
		return r, err
	}
	// A fault is always red, unless a line expects it.
	for _, f := range r.stage.faults {
		if !f.expected {
			return r, &failing{message: f.String() + "; no line after it expects that"}
		}
	}
	return r, r.sound()
}

// sound checks what has to hold for every run: no copy was ever other than what it was sent.
func (r *run) sound() error {
	for _, p := range r.stage.players {
		if p.differed != "" {
			return &failing{message: fmt.Sprintf("%s: %s", p.name, p.differed)}
		}
	}
	return nil
}

// lines runs lines until one fails.
//
// Of nested lines that fail the innermost one is reported.
func (r *run) lines(list []line) error {
	for i := range list {
		l := &list[i]
		if err := r.ctx.Err(); err != nil {
			return err
		}
		if h := r.stage.history; h != nil {
			h.say(r.stage.session.Now(), "· %s", firstLine(l.text))
		}
		if err := l.do(r); err != nil {
			if r.failed == nil {
				r.failed = l
			}
			return err
		}
		if err := r.decided(false); err != nil {
			return err
		}
	}
	return nil
}

// firstLine returns the first line of a text, with dots when there are more.
func firstLine(text string) string {
	first, _, more := strings.Cut(text, "\n")
	if more {
		first += " …"
	}
	return first
}

// decided compares the decisions that came with what was wanted; at the end, also those that did not come.
//
// Lines that are answered are dropped, so that each decision is compared once. A repeated line has an
// act for each time that it ran.
func (r *run) decided(end bool) error {
	for _, a := range r.acts {
		if a.want == nil {
			continue
		}
		if len(a.met) == 0 && end {
			r.failed = &a.line
			r.failed.text = a.text
			return &failing{message: fmt.Sprintf("%s was never answered", a.who)}
		}
		for _, o := range a.met {
			if err := a.want(r, o); err != nil {
				r.failed = &a.line
				r.failed.text = a.text
				return &failing{message: err.Error()}
			}
		}
	}
	if len(r.acts) > 0 {
		r.acts = slices.DeleteFunc(r.acts, func(a *act) bool { return a.want == nil || len(a.met) > 0 })
	}
	return nil
}

// env returns what expressions are evaluated on: the copy of a client, or for nil the server's sheet.
//
// Clients that have left keep their numbers, which values may still hold.
func (r *run) env(p *player, self int) *eval.Env {
	e := &eval.Env{
		Names: r.names,
		Seats: map[string]int{},
		Dice:  r.dice,
		Nth:   r.stage.session.Nth,
		Self:  self,
		Who:   "the server",
	}
	for _, x := range r.stage.players {
		e.Seats[x.name] = x.number
	}
	if p == nil {
		e.On = r.stage.truth()
		return e
	}
	e.On = r.stage.seen(p)
	e.Who = p.name
	return e
}

// entity evaluates what has to be an entity.
func (r *run) entity(of eval.Node, e *eval.Env) (eval.Entity, error) {
	v, err := of(e)
	if err != nil {
		return 0, err
	}
	x, ok := v.(eval.Entity)
	if !ok || e.On.Entity(uint32(x)) == nil {
		return 0, fmt.Errorf("%s is no entity that is there", eval.Show(v))
	}
	return x, nil
}

// addressee evaluates which entity something is sent to. One that `let` named may be gone.
//
// A client may well send something to an entity that it does not know to be gone.
func (r *run) addressee(of eval.Node, e *eval.Env) (number uint32, kind string, err error) {
	v, err := of(e)
	if err != nil {
		return 0, "", err
	}
	x, ok := v.(eval.Entity)
	if !ok {
		return 0, "", fmt.Errorf("%s is no entity", eval.Show(v))
	}
	if t := e.On.Entity(uint32(x)); t != nil {
		return uint32(x), t.Kind, nil
	}
	kind = r.known[x]
	if kind == "" {
		return 0, "", fmt.Errorf("%s is no entity that is there", eval.Show(v))
	}
	return uint32(x), kind, nil
}

// player returns the client of a name that has joined and not left.
//
// In the body of a `for` its name stands for the client of the present round.
func (r *run) player(name string) (*player, error) {
	if a, ok := r.alias[name]; ok {
		name = a
	}
	p := r.stage.player(name)
	switch {
	case p == nil:
		return nil, fmt.Errorf("%s has not joined", name)
	case p.left:
		return nil, fmt.Errorf("%s has left", name)
	}
	return p, nil
}

// join lets a client join, over the link that it was given before.
func (r *run) join(name, as string, host bool) error {
	if p := r.stage.player(name); p != nil && p.out == "" {
		return fmt.Errorf("%s is in already", name)
	}
	r.steady[name] = r.steady[name] || host
	p, err := r.stage.join(name, as, r.shaken(name).worsen(name, r.links[name]), r.shaken(name), host)
	if err != nil {
		return err
	}
	if h := r.stage.history; h != nil {
		h.names[p.number] = name
	}
	return nil
}

// shaken returns what is wrong with a client's link beside what the drill says.
func (r *run) shaken(name string) *Shaking {
	if r.steady[name] {
		return nil
	}
	return r.options.Shaken
}

// link sets the conditions of the link of a client; a steady one is not made worse by shaking.
//
// What is under way already arrives when it was going to.
func (r *run) link(name string, c link.Conditions, steady bool) error {
	r.links[name] = c
	r.steady[name] = steady
	p := r.stage.player(name)
	if p == nil {
		return nil // it applies when the client joins
	}
	c = r.shaken(name).worsen(name, c)
	p.stalls = r.shaken(name).stalls(name)
	if err := p.up.Set(c); err != nil {
		return err
	}
	return p.down.Set(c)
}

// move runs a line in which a client leaves, loses its connection or comes back.
//
// To leave is final: the seat ends. A cut leaves the seat to wait for its client, as long as the
// contract's grace.
func (r *run) move(verb syntax.DrillMoveVerb, name string) error {
	r.stage.settled = false
	p, err := r.player(name)
	if err != nil {
		return err
	}
	// What has arrived by now is met, also of those who go.
	if err := r.stage.receive(); err != nil {
		return err
	}
	switch {
	case verb == syntax.MoveLeave && p.out == "" && p.host:
		r.stage.close("its host left")
		p.out = "it left"
		p.left = true
	case verb == syntax.MoveLeave:
		r.stage.session.Leave(p.number)
		r.stage.left(p.number)
		p.out = "it left"
		p.left = true
	case p.host:
		return fmt.Errorf("%s is the host and has no connection that could be cut", p.name)
	case p.out != "":
		return fmt.Errorf("%s is out: %s", p.name, p.out)
	case verb == syntax.MoveCut && p.cut:
		return fmt.Errorf("%s is cut already", p.name)
	case verb == syntax.MoveCut:
		r.stage.sever(p)
	case !p.cut:
		return fmt.Errorf("%s was not cut", p.name)
	default:
		r.stage.mend(p)
	}
	return nil
}

// neverRenewed is how long a press waits to be renewed that only lines renew: it may be added to a time.
const neverRenewed time.Duration = math.MaxInt64 / 4

// press presses or releases a hold. What is held is renewed until it is released; what is pressed is only when a line
// renews it.
//
// A client renews its hold three times in a lease, as the protocol asks. A new press of the same hold
// takes the place of the one before it.
func (r *run) press(verb syntax.DrillVerb, p *player, m wire.FromClient, a *act, h *contract.Hold) error {
	same := func(x *hold) bool { return x.message.Property == m.Property && x.message.Entity == m.Entity }
	if verb == syntax.VerbHolds || verb == syntax.VerbPresses {
		p.presses++
		m.Press = p.presses
		p.holds = slices.DeleteFunc(p.holds, same)
		o := r.stage.ask(p, m, a)
		every := time.Duration(h.Ms) * time.Millisecond / 3
		if verb == syntax.VerbPresses {
			every = neverRenewed
		}
		p.holds = append(p.holds, &hold{o.message, every, r.stage.now + every})
		return nil
	}
	i := slices.IndexFunc(p.holds, same)
	if i < 0 {
		return fmt.Errorf("%s does not hold %s", p.name, m.Property)
	}
	m.Press = p.holds[i].message.Press
	if verb == syntax.VerbReleases {
		p.holds = slices.Delete(p.holds, i, i+1)
	}
	r.stage.ask(p, m, a)
	return nil
}

// step runs one tick and fails for what went wrong in it.
//
// The context is looked at every so often only: a tick takes microseconds.
func (r *run) step() error {
	if r.stage.session.Now()%256 == 0 && r.ctx.Err() != nil {
		return r.ctx.Err()
	}
	if err := r.stage.step(); err != nil {
		return err
	}
	if err := r.faulted(); err != nil {
		return err
	}
	return r.decided(false)
}

// faulted fails for what failed inside in the last tick, unless a line of the drill asks for it.
func (r *run) faulted() error {
	for ; r.faultsSeen < len(r.stage.faults); r.faultsSeen++ {
		f := r.stage.faults[r.faultsSeen]
		if !f.expected && !slices.ContainsFunc(r.drill.faults, func(x *faultPattern) bool { return x.matches(f) }) {
			return &failing{message: f.String()}
		}
	}
	return nil
}

// until lets ticks pass until something is so.
//
// It asks before the first tick, and lets none pass when it is so already.
func (r *run) until(most time.Duration, what string, so func() bool) error {
	end := r.stage.now + most
	for !so() {
		if r.stage.now >= end {
			return &failing{message: fmt.Sprintf("after %s it is not so that %s%s", most, what, r.waiting())}
		}
		if err := r.step(); err != nil {
			return err
		}
	}
	return nil
}

// settle lets ticks pass until all that was sent is decided, the session has dealt with everything that came of it,
// such as the end of an expelled client's seat, and everyone has what they were sent. Nothing passes when that is so
// already.
//
// Both of its parts share the bound MaxSettle. What clients need is noted once, when all is dealt with:
// frames of later ticks bring nothing new, and there is one each tick.
func (r *run) settle(what string) error {
	if r.stage.settled {
		return nil
	}
	end := r.stage.now + MaxSettle
	dealt := func() bool { return r.stage.closed != "" || r.stage.decided() && r.stage.session.Idle() }
	if err := r.until(MaxSettle, what, dealt); err != nil {
		return err
	}
	needs := r.stage.needs()
	for !r.stage.arrived(needs) {
		if r.stage.now >= end {
			return &failing{message: fmt.Sprintf("after %s it is not so that %s%s", MaxSettle, what, r.waiting())}
		}
		if err := r.step(); err != nil {
			return err
		}
	}
	r.stage.settled = true
	return nil
}

// waiting describes what a settling still waits for.
//
// It names the first client that keeps it from ending; empty when none does.
func (r *run) waiting() string {
	for _, p := range r.stage.players {
		switch {
		case p.out != "" || p.cut:
		case !p.ready || p.copy.Tick == 0:
			return fmt.Sprintf(": %s is not ready", p.name)
		case len(p.open) > 0:
			return fmt.Sprintf(": %d of what %s sent is not decided", len(p.open), p.name)
		case !p.current():
			return fmt.Sprintf(": %s holds what was so at tick %d", p.name, p.copy.Tick)
		}
	}
	return ""
}

// unheld says why what a client holds cannot be compared with what is so now; it is empty when it can.
func (p *player) unheld() string {
	switch {
	case p.out != "":
		return p.out
	case p.cut:
		return "its connection is cut"
	case !p.current():
		return fmt.Sprintf("it holds tick %d, and more is on its way (`settle` waits for that)", p.copy.Tick)
	}
	return ""
}

// inStep checks every copy that is current against the rules: who may have what is asked anew, whatever was sent.
//
// The session computes anew who may have what, from its world and not from what it sent, so that an
// error in sending cannot hide itself. A client whose frames are under way is passed over.
func (r *run) inStep(who ...*player) error {
	if len(who) == 0 {
		who = r.stage.players
	}
	for _, p := range who {
		if p.unheld() != "" {
			continue
		}
		for _, d := range r.stage.session.Compare(p.number, r.stage.held(p)) {
			name := fmt.Sprintf("%s #%d", d.Kind, d.Entity)
			if o := r.stage.numbered(d.Owner); o != nil && d.Owner != 0 {
				name = o.name + "." + d.Kind
			}
			if d.Property != "" {
				name += "." + d.Property
			}
			return &failing{
				message: fmt.Sprintf(
					"%s differs on %s: it should be %s, and is %s", name, p.name, orNothing(d.Server),
					orNothing(d.Client),
				),
				entity:   d.Entity,
				property: d.Property,
				about: func(e *eval.Env) (any, error) {
					if d.Property == "" || d.Property == "owner" {
						t := e.On.Entity(d.Entity)
						if t == nil {
							return nil, eval.Absent("not there")
						}
						return eval.Seat(t.Owner), nil
					}
					return eval.Property(e, eval.Entity(d.Entity), d.Property)
				},
			}
		}
	}
	return r.sound()
}

// orNothing returns a text, or the word nothing for none.
func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// explain makes a failure of an error.
//
// It is called on the second run, which kept its history. The sheet has a line for the server and for
// every client that is in.
func (r *run) explain(err error) *Failure {
	f := &Failure{Message: err.Error(), Tick: r.stage.session.Now(), Line: r.drill.Line}
	if r.failed != nil {
		f.Line, _ = r.drill.src.Position(r.failed.at.Start)
		f.Text = firstLine(r.failed.text)
	}
	h := r.stage.history
	var about *failing
	if errors.As(err, &about) && about.about != nil {
		entry := func(who Beside, e *eval.Env) {
			v, err := about.about(e)
			said := eval.Show(v)
			if gone := eval.Absent(""); errors.As(err, &gone) {
				said = "– (" + string(gone) + ")"
			} else if err != nil {
				said = "! " + err.Error()
			}
			who.Value = said
			f.Sheet = append(f.Sheet, who)
		}
		entry(Beside{Who: "server"}, r.env(nil, about.self))
		for _, p := range r.stage.players {
			if p.out != "" {
				continue
			}
			b := Beside{Who: p.name, Client: p.number}
			if !p.current() {
				b.Behind = r.stage.session.Now() - p.copy.Tick
			}
			entry(b, r.env(p, about.self))
		}
		if about.entity != 0 {
			f.Causes = h.last(about.entity, about.property, 3)
		}
	}
	if n := len(h.lines); n > 0 {
		f.Before = h.lines[max(0, n-12):]
	}
	return f
}

// expectation is a checked `expect`.
//
// Which of the fields are set depends on what is expected. It may be asked any number of times, and
// changes nothing but which faults were expected.
type expectation struct {
	n     *syntax.DrillExpect
	parts []clause         // of what is seen: all of them have to hold
	value eval.Node        // what is missed
	of    eval.Node        // of what is noticed, or whose event is heard
	name  string           // of the event or property
	names []string         // full names of the events of that name that count
	from  eval.Node        // the old value of what is noticed
	to    eval.Node        // its new value
	args  []eval.Node      // of the event that is heard; fewer than it has for any others
	types []*contract.Type // of args
	fault *faultPattern
}

// clause is a part of a condition between two `and`s.
type clause struct {
	text  string
	value eval.Node
	about eval.Node // what it compares
	prop  eval.Node // the entity whose property that is; nil for none
	name  string    // of that property
}

// clauses splits a condition at its `and`s, so that a failure names the one that failed.
//
// Of a comparison the left side is what the failure shows side by side; its property's history tells
// who changed it.
func (k *checker) clauses(x *expectation, of syntax.Expr) {
	b, binary := of.(*syntax.Binary)
	if binary && b.Op == "and" {
		k.clauses(x, b.A)
		k.clauses(x, b.B)
		return
	}
	at := of.Span()
	c := clause{text: k.Source.Text[at.Start:at.End], value: k.Compile(of, eval.Want{})}
	c.about = c.value
	if binary {
		c.about = k.Compile(b.A, k.EnumOf(b.B))
		if m, ok := b.A.(*syntax.Member); ok {
			c.prop = k.Compile(m.X, eval.Want{})
			c.name = m.Name.Text
		}
	}
	x.parts = append(x.parts, c)
}

// visible checks what a client is to miss: a property, an entity, or any entity of a kind. Its value is absent when it
// is not to be seen.
func (k *checker) visible(x syntax.Expr) eval.Node {
	r, bare := x.(*syntax.Ref)
	if !bare {
		return k.Compile(x, eval.Want{})
	}
	if kind := k.Kind(r.Text); kind != nil && !k.Names[r.Text] {
		return func(e *eval.Env) (any, error) {
			for _, t := range e.On.Entities() {
				if t.Kind == kind.Name {
					return eval.Entity(t.Number), nil
				}
			}
			return nil, eval.Absent(fmt.Sprintf("%s does not have a %s", e.Who, kind.Name))
		}
	}
	of := k.Compile(x, eval.Want{})
	return func(e *eval.Env) (any, error) {
		v, err := of(e)
		if err != nil {
			return nil, err
		}
		n, ok := v.(eval.Entity)
		if !ok {
			return nil, fmt.Errorf(
				"`%s` is %s, which nobody sees or misses: name an entity, a kind or a property", r.Text, eval.Show(v),
			)
		}
		if e.On.Entity(uint32(n)) == nil {
			return nil, eval.Absent(fmt.Sprintf("%s does not have %s", e.Who, r.Text))
		}
		return n, nil
	}
}

// expect checks a line that says what has to be the case.
//
// It also notes what the run has to keep for it: changes of which properties, and the bytes of frames.
// Nothing else is kept, which is most of what a run would cost.
func (k *checker) expect(n *syntax.DrillExpect) *expectation {
	x := &expectation{n: n}
	if n.What == syntax.ExpectFaults {
		x.fault = k.expectFault(n)
		if x.fault == nil {
			return nil
		}
		return x
	}
	if n.Who.Text != "server" && n.Who.Text != "everyone" && !k.client(n.Who) {
		return nil
	}
	if n.Who.Text == "server" && n.What != syntax.ExpectSees {
		k.Fail(n.Who.At, "not-here", "the server only sees", "as in expect server sees Dive.phase == dive")
		return nil
	}
	switch n.What {
	case syntax.ExpectSees:
		k.clauses(x, n.Value)
	case syntax.ExpectMisses:
		x.value = k.visible(n.Value)
	case syntax.ExpectNoticed:
		of, name, ok := k.place(n.Value)
		if !ok {
			return nil
		}
		p := k.property(n.Value.(*syntax.Member).X, name)
		if p == nil {
			return nil
		}
		x.of = of
		x.name = name.Text
		x.types = []*contract.Type{p.Type}
		k.notices[x.name] = true
		x.from, x.to = k.Compile(n.From, eval.WantOf(p.Type)), k.Compile(n.To, eval.WantOf(p.Type))
	case syntax.ExpectHeard:
		return k.hears(x)
	case syntax.ExpectGot:
		k.weighs = true
		if k.Kind(n.Kind.Text) == nil {
			k.Fail(n.Kind.At, "unknown-name", fmt.Sprintf("the contract has no kind `%s`", n.Kind.Text), "")
			return nil
		}
	}
	return x
}

// hears checks which event is heard.
//
// A bare kind means the event of any entity of it, and a bare name that of any kind. Values can be given only where
// that is one event, since those of another one might be of other types.
func (k *checker) hears(x *expectation) *expectation {
	var name syntax.Ident
	var kind *contract.Kind
	switch v := x.n.Value.(type) {
	case *syntax.Ref:
		name = v.Ident
	case *syntax.Member:
		name = v.Name
		kind = k.kindOf(v.X)
		if r, bare := v.X.(*syntax.Ref); !bare || k.Kind(r.Text) == nil || kind.Shared {
			x.of = k.Compile(v.X, eval.Want{})
		}
	default:
		k.Fail(x.n.Value.Span(), "expected", "this is no event", "as in welcome, or ana.Diver.used(patch)")
		return nil
	}
	x.name = name.Text
	var found []*contract.Event
	for _, e := range k.Contract.Events {
		if e.Name == name.Text && (kind == nil || e.Kind == kind) {
			found = append(found, e)
			x.names = append(x.names, e.FullName())
		}
	}
	if len(found) == 0 {
		k.Fail(name.At, "unknown-name", fmt.Sprintf("the contract has no event `%s`", name.Text), "")
		return nil
	}
	if len(found) > 1 && x.n.Args != nil {
		k.Fail(
			x.n.Value.Span(), "ambiguous",
			fmt.Sprintf("`%s` is an event of %s and of %s", name.Text, x.names[0], x.names[1]),
			"name the kind where values are given",
		)
		return nil
	}
	if x.n.Args != nil && len(x.n.Args) != len(found[0].Params) {
		k.Fail(
			x.n.Value.Span(), "arguments",
			fmt.Sprintf("%s has %d values, not %d", found[0].FullName(), len(found[0].Params), len(x.n.Args)),
			"a name alone is any values",
		)
		return nil
	}
	for i, a := range x.n.Args {
		x.types = append(x.types, found[0].Params[i].Type)
		x.args = append(x.args, k.Compile(a, eval.WantOf(found[0].Params[i].Type)))
	}
	return x
}

// hold returns what is not as expected.
//
// "everyone" is everyone who is connected; whoever was cut or has left cannot be expected to see
// anything.
func (x *expectation) hold(r *run) error {
	n := x.n
	if n.What == syntax.ExpectFaults {
		return x.holdFaults(r)
	}
	if n.Who.Text == "server" {
		return x.sees(r, nil)
	}
	var who []*player
	if n.Who.Text == "everyone" {
		for _, p := range r.stage.players {
			if p.out == "" && !p.cut {
				who = append(who, p)
			}
		}
	} else {
		p, err := r.player(n.Who.Text)
		if err != nil {
			return err
		}
		who = append(who, p)
	}
	if len(who) == 0 {
		return errors.New("nobody is connected, so that nothing can be expected of everyone")
	}
	if n.What == syntax.ExpectInStep {
		if why := who[0].unheld(); why != "" && len(who) == 1 {
			return fmt.Errorf("whether %s is in step cannot be told: %s", who[0].name, why)
		}
		return r.inStep(who...)
	}
	for _, p := range who {
		if err := x.holdFor(r, p); err != nil {
			return err
		}
	}
	return nil
}

// isSentTo reports whether the client was sent through an exit; an empty name stands for any.
func (p *player) isSentTo(exit string) bool {
	return p.sentTo != "" && (exit == "" || p.sentTo == exit)
}

// holdFor returns nil when the expectation is met for a client, and else what is the case instead.
func (x *expectation) holdFor(r *run, p *player) error {
	n := x.n
	not := func(format string, args ...any) error {
		return &failing{message: p.name + " " + fmt.Sprintf(format, args...)}
	}
	if p.out != "" && (n.What == syntax.ExpectSees || n.What == syntax.ExpectMisses || n.What == syntax.ExpectStrikes) {
		return fmt.Errorf("%s is out: %s", p.name, p.out)
	}
	switch n.What {
	case syntax.ExpectSees:
		return x.sees(r, p)
	case syntax.ExpectMisses:
		return x.misses(r, p)
	case syntax.ExpectHeard:
		count, err := x.count(r, p)
		switch {
		case err != nil:
			return err
		case n.Not && count > 0:
			return not("heard %s %d times", x.name, count)
		case n.Not:
		case n.Count != nil && int64(count) != n.Count.Value:
			return not("heard %s %d times, not %d", x.name, count, n.Count.Value)
		case n.Count == nil && count == 0:
			return not("did not hear %s", x.name)
		}
	case syntax.ExpectNoticed:
		return x.notices(r, p)
	case syntax.ExpectStrikes:
		if got := r.stage.session.Strikes(p.number); int64(got) != n.Count.Value {
			return not("has %d strikes, not %d", got, n.Count.Value)
		}
	case syntax.ExpectExpelled:
		if p.expelled == n.Not {
			return not("%s", map[bool]string{true: "is expelled: " + p.out, false: "is not expelled"}[p.expelled])
		}
	case syntax.ExpectSent:
		if isSent := p.isSentTo(n.Exit.Text); isSent == n.Not {
			return not("%s", map[bool]string{true: "is sent to " + p.sentTo, false: "is not sent there"}[isSent])
		}
	case syntax.ExpectLogged:
		if slices.Contains(p.logs, n.Text.Value) == n.Not {
			last := "nothing at all"
			if len(p.logs) > 0 {
				last = fmt.Sprintf("%q", p.logs[len(p.logs)-1])
			}
			return not("logged %s last", last)
		}
	case syntax.ExpectGot:
		from := r.stage.now - time.Duration(n.Window.Value)*time.Millisecond
		bytes := 0
		for _, g := range p.got {
			if g.at > from {
				bytes += g.kinds[n.Kind.Text]
			}
		}
		if int64(bytes) > n.Count.Value {
			return not("got %d bytes of %s, more than %d", bytes, n.Kind.Text, n.Count.Value)
		}
	}
	return nil
}

// misses does what holdFor does, for what a client does not see.
func (x *expectation) misses(r *run, p *player) error {
	v, err := x.value(r.env(p, 0))
	if gone := eval.Absent(""); errors.As(err, &gone) {
		return nil
	}
	if err != nil {
		return err
	}
	return &failing{message: fmt.Sprintf("%s sees it: it is %s", p.name, eval.Show(v)), about: x.value}
}

// sees does what holdFor does, for what the server or a client holds; p is nil for the server.
func (x *expectation) sees(r *run, p *player) error {
	who := "the server"
	if p != nil {
		who = p.name
	}
	for i := range x.parts {
		if err := r.holds(&x.parts[i], p, who, len(x.parts) > 1); err != nil {
			return err
		}
	}
	return nil
}

// holds reports whether a clause holds for a client, or for nil on the server. named says that the message has to say
// which clause it is.
//
// A value that is absent is a failure of the clause and not of the drill, unlike one that makes no
// sense.
func (r *run) holds(c *clause, p *player, who string, named bool) error {
	v, err := c.value(r.env(p, 0))
	gone := eval.Absent("")
	switch {
	case err == nil && v == true:
		return nil
	case err == nil && v != false:
		return fmt.Errorf("what is seen has to be true or false, and is %s", eval.Show(v))
	case err != nil && !errors.As(err, &gone):
		return err
	}
	f := &failing{message: who + " sees it otherwise", about: c.about}
	if named {
		f.message = fmt.Sprintf("%s sees it otherwise: not `%s`", who, c.text)
	}
	if gone != "" {
		f.message = string(gone)
	}
	if c.prop != nil {
		if e, err := c.prop(r.env(nil, 0)); err == nil {
			if e, ok := e.(eval.Entity); ok {
				f.entity = uint32(e)
				f.property = c.name
			}
		}
	}
	return f
}

// count returns how often a client heard an event.
//
// It counts from the client's joining on. What the line says is not rounded to the steps of what was told.
func (x *expectation) count(r *run, p *player) (n int, err error) {
	e := r.env(nil, 0)
	of := eval.Entity(0)
	if x.of != nil {
		v, err := x.of(e)
		if err != nil {
			return 0, err
		}
		var ok bool
		of, ok = v.(eval.Entity)
		if !ok {
			return 0, fmt.Errorf("%s is no entity", eval.Show(v))
		}
	}
	var want []any
	for i, a := range x.args {
		v, err := a(e)
		if err != nil {
			return 0, err
		}
		if _, err := eval.Write(x.types[i], v); err != nil { // also when nothing was told
			return 0, err
		}
		want = append(want, v)
	}
	for _, h := range p.heard {
		if !slices.Contains(x.names, h.event.Event) || of != 0 && h.event.Entity != uint32(of) {
			continue
		}
		fits := true
		for i, v := range want {
			same, err := eval.Same(nil, eval.Read(x.types[i], h.event.Fields[i].Value), v)
			if err != nil {
				return 0, err
			}
			fits = fits && same
		}
		if fits {
			n++
		}
	}
	return n, nil
}

// notices reports whether a client was told of a change.
//
// The first value that a client gets of a property is no change. The message shows the last four
// changes that it saw.
func (x *expectation) notices(r *run, p *player) error {
	e := r.env(nil, 0)
	of, err := x.of(e)
	if err != nil {
		return err
	}
	values := [2]any{}
	for i, f := range []eval.Node{x.from, x.to} {
		values[i], err = f(e)
		if err != nil {
			return err
		}
	}
	var seen []string
	for _, c := range p.noticed {
		if eval.Entity(c.entity) != of || c.name != x.name {
			continue
		}
		if c.old != nil {
			was, err := eval.Same(nil, eval.Read(c.typ, *c.old), values[0])
			if err != nil {
				return err
			}
			is, err := eval.Same(nil, eval.Read(c.typ, c.now), values[1])
			if err != nil {
				return err
			}
			if was && is {
				return nil
			}
		}
		seen = append(seen, fmt.Sprintf("from %s to %s", format(c.typ, c.old), c.typ.Format(c.now)))
	}
	if len(seen) == 0 {
		return &failing{message: fmt.Sprintf("%s noticed no change of %s", p.name, x.name)}
	}
	return &failing{
		message: fmt.Sprintf("%s noticed %s %s", p.name, x.name, strings.Join(seen[max(0, len(seen)-4):], ", ")),
	}
}

// Shake runs a drill over many random links. The result is that of the first run that fails, with the fewest faults
// that still fail, or of the last one. each is called after each run; it may be nil.
//
// Run number i uses the seed seed+i, so a failure can be had again by its own seed and the printed
// faults.
func (d *Drill) Shake(ctx context.Context, seed uint64, runs int, o Options, each func()) (*Result, error) {
	var last *Result
	for i := range runs {
		o.Shaken = shaking(seed+uint64(i), d.Clients)
		r, err := d.Run(ctx, o)
		if err != nil {
			return r, err
		}
		if each != nil {
			each()
		}
		if !r.Passed {
			fewest := shrink(o.Shaken, func(s *Shaking) bool {
				o := o
				o.Shaken = s
				_, err := d.run(ctx, o, false)
				return err != nil && ctx.Err() == nil
			})
			o.Shaken = fewest
			r, err = d.Run(ctx, o)
			if err == nil && r.Passed {
				err = fmt.Errorf("shake the drill %q: the failure did not come back", d.Name)
			}
			r.Runs = i + 1
			return r, err
		}
		r.Runs = i + 1
		last = r
	}
	return last, nil
}

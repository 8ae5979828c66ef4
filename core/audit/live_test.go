package audit

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// fakePlace is a session in this process, with what a test breaks about it.
type fakePlace struct {
	s       *session.Session
	outline *contract.Outline
	seats   []*fakeSeat
	news    []session.Decision
	late    int64 // ticks after which those who run the session are told of a decision
	truth   replicate.Copy
	tamper  func(*session.Decision)          // what those who run the session are told
	answer  func(*wire.Decision)             // what clients are told
	hear    func(p *fakeSeat, raw []byte)    // before a message is met
	frame   func(p *fakeSeat, _ *wire.Frame) // before a frame is heard
}

type fakeSeat struct {
	place   *fakePlace
	me      wire.Client
	copy    replicate.Copy
	reader  *wire.Reader
	heard   func(*wire.Frame)
	differs func()
	ended   chan struct{}
	reason  string
}

func (p *fakeSeat) Outline() *contract.Outline     { return p.place.outline }
func (p *fakeSeat) Me() wire.Client                { return p.me }
func (p *fakeSeat) Look(f func(c *replicate.Copy)) { f(&p.copy) }
func (p *fakeSeat) Ready()                         { p.place.s.Ready(p.me.Number) }
func (p *fakeSeat) Ended() <-chan struct{}         { return p.ended }
func (p *fakeSeat) Reason() string                 { return p.reason }
func (p *fakeSeat) Close()                         { p.end("it left") }

func (p *fakeSeat) end(reason string) {
	if p.reason == "" {
		p.reason = reason
		close(p.ended)
		p.place.s.Leave(p.me.Number)
	}
}

func (p *fakeSeat) Send(raw []byte) error {
	if p.reason != "" {
		return fmt.Errorf("send: %s", p.reason)
	}
	if p.place.hear != nil {
		p.place.hear(p, raw)
	}
	m, err := wire.UnpackFromClient(raw, p.place.outline)
	switch {
	case err != nil:
		p.end("it sent what cannot be read")
	case m.Type == wire.MessageLeave:
		p.end("it left")
	case m.Type == wire.MessageAsk:
		p.place.s.Ask(p.me.Number, p.place.s.ReadRequest(m.Ask))
	default:
		p.place.s.Steer(p.me.Number, p.place.s.ReadSteering(m.Type, m.Move()))
	}
	return nil
}

func (f *fakePlace) Join(_ context.Context, name, role string, heard func(*wire.Frame), differs func()) (Seat, error) {
	n, err := f.s.Join(name, role)
	if err != nil {
		return nil, err
	}
	p := &fakeSeat{
		place:   f,
		me:      wire.Client{Number: n, Name: name, Role: role},
		reader:  f.s.Reader(n),
		heard:   heard,
		differs: differs,
		ended:   make(chan struct{}),
	}
	p.copy.Me = n
	f.seats = append(f.seats, p)
	return p, f.Pass(context.Background())
}

func (f *fakePlace) Decisions() (out []session.Decision) {
	for len(f.news) > 0 && f.news[0].Tick+f.late <= f.s.Now() {
		out = append(out, f.news[0])
		f.news = f.news[1:]
	}
	return out
}

func (f *fakePlace) Truth(look func(*replicate.Copy)) { look(&f.truth) }

func (f *fakePlace) Pass(context.Context) error {
	step := f.s.Tick()
	f.truth.Apply(&wire.Frame{Tick: step.Tick, Blocks: []*wire.Block{step.ServerState}})
	for _, d := range step.Decisions {
		if f.tamper != nil {
			f.tamper(&d)
		}
		f.news = append(f.news, d)
	}
	for i := range step.Frames {
		for _, p := range f.seats {
			if p.me.Number != step.Frames[i].Client || p.reason != "" {
				continue
			}
			frame, err := p.reader.Read(step.Frames[i].Bytes)
			if err != nil {
				return err
			}
			p.copy.Apply(frame)
			for i := range frame.Decisions {
				if f.answer != nil {
					f.answer(&frame.Decisions[i])
				}
			}
			if f.frame != nil {
				f.frame(p, frame)
			}
			p.heard(frame)
			f.s.Confirm(p.me.Number, step.Tick)
		}
	}
	for _, cut := range step.Cuts {
		for _, p := range f.seats {
			if p.me.Number == cut.Client {
				p.end(cut.Reason)
			}
		}
	}
	return nil
}

const lamps = `contract lamps language 1
roles player, referee
audience close(l: Lamp) = distance(viewer.Diver.pos, l.pos) <= 5
entity Diver per player {
  pos: vec2 -90..90 step 0.01 = vec(0, 0) set by owner pace distance(old, new) 20 per second burst 5
  hull: int 0..100 = 60 clamped
  hold grip lease 1s
  request patch(n: int 1..9) limit 4 per second check hull < 90 else deny "whole" { hull += n }
}
entity Lamp to close(self) {
  pos: vec2 -90..90 step 0.01
  lit: bool = false
  request light() from player limit 4 per second check distance(caller.Diver.pos, pos) <= 5 else deny "too far away" { lit = not lit }
}
shared Dive {
  request end_dive() from referee limit 1 per second { close "the dive is over" }
  on start { spawn Lamp { pos = vec(2, 0) }; spawn Lamp { pos = vec(80, 0) } }
}
`

// liveAudit attacks a session in this process for some rounds.
func liveAudit(t *testing.T, text string, damage func(*fakePlace)) *Report {
	c, problems := compile.Load("lamps.kam", text)
	require.NotNil(t, c, problems.Error())
	s, err := session.New(c, session.Options{Key: [32]byte{3}, Trace: true})
	require.NoError(t, err)
	f := &fakePlace{s: s, outline: c.Outline()}
	if damage != nil {
		damage(f)
	}
	rounds := 0
	report, err := Live(t.Context(), c, f, LiveOptions{
		Seed:     1,
		Name:     "audit",
		More:     func() bool { rounds++; return rounds <= 400 },
		Findings: problems,
	})
	require.NoError(t, err)
	return report
}

func effects(r *Report) (out []string) {
	for _, row := range r.Rows {
		for i, c := range row.Cells {
			for _, e := range c.Effects {
				out = append(out, fmt.Sprintf("%s, %s: %s", row.Name, r.Attacks[i], e))
			}
		}
	}
	return out
}

// A session that holds is left as it was; whatever is broken about one is found, wherever it is.
func TestLiveAuditFindsWhatIsBroken(t *testing.T) {
	text := strings.Replace(lamps, `limit 1 per second { close "the dive is over" }`, `limit 1 per second { }`, 1)
	r := liveAudit(t, text, nil)
	assert.Empty(t, effects(r))
	assert.Greater(t, r.Filled, 0.95, "%+v", r.Empty)
	assert.NotZero(t, r.Tried)
	for _, x := range []struct {
		what, found string
		text        string
		damage      func(*fakePlace)
	}{
		{"what was refused changed something", "changed or told something all the same", text, func(f *fakePlace) {
			f.tamper = func(d *session.Decision) {
				if d.Outcome == wire.Denied {
					d.Changes = []session.Change{{Kind: "Diver", Property: "hull"}}
				}
			}
		}},
		{"what was refused told something", "changed or told something all the same", text, func(f *fakePlace) {
			f.tamper = func(d *session.Decision) {
				if d.Outcome == wire.Malformed {
					d.Events = []string{"used"}
				}
			}
		}},
		{"what is forged is accepted", "was accepted", text, func(f *fakePlace) {
			f.answer = func(d *wire.Decision) {
				if d.Outcome == wire.Malformed {
					*d = wire.Decision{Seq: d.Seq, Outcome: wire.Accepted, Check: -1}
				}
			}
		}},
		{
			"one that is hidden is answered for", "was answered as what does not exist never is", text,
			func(f *fakePlace) {
				f.answer = func(d *wire.Decision) {
					if d.Stage == wire.StageTarget {
						d.Stage = wire.StageCheck
						d.Reason = "too far away"
					}
				}
			},
		},
		{"a request fails inside", "fails inside", strings.Replace(text, "hull += n", "hull = 1 / (n - n)", 1), nil},
		{
			"what belongs to somebody else is open to all", "nothing is checked",
			strings.Replace(
				text, `request patch(n: int 1..9) limit 4 per second check hull < 90 else deny "whole"`,
				"request patch(n: int 1..9) from player limit 4 per second", 1,
			),
			nil,
		},
		{"a witness is thrown out", "who did nothing, is out", text, func(f *fakePlace) {
			f.hear = func(*fakeSeat, []byte) { f.seats[0].end("somebody else sent something") }
		}},
		{"a witness's copy is wrong", "was 1 times not what it should be", text, func(f *fakePlace) {
			told := false
			f.frame = func(p *fakeSeat, _ *wire.Frame) {
				if p == f.seats[0] && f.s.Now() > 50 && !told {
					told = true
					p.differs()
				}
			}
		}},
		{"events come before their client is ready", "has not said that it is ready heard", text, func(f *fakePlace) {
			f.frame = func(
				p *fakeSeat, frame *wire.Frame,
			) {
				frame.Events = append(frame.Events, &wire.Event{Event: "used"})
			}
		}},
	} {
		t.Run(x.what, func(t *testing.T) {
			assert.Contains(t, strings.Join(effects(liveAudit(t, x.text, x.damage)), "\n"), x.found)
		})
	}
}

// cellOf returns what a report says of an attack on a target.
func cellOf(t *testing.T, r *Report, name, what string) Cell {
	for _, row := range r.Rows {
		if row.Name == name {
			return row.Cells[slices.Index(r.Attacks, what)]
		}
	}
	require.Fail(t, "no such row", name)
	return Cell{}
}

// An attack has held only when it is known what it came to. What it changed is told over another connection than its
// sender's, which may be late, or silent.
func TestLiveAuditWaitsForWhatItJudges(t *testing.T) {
	text := strings.Replace(
		strings.Replace(lamps, `limit 1 per second { close "the dive is over" }`, `limit 1 per second { }`, 1),
		`request patch(n: int 1..9) limit 4 per second check hull < 90 else deny "whole"`,
		"request patch(n: int 1..9) from player limit 4 per second", 1,
	)
	late := liveAudit(t, text, func(f *fakePlace) { f.late = livePasses - 5 })
	assert.Contains(t, strings.Join(effects(late), "\n"), "nothing is checked")
	never := liveAudit(t, text, func(f *fakePlace) { f.late = 1 << 40 })
	assert.Empty(t, effects(never))
	cell := cellOf(t, never, "Diver.patch", NotOwner)
	assert.NotZero(t, cell.Tried, "a referee's is refused, and known to be")
	assert.False(t, cell.Reached)
	assert.Contains(t, cell.Why, "not told in time")
	assert.Less(t, never.Filled, 1.0)
	assert.Contains(t, never.Empty, Missing{"Diver.patch", NotOwner, cell.Why})
}

// An attack that a limit stopped, because of what was sent before it, has shown nothing.
func TestLiveAuditCountsNoAttackThatALimitStopped(t *testing.T) {
	text := strings.Replace(lamps, `limit 1 per second { close "the dive is over" }`, `limit 1 per second { }`, 1)
	for _, stage := range []wire.Stage{wire.StageLimit, wire.StageBounds} {
		stops := func(f *fakePlace) {
			f.answer = func(d *wire.Decision) {
				if d.Stage != wire.StageTypes {
					*d = wire.Decision{Seq: d.Seq, Outcome: wire.Dropped, Stage: stage, Reason: "too often", Check: -1}
				}
			}
		}
		changed := liveAudit(t, text, func(f *fakePlace) {
			stops(f)
			f.tamper = func(d *session.Decision) { d.Changes = []session.Change{{Kind: "Diver", Property: "hull"}} }
		})
		assert.NotEmpty(t, cellOf(t, changed, "Diver.patch", NotOwner).Effects, "stopped, and changed all the same")
		r := liveAudit(t, text, stops)
		for _, what := range []string{NotOwner, MadeUp, Checks} {
			cell := cellOf(t, r, "Diver.patch", what)
			assert.Zero(t, cell.Tried, "%s, %s", stage, what)
			assert.False(t, cell.Reached, what)
			assert.NotEmpty(t, cell.Why, what)
			assert.NotEmpty(t, cell.Outcomes, what)
		}
		for _, what := range []string{OutOfRange, TooFast, Repeated, Disordered} {
			cell := cellOf(t, r, "Diver.patch", what)
			assert.Positive(t, cell.Tried, "%s, %s", stage, what)
			assert.True(t, cell.Reached, what)
			assert.Empty(t, cell.Why, what)
		}
	}
}

// A place that nobody can join, and a contract that takes nothing, are told.
func TestLiveAuditThatCannotBe(t *testing.T) {
	c, _ := compile.Load("still.kam", "contract still language 1\nentity Buoy { n: int 0..9 = 0 }\n")
	require.NotNil(t, c)
	_, err := Live(t.Context(), c, &fakePlace{}, LiveOptions{More: func() bool { return false }})
	assert.ErrorContains(t, err, "nothing that a client could send")
	full, problems := compile.Load(
		"lamps.kam", strings.Replace(lamps, "roles player, referee", "seats 2\nroles player, referee", 1),
	)
	require.NotNil(t, full, problems.Error())
	s, err := session.New(full, session.Options{Trace: true})
	require.NoError(t, err)
	_, err = Live(
		t.Context(), full, &fakePlace{s: s, outline: full.Outline()}, LiveOptions{More: func() bool { return false }},
	)
	assert.ErrorContains(t, err, "seat an attacker")
}

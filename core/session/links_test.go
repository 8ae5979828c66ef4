package session

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/link"
	"kamerad.example/core/replicate"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/wild"
)

// far is a client at the other end of a bad link, with what a server keeps for it between a session and the link.
type far struct {
	up, down *link.Link
	reader   *wire.Reader
	copy     replicate.Copy
	outbox   []sentFrame
	written  int64         // the newest tick that left the outbox
	stalled  time.Duration // until when it takes nothing
	cutAt    time.Duration // 0 while it is connected
	backAt   time.Duration
	noticed  bool
	seq      uint64
	open     map[uint64]wire.Ask // undecided
	accepted int
	heard    []int64
	drifted  []int64
}

type sentFrame struct {
	tick  int64
	bytes []byte
}

// distant is a crowd whose clients sit behind links, in virtual time.
type distant struct {
	*crowd
	fars   map[int]*far
	now    time.Duration
	events int64
	told   map[int][]int64          // by client: the events that it has to hear
	held   map[int]map[int64]uint64 // by client and tick: what it should hold then
	counts map[string]int
}

const beside = `
event ping(n: int 0..999999)
event drift(n: int 0..999999) loose
shared Bell { rung: int 0..999999 = 0
  request ring(n: int 0..9) from everyone { rung += 1 }
}
`

// fingerprint is one number for all that a copy holds.
func fingerprint(c *replicate.Copy) uint64 {
	h := fnv.New64a()
	for _, t := range c.Entities() {
		fmt.Fprint(h, t.Number, t.Kind, t.Owner)
		fields := slices.SortedFunc(
			slices.Values(t.Fields),
			func(a, b wire.Field) int { return map[bool]int{true: -1, false: 1}[a.Name < b.Name] },
		)
		for _, f := range fields {
			fmt.Fprint(h, f.Name, f.Type.Format(f.Value))
		}
	}
	return h.Sum64()
}

func (d *distant) connect(n int) {
	conditions := link.Conditions{
		Delay:   time.Duration(d.r.IntN(500)) * time.Millisecond,
		Jitter:  time.Duration(d.r.IntN(200)) * time.Millisecond,
		Loss:    d.r.Float64() * 0.2,
		Reorder: d.r.Float64() * 0.3,
	}
	if d.r.IntN(4) == 0 {
		conditions.Bandwidth = 2000 + d.r.IntN(20000)
	}
	f := &far{open: map[uint64]wire.Ask{}, reader: wire.NewReader(d.view.Layout())}
	var err error
	f.up, err = link.New(d.r.Uint64(), conditions)
	require.NoError(d.t, err)
	f.down, err = link.New(d.r.Uint64(), conditions)
	require.NoError(d.t, err)
	d.fars[n] = f
	d.held[n] = map[int64]uint64{}
}

// each goes over the clients in the order of their numbers.
func (d *distant) each(yield func(int, *far) bool) {
	for _, n := range slices.Sorted(maps.Keys(d.fars)) {
		if !yield(n, d.fars[n]) {
			return
		}
	}
}

// deliver carries what has arrived, both ways.
func (d *distant) deliver() {
	for n, f := range d.each {
		if d.seats[n] == nil {
			delete(d.fars, n) // its grace is over
			continue
		}
		if f.cutAt != 0 {
			if !f.noticed && d.now >= f.cutAt+time.Duration(n)*50*time.Millisecond {
				d.Lost(n)
				f.noticed = true
			}
			if d.now >= f.backAt {
				d.again(n, f)
			}
			continue
		}
		for _, raw := range f.down.Receive(d.now) {
			d.arrive(n, f, raw)
		}
		for _, raw := range f.up.Receive(d.now) {
			m, err := wire.UnpackFromClient(raw, d.outline)
			require.NoError(d.t, err)
			switch m.Type {
			case "ready":
				d.Ready(n)
			case "seen":
				d.Confirm(n, m.Seen)
			case "ask":
				d.Ask(n, d.ReadRequest(m.Ask))
			}
		}
	}
}

// again connects a client that was cut.
func (d *distant) again(n int, f *far) {
	if d.r.IntN(3) == 0 { // it sits elsewhere now
		require.NoError(
			d.t,
			f.down.Set(
				link.Conditions{Delay: time.Duration(d.r.IntN(500)) * time.Millisecond, Loss: d.r.Float64() * 0.2},
			),
		)
	}
	f.up.Mend(d.now)
	f.down.Mend(d.now)
	d.Back(n, f.copy.Tick)
	d.counts["resumes"]++
	f.cutAt, f.noticed, f.stalled, f.outbox, f.reader = 0, false, 0, nil, wire.NewReader(d.view.Layout())
	f.send(d, wire.FromClient{Type: wire.MessageReady})
	for _, seq := range slices.Sorted(maps.Keys(f.open)) {
		f.send(d, wire.FromClient{Type: wire.MessageAsk, Ask: f.open[seq]})
	}
}

func (f *far) send(d *distant, m wire.FromClient) { f.up.Send(d.now, m.Pack(d.outline)) }

func (d *distant) arrive(n int, f *far, raw []byte) {
	frame, err := f.reader.Read(raw)
	require.NoError(d.t, err, "client %d", n)
	f.copy.Apply(frame)
	f.copy.Advance(frame.Tick)
	d.counts["frames"]++
	if frame.Digest != nil {
		require.Equal(d.t, f.copy.Digest(d.outline), *frame.Digest)
	}
	require.Equal(d.t, d.held[n][frame.Tick], fingerprint(&f.copy), "client %d at tick %d", n, frame.Tick)
	for _, e := range frame.Events {
		if e.Event == "drift" {
			f.drifted = append(f.drifted, e.Fields[0].Value.Num)
			continue
		}
		f.heard = append(f.heard, e.Fields[0].Value.Num)
	}
	for _, x := range frame.Decisions {
		if _, open := f.open[x.Seq]; open && x.Outcome == wire.Accepted {
			f.accepted++
		}
		delete(f.open, x.Seq)
	}
	f.send(d, wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: frame.Tick}})
}

// live is a tick with all that may go wrong.
func (d *distant) live(wild bool) {
	d.now += time.Second / time.Duration(d.contract.TickRate)
	d.deliver()
	if wild {
		for _, f := range d.each {
			switch pick := d.r.IntN(60); {
			case f.cutAt != 0:
			case pick == 0:
				f.up.Cut()
				f.down.Cut()
				f.cutAt, f.backAt = d.now, d.now+time.Duration(d.r.IntN(900))*time.Millisecond
			case pick == 1:
				f.stalled = d.now + time.Duration(d.r.IntN(1500))*time.Millisecond
			case pick < 12 && len(f.open) < wire.MaxUndone:
				f.seq++
				ask := wire.Ask{
					Seq:     f.seq,
					Request: "Bell.ring",
					Args:    []json.RawMessage{json.RawMessage("3")},
					Seen:    f.copy.Tick,
				}
				f.open[f.seq] = ask
				f.send(d, wire.FromClient{Type: wire.MessageAsk, Ask: ask})
			}
		}
		for range d.r.IntN(3) {
			d.ping()
		}
		for range d.r.IntN(5) {
			d.change()
		}
	}
	d.step()
}

// ping tells some clients that something happened.
func (d *distant) ping() {
	e := d.contract.Events[d.r.IntN(2)]
	d.events++
	t := rules.Told{Event: e, Values: []contract.Value{{Num: d.events}}}
	for _, s := range d.order {
		if s.joined && d.r.IntN(2) == 0 {
			t.Clients = append(t.Clients, s.client.Number)
			if e.Name == "ping" {
				d.told[s.client.Number] = append(d.told[s.client.Number], d.events)
			}
		}
	}
	d.queueEvent(t)
}

// frames takes what a tick gave, as a server does.
func (d *distant) frames(frames []ClientFrame) {
	for _, cf := range frames {
		f := d.fars[cf.Client]
		if f == nil {
			continue
		}
		d.held[cf.Client][d.tick] = fingerprint(d.copies[cf.Client])
		f.outbox = append(f.outbox, sentFrame{d.tick, slices.Clone(cf.Bytes)})
	}
	for n, f := range d.each {
		if d.now < f.stalled {
			if len(f.outbox) > 6 {
				d.Behind(n, f.written)
				f.outbox = nil
				d.counts["fell behind"]++
			}
			continue
		}
		for _, x := range f.outbox {
			f.down.Send(d.now, x.bytes)
			f.written = x.tick
		}
		f.outbox = nil
		d.CaughtUp(n)
	}
}

// Random contracts over random links: delay up to half a second, jitter, loss, bandwidth, cuts, clients that stop
// reading. At every tick that a client confirms its copy is what it should be then; no event and no decision is lost,
// doubled or out of order; and once all is quiet every copy is what the server holds. KAMERAD_RUNS says how many
// contracts are tried, KAMERAD_SEED with which one to begin.
func TestEveryCopyConvergesOverBadLinks(t *testing.T) {
	runs := 12
	first := uint64(1)
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_RUNS")); err == nil {
		runs = n
	}
	if n, err := strconv.ParseUint(os.Getenv("KAMERAD_SEED"), 10, 64); err == nil {
		first = n
	}
	total := map[string]int{}
	right := 0
	for seed := first; right < runs; seed++ {
		text := wild.Carried(rand.New(rand.NewPCG(seed, 1))) + beside
		isMetered := seed%3 == 0
		if isMetered {
			text = withByteLimit(text, 1500)
		}
		c, _ := compile.Load("carried.kam", text)
		if c == nil {
			continue
		}
		right++
		func() {
			defer func() {
				if t.Failed() {
					t.Logf("seed %d", seed)
				}
			}()
			d := &distant{
				crowd:  newCrowd(t, c, seed),
				fars:   map[int]*far{},
				told:   map[int][]int64{},
				held:   map[int]map[int64]uint64{},
				counts: total,
			}
			d.crowd.took = d.frames
			d.crowd.quiet = isMetered // their copies are late
			for range 3 {
				d.connect(d.join(c.Roles[d.r.IntN(3)]))
			}
			for i := range 60 {
				if i%20 == 10 {
					d.connect(d.join(c.Roles[d.r.IntN(3)]))
				}
				d.live(true)
			}
			for _, e := range d.world.Entities() { // what moves comes to rest
				for _, p := range e.Kind.Properties {
					if p.Follows != nil && p.Follows.Rate != nil {
						d.world.Set(e, p.Follows.Rate, make([]int64, p.Follows.Rate.Type.Width()))
					}
				}
			}
			limit := d.now + time.Minute
			ended := d.tick
			quiet := func() bool {
				for n, f := range d.each {
					// what is throttled follows
					if f.cutAt != 0 || len(f.open) > 0 || d.seats[n].messageCount() > 0 ||
						f.copy.Tick < ended+int64(2*c.TickRate) ||
						f.stalled > d.now {
						return false
					}
				}
				return true
			}
			bell := d.world.Shared(slices.IndexFunc(c.Kinds, func(k *contract.Kind) bool { return k.Name == "Bell" }))
			rings := func() int64 { return bell.Nums[bell.Kind.Property("rung").Slot] }
			still := 0
			before := rings()
			d.quiet = true
			for still < c.TickRate && d.now < limit {
				d.live(false)
				if rings() != before { // by what was still on its way
					before = rings()
					ended = d.tick
				}
				still++
				if !quiet() {
					still = 0
				}
			}
			require.True(t, quiet(), "nothing is quiet after a minute")
			rung := 0
			for n, f := range d.each {
				f.copy.Advance(d.tick)
				d.hold(n, d.copies[n])
				require.Equal(t, fingerprint(d.copies[n]), fingerprint(&f.copy), "client %d once all is quiet", n)
				require.Equal(t, d.told[n], f.heard, "the events of client %d", n)
				require.True(t, slices.IsSorted(f.drifted))
				require.Empty(t, f.open)
				require.EqualValues(t, f.seq, f.accepted, "each request of client %d is accepted, once", n)
				rung += f.accepted
				total["events"] += len(f.heard)
			}
			total["requests"] += rung
			if len(d.fars) == 3+3 { // what one that is gone rang was counted too
				require.EqualValues(t, rung, rings())
			}
			total["clients"] += len(d.fars)
		}()
	}
	t.Logf("%d runs from seed %d: %v", runs, first, total)
	for _, what := range []string{"resumes", "fell behind", "events", "requests"} {
		assert.Greater(t, total[what], runs/2, what)
	}
}

// Package load plays a session with many clients that act by its contract, and measures what they get and how long they
// wait.
//
// Run and RunHostile open the seats, play, and close them; a Report is the caller's own. The package opens no session.
//
// # How it works
//
// Each client acts by package play on its own copy, at times that come from the seed. The time from sending a request
// to its decision is counted, and from each frame's tick to its arrival; after each frame the copy's digest is held
// against the server's. RunHostile sends messages made from the protocol's own grammar with extreme values, and noise.
package load

import (
	"context"
	"crypto/tls"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"kamerad.example/client"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// Options of a load.
type Options struct {
	Service string
	Session int64
	Clients int                                     // 1 to MaxClients
	Role    string                                  // the contract's first one if empty
	For     time.Duration                           // how long they play once all have joined
	Asks    float64                                 // requests a second of each client
	Writes  float64                                 // a second, of each client and property that it may set
	Seed    uint64                                  // of what they pick
	Name    string                                  // what they are called, with a number behind it
	Forge   bool                                    // also what their copies say will be denied
	Ticket  func(name, role string) (string, error) // makes one for each client; nil where none is wanted
	TLS     *tls.Config                             // which certificates are believed; nil for the system's
	OnJoin  func(joined int)
	OnTime  func(played time.Duration)
}

// Bounds of a load.
const (
	MaxClients = 1000
	MaxRate    = 200
)

// Report is what a load measured.
type Report struct {
	Clients   int                  `json:"clients"`
	Seconds   float64              `json:"seconds"`
	Asked     int                  `json:"asked"`
	Written   int                  `json:"written"`
	Kept      int                  `json:"kept_back"` // requests that a client's own copy denied: they were not sent
	Decisions map[wire.Outcome]int `json:"decisions"`
	Reasons   map[string]int       `json:"reasons"` // of what was not accepted
	Frames    int                  `json:"frames"`
	Bytes     int                  `json:"bytes"` // of frames
	Events    int                  `json:"events"`
	Compared  int                  `json:"compared"` // how often a copy was compared with what it should be
	Differed  int                  `json:"differed"` // and was not that
	Out       map[string]int       `json:"out"`      // clients that did not play to the end, by reason
	Delay     Delays               `json:"decision_ms"`
	Ticks     float64              `json:"tick_ms"` // how long a tick is
}

// Delays are times in milliseconds.
type Delays struct {
	Count int     `json:"count"`
	P50   float64 `json:"p50"`
	P95   float64 `json:"p95"`
	P99   float64 `json:"p99"`
	Most  float64 `json:"most"`
}

// delays returns the percentiles of some delays, which it sorts.
func delays(list []time.Duration) Delays {
	slices.Sort(list)
	at := func(part float64) float64 {
		if len(list) == 0 {
			return 0
		}
		return float64(list[min(len(list)-1, int(part*float64(len(list))))].Microseconds()) / 1000
	}
	return Delays{len(list), at(0.5), at(0.95), at(0.99), at(1)}
}

// tally is what the clients add up together.
type tally struct {
	mu     sync.Mutex
	report Report
	delays []time.Duration
}

// add changes the report, which all clients share.
func (t *tally) add(f func(r *Report)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f(&t.report)
}

// Run joins the clients, lets them play, and takes them out again. The error says what is wrong with the options or
// kept a client from joining.
func Run(ctx context.Context, o Options) (*Report, error) {
	if err := o.check(); err != nil {
		return nil, err
	}
	t := &tally{report: Report{
		Clients:   o.Clients,
		Decisions: map[wire.Outcome]int{},
		Reasons:   map[string]int{},
		Out:       map[string]int{},
	}}
	players, err := joinAll(ctx, o, t)
	defer func() {
		for _, p := range players {
			p.Close()
		}
	}()
	if err != nil {
		return nil, err
	}
	t.add(func(r *Report) { // what came while they joined is no part of it
		r.Frames = 0
		r.Bytes = 0
		r.Events = 0
		r.Ticks = 1000 / float64(players[0].Outline().Tick)
	})
	timed, cancel := context.WithTimeout(ctx, o.For)
	defer cancel()
	began := time.Now()
	var wait sync.WaitGroup
	for i, p := range players {
		wait.Go(func() { one(timed, p, o, rand.New(rand.NewPCG(o.Seed, uint64(i))), t) })
	}
	if o.OnTime != nil {
		ticker := time.NewTicker(200 * time.Millisecond)
		defer ticker.Stop()
		for timed.Err() == nil {
			select {
			case <-ticker.C:
				o.OnTime(time.Since(began))
			case <-timed.Done():
			}
		}
	}
	wait.Wait()
	t.mu.Lock()
	defer t.mu.Unlock()
	out := t.report
	out.Seconds = time.Since(began).Seconds()
	out.Delay = delays(t.delays)
	return &out, ctx.Err()
}

// check returns an error when an option is out of its range.
func (o Options) check() error {
	switch {
	case o.Clients < 1 || o.Clients > MaxClients:
		return fmt.Errorf("load session %d with %d clients: from 1 to %d", o.Session, o.Clients, MaxClients)
	case o.For <= 0:
		return fmt.Errorf("load session %d for %s: it has to last some time", o.Session, o.For)
	case !(o.Asks >= 0 && o.Asks <= MaxRate && o.Writes >= 0 && o.Writes <= MaxRate):
		return fmt.Errorf(
			"load session %d with %g requests and %g writes a second: each from 0 to %d", o.Session, o.Asks, o.Writes,
			MaxRate,
		)
	}
	return nil
}

// joinAll joins the clients one after the other. The error names the first one that gets no seat; those before it are
// returned all the same.
func joinAll(ctx context.Context, o Options, t *tally) (players []*client.Client, err error) {
	for i := range o.Clients {
		name := fmt.Sprintf("%s %d", o.Name, i+1)
		ticket := ""
		if o.Ticket != nil {
			ticket, err = o.Ticket(name, o.Role)
			if err != nil {
				return players, err
			}
		}
		p, err := client.Join(ctx, o.Service, o.Session, name, o.Role, client.Options{
			Ticket: ticket,
			TLS:    o.TLS,
			OnRaw:  func(m []byte) { t.add(func(r *Report) { r.Frames++; r.Bytes += len(m) }) },
			OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
				t.add(func(r *Report) {
					r.Events += len(f.Events)
					if f.Digest != nil {
						r.Compared++
					}
				})
			},
			OnDiffer: func(int64) { t.add(func(r *Report) { r.Differed++ }) },
		})
		if err != nil {
			return players, fmt.Errorf("load session %d: client %d: %w", o.Session, i+1, err)
		}
		players = append(players, p)
		if o.OnJoin != nil {
			o.OnJoin(i + 1)
		}
	}
	return players, nil
}

// one lets a client act until ctx ends.
func one(ctx context.Context, p *client.Client, o Options, r *rand.Rand, t *tally) {
	asker := play.NewActor(p, r)
	dice := rand.New(rand.NewPCG(r.Uint64(), 1))
	writer := play.NewActor(p, dice)
	var wait sync.WaitGroup
	wait.Go(func() {
		every(ctx, p, o.Writes, dice, func() {
			if property, value := writer.Step(); property != "" {
				if _, err := p.Write(0, property, value); err == nil {
					t.add(func(r *Report) { r.Written++ })
				}
			}
		})
	})
	every(ctx, p, o.Asks, r, func() { askOnce(ctx, p, o, asker, t) })
	wait.Wait()
	select {
	case <-p.Ended():
		t.add(func(r *Report) { r.Out[p.Reason()]++ })
	default:
	}
}

// every calls f so many times a second, beginning at a random moment, until the client or ctx ends.
func every(ctx context.Context, p *client.Client, rate float64, r *rand.Rand, f func()) {
	if rate == 0 {
		return
	}
	period := time.Duration(float64(time.Second) / rate)
	timer := time.NewTimer(time.Duration(r.Float64() * float64(period))) // not all at once
	defer timer.Stop()
	for {
		select {
		case <-timer.C:
			timer.Reset(period)
			f()
		case <-p.Ended():
			return
		case <-ctx.Done():
			return
		}
	}
}

// askOnce sends one request that the contract has, and notes what was decided and how long that took.
func askOnce(ctx context.Context, p *client.Client, o Options, asker *play.Actor, t *tally) {
	entity, request, args := asker.Pick()
	if request == "" {
		return
	}
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	asked := time.Now()
	ask := p.Ask
	if o.Forge {
		ask = p.Forge
	}
	d, err := ask(limited, entity, request, args...)
	if err != nil {
		return // it ended
	}
	waited := time.Since(asked)
	t.mu.Lock()
	defer t.mu.Unlock()
	if d.Seq == 0 { // a check that the client knows kept it from being sent
		t.report.Kept++
		return
	}
	t.report.Asked++
	t.report.Decisions[d.Outcome]++
	if d.Outcome != wire.Accepted {
		t.report.Reasons[d.Reason]++
	}
	t.delays = append(t.delays, waited)
}

// Package load plays a session with many clients that act by its contract, and measures what they get and how long they wait.
package load

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"kamerad/client"
	"kamerad/core/contract"
	"kamerad/core/replicate"
	"kamerad/core/wire"
)

// Options of a load.
type Options struct {
	Service string
	Session int64
	Clients int           // 1 to MaxClients
	Role    string        // the contract's first one if empty
	For     time.Duration // how long they play once all have joined
	Asks    float64       // requests a second of each client
	Writes  float64       // a second, of each client and property that it may set
	Seed    uint64        // of what they pick
	Name    string        // what they are called, with a number behind it
	Forge   bool          // also what their copies say will be denied
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
	Differed  int                  `json:"differed"` // copies that were not what they should be
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

func (t *tally) add(f func(r *Report)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f(&t.report)
}

// Run joins the clients, lets them play, and takes them out again. The error says what is wrong with the options or kept a client from
// joining.
func Run(ctx context.Context, o Options) (*Report, error) {
	switch {
	case o.Clients < 1 || o.Clients > MaxClients:
		return nil, fmt.Errorf("load session %d with %d clients: from 1 to %d", o.Session, o.Clients, MaxClients)
	case o.For <= 0:
		return nil, fmt.Errorf("load session %d for %s: it has to last some time", o.Session, o.For)
	case !(o.Asks >= 0 && o.Asks <= MaxRate && o.Writes >= 0 && o.Writes <= MaxRate):
		return nil, fmt.Errorf("load session %d with %g requests and %g writes a second: each from 0 to %d", o.Session, o.Asks, o.Writes, MaxRate)
	}
	t := &tally{report: Report{Clients: o.Clients, Decisions: map[wire.Outcome]int{}, Reasons: map[string]int{}, Out: map[string]int{}}}
	var players []*client.Client
	defer func() {
		for _, p := range players {
			p.Close()
		}
	}()
	for i := range o.Clients {
		p, err := client.Join(ctx, o.Service, o.Session, fmt.Sprintf("%s %d", o.Name, i+1), o.Role, client.Options{
			OnRaw: func(m []byte) { t.add(func(r *Report) { r.Frames++; r.Bytes += len(m) }) },
			OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
				if len(f.Events) > 0 {
					t.add(func(r *Report) { r.Events += len(f.Events) })
				}
			},
			OnDiffer: func(int64) { t.add(func(r *Report) { r.Differed++ }) },
		})
		if err != nil {
			return nil, fmt.Errorf("load session %d: client %d: %w", o.Session, i+1, err)
		}
		players = append(players, p)
		if o.OnJoin != nil {
			o.OnJoin(i + 1)
		}
	}
	t.add(func(r *Report) { // what came while they joined is no part of it
		r.Frames, r.Bytes, r.Events = 0, 0, 0
		r.Ticks = 1000 / float64(players[0].Outline().Tick)
	})
	timed, cancel := context.WithTimeout(ctx, o.For)
	defer cancel()
	began := time.Now()
	var wait sync.WaitGroup
	for i, p := range players {
		wait.Add(1)
		go func() {
			defer wait.Done()
			play(timed, p, o, rand.New(rand.NewPCG(o.Seed, uint64(i))), t)
		}()
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
	out.Seconds, out.Delay = time.Since(began).Seconds(), delays(t.delays)
	return &out, ctx.Err()
}

// play lets one client act until ctx ends.
func play(ctx context.Context, p *client.Client, o Options, r *rand.Rand, t *tally) {
	asker := NewActor(p, r)
	every := func(rate float64, r *rand.Rand, f func()) {
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
				t.add(func(r *Report) { r.Out[p.Reason()]++ })
				return
			case <-ctx.Done():
				return
			}
		}
	}
	var wait sync.WaitGroup
	wait.Add(1)
	writer := NewActor(p, rand.New(rand.NewPCG(r.Uint64(), 1)))
	go func() {
		defer wait.Done()
		every(o.Writes, writer.random, func() {
			if property, value := writer.Step(); property != "" {
				if _, err := p.Write(0, property, value); err == nil {
					t.add(func(r *Report) { r.Written++ })
				}
			}
		})
	}()
	every(o.Asks, r, func() {
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
		if d.Seq == 0 {
			t.report.Kept++
			return
		}
		t.report.Asked++
		t.report.Decisions[d.Outcome]++
		if d.Outcome != wire.Accepted {
			t.report.Reasons[d.Reason]++
		}
		t.delays = append(t.delays, waited)
	})
	wait.Wait()
}

// Player is what an Actor looks through: a client's seat with what it holds, such as a client.Client.
type Player interface {
	Outline() *contract.Outline
	Me() wire.Client
	Look(f func(*replicate.Copy))
}

// Actor picks what a client does next from what it holds.
type Actor struct {
	player Player
	random *rand.Rand
}

// NewActor makes an actor. The same dice give the same choices where the player holds the same.
func NewActor(p Player, r *rand.Rand) *Actor { return &Actor{p, r} }

// mine tells whether a role or an owner may send a request.
func mine(from, role string) bool {
	return from == "owner" || strings.Contains(from, "everyone") || strings.Contains(from, role)
}

// Pick chooses a request that the client may send, on an entity that it knows, with arguments of the right types.
func (a *Actor) Pick() (entity uint32, request string, args []json.RawMessage) {
	o, me := a.player.Outline(), a.player.Me()
	a.player.Look(func(c *replicate.Copy) {
		for range 20 {
			k := &o.Kinds[a.random.IntN(len(o.Kinds))]
			if len(k.Requests) == 0 {
				continue
			}
			r := &k.Requests[a.random.IntN(len(k.Requests))]
			if !mine(r.From, me.Role) {
				continue
			}
			var of []*replicate.Thing
			for _, t := range c.Things() {
				if t.Kind == k.Name && (r.From != "owner" || t.Owner == me.Number) {
					of = append(of, t)
				}
			}
			if len(of) == 0 {
				continue
			}
			entity, request, args = of[a.random.IntN(len(of))].Entity, k.Name+"."+r.Name, nil
			for _, p := range r.Params {
				args = append(args, p.Type.AppendJSON(nil, a.value(c, p.Type)))
			}
			return
		}
	})
	return entity, request, args
}

// value picks a value of a type: what refers to something refers to what is there, and a place is mostly one that something has.
func (a *Actor) value(c *replicate.Copy, t *contract.Type) contract.Value {
	r := a.random
	number := func() int64 {
		if span := uint64(t.High) - uint64(t.Low); span < math.MaxInt64 {
			return t.Low + r.Int64N(int64(span)+1)
		}
		return t.Low
	}
	switch t.Form {
	case contract.FormBool:
		return contract.Value{Num: r.Int64N(2)}
	case contract.FormInt, contract.FormReal, contract.FormDirection:
		return contract.Value{Num: number()}
	case contract.FormEnum:
		return contract.Value{Num: r.Int64N(int64(len(t.Enum.Values)))}
	case contract.FormKind:
		return contract.Value{Num: r.Int64N(int64(len(t.Names)))}
	case contract.FormClient:
		return contract.Value{Num: int64(c.Clients[r.IntN(len(c.Clients))].Number)}
	case contract.FormEntity:
		var of []int64
		for _, x := range c.Things() {
			if slices.Contains(t.Names, x.Kind) {
				of = append(of, int64(x.Entity))
			}
		}
		if len(of) > 0 {
			return contract.Value{Num: of[r.IntN(len(of))]}
		}
		return contract.Value{}
	case contract.FormText:
		return contract.Value{Text: "a"[:min(1, t.Max)]}
	case contract.FormVec2, contract.FormVec3:
		for _, x := range c.Things() {
			for _, f := range x.Fields {
				if x.Owner == c.Me && f.Type.Form == t.Form && f.Type.Per == t.Per && f.Type.Unit == t.Unit && r.IntN(4) > 0 {
					return f.Value
				}
			}
		}
		fallthrough
	case contract.FormRotation:
		var v contract.Value
		for i := range t.Reals() {
			n := number()
			if t.Form == contract.FormRotation { // none
				n = map[bool]int64{true: t.High, false: 0}[i == 3]
			}
			v.Parts = append(v.Parts, contract.Value{Num: n})
		}
		return v
	case contract.FormRecord:
		var v contract.Value
		for _, p := range t.Parts {
			v.Parts = append(v.Parts, a.value(c, p.Type))
		}
		return v
	}
	return contract.Value{} // an empty list, stacks or map
}

// Step picks a property that the client sets itself, and a value not far from the one that it has.
func (a *Actor) Step() (property string, value json.RawMessage) {
	o, me := a.player.Outline(), a.player.Me()
	a.player.Look(func(c *replicate.Copy) {
		for _, k := range o.Kinds {
			t := c.Own(k.Name, me.Number)
			if t == nil {
				continue
			}
			for _, p := range k.Properties {
				f, has := t.Field(p.Name)
				if p.SetBy != "owner" || !has {
					continue
				}
				v := contract.Value{Num: f.Value.Num, Text: f.Value.Text, Parts: slices.Clone(f.Value.Parts)}
				near := func(n int64) int64 { return min(max(n+a.random.Int64N(21)-10, p.Type.Low), p.Type.High) }
				switch {
				case len(v.Parts) > 0 && p.Type.Reals() > 0:
					for i := range v.Parts {
						v.Parts[i].Num = near(v.Parts[i].Num)
					}
				case p.Type.Form == contract.FormInt || p.Type.Form == contract.FormReal:
					v.Num = near(v.Num)
				}
				property, value = k.Name+"."+p.Name, p.Type.AppendJSON(nil, v)
				return
			}
		}
	})
	return property, value
}

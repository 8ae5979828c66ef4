// Command physics is the logic process of hold.kam: it moves the crates as rigid bodies, by what divers shove, and
// tells the session where they are. The session checks what it writes like what any client does.
//
//	go run ./examples/hold/physics --session 1
//
// A service that wants tickets is given one for the role logic: `kamerad ticket --session 1 --player physics --name
// Physics --role logic --key backend.jwk >physics.ticket`.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/client"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// askWithin is how long a decision may take to come.
const askWithin = 5 * time.Second

// maxWrites is how many writes are remembered until they are known not to be refused.
const maxWrites = 4096

// physics moves the crates of one session. The goroutine that reads its frames owns it, but for the client.
type physics struct {
	client  *client.Client
	ready   chan struct{} // closed when the client is there
	water   *water
	tick    float64           // seconds that one takes
	last    int64             // the tick that was computed last
	writes  map[uint64]uint32 // which crate was written, by the numbers of the last writes
	stowing map[uint32]bool   // crates that are asked to be stowed
	decided chan uint32       // crates for which that is decided
	hatch   float64
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	command := &cli.Command{
		Name:  "physics",
		Usage: "move the crates of a session of hold.kam",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "service", Usage: "the service's `URL`", Value: "http://127.0.0.1:7707"},
			&cli.Int64Flag{Name: "session", Usage: "the session's `NUMBER`", Required: true},
			&cli.StringFlag{Name: "ticket", Usage: "a `FILE` with a ticket for the role logic"},
		},
		Action: run,
	}
	if err := command.Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "physics:", err)
		os.Exit(1)
	}
}

// run plays until ctx ends, or the session does.
func run(ctx context.Context, c *cli.Command) error {
	p := &physics{
		ready:   make(chan struct{}),
		writes:  map[uint64]uint32{},
		stowing: map[uint32]bool{},
		decided: make(chan uint32, 64),
	}
	o := client.Options{OnFrame: p.frame}
	if file := c.String("ticket"); file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("read the ticket: %w", err)
		}
		o.Ticket = strings.TrimSpace(string(raw))
	}
	joined, err := client.Join(ctx, c.String("service"), c.Int64("session"), "Physics", contract.LogicRole, o)
	if err != nil {
		return fmt.Errorf("join as the logic process: %w", err)
	}
	defer joined.Close()
	p.client = joined
	p.tick = 1 / float64(joined.Outline().Tick)
	p.water = newWater(p.public("floor"))
	p.hatch = p.public("hatch")
	close(p.ready)
	fmt.Printf("moving the crates of session %d\n", c.Int64("session"))
	select {
	case <-ctx.Done():
		return nil
	case <-joined.Ended():
		return errors.New(joined.Reason())
	}
}

// public returns a public constant of the contract.
func (p *physics) public(name string) float64 {
	v, t, err := p.client.Public(name)
	if err != nil {
		panic(err) // the outline of another contract
	}
	return t.Real(v.Num)
}

// frame computes a tick, once the copy is brought to it. The client confirms the tick afterwards, so that the session
// hears of it when this hangs.
func (p *physics) frame(f *wire.Frame, _ []replicate.Notice) {
	<-p.ready
	p.client.Look(p.follow)
	for len(p.decided) > 0 {
		delete(p.stowing, <-p.decided)
	}
	for _, e := range f.Events {
		if e.Event == "Crate.shoved" {
			force := vector(e.Fields[1])
			p.water.shove(e.Entity, force[0], force[1])
		}
	}
	for _, d := range f.Decisions {
		if d.Outcome == wire.Denied {
			p.putBack(p.writes[d.Seq])
		}
	}
	if p.last > 0 {
		ticks := min(f.Tick-p.last, 5) // it was away: what happened meanwhile did not
		p.water.step(float64(ticks) * p.tick)
	}
	p.last = f.Tick
	p.tell()
}

// follow takes in crates that have come, and takes out those that are gone.
func (p *physics) follow(copied *replicate.Copy) {
	there := map[uint32]bool{}
	for _, e := range copied.Entities() {
		if e.Kind != "Crate" {
			continue
		}
		there[e.Number] = true
		if p.water.crates[e.Number] == nil {
			p.water.put(e.Number, placeOf(e))
		}
	}
	for number := range p.water.crates {
		if !there[number] {
			p.water.remove(number)
			delete(p.stowing, number)
		}
	}
}

// putBack puts a crate where the server has it, which has refused what was written.
func (p *physics) putBack(number uint32) {
	p.client.Look(func(copied *replicate.Copy) {
		if e := copied.Entity(number); e != nil {
			p.water.put(number, placeOf(e))
		}
	})
}

// tell writes where crates are that have moved, and asks for those on the hatch to be stowed.
func (p *physics) tell() {
	p.water.moved(func(number uint32, at placed) {
		for property, value := range map[string]any{
			"Crate.pos":  [2]float64{at.x, at.y},
			"Crate.turn": at.turn,
		} {
			raw, err := json.Marshal(value)
			if err != nil {
				panic(err) // numbers
			}
			seq, err := p.client.Write(number, property, raw)
			if err == nil {
				p.writes[seq] = number
				delete(p.writes, seq-maxWrites)
			}
		}
		if at.x > p.hatch && !p.stowing[number] {
			p.stowing[number] = true
			go p.stow(number)
		}
	})
}

// stow asks for a crate to be stowed. Whether it was, the copy shows; if not, it is asked again.
func (p *physics) stow(number uint32) {
	ctx, cancel := context.WithTimeout(context.Background(), askWithin)
	defer cancel()
	_, _ = p.client.Ask(ctx, 0, "Hold.stow", json.RawMessage(fmt.Sprint(number)))
	p.decided <- number
}

// placeOf returns where a crate is in a copy.
func placeOf(e *replicate.Entity) placed {
	pos, _ := e.Field("pos")
	turn, _ := e.Field("turn")
	at := vector(pos)
	return placed{at[0], at[1], turn.Type.Real(turn.Value.Num)}
}

// vector returns the numbers of a vector.
func vector(f wire.Field) [2]float64 {
	return [2]float64{f.Type.Real(f.Value.Parts[0].Num), f.Type.Real(f.Value.Parts[1].Num)}
}

package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad/client"
	"kamerad/core/contract"
	"kamerad/core/replicate"
	"kamerad/core/wire"
)

func seatFlags() []cli.Flag {
	return []cli.Flag{
		serviceFlag(), jsonFlag(),
		&cli.StringFlag{Name: "as", Usage: "the client's `NAME`", Value: "Dov"},
		&cli.StringFlag{Name: "role", Usage: "the client's `ROLE`; the contract's first one if not given"},
	}
}

func askCommand() *cli.Command {
	return &cli.Command{
		Name: "ask", Usage: "join, send one request, print its decision and leave", Flags: append(seatFlags(),
			&cli.DurationFlag{Name: "timeout", Usage: "longest `TIME` to wait for the decision", Value: 10 * time.Second}),
		ArgsUsage: "SESSION REQUEST [VALUE …]",
		Description: "REQUEST is Kind.request for one's own or a shared entity, or Name.Kind.request for another client's.\n" +
			"Values are sent as they stand, so a forged request can be tried too. Exit status 1 unless it was accepted.",
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := words(c, "SESSION REQUEST [VALUE …]", 2, -1)
			if err != nil {
				return err
			}
			id, err := sessionArg(args[0])
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(ctx, c.Duration("timeout"))
			defer cancel()
			first := make(chan struct{})
			var once sync.Once
			me, err := client.Join(ctx, c.String("service"), id, c.String("as"), c.String("role"), client.Options{
				OnFrame: func(*wire.Frame, []replicate.Notice) { once.Do(func() { close(first) }) },
			})
			if err != nil {
				return err
			}
			defer me.Close()
			select { // another client's entity is known from the first frame on
			case <-first:
			case <-me.Ended():
				return fmt.Errorf("ask: %s", me.Reason())
			case <-ctx.Done():
				return fmt.Errorf("ask: the session sends nothing; is it paused? `kamerad session step %d` runs a tick", id)
			}
			entity, name, values, err := resolve(me, args[1:])
			if err != nil {
				return err
			}
			d, err := me.Forge(ctx, entity, name, values...)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				err = printJSON(c.Root().Writer, d)
			} else {
				fmt.Println(verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
			}
			if err == nil && d.Outcome != wire.Accepted {
				err = errFound
			}
			return err
		},
	}
}

// resolve reads `[Name.][Kind.]request VALUE …` against what a client knows. What the outline does not have is sent as it
// stands: the server has to refuse it.
func resolve(me *client.Client, args []string) (entity uint32, name string, values []json.RawMessage, err error) {
	parts := strings.Split(args[0], ".")
	name = args[0]
	o := me.Outline()
	var owner string
	switch len(parts) {
	case 1:
		for _, k := range o.Kinds {
			if k.Request(parts[0]) != nil {
				name = k.Name + "." + parts[0]
			}
		}
	case 3:
		owner, name = parts[0], parts[1]+"."+parts[2]
	}
	kind, request, _ := strings.Cut(name, ".")
	var params []contract.Param
	if k := o.Kind(kind); k != nil {
		if r := k.Request(request); r != nil {
			params = r.Params
		}
	}
	for i, word := range args[1:] {
		if i < len(params) {
			values = append(values, params[i].Type.Word(word))
		} else {
			values = append(values, contract.RawWord(word))
		}
	}
	if owner == "" {
		return 0, name, values, nil
	}
	me.Look(func(held *replicate.Copy) {
		var known []string
		for _, c := range held.Clients {
			known = append(known, c.Name)
			if c.Name == owner {
				if t := held.Own(kind, c.Number); t != nil {
					entity = t.Entity
				}
			}
		}
		if entity == 0 {
			err = fmt.Errorf("ask: %s has no %s that this client knows of; here are %s", owner, kind, join(known))
		}
	})
	return entity, name, values, err
}

func joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "play as a client in the terminal", ArgsUsage: "SESSION", Flags: seatFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := words(c, "SESSION", 1, 1)
			if err != nil {
				return err
			}
			id, err := sessionArg(args[0])
			if err != nil {
				return err
			}
			p := newPlayer(c.Bool("json"))
			o := client.Options{OnFrame: p.frame}
			if p.json {
				o = client.Options{OnRaw: p.raw, JSON: true}
			}
			if !p.json {
				p.hold.Lock() // nothing is printed before the greeting
			}
			p.me, err = client.Join(ctx, c.String("service"), id, c.String("as"), c.String("role"), o)
			if err != nil {
				return err
			}
			if !p.json {
				p.greet()
			}
			return p.play(ctx)
		},
	}
}

// player is the interactive client.
type player struct {
	hold sync.Mutex    // one line at a time
	seen chan struct{} // closed with the first frame
	came bool          // it has
	me   *client.Client
	json bool

	writes map[uint64]string // what was written, by the number that a refusal carries
	held   map[string]func() // what ends each hold
}

func newPlayer(json bool) *player {
	return &player{json: json, seen: make(chan struct{}), writes: map[uint64]string{}, held: map[string]func(){}}
}

// greet says who one is, and lets what came be printed.
func (p *player) greet() {
	me := p.me.Me()
	fmt.Printf("You are %s %s, client %d, role %s. Type a request, `see`, `help` or `quit`.\n", mark(me.Number), me.Name, me.Number, me.Role)
	p.hold.Unlock()
}

func (p *player) raw(message []byte) {
	p.hold.Lock()
	defer p.hold.Unlock()
	fmt.Println(string(message))
}

// frame prints what a frame brought.
func (p *player) frame(f *wire.Frame, notices []replicate.Notice) {
	p.hold.Lock()
	defer p.hold.Unlock()
	first := !p.came
	if p.came = true; first {
		p.see()
		close(p.seen)
	}
	for _, n := range notices {
		switch {
		case first:
		case n.What == replicate.Changed && p.moves(n.Thing.Kind, n.Field.Name): // it would fill the screen
		case n.What == replicate.Changed && n.Old != nil:
			fmt.Printf("  %s.%s  %s → %s\n", p.name(n.Thing), n.Field.Name, n.Field.Type.Format(*n.Old), bold.Sprint(n.Field.Type.Format(n.Field.Value)))
		case n.What == replicate.Changed:
			fmt.Printf("  %s.%s  %s\n", p.name(n.Thing), n.Field.Name, n.Field.Type.Format(n.Field.Value))
		case n.What == replicate.Joined || n.What == replicate.Left:
			fmt.Println(note.Sprintf("  %s %s as %s", shown(n.Client.Name), n.What, n.Client.Role))
		case n.What == replicate.Spawned:
			fmt.Println(note.Sprintf("  %s is there", p.name(n.Thing)))
		case n.What == replicate.Given:
			fmt.Println(note.Sprintf("  %s has another owner", p.name(n.Thing)))
		case n.What == replicate.Mine:
			fmt.Println(note.Sprintf("  %s is yours", p.name(n.Thing)))
		case n.What == replicate.Lost:
			fmt.Printf("  %s.%s  withdrawn\n", p.name(n.Thing), n.Field.Name)
		case n.What == replicate.Gone:
			fmt.Println(note.Sprintf("  %s is gone", p.name(n.Thing)))
		}
	}
	for _, e := range f.Events {
		var values []string
		for _, v := range e.Fields {
			values = append(values, v.Name+" "+v.Type.Format(v.Value))
		}
		whose := ""
		p.me.Look(func(held *replicate.Copy) {
			if t := held.Thing(e.Entity); t != nil {
				whose = " of " + p.nameIn(held, t)
			}
		})
		fmt.Println(note.Sprintf("  event %s%s: %s", e.Event, whose, strings.Join(values, ", ")))
	}
	for _, d := range f.Decisions {
		if what := p.writes[d.Seq]; what != "" {
			fmt.Println(what, verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
		}
	}
	for _, line := range f.Logs {
		fmt.Println(note.Sprint("  log ", shown(line)))
	}
}

// moves tells whether a property moves by itself.
func (p *player) moves(kind, property string) bool {
	k := p.me.Outline().Kind(kind)
	if k == nil {
		return false
	}
	q := k.Property(property)
	return q != nil && q.Follows != ""
}

func (p *player) name(t *replicate.Thing) (out string) {
	p.me.Look(func(held *replicate.Copy) { out = p.nameIn(held, t) })
	return out
}

func (p *player) nameIn(held *replicate.Copy, t *replicate.Thing) string {
	return nameOf(held.Clients, t)
}

// nameOf words an entity as its owner's, or by its kind.
func nameOf(clients []wire.Client, t *replicate.Thing) string {
	for _, c := range clients {
		if c.Number == t.Owner {
			return c.Name + "." + t.Kind
		}
	}
	if t.Owner != 0 {
		return fmt.Sprintf("%d.%s", t.Owner, t.Kind)
	}
	return t.Kind
}

// see prints all that the client holds.
func (p *player) see() {
	t := sheet("Entity", "Property", "Value")
	p.me.Look(func(held *replicate.Copy) {
		for _, thing := range held.Things() {
			for i, f := range thing.Fields {
				name := ""
				if i == 0 {
					name = p.nameIn(held, thing)
				}
				t.AppendRow([]any{bold.Sprint(name), f.Name, f.Type.Format(f.Value)})
			}
		}
	})
	show(os.Stdout, t)
}

func (p *player) help() {
	fmt.Println("see    all that you hold\nquit   give the seat up\nRequests (put `Name.` before one to try it on another's):")
	for _, k := range p.me.Outline().Kinds {
		for _, r := range k.Requests {
			var names []string
			for _, x := range r.Params {
				names = append(names, x.Name)
			}
			fmt.Printf("  %s.%s %s %s\n", k.Name, r.Name, strings.Join(names, " "), muted.Sprintf("from %s", r.From))
		}
		for _, x := range k.Properties {
			switch {
			case x.LeaseMs > 0:
				fmt.Printf("  hold %s.%s, release %s.%s\n", k.Name, x.Name, k.Name, x.Name)
			case x.SetBy != "":
				fmt.Printf("  write %s.%s %s %s\n", k.Name, x.Name, x.Type, muted.Sprintf("by %s", x.SetBy))
			}
		}
	}
}

// move writes a property, or begins or ends a hold: `write Diver.pos [1,2]`, `hold Diver.kick`, `release Diver.kick`.
func (p *player) move(args []string) error {
	switch {
	case args[0] == "write" && len(args) == 3:
		seq, err := p.me.Write(0, args[1], contract.RawWord(args[2]))
		if err == nil {
			p.writes[seq] = "write " + args[1]
		}
		return err
	case args[0] == "hold" && len(args) == 2:
		release, err := p.me.Hold(0, args[1])
		if err == nil {
			p.held[args[1]] = release
		}
		return err
	case args[0] == "release" && len(args) == 2:
		if release := p.held[args[1]]; release != nil {
			release()
			delete(p.held, args[1])
			return nil
		}
		return fmt.Errorf("release %s: it is not held", args[1])
	}
	return fmt.Errorf("%s: write PROPERTY VALUE, hold NAME or release NAME, as in `write Diver.pos [1,2]`", args[0])
}

func (p *player) play(ctx context.Context) error {
	lines := make(chan string)
	go func() {
		defer close(lines)
		if !p.json {
			select { // a line typed ahead waits until there is something to see
			case <-p.seen:
			case <-p.me.Ended():
				return
			}
		}
		in := bufio.NewScanner(os.Stdin)
		for in.Scan() {
			select {
			case lines <- strings.TrimSpace(in.Text()):
			case <-p.me.Ended():
				return
			}
		}
	}()
	for {
		select {
		case <-ctx.Done():
			p.me.Close()
			return nil
		case <-p.me.Ended():
			fmt.Printf("The session has ended for you: %s\n", shown(p.me.Reason()))
			return errFound
		case line, more := <-lines:
			if !more || line == "quit" {
				p.me.Close()
				return nil
			}
			p.line(ctx, line)
		}
	}
}

func (p *player) line(ctx context.Context, line string) {
	args := strings.Fields(line)
	if len(args) == 0 {
		return
	}
	switch args[0] {
	case "see", "help":
		p.hold.Lock()
		defer p.hold.Unlock()
		if args[0] == "see" {
			p.see()
		} else {
			p.help()
		}
		return
	case "write", "hold", "release":
		p.hold.Lock()
		defer p.hold.Unlock()
		if err := p.move(args); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
		return
	}
	entity, name, values, err := resolve(p.me, args)
	if err == nil {
		limited, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		var d wire.Decision
		if d, err = p.me.Forge(limited, entity, name, values...); err == nil && !p.json {
			p.hold.Lock()
			defer p.hold.Unlock()
			fmt.Println(verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
}

// Package player plays as a client in the terminal: the commands join and ask, and the host of `serve`.
//
// A Player joins a session, prints what its client comes to know, and reads what to do from lines that somebody types.
// Names of entities are those that `see` lists. It holds no more of the world than the client's copy, and prints what a
// program would be told too.
package player

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

	"kamerad.example/client"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// seatFlags are the flags of whatever takes a seat.
func seatFlags() []cli.Flag {
	return []cli.Flag{
		terminal.ServiceFlag(), terminal.JSONFlag(),
		terminal.TicketFlag(), terminal.CAFlag(),
		&cli.StringFlag{Name: "as", Usage: "the client's `NAME`; that of the ticket if there is one", Value: "Dov"},
		&cli.StringFlag{Name: "role", Usage: "the client's `ROLE`; the contract's first one if not given"},
	}
}

// AskCommand is `kamerad ask`.
func AskCommand() *cli.Command {
	return &cli.Command{
		Name: "ask", Usage: "join, send one request, print its decision and leave", Flags: append(seatFlags(),
			&cli.DurationFlag{
				Name:  "timeout",
				Usage: "longest `TIME` to wait for the decision",
				Value: 10 * time.Second,
			}),
		ArgsUsage: "SESSION REQUEST [VALUE …]",
		Description: "REQUEST is Kind.request for one's own or a shared entity, Name.Kind.request for another " +
			"client's, or Kind[2].request or\n" +
			"#123.request for any that `see` lists in `kamerad join`. Such a name is also a value where an entity " +
			"is wanted, and a client's\n" +
			"name where a client is. Values are sent as they stand, so a forged request can be tried too. Exit " +
			"status 1 unless it was accepted.",
		Action: askOnce,
	}
}

// askOnce joins a session, sends one request, prints its decision and leaves.
func askOnce(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "SESSION REQUEST [VALUE …]", 2, -1)
	if err != nil {
		return err
	}
	id, err := terminal.SessionArg(args[0])
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, c.Duration("timeout"))
	defer cancel()
	first := make(chan struct{})
	var once sync.Once
	me, err := join(ctx, c, id, client.Options{
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
		return fmt.Errorf(
			"ask: the session sends nothing; is it paused? `kamerad session step %d` runs a tick", id,
		)
	}
	to, values, err := request(me, typed(args[1:]))
	if err != nil {
		return fmt.Errorf("ask: %w", err)
	}
	d, err := me.Forge(ctx, to.entity, to.name, values...)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = terminal.PrintJSON(c.Root().Writer, d)
	} else {
		fmt.Println(terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
	}
	if err == nil && d.Outcome != wire.Accepted {
		err = terminal.ErrFound
	}
	return err
}

// join takes the seat that a command asks for, with its ticket if it has one.
func join(ctx context.Context, c *cli.Command, session int64, o client.Options) (*client.Client, error) {
	var err error
	o.Ticket, err = terminal.Ticket(c)
	if err != nil {
		return nil, err
	}
	o.TLS, err = terminal.Believed(c)
	if err != nil {
		return nil, err
	}
	name := c.String("as")
	if o.Ticket != "" && !c.IsSet("as") {
		name = "" // the ticket has it
	}
	return client.Join(ctx, c.String("service"), session, name, c.String("role"), o)
}

// arrive joins the session to which a client was sent.
func arrive(
	ctx context.Context, c *cli.Command, name string, to client.Arrival, o client.Options,
) (*client.Client, error) {
	var err error
	o.TLS, err = terminal.Believed(c)
	if err != nil {
		return nil, err
	}
	o.Ticket = to.Ticket
	return client.Join(ctx, c.String("service"), to.Session, name, "", o)
}

// request reads `[ENTITY.]request VALUE …` against what a client knows.
func request(me *client.Client, words []word) (to addressed, values []json.RawMessage, err error) {
	to, err = address(
		me, words[0].text, func(k *contract.KindOutline, name string) bool { return k.Request(name) != nil },
	)
	if err != nil {
		return to, nil, err
	}
	kind, name, _ := strings.Cut(to.name, ".")
	var params []contract.Param
	if k := me.Outline().Kind(kind); k != nil {
		if r := k.Request(name); r != nil {
			params = r.Params
		}
	}
	for i, w := range words[1:] {
		var t *contract.Type
		if i < len(params) {
			t = params[i].Type
		}
		v, err := value(me, t, w)
		if err != nil {
			return to, nil, err
		}
		values = append(values, v)
	}
	return to, values, nil
}

// JoinCommand is `kamerad join`.
func JoinCommand() *cli.Command {
	return &cli.Command{
		Name:      "join",
		Usage:     "play as a client in the terminal",
		ArgsUsage: "SESSION",
		Flags:     seatFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Words(c, "SESSION", 1, 1)
			if err != nil {
				return err
			}
			id, err := terminal.SessionArg(args[0])
			if err != nil {
				return err
			}
			p, err := New(c.Bool("json"), func(o client.Options) (*client.Client, error) {
				return join(ctx, c, id, o)
			})
			for err == nil {
				err = p.Play(ctx)
				to, isSent := p.me.Sent()
				if !isSent {
					break
				}
				fmt.Printf("You are sent to session %d, of %s.\n", to.Session, terminal.Shown(to.Contract))
				p, err = New(c.Bool("json"), func(o client.Options) (*client.Client, error) {
					return arrive(ctx, c, p.me.Me().Name, to, o)
				})
			}
			return err
		},
	}
}

// Player is the interactive client.
type Player struct {
	hold sync.Mutex    // one line at a time
	seen chan struct{} // closed with the first frame
	came bool          // it has
	me   *client.Client
	json bool

	writes  map[uint64]string // what was written, by the number that a refusal carries
	held    map[string]func() // what ends each hold, as it was typed
	presses []string          // the holds by the number of their press, from 1
}

// New seats a client by join, which is given what it has to be joined with, and greets it. With json, all that
// comes is printed as it is.
func New(json bool, join func(client.Options) (*client.Client, error)) (*Player, error) {
	p := &Player{
		json:   json,
		seen:   make(chan struct{}),
		writes: map[uint64]string{},
		held:   map[string]func(){},
	}
	if json {
		var err error
		p.me, err = join(client.Options{OnRaw: p.raw, JSON: true})
		return p, err
	}
	p.hold.Lock() // nothing is printed before the greeting
	var err error
	p.me, err = join(client.Options{OnFrame: p.frame})
	if err != nil {
		return nil, err
	}
	p.greet()
	return p, nil
}

// greet says who one is, and lets what came be printed.
func (p *Player) greet() {
	me := p.me.Me()
	fmt.Printf(
		"You are %s %s, client %d, role %s. Type a request, `see`, `help` or `quit`.\n", terminal.Mark(me.Number),
		me.Name,
		me.Number, me.Role,
	)
	p.hold.Unlock()
}

// raw prints a message as it came.
func (p *Player) raw(message []byte) {
	p.hold.Lock()
	defer p.hold.Unlock()
	fmt.Println(string(message))
}

// frame prints what a frame brought. The first frame brings all that the client may know; of that only what it sees is
// printed, not how it changed.
func (p *Player) frame(f *wire.Frame, notices []replicate.Notice) {
	p.hold.Lock()
	defer p.hold.Unlock()
	if p.came {
		for _, n := range notices {
			p.notice(n)
		}
	} else {
		p.came = true
		p.see()
		close(p.seen)
	}
	for _, e := range f.Events {
		p.event(e)
	}
	for _, d := range f.Decisions {
		switch {
		case d.Press > 0 && d.Press <= uint64(len(p.presses)):
			name := p.presses[d.Press-1]
			if p.end(name) {
				fmt.Println("hold", name, terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
			}
		case p.writes[d.Seq] != "":
			fmt.Println(p.writes[d.Seq], terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
		}
	}
	for _, line := range f.Logs {
		fmt.Println(terminal.Note.Sprint("  log ", terminal.Shown(line)))
	}
}

// notice prints one change of what the client holds. Places that move all the time are left out: they would fill the
// screen.
func (p *Player) notice(n replicate.Notice) {
	switch n.Type {
	case replicate.FieldChanged:
		switch {
		case p.moves(n.Entity.Kind, n.Field.Name):
		case n.Old != nil:
			fmt.Printf(
				"  %s.%s  %s → %s\n", p.name(n.Entity), n.Field.Name, p.worded(n.Field.Type, *n.Old),
				terminal.Bold.Sprint(p.worded(n.Field.Type, n.Field.Value)),
			)
		default:
			fmt.Printf("  %s.%s  %s\n", p.name(n.Entity), n.Field.Name, p.worded(n.Field.Type, n.Field.Value))
		}
	case replicate.ClientJoined, replicate.ClientLeft:
		fmt.Println(terminal.Note.Sprintf("  %s %s as %s", terminal.Shown(n.Client.Name), n.Type, n.Client.Role))
	case replicate.EntitySpawned:
		fmt.Println(terminal.Note.Sprintf("  %s is there", p.name(n.Entity)))
	case replicate.OwnerChanged:
		fmt.Println(terminal.Note.Sprintf("  %s has another owner", p.name(n.Entity)))
	case replicate.BecameMine:
		fmt.Println(terminal.Note.Sprintf("  %s is yours", p.name(n.Entity)))
	case replicate.FieldLost:
		fmt.Printf("  %s.%s  withdrawn\n", p.name(n.Entity), n.Field.Name)
	case replicate.EntityGone:
		fmt.Println(terminal.Note.Sprintf("  %s is gone", p.name(n.Entity)))
	}
}

// event prints an event with what it says.
func (p *Player) event(e *wire.Event) {
	var values []string
	for _, v := range e.Fields {
		values = append(values, v.Name+" "+p.worded(v.Type, v.Value))
	}
	whose := ""
	p.me.Look(func(held *replicate.Copy) {
		if t := held.Entity(e.Entity); t != nil {
			whose = " of " + label(held, t)
		}
	})
	fmt.Println(terminal.Note.Sprintf("  event %s%s: %s", e.Event, whose, strings.Join(values, ", ")))
}

// end ends a hold, and reports whether it was held.
func (p *Player) end(name string) bool {
	release := p.held[name]
	if release == nil {
		return false
	}
	release()
	delete(p.held, name)
	return true
}

// moves reports whether a property moves by itself.
func (p *Player) moves(kind, property string) bool {
	k := p.me.Outline().Kind(kind)
	if k == nil {
		return false
	}
	q := k.Property(property)
	return q != nil && q.Follows != ""
}

// name returns the name of an entity, as one would type it.
func (p *Player) name(t *replicate.Entity) (out string) {
	p.me.Look(func(held *replicate.Copy) { out = label(held, t) })
	return out
}

// worded returns a value as text, with entities and clients by name.
func (p *Player) worded(t *contract.Type, v contract.Value) (out string) {
	p.me.Look(func(held *replicate.Copy) { out = worded(held, t, v) })
	return out
}

// NameOf names an entity as its owner's, or by its kind.
func NameOf(clients []wire.Client, t *replicate.Entity) string {
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
func (p *Player) see() {
	t := terminal.NewTable("Entity", "Number", "Property", "Value")
	p.me.Look(func(held *replicate.Copy) {
		for _, thing := range held.Entities() {
			name := terminal.Bold.Sprint(label(held, thing))
			number := terminal.Muted.Sprintf("#%d", thing.Number)
			for _, f := range thing.Fields {
				t.AppendRow([]any{name, number, f.Name, worded(held, f.Type, f.Value)})
				name = ""
				number = ""
			}
			if len(thing.Fields) == 0 {
				t.AppendRow([]any{name, number})
			}
		}
	})
	terminal.PrintTable(os.Stdout, t)
}

// help prints what can be typed.
func (p *Player) help() {
	fmt.Println(
		"see    all that you hold\nquit   give the seat up\n" +
			"Requests (before one may stand whose it is: `Ana.Diver.`, `Rig[2].` or `#123.` as `see` lists them):",
	)
	for _, k := range p.me.Outline().Kinds {
		for _, r := range k.Requests {
			var names []string
			for _, x := range r.Params {
				names = append(names, x.Name)
			}
			fmt.Printf(
				"  %s.%s %s %s\n", k.Name, r.Name, strings.Join(names, " "), terminal.Muted.Sprintf("from %s", r.From),
			)
		}
		for _, x := range k.Properties {
			switch {
			case x.LeaseMs > 0:
				fmt.Printf("  hold %s.%s, release %s.%s\n", k.Name, x.Name, k.Name, x.Name)
			case x.SetBy != "":
				fmt.Printf("  write %s.%s %s %s\n", k.Name, x.Name, x.Type, terminal.Muted.Sprintf("by %s", x.SetBy))
			}
		}
	}
}

// move writes a property, or begins or ends a hold: `write Diver.pos [1,2]`, `hold Rig[2].winch`, `release
// Rig[2].winch`.
func (p *Player) move(words []word) error {
	has := func(k *contract.KindOutline, name string) bool { return k.Property(name) != nil }
	switch what := words[0].text; {
	case what == "write" && len(words) == 3:
		return p.write(words[1].text, words[2], has)
	case what == "hold" && len(words) == 2:
		to, err := address(p.me, words[1].text, has)
		if err != nil {
			return err
		}
		release, err := p.me.Hold(to.entity, to.name)
		if err == nil {
			p.end(words[1].text)
			p.held[words[1].text] = release
			p.presses = append(p.presses, words[1].text)
		}
		return err
	case what == "release" && len(words) == 2:
		if !p.end(words[1].text) {
			return fmt.Errorf("release %s: it is not held", words[1].text)
		}
		return nil
	default:
		return fmt.Errorf("%s: write PROPERTY VALUE, hold NAME or release NAME, as in `write Diver.pos [1,2]`", what)
	}
}

// write sends a value of a property that the client may set.
func (p *Player) write(property string, to word, has hasName) error {
	at, err := address(p.me, property, has)
	if err != nil {
		return err
	}
	var t *contract.Type
	kind, name, _ := strings.Cut(at.name, ".")
	if k := p.me.Outline().Kind(kind); k != nil && k.Property(name) != nil {
		t = k.Property(name).Type
	}
	v, err := value(p.me, t, to)
	if err != nil {
		return err
	}
	seq, err := p.me.Write(at.entity, at.name, v)
	if err == nil {
		p.writes[seq] = "write " + property
	}
	return err
}

// typedLines returns the lines of the standard input. One goroutine reads them for all players of the process, one
// after the other, so that none gets lost between two.
var typedLines = sync.OnceValue(func() <-chan string {
	lines := make(chan string)
	go func() {
		defer close(lines)
		for in := bufio.NewScanner(os.Stdin); in.Scan(); {
			lines <- strings.TrimSpace(in.Text())
		}
	}()
	return lines
})

// Play reads lines from the standard input and does what they say, until they or the session end.
func (p *Player) Play(ctx context.Context) error {
	var lines <-chan string // nil while there is nothing to see: what is typed ahead waits
	seen := p.seen
	if p.json {
		lines = typedLines()
		seen = nil
	}
	for {
		select {
		case <-seen:
			lines = typedLines()
			seen = nil
		case <-ctx.Done():
			p.me.Close()
			return nil
		case <-p.me.Ended():
			fmt.Printf("The session has ended for you: %s\n", terminal.Shown(p.me.Reason()))
			return terminal.ErrFound
		case line, more := <-lines:
			if !more || line == "quit" {
				p.me.Close()
				return nil
			}
			p.line(ctx, line)
		}
	}
}

// line does what a line says.
func (p *Player) line(ctx context.Context, line string) {
	words, err := split(line)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return
	}
	if len(words) == 0 {
		return
	}
	switch words[0].text {
	case "see", "help":
		p.hold.Lock()
		defer p.hold.Unlock()
		if words[0].text == "see" {
			p.see()
		} else {
			p.help()
		}
	case "write", "hold", "release":
		p.hold.Lock()
		defer p.hold.Unlock()
		if err := p.move(words); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	default:
		if err := p.ask(ctx, words); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}
}

// ask sends a request, and prints what was decided.
func (p *Player) ask(ctx context.Context, words []word) error {
	to, values, err := request(p.me, words)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	d, err := p.me.Forge(limited, to.entity, to.name, values...)
	if err == nil && !p.json {
		p.hold.Lock()
		defer p.hold.Unlock()
		fmt.Println(terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply))
	}
	return err
}

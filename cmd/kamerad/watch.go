package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/player"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// watchCommand is `kamerad watch`.
//
// On a terminal it draws a sheet over and over; anywhere else it prints one sheet and then a line for
// each decision, which a pipe can follow.
func watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "see the server and its clients side by side, live", ArgsUsage: "SESSION",
		Flags: []cli.Flag{
			terminal.ServiceFlag(),
			&cli.BoolFlag{Name: "json", Usage: "print each message as a line of JSON"},
			&cli.BoolFlag{Name: "once", Usage: "print one sheet and end"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			admin, id, _, err := oneSession(c, "SESSION", 1)
			if err != nil {
				return err
			}
			live := term.IsTerminal(int(os.Stdout.Fd())) && !c.Bool("once")
			w := &watched{}
			done := errors.New("done")
			if live && !c.Bool("json") {
				fmt.Print("\x1b[?1049h\x1b[?25l") // another screen, without a cursor
				defer fmt.Print("\x1b[?25h\x1b[?1049l")
				defer w.redraw()()
			}
			err = admin.Watch(ctx, id, func(m api.Watch) error {
				if c.Bool("json") {
					raw, err := json.Marshal(m)
					fmt.Println(string(raw))
					if err == nil && c.Bool("once") {
						err = done
					}
					return err
				}
				w.mu.Lock()
				defer w.mu.Unlock()
				if err := w.apply(m); err != nil {
					return err
				}
				switch {
				case m.Type == api.WatchClose:
					return fmt.Errorf("watch: the session has closed: %s", m.Reason)
				case c.Bool("once"):
					w.draw(os.Stdout, 0, 0)
					return done
				case !live:
					w.lines(os.Stdout, m)
				}
				return nil
			})
			if errors.Is(err, done) || ctx.Err() != nil {
				return nil
			}
			return err
		},
	}
}

// watched is a session as its watchers know it.
//
// mu guards it, because the drawing and the stream have goroutines of their own.
type watched struct {
	mu        sync.Mutex
	news      bool // something came since it was last drawn
	session   api.Session
	outline   *contract.Outline
	tick      int64
	server    replicate.Copy
	clients   []*column
	widest    int // characters of a value; 0 for any
	decisions []api.Decision
}

// redraw draws the terminal again ten times a second while there is news, so that what is shown ends on the newest; the
// function that it gives back stops it.
func (w *watched) redraw() (stop func()) {
	ticker := time.NewTicker(100 * time.Millisecond)
	over := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-over:
				return
			case <-ticker.C:
			}
			w.mu.Lock()
			if w.news && w.outline != nil {
				w.news = false
				width, height, _ := term.GetSize(int(os.Stdout.Fd()))
				var screen strings.Builder
				w.draw(&screen, width, height)
				fmt.Print("\x1b[H" + strings.ReplaceAll(screen.String(), "\n", "\x1b[K\n") + "\x1b[J")
			}
			w.mu.Unlock()
		}
	}()
	return func() {
		ticker.Stop()
		close(over)
		<-done
	}
}

// column is one client.
type column struct {
	api.WatchClient
	copy replicate.Copy
}

// apply takes in a message of the watch.
//
// The caller holds mu. Fifty decisions are kept, which is more than any terminal shows.
func (w *watched) apply(m api.Watch) error {
	switch m.Type {
	case api.WatchSheet:
		w.session = *m.Session
		w.outline = m.Outline
		w.server = replicate.Copy{}
		w.clients = nil
		w.decisions = nil
	case api.WatchClose:
		return nil
	}
	w.tick = m.Tick
	w.news = true
	if err := w.frame(&w.server, m.Server); err != nil {
		return err
	}
	for _, c := range m.Clients {
		i := slices.IndexFunc(w.clients, func(x *column) bool { return x.Number == c.Number })
		if i < 0 {
			i = len(w.clients)
			w.clients = append(w.clients, &column{})
		}
		w.clients[i].WatchClient = c
		for _, f := range c.Frames {
			raw, err := m.Frame(f)
			if err != nil {
				return err
			}
			if err := w.frame(&w.clients[i].copy, raw); err != nil {
				return err
			}
		}
	}
	w.clients = slices.DeleteFunc(w.clients, func(c *column) bool { return slices.Contains(m.Left, c.Number) })
	w.decisions = append(w.decisions, m.Decisions...)
	if extra := len(w.decisions) - 50; extra > 0 {
		w.decisions = w.decisions[extra:]
	}
	return nil
}

// frame applies a frame, which may be none, to a copy.
func (w *watched) frame(c *replicate.Copy, raw json.RawMessage) error {
	if raw == nil {
		return nil
	}
	f, _, err := wire.ParseFrame(raw, w.outline)
	if err == nil {
		c.Apply(f)
	}
	return err
}

// short cuts a value to the width of a column.
func (w *watched) short(value string) string {
	if w.widest == 0 {
		return value
	}
	return text.Snip(value, w.widest, "…")
}

// cell is what a client holds of something, as the sheet shows it, and how that stands to what the server holds.
type cell struct {
	text  string
	state cellState
}

// cellState says how what a client holds stands to what the server holds. The sheet counts by it.
type cellState int

// The states of cells, and their signs.
const (
	cellHidden    cellState = iota // – not for this client
	cellSame                       // =
	cellLate                       // + on the way
	cellDifferent                  // ≠
)

// hold returns the cell of a client that holds a word, or nothing, which is not what the server holds.
func (w *watched) hold(c *column, word string) cell {
	if word != "" {
		word += " "
	}
	if c.Waits > 0 {
		return cell{word + terminal.Warn.Sprintf("+%d", w.tick-c.Waits+1), cellLate}
	}
	return cell{word + terminal.Bad.Sprint("≠"), cellDifferent}
}

// cell shows what a client holds of a property beside what the server holds.
func (w *watched) cell(c *column, thing *replicate.Entity, p *contract.PropertyOutline) cell {
	kind := w.outline.Kind(thing.Kind)
	to := p.To
	if to == "nobody" || kind.To == "nobody" || (to == "owner" || kind.To == "owner") && thing.Owner != c.Number {
		if held := c.copy.Entity(thing.Number); held != nil {
			if v, ok := held.Value(p.Name); ok { // it holds what it may not
				return cell{terminal.Bad.Sprintf("%s ≠", w.short(p.Type.Format(v))), cellDifferent}
			}
		}
		return cell{terminal.Muted.Sprint("–"), cellHidden}
	}
	truth, _ := thing.Field(p.Name)
	value := wire.Field{}
	has := false
	if held := c.copy.Entity(thing.Number); held != nil {
		value, has = held.Field(p.Name)
	}
	// Whether any other audience holds this client only the server can tell: what the client has not, it is taken not
	// to get.
	for _, audience := range []string{to, kind.To} {
		if !has && audience != "everyone" && audience != "owner" {
			return cell{terminal.Muted.Sprint("–"), cellHidden}
		}
	}
	word := ""
	if has {
		word = w.short(p.Type.Format(value.Value))
	}
	if has && value.Same(truth) {
		return cell{word + " " + terminal.Good.Sprint("="), cellSame}
	}
	return w.hold(c, word)
}

// entity shows whose a client takes an entity to be, where the entity itself is not as on the server: it has another
// owner there, is gone, is not for this client, or is missing and has no properties whose cells would show that.
func (w *watched) entity(c *column, thing *replicate.Entity, gone bool) cell {
	kind := w.outline.Kind(thing.Kind)
	hidden := kind.To == "nobody" || kind.To == "owner" && thing.Owner != c.Number
	held := c.copy.Entity(thing.Number)
	switch {
	case held == nil && (gone || hidden || kind.To != "everyone" || len(kind.Properties) > 0):
		return cell{}
	case held == nil:
		return w.hold(c, "")
	case !gone && !hidden && held.Owner == thing.Owner:
		return cell{}
	}
	return w.hold(c, ownerName(c.copy.Clients, held))
}

// ownerName returns the name of the client that an entity belongs to, or server.
func ownerName(clients []wire.Client, t *replicate.Entity) string {
	if t.Owner == 0 {
		return "server"
	}
	return strings.TrimSuffix(player.NameOf(clients, t), "."+t.Kind)
}

// stale returns what clients hold that the server does not have any more, by number.
func (w *watched) stale() (out []*replicate.Entity) {
	for _, c := range w.clients {
		for _, held := range c.copy.Entities() {
			known := slices.ContainsFunc(out, func(t *replicate.Entity) bool { return t.Number == held.Number })
			if !known && w.server.Entity(held.Number) == nil {
				out = append(out, held)
			}
		}
	}
	slices.SortFunc(out, func(a, b *replicate.Entity) int { return cmp.Compare(a.Number, b.Number) })
	return out
}

// draw prints the sheet and, below it, the last decisions; width and height bound it, 0 does not.
//
// The caller holds mu. Rows that do not fit are counted, so that a difference further down still shows
// in the first line.
func (w *watched) draw(out io.Writer, width, height int) {
	w.widest = 0
	if width > 0 { // what is left beside names, signs and the blanks between columns
		w.widest = max(12, (width-26)/(1+len(w.clients))-5)
	}
	w.server.Advance(w.tick) // what moves by itself goes on without a word
	for _, c := range w.clients {
		c.copy.Advance(w.tick)
	}
	most := 0
	if height > 0 {
		most = height - 11 // some lines are kept for the last decisions
	}
	t, seen := w.sheet(most)
	state := ""
	switch {
	case seen.different > 0:
		state = terminal.Bad.Sprintf("  ≠ %s different", plural(seen.different, "value"))
	case seen.late > 0:
		state = terminal.Warn.Sprintf("  + %s on the way", plural(seen.late, "value"))
	case len(w.clients) > 0:
		state = terminal.Good.Sprint("  = all in step")
	}
	fmt.Fprintf(
		out, "%s  %s version %d  tick %d  %s%s\n\n", terminal.Bold.Sprintf("session %d", w.session.ID),
		w.session.Contract,
		w.session.Version, w.tick, plural(len(w.clients), "client"), state,
	)
	rows := t.Length() + 5
	terminal.PrintTable(out, t)
	for _, c := range w.clients {
		if c.Bytes != nil {
			rows++
			fmt.Fprintln(out, byteLine(c))
		}
	}
	if seen.left > 0 {
		fmt.Fprintln(
			out,
			terminal.Muted.Sprintf("… %d more rows; `kamerad watch --once %d` prints all", seen.left, w.session.ID),
		)
	}
	if len(w.clients) == 0 {
		fmt.Fprintf(out, "\nNo client is here: kamerad join %d --as Ana\n", w.session.ID)
	}
	room := 8
	if height > 0 {
		room = min(height-rows-2, 20)
	}
	if room > 0 && len(w.decisions) > 0 {
		fmt.Fprintln(out)
		for _, d := range w.decisions[max(0, len(w.decisions)-room+1):] {
			fmt.Fprintln(out, decisionLine(d))
		}
	}
}

// byteLine says how a client with a limit of bytes stands.
func byteLine(c *column) string {
	line := fmt.Sprintf(
		"%s %s was sent %d of %d bytes in the last second",
		terminal.Mark(c.Number), c.Name, c.Bytes.Sent, c.Bytes.Limit,
	)
	if c.Bytes.Waiting > 0 {
		return line + terminal.Warn.Sprintf("; something of %s waits", plural(c.Bytes.Waiting, "entity"))
	}
	return line
}

// sheetCounts says what a sheet shows: values of clients that differ from the server's, those that are on the way, and
// rows that were left out.
type sheetCounts struct{ different, late, left int }

// sheet returns the table of what the server and each client hold, with at most so many rows; 0 is for all.
//
// Rows that are left out are counted as well.
func (w *watched) sheet(most int) (table.Writer, sheetCounts) {
	header := table.Row{"Entity", "Property", "Server"}
	for _, c := range w.clients {
		header = append(header, fmt.Sprintf("%s %s", terminal.Mark(c.Number), c.Name))
	}
	t := terminal.NewTable(header...)
	var seen sheetCounts
	row := func(name, property, truth string, of func(c *column) cell) {
		out := table.Row{terminal.Bold.Sprint(name), property, truth}
		for _, c := range w.clients {
			held := of(c)
			switch held.state {
			case cellDifferent:
				seen.different++
			case cellLate:
				seen.late++
			}
			out = append(out, held.text)
		}
		if most > 0 && t.Length() >= most {
			seen.left++
			return
		}
		t.AppendRow(out)
	}
	itself := func(thing *replicate.Entity, truth string, gone bool) bool {
		of := func(c *column) cell { return w.entity(c, thing, gone) }
		wrong := slices.ContainsFunc(w.clients, func(c *column) bool { return of(c) != cell{} })
		if wrong {
			row(player.NameOf(w.server.Clients, thing), "owner", truth, of)
		}
		return wrong
	}
	for _, thing := range w.server.Entities() {
		named := itself(thing, ownerName(w.server.Clients, thing), false)
		kind := w.outline.Kind(thing.Kind)
		for i := range kind.Properties {
			p := &kind.Properties[i]
			name := ""
			if i == 0 && !named {
				name = player.NameOf(w.server.Clients, thing)
			}
			truth, _ := thing.Value(p.Name)
			row(name, p.Name, w.short(p.Type.Format(truth)), func(c *column) cell { return w.cell(c, thing, p) })
		}
	}
	for _, thing := range w.stale() {
		itself(thing, "gone", true)
	}
	return t, seen
}

// decisionLine returns a decision as one line.
//
// It has no line break at its end.
func decisionLine(d api.Decision) string {
	line := fmt.Sprintf(
		"%6d  %s %s  %s  %s", d.Tick, terminal.Mark(d.Client.Number), text.Pad(d.Client.Name, 4, ' '),
		text.Pad(asked(d), 20, ' '), terminal.Verdict(d.Outcome, d.Stage, d.Reason, d.Reply),
	)
	if d.CheckText != "" {
		line += terminal.Muted.Sprintf(" line %d: check %s", d.Line, d.CheckText)
	}
	return line
}

// lines prints what happened, for output that is not a terminal.
func (w *watched) lines(out io.Writer, m api.Watch) {
	if m.Type == api.WatchSheet {
		w.draw(out, 0, 0)
		return
	}
	for _, d := range m.Decisions {
		fmt.Fprintln(out, decisionLine(d))
	}
}

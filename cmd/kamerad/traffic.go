package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/report"
	"kamerad.example/core/wire"
)

// maxTrafficFor is how long `kamerad traffic` counts at most.
const maxTrafficFor = time.Hour

// trafficCommand is `kamerad traffic`.
func trafficCommand() *cli.Command {
	return &cli.Command{
		Name: "traffic", Usage: "count for a while what clients send and are sent, the costliest first",
		ArgsUsage: "SESSION",
		Flags: []cli.Flag{
			terminal.ServiceFlag(), terminal.JSONFlag(),
			&cli.DurationFlag{Name: "for", Usage: "count for this `TIME`", Value: 5 * time.Second},
			&cli.StringFlag{Name: "client", Usage: "only of the client with this `NAME`"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			admin, id, _, err := oneSession(c, "SESSION", 1)
			if err != nil {
				return err
			}
			long := c.Duration("for")
			if long < time.Second || long > maxTrafficFor {
				return fmt.Errorf("traffic: --for is from 1s to %s, not %s", maxTrafficFor, long)
			}
			counted, err := countTraffic(ctx, admin, id, long, c.String("client"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.PrintJSON(c.Root().Writer, counted)
			}
			cost := costOf(ctx, admin, counted)
			counted.print(c.Root().Writer, cost)
			return nil
		},
	}
}

// traffic is what was counted of a session.
type traffic struct {
	Session  int64           `json:"session"`
	Contract string          `json:"contract"`
	Version  int             `json:"version"`
	Seconds  float64         `json:"seconds"`
	Clients  []clientTraffic `json:"clients"`
	Rows     []trafficRow    `json:"rows"` // the costliest first

	entities map[string]int
	seats    int // clients that are there
}

// clientTraffic is what one client was sent and has sent.
type clientTraffic struct {
	Client       wire.Client `json:"client"`
	BytesDown    int64       `json:"bytes_down"`
	MessagesDown int64       `json:"messages_down"`
	BytesUp      int64       `json:"bytes_up"`
	MessagesUp   int64       `json:"messages_up"`

	bitsDown int64
}

// trafficRow is what was spent on one thing, by all clients together.
type trafficRow struct {
	Up bool `json:"up"`
	wire.UsageItem
	Bits  int64 `json:"bits"`
	Count int64 `json:"count"`
}

// errCounted ends the watching of a session that was counted for long enough.
var errCounted = errors.New("counted for long enough")

// trafficCounter adds up what is told of a session's traffic.
type trafficCounter struct {
	out     *traffic
	long    time.Duration
	name    string // of the client that alone counts; empty for all
	until   int64  // tick
	rate    int
	ticks   int
	seen    map[int]wire.Client
	clients map[int]*clientTraffic
	rows    map[trafficRow]*trafficRow
}

// countTraffic watches a session for a while. With a name, only what concerns that client counts.
func countTraffic(
	ctx context.Context, admin api.Client, id int64, long time.Duration, name string,
) (*traffic, error) {
	c := &trafficCounter{
		out:     &traffic{Session: id, entities: map[string]int{}},
		long:    long,
		name:    name,
		seen:    map[int]wire.Client{},
		clients: map[int]*clientTraffic{},
		rows:    map[trafficRow]*trafficRow{},
	}
	if err := admin.Watch(ctx, id, c.take); !errors.Is(err, errCounted) {
		return nil, err
	}
	return c.result(), nil
}

// take adds one message.
func (c *trafficCounter) take(m api.Watch) error {
	switch m.Type {
	case api.WatchClose:
		return fmt.Errorf("traffic: the session has closed: %s", m.Reason)
	case api.WatchSheet:
		if err := c.begin(m); err != nil {
			return err
		}
	}
	for _, client := range m.Clients {
		c.seen[client.Number] = client.Client
	}
	if m.Traffic != nil {
		c.ticks += m.Traffic.Ticks
		c.add(m.Traffic)
	}
	// Spans are told once a second: the one that the time ends in is waited for, unless nothing is sent.
	isWhole := m.Traffic != nil && m.Tick >= c.until
	if isWhole || m.Tick >= c.until+int64(2*c.rate) {
		return errCounted
	}
	return nil
}

// begin takes in the first message.
func (c *trafficCounter) begin(m api.Watch) error {
	c.rate = m.Outline.Tick
	c.until = m.Tick + int64(c.long.Seconds()*float64(c.rate))
	c.out.Contract = m.Session.Contract
	c.out.Version = m.Session.Version
	c.out.seats = len(m.Clients)
	isNamed := func(client wire.Client) bool { return client.Name == c.name }
	if c.name != "" && !slices.ContainsFunc(m.Session.Clients, isNamed) {
		return fmt.Errorf(
			"traffic: session %d has no client %q; there is %v", c.out.Session, c.name,
			terminal.ClientNames(m.Session.Clients),
		)
	}
	return c.out.countEntities(m)
}

// client returns a client by its number, and whether it counts. 0 stands for all that are not told by themselves.
func (c *trafficCounter) client(number int) (client wire.Client, counts bool) {
	client, known := c.seen[number]
	if !known {
		client = wire.Client{Number: number, Name: "others"}
	}
	return client, c.name == "" || client.Name == c.name
}

// add adds the traffic of a span.
func (c *trafficCounter) add(t *api.Traffic) {
	for _, row := range t.Rows {
		for i, n := range t.Clients {
			client, counts := c.client(n)
			if !counts || row.Counts[i] == 0 && row.Bits[i] == 0 {
				continue
			}
			if c.clients[n] == nil {
				c.clients[n] = &clientTraffic{Client: client}
			}
			c.clients[n].add(row, i)
			key := trafficRow{Up: row.Up, UsageItem: row.UsageItem}
			sum := c.rows[key]
			if sum == nil {
				sum = &trafficRow{Up: row.Up, UsageItem: row.UsageItem}
				c.rows[key] = sum
			}
			sum.Bits += row.Bits[i]
			sum.Count += row.Counts[i]
		}
	}
}

// result returns what was counted, the costliest first.
func (c *trafficCounter) result() *traffic {
	out := c.out
	out.Seconds = float64(c.ticks) / float64(c.rate)
	for _, client := range c.clients {
		client.BytesDown = client.bitsDown / 8
		out.Clients = append(out.Clients, *client)
	}
	slices.SortFunc(out.Clients, func(a, b clientTraffic) int { return cmp.Compare(a.Client.Number, b.Client.Number) })
	for _, r := range c.rows {
		out.Rows = append(out.Rows, *r)
	}
	slices.SortFunc(out.Rows, func(a, b trafficRow) int {
		return cmp.Or(cmp.Compare(b.Bits, a.Bits), cmp.Compare(a.Type, b.Type), cmp.Compare(a.Of, b.Of))
	})
	return out
}

// countEntities notes how many entities of each kind the server holds.
func (t *traffic) countEntities(m api.Watch) error {
	frame, _, err := wire.ParseFrame(m.Server, m.Outline)
	if err != nil {
		return err
	}
	for _, b := range frame.Blocks {
		for _, s := range b.Spawned {
			t.entities[s.Kind]++
		}
	}
	return nil
}

// add adds what a row has at a place. What WebSocket adds is counted once for each message.
func (c *clientTraffic) add(row api.TrafficRow, at int) {
	if row.Up {
		c.BytesUp += row.Bits[at] / 8
	} else {
		c.bitsDown += row.Bits[at]
	}
	if row.Type != api.UsageSocket {
		return
	}
	if row.Up {
		c.MessagesUp += row.Counts[at]
	} else {
		c.MessagesDown += row.Counts[at]
	}
}

// costOf returns what the contract may cost with the clients and entities that there are; nil when that cannot be said.
func costOf(ctx context.Context, admin api.Client, t *traffic) *report.Cost {
	version, err := admin.Version(ctx, t.Contract, t.Version)
	if err != nil {
		return nil
	}
	c, _ := compile.LoadWith(t.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return nil
	}
	cost, err := report.NewCost(c, max(t.seats, 1), t.entities)
	if err != nil {
		return nil
	}
	return cost
}

// print prints what was counted, beside what it may come to at most.
func (t *traffic) print(w io.Writer, cost *report.Cost) {
	fmt.Fprintf(
		w, "%s of %s version %d, %.0f s of %s\n\n", terminal.Bold.Sprintf("session %d", t.Session), t.Contract,
		t.Version, t.Seconds, plural(len(t.Clients), "client"),
	)
	if t.Seconds == 0 || len(t.Clients) == 0 {
		fmt.Fprintf(w, "Nothing was sent. Is a client there? kamerad join %d --as Ana\n", t.Session)
		return
	}
	t.printClients(w)
	if cost != nil {
		fmt.Fprintf(
			w,
			"One client gets at most %d bytes a second, frame headers apart, if all that can changes in each tick.\n",
			cost.Most*cost.TickRate,
		)
	}
	fmt.Fprintln(w)
	t.printRows(w, mostBits(cost))
	fmt.Fprintln(
		w, "↓ to clients, ↑ from clients; at most: the bits of one value by `kamerad cost`, without what leads to it",
	)
}

// printClients prints what each client was sent and has sent.
func (t *traffic) printClients(w io.Writer) {
	perSecond := func(n int64) string { return fmt.Sprintf("%.0f", float64(n)/t.Seconds) }
	table := terminal.NewTable("Client", "To it, bytes/s", "messages/s", "From it, bytes/s", "messages/s")
	terminal.AlignRight(table, 2, 3, 4, 5)
	for _, c := range t.Clients {
		mark := " "
		if c.Client.Number != 0 {
			mark = terminal.Mark(c.Client.Number)
		}
		table.AppendRow([]any{
			mark + " " + terminal.Shown(c.Client.Name),
			perSecond(c.BytesDown), perSecond(c.MessagesDown), perSecond(c.BytesUp), perSecond(c.MessagesUp),
		})
	}
	terminal.PrintTable(w, table)
}

// printRows prints what was spent on what, beside the bits that one of it may take at most.
func (t *traffic) printRows(w io.Writer, most map[wire.UsageItem]int) {
	total := int64(0)
	for _, r := range t.Rows {
		total += r.Bits
	}
	table := terminal.NewTable("", "Spent on", "Bytes/s", "Share", "Count/s", "Bits each", "At most")
	terminal.AlignRight(table, 3, 4, 5, 6, 7)
	for _, r := range t.Rows {
		way := "↓"
		if r.Up {
			way = "↑"
		}
		bound := terminal.Muted.Sprint("–")
		if bits, known := most[r.UsageItem]; known {
			bound = fmt.Sprint(bits)
		}
		each := terminal.Muted.Sprint("–")
		if r.Count > 0 {
			each = fmt.Sprintf("%.1f", float64(r.Bits)/float64(r.Count))
		}
		table.AppendRow([]any{
			way, usageWords(r.UsageItem), fmt.Sprintf("%.1f", float64(r.Bits)/8/t.Seconds),
			fmt.Sprintf("%.1f %%", float64(r.Bits)/float64(total)*100),
			fmt.Sprintf("%.1f", float64(r.Count)/t.Seconds), each, bound,
		})
	}
	terminal.PrintTable(w, table)
}

// mostBits returns what one value, event or request may take at most by the contract.
func mostBits(cost *report.Cost) map[wire.UsageItem]int {
	out := map[wire.UsageItem]int{}
	if cost == nil {
		return out
	}
	for typ, list := range map[wire.UsageType][]report.CostRow{
		wire.UsageProperty: cost.Properties, wire.UsageEvent: cost.Events, wire.UsageRequest: cost.Requests,
	} {
		for _, r := range list {
			out[wire.UsageItem{Type: typ, Of: r.Name}] = r.Most
		}
	}
	return out
}

// usageWords says what bits were spent on.
func usageWords(u wire.UsageItem) string {
	words := map[wire.UsageType]string{
		wire.UsageEntity:   "come, go, owner",
		wire.UsageEvent:    "event",
		wire.UsageDecision: "decisions",
		wire.UsageRoster:   "who is there",
		wire.UsageLog:      "log lines",
		wire.UsageDigest:   "digests",
		wire.UsageFraming:  "heads of frames",
		wire.UsageRequest:  "request",
		wire.UsageSteer:    "hold or write",
		wire.UsageConfirm:  "confirmations",
		wire.UsageOther:    "other messages",
		api.UsageSocket:    "heads of WebSocket messages",
	}[u.Type]
	switch {
	case u.Of == "":
		return words
	case words == "":
		return u.Of
	}
	return u.Of + terminal.Muted.Sprint(" "+words)
}

package observe

import (
	"cmp"
	"maps"
	"slices"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// trafficClients is how many clients the traffic is told of by themselves; what the others have is added up.
const trafficClients = 100

// traffic counts what clients send and are sent, while somebody looks.
type traffic struct {
	items []wire.UsageItem // of the amounts in down
	down  map[int]*wire.Usage
	// by client: what frames say nothing of, with what clients send
	rest map[int]map[restItem]*wire.Amount
	last int64 // the tick up to which everything was told
}

// restItem is what is counted that is no part of a frame.
type restItem struct {
	up   bool
	item wire.UsageItem
}

// newTraffic returns the counts of a session, from its next tick on.
func newTraffic(s *session.Session) *traffic {
	return &traffic{
		items: s.Layout().UsageItems(),
		down:  map[int]*wire.Usage{},
		rest:  map[int]map[restItem]*wire.Amount{},
		last:  s.Now(),
	}
}

// follow counts from now on what the frames that a reader reads are spent on. They are those of a client.
func (t *traffic) follow(client int, r *wire.Reader) { t.down[client] = r.CountUsage() }

// sent counts what carried a frame of so many bytes to a client.
func (t *traffic) sent(client, bytes int) {
	header := wire.Amount{Bits: int64(socketHeader(bytes)) * 8, Count: 1}
	t.add(client, restItem{item: wire.UsageItem{Type: api.UsageSocket}}, header)
}

// received counts messages that a client has sent.
func (t *traffic) received(m receivedMessage) {
	t.add(m.sort.client, restItem{up: true, item: m.sort.item}, m.amount)
	header := wire.Amount{Bits: m.header, Count: m.amount.Count}
	t.add(m.sort.client, restItem{up: true, item: wire.UsageItem{Type: api.UsageSocket}}, header)
}

// socketHeader returns how many bytes the header of a WebSocket message takes that is not masked (RFC 6455, 5.2).
func socketHeader(bytes int) int {
	switch {
	case bytes < 126:
		return 2
	case bytes < 1<<16:
		return 4
	}
	return 10
}

// add counts what messages took.
func (t *traffic) add(client int, item restItem, amount wire.Amount) {
	of := t.rest[client]
	if of == nil {
		of = map[restItem]*wire.Amount{}
		t.rest[client] = of
	}
	a := of[item]
	if a == nil {
		a = &wire.Amount{}
		of[item] = a
	}
	a.Bits += amount.Bits
	a.Count += amount.Count
}

// take returns what was counted since it was last called, up to a tick, and begins anew with the clients that have a
// mirror. It returns nil when nothing was counted. The rows that cost the most come first.
func (t *traffic) take(tick int64, mirrors map[int]*mirror) *api.Traffic {
	out := &api.Traffic{Tick: tick, Ticks: int(tick - t.last)}
	t.last = tick
	numbers := maps.Clone(t.down)
	for n := range t.rest {
		numbers[n] = nil
	}
	out.Clients = slices.Sorted(maps.Keys(numbers))
	rows := map[restItem]*api.TrafficRow{}
	for i, n := range out.Clients {
		column := min(i, trafficClients)
		count := func(item restItem, a wire.Amount) {
			if a.Count == 0 && a.Bits == 0 {
				return
			}
			row := rows[item]
			if row == nil {
				columns := min(len(out.Clients), trafficClients+1)
				row = &api.TrafficRow{
					Up: item.up, UsageItem: item.item, Bits: make([]int64, columns), Counts: make([]int64, columns),
				}
				rows[item] = row
			}
			row.Bits[column] += a.Bits
			row.Counts[column] += a.Count
		}
		if down := t.down[n]; down != nil {
			for at, a := range down.Amounts {
				count(restItem{item: t.items[at]}, a)
			}
			clear(down.Amounts)
		}
		for item, a := range t.rest[n] {
			count(item, *a)
		}
	}
	clear(t.rest)
	maps.DeleteFunc(t.down, func(n int, _ *wire.Usage) bool { return mirrors[n] == nil })
	if len(rows) == 0 {
		return nil
	}
	if len(out.Clients) > trafficClients {
		out.Clients = append(out.Clients[:trafficClients], 0)
	}
	for _, row := range rows {
		out.Rows = append(out.Rows, *row)
	}
	slices.SortFunc(out.Rows, func(a, b api.TrafficRow) int {
		return cmp.Or(
			cmp.Compare(sum(b.Bits), sum(a.Bits)), cmp.Compare(a.Type, b.Type), cmp.Compare(a.Of, b.Of),
		)
	})
	return out
}

// sum adds numbers up.
func sum(list []int64) (out int64) {
	for _, n := range list {
		out += n
	}
	return out
}

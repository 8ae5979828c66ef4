package observe

import (
	"slices"

	"kamerad.example/api"
)

// arrivals notes when clients had confirmed the ticks of the last decisions. The client's own copy shows what came of a
// decision from then on.
type arrivals struct {
	decided   []decidedTick // the newest last; recentDecisions at most
	confirmed map[int]int64 // by client: the ticks up to which it is noted; before that it was not there
}

// decidedTick is a tick with decisions, and who has confirmed it.
type decidedTick struct {
	tick    int64
	clients []arrival
}

type arrival struct {
	client int
	tick   int64 // in which it had confirmed
}

// decide notes that a tick has decisions.
func (a *arrivals) decide(tick int64) {
	var spare []arrival
	if len(a.decided) >= recentDecisions {
		spare = a.decided[0].clients[:0]
		a.decided = slices.Delete(a.decided, 0, 1)
	}
	for client, confirmed := range a.confirmed {
		if confirmed >= tick { // in a drill, what is sent can arrive before the tick is told of
			spare = append(spare, arrival{client, tick})
		}
	}
	a.decided = append(a.decided, decidedTick{tick, spare})
}

// join notes that a client is there from a tick on.
func (a *arrivals) join(client int, tick int64) { a.confirmed[client] = tick }

// leave forgets a client; what it had confirmed stays.
func (a *arrivals) leave(client int) { delete(a.confirmed, client) }

// confirm notes that a client has, in the tick now, confirmed everything up to seen.
func (a *arrivals) confirm(client int, seen, now int64) {
	before, isHere := a.confirmed[client]
	if !isHere || seen <= before {
		return
	}
	a.confirmed[client] = seen
	for i := len(a.decided) - 1; i >= 0 && a.decided[i].tick > before; i-- {
		if d := &a.decided[i]; d.tick <= seen {
			d.clients = append(d.clients, arrival{client, now})
		}
	}
}

// describe returns what is known, oldest first.
func (a *arrivals) describe() []api.Arrivals {
	out := []api.Arrivals{}
	for _, d := range a.decided {
		one := api.Arrivals{Tick: d.tick, Clients: map[int]int64{}}
		for _, c := range d.clients {
			one.Clients[c.client] = c.tick
		}
		out = append(out, one)
	}
	return out
}

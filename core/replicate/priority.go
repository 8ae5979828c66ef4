package replicate

import (
	"math"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// candidate is an entry that waits, with what decides when it goes.
type candidate struct {
	entry *privateEntry
	own   bool
	wait  float64 // in ticks, divided by the distance
}

// sendWaiting puts into the block what waits, as far as it fits.
func (v *View) sendWaiting(u *viewer) {
	m := u.meter
	list := v.candidates[:0]
	for _, entry := range m.waiting {
		if entry.sent.since == 0 {
			continue // it went with a message
		}
		list = append(list, candidate{
			entry: entry,
			own:   entry.owner == u.number,
			wait:  float64(v.world.Tick-entry.sent.since+1) / m.distance(entry),
		})
	}
	v.candidates = list
	// A heap, since a few of many go.
	for i := len(list)/2 - 1; i >= 0; i-- {
		siftDown(list, i)
	}
	for len(list) > 0 {
		entry := list[0].entry
		bound := v.entryBound(u, entry)
		if !m.fits(bound) {
			break
		}
		m.spend(bound, true)
		v.send(u, entry)
		list[0] = list[len(list)-1]
		list = list[:len(list)-1]
		siftDown(list, 0)
	}
	m.waiting = slices.DeleteFunc(m.waiting, func(entry *privateEntry) bool {
		entry.sent.waits = entry.sent.since != 0
		return !entry.sent.waits
	})
}

// locate finds out where a metered client is: at the place of what it has one of for its role.
func (v *View) locate(u *viewer) {
	m := u.meter
	m.inPlace = false
	for i := range v.plans {
		p := v.plans[i].nearest(m.limit.Nearest)
		if p == nil || v.world.Contract().Kinds[i].Per < 0 {
			continue
		}
		if e := v.world.OfClient(i, u.number); e != nil {
			if entry := u.entries[e.ID]; entry != nil && entry.mayHave(p) {
				m.place = placeOf(e, p)
				m.inPlace = true
				return
			}
		}
	}
}

// nearest returns the property that says where an entity of the kind is, or nil.
func (p *kindPlan) nearest(name string) *contract.Property {
	if name == "" {
		return nil
	}
	for _, property := range p.sentProperties {
		if property.Name == name && property.IsPlace() {
			return property
		}
	}
	return nil
}

// placeOf returns where an entity is by one of its properties.
func placeOf(e *world.Entity, p *contract.Property) (at [3]float64) {
	for i := range p.Type.Width() {
		at[i] = p.Type.Real(e.Nums[p.Slot+i])
	}
	return at
}

// distance returns how far what an entry is of is from its client, and no less than 1: what has no place, or none that
// the client may have, is near.
func (m *meter) distance(entry *privateEntry) float64 {
	p := entry.plan.nearest(m.limit.Nearest)
	if p == nil || !m.inPlace || !entry.mayHave(p) {
		return 1
	}
	at := placeOf(entry.entity, p)
	sum := 0.0
	for i := range at {
		d := at[i] - m.place[i]
		sum += float64(d * d)
	}
	distance := max(1, math.Sqrt(sum))
	if !entry.sent.entered {
		return math.Sqrt(distance) // to know nothing of it is worse than to have it late
	}
	return distance
}

// goesBefore reports whether one candidate goes before another. Of equal ones that goes first whose kind the contract
// declares first, then that with the lower number, which the client knows.
func (a *candidate) goesBefore(b *candidate) bool {
	switch {
	case a.own != b.own:
		return a.own
	case a.wait != b.wait:
		return a.wait > b.wait
	case a.entry.plan != b.entry.plan:
		return a.entry.plan.outlineIndex < b.entry.plan.outlineIndex
	}
	return a.entry.number < b.entry.number
}

// siftDown restores the order of a binary heap, with what goes first at its root, below the place i (Williams, 1964).
func siftDown(heap []candidate, i int) {
	for {
		first := i
		for child := 2*i + 1; child <= 2*i+2 && child < len(heap); child++ {
			if heap[child].goesBefore(&heap[first]) {
				first = child
			}
		}
		if first == i {
			return
		}
		heap[i], heap[first] = heap[first], heap[i]
		i = first
	}
}

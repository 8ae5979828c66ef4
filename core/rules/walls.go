package rules

import (
	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// walls runs a function of walls into registers. Each wall that it looks at costs a step, and along walls each turn
// looks at all of them.
func (m *Machine) walls(f *frame, fn *bytecode.MathCall, out []int64) end {
	slots, how := m.list(f, &fn.List)
	if how != ended {
		return how
	}
	m.gatherWalls(fn.List.Type.Of, slots)
	looks := int64(len(m.wallList))
	if fn.Name == "along_walls" {
		looks *= geometry.Legs + 1
	}
	m.steps -= looks
	if m.steps < 0 {
		return m.fault("it takes too many steps: more than %d", maxSteps)
	}
	flat := func(i int) geometry.Flat {
		at := f.nums[fn.Args[i]:]
		return geometry.Flat{X: fromBits(at[0]), Y: fromBits(at[1])}
	}
	var p geometry.Flat
	switch fn.Name {
	case "free":
		out[0] = truth(geometry.Free(flat(0), m.wallList, fromBits(f.nums[fn.Args[1]])))
		return ended
	case "along_walls":
		p = geometry.AlongWalls(flat(0), flat(1), m.wallList, fromBits(f.nums[fn.Args[3]]))
	default:
		if len(m.wallList) == 0 {
			return m.fault("`nearest` is asked of no walls")
		}
		from := flat(0)
		nearest := &m.wallList[0]
		for i := range m.wallList {
			if w := &m.wallList[i]; w.Distance(from) < nearest.Distance(from) {
				nearest = w
			}
		}
		p = nearest.Nearest(from)
	}
	if !finite(p.X) || !finite(p.Y) {
		return m.fault("`%s` came to be no finite number", fn.Name)
	}
	out[0] = toBits(p.X)
	out[1] = toBits(p.Y)
	return ended
}

// gatherWalls puts the walls of a list into m.wallList: records that begin with two ends, or with the middle and the
// radius of a circle.
func (m *Machine) gatherWalls(of *contract.Type, slots []int64) {
	m.wallList = m.wallList[:0]
	a := of.Parts[0].Type
	b := of.Parts[1].Type
	for i := range int(slots[0]) {
		at := slots[1+i*of.Width():]
		var w geometry.Wall
		w.A.X, w.A.Y = corner(a, at)
		if b.Form == contract.FormReal {
			w.B = w.A
			w.Round = fromBits(at[a.Width()])
			if b.Counted() {
				w.Round = b.Real(at[a.Width()])
			}
			w.Round = max(w.Round, 0)
		} else {
			w.B.X, w.B.Y = corner(b, at[a.Width():])
		}
		m.wallList = append(m.wallList, w)
	}
}

// route puts the places of the shortest way between two places of a map into memory: none when there is no way. It
// costs as many steps as a search over all of the map looks at places and links, however short the way is.
func (m *Machine) route(f *frame, r *bytecode.Route, to int) end {
	places, how := m.list(f, &r.Places)
	if how != ended {
		return how
	}
	links, how := m.list(f, &r.Links)
	if how != ended {
		return how
	}
	m.steps -= places[0] + 2*links[0]
	if m.steps < 0 {
		return m.fault("it takes too many steps: more than %d", maxSteps)
	}
	way := m.mapOf(r, places, links).Route(placeNumber(f.nums[r.From]), placeNumber(f.nums[r.To]))
	list := f.memory[to:]
	list[0] = int64(len(way))
	for i, p := range way {
		list[1+i] = int64(p)
	}
	return ended
}

// placeNumber returns the number of a place as an int, -1 for one that no map has.
func placeNumber(n int64) int {
	if n < 0 || n >= contract.MaxItems {
		return -1
	}
	return int(n)
}

// mapKey says where the lists of a map stand.
type mapKey struct {
	places, links     bytecode.Space
	placesAt, linksAt int
}

// mapOf returns the map of two lists. That of constants and settings, which stay as they are, is made once.
func (m *Machine) mapOf(r *bytecode.Route, places, links []int64) *geometry.Map {
	stays := func(a *bytecode.Address) bool {
		return a.Index < 0 && (a.Space == bytecode.InTable || a.Space == bytecode.InSettings)
	}
	constant := stays(&r.Places) && stays(&r.Links)
	key := mapKey{r.Places.Space, r.Links.Space, r.Places.Base, r.Links.Base}
	if made := m.maps[key]; constant && made != nil {
		return made
	}
	made := geometry.NewMap(flats(r.Places.Type.Of, places), linksOf(r.Links.Type.Of, links))
	if constant {
		if m.maps == nil {
			m.maps = map[mapKey]*geometry.Map{}
		}
		m.maps[key] = made
	}
	return made
}

// flats returns the places of a list of places, or of records that begin with one.
func flats(of *contract.Type, slots []int64) (out []geometry.Flat) {
	place := of
	if of.Form == contract.FormRecord {
		place = of.Parts[0].Type
	}
	for i := range int(slots[0]) {
		x, y := corner(place, slots[1+i*of.Width():])
		out = append(out, geometry.Flat{X: x, Y: y})
	}
	return out
}

// linksOf returns the links of a list of records that begin with two numbers.
func linksOf(of *contract.Type, slots []int64) (out []geometry.Link) {
	for i := range int(slots[0]) {
		at := slots[1+i*of.Width():]
		out = append(out, geometry.Link{A: placeNumber(at[0]), B: placeNumber(at[1])})
	}
	return out
}

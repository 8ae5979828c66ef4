package rules

import (
	"slices"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// wallKey says where a list of walls stands that stays as it is.
type wallKey struct {
	space bytecode.Space
	at    int
}

// indexOf returns the index of a list of walls. That of constants and settings, which stay as they are, is made once;
// of other lists there is none, and m.wallList has the walls.
func (m *Machine) indexOf(list *bytecode.Address, slots []int64) *geometry.WallIndex {
	if !list.StaysAsItIs() {
		m.gatherWalls(list.Type.Of, slots)
		return nil
	}
	key := wallKey{list.Space, list.Base}
	if made := m.wallsOf[key]; made != nil {
		return made
	}
	m.gatherWalls(list.Type.Of, slots)
	made := geometry.NewWallIndex(slices.Clone(m.wallList))
	if m.wallsOf == nil {
		m.wallsOf = map[wallKey]*geometry.WallIndex{}
	}
	m.wallsOf[key] = made
	return made
}

// wallsIn has m.wallList hold the walls of an index that may be in a box, and charges a step for each cell and wall
// that is looked at, as often as the caller looks at them. Without an index m.wallList has all walls already.
func (m *Machine) wallsIn(index *geometry.WallIndex, low, high geometry.Flat, times int64) end {
	looked := len(m.wallList)
	if index != nil {
		m.wallList, looked = index.Near(m.wallList[:0], low, high)
	}
	return m.spend(times * int64(looked))
}

// spend charges steps.
func (m *Machine) spend(steps int64) end {
	m.steps -= steps
	if m.steps < 0 {
		return m.fault("it takes too many steps: more than %d", maxSteps)
	}
	return ended
}

// walls runs a function of walls into registers. Each wall that it looks at costs a step, and along walls each turn
// looks at all of those that are near.
func (m *Machine) walls(f *frame, fn *bytecode.MathCall, out []int64) end {
	slots, how := m.list(f, &fn.List)
	if how != ended {
		return how
	}
	flat := func(i int) geometry.Flat {
		at := f.nums[fn.Args[i]:]
		return geometry.Flat{X: fromBits(at[0]), Y: fromBits(at[1])}
	}
	index := m.indexOf(&fn.List, slots)
	at := flat(0)
	var p geometry.Flat
	switch fn.Name {
	case "free":
		radius := fromBits(f.nums[fn.Args[1]])
		low := geometry.Flat{X: at.X - radius, Y: at.Y - radius}
		if how := m.wallsIn(index, low, geometry.Flat{X: at.X + radius, Y: at.Y + radius}, 1); how != ended {
			return how
		}
		out[0] = truth(geometry.Free(at, m.wallList, radius))
		return ended
	case "along_walls":
		radius := fromBits(f.nums[fn.Args[3]])
		var low, high geometry.Flat
		if index != nil {
			low, high = index.Reach(at, flat(1), radius)
		}
		if how := m.wallsIn(index, low, high, geometry.Legs+1); how != ended {
			return how
		}
		p = geometry.AlongWalls(at, flat(1), m.wallList, radius)
	default:
		if slots[0] == 0 {
			return m.fault("`nearest` is asked of no walls")
		}
		nearest, how := m.nearestWall(index, at)
		if how != ended {
			return how
		}
		p = nearest
	}
	if !finite(p.X) || !finite(p.Y) {
		return m.fault("`%s` came to be no finite number", fn.Name)
	}
	out[0] = toBits(p.X)
	out[1] = toBits(p.Y)
	return ended
}

// nearestWall returns the place of any wall that is nearest to a place.
func (m *Machine) nearestWall(index *geometry.WallIndex, from geometry.Flat) (geometry.Flat, end) {
	if index != nil {
		var nearest geometry.Wall
		var looked int
		nearest, m.nearWalls, looked = index.Nearest(from, m.nearWalls)
		return nearest.Nearest(from), m.spend(int64(looked))
	}
	nearest := &m.wallList[0]
	for i := range m.wallList {
		if w := &m.wallList[i]; w.Distance(from) < nearest.Distance(from) {
			nearest = w
		}
	}
	return nearest.Nearest(from), m.spend(int64(len(m.wallList)))
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
	if how := m.spend(places[0] + 2*links[0]); how != ended {
		return how
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
	constant := r.Places.StaysAsItIs() && r.Links.StaysAsItIs()
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

package geometry

import "container/heap"

// Link joins two places of a Map, both ways.
type Link struct{ A, B int }

// Map is a table of places with links between them. It does not change, and may be used by many at once.
type Map struct {
	places []Flat
	first  []int32 // by place: where its roads begin among all
	roads  []road  // by place, then in the order of the links
}

// road is a link as it leads away from one of its places.
type road struct {
	to     int32
	length float64
}

// NewMap returns the map of some places and the links between them, which are numbers of places. A link of a place with
// itself, or with what is no place, leads nowhere.
func NewMap(places []Flat, links []Link) *Map {
	m := &Map{places: places, first: make([]int32, len(places)+1)}
	isRoad := func(l Link) bool {
		return l.A != l.B && min(l.A, l.B) >= 0 && max(l.A, l.B) < len(places)
	}
	for _, l := range links {
		if isRoad(l) {
			m.first[l.A+1]++
			m.first[l.B+1]++
		}
	}
	for i := range places {
		m.first[i+1] += m.first[i]
	}
	m.roads = make([]road, m.first[len(places)])
	next := append([]int32{}, m.first...)
	for _, l := range links {
		if !isRoad(l) {
			continue
		}
		length := places[l.A].minus(places[l.B]).length()
		m.roads[next[l.A]] = road{int32(l.B), length}
		next[l.A]++
		m.roads[next[l.B]] = road{int32(l.A), length}
		next[l.B]++
	}
	return m
}

// Size returns how many places and roads a search over the map looks at, at most.
func (m *Map) Size() int { return len(m.places) + len(m.roads) }

// Route returns the places of the shortest way from one place to another, both among them; nil when there is none. Of
// ways that are as long it is the one that a search finds first which looks at places by their distance from the
// beginning, then by number (Dijkstra, 1959).
func (m *Map) Route(from, to int) []int {
	if min(from, to) < 0 || max(from, to) >= len(m.places) {
		return nil
	}
	s := &search{
		way:  make([]float64, len(m.places)),
		back: make([]int32, len(m.places)),
		seen: make([]bool, len(m.places)),
		done: make([]bool, len(m.places)),
	}
	s.reach(int32(from), -1, 0)
	for len(s.open) > 0 {
		at := heap.Pop(s).(reached).place
		if s.done[at] {
			continue
		}
		s.done[at] = true
		if int(at) == to {
			return s.wayTo(at)
		}
		for _, r := range m.roads[m.first[at]:m.first[at+1]] {
			s.reach(r.to, at, s.way[at]+r.length)
		}
	}
	return nil
}

// search is a search for a way. As a heap it has the places that were reached and not looked at.
type search struct {
	way  []float64 // how long the shortest way to a place is that was found
	back []int32   // which place comes before it on that way
	seen []bool    // one was found
	done []bool    // none is shorter
	open []reached
}

// reached is a place to which a way was found.
type reached struct {
	way   float64
	place int32
}

// reach notes a way to a place, if it is shorter than all before.
func (s *search) reach(place, before int32, way float64) {
	if s.seen[place] && s.way[place] <= way {
		return
	}
	s.seen[place] = true
	s.way[place] = way
	s.back[place] = before
	heap.Push(s, reached{way, place})
}

// wayTo returns the places of the way that was found.
func (s *search) wayTo(place int32) []int {
	n := 0
	for p := place; p >= 0; p = s.back[p] {
		n++
	}
	out := make([]int, n)
	for p := place; p >= 0; p = s.back[p] {
		n--
		out[n] = int(p)
	}
	return out
}

// Len implements heap.Interface, like the methods below.
func (s *search) Len() int { return len(s.open) }

// Less orders places by how far away they are, then by number.
func (s *search) Less(i, j int) bool {
	a := s.open[i]
	b := s.open[j]
	if a.way != b.way {
		return a.way < b.way
	}
	return a.place < b.place
}

// Swap exchanges two places.
func (s *search) Swap(i, j int) { s.open[i], s.open[j] = s.open[j], s.open[i] }

// Push adds a place.
func (s *search) Push(x any) { s.open = append(s.open, x.(reached)) }

// Pop removes the last place.
func (s *search) Pop() any {
	last := len(s.open) - 1
	x := s.open[last]
	s.open = s.open[:last]
	return x
}

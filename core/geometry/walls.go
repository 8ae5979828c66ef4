package geometry

import "math"

// Flat is a place or a vector in a plane.
type Flat struct{ X, Y float64 }

// Wall is all that is at most Round away from the straight line between two places of a plane: a segment with a Round
// of 0, a circle with equal ends.
type Wall struct {
	A, B  Flat
	Round float64
}

// Legs is how many legs a move along walls has at most, after the way out of a wall that it begins in.
const Legs = 5

// LeastRadius is the least radius of what moves along walls: what is thinner counts as so wide, so that it touches a
// wall from one side and not on its very line.
const LeastRadius = 0.001

// grazing is how much of a way may lead towards a wall that is touched already and still count as along it: what
// rounding leaves of a direction along the wall.
const grazing = 1e-9

// minus returns the vector from one place to another.
func (p Flat) minus(q Flat) Flat { return Flat{p.X - q.X, p.Y - q.Y} }

// plus returns a place that is t times a vector away.
func (p Flat) plus(t float64, v Flat) Flat { return Flat{p.X + float64(t*v.X), p.Y + float64(t*v.Y)} }

// dot returns the scalar product of two vectors.
func (p Flat) dot(q Flat) float64 { return float64(p.X*q.X) + float64(p.Y*q.Y) }

// length returns the length of a vector.
func (p Flat) length() float64 { return math.Sqrt(p.dot(p)) }

// core returns the place on the line of a wall that is nearest to p.
func (w *Wall) core(p Flat) Flat {
	d := w.B.minus(w.A)
	square := d.dot(d)
	if square == 0 {
		return w.A
	}
	return w.A.plus(min(max(p.minus(w.A).dot(d)/square, 0), 1), d)
}

// Nearest returns the place of a wall that is nearest to p: p itself, where p is in it.
func (w *Wall) Nearest(p Flat) Flat {
	q := w.core(p)
	away := p.minus(q)
	distance := away.length()
	if distance <= w.Round {
		return p
	}
	return q.plus(w.Round/distance, away)
}

// Distance returns how far a place is from a wall; below 0 it is as far inside of it.
func (w *Wall) Distance(p Flat) float64 { return p.minus(w.core(p)).length() - w.Round }

// meets returns at which part of its way, from 0 to 1, what moves from p by a vector comes as near to a wall as radius,
// and more than 1 when it does not. What is as near already meets the wall at once when it moves towards it, and never
// when it moves away.
func (w *Wall) meets(p, by Flat, radius float64) float64 {
	reach := radius + w.Round
	away := p.minus(w.core(p))
	distance := away.length()
	if distance <= reach {
		if distance > 0 && away.dot(by) < -grazing*distance*by.length() {
			return 0
		}
		return 2
	}
	t := min(meetsCircle(w.A, p, by, reach), meetsCircle(w.B, p, by, reach))
	d := w.B.minus(w.A)
	length := d.length()
	if length == 0 {
		return t
	}
	// The sides: lines at the distance of reach, between the ends.
	across := Flat{-d.Y / length, d.X / length}
	height := p.minus(w.A).dot(across)
	fall := by.dot(across)
	if height < 0 {
		height, fall = -height, -fall
	}
	if fall < 0 {
		at := max((height-reach)/-fall, 0)
		if along := p.plus(at, by).minus(w.A).dot(d); along >= 0 && along <= float64(length*length) {
			t = min(t, at)
		}
	}
	return t
}

// meetsCircle is meets for a circle around a place, for what is outside of it.
func meetsCircle(center, p, by Flat, radius float64) float64 {
	from := p.minus(center)
	a := by.dot(by)
	b := from.dot(by)
	if a == 0 || b >= 0 {
		return 2
	}
	root := float64(b*b) - float64(a*(from.dot(from)-float64(radius*radius)))
	if root < 0 {
		return 2
	}
	return max((-b-math.Sqrt(root))/a, 0)
}

// AlongWalls returns where something round comes that moves from one place towards another: as far as walls allow, and
// along them. No part of the way is nearer to a wall than the radius. What stands nearer at the beginning is moved out
// first, as far as other walls allow.
//
// The way is computed in legs. Each leg ends at the wall that it meets first; the next one goes on with what is left of
// the way, without the part that leads into that wall, and ends the move when it would lead back. All of it is the
// usual arithmetic of doubles with a product rounded before it is added, so that whoever computes the same in the same
// order comes to the same bits.
func AlongWalls(from, to Flat, walls []Wall, radius float64) Flat {
	return along(from, to, walls, radius, func(Flat, Flat) {})
}

// along is AlongWalls, and tells of each leg.
func along(from, to Flat, walls []Wall, radius float64, leg func(from, to Flat)) Flat {
	radius = max(radius, LeastRadius)
	p := from
	if out, w := standsIn(p, walls, radius); w != nil {
		t, _ := first(p, out, walls, radius, w)
		next := p.plus(min(t, 1), out)
		leg(p, next)
		p = next
	}
	whole := to.minus(from)
	rest := to.minus(p)
	for range Legs {
		if rest.X == 0 && rest.Y == 0 {
			break
		}
		t, w := first(p, rest, walls, radius, nil)
		next := p.plus(min(t, 1), rest)
		leg(p, next)
		p = next
		if w == nil {
			break
		}
		rest = Flat{float64((1 - t) * rest.X), float64((1 - t) * rest.Y)}
		normal := p.minus(w.core(p))
		if square := normal.dot(normal); square > 0 {
			rest = rest.plus(-normal.dot(rest)/square, normal)
		}
		if rest.dot(whole) <= 0 {
			break
		}
	}
	return p
}

// first returns at which part of its way something meets a wall, and the wall: the first of them, or of those that are
// met at once the first in the list. Without one the part is more than 1. but is passed over.
func first(p, by Flat, walls []Wall, radius float64, but *Wall) (float64, *Wall) {
	best := 2.0
	var met *Wall
	for i := range walls {
		if w := &walls[i]; w != but {
			if t := w.meets(p, by, radius); t < best && t <= 1 {
				best = t
				met = w
			}
		}
	}
	return best, met
}

// standsIn returns the wall that something stands in deepest, and the shortest way out of it; nil for none. There is no
// way out of one on whose very line it stands.
func standsIn(p Flat, walls []Wall, radius float64) (out Flat, in *Wall) {
	deepest := 0.0
	for i := range walls {
		w := &walls[i]
		away := p.minus(w.core(p))
		distance := away.length()
		if depth := radius + w.Round - distance; depth > deepest && distance > 0 {
			deepest = depth
			in = w
			out = Flat{float64(depth / distance * away.X), float64(depth / distance * away.Y)}
		}
	}
	return out, in
}

// Free reports whether no wall is nearer to a place than a radius.
func Free(p Flat, walls []Wall, radius float64) bool {
	for i := range walls {
		if walls[i].Distance(p) < radius {
			return false
		}
	}
	return true
}

// Cross reports whether two segments meet: each has its ends on different sides of the other, or an end of one lies on
// the other. Those whose boxes do not meet never do, whatever rounding makes of the sides.
func Cross(a, b, c, d Flat) bool {
	if max(a.X, b.X) < min(c.X, d.X) || max(c.X, d.X) < min(a.X, b.X) ||
		max(a.Y, b.Y) < min(c.Y, d.Y) || max(c.Y, d.Y) < min(a.Y, b.Y) {
		return false
	}
	c1, c2 := side(a, b, c), side(a, b, d)
	a1, a2 := side(c, d, a), side(c, d, b)
	return a1*a2 < 0 && c1*c2 < 0 || a1 == 0 && inBox(c, d, a) || a2 == 0 && inBox(c, d, b) ||
		c1 == 0 && inBox(a, b, c) || c2 == 0 && inBox(a, b, d)
}

// side returns a number above 0 for what lies to the left of the line from p to q, below 0 to the right of it, and 0 on
// it.
func side(p, q, at Flat) float64 {
	return float64((q.X-p.X)*(at.Y-p.Y)) - float64((q.Y-p.Y)*(at.X-p.X))
}

// inBox reports whether a place lies in the box between two corners.
func inBox(p, q, at Flat) bool {
	return min(p.X, q.X) <= at.X && at.X <= max(p.X, q.X) && min(p.Y, q.Y) <= at.Y && at.Y <= max(p.Y, q.Y)
}

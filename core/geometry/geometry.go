// Package geometry measures places: what the contract language calls near is computed here, once, for bodies, for the
// index of places and for whatever else asks.
//
// A place in a plane is one in space whose third part is 0: sums and roots come to the same doubles. Products are
// converted before they are added, which keeps the compiler from fusing the two, so that results are the same on every
// processor.
package geometry

import "math"

// Point is a place, in units of the world.
type Point [3]float64

// Distance returns the Euclidean distance of two places.
func Distance(a, b *Point) float64 {
	x := a[0] - b[0]
	y := a[1] - b[1]
	z := a[2] - b[2]
	return math.Sqrt(float64(x*x) + float64(y*y) + float64(z*z))
}

// Line is the straight line between two places. With equal ends it is a place.
type Line struct{ From, To Point }

// Distance returns the distance of a place from the line: from its nearest point, which lies between the ends. Beyond
// an end it is the distance from that.
func (l *Line) Distance(p *Point) float64 {
	along := 0.0
	length := 0.0
	for i := range p {
		d := l.To[i] - l.From[i]
		along += float64((p[i] - l.From[i]) * d)
		length += float64(d * d)
	}
	t := 0.0
	if length > 0 {
		t = min(max(along/length, 0), 1)
	}
	sum := 0.0
	for i := range p {
		d := p[i] - (l.From[i] + float64(t*(l.To[i]-l.From[i])))
		sum += float64(d * d)
	}
	return math.Sqrt(sum)
}

// Capsule is what is near a line: all that is at most some distance away from it. Has is what comparing the line's
// Distance gives, in less time.
type Capsule struct {
	line   Line
	along  Point   // from one end to the other
	per    float64 // 1 over the square of the length; 0 for a place
	most   float64
	square float64 // of most
	margin float64 // so close to it, rounding might decide
}

// NewCapsule returns what is at most a distance away from a line.
func NewCapsule(l *Line, most float64) Capsule {
	c := Capsule{line: *l, most: most, square: most * most}
	length := 0.0
	scale := math.Abs(most)
	for i, from := range l.From {
		to := l.To[i]
		d := to - from
		c.along[i] = d
		length += d * d
		scale += math.Abs(from) + math.Abs(to)
	}
	if length > 0 {
		c.per = 1 / length
	}
	// Places are computed to about 1e-16 of the greatest coordinate. What is much farther away than that is not near.
	c.margin = scale * scale * 1e-12
	if !(scale > 1e-100 && scale < 1e100) || length > 0 && length < 1e-200 {
		c.margin = math.Inf(1) // squares would have no digits left
	}
	return c
}

// Has reports whether a place is in the capsule.
func (c *Capsule) Has(p *Point) bool {
	over := c.over(p)
	return over < -c.margin || !(over > c.margin) && c.line.Distance(p) <= c.most // also for what is no number
}

// OverInPlane returns by how much the square of a place's distance is greater than that of the capsule, more or less:
// both lie in a plane. It is small enough to be computed where it is called. What it returns decides when it is
// farther from 0 than Margin; else Has does.
func (c *Capsule) OverInPlane(x, y float64) float64 {
	x -= c.line.From[0]
	y -= c.line.From[1]
	t := min(max((x*c.along[0]+y*c.along[1])*c.per, 0), 1)
	x -= t * c.along[0]
	y -= t * c.along[1]
	return x*x + y*y - c.square
}

// Margin returns how close to 0 OverInPlane decides nothing.
func (c *Capsule) Margin() float64 { return c.margin }

// over returns by how much the square of a place's distance is greater than that of the capsule, more or less.
func (c *Capsule) over(p *Point) float64 {
	x := p[0] - c.line.From[0]
	y := p[1] - c.line.From[1]
	z := p[2] - c.line.From[2]
	t := min(max((x*c.along[0]+y*c.along[1]+z*c.along[2])*c.per, 0), 1)
	x -= t * c.along[0]
	y -= t * c.along[1]
	z -= t * c.along[2]
	return x*x + y*y + z*z - c.square
}

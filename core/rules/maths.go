package rules

import (
	"math"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// maths runs a function of reals into registers.
//
// out may be the registers of an argument, so all arguments are read before anything is written.
// Products are converted before they are added, which keeps the compiler from fusing the two: the
// results are the same on every processor.
//
//revive:disable-next-line:function-length It is one switch.
func (m *Machine) maths(f *frame, fn *bytecode.MathCall, out []int64) end {
	slots := func(i int) []int64 { return f.nums[fn.Args[i]:] }
	real := func(i int) float64 { return fromBits(f.nums[fn.Args[i]]) }
	vec := func(i int) []float64 { return vector(slots(i), fn.Types[i].Width()) }
	give := func(values ...float64) end {
		for i, v := range values {
			if !finite(v) {
				return m.fault("`%s` came to be no finite number", fn.Name)
			}
			out[i] = toBits(v)
		}
		return ended
	}
	whole := func(v float64) end {
		if !(math.Abs(v) < 1<<63) {
			return m.fault("`%s` of %g is not a 64-bit whole number", fn.Name, real(0))
		}
		out[0] = int64(v)
		return ended
	}
	switch fn.Name {
	case "distance":
		n := fn.Types[0].Width()
		p := point(slots(0), n)
		to := geometry.Line{From: point(slots(1), n)}
		if fn.Types[1].Form == contract.FormLine {
			to.To = point(slots(1)[n:], n)
			return give(to.Distance(&p))
		}
		return give(geometry.Distance(&p, &to.From))
	case "dot":
		sum := 0.0
		b := vec(1)
		for i, a := range vec(0) {
			sum += float64(a * b[i])
		}
		return give(sum)
	case "length":
		v := vec(0)
		return give(length(v))
	case "unit":
		v := vec(0)
		n := length(v)
		if n == 0 {
			return m.fault("`unit` of a vector without a direction")
		}
		for i := range v {
			v[i] /= n
		}
		return give(v...)
	case "angle":
		v := vec(0)
		if v[0] == 0 && v[1] == 0 {
			return m.fault("`angle` of a vector without a direction")
		}
		return give(math.Atan2(v[1], v[0]))
	case "turned":
		if fn.Types[0].Form == contract.FormVec2 {
			v := vec(0)
			sin, cos := math.Sincos(real(1))
			return give(float64(v[0]*cos)-float64(v[1]*sin), float64(v[0]*sin)+float64(v[1]*cos))
		}
		return give(rotate(vec(0), vec(1))...)
	case "turn":
		v := vec(0)
		n := length(v)
		if n == 0 {
			return m.fault("`turn` about a vector without a direction")
		}
		sin, cos := math.Sincos(real(1) / 2)
		return give(v[0]/n*sin, v[1]/n*sin, v[2]/n*sin, cos)
	case "abs":
		if fn.Types[0].Form == contract.FormReal {
			return give(math.Abs(real(0)))
		}
		v := f.nums[fn.Args[0]]
		if v == math.MinInt64 {
			return m.fault("-(%d) is not a 64-bit whole number", v)
		}
		out[0] = max(v, -v)
	case "floor":
		return whole(math.Floor(real(0)))
	case "round":
		return whole(math.RoundToEven(real(0)))
	case "root":
		if real(0) < 0 {
			return m.fault("`root` of %g, which is less than 0", real(0))
		}
		return give(math.Sqrt(real(0)))
	case "min", "max":
		best := f.nums[fn.Args[0]]
		for _, at := range fn.Args[1:] {
			v := f.nums[at]
			less := v < best
			if fn.Types[0].Form == contract.FormReal {
				less = fromBits(v) < fromBits(best)
			}
			if v != best && less == (fn.Name == "min") {
				best = v
			}
		}
		out[0] = best
	case "inside":
		return m.inside(f, fn, vec(0), out)
	case "crosses":
		return m.crosses(f, fn, out)
	case "sown":
		whole := func(i int) int64 { return f.nums[fn.Args[i]] }
		if whole(2) > whole(3) {
			return m.fault("a number sown in %d..%d: the range is empty", whole(2), whole(3))
		}
		out[0] = contract.Sown(whole(0), whole(1), whole(2), whole(3))
	case "along_walls", "free", "nearest":
		return m.walls(f, fn, out)
	}
	return ended
}

// length returns the length of a vector.
func length(v []float64) float64 {
	sum := 0.0
	for _, x := range v {
		sum += float64(x * x)
	}
	return math.Sqrt(sum)
}

// rotate turns a vector by a unit quaternion x, y, z, w: v + 2w(q×v) + 2q×(q×v).
func rotate(v, q []float64) []float64 {
	cross := func(a, b []float64) []float64 {
		return []float64{
			float64(a[1]*b[2]) - float64(a[2]*b[1]),
			float64(a[2]*b[0]) - float64(a[0]*b[2]),
			float64(a[0]*b[1]) - float64(a[1]*b[0]),
		}
	}
	t := cross(q[:3], v)
	u := cross(q[:3], t)
	out := make([]float64, 3)
	for i := range out {
		out[i] = v[i] + float64(2*float64(q[3]*t[i])) + float64(2*u[i])
	}
	return out
}

// corner reads the vector at an offset of a list's values.
//
// Lists of properties and tables hold steps, lists of bodies doubles.
func corner(t *contract.Type, slots []int64) (x, y float64) {
	if !t.Counted() {
		return fromBits(slots[0]), fromBits(slots[1])
	}
	return t.Real(slots[0]), t.Real(slots[1])
}

// inside reports whether a point lies in a polygon, by the even-odd rule (Shimrat, 1962).
//
// The last corner is joined with the first. A point on an edge may count as in or out, and always as
// the same.
func (m *Machine) inside(f *frame, fn *bytecode.MathCall, p []float64, out []int64) end {
	slots, how := m.list(f, &fn.List)
	if how != ended {
		return how
	}
	n := int(slots[0])
	of := fn.List.Type.Of
	in := false
	for i := range n {
		ax, ay := corner(of, slots[1+2*i:])
		bx, by := corner(of, slots[1+2*((i+1)%n):])
		if (ay > p[1]) != (by > p[1]) && p[0] < float64((bx-ax)*(p[1]-ay))/(by-ay)+ax {
			in = !in
		}
	}
	out[0] = truth(in)
	return ended
}

// crosses reports whether a line meets any segment of a list. Ends count.
//
// Two segments cross when each has its ends on different sides of the other; one that only touches, or
// lies along the other, is found by an end that lies on it. Those whose boxes do not meet never cross, whatever
// rounding makes of the sides. Each segment that is looked at costs a step.
func (m *Machine) crosses(f *frame, fn *bytecode.MathCall, out []int64) end {
	slots, how := m.list(f, &fn.List)
	if how != ended {
		return how
	}
	at := f.nums[fn.Args[0]:]
	from := geometry.Flat{X: fromBits(at[0]), Y: fromBits(at[1])}
	to := geometry.Flat{X: fromBits(at[2]), Y: fromBits(at[3])}
	if how := m.wallsIn(m.indexOf(&fn.List, slots), from, to, 1); how != ended {
		return how
	}
	out[0] = 0
	for i := range m.wallList {
		if w := &m.wallList[i]; geometry.Cross(from, to, w.A, w.B) {
			out[0] = 1
			break
		}
	}
	return ended
}

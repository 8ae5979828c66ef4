package eval

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"math/big"
	"strings"
)

// What arithmetic cannot give. An expectation that comes to one of these does not hold: a number that has wrapped, or
// an infinity, could meet it by accident.
var (
	errRange     = errors.New("the result is too great or too small for a whole number of 64 bits")
	errUndefined = errors.New("the result is not a number, or too great for one")
	errByZero    = errors.New("a division by zero")
)

// operate computes an operation on two values, or says why there is no result.
//
// Two whole numbers give a whole number and never a double, so that an expectation about 64-bit values
// is exact. A whole number beside a real counts as a double, except in comparisons.
func operate(e *Env, op string, x, y any) (any, error) {
	switch op {
	case "==", "!=":
		eq, err := Same(e.On, x, y)
		return eq == (op == "=="), err
	case "<", "<=", ">", ">=":
		order, ok := compare(x, y)
		if !ok {
			return nil, mismatch(op, x, y)
		}
		// The operator's first character is its direction, and a second one can only be `=`.
		return op[0] == '<' && order < 0 || op[0] == '>' && order > 0 || len(op) == 2 && order == 0, nil
	}
	i, whole := x.(int64)
	j, both := y.(int64)
	if whole && both {
		return operateWhole(op, i, j)
	}
	p, ok := toFloat(x)
	q, both := toFloat(y)
	if ok && both && op != "%" {
		return operateReal(op, p, q)
	}
	return operateVectors(op, x, y)
}

// operateWhole computes with whole numbers. The result is exact, or there is none.
//
// It goes through math/big, which is slow and cannot wrap; an expectation computes few numbers.
func operateWhole(op string, i, j int64) (any, error) {
	a := big.NewInt(i)
	b := big.NewInt(j)
	switch op {
	case "+":
		a.Add(a, b)
	case "-":
		a.Sub(a, b)
	case "*":
		a.Mul(a, b)
	case "/", "%":
		if j == 0 {
			return nil, errByZero
		}
		if op == "/" {
			a.Quo(a, b) // towards zero, as in a contract
		} else {
			a.Rem(a, b)
		}
	default:
		return nil, mismatch(op, i, j)
	}
	if !a.IsInt64() {
		return nil, errRange
	}
	return a.Int64(), nil
}

// operateReal computes with doubles. There is no result that is infinite or not a number.
//
// Every operation rounds by itself, as in the machine that runs contracts: a fused multiply and add
// would differ from it on some processors.
func operateReal(op string, p, q float64) (any, error) {
	switch op {
	case "+":
		return finite(p + q)
	case "-":
		return finite(p - q)
	case "*":
		return finite(p * q)
	case "/":
		if q == 0 {
			return nil, errByZero
		}
		return finite(p / q)
	}
	return nil, mismatch(op, p, q)
}

// finite returns a double, or the error of one that is infinite or not a number.
func finite(f float64) (any, error) {
	if math.IsInf(f, 0) || math.IsNaN(f) {
		return nil, errUndefined
	}
	return f, nil
}

// operateVectors adds or subtracts two vectors of the same length, or multiplies or divides one by a number.
//
// A number stands on the right only, as in a contract's `/`; for `*` the vector goes first as well.
func operateVectors(op string, x, y any) (any, error) {
	v, isV := x.(vector)
	u, isU := y.(vector)
	k, isK := toFloat(y)
	pairs := isU && len(v) == len(u) && (op == "+" || op == "-")
	scales := isK && (op == "*" || op == "/")
	if !isV || !pairs && !scales {
		return nil, mismatch(op, x, y)
	}
	out := vector{}
	for i := range v {
		by := k
		if pairs {
			by = u[i]
		}
		n, err := operateReal(op, v[i], by)
		if err != nil {
			return nil, err
		}
		out = append(out, n.(float64))
	}
	return out, nil
}

// operateOne computes `not` or the negative of a value.
//
// The least whole number has no negative, which operateWhole reports.
func operateOne(op string, v any) (any, error) {
	switch y := v.(type) {
	case bool:
		if op == "not" {
			return !y, nil
		}
	case int64:
		if op == "-" {
			return operateWhole("-", 0, y)
		}
	case float64:
		if op == "-" {
			return -y, nil
		}
	case vector:
		if op == "-" {
			out := vector{}
			for _, f := range y {
				out = append(out, -f)
			}
			return out, nil
		}
	}
	return nil, fmt.Errorf("`%s` does not go with %s", op, Show(v))
}

// mismatch is the error of an operation on values that it is not for.
func mismatch(op string, x, y any) error {
	return fmt.Errorf("`%s` does not go with %s and %s", op, Show(x), Show(y))
}

// compare returns whether a number is less than another one (-1), equal to it (0) or greater (1); ok is false when one
// of them is no number. It is exact: as a double a whole number beyond 2^53 would lose digits, and could equal another.
func compare(x, y any) (order int, ok bool) {
	i, whole := x.(int64)
	j, both := y.(int64)
	if whole && both {
		return cmp.Compare(i, j), true
	}
	if text, isText := x.(string); isText {
		other, both := y.(string)
		return strings.Compare(text, other), both
	}
	a, okA := exact(x)
	b, okB := exact(y)
	if !okA || !okB {
		return 0, false
	}
	return a.Cmp(b), true
}

// exact returns a number without loss; ok is false for anything else, and for what is not finite.
//
// A double has 53 bits of precision and a whole number at most 64, so neither is rounded here.
func exact(v any) (f *big.Float, ok bool) {
	switch n := v.(type) {
	case int64:
		return new(big.Float).SetInt64(n), true // with a precision of 64 bits
	case float64:
		if _, err := finite(n); err == nil {
			return big.NewFloat(n), true
		}
	}
	return nil, false
}

// toFloat returns a number as a double; ok is false for anything else.
func toFloat(v any) (f float64, ok bool) {
	switch n := v.(type) {
	case int64:
		return float64(n), true
	case float64:
		return n, true
	}
	return 0, false
}

// distance returns the Euclidean distance of two points.
func distance(a, b vector) float64 {
	sum := 0.0
	for i := range min(len(a), len(b)) {
		// The conversion keeps the compiler from fusing the multiplication with the addition.
		sum += float64((a[i] - b[i]) * (a[i] - b[i]))
	}
	return math.Sqrt(sum)
}

package typing

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// builtin is a function of the language.
type builtin struct {
	usage       string // how it is called, for a hint
	least, most int    // how many arguments it takes
	typed       func(b *builtinCall) *contract.Expr
	since       int // the language that has it first
}

// builtins are the functions of the language by name. They are set when the program starts: what types their arguments
// looks them up again.
var builtins map[string]builtin

func init() {
	builtins = map[string]builtin{
		"abs":         {"abs(n)", 1, 1, (*builtinCall).abs, 1},
		"along_walls": {"along_walls(from, to, walls, radius)", 4, 4, (*builtinCall).alongWalls, 2},
		"angle":       {"angle(v)", 1, 1, (*builtinCall).angle, 1},
		"clip":        {"clip(n, 0..9)", 2, 2, (*builtinCall).clip, 1},
		"crosses":     {"crosses(line(a, b), walls)", 2, 2, (*builtinCall).crosses, 1},
		"distance":    {"distance(a, b)", 2, 2, (*builtinCall).ofTwoVectors, 1},
		"dot":         {"dot(a, b)", 2, 2, (*builtinCall).ofTwoVectors, 1},
		"exists":      {"exists(thrower)", 1, 1, (*builtinCall).exists, 1},
		"floor":       {"floor(x)", 1, 1, (*builtinCall).wholeOf, 1},
		"free":        {"free(place, radius, walls)", 3, 3, (*builtinCall).free, 2},
		"has_seen":    {"has_seen(c, crate), or has_seen(c, crate.lid)", 2, 2, (*builtinCall).hasSeen, 2},
		"inside":      {"inside(point, corners)", 2, 2, (*builtinCall).inside, 1},
		"length":      {"length(v)", 1, 1, (*builtinCall).length, 1},
		"line":        {"line(a, b)", 2, 2, (*builtinCall).line, 1},
		"made_of":     {"made_of(name, \"a-z\")", 2, 2, (*builtinCall).madeOf, 2},
		"nearest":     {"nearest(place, walls)", 2, 2, (*builtinCall).nearest, 2},
		"now":         {"now()", 0, 0, (*builtinCall).now, 1},
		"number":      {"number(item)", 1, 1, (*builtinCall).numberOf, 2},
		"path":        {"path(pos)", 1, 1, (*builtinCall).path, 1},
		"reveal":      {"reveal(value), or reveal(value) to owner", 1, 1, (*builtinCall).reveal, 1},
		"roll":        {"roll(1..6)", 1, 1, (*builtinCall).roll, 1},
		"root":        {"root(x)", 1, 1, (*builtinCall).root, 1},
		"round":       {"round(x)", 1, 1, (*builtinCall).wholeOf, 1},
		"route":       {"route(from, to, places, links)", 4, 4, (*builtinCall).route, 2},
		"shuffled":    {"shuffled(list)", 1, 1, (*builtinCall).shuffled, 1},
		"since":       {"since(phase)", 1, 1, (*builtinCall).since, 1},
		"sown":        {"sown(seed, n, 0..9)", 3, 3, (*builtinCall).sown, 2},
		"turn":        {"turn(axis, angle)", 2, 2, (*builtinCall).turn, 1},
		"turned":      {"turned(v, angle) or turned(v, rotation)", 2, 2, (*builtinCall).turned, 1},
		"unit":        {"unit(v)", 1, 1, (*builtinCall).unit, 1},
		"vec":         {"vec(x, y) or vec(x, y, z)", 2, 3, (*builtinCall).vec, 1},
	}
}

// IsBuiltin reports whether the language that the contract is written in has a function of a name.
func (c *Unit) IsBuiltin(name string) bool {
	f, is := builtins[name]
	return is && f.since <= max(c.Contract.Language, 1)
}

// builtin types a call of a function of the language. want is the type that the place of the call wants, or nil.
//
// Only `vec` and `reveal` may stand in a constant, since they calculate nothing.
func (e *Scope) builtin(x *syntax.Call, name string, want *contract.Type) *contract.Expr {
	if e.Constant && name != "vec" && name != "reveal" {
		e.Fail(x.At, "not-constant", "this is computed", "a constant is written out")
		return nil
	}
	f := builtins[name]
	b := &builtinCall{
		scope: e,
		call:  x,
		name:  name,
		usage: f.usage,
		want:  want,
	}
	if len(x.Args) < f.least || len(x.Args) > f.most {
		return b.wrong()
	}
	return f.typed(b)
}

// builtinCall is one call of a function of the language. Its methods below type the call of the function that they are
// called after; they return nil when they have reported a mistake.
type builtinCall struct {
	scope  *Scope
	call   *syntax.Call
	name   string
	usage  string
	want   *contract.Type
	failed bool // an argument could not be typed
}

// wrong reports that the arguments are not those that the function takes.
func (b *builtinCall) wrong() *contract.Expr {
	b.scope.Fail(
		b.call.At, "arguments", fmt.Sprintf("`%s` is called with other values than it takes", b.name),
		"as in `"+b.usage+"`",
	)
	return nil
}

// number types an argument that has to be a number.
//
// Whole numbers become reals. Methods type all of their arguments before they look at failed, so that
// all mistakes are told at once.
func (b *builtinCall) number(i int) *contract.Expr {
	v := b.scope.Value(
		b.call.Args[i], &contract.Type{Form: contract.FormReal}, fmt.Sprintf("value %d of `%s`", i+1, b.name),
	)
	b.failed = b.failed || v == nil
	return v
}

// argument types an argument that has to be of one of some forms.
//
// The result is nil only when the argument could not be typed at all; b.failed has to be looked at
// before it is used.
func (b *builtinCall) argument(i int, forms ...contract.Form) *contract.Expr {
	v := b.scope.Expr(b.call.Args[i], nil)
	if v == nil || v.Type.Form == "" {
		b.failed = true
		return nil
	}
	if !slices.Contains(forms, v.Type.Form) {
		b.scope.Fail(
			b.call.Args[i].Span(), "wrong-type",
			fmt.Sprintf("value %d of `%s` is %s", i+1, b.name, describe(v.Type)), "as in `"+b.usage+"`",
		)
		b.failed = true
	}
	return v
}

// vector types an argument that has to be a vector.
func (b *builtinCall) vector(i int) *contract.Expr {
	return b.argument(i, contract.FormVec2, contract.FormVec3)
}

// property types the first argument, which has to name a property.
//
// An access that may be to different properties, depending on the entity's kind, does not count as one.
func (b *builtinCall) property() *contract.Expr {
	v := counted(b.scope.Expr(b.call.Args[0], nil))
	if v == nil || v.Type.Form == "" {
		return nil
	}
	if v.Op != contract.OpGet && v.Op != contract.OpComputed || v.Prop == nil {
		b.scope.Fail(
			b.call.Args[0].Span(), "wrong-type",
			fmt.Sprintf("`%s` is asked of something that is no property", b.name), "as in `"+b.usage+"`",
		)
		return nil
	}
	return v
}

// math returns the call as one that the machine computes, with a result of the form.
//
// The machine finds the function by its name, which is also what a report prints.
func (b *builtinCall) math(form contract.Form, args ...*contract.Expr) *contract.Expr {
	if b.failed {
		return nil
	}
	return &contract.Expr{
		Op:   contract.OpMath,
		Name: b.name,
		Type: &contract.Type{Form: form},
		Args: args,
	}
}

// vec makes a vector of two or three numbers; one of constants is a constant itself.
func (b *builtinCall) vec() *contract.Expr {
	forms := map[int]contract.Form{2: contract.FormVec2, 3: contract.FormVec3}
	out := &contract.Expr{Op: contract.OpVec, Type: &contract.Type{Form: forms[len(b.call.Args)]}}
	constant := true
	for i := range b.call.Args {
		v := b.number(i)
		out.Args = append(out.Args, v)
		constant = constant && v != nil && v.Op == contract.OpConst
	}
	if b.failed {
		return nil
	}
	if !constant {
		return out
	}
	nums := []int64{}
	for _, a := range out.Args {
		nums = append(nums, a.Num)
	}
	return &contract.Expr{Op: contract.OpConst, Type: out.Type, Nums: nums}
}

// ofTwoVectors types `distance` and `dot`, whose result is a real. A distance may also be to a line.
func (b *builtinCall) ofTwoVectors() *contract.Expr {
	p := b.vector(0)
	q := b.argument(1, contract.FormVec2, contract.FormVec3, contract.FormLine)
	if b.failed {
		return nil
	}
	same := p.Type.Form == q.Type.Form
	if q.Type.Form == contract.FormLine {
		same = b.name == "distance" && q.Type.Of.Form == p.Type.Form
	}
	if !same {
		b.scope.Fail(
			b.call.At, "wrong-type",
			fmt.Sprintf("`%s` is asked of %s and %s", b.name, describe(p.Type), describe(q.Type)),
			"both have to lie in a plane, or both in space",
		)
		return nil
	}
	return b.math(contract.FormReal, p, q)
}

// unit is a vector of the same dimension, with length 1.
func (b *builtinCall) unit() *contract.Expr {
	v := b.vector(0)
	if b.failed {
		return nil
	}
	return b.math(v.Type.Form, v)
}

// angle is a real, in radians, of a vector in the plane.
func (b *builtinCall) angle() *contract.Expr {
	return b.math(contract.FormReal, b.argument(0, contract.FormVec2))
}

// turned is a vector: in the plane turned by an angle in radians, in space by a rotation.
func (b *builtinCall) turned() *contract.Expr {
	v := b.vector(0)
	if b.failed {
		return nil
	}
	if v.Type.Form == contract.FormVec3 {
		return b.math(contract.FormVec3, v, b.argument(1, contract.FormRotation))
	}
	return b.math(contract.FormVec2, v, b.number(1))
}

// turn is a rotation about an axis, by an angle in radians.
func (b *builtinCall) turn() *contract.Expr {
	return b.math(contract.FormRotation, b.argument(0, contract.FormVec3), b.number(1))
}

// line is a line between two places of the same dimension.
func (b *builtinCall) line() *contract.Expr {
	p := b.vector(0)
	q := b.vector(1)
	if b.failed {
		return nil
	}
	if p.Type.Form != q.Type.Form {
		return b.wrong()
	}
	return &contract.Expr{
		Op:   contract.OpLine,
		Type: &contract.Type{Form: contract.FormLine, Of: &contract.Type{Form: p.Type.Form}},
		Args: []*contract.Expr{p, q},
	}
}

// path adds slots for the property, behind those of the kind's properties, for where it was a tick ago.
//
// Slots are added when the first `path` of a property is typed, and are shared by all later ones. Kinds
// that never ask pay nothing.
func (b *builtinCall) path() *contract.Expr {
	v := b.property()
	if v == nil {
		return nil
	}
	if v.Op == contract.OpComputed {
		b.scope.Fail(
			b.call.Args[0].Span(), "wrong-type", "`path` is asked of what is computed, which is on no way",
			"ask it of the place that is stored",
		)
		return nil
	}
	if v.Type.Form != contract.FormVec2 && v.Type.Form != contract.FormVec3 {
		b.scope.Fail(
			b.call.Args[0].Span(), "wrong-type", "`path` is asked of something that is no place",
			"of a vector: path(pos)",
		)
		return nil
	}
	if v.Prop.Path < 0 {
		k := v.Args[0].Type.Kinds[0]
		v.Prop.Path = k.Slots
		k.Slots += v.Type.Width()
	}
	return &contract.Expr{
		Op:   contract.OpPath,
		Type: &contract.Type{Form: contract.FormLine, Of: &contract.Type{Form: v.Type.Form}},
		Prop: v.Prop,
		Args: v.Args,
	}
}

// inside is a truth: whether a place lies in the polygon of a list of places.
func (b *builtinCall) inside() *contract.Expr {
	p := b.argument(0, contract.FormVec2)
	l := b.argument(1, contract.FormList)
	if !b.failed && l.Type.Of.Form != contract.FormVec2 {
		return b.wrong()
	}
	return b.math(contract.FormBool, p, l)
}

// crosses is a truth: whether a line in the plane meets any segment of a list.
func (b *builtinCall) crosses() *contract.Expr {
	p := b.argument(0, contract.FormLine)
	l := b.argument(1, contract.FormList)
	if !b.failed && (p.Type.Of.Form != contract.FormVec2 || !isListOfSegments(l.Type)) {
		b.scope.Fail(
			b.call.At, "wrong-type",
			"`crosses` is asked of a line in a plane against a list of records that begin with two ends",
			"as in `type Segment { a: Place, b: Place }`",
		)
		return nil
	}
	return b.math(contract.FormBool, p, l)
}

// clip is a number within a range. It is a real when any of the three numbers is.
func (b *builtinCall) clip() *contract.Expr {
	r, ok := b.call.Args[1].(*syntax.Range)
	if !ok {
		return b.wrong()
	}
	v := b.scope.Expr(b.call.Args[0], nil)
	low := b.scope.Expr(r.Low, nil)
	high := b.scope.Expr(r.High, nil)
	if v == nil || low == nil || high == nil {
		return nil
	}
	form := contract.FormInt
	for i, part := range []*contract.Expr{v, low, high} {
		switch part.Type.Form {
		case contract.FormInt:
		case contract.FormReal:
			form = contract.FormReal
		default:
			if part.Type.Form != "" {
				b.scope.Fail(
					[]syntax.Expr{b.call.Args[0], r.Low, r.High}[i].Span(), "wrong-type",
					fmt.Sprintf("value %d of `clip` is %s", i+1, describe(part.Type)), "it has to be a number",
				)
			}
			return nil
		}
	}
	if form == contract.FormReal {
		v = real(v)
		low = real(low)
		high = real(high)
	}
	return &contract.Expr{
		Op:   contract.OpClip,
		Type: &contract.Type{Form: form},
		Args: []*contract.Expr{v, low, high},
	}
}

// roll is a whole number from a range that is not empty.
//
// Of two constants the range is checked here; else an empty one is a fault when it runs.
func (b *builtinCall) roll() *contract.Expr {
	r, ok := b.call.Args[0].(*syntax.Range)
	if !ok {
		return b.wrong()
	}
	if !b.mayRoll() {
		return nil
	}
	low := b.scope.Value(r.Low, &contract.Type{Form: contract.FormInt}, "the least of the roll")
	high := b.scope.Value(r.High, &contract.Type{Form: contract.FormInt}, "the greatest of the roll")
	if low == nil || high == nil {
		return nil
	}
	if low.Op == contract.OpConst && high.Op == contract.OpConst && low.Num > high.Num {
		b.scope.Fail(
			b.call.At, "out-of-range", fmt.Sprintf("the range %d..%d is empty", low.Num, high.Num),
			"the least value stands first",
		)
		return nil
	}
	return &contract.Expr{
		Op:   contract.OpRoll,
		Type: &contract.Type{Form: contract.FormInt},
		Args: []*contract.Expr{low, high},
	}
}

// sown is a number of the public sequence of a seed. Unlike a roll it changes with nothing but its arguments, and may
// stand wherever something is computed.
func (b *builtinCall) sown() *contract.Expr {
	r, ok := b.call.Args[2].(*syntax.Range)
	if !ok {
		return b.wrong()
	}
	var args []*contract.Expr
	for i, arg := range []syntax.Expr{b.call.Args[0], b.call.Args[1], r.Low, r.High} {
		what := [...]string{"the seed", "the place", "the least of the range", "the greatest of the range"}[i]
		if v := b.scope.Value(arg, &contract.Type{Form: contract.FormInt}, what); v != nil {
			args = append(args, v)
		}
	}
	if len(args) < 4 {
		return nil
	}
	if low, high := args[2], args[3]; low.Op == contract.OpConst && high.Op == contract.OpConst && low.Num > high.Num {
		b.scope.Fail(
			b.call.At, "out-of-range", fmt.Sprintf("the range %d..%d is empty", low.Num, high.Num),
			"the least value stands first",
		)
		return nil
	}
	return b.math(contract.FormInt, args...)
}

// shuffled copies the list into memory of the body, where the machine shuffles it.
//
// A list that is written out takes the type that is wanted, so that `shuffled([red, blue])` may name
// values of an enum.
func (b *builtinCall) shuffled() *contract.Expr {
	if !b.mayRoll() {
		return nil
	}
	var v *contract.Expr
	if l, ok := b.call.Args[0].(*syntax.List); ok && b.want != nil && b.want.Form == contract.FormList {
		v = b.scope.list(l, b.want, "this list")
	} else {
		v = b.argument(0, contract.FormList)
	}
	if v == nil || b.failed {
		return nil
	}
	return &contract.Expr{
		Op:   contract.OpCopy,
		Type: v.Type,
		Num:  b.scope.room(b.call.At, v.Type),
		Args: []*contract.Expr{v},
	}
}

// mayRoll reports whether dice may be rolled here, and tells a mistake when not.
//
// Conditions and checks may not roll because they are computed as often as the engine likes, and every
// roll takes the next number of the session's dice.
func (b *builtinCall) mayRoll() bool {
	e := b.scope
	if e.Still {
		e.Fail(
			b.call.At, "impure",
			fmt.Sprintf("`%s` rolls, and a check or condition may not", b.name), "roll in the body",
		)
		return false
	}
	e.Rolled = true
	return true
}

// since is the time in which a property has not changed.
//
// The machine keeps no clock for it: each row knows the tick of each property's last change.
func (b *builtinCall) since() *contract.Expr {
	v := b.property()
	if v == nil {
		return nil
	}
	return &contract.Expr{
		Op:   contract.OpSince,
		Type: &contract.Type{Form: contract.FormTime},
		Prop: v.Prop,
		Args: v.Args,
	}
}

// hasSeen is a truth: whether a client has confirmed that it knows of an entity, or a property as it is now.
//
// It changes without a write, so that neither audiences nor computed properties can follow it; a function could be
// called from both.
func (b *builtinCall) hasSeen() *contract.Expr {
	e := b.scope
	client := b.argument(0, contract.FormClient)
	v := e.Expr(b.call.Args[1], nil)
	if v == nil || b.failed {
		return nil
	}
	if e.Fn != nil || e.Viewer {
		e.Fail(
			b.call.At, "wrong-place", "what clients have confirmed cannot be asked in a function or an audience",
			"ask in a check or a body",
		)
		return nil
	}
	e.Contract.AsksSeen = true
	out := &contract.Expr{Op: contract.OpSeen, Type: &contract.Type{Form: contract.FormBool}}
	of := v
	if v.Op == contract.OpCount { // how a container is read that stands for itself
		of = v.Args[0]
	}
	switch {
	case v.Type.Form == contract.FormEntity:
		out.Args = []*contract.Expr{client, v}
	case (of.Op == contract.OpGet || of.Op == contract.OpComputed) && of.Prop != nil:
		out.Prop = of.Prop
		out.Args = []*contract.Expr{client, of.Args[0]}
	default:
		e.Fail(
			b.call.Args[1].Span(), "wrong-type", "`has_seen` is asked of something that is no entity and no property",
			"as in `"+b.usage+"`",
		)
		return nil
	}
	return out
}

// exists is a truth: whether an entity or client is there.
func (b *builtinCall) exists() *contract.Expr {
	v := b.argument(0, contract.FormEntity, contract.FormClient)
	if b.failed {
		return nil
	}
	return &contract.Expr{
		Op:   contract.OpExists,
		Type: &contract.Type{Form: contract.FormBool},
		Args: []*contract.Expr{v},
	}
}

// reveal keeps the text of what is revealed as its name, for reports. A constant is no secret and stays as it is.
//
// It computes nothing: the machine passes the value through, and the leak analysis stops following it
// there. With `to` it stops for the named audience only.
func (b *builtinCall) reveal() *contract.Expr {
	v := b.scope.Expr(b.call.Args[0], b.want)
	if v == nil {
		return nil
	}
	if v.Type.Holder() {
		return b.wrong()
	}
	if v.Op == contract.OpConst {
		return v
	}
	at := b.call.Args[0].Span()
	out := &contract.Expr{
		Op:   contract.OpReveal,
		Type: v.Type,
		Args: []*contract.Expr{v},
		Name: strings.Join(strings.Fields(b.scope.Source.Text[at.Start:at.End]), " "),
	}
	if b.call.To != nil {
		out.Who = b.scope.Who(b.call.To, "may learn something")
		if out.Who == nil {
			return nil
		}
	}
	return out
}

// abs is a number of the same form.
func (b *builtinCall) abs() *contract.Expr {
	v := b.argument(0, contract.FormInt, contract.FormReal)
	if b.failed {
		return nil
	}
	return b.math(v.Type.Form, v)
}

// wholeOf types `floor` and `round`, whose result is a whole number.
func (b *builtinCall) wholeOf() *contract.Expr { return b.math(contract.FormInt, b.number(0)) }

// root is a real: the square root.
func (b *builtinCall) root() *contract.Expr { return b.math(contract.FormReal, b.number(0)) }

// now is an instant of the session's clock.
func (b *builtinCall) now() *contract.Expr {
	return &contract.Expr{Op: contract.OpNow, Type: &contract.Type{Form: contract.FormInstant}}
}

package typing

import (
	"kamerad.example/core/contract"
)

// isListOfWalls reports whether a list holds records that begin with two places in a plane, which are the ends of a
// wall, or with a place and a real, which are a circle.
func isListOfWalls(t *contract.Type) bool {
	parts := t.Of.Parts
	return t.Of.Form == contract.FormRecord && len(parts) >= 2 && parts[0].Type.Form == contract.FormVec2 &&
		(parts[1].Type.Form == contract.FormVec2 || parts[1].Type.Form == contract.FormReal)
}

// walls types an argument that has to be a list of walls.
func (b *builtinCall) walls(i int) *contract.Expr {
	l := b.argument(i, contract.FormList)
	if !b.failed && !isListOfWalls(l.Type) {
		b.scope.Fail(
			b.call.Args[i].Span(), "wrong-type", "these are no walls",
			"a list of records that begin with two ends, or with the middle and the radius of a circle: "+
				"`type Wall { a: Place, b: Place }`",
		)
		b.failed = true
	}
	return l
}

// since2 reports whether the function may be called in the contract's language, and tells a mistake when not.
func (b *builtinCall) since2() bool {
	return b.scope.NeedsLanguage2(b.call.At, "`"+b.name+"`")
}

// alongWalls is a place in a plane.
func (b *builtinCall) alongWalls() *contract.Expr {
	from := b.argument(0, contract.FormVec2)
	to := b.argument(1, contract.FormVec2)
	walls := b.walls(2)
	radius := b.number(3)
	if !b.since2() {
		return nil
	}
	return b.math(contract.FormVec2, from, to, walls, radius)
}

// free is a truth: whether no wall is nearer to a place than a radius.
func (b *builtinCall) free() *contract.Expr {
	p := b.argument(0, contract.FormVec2)
	radius := b.number(1)
	walls := b.walls(2)
	if !b.since2() {
		return nil
	}
	return b.math(contract.FormBool, p, radius, walls)
}

// nearest is a place in a plane: that of some walls which is nearest to another.
func (b *builtinCall) nearest() *contract.Expr {
	p := b.argument(0, contract.FormVec2)
	walls := b.walls(1)
	if !b.since2() {
		return nil
	}
	return b.math(contract.FormVec2, p, walls)
}

// route is a list of the numbers of places, in memory of the body.
func (b *builtinCall) route() *contract.Expr {
	whole := &contract.Type{Form: contract.FormInt}
	from := b.scope.Value(b.call.Args[0], whole, "where the route begins")
	to := b.scope.Value(b.call.Args[1], whole, "where the route ends")
	places := b.argument(2, contract.FormList)
	links := b.argument(3, contract.FormList)
	if b.failed || from == nil || to == nil || !b.since2() {
		return nil
	}
	place := places.Type.Of
	if place.Form == contract.FormRecord {
		place = place.Parts[0].Type
	}
	parts := links.Type.Of.Parts
	joins := len(parts) >= 2 && parts[0].Type.Form == contract.FormInt && parts[1].Type.Form == contract.FormInt
	if place.Form != contract.FormVec2 || !joins {
		b.scope.Fail(
			b.call.At, "wrong-type", "`route` is asked for a way over what is no map",
			"over a list of places, or of records that begin with one, and a list of records that begin with the "+
				"numbers of two of them: `type Link { a: int 0..99, b: int 0..99 }`",
		)
		return nil
	}
	most := places.Type.Max
	way := &contract.Type{
		Form: contract.FormList,
		Of:   &contract.Type{Form: contract.FormInt, Low: 0, High: int64(max(most-1, 1))},
		Max:  most,
	}
	return &contract.Expr{
		Op:   contract.OpRoute,
		Type: way,
		Num:  b.scope.room(b.call.At, way),
		Args: []*contract.Expr{from, to, places, links},
	}
}

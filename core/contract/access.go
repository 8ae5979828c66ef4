package contract

import "slices"

// Access says how a query finds what it goes over.
type Access uint8

// The ways to find what a query goes over. All but AccessScan look at what may be wanted, and not at the rest.
const (
	AccessScan    Access = iota // one by one
	AccessPlace                 // entities by the index of their places, for `within`
	AccessNearest               // the same from the nearest on, for the least of a distance
	AccessValue                 // entities by the index of a property, which `where` compares first
	AccessNumber                // nothing is looked at: how many there are, or the first, is known
)

// Access returns how the query finds what it goes over. It is decided by what the contract says alone.
func (q *Query) Access() Access {
	switch {
	case q.Within != nil:
		return AccessPlace
	case q.List != nil, q.Low != nil:
		return AccessScan
	case q.Where == nil && q.Value == nil && (q.Do == "count" || q.Do == "any"),
		q.Where == nil && q.Do == "first" && q.Kinds != nil:
		return AccessNumber
	}
	if properties, _ := q.Key(); properties != nil {
		return AccessValue
	}
	if q.Origin() != nil {
		return AccessNearest
	}
	return AccessScan
}

// Key returns what a query compares first of each entity: its property, by the index of its kind, and the value that
// this has to have. It returns nil for a query without such a comparison. The value is the same for all entities, and
// never faults.
//
// Where the comparison is not the first thing that is asked, what stands before it may fault for entities that have
// another value.
func (q *Query) Key() (properties []*Property, value *Expr) {
	x := q.Where
	for x != nil && x.Op == OpAnd {
		x = x.Args[0]
	}
	if q.Kinds == nil || x == nil || x.Op != OpEq {
		return nil, nil
	}
	for i, side := range x.Args {
		other := x.Args[1-i]
		switch side.Type.Form {
		case FormInt, FormEnum, FormEntity, FormClient:
		default:
			continue
		}
		// What is gone counts as nothing, whatever number stands for it.
		isNothing := other.Op == OpConst && (side.Type.Form == FormEntity || side.Type.Form == FormClient)
		if properties := q.readsOfEach(side); properties != nil && !isNothing && q.isSteady(other) {
			return properties, other
		}
	}
	return nil, nil
}

// Origin returns the place from which a query for the nearest entity measures, or nil for any other query: it is one
// for the least distance of the property `pos`, from a place that is the same for all and never faults.
func (q *Query) Origin() *Expr {
	if q.Do != "least" && q.Do != "min" || q.Kinds == nil || q.Value == nil || q.Value.Op != OpMath ||
		q.Value.Name != "distance" {
		return nil
	}
	for i, side := range q.Value.Args {
		other := q.Value.Args[1-i]
		if side.Op != OpReal || other.Type.Form == FormLine {
			continue
		}
		properties := q.readsOfEach(side.Args[0])
		if properties != nil && q.isSteady(other) && named(properties, "pos") {
			return other
		}
	}
	return nil
}

// NoteIndexes notes of the kinds that the query goes over by which property it looks for them.
func (q *Query) NoteIndexes() {
	byKey, _ := q.Key()
	for _, k := range q.Kinds {
		var p *Property
		switch q.Access() {
		case AccessPlace, AccessNearest:
			p = k.Property("pos")
		case AccessValue:
			p = byKey[k.Index]
		}
		if p != nil && !slices.Contains(k.Indexed, p) {
			k.Indexed = append(k.Indexed, p)
		}
	}
}

// named reports whether properties have a name.
func named(properties []*Property, name string) bool {
	for _, p := range properties {
		if p != nil && p.Name != name {
			return false
		}
	}
	return true
}

// readsOfEach returns the property that an expression reads of each entity that the query goes over, by the index of
// its kind, and nil for any other expression.
func (q *Query) readsOfEach(x *Expr) []*Property {
	if x.Op != OpGet || x.Args[0].Op != OpLocal || x.Args[0].Num != q.Var.Num {
		return nil
	}
	if x.Props != nil {
		return x.Props
	}
	k := q.Kinds[0]
	out := make([]*Property, k.Index+1)
	out[k.Index] = x.Prop
	return out
}

// isSteady reports whether an expression has the same value for all that the query goes over, and can be computed
// before it is known whether there are any: it does not fault.
func (q *Query) isSteady(x *Expr) bool {
	switch x.Op {
	case OpConst, OpSelf, OpCaller, OpViewer, OpSetting:
		return true
	case OpLocal:
		return x.Num != q.Var.Num
	case OpReal, OpField:
		return q.isSteady(x.Args[0])
	case OpEntityOf:
		return x.Args[0].Op == OpCaller || x.Args[0].Op == OpViewer
	case OpGet:
		return x.Prop != nil && (x.Args[0].Op == OpSelf || x.Args[0].Op == OpShared)
	}
	return false
}

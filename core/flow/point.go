package flow

import "kamerad.example/core/contract"

// Point is a place in a body at which the analysis stands, for who wants to know what holds there. What it reads is
// reported to nobody. Only one goroutine may use it.
type Point struct{ flow *flow }

// AtRequest returns the head of a request: its arguments are known, and nothing of it has run.
func AtRequest(c *contract.Contract, r *contract.Request) *Point {
	return &Point{silentFlows(c).atRequest(r)}
}

// AtPiece returns the beginning of a handler or timer.
func AtPiece(c *contract.Contract, p *contract.Piece) *Point {
	l := silentFlows(c)
	return &Point{l.newFlow(l.newCause("", 0, p.Kind), p.Kind, p.Offset)}
}

// Pass goes on behind a statement.
func (p *Point) Pass(s *contract.Stmt) { p.flow.stmt(s) }

// Decided returns -1 for a condition that never holds here and 1 for one that always does, by the ranges of what it
// compares; else it returns 0.
func (p *Point) Decided(x *contract.Expr) int { return p.flow.decided(x) }

// CallerKnows reports whether the caller of a request may know all that an expression tells.
func (p *Point) CallerKnows(x *contract.Expr) bool {
	f := p.flow
	return f.leaks(f.observed(x, f.value(x)), f.toCaller("")) == nil
}

// CallerSees reports whether the caller of a request may know a property, of the entity of a kind that an expression
// gives.
func (p *Point) CallerSees(k *contract.Kind, property *contract.Property, entity *contract.Expr) bool {
	f := p.flow
	return f.leaks(f.property(k, property, f.symOf(entity)), f.toCaller("")) == nil
}

package bytecode

import (
	"kamerad.example/core/contract"
)

// Program is the compiled form of a contract. It is immutable and may be shared.
type Program struct {
	Contract          *contract.Contract
	Requests          []Code
	From              []*ClientList // by request; nil where who is asking says it all
	Pauses            []*Code       // by request: computes its pause in milliseconds; nil for none and for a constant
	Actions           []Code
	Functions         []Code
	Audiences         []Code
	Splits            []*Split // by audience; nil for one that has to be asked
	OnJoin            *Code    // nil when the contract has none, as the next three
	OnLost            *Code
	OnBack            *Code
	OnStay            *Code
	OnSilent          *Code
	OnHeard           *Code
	OnLeave           *Code
	Kinds             []KindCode
	Indexes           []Index // by kind
	HasChangeHandlers bool    // some kind has an `on change`
	HasComputed       bool    // some kind has a computed property
	Memory            int     // slots of memory that the body which needs most has
}

// Index says what the queries of a contract look for entities of a kind by.
type Index struct {
	Place  *contract.Property // nil when nobody asks what is near
	Shifts []int              // of the grids: a cell is 1<<shift steps wide
	Values []*contract.Property
}

// KindCode is the code of what a kind declares; nil for what it does not.
type KindCode struct {
	Start      *Code
	Spawn      *Code
	Despawn    *Code
	Tick       *Code
	OwnerLost  *Code
	OwnerLeave *Code
	Change     []*Code // by property
	Timers     []TimerCode
	To         *ClientList    // nil unless the audience is Some
	Properties []PropertyCode // by property
	Computed   []*contract.Property
	Reads      uint64 // properties that the computed ones read, as a bit set
}

// PropertyCode is the code of a property's clauses; nil for what it does not have.
type PropertyCode struct {
	To    *ClientList // nil unless the audience is Some
	SetBy *Code       // computes the client that may write it
	Rate  *Code       // computes the rate of its pace; nil for a constant
	Pace  *Code       // computes what a write costs, from the old value and the new one
	Rule  *Code       // computes whether a write is allowed, from the same
	When  *Code       // of a hold: computes whether it may be held
	Value *Code       // of a computed property: computes its value, as its type holds it
}

// TimerCode is the code of a timer.
type TimerCode struct {
	While *Code // nil for a timer that always runs
	Wait  *Code // computes its time in milliseconds; nil for a constant
	Body  *Code
}

// ClientList computes a list of clients: the code of what its terms need, and the terms.
type ClientList struct {
	Code
	Terms []Term
}

// Split is an audience that was taken apart.
type Split struct {
	Conditions [2][]*Code // the viewer's, the entity's
	Keys       [2][]*Code
	Positions  [2]*Code
	Radius     *Code
	Direct     [2]*Direct // a side that is a property as it stands: it is read without being run
}

// Direct is a property of the viewer's own entity, or of the entity that an audience is of.
type Direct struct {
	Kind     *contract.Kind
	Property *contract.Property
	Near     bool // it is the place, else the only key
}

// EachCode calls f for each body and condition of the contract, in a fixed order: requests, actions, functions,
// handlers, and what belongs to kinds and their properties. Audiences and lists of clients are none.
func (p *Program) EachCode(f func(c *Code)) {
	for _, list := range [][]Code{p.Requests, p.Actions, p.Functions} {
		for i := range list {
			f(&list[i])
		}
	}
	each := func(codes ...*Code) {
		for _, c := range codes {
			if c != nil {
				f(c)
			}
		}
	}
	each(p.Pauses...)
	each(p.OnJoin, p.OnLost, p.OnBack, p.OnLeave, p.OnStay, p.OnSilent, p.OnHeard)
	for i := range p.Kinds {
		k := &p.Kinds[i]
		each(k.Start, k.Spawn, k.Despawn, k.Tick, k.OwnerLost, k.OwnerLeave)
		each(k.Change...)
		for _, t := range k.Timers {
			each(t.While, t.Wait, t.Body)
		}
		for _, q := range k.Properties {
			each(q.SetBy, q.Pace, q.Rate, q.Rule, q.When, q.Value)
		}
	}
}

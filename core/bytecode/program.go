package bytecode

import (
	"kamerad.example/core/contract"
)

// Program is the compiled form of a contract. It is immutable and may be shared.
type Program struct {
	Contract          *contract.Contract
	Requests          []Code
	From              []*ClientList // by request; nil where who is asking says it all
	Actions           []Code
	Functions         []Code
	Audiences         []Code
	Splits            []*Split // by audience; nil for one that has to be asked
	OnJoin            *Code    // nil when the contract has none, as the next three
	OnLost            *Code
	OnBack            *Code
	OnLeave           *Code
	Kinds             []KindCode
	HasChangeHandlers bool // some kind has an `on change`
	Memory            int  // slots of memory that the body which needs most has
}

// KindCode is the code of what a kind declares; nil for what it does not.
type KindCode struct {
	Start      *Code
	Spawn      *Code
	Tick       *Code
	OwnerLost  *Code
	OwnerLeave *Code
	Change     []*Code // by property
	Timers     []TimerCode
	To         *ClientList    // nil unless the audience is Some
	Properties []PropertyCode // by property
}

// PropertyCode is the code of a property's clauses; nil for what it does not have.
type PropertyCode struct {
	To    *ClientList // nil unless the audience is Some
	SetBy *Code       // computes the client that may write it
	Pace  *Code       // computes what a write costs, from the old value and the new one
	Rule  *Code       // computes whether a write is allowed, from the same
	When  *Code       // of a hold: computes whether it may be held
}

// TimerCode is the code of a timer.
type TimerCode struct {
	While *Code // nil for a timer that always runs
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

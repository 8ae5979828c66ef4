// Package contract holds what a contract means: its typed model, and the checker that builds the model from a tree or tells
// every mistake that keeps it from being built.
//
// A Contract is immutable once built and may be shared by any number of sessions. It knows nothing of running.
package contract

import "kamerad/core/syntax"

// Bounds of what one contract may declare.
const (
	MaxKinds      = 200
	MaxProperties = 64 // of one kind
	MaxRequests   = 100
	MaxEvents     = 100
	MaxActions    = 100
	MaxTimers     = 32 // of one kind
	MaxParams     = 16
	MaxEnumValues = 256
	MaxText       = 1000 // characters of a text
	MaxStacks     = 64
	MaxStackCount = 1_000_000
	MaxSeats      = 1000
	MaxTickRate   = 120
	MaxLimit      = 1000 // requests of one limit's window
	MaxRoles      = 16
	MaxLocals     = 100 // arguments and names of one request or handler, numbers and texts apart
)

// Contract is a checked contract.
type Contract struct {
	Name     string
	TickRate int // ticks per second
	Seats    int
	Roles    []string // the first is the one that a client without a wish gets
	Enums    []*Enum
	Kinds    []*Kind
	Requests []*Request // of all kinds
	Events   []*Event   // of all kinds, then the contract's own
	Actions  []*Action  // of all kinds
	OnJoin   *Body      // nil when absent; the client is its first local number
	Source   *syntax.Source
}

// Enum is a list of named values; a value is held as its index.
type Enum struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Audience says who gets a value. The order matters: a smaller one is contained in a greater one.
type Audience uint8

// The audiences of properties and kinds.
const (
	Nobody Audience = iota
	Owner
	Everyone
)

func (a Audience) String() string { return [...]string{"nobody", "owner", "everyone"}[a] }

// Kind is a declared type of entity. Its row has Nums whole numbers and Texts texts.
type Kind struct {
	Index      int
	Name       string
	Shared     bool
	Per        int // role that each client of gets one of; -1 for shared
	To         Audience
	Properties []*Property
	Requests   []*Request
	Events     []*Event
	Actions    []*Action
	OnSpawn    *Body   // nil when absent
	OnChange   []*Body // by property; nil where there is none
	Timers     []*Timer
	Nums       int
	Texts      int
}

// Visible tells whether any client is ever told of an entity of this kind.
func (k *Kind) Visible() bool { return k.To != Nobody }

// Property returns the property of a name, or nil.
func (k *Kind) Property(name string) *Property {
	for _, p := range k.Properties {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Property is a typed value of a kind. Slot is where its row keeps it: in the numbers, or in the texts for a text.
type Property struct {
	Index   int
	Name    string
	Type    *Type
	Default Value
	Clamped bool
	To      Audience // already narrowed by the kind's audience
	Slot    int
}

// Param is an argument of a request or event.
type Param struct {
	Name string `json:"name"`
	Type *Type  `json:"type"`
}

// Limit bounds how often one caller may send one request to one entity: Count times in any Window ticks.
type Limit struct {
	Count  int
	Window int64 // ticks
	Ms     int64
}

// Request is a server RPC.
type Request struct {
	Index  int
	Kind   *Kind
	Name   string
	Params []Param
	Reply  *Type // nil when it gives none
	From   []Who
	Limit  *Limit
	Pause  *Pause
	Head   []Stmt // Let and Check
	Body   []Stmt
	Checks []Check
	Nums   int // local numbers, arguments first
	Texts  int // local texts, arguments first
	Line   int
}

// Pause is the least time between two accepted requests of one caller to one entity.
type Pause struct {
	Ticks  int64
	Ms     int64
	Reason string
}

// FullName is the name that clients ask by, such as `Diver.use`.
func (r *Request) FullName() string { return r.Kind.Name + "." + r.Name }

// Check describes a check of a request's head, in order.
type Check struct {
	Text   string `json:"text"` // the condition as written
	Reason string `json:"reason"`
	Drop   bool   `json:"drop,omitempty"` // it drops the request without a reason
	Line   int    `json:"line"`
}

// Event is a client RPC. Kind is nil for an event of the contract itself.
type Event struct {
	Index  int
	Kind   *Kind
	Name   string
	Params []Param
}

// FullName is the name that clients hear it by: `Diver.used`, or `welcome` for one of the contract itself.
func (e *Event) FullName() string {
	if e.Kind == nil {
		return e.Name
	}
	return e.Kind.Name + "." + e.Name
}

// Body is what a handler, a timer or an action runs.
type Body struct {
	Stmts []Stmt
	Nums  int // local numbers, arguments first
	Texts int
	Line  int
}

// Action is a piece of a body that other bodies of any kind can run on an entity of its kind. Actions run each other without
// a circle.
type Action struct {
	Index  int
	Kind   *Kind
	Name   string
	Params []Param
	Body   *Body
}

// Timer runs its body each Ticks ticks in which While holds, or once after Ticks ticks. It counts in the row of its entity.
type Timer struct {
	Ticks int64
	After bool
	While *Body // its one statement is a check; nil when absent
	Body  *Body
	Slot  int
}

// Who is one term of a list of clients, read from left to right.
type Who struct {
	But  bool
	Sort WhoSort
	Role int   // of ToRole
	X    *Expr // of ToClient
}

// WhoSort says which clients a term means.
type WhoSort uint8

// The sorts of terms.
const (
	ToEveryone WhoSort = iota
	ToNobody
	ToOwner
	ToCaller
	ToRole
	ToClient
)

// Op is what an expression or statement does.
type Op uint8

// The operations of expressions.
const (
	OpConst Op = iota // Num or Text
	OpLocal           // Num is the index among the local numbers, or texts
	OpSelf
	OpCaller
	OpOwner    // Args[0] an entity
	OpEntityOf // Args[0] a client, Kind: its entity of a per-role kind
	OpShared   // Kind: the one entity of a shared kind
	OpGet      // Args[0] an entity, Prop
	OpName     // Args[0] a client
	OpRole     // Args[0] a client
	OpNumber   // Args[0] a client: its number
	OpReal     // Args[0] a count of steps of its type: the real that it stands for
	OpSteps    // Args[0] a real: the count of steps of the expression's type that is nearest to it
	OpFromInt
	OpNot
	OpNeg
	OpAdd
	OpSub
	OpMul
	OpDiv
	OpMod
	OpAnd
	OpOr
	OpEq
	OpNe
	OpLt
	OpLe
	OpGt
	OpGe
	OpHas   // Args: entity, item, count; Prop
	OpCount // Args: entity, item; Prop
	OpRoom  // Args: entity, item; Prop
	// The operations of statements.
	OpLet   // Num the local, Value
	OpCheck // Value, Num the index among the request's checks
	OpSet   // X an entity, Prop, Value
	OpPut   // X an entity, Prop, Args: item, count
	OpTake  // X an entity, Prop, Args: item, count
	OpIf    // Value, Then, Else
	OpTell  // Who, Event, X an entity or nil, Args
	OpRun   // Action, X an entity, Args
	OpReply // Value
	OpDeny  // Text
)

// Expr is a typed expression. Texts are the only values that are not one 64-bit number.
type Expr struct {
	Op   Op
	Type *Type
	Args []*Expr
	Num  int64
	Text string
	Prop *Property
	Kind *Kind
}

// Stmt is a typed statement.
type Stmt struct {
	Op    Op
	Num   int64
	Text  string
	Prop  *Property
	X     *Expr
	Value *Expr
	Args  []*Expr
	Then  []Stmt
	Else  []Stmt
	Who   []Who
	Event *Event
	Act   *Action
	Type  *Type // of a reply
	Line  int
}

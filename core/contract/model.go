// Package contract is the typed model of a contract: its kinds with their properties, requests, events and timers, the
// types and values of these, the expressions and statements of its bodies, and the outline that clients are given.
//
// Package compile makes a Contract from a text. A Contract is immutable from then on and may be shared by any number of
// sessions and goroutines. The package knows neither how a model comes about nor how it is run.
//
// # How it works
//
// model.go has the model. An expression or statement is a struct with an operation, Op; the list of operations says
// which fields each one uses. Values are held as slots, numbers of 64 bits: value.go says how many a type takes and
// turns slots into JSON and back. A real is a count of steps, so that server and clients compute with the same numbers.
// clauses.go, outline.go and files.go have what clients and those who publish a contract are told of it.
//
// walk.go goes over bodies, reach.go over what can be reached; split.go takes the condition of an audience apart into
// what it asks of the viewer and what it asks of the entity, which is what lets replication find an audience without
// asking for each pair of them.
package contract

import (
	"fmt"
	"slices"
	"strconv"

	"kamerad.example/core/syntax"
)

// Bounds of what one contract may declare.
const (
	MaxKinds      = 200
	MaxProperties = 62 // of one kind, holds among them
	MaxRequests   = 100
	MaxEvents     = 100
	MaxActions    = 100
	MaxFns        = 200
	MaxTimers     = 32 // of one kind
	MaxParams     = 16
	MaxEnumValues = 256
	MaxText       = 1000 // characters of a text
	MaxStacks     = 64
	MaxStackCount = 1_000_000
	MaxItems      = 1000 // of a list or map
	MaxSlots      = 8000 // numbers that one list or map takes
	MaxRecord     = 32   // numbers that one record takes, or a list within a record or map
	MaxSeats      = 1000
	MaxTickRate   = 120
	MaxLimit      = 1000 // requests of one limit's window
	MaxRoles      = 16

	// Bytes a second that clients are sent at most, where a contract limits them. Less than so many for each tick
	// would leave nothing besides the frames themselves.
	MinBytesPerSecond = 500
	MinBytesPerTick   = 20
	MaxBytesPerSecond = 100_000_000

	MaxSettings = 100
	MaxLocals   = 100  // numbers that the arguments and names of one body take
	MaxMemory   = 9000 // numbers that the lists of one body take
)

// Language is the latest version of the contract language. What only a later one has is a mistake in a contract of an
// earlier one; what an earlier one has means the same in all later ones.
const Language = 2

// Contract is a checked contract.
type Contract struct {
	Name     string
	Language int // that it is written in
	TickRate int // ticks per second
	Seats    int
	Grace    int64    // ticks that a seat waits for a lost connection
	Strikes  int      // that expel, within StrikeWindow; 0 when the contract counts none
	Window   int64    // ticks
	Roles    []string // the first is the one that a client without a wish gets
	Result   *Type    // of what a session comes to, for who runs it; nil when none is declared
	Exits    []*Exit  // where clients can be sent
	Logic    *Logic   // the process of the game's own that plays with; nil when none is declared
	// TicketRoles are the roles that only a ticket gives which names them, as a bit set over Roles.
	TicketRoles uint64
	Enums       []*Enum
	Kinds       []*Kind
	Requests    []*Request // of all kinds
	Events      []*Event   // of all kinds, then the contract's own
	Actions     []*Action  // of all kinds
	Fns         []*Fn
	Audiences   []*Named
	Settings    []*Setting
	Public      []*Public // the constants that clients get
	Walls       []*Public // constants that clients do not get, and that list lines on the plane; for those who look on
	OnJoin      *Body     // nil when absent; the client is its first local number, as in the next three
	OnLost      *Body     // its connection is gone
	OnBack      *Body     // it is there again
	OnLeave     *Body     // its seat ends
	OnStay      *Body     // a client that was sent elsewhere could not be, and stays
	OnSilent    *Body     // nothing has been heard of the logic process for some time; nil when absent
	OnHeard     *Body     // the logic process is heard, for the first time or again; nil when absent
	Texts       []string  // all texts that the contract names; one in a constant is its place here, the empty one is 0
	Memory      []int64   // the lists, maps and records that are constant
	Source      *syntax.Source
	Accepts     []syntax.Accept // the findings that it accepts

	ByteLimits  []ByteLimit // by role; nil when there is none
	AsksSeen    bool        // some body asks what clients have confirmed
	RolesChange bool        // a body may give a client another role
	Declared    []*Declared // types and constants, in the order of the text
}

// Exit is where clients can be sent: a session of another contract, which is opened with settings of that one, by the
// parameters' names.
type Exit struct {
	Name   string
	To     string // the other contract
	Params []Param
	Offset int // of its declaration
}

// MaxKey is how many bytes tell apart the sessions that one exit leads to.
const MaxKey = 64

// LogicRole is the name of the role that the logic process has.
const LogicRole = "logic"

// Logic is a process of the game's own, such as its physics: a client by ticket, of which a session has one at most. It
// counts as silent when it has confirmed no tick of the last Silent ones.
type Logic struct {
	Role   int   // its place in Roles
	Silent int64 // ticks
}

// OwnHandler is a handler of the contract itself.
type OwnHandler struct {
	Name string // such as `on join`
	Body *Body  // nil when the contract has none
}

// Handlers returns all that a contract can have of its own, in one order.
func (c *Contract) Handlers() []OwnHandler {
	return []OwnHandler{
		{"on join", c.OnJoin},
		{"on lost", c.OnLost},
		{"on back", c.OnBack},
		{"on leave", c.OnLeave},
		{"on stay", c.OnStay},
		{"on silent", c.OnSilent},
		{"on heard", c.OnHeard},
	}
}

// ByteLimit says how many bytes a client is sent in any second. What does not fit waits, and what is nearest goes
// first: Nearest is the name of the property that says where an entity is, empty when all are equally near.
type ByteLimit struct {
	Bytes   int // 0 for no limit
	Nearest string
}

// String returns the limit as in `2000, nearest pos`, empty for none.
func (l ByteLimit) String() string {
	switch {
	case l.Bytes == 0:
		return ""
	case l.Nearest == "":
		return strconv.Itoa(l.Bytes)
	}
	return fmt.Sprintf("%d, nearest %s", l.Bytes, l.Nearest)
}

// ByteLimit returns the limit of the clients of a role, whose Bytes is 0 when they have none.
func (c *Contract) ByteLimit(role int) ByteLimit {
	if c.ByteLimits == nil {
		return ByteLimit{}
	}
	return c.ByteLimits[role]
}

// Declared is a type or constant as the contract declares it. Whatever uses it holds what it stands for, and not its
// name.
type Declared struct {
	What  string // `type` or `constant`
	Name  string
	At    syntax.Span
	Type  *Type // of a constant from a file; nil for what the text itself says
	Place int   // of the value of such a constant in the contract's Memory
}

// Enum is a list of named values; a value is held as its index.
type Enum struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Public is a constant that stands in an outline.
type Public struct {
	Name  string
	Type  *Type
	Slots []int64
}

// ListsLines reports whether values of the type are lists of lines on the plane: of records that begin with two places.
func (t *Type) ListsLines() bool {
	if t.Form != FormList || t.Of == nil || t.Of.Form != FormRecord || len(t.Of.Parts) < 2 {
		return false
	}
	return t.Of.Parts[0].Type.Form == FormVec2 && t.Of.Parts[1].Type.Form == FormVec2
}

// Setting is a value that is given when a session is opened.
type Setting struct {
	Name    string
	Type    *Type
	Default []int64 // its slots
	Slot    int     // among the slots of all settings
	Public  bool    // clients get its value when they join
}

// Audience classes who gets a value. The order matters: a smaller one is contained in a greater one.
type Audience uint8

// The audiences of properties and kinds. Some is any that has to be asked for each client and entity.
const (
	Nobody Audience = iota
	Owner
	Some
	Everyone
)

// String returns the audience's name, as messages have it.
func (a Audience) String() string { return [...]string{"nobody", "owner", "some", "everyone"}[a] }

// Named is a declared audience: whom its condition holds for. The condition has the arguments as its first locals.
type Named struct {
	Index  int // among the contract's Audiences
	Name   string
	Params []Param
	Cond   *Body // with a truth as its value, asked for each viewer
	Secret bool  // who is near is to be kept secret, too
	At     syntax.Span
}

// Fn is a declared function. Its body has the arguments as its first locals.
type Fn struct {
	Index  int // among the contract's Fns
	Name   string
	Params []Param
	Result *Type
	Body   *Body // with the result as its value
	Rolls  bool  // it, or a function that it calls, rolls dice: no check or condition may call it
	At     syntax.Span
}

// Kind is a declared type of entity. An entity of it has a row of Slots numbers, in which its properties stand one
// behind the other, each from its Slot on.
type Kind struct {
	Index      int // among the contract's Kinds
	Name       string
	Shared     bool     // there is exactly one entity of it, from the start
	Per        int      // role that each client of gets one of; -1 for others
	Parts      []string // that it is made with
	To         Audience // who knows of its entities
	Who        []Who    // of To Some
	Properties []*Property
	Requests   []*Request
	Events     []*Event
	Actions    []*Action

	// Handlers; nil when absent.
	OnStart      *Body   // the session begins; of shared kinds
	OnSpawn      *Body   // an entity came to be
	OnDespawn    *Body   // an entity is about to go
	OnTick       *Body   // each tick
	OnOwnerLost  *Body   // the connection of its owner is gone
	OnOwnerLeave *Body   // the seat of its owner ends
	OnChange     []*Body // by property: it has another value than before
	Timers       []*Timer

	Indexed         []*Property // that queries look for its entities by
	Slots           int         // of a row
	GivenAway       bool        // some body gives it to somebody
	ReturnsToServer bool        // some body but `on owner lost` and `on owner leave` gives it back to the server
	At              syntax.Span
	refType         *Type // what Ref returns
}

// Visible reports whether any client is ever told of an entity of this kind.
func (k *Kind) Visible() bool { return k.To != Nobody }

// Free reports whether entities of the kind come and go by `spawn` and `despawn`.
func (k *Kind) Free() bool { return !k.Shared && k.Per < 0 }

// Ref returns the type of a ref to an entity of the kind.
func (k *Kind) Ref() *Type {
	if k.refType == nil {
		k.refType = &Type{Form: FormEntity, Kinds: []*Kind{k}, Names: []string{k.Name}}
	}
	return k.refType
}

// Property returns the property of a name, or nil.
func (k *Kind) Property(name string) *Property {
	for _, p := range k.Properties {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Property is a typed value of a kind. Slot is where its row begins to keep it.
type Property struct {
	Index   int
	Name    string
	Type    *Type
	Default []int64 // its slots
	Given   bool    // the contract says the default
	Clauses
	Was     string
	To      Audience // already narrowed by the kind's audience
	Who     []Who    // of To Some; the kind's own audience comes on top
	Slot    int
	Set     *SetBy   // nil when only the server writes it
	Follows *Follows // nil when it does not move by itself
	// Of a computed property: what computes its value, and which stored properties of its entity that reads, as a bit
	// set.
	Value   *Body
	Reads   uint64
	Hold    *Hold // nil for what is no hold
	Path    int   // slot where the tick began, or -1 when nobody asks for its path
	Written bool  // something in the contract may give it another value than its default
	Offset  int
	Line    int
	NameAt  syntax.Span
}

// TakesAll reports whether the property takes numbers out of its range: Type.Bring says which ones they become.
func (p *Property) TakesAll() bool { return p.Clamped || p.Type.Wraps }

// IsPlace reports whether the property can say where its entity is.
func (p *Property) IsPlace() bool { return p.Type.Form == FormVec2 || p.Type.Form == FormVec3 }

// SetBy lets a client write a property: Pace is what a write from old to new costs, paid from a budget that grows by
// Rate a second up to Burst; Rule has to hold. Old and new are the first locals of both.
type SetBy struct {
	Text   string // pace, burst and rule as written
	By     *Body  // computes the client
	ByText string // who that is, as written
	Owner  bool   // By is the owner
	Pace   *Body  // nil for any
	Rate   float64
	RateBy *Body // computes the rate for each write, in place of Rate; nil for a constant
	Burst  float64
	Rule   *Body // nil for any
}

// who says who writes the property, as outlines tell it: owner, logic, or another client.
func (s *SetBy) who() string {
	switch {
	case s.Owner:
		return "owner"
	case s.By.Value != nil && s.By.Value.Op == OpLogic:
		return LogicRole
	}
	return "client"
}

// Follows says how a property moves: by the Rate property each second, or attached to the property To of what Holder
// refers to.
type Follows struct {
	Rate   *Property
	Holder *Property
	Open   bool        // everyone has all that it takes to compute it, each time it changes
	To     []*Property // by kind
	By     []int64     // an offset as doubles; nil for none
	Slot   int         // of a moving one: the start, its tick, the rate and the value that was computed last
}

// Moves reports whether a property is sent as a motion, which its copies compute: once, for as long as it holds. What
// is sent only so often, or to others than its rate, is sent as the values that it has.
func (p *Property) Moves() bool {
	f := p.Follows
	return f != nil && f.Rate != nil && p.AtMost == 0 && f.Rate.AtMost == 0 && !p.Loose && !f.Rate.Loose &&
		f.Rate.To == p.To && p.To != Some
}

// Attaches reports whether a property is sent as what it is attached to, when it is: everyone has all that it takes.
func (p *Property) Attaches() bool {
	return p.Follows != nil && p.Follows.Holder != nil && p.Follows.Open
}

// Hold is a held input: true while its owner holds it.
type Hold struct {
	Lease int64 // ticks
	Ms    int64
	When  *Body // nil for always
	Slot  int   // the tick at which the lease ends
}

// Param is an argument of a request or event, or a field of a record.
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
	Index  int // among the contract's Requests
	Kind   *Kind
	Name   string
	Params []Param
	Reply  *Type   // nil when it gives none
	From   []Who   // who may send it
	Limit  *Limit  // how often a client may; nil for any number of times
	Pause  *Pause  // the least time between two of a client's; nil for none
	Head   []Stmt  // Let and Check, in the order in which they are run
	Body   []Stmt  // run when all checks hold
	Checks []Check // those of Head, in their order
	Locals int     // slots, arguments first
	Memory int     // slots of lists, arguments first
	File   string  // of the contract, or one that it includes
	Line   int
	At     syntax.Span
	NameAt syntax.Span
}

// Pause is the least time between two accepted requests of one caller to one entity.
type Pause struct {
	Ticks  int64
	Ms     int64
	Wait   *Body // computes the time, in place of these, from the arguments; nil for a constant
	Reason string
}

// FullName is the name that clients ask by, such as `Diver.use`.
func (r *Request) FullName() string { return r.Kind.Name + "." + r.Name }

// Check describes a check of a request's head, in order.
type Check struct {
	Text   string `json:"text"` // the condition as written
	Reason string `json:"reason"`
	Then   Then   `json:"then"`
	Line   int    `json:"line"`
	Known  bool   `json:"-"` // a client can evaluate it itself
}

// Then is what a failed check does.
type Then string

// What a failed check may do.
const (
	ThenDeny   Then = "deny"
	ThenDrop   Then = "drop"
	ThenStrike Then = "strike"
	ThenExpel  Then = "expel"
)

// Event is a client RPC. Kind is nil for an event of the contract itself.
type Event struct {
	Index  int // among the contract's Events
	Kind   *Kind
	Name   string
	Params []Param
	Loose  bool // it may be lost: nobody sends it again after a connection was lost
	Offset int  // of its declaration
}

// FullName is the name that clients hear it by: `Diver.used`, or `welcome` for one of the contract itself.
func (e *Event) FullName() string {
	if e.Kind == nil {
		return e.Name
	}
	return e.Kind.Name + "." + e.Name
}

// Body is what a handler, a timer or an action runs; or, with a Value, what a function, an audience or a rule computes.
type Body struct {
	Stmts  []Stmt
	Value  *Expr   // nil for a body that is run
	Params []Param // for what is passed to it
	Locals int     // slots, arguments first
	Memory int     // slots of lists, arguments first
	File   string  // of the contract, or one that it includes
	Line   int
	At     syntax.Span
}

// Action is a piece of a body that other bodies of any kind can run on an entity of its kind. Actions run each other
// without a circle.
type Action struct {
	Index  int // among the contract's Actions
	Kind   *Kind
	Name   string
	Params []Param
	Body   *Body
	Offset int // of its declaration
}

// Timer runs its body each Ticks ticks in which While holds, or once after Ticks ticks. It counts in the row of its
// entity.
type Timer struct {
	Ticks int64 // from 1
	Wait  *Body // computes the time in milliseconds, in place of Ticks; nil for a constant
	After bool  // it runs once
	While *Body // nil when absent
	Body  *Body
	Slot  int // where it counts
	At    syntax.Span
}

// Who is one term of a list of clients, read from left to right: each term adds clients, or with But takes them away.
type Who struct {
	But  bool
	Sort WhoSort
	Role int     // of ToRole
	X    *Expr   // of ToClient: a client, or a list of clients
	Aud  *Named  // of ToNamed
	Args []*Expr // of ToNamed
}

// WhoSort says which clients a term means.
type WhoSort uint8

// The sorts of terms.
const (
	ToEveryone WhoSort = iota
	ToNobody
	ToOwner  // whoever owns self
	ToCaller // whoever sent the request that runs
	ToRole   // the clients of a role
	ToClient // a client or a list of clients that is computed
	ToNamed  // those of a declared audience
)

// Op is what an expression or statement does.
type Op uint8

// The operations of expressions.
const (
	OpConst Op = iota // Num, or Nums of a vector
	OpLocal           // Num is the first of its registers, or its place in memory for a list
	OpTable           // Num is its place in the contract's Memory
	OpSelf
	OpCaller
	OpViewer
	OpNow      // the session's clock
	OpLogic    // the client that is the logic process
	OpSetting  // Num its slot
	OpOwner    // Args[0] an entity
	OpEntityOf // Args[0] a client, Kind: its entity of a per-role kind
	OpShared   // Kind: the one entity of a shared kind
	OpGet      // Args[0] an entity, Prop; or Props by kind
	OpComputed // the same, of a computed property
	OpField    // Args[0] a record or vector, Num the offset
	OpAt       // Args: list, index; or map, key
	OpName     // Args[0] a client
	OpRole     // Args[0] a client
	OpNumber   // Args[0] a client: its number
	OpReal     // Args[0] counts of steps of its type: the reals that they stand for
	OpSteps    // Args[0] reals: the counts of steps of the expression's type that are nearest to them
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
	OpHas      // Args: holder, item, count for stacks
	OpCount    // Args: holder, and an item for stacks
	OpRoom     // Args: holder, and an item for stacks
	OpFind     // Args: list, value
	OpItemAt   // Args: stacks, slot
	OpCountAt  // Args: stacks, slot
	OpCanSplit // Args: stacks, item, count
	OpExists   // Args[0] an entity or client
	OpReveal   // Args[0]; Who, to whom, nil for everyone
	OpWords    // Words[i] stands before the words of Args[i], and one more at the end
	OpMade     // Args[0] a text: whether its characters are all among those of Name
	OpOrder    // Args: two texts: -1, 0 or 1, as the first comes before the second, equals it, or comes behind it
	OpPublic   // Args[0] an entity: the number by which clients know it
	OpLength   // Args[0] a text: how many characters it has
	OpRecord   // Args: the fields
	OpList     // Args: the values; Num is where in memory they are put
	OpCopy     // Args[0] a list that is shuffled into memory at Num
	OpRoute    // Args: two places by their numbers, a list of places, one of links; Num is where in memory it is put
	OpVec      // Args: reals
	OpLine     // Args: two vectors
	OpPath     // Args[0] an entity, Prop
	OpMath     // Name, Args
	OpClip     // Args: value, low, high
	OpRoll     // Args: low, high
	OpSince    // Args[0] an entity, Prop
	OpSeen     // Args: a client, an entity; Prop of that, nil for whether the client knows of it at all
	OpCallFn   // Fn, Args
	OpQuery    // Query
	OpChoose   // Args: condition, the value when it holds, the value when not
	// The operations of statements.
	OpLet     // Num the local, Value
	OpVar     // Num the local, Value: it may be assigned to
	OpAssign  // Num a local of OpVar, Value
	OpCheck   // Value, Num the index among the request's checks
	OpSet     // X what is written, Value
	OpPut     // X a holder, Args
	OpTake    // X a holder, Args
	OpCut     // X a list, Args: index
	OpClear   // X a holder
	OpSort    // X a list, Query of its values, Value that decides the order
	OpMove    // X a holder, To another, Args
	OpPutAt   // X stacks, Args: slot, item, count
	OpTakeAt  // X stacks, Args: slot, count
	OpMoveAt  // X stacks, To others, Args: slot, slot of the others, perhaps a count
	OpSplit   // X stacks, Args: item, count
	OpIf      // Value, Then, Else
	OpFor     // Query, Then
	OpTell    // Who, Event, X an entity or nil, Args
	OpRun     // Action, X an entity, Args; Num > 0: so many ticks later; Value: so much later
	OpSpawn   // Value a kind by name or nil, Kinds; Sets; Num the local that holds the new one or -1
	OpDespawn // X
	OpGive    // X, Value a client
	OpReturn
	OpReply   // Value
	OpDeny    // Text
	OpSetRole // X a client, Value
	OpExpel   // X a client, Text
	OpClose   // Text, perhaps Value
	OpSend    // X a client, Exit, Args; perhaps Value, the key
	OpLog     // Who, Words, Args
)

// Expr is a typed expression. Which of the fields below Type an expression has, and what they mean, its Op says.
type Expr struct {
	Op    Op
	Type  *Type
	Args  []*Expr
	Num   int64
	Nums  []int64
	Name  string
	Words []string
	Prop  *Property
	Props []*Property // by the kinds' index, for an entity that may be of several
	Kind  *Kind
	Fn    *Fn
	Query *Query
	Who   []Who // of a reveal: to whom; nil for everyone
}

// Query goes over entities, clients, the values of a list, the keys of a map, or numbers: one of Kinds, Clients, List,
// and Low with High says which.
type Query struct {
	// what a query in an expression computes: count, sum, one, min, max, most, least, first, best, any, all
	Do      string
	Kinds   []*Kind
	Clients bool
	List    *Expr
	Low     *Expr       // whole numbers from here
	High    *Expr       // to here, both included
	Within  *Expr       // a real; nil when absent
	Of      *Expr       // a place, or a line
	Pos     []*Property // by the kinds' index: what `within` measures
	Where   *Expr       // nil when absent
	Value   *Expr       // nil when absent
	Else    *Expr       // nil when absent
	Var     *Expr       // the local that each is held in
	// The local that what stands beside each is held in: the value of a map's key, the count of a stack's item, the
	// value at a place of a list, whose Var is the place then; nil when absent.
	Second *Expr
}

// SetValue is a value that a spawn gives.
type SetValue struct {
	Props []*Property // by the spawn's kinds
	Value *Expr
}

// Stmt is a typed statement. Which of the fields below Op a statement has, and what they mean, its Op says.
type Stmt struct {
	Op    Op
	Num   int64
	Text  string
	Words []string
	X     *Expr
	To    *Expr
	Value *Expr
	Args  []*Expr
	Then  []Stmt
	Else  []Stmt
	Who   []Who
	Exit  *Exit // of OpSend
	Event *Event
	Act   *Action
	Query *Query
	Kinds []*Kind
	Sets  []SetValue
	Type  *Type // of a reply
	Line  int
	At    syntax.Span
}

// Later reports whether an OpRun runs its action at a later time.
func (s *Stmt) Later() bool { return s.Num > 0 || s.Value != nil }

// TicksOf returns how many ticks of a rate a time in milliseconds takes: rounded up, at least one.
func TicksOf(ms int64, rate int) int64 {
	const most = 1 << 50 // ticks, and more than any session lasts
	if ms > most/MaxTickRate*1000 {
		return most
	}
	return max(1, (ms*int64(rate)+999)/1000)
}

// CallerRole returns the role that every caller of the request has, or -1.
func (r *Request) CallerRole() int {
	role := -1
	for i, w := range r.From {
		if w.Sort != ToRole || w.But || i > 0 && w.Role != role {
			return -1
		}
		role = w.Role
	}
	return role
}

// Reachable reports whether anybody who may send the request may know of what it is for.
func (r *Request) Reachable() bool {
	k := r.Kind
	if k.To == Nobody || k.To == Owner && k.Per < 0 && !k.GivenAway {
		return false
	}
	role := r.CallerRole()
	return k.To != Some || role < 0 || slices.ContainsFunc(k.Who, func(w Who) bool {
		return w.But || w.Sort != ToRole || w.Role == role
	})
}

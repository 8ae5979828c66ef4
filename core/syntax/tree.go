package syntax

// File is one parsed contract file.
type File struct {
	Source   *Source
	Decls    []Decl
	Accepts  []Accept
	Comments []Comment
}

// Accept is `accept FINDING "reason"`, which stands above the declaration that it is for.
type Accept struct {
	At      Span
	Finding Ident
	Reason  string
	For     int // offset of that declaration
}

// Ident is a name where it was written.
type Ident struct {
	Text string
	At   Span
}

// Decl is a top-level declaration: *Contract, *Tick, *Seats, *Roles, *Enum, *Const,
// *Entity, *Event or *Handler.
type Decl interface{ Span() Span }

// Contract is `contract NAME language N`.
type Contract struct {
	At       Span
	Name     Ident
	Language *Number
}

// Tick is `tick N per second`.
type Tick struct {
	At   Span
	Rate *Number
}

// Seats is `seats N`.
type Seats struct {
	At    Span
	Count *Number
}

// Roles is `roles a, b`.
type Roles struct {
	At    Span
	Names []Ident
}

// Enum is `enum Name { a, b }`.
type Enum struct {
	At      Span
	Name    Ident
	Members []Ident
}

// Entity is `entity Name per ROLE { … }` or `shared Name { … }`.
type Entity struct {
	At         Span
	Shared     bool
	Name       Ident
	Per        Ident // empty for shared
	To         *Audience
	Properties []*Property
	Requests   []*Request
	Events     []*Event
	Actions    []*Action
	Handlers   []*Handler
	Timers     []*Timer
}

// Const is `const name = VALUE`.
type Const struct {
	At    Span
	Name  Ident
	Value Expr
}

// Action is `action name(params) { … }`: a piece of a body that others run with `do`.
type Action struct {
	At     Span
	Name   Ident
	Params []Param
	Body   []Stmt
}

// Timer is `every TIME while CONDITION { … }` or `after TIME { … }`.
type Timer struct {
	At     Span
	After  bool
	Window *Number // milliseconds
	While  Expr    // nil when absent
	Body   []Stmt
}

// Property is `name: TYPE = DEFAULT clauses`.
type Property struct {
	At      Span
	Name    Ident
	Type    *Type
	Default Expr // nil when absent
	Clamped *Span
	To      *Audience // nil when absent
}

// Type is a type as written: `bool`, `int A..B`, `text max N`, `stacks<E> max N each M` or a name.
type Type struct {
	At   Span
	Name Ident
	Of   Ident // in < >
	Low  Expr  // range of an int or real: *Number or *Decimal
	High Expr
	Step Expr // of a real
	Max  *Number
	Each *Number
}

// Param is `name: TYPE`.
type Param struct {
	Name Ident
	Type *Type
}

// Request is a server RPC: head and body.
type Request struct {
	At     Span
	Name   Ident
	Params []Param
	Reply  *Type     // nil when it gives none
	From   *Audience // nil means the owner
	Limit  *Limit
	Pause  *Pause
	Head   []Stmt // *Let and *Check, in order
	Body   []Stmt
}

// Limit is `limit N per second` or `limit N per 10s`.
type Limit struct {
	At     Span
	Count  *Number
	Window *Number // milliseconds; nil means a second
}

// Pause is `pause TIME else deny "reason"`.
type Pause struct {
	At     Span
	Window *Number // milliseconds
	Reason *Literal
}

// Event is a client RPC: `event name(params)`.
type Event struct {
	At     Span
	Name   Ident
	Params []Param
}

// Handler is `on join(c) { … }` of a contract, or `on spawn { … }` or `on change NAME { … }` of a kind.
type Handler struct {
	At    Span
	On    Ident
	Param Ident // the client of join, the property of change
	Body  []Stmt
}

// Audience is a list of terms, read from left to right.
type Audience struct {
	At    Span
	Terms []AudienceTerm
}

// AudienceTerm adds ("or") or takes away ("but") clients.
type AudienceTerm struct {
	But bool
	Who Expr
}

// Stmt is a statement: *Let, *Check (heads only), *Assign, *Do, *Run, *If, *Match, *Tell,
// *Reply or *Deny.
type Stmt interface{ Span() Span }

// Let is `let name = value`.
type Let struct {
	At    Span
	Name  Ident
	Value Expr
}

// Check is `check CONDITION else deny "reason"`, or `else drop`, which has no reason.
type Check struct {
	At     Span
	Cond   Expr
	Reason *Literal // nil for drop
}

// Assign is `target = value`, `target += value` or `target -= value`.
type Assign struct {
	At     Span
	Target Expr
	Op     string
	Value  Expr
}

// Do is an expression that stands as a statement, such as `satchel.take(item)`.
type Do struct {
	At Span
	X  Expr
}

// Run is `do action(values)`.
type Run struct {
	At     Span
	Action Expr
	Args   []Expr
}

// Match is `match VALUE { a, b { … } else { … } }`.
type Match struct {
	At   Span
	X    Expr
	Arms []Arm
	Else []Stmt // nil when absent
}

// Arm is the part of a match for some values.
type Arm struct {
	Values []Expr
	Body   []Stmt
}

// Reply is `reply VALUE`.
type Reply struct {
	At    Span
	Value Expr
}

// If is `if CONDITION { … } else { … }`.
type If struct {
	At   Span
	Cond Expr
	Then []Stmt
	Else []Stmt
}

// Tell is `tell AUDIENCE event(values)`.
type Tell struct {
	At    Span
	To    *Audience
	Event Expr
	Args  []Expr
}

// Deny is `deny "reason"` in a body: everything it did is undone.
type Deny struct {
	At     Span
	Reason *Literal
}

// Expr is an expression: *Ref, *Number, *Decimal, *Literal, *Truth, *Member, *Call, *Unary, *Binary or *Bad.
type Expr interface{ Span() Span }

// Ref is a bare name, a kind's or enum's name, or one of self, caller, owner, server, everyone, nobody.
type Ref struct{ Ident }

// Number is a whole number, or a duration in milliseconds.
type Number struct {
	At    Span
	Value int64
}

// Decimal is a number with a point, as it was written.
type Decimal struct {
	At   Span
	Text string
}

// Literal is a text.
type Literal struct {
	At    Span
	Value string
}

// Truth is true or false.
type Truth struct {
	At    Span
	Value bool
}

// Member is `x.name`.
type Member struct {
	X    Expr
	Name Ident
}

// Call is `fn(args)`.
type Call struct {
	At   Span
	Fn   Expr
	Args []Expr
}

// Unary is `not x` or `-x`.
type Unary struct {
	At Span
	Op string
	X  Expr
}

// Binary is `a OP b`.
type Binary struct {
	Op   string
	OpAt Span
	A, B Expr
}

// Bad stands where an expression could not be read; its mistake has been told.
type Bad struct{ At Span }

// Span gives the place of a node in its source; all nodes have it.
func (n *Contract) Span() Span { return n.At }
func (n *Tick) Span() Span     { return n.At }
func (n *Seats) Span() Span    { return n.At }
func (n *Roles) Span() Span    { return n.At }
func (n *Enum) Span() Span     { return n.At }
func (n *Entity) Span() Span   { return n.At }
func (n *Event) Span() Span    { return n.At }
func (n *Handler) Span() Span  { return n.At }
func (n *Const) Span() Span    { return n.At }
func (n *Action) Span() Span   { return n.At }
func (n *Timer) Span() Span    { return n.At }
func (n *Run) Span() Span      { return n.At }
func (n *Match) Span() Span    { return n.At }
func (n *Reply) Span() Span    { return n.At }
func (n *Let) Span() Span      { return n.At }
func (n *Check) Span() Span    { return n.At }
func (n *Assign) Span() Span   { return n.At }
func (n *Do) Span() Span       { return n.At }
func (n *If) Span() Span       { return n.At }
func (n *Tell) Span() Span     { return n.At }
func (n *Deny) Span() Span     { return n.At }
func (n *Ref) Span() Span      { return n.At }
func (n *Number) Span() Span   { return n.At }
func (n *Decimal) Span() Span  { return n.At }
func (n *Literal) Span() Span  { return n.At }
func (n *Truth) Span() Span    { return n.At }
func (n *Member) Span() Span   { return Span{n.X.Span().Start, n.Name.At.End} }
func (n *Call) Span() Span     { return n.At }
func (n *Unary) Span() Span    { return n.At }
func (n *Binary) Span() Span   { return Span{n.A.Span().Start, n.B.Span().End} }
func (n *Bad) Span() Span      { return n.At }

package syntax

// File is one parsed contract, with the files that it includes.
type File struct {
	Source   *Source
	Decls    []Decl // in the order in which they stand, those of an included file in its place
	Accepts  []Accept
	Comments []Comment
}

// Accept is `accept FINDING "reason"`, which stands above the declaration that it is for.
type Accept struct {
	At      Span
	Finding Ident
	Reason  string
	For     int // offset of the declaration, statement or line of a head that it stands above
}

// Ident is a name where it was written.
type Ident struct {
	Text string
	At   Span
}

// Decl is a top-level declaration: *Contract, *Tick, *Seats, *Result, *Strikes, *ByteLimit, *Roles, *Logic, *Exit,
// *Enum, *TypeDecl, *Const, *AudienceDecl, *Fn, *Entity, *Event, *Handler or *Include.
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

// Seats is `seats N grace TIME`.
type Seats struct {
	At    Span
	Count *Number
	Grace *Number // milliseconds; nil when absent
}

// Strikes is `strikes N in TIME`.
type Strikes struct {
	At     Span
	Count  *Number
	Window *Number // milliseconds
}

// ByteLimit is `each client at most N bytes per second nearest NAME`.
type ByteLimit struct {
	At      Span
	Of      Ident // `client`, or a role
	Bytes   *Number
	Nearest Ident // without text when absent
}

// Result is `result TYPE`: what a session comes to.
type Result struct {
	Type *Type
	At   Span
}

// Roles is `roles a, b by ticket`.
type Roles struct {
	List []Role
	At   Span
}

// Role is one of them.
type Role struct {
	Name     Ident
	ByTicket bool // only a ticket gives it
}

// Logic is `logic silent after TIME`: a process of the game's own plays the role `logic`.
type Logic struct {
	Silent *Number
	At     Span
}

// Exit is `exit NAME(params) to "contract"`: where clients can be sent.
type Exit struct {
	At     Span
	Name   Ident
	Params []Param  // settings of the other contract
	To     *Literal // its name
}

// Enum is `enum Name { a, b }`.
type Enum struct {
	At      Span
	Name    Ident
	Members []Ident
}

// TypeDecl is `type Name = TYPE`, or `type Name { field: TYPE, … }` for a record.
type TypeDecl struct {
	At     Span
	Name   Ident
	Type   *Type // nil for a record
	Fields []Param
}

// Const is `const name = VALUE`, `const name: TYPE = VALUE` or `const name: TYPE from "file.json"`; or, with Setting,
// `setting name: TYPE = VALUE`.
type Const struct {
	At      Span
	Setting bool
	Public  bool // clients get it
	Name    Ident
	Type    *Type    // nil when absent
	Value   Expr     // nil with From
	From    *Literal // nil with Value
}

// AudienceDecl is `audience name(params) = CONDITION`, or `secret audience …` when even nearness is to be kept
// secret.
type AudienceDecl struct {
	At     Span
	Secret bool
	Name   Ident
	Params []Param
	Cond   Expr
}

// Fn is `fn name(params) -> TYPE = VALUE`.
type Fn struct {
	At     Span
	Name   Ident
	Params []Param
	Result *Type
	Value  Expr
}

// Include is `include "FILE"`; what the file declares follows in the list of declarations.
type Include struct {
	At   Span
	File *Literal
}

// Sort says what an Entity declares.
type Sort string

// The sorts of what holds properties.
const (
	SortEntity Sort = "entity"
	SortShared Sort = "shared"
	SortPart   Sort = "part"
)

// Entity is `entity Name per ROLE with PART to AUDIENCE { … }`, `shared Name { … }` or `part Name { … }`.
type Entity struct {
	At         Span
	Sort       Sort
	Name       Ident
	Like       Ident // the kind whose members it has, too; empty when absent
	Per        Ident // empty when there is none for each client
	With       []Ident
	Without    []Ident // members of these that it has not
	Where      []Set   // other defaults of their properties
	To         *Audience
	Properties []*Property
	Requests   []*Request
	Events     []*Event
	Actions    []*Action
	Needs      []*Action // without a body
	Handlers   []*Handler
	Timers     []*Timer
	Holds      []*Hold
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
	Window Expr
	While  Expr // nil when absent
	Body   []Stmt
}

// Hold is `hold name lease TIME when CONDITION to AUDIENCE`.
type Hold struct {
	At    Span
	Name  Ident
	Lease Expr
	When  Expr // nil when absent
	To    *Audience
}

// Property is `name: TYPE = DEFAULT clauses`.
type Property struct {
	At      Span
	Name    Ident
	Type    *Type
	Default Expr // nil when absent
	Value   Expr // that it is computed from; nil for a property that is stored
	Clamped *Span
	Keep    *Span
	Once    *Span
	Loose   *Span
	AtMost  *Number // a second; nil when absent
	Was     Ident
	To      *Audience // nil when absent
	Set     *SetBy
	Follows *Follows
}

// SetBy is `set by CLIENT pace AMOUNT N per second burst M when RULE`.
type SetBy struct {
	At    Span
	By    Expr
	Pace  Expr // nil when absent
	Rate  Expr
	Burst Expr // *Number or *Decimal
	When  Expr
}

// Follows is `follows RATE`, or `follows REF.PROPERTY by OFFSET`.
type Follows struct {
	At   Span
	What Expr
	By   Expr // nil when absent
}

// Type is a type as written.
type Type struct {
	At      Span
	Name    Ident
	Of      []*Type // in < >
	Ref     Ident   // of `ref Kind`
	Kinds   []Ident // of `kind of [A, B]`
	Low     Expr    // range: *Number or *Decimal
	High    Expr
	Step    Expr
	Max     *Number
	Each    *Number
	Chars   *Literal // of a text
	Wraps   *Span    // `wrapping`; nil when absent
	Small   *Span    // `small`; nil when absent
	Slotted *Span    // `slotted`; nil when absent
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
	Window Expr
	Reason *Literal
}

// Event is a client RPC: `event name(params) loose`.
type Event struct {
	At     Span
	Name   Ident
	Params []Param
	Loose  bool
}

// Handler is `on WHAT { … }`. Of a contract WHAT is join(c), lost(c), back(c) or leave(c); of a kind start, spawn,
// despawn, tick, change NAME, "owner lost" or "owner leave".
type Handler struct {
	At    Span
	On    Ident
	Param Ident // the client, or the property of change; without text for none
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

// Stmt is a statement: *Let, *Var, *Check (heads only), *Assign, *Do, *Run, *If, *Match, *For, *Tell, *SortList,
// *Spawn, *Despawn, *Give, *Return, *Reply, *Deny, *Expel, *Close or *Log.
type Stmt interface{ Span() Span }

// Let is `let name = value`.
type Let struct {
	At    Span
	Name  Ident
	Value Expr // also a *Spawn
}

// Var is `var name = value`: a name for a value that changes.
type Var struct {
	At    Span
	Name  Ident
	Value Expr
}

// Check is `check CONDITION else deny "reason"`; Then is deny, drop (which has no reason), strike or expel.
type Check struct {
	At     Span
	Cond   Expr
	Then   string
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

// Run is `do action(values)`, or `after TIME do action(values)`.
type Run struct {
	At     Span
	After  Expr // nil for at once
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

// For is `for name in SOURCE { … }`, or `for key, value in SOURCE { … }`.
type For struct {
	At     Span
	Name   Ident
	Second Ident // empty when absent
	In     From
	Body   []Stmt
}

// SortList is `sort name in LIST by VALUE`.
type SortList struct {
	At   Span
	Name Ident
	List Expr
	By   Expr
}

// From is what a loop or query goes over: `X within R of PLACE where CONDITION`. All but X, which may be a *Range, may
// be nil.
type From struct {
	X      Expr
	Within Expr
	Of     Expr
	Where  Expr
}

// Spawn is `spawn Kind { property = value; … }`, a statement or the value of a `let`.
type Spawn struct {
	At   Span
	Kind Ident
	Sets []Set
}

// Set is `name = value` in a spawn or a record.
type Set struct {
	Name  Ident
	Value Expr
}

// Despawn is `despawn ENTITY`.
type Despawn struct {
	At Span
	X  Expr
}

// Give is `give ENTITY to CLIENT`.
type Give struct {
	At Span
	X  Expr
	To Expr
}

// Return is `return`: it ends the body.
type Return struct{ At Span }

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

// Expel is `expel CLIENT "reason"`.
type Expel struct {
	At     Span
	Who    Expr
	Reason *Literal
}

// Close is `close "reason"`: it ends the session.
type Close struct {
	At     Span
	Reason *Literal
	Result Expr // nil for none
}

// Send is `send CLIENT to EXIT(values) as KEY`.
type Send struct {
	At   Span
	Who  Expr
	Exit *Call
	Key  Expr // nil for none
}

// Log is `log AUDIENCE "words {value}"`: Words[i] stands before Values[i], and one more at the end.
type Log struct {
	At     Span
	To     *Audience
	Words  []string
	Values []Expr
}

// Expr is an expression: *Ref, *Number, *Time, *Decimal, *Literal, *Truth, *Member, *Call, *Index, *List, *Record,
// *Range, *Query, *Unary, *Binary, *Choice, *Words or *Bad.
type Expr interface{ Span() Span }

// Ref is a bare name, a kind's or enum's name, or one of self, caller, viewer, owner, server, everyone, nobody,
// nothing.
type Ref struct{ Ident }

// Number is a whole number; in clauses also a duration in milliseconds.
type Number struct {
	At    Span
	Value int64
}

// Time is a duration as a value, in milliseconds.
type Time struct {
	At Span
	Ms int64
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

// Words is `words("text {value}")`: Words[i] stands before Values[i], and one more at the end.
type Words struct {
	At      Span
	Literal *Literal // as it is written
	Words   []string
	Values  []Expr
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
	To   *Audience // of `reveal(v) to AUDIENCE`: who may learn it; else nil
}

// Index is `x[i]`.
type Index struct {
	At Span
	X  Expr
	I  Expr
}

// List is `[a, b]`.
type List struct {
	At    Span
	Items []Expr
}

// Record is `Name(field = value, …)`.
type Record struct {
	At   Span
	Type Ident
	Sets []Set
}

// Range is `a..b` as an argument.
type Range struct{ Low, High Expr }

// Query is `fn(name in SOURCE: VALUE else OTHER)`.
type Query struct {
	At     Span
	Fn     Ident
	Name   Ident
	Second Ident // of `fn(key, value in SOURCE …)`; empty when absent
	In     From
	Value  Expr // nil when absent
	Else   Expr // nil when absent
}

// Choice is `if CONDITION then VALUE else OTHER`, a value.
type Choice struct {
	At    Span
	Cond  Expr
	Then  Expr
	Other Expr
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

//revive:disable:exported The nodes have this one method, which is documented once.

// Span returns the place of a node in its source; all nodes have it.
func (n *Contract) Span() Span  { return n.At }
func (n *Tick) Span() Span      { return n.At }
func (n *Seats) Span() Span     { return n.At }
func (n *Result) Span() Span    { return n.At }
func (n *Strikes) Span() Span   { return n.At }
func (n *ByteLimit) Span() Span { return n.At }
func (n *Roles) Span() Span     { return n.At }

// Span returns where the declaration stands.
func (n *Logic) Span() Span        { return n.At }
func (n *Enum) Span() Span         { return n.At }
func (n *TypeDecl) Span() Span     { return n.At }
func (n *AudienceDecl) Span() Span { return n.At }
func (n *Fn) Span() Span           { return n.At }
func (n *Include) Span() Span      { return n.At }
func (n *Entity) Span() Span       { return n.At }
func (n *Event) Span() Span        { return n.At }
func (n *Handler) Span() Span      { return n.At }
func (n *Const) Span() Span        { return n.At }
func (n *Action) Span() Span       { return n.At }
func (n *Timer) Span() Span        { return n.At }
func (n *Hold) Span() Span         { return n.At }
func (n *Run) Span() Span          { return n.At }
func (n *Match) Span() Span        { return n.At }
func (n *For) Span() Span          { return n.At }
func (n *SortList) Span() Span     { return n.At }
func (n *Spawn) Span() Span        { return n.At }
func (n *Despawn) Span() Span      { return n.At }
func (n *Give) Span() Span         { return n.At }
func (n *Return) Span() Span       { return n.At }
func (n *Reply) Span() Span        { return n.At }
func (n *Let) Span() Span          { return n.At }
func (n *Var) Span() Span          { return n.At }
func (n *Check) Span() Span        { return n.At }
func (n *Assign) Span() Span       { return n.At }
func (n *Do) Span() Span           { return n.At }
func (n *If) Span() Span           { return n.At }
func (n *Tell) Span() Span         { return n.At }
func (n *Deny) Span() Span         { return n.At }
func (n *Expel) Span() Span        { return n.At }
func (n *Close) Span() Span        { return n.At }
func (n *Send) Span() Span         { return n.At }
func (n *Exit) Span() Span         { return n.At }
func (n *Log) Span() Span          { return n.At }
func (n *Ref) Span() Span          { return n.At }
func (n *Number) Span() Span       { return n.At }
func (n *Time) Span() Span         { return n.At }
func (n *Decimal) Span() Span      { return n.At }
func (n *Literal) Span() Span      { return n.At }
func (n *Truth) Span() Span        { return n.At }
func (n *Words) Span() Span        { return n.At }
func (n *Member) Span() Span       { return Span{n.X.Span().Start, n.Name.At.End} }
func (n *Call) Span() Span         { return n.At }
func (n *Index) Span() Span        { return n.At }
func (n *List) Span() Span         { return n.At }
func (n *Record) Span() Span       { return n.At }
func (n *Range) Span() Span        { return Span{n.Low.Span().Start, n.High.Span().End} }
func (n *Query) Span() Span        { return n.At }
func (n *Unary) Span() Span        { return n.At }
func (n *Choice) Span() Span       { return n.At }
func (n *Binary) Span() Span       { return Span{n.A.Span().Start, n.B.Span().End} }
func (n *Bad) Span() Span          { return n.At }

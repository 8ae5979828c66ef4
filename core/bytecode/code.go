// Package bytecode has what the checks and bodies of a contract are translated into: instructions for a register
// machine, and the tables that instructions name by index. Package codegen makes a Program of a contract, package rules
// runs it.
//
// A Program is made once and never changed, so that sessions may share it. This package neither makes nor runs one: it
// imports nothing but the contract's model.
//
// # How it works
//
// An instruction has an operation and up to four operands: three registers or offsets, and a constant or an index into
// a table of its Code. Registers are of two sorts, numbers and entities; a value of several slots stands in registers
// side by side. Reals stand in registers of numbers as the bits of a double. Register 0 of entities is self.
//
// Locals have the first registers. Lists, maps and stacks do not fit into registers: they stand in the memory of the
// body, or where they are, and are named by an Address.
package bytecode

import (
	"kamerad.example/core/contract"
)

// Op is what an instruction does. r are registers of numbers, e of entities (e[0] is self); row is self's row. A value
// that takes several numbers stands in registers side by side.
type Op uint8

// The operations.
const (
	OpEnd  Op = iota
	OpFail    // the check k failed
	OpDeny    // with the reason Strings[k]

	OpConst  // r[a] = k
	OpMove   // r[a] = r[b]
	OpSelf   // r[a] = row[c]
	OpLoad   // r[a] = e[b].row[c], of the property Properties[k]
	OpShared // r[a] = row[c] of the entity of the shared kind k

	OpAdd     // r[a] = r[b] + r[c]
	OpAddK    // r[a] = r[b] + k
	OpSub     // r[a] = r[b] - r[c]
	OpSubSelf // r[a] = r[b] - row[c]
	OpMul     // r[a] = r[b] * r[c]
	OpDiv     // r[a] = r[b] / r[c]
	OpMod     // r[a] = r[b] % r[c]
	OpNeg     // r[a] = -r[b]

	OpReal    // r[a] = the real of r[b] steps of Types[k]
	OpSteps   // r[a] = the steps of Types[k] nearest to the real r[b]
	OpFromInt // r[a] = the real of the whole number r[b]
	OpRealAdd // r[a] = r[b] + r[c], reals
	OpRealSub
	OpRealMul
	OpRealDiv
	OpRealNeg  // r[a] = -r[b]
	OpRealTest // r[a] = whether r[b] stands to r[c] as k says: RealEqual, RealNotEqual, …

	// Jumps, to c.
	OpJump
	OpEq // when r[a] == r[b]
	OpNe
	OpLt
	OpLe
	OpEqK // when r[a] == k
	OpNeK
	OpLtK
	OpLeK
	OpGtK
	OpGeK
	OpSelfEqK // when row[a] == k
	OpSelfNeK
	OpSelfLtK
	OpSelfLeK
	OpSelfGtK
	OpSelfGeK
	OpSharedEqK // when row[a] of the entity of the shared kind b == k
	OpSharedNeK

	OpStore  // Stores[c] of e[b] = r[a]
	OpStoreK // Stores[c] of e[b] = k
	OpBump   // Stores[c] of e[b] += k

	OpEntityOf     // e[a] = the entity of the kind k that the client r[b] has
	OpEntityShared // e[a] = the entity of the shared kind k
	OpEntityID     // e[a] = the entity with the ID r[b]
	OpID           // r[a] = the ID of e[b], 0 for nothing
	OpOwner        // r[a] = the owner of e[b]
	OpCaller       // r[a] = the caller
	// r[a] = the next of the innermost loop, or jump to c after the last; k is 1 for entities, which e[a+1] is then too
	OpNext

	// What costs more than its dispatch.
	OpMoves      // r[a…] = r[b…], k of them
	OpFetch      // r[a…] = Fetches[k]
	OpWiden      // r[a…] = the reals of the counts r[b…] of Types[k]
	OpNarrow     // r[a…] = the counts of Types[k] nearest to the reals r[b…]
	OpVec        // r[a…] = r[b…] and r[c…], as k says: the operation, and in its low byte how many
	OpSame       // r[a] = whether k numbers from r[b] are those from r[c]
	OpSameReal   // the same for reals
	OpPutWide    // Puts[k] = r[a…]
	OpPutList    // Puts[k] = Fetches[c]
	OpMemory     // memory[c…] = r[a…], k of them
	OpRoute      // memory[c…] = the list of places of Routes[k]
	OpShuffle    // memory[c…] = Fetches[k] in another order
	OpIndex      // r[a] = where the value at r[b] of the list Fetches[k] stands, from its start
	OpKey        // r[a] = where the value of the key r[b] of the map Fetches[k] stands
	OpKeyPut     // the same; a key that is missing is put in
	OpViewer     // r[a] = the viewer
	OpNow        // r[a] = the session's clock
	OpLogic      // r[a] = the client that is the logic process
	OpRole       // r[a] = the role of the client r[b]
	OpName       // r[a] = the name of the client r[b]
	OpKnown      // r[a] = the client r[b], or none if it is gone
	OpExists     // r[a] = whether e[b] is there
	OpHolder     // Containers[k], giving r[a]
	OpSortBegin  // forget what OpSortKey has noted
	OpSortKey    // note r[b] as what decides the place of the next value of a list
	OpSort       // put the values of the list Containers[k] in the order of what was noted; reals when c is 1
	OpWords      // r[a] = the text that Texts[k] makes
	OpOrder      // r[a] = -1, 0 or 1, as the text r[b] comes before r[c], equals it, or comes behind it
	OpLength     // r[a] = how many characters the text r[b] has
	OpMade       // r[a] = whether the text r[b] has no characters but those of Strings[k]
	OpMath       // Maths[k], giving r[a…]
	OpClip       // r[a] = r[b] within r[c]..r[c+1]; reals when k is 1
	OpRoll       // r[a] = a roll of r[b]..r[c]
	OpSince      // r[a] = the time since Properties[k] of e[b] changed
	OpSeen       // r[a] = whether the client r[c] has seen e[b], or with k at least 0 Properties[k] of it
	OpPublic     // r[a] = the number by which clients know e[b]
	OpPath       // r[a…] = the path of Properties[k] of e[b]
	OpHowMany    // r[a] = how many Loops[k] goes over, all of them
	OpFirst      // r[a] = the first entity that Loops[k] goes over, 0 for none
	OpCountNear  // r[a] = how many Loops[k] finds near, all of them
	OpNearest    // r[a] = the nearest entity that Loops[k] goes over, 0 for none; r[a+1] = its distance
	OpIter       // begin the loop Loops[k]
	OpDone       // leave the innermost loop
	OpNone       // a query found none
	OpMany       // a query found more than one
	OpCall       // r[a…] = Calls[k]
	OpCompute    // r[a…] = the computed property Computed[k] of e[b]
	OpRun        // Calls[k] on e[b]
	OpDelay      // Calls[k] on e[b] in c ticks; with c = 0, in r[a] milliseconds
	OpTell       // Tells[k]
	OpLog        // Logs[k]
	OpSpawn      // Spawns[k]
	OpDespawn    // e[b]
	OpGive       // e[b] to r[a]
	OpSetRole    // of the client r[b] = r[a]
	OpExpel      // the client r[b] with the reason Strings[k]
	OpClose      // with the reason Strings[k]
	OpSend       // Sends[k]
	OpReply      // r[a…] of Types[k]
	OpResult     // the same, of the OpClose that follows
	OpReveal     // r[b…] is revealed as Reveals[k] says; only in code that is traced
	OpChanged    // note when Properties[k] of e[b] last changed; with k -1, its owner
	OpChangedAny // note when anything of the kind k last changed; clients for k = -1
)

// The tests of OpRealTest.
const (
	RealEqual = iota
	RealNotEqual
	RealLess
	RealLessOrEqual
)

// Instruction is one instruction, in 16 bytes. What A, B, C and K are, its Op says: there they stand as a, b, c and k.
type Instruction struct {
	Op Op
	B  uint8
	A  uint16
	C  uint32
	K  int64
}

// MaxSteps is how many steps one cause may take, counted generously: each round of a loop counts the length of its
// code.
const MaxSteps = 2_000_000

// NumberSteps is how many steps the number of an entity takes: it is computed by twelve hashes, in some 4 µs.
const NumberSteps = 400

// Registers is how many registers of each sort a machine has: so many that the checker's bounds keep code within them.
const Registers = 256

// Code is a compiled head and body, with the tables that its instructions name by index.
type Code struct {
	ID   int    // among the pieces of the program, from 1
	Name string // what it is the code of, such as `on spawn of Diver`
	File string // of its source

	Instructions []Instruction
	Lines        []int32 // of the contract, by instruction
	Checks       []int32 // by instruction: the check that fails when it reads through nothing, -1 in a body

	// By check of a head.
	Reasons    []string
	CheckLines []int32
	Then       []contract.Then

	// What instructions name.
	Stores     []Store
	Properties []*contract.Property
	Types      []*contract.Type
	Strings    []string
	Fetches    []Address // what is read
	Puts       []Target
	Containers []ContainerCall
	Maths      []MathCall
	Routes     []Route
	Texts      []Words
	Loops      []Loop
	Tells      []Tell
	Logs       []Log
	Sends      []Send
	Calls      []Call
	Computed   []Computed
	Spawns     []Spawn
	Reveals    []Reveal

	Params []Param // where the arguments go
	Nums   int     // registers of locals, arguments first
	Memory int     // slots of lists, maps and stacks among the locals
	Width  int     // slots of the value that is computed
	Real   bool    // they are doubles
}

// Param is where an argument goes.
type Param struct {
	Type     *contract.Type
	Offset   int  // the first register, or the first slot of memory
	InMemory bool // of lists, maps and stacks
}

// Space is where something stands.
type Space uint8

// The spaces.
const (
	InRow       Space = iota // of an entity
	InMemory                 // of the body that runs
	InTable                  // of the contract: what is constant
	InSettings               // of the session
	InRegisters              // of the body that runs: a value that was computed, or a local
)

// Address is where a value stands: in the row of an entity, in the body's memory or registers, in the contract's table
// or among the settings.
type Address struct {
	Space    Space
	Entity   int                  // of InRow: the register of the entity
	Property *contract.Property   // of InRow
	ByKind   []*contract.Property // of InRow, in place of Property, where the entity may be of several kinds
	Base     int                  // the offset in the space; with ByKind, from the property's slot
	Index    int                  // a register with what is added to Base, or -1
	Type     *contract.Type
}

// StaysAsItIs reports whether what stands there is the same for as long as a session lasts.
func (a *Address) StaysAsItIs() bool {
	return a.Index < 0 && (a.Space == InTable || a.Space == InSettings)
}

// Name is what a place is called in a message.
func (a *Address) Name() string {
	if a.Property != nil {
		return a.Property.Name
	}
	for _, p := range a.ByKind {
		if p != nil {
			return p.Name
		}
	}
	return "a list"
}

// Target is where something is written.
type Target struct {
	Address Address
}

// ContainerCall is an operation on stacks, a list or a map.
type ContainerCall struct {
	Op          contract.Op
	Container   Address
	Destination Address // of a move
	Args        []int   // registers
}

// MathCall is a function of reals.
type MathCall struct {
	Name  string
	Args  []int            // first registers
	Types []*contract.Type // of the arguments
	List  Address          // of inside, crosses, along_walls, free and nearest
}

// Route is a search for a way over a map.
type Route struct {
	From, To int     // registers of the numbers of places
	Places   Address // a list of places, or of records that begin with one
	Links    Address // a list of records that begin with the numbers of two places
}

// Loop is what a loop goes over: entities of kinds, all clients, the values of a list, the keys of a map, or numbers.
type Loop struct {
	Kinds   []*contract.Kind
	Clients bool
	List    Address
	Range   int  // register of the first number, which that of the last one follows; -1 for none
	Most    int  // that a list or a range has
	Width   int  // slots of a value of the list, or of a key of the map
	Skip    int  // slots of what stands behind each key of a map
	Stacks  bool // the list is of stacks: pairs of an item and its count
	Places  bool // of a list: each value comes behind its place
	// Only entities near a place or line are gone over.
	Within     int  // register of the distance, or -1 for all
	Origin     int  // first register of the place, or of the two ends of the line
	Line       bool // it is a line
	Dimensions int  // 2 or 3
	// Only entities that have a value are gone over.
	Key        int                  // register of the value; with it nil for properties, all
	Properties []*contract.Property // by kind
	IsRef      bool                 // the value is an entity: when it is nothing, all are gone over
	// Entities are gone over from the nearest to Origin on, until one was found that is wanted. Those that are about as
	// far away go together, in the order of all loops.
	Nearest bool
	Found   int // register that tells whether one was
}

// Store is where a number is written and what it may be.
type Store struct {
	Index    int // of the property
	Slot     int // of the row
	Low      int64
	High     int64
	TakesAll bool // what is out of range is brought into it, in place of a fault
	Property *contract.Property
}

// Operand is a value that is handed on: in registers, or a list.
type Operand struct {
	Type     *contract.Type // that it is handed on as
	Register int            // the first one, when List is nil
	List     *Address
}

// Tell is a compiled `tell`.
type Tell struct {
	Event    *contract.Event
	Entity   int // register of whose event it is; -1 for an event of the contract itself
	Args     []Operand
	Terms    []Term
	Everyone bool // who is everyone: nobody has to be asked
}

// Send is a compiled `send`.
type Send struct {
	Exit   *contract.Exit
	Client int // its register
	Key    int // its register; -1 for none
	Args   []Operand
}

// Log is a compiled `log`: Words[i] stands before Args[i], and one more at the end.
type Log struct {
	Terms []Term // who is told
	Words []string
	Args  []Operand
}

// Words is a text that is put together: Words[i] stands before Args[i], and one more at the end.
type Words struct {
	Words []string
	Args  []Operand
}

// Call is a compiled `do` or the call of a function.
type Call struct {
	Action   *contract.Action // of a `do`
	Function *contract.Fn     // of a call
	Args     []Operand
}

// Computed is a computed property that is read.
type Computed struct {
	Properties []*contract.Property // by kind
	Width      int                  // slots of its value
}

// Name returns what the property is called in a message.
func (c *Computed) Name() string {
	for _, p := range c.Properties {
		if p != nil {
			return p.Name
		}
	}
	return ""
}

// Spawn is a compiled `spawn`.
type Spawn struct {
	Kinds []*contract.Kind
	Which int // register of which of Kinds it is, or -1 for the first
	Sets  []Assignment
	Local int // register of the local that gets the new entity, or -1
}

// Assignment is a value that a spawned entity gets.
type Assignment struct {
	Properties []*contract.Property // by kind
	Value      Operand
}

// Reveal is a value that clients may learn, in code that is traced.
type Reveal struct {
	Place    string // where it stands in the contract
	Type     *contract.Type
	Everyone bool   // all clients may
	Terms    []Term // else these
}

// Term is a term of a list of clients.
type Term struct {
	But      bool // it takes clients away
	Sort     contract.WhoSort
	Role     int             // of ToRole
	Register int             // of ToClient: the register of the client
	List     *Address        // of ToClient: a list of clients, or nil
	Audience *contract.Named // of ToNamed
	Args     []Operand       // of ToNamed
}

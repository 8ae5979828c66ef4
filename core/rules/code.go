package rules

import (
	"kamerad.example/core/contract"
)

// op is what an instruction does. r are registers of numbers, e of entities (e[0] is self); row is self's row. A value
// that takes several numbers stands in registers side by side.
type op uint8

const (
	opEnd  op = iota
	opFail    // the check k failed
	opDeny    // with the reason strings[k]

	opConst  // r[a] = k
	opMove   // r[a] = r[b]
	opSelf   // r[a] = row[c]
	opLoad   // r[a] = e[b].row[c], of the property props[k]
	opShared // r[a] = row[c] of the entity of the shared kind k

	opAdd     // r[a] = r[b] + r[c]
	opAddK    // r[a] = r[b] + k
	opSub     // r[a] = r[b] - r[c]
	opSubSelf // r[a] = r[b] - row[c]
	opMul     // r[a] = r[b] * r[c]
	opDiv     // r[a] = r[b] / r[c]
	opMod     // r[a] = r[b] % r[c]
	opNeg     // r[a] = -r[b]

	opReal    // r[a] = the real of r[b] steps of types[k]
	opSteps   // r[a] = the steps of types[k] nearest to the real r[b]
	opFromInt // r[a] = the real of the whole number r[b]
	opRealAdd // r[a] = r[b] + r[c], reals
	opRealSub
	opRealMul
	opRealDiv
	opRealNeg  // r[a] = -r[b]
	opRealTest // r[a] = whether r[b] stands to r[c] as k says: 0 ==, 1 !=, 2 <, 3 <=

	// Jumps, to c.
	opJump
	opEq // when r[a] == r[b]
	opNe
	opLt
	opLe
	opEqK // when r[a] == k
	opNeK
	opLtK
	opLeK
	opGtK
	opGeK
	opSelfEqK // when row[a] == k
	opSelfNeK
	opSelfLtK
	opSelfLeK
	opSelfGtK
	opSelfGeK
	opSharedEqK // when row[a] of the entity of the shared kind b == k
	opSharedNeK

	opStore  // stores[c] of e[b] = r[a]
	opStoreK // stores[c] of e[b] = k
	opBump   // stores[c] of e[b] += k

	opEntityOf     // e[a] = the entity of the kind k that the client r[b] has
	opEntityShared // e[a] = the entity of the shared kind k
	opEntityID     // e[a] = the entity with the ID r[b]
	opID           // r[a] = the ID of e[b], 0 for nothing
	opOwner        // r[a] = the owner of e[b]
	opCaller       // r[a] = the caller
	// r[a] = the next of the innermost loop, or jump to c after the last; k is 1 for entities, which e[a+1] is then too
	opNext

	// What costs more than its dispatch.
	opMoves      // r[a…] = r[b…], k of them
	opFetch      // r[a…] = fetches[k]
	opWiden      // r[a…] = the reals of the counts r[b…] of types[k]
	opNarrow     // r[a…] = the counts of types[k] nearest to the reals r[b…]
	opVec        // r[a…] = r[b…] and r[c…], as k says: the operation, and in its low byte how many
	opSame       // r[a] = whether k numbers from r[b] are those from r[c]
	opSameReal   // the same for reals
	opPutWide    // puts[k] = r[a…]
	opPutList    // puts[k] = fetches[c]
	opMemory     // memory[c…] = r[a…], k of them
	opShuffle    // memory[c…] = fetches[k] in another order
	opIndex      // r[a] = where the value at r[b] of the list fetches[k] stands, from its start
	opKey        // r[a] = where the value of the key r[b] of the map fetches[k] stands
	opKeyPut     // the same; a key that is missing is put in
	opViewer     // r[a] = the viewer
	opNow        // r[a] = the session's clock
	opRole       // r[a] = the role of the client r[b]
	opName       // r[a] = the name of the client r[b]
	opKnown      // r[a] = the client r[b], or none if it is gone
	opExists     // r[a] = whether e[b] is there
	opHolder     // holders[k], giving r[a]
	opMath       // maths[k], giving r[a…]
	opClip       // r[a] = r[b] within r[c]..r[c+1]; reals when k is 1
	opRoll       // r[a] = a roll of r[b]..r[c]
	opSince      // r[a] = the time since props[k] of e[b] changed
	opPath       // r[a…] = the path of props[k] of e[b]
	opIter       // begin the loop iters[k]
	opDone       // leave the innermost loop
	opNone       // a query found none
	opMany       // a query found more than one
	opCall       // r[a…] = calls[k]
	opRun        // calls[k] on e[b]
	opDelay      // calls[k] on e[b] in c ticks
	opTell       // tells[k]
	opLog        // logs[k]
	opSpawn      // spawns[k]
	opDespawn    // e[b]
	opGive       // e[b] to r[a]
	opSetRole    // of the client r[b] = r[a]
	opExpel      // the client r[b] with the reason strings[k]
	opClose      // with the reason strings[k]
	opReply      // r[a…] of types[k]
	opReveal     // r[b…] is revealed as reveals[k] says; only in code that is traced
	opChanged    // note when props[k] of e[b] last changed; with k -1, its owner
	opChangedAny // note when anything of the kind k last changed; clients for k = -1
)

// ins is one instruction, in 16 bytes.
type ins struct {
	op op
	b  uint8
	a  uint16
	c  uint32
	k  int64
}

// registers is how many registers of each sort a machine has: so many that the checker's bounds keep code within them.
// Of those of entities, one stands beside each local; the rest is for what is in between.
const (
	registers      = 256
	betweenOfKinds = contract.MaxLocals + 4
)

// code is a compiled head and body.
type code struct {
	id         int    // among the pieces of the program
	name       string // what it is the code of, such as `on spawn of Diver`
	file       string // of its source
	ins        []ins
	lines      []int32 // of the contract, by instruction
	checks     []int32 // by instruction: the check that fails when it reads through nothing, -1 in a body
	reasons    []string
	checkLines []int32
	then       []contract.Then // by check
	stores     []store
	props      []*contract.Property
	types      []*contract.Type
	strings    []string
	fetches    []addr
	puts       []put
	holders    []holder
	maths      []maths
	iters      []iter
	tells      []tell
	logs       []logs
	calls      []call
	spawns     []spawn
	reveals    []reveal
	params     []param
	nums       int // locals, arguments first
	memory     int
	width      int  // slots of the value that is computed
	real       bool // they are doubles
}

// param is where an argument goes.
type param struct {
	typ    *contract.Type
	at     int
	memory bool
}

// space is where something stands.
type space uint8

const (
	inRow space = iota
	inMemory
	inTable
	inSettings
)

// addr is where a value stands: in the row of an entity, in the body's memory, in the contract's or among the settings.
type addr struct {
	space  space
	entity int                  // register, of inRow
	prop   *contract.Property   // of inRow
	props  []*contract.Property // by kind, where the entity may be of several
	base   int                  // from the start of what is named, or of the property with props
	reg    int                  // a register with what is added to it, or -1
	typ    *contract.Type
}

// put is where something is written.
type put struct {
	to      addr
	clamped bool
}

// holder is an operation on stacks, a list or a map.
type holder struct {
	op   contract.Op
	on   addr
	to   addr // of a move
	args []int
}

// maths is a function of reals.
type maths struct {
	name  string
	args  []int
	types []*contract.Type
	list  addr // of inside and crosses
}

// iter is what a loop goes over.
type iter struct {
	kinds   []*contract.Kind
	clients bool
	list    addr
	width   int // of a value of the list, and of what stands before it in a map
	skip    int
	within  int // register, or -1
	of      int
	line    bool
	dims    int
	pos     []*contract.Property
}

// store is where a number is written and what it may be.
type store struct {
	index, slot int
	low, high   int64
	clamped     bool
	prop        *contract.Property
}

// operand is a value that is handed on: in registers, or a list.
type operand struct {
	typ  *contract.Type
	reg  int
	list *addr
}

// tell is a compiled `tell`; entity is -1 for an event of the contract itself.
type tell struct {
	event    *contract.Event
	entity   int
	args     []operand
	who      []who
	everyone bool
}

// logs is a compiled `log`.
type logs struct {
	who   []who
	words []string
	args  []operand
}

// call is a compiled `do` or the call of a function.
type call struct {
	action *contract.Action
	fn     *contract.Fn
	args   []operand
}

// spawn is a compiled `spawn`.
type spawn struct {
	kinds []*contract.Kind
	which int // register, or -1
	sets  []set
	to    int // local, or -1
}

type set struct {
	props []*contract.Property
	value operand
}

// reveal is a value that clients may learn, in code that is traced.
type reveal struct {
	place    string // where it stands
	typ      *contract.Type
	everyone bool
	who      []who
}

type who struct {
	but  bool
	sort contract.WhoSort
	role int
	reg  int
	list *addr
	aud  *contract.Named
	args []operand
}

package rules

import (
	"kamerad/core/contract"
)

// op is what an instruction does. r are registers of numbers, t of texts, e of entities (e[0] is self); row is self's row.
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

	opReal    // r[a] = the real of r[b] steps of steps[k]
	opSteps   // r[a] = the steps of steps[k] nearest to the real r[b]
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

	opStore  // stores[c] of e[b] = r[a]
	opStoreK // stores[c] of e[b] = k
	opBump   // stores[c] of e[b] += k

	opEntityOf     // e[a] = the entity of the kind k that the client r[b] has
	opEntityShared // e[a] = the entity of the shared kind k
	opEntityID     // e[a] = the entity with the ID r[b]
	opID           // r[a] = the ID of e[b], 0 for nothing
	opOwner        // r[a] = the owner of e[b]
	opCaller       // r[a] = the caller
	opRole         // r[a] = the role of the client r[b]

	opText      // t[a] = strings[k]
	opTextMove  // t[a] = t[b]
	opTextLoad  // t[a] = e[b].texts[c], of the property props[k]
	opTextEq    // r[a] = t[b] == t[c]
	opTextStore // props[k] of e[b] = t[a]
	opName      // t[a] = the name of the client r[b]

	opHas   // r[a] = stacks props[k] of e[b] have r[c+1] of the item r[c]
	opCount // r[a] = how many of the item r[c] they have
	opRoom  // r[a] = for how many there is room
	opPut   // put r[c+1] of the item r[c]
	opTake  // take them

	opTell      // tells[k]
	opRun       // calls[k] on e[b]
	opReply     // r[a]
	opTextReply // t[a]
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
const registers = 256

// code is a compiled head and body.
type code struct {
	ins        []ins
	lines      []int32 // of the contract, by instruction
	checks     []int32 // by instruction: the check that fails when it reads through nothing, -1 in a body
	reasons    []string
	checkLines []int32
	stores     []store
	props      []*contract.Property
	steps      []*contract.Type
	strings    []string
	tells      []tell
	calls      []call
	drops      []bool // by check: it drops the request
	nums       int    // locals, arguments first
	texts      int
}

// store is where a number is written and what it may be.
type store struct {
	index, slot int
	low, high   int64
	clamped     bool
	prop        *contract.Property
}

// tell is a compiled `tell`; entity is -1 for an event of the contract itself.
type tell struct {
	event    *contract.Event
	entity   int
	args     []int
	who      []who
	everyone bool
}

// call is a compiled `do`: the action and the registers of its arguments.
type call struct {
	action int
	nums   []int
	types  []*contract.Type // of those numbers
	texts  []int
}

type who struct {
	but  bool
	sort contract.WhoSort
	role int
	reg  int
}

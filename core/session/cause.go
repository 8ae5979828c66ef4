package session

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/world"
)

// CauseType says what set off a transaction.
type CauseType string

// What can set off a transaction.
const (
	CauseRequest CauseType = "request" // a client's request that was accepted
	CauseWrite   CauseType = "write"   // a client's write of a property
	CauseHold    CauseType = "hold"    // a hold that was pressed, released, or whose lease ended
	CauseJoin    CauseType = "join"
	CauseLeave   CauseType = "leave"
	CauseLost    CauseType = "lost" // a client's connection
	CauseBack    CauseType = "back"
	CauseStay    CauseType = "stay"    // a client that was sent elsewhere could not be
	CauseSilent  CauseType = "silent"  // nothing has been heard of the logic process for some time
	CauseHeard   CauseType = "heard"   // the logic process is heard
	CauseRole    CauseType = "role"    // a client has come to have another role
	CauseHandler CauseType = "handler" // of an entity: on start, on tick, …
	CauseTimer   CauseType = "timer"
	CauseAction  CauseType = "action" // that has waited
	CauseMotion  CauseType = "motion" // what follows a rate or a carrier
	CauseSet     CauseType = "set"    // from outside, by a drill or an operator
)

// causeTypes are the causes of which rolls are drawn, by what they are to those who ask.
var causeTypes = map[byte]CauseType{
	causeRequest: CauseRequest,
	causeWrite:   CauseWrite,
	causeHold:    CauseHold,
	causeJoin:    CauseJoin,
	causeLeave:   CauseLeave,
	causeRole:    CauseRole,
	causeStay:    CauseStay,
	causeHandler: CauseHandler,
	causeTimer:   CauseTimer,
	causeDelayed: CauseAction,
	causeMotion:  CauseMotion,
	causeOutside: CauseSet,
}

// Caused is a transaction that was kept: what set it off, and what it changed.
type Caused struct {
	Tick      int64
	Type      CauseType
	Client    int              // of a request, a write, a hold, or that came or went; 0 for none
	Seq       uint64           // of a request
	Steered   bool             // of a hold: its client pressed or released it
	Of        *world.Entity    // whose handler, timer, action, hold or motion it was; nil for none
	When      rules.When       // of a handler
	Timer     *contract.Timer  // of a timer
	Action    *contract.Action // of an action
	Scheduled int64            // of an action: the tick in which it began to wait
	Changes   []CausedChange
	Delays    []world.Delay // the actions that it had wait
}

// CausedChange is a property that a transaction changed, or gave its first value.
type CausedChange struct {
	Entity   *world.Entity
	Property *contract.Property
	Old      contract.Value
	New      contract.Value
	Spawned  bool            // its entity came with the transaction: there is no old value
	Through  []rules.RunBody // the bodies in which it was last written, the outermost first
}

// TraceCauses has every transaction told that is kept from now on, when it ends; nil for nobody. It takes memory and
// time, and is meant for a session that is played again.
func (s *Session) TraceCauses(to func(*Caused)) {
	s.traceCause = to
	s.machine.TraceRuns(to != nil)
}

// tellCause tells of the open transaction, before it is committed.
func (s *Session) tellCause() {
	cause := &s.machine.Cause
	out := &Caused{Tick: s.world.Tick, Type: causeTypes[cause.What]}
	switch cause.What {
	case causeRequest:
		out.Client = int(cause.A)
		out.Seq = uint64(cause.B)
	case causeJoin, causeLeave, causeRole, causeStay:
		out.Client = int(cause.A)
	case causeConnection:
		out.Client = int(cause.A)
		out.Type = CauseLost
		if cause.B == 1 {
			out.Type = CauseBack
		}
	case causeLogic:
		out.Type = CauseSilent
		if cause.A == 1 {
			out.Type = CauseHeard
		}
	default:
		out.Of = s.causeEntity
	}
	switch cause.What {
	case causeWrite, causeHold:
		out.Client = s.causeEntity.Owner
		if s.steering != nil {
			out.Client = s.steering.client.Number
			out.Steered = true
		}
	case causeHandler:
		out.When = rules.When(cause.B)
	case causeTimer:
		out.Timer = out.Of.Kind.Timers[cause.B]
	case causeDelayed:
		out.Action = s.causeAction.Action
		out.Scheduled = s.causeAction.Since
	}
	for _, c := range s.world.Traced() {
		out.Changes = append(out.Changes, CausedChange{
			Entity:   c.Entity,
			Property: c.Property,
			Old:      c.Old,
			New:      c.New,
			Spawned:  c.Spawned,
			Through:  s.machine.RunsAt(c.Mark),
		})
	}
	out.Delays = slices.Clone(s.world.Delays())
	s.traceCause(out)
}

// EntityNumber returns the number by which those outside know an entity.
func (s *Session) EntityNumber(e *world.Entity) uint32 { return s.numbers.Number(e) }

// FindEntity returns the entity with a public number; nil when there is none.
func (s *Session) FindEntity(number uint32) *world.Entity { return s.find(number) }

// World returns the session's world, to read it.
func (s *Session) World() *world.World { return s.world }

// MayHave reports whether a client is in the audience of a property of an entity now.
func (s *Session) MayHave(client int, e *world.Entity, p *contract.Property) bool {
	t := s.seats[client]
	return t != nil && t.joined && s.machine.Sees(e, client) && s.machine.Gets(e, p, client)
}

package session

import (
	"encoding/json"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"

	"kamerad.example/core/wire"
)

// CallType says which method of a Session was called.
type CallType uint8

// The types of calls: one for each method that changes what comes of a session. Their values stand in recordings, and
// never change.
const (
	CallTick CallType = iota + 1
	CallJoin
	CallLeave
	CallLost
	CallBack
	CallReady
	CallConfirm
	CallBehind
	CallCaughtUp
	CallReportDifference
	CallAsk
	CallSteer
	CallSet
	CallHand
	CallConfirmStored
	CallRecover
	CallLoadKept
	// CallJoinPlayer is how a recording writes a CallJoin that has a Player. No Call has it.
	CallJoinPlayer
	CallDepart
	CallStay
)

// CallTypes returns all types of calls.
func CallTypes() []CallType { return slices.Sorted(maps.Keys(callMethods)) }

// callMethods are the methods of the types of calls.
var callMethods = map[CallType]string{
	CallTick:             "Tick",
	CallJoin:             "Join",
	CallLeave:            "Leave",
	CallLost:             "Lost",
	CallBack:             "Back",
	CallReady:            "Ready",
	CallConfirm:          "Confirm",
	CallBehind:           "Behind",
	CallCaughtUp:         "CaughtUp",
	CallReportDifference: "ReportDifference",
	CallAsk:              "Ask",
	CallSteer:            "Steer",
	CallSet:              "Set",
	CallHand:             "Hand",
	CallConfirmStored:    "ConfirmStored",
	CallRecover:          "Recover",
	CallLoadKept:         "LoadKept",
	CallDepart:           "Depart",
	CallStay:             "Stay",
}

// String returns the name of the method.
func (t CallType) String() string {
	if name := callMethods[t]; name != "" {
		return name
	}
	return fmt.Sprintf("call %d", uint8(t))
}

// Call is a call of a method that changes what comes of a session: one of its inputs, as data. A session is a function
// of its contract, its options and its calls.
type Call struct {
	Type   CallType
	Client int // the client that it is about; of CallHand, the new owner, and of CallJoin, the number that it was given
	// what CallBack and CallConfirm confirm, CallBehind has written, CallConfirmStored has stored, CallTick was, and
	// CallRecover begins with
	Tick     int64
	Player   string           // of CallJoin: the identity of the player, when somebody has proven it; else empty
	Name     string           // of CallJoin
	Role     string           // of CallJoin
	Ask      *wire.Ask        // of CallAsk
	Message  wire.MessageType // of CallSteer: press, release or write
	Move     *wire.Move       // of CallSteer
	Entity   uint32           // of CallSet and CallHand: by its public number
	Property string           // of CallSet
	Value    json.RawMessage  // of CallSet
	Kept     *Kept            // of CallLoadKept
	Frames   uint32           // of CallTick: a sum over all frames, their clients and their order
}

// RecordCalls has every call told from now on that changes what comes of the session, in their order, a tick when it is
// done; nil for nobody. What a Call holds belongs to the session again when to returns. Calls that change nothing, such
// as what is about a client that has no seat, need not be told.
func (s *Session) RecordCalls(to func(*Call)) { s.recordCall = to }

// record tells whoever records the calls of one.
func (s *Session) record(c Call) {
	if s.recordCall != nil {
		s.call = c
		s.recordCall(&s.call)
	}
}

// Do calls the method again that a Call was. With a tick it returns the step. The error says that the session does not
// do what it did then: it was opened otherwise, or its inputs are not complete.
func (s *Session) Do(c *Call) (*Step, error) {
	switch c.Type {
	case CallTick:
		if s.tick+1 != c.Tick {
			return nil, fmt.Errorf("call a session again: after tick %d comes %d, not %d", s.tick, s.tick+1, c.Tick)
		}
		return s.Tick(), nil
	case CallJoin:
		client, err := s.JoinPlayer(c.Player, c.Name, c.Role)
		if err != nil {
			return nil, fmt.Errorf("call a session again: client %d: %w", c.Client, err)
		}
		if client != c.Client {
			return nil, fmt.Errorf("call a session again: client %d got the number %d", c.Client, client)
		}
	case CallLeave:
		s.Leave(c.Client)
	case CallLost:
		s.Lost(c.Client)
	case CallBack:
		s.Back(c.Client, c.Tick)
	case CallReady:
		s.Ready(c.Client)
	case CallConfirm:
		s.Confirm(c.Client, c.Tick)
	case CallBehind:
		s.Behind(c.Client, c.Tick)
	case CallCaughtUp:
		s.CaughtUp(c.Client)
	case CallReportDifference:
		s.ReportDifference(c.Client)
	case CallAsk:
		s.Ask(c.Client, s.ReadRequest(*c.Ask))
	case CallSteer:
		s.Steer(c.Client, s.ReadSteering(c.Message, *c.Move))
	case CallSet:
		return nil, s.setAgain(c)
	case CallHand:
		_ = s.Hand(c.Entity, c.Client) // what it set off may have failed then as well
	case CallConfirmStored:
		s.ConfirmStored(c.Tick)
	case CallRecover:
		s.Recover(c.Tick)
	case CallLoadKept:
		s.LoadKept(c.Client, *c.Kept)
	case CallDepart:
		s.Depart(c.Client)
	case CallStay:
		s.Stay(c.Client)
	default:
		return nil, fmt.Errorf("call a session again: %s is not known", c.Type)
	}
	return nil, nil
}

// setAgain sets a property once more.
func (s *Session) setAgain(c *Call) error {
	t := s.PropertyType(c.Entity, c.Property)
	if t == nil {
		return fmt.Errorf("call a session again: entity %d has no property %.80q", c.Entity, c.Property)
	}
	v, err := t.ParseJSON(c.Value)
	if err != nil {
		return fmt.Errorf("call a session again: set %s: the value %w", c.Property, err)
	}
	_ = s.Set(c.Entity, c.Property, v) // what it set off may have failed then as well
	return nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Sum returns a sum over all frames of the step, with their clients and their order.
func (s *Step) Sum() uint32 {
	sum := uint32(0)
	var client [4]byte
	for i := range s.Frames {
		f := &s.Frames[i]
		n := uint32(f.Client)
		client = [4]byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24)}
		sum = crc32.Update(sum, castagnoli, client[:])
		sum = crc32.Update(sum, castagnoli, f.Bytes)
	}
	return sum
}

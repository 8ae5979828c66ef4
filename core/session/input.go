package session

import (
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// input is something that arrived for the next tick.
type input struct {
	seat     *seat
	typ      inputType
	request  *Request // of inputAsk
	steering Steering // of inputPress, inputRelease and inputWrite
}

// inputType says what an input is.
type inputType uint8

const (
	inputJoin inputType = iota
	inputReady
	inputLost
	inputBack
	inputLeave
	inputAsk
	inputPress
	inputRelease
	inputWrite
	inputDepart    // a client that is sent elsewhere goes
	inputStay      // a client that is sent elsewhere could not be
	inputOvertaken // a write that a newer one has replaced
)

var inputNames = [...]string{
	inputJoin:      "join",
	inputReady:     "ready",
	inputLost:      "lost",
	inputBack:      "back",
	inputLeave:     "leave",
	inputAsk:       "ask",
	inputPress:     "press",
	inputRelease:   "release",
	inputWrite:     "write",
	inputDepart:    "depart",
	inputStay:      "stay",
	inputOvertaken: "overtaken",
}

// String returns the name of the type: of what a client sends, that of the message.
func (t inputType) String() string { return inputNames[t] }

// Request is a client's request once it was read: its name and arguments are what the contract declares, or problem
// says what is wrong.
type Request struct {
	ask         wire.Ask
	declaration *contract.Request
	args        []contract.Value
	slots       []int64 // of the arguments, when they mean the same to every client and in every tick; else nil
	problem     string  // empty when the request can be run
	hasWaited   bool    // for its limit
	tooLate     bool    // the session could not come to it in time
	// the newest tick of which its client knew all when it came: what came after that does not count
	confirmed int64
}

// Name returns the request's name as Kind.name, or "" when the contract has no such request.
func (r *Request) Name() string {
	if r.declaration == nil {
		return ""
	}
	return r.declaration.FullName()
}

// Seq returns the number that the client gave the request.
func (r *Request) Seq() uint64 { return r.ask.Seq }

// ReadRequest checks a request against the contract. It may be called by any goroutine, so that reading does not take
// the time of ticks.
func (s *Session) ReadRequest(ask wire.Ask) Request {
	out := Request{ask: ask}
	r := s.requests[ask.Request]
	if r == nil || !r.Kind.Visible() {
		out.problem = fmt.Sprintf("the contract has no request %.80q", ask.Request)
		return out
	}
	out.declaration = r
	if len(ask.Args) != len(r.Params) {
		out.problem = fmt.Sprintf("%s has %d arguments, not %d", r.FullName(), len(r.Params), len(ask.Args))
		return out
	}
	for i, p := range r.Params {
		v, err := p.Type.ParseJSON(ask.Args[i])
		if err != nil {
			out.problem = fmt.Sprintf("the argument `%s` %s", p.Name, err)
			return out
		}
		out.args = append(out.args, v)
	}
	if s.numericArgs[r.Index] {
		out.slots = make([]int64, 0, len(r.Params))
		for i, p := range r.Params {
			out.slots = p.Type.AppendSlots(out.slots, out.args[i], nil)
		}
	}
	return out
}

// Ask queues a request for the next tick. A client's surplus over the general limit is dropped without being looked at.
func (s *Session) Ask(client int, request Request) {
	t := s.seats[client]
	if t == nil {
		return
	}
	t.queued++
	if t.queued > s.maxQueuedOf(t) {
		return // a flood gets no answer; it already has maxPerTick decisions and more drops in this tick
	}
	if s.recordCall != nil {
		s.record(Call{Type: CallAsk, Client: client, Ask: &request.ask})
	}
	s.confirm(t, request.ask.Seen)
	t.highestNumber = max(t.highestNumber, request.ask.Seq)
	request.confirmed = t.known(t.confirmed).all
	s.inputs = append(s.inputs, input{seat: t, typ: inputAsk, request: &request})
}

// Steering is a client's press or release of a hold, or its write of a property, once it was read.
type Steering struct {
	typ      inputType // inputPress, inputRelease or inputWrite
	message  wire.Move
	property *contract.Property
	kind     *contract.Kind
	value    contract.Value // of a write that did not come as numbers
	problem  string         // empty when it can be carried out
}

// Name returns the name of the property that is pressed, released or written as Kind.name, or "" when the contract has
// no such property.
func (s *Steering) Name() string {
	if s.property == nil {
		return ""
	}
	return s.kind.Name + "." + s.property.Name
}

// steeringTypes are the types of messages that ReadSteering reads, by their names.
var steeringTypes = map[wire.MessageType]inputType{
	wire.MessagePress:   inputPress,
	wire.MessageRelease: inputRelease,
	wire.MessageWrite:   inputWrite,
}

// steeringMessages are the names of the types of messages, the other way around.
var steeringMessages = map[inputType]wire.MessageType{
	inputPress:   wire.MessagePress,
	inputRelease: wire.MessageRelease,
	inputWrite:   wire.MessageWrite,
}

// ReadSteering checks a press, a release or a write against the contract. typ is one of these three words. It may be
// called by any goroutine.
func (s *Session) ReadSteering(typ wire.MessageType, message wire.Move) Steering {
	m := Steering{typ: steeringTypes[typ], message: message}
	p := s.steerable[message.Property]
	if p == nil || (p.Hold == nil) != (m.typ == inputWrite) {
		m.problem = fmt.Sprintf(
			"the contract has no hold or property %.80q that a client could %s", message.Property, typ,
		)
		return m
	}
	m.property = p
	m.kind = s.steerableKinds[message.Property]
	if m.typ == inputWrite && message.Wide != p.Type.Width() {
		var err error
		m.message.Wide = 0
		m.value, err = p.Type.ParseJSON(message.Value)
		if err != nil {
			m.problem = "the value " + err.Error()
		}
	}
	return m
}

// Steer queues a press, release or write for the next tick. Of the writes of one property only the newest counts.
func (s *Session) Steer(client int, m Steering) {
	t := s.seats[client]
	if t == nil {
		return
	}
	t.queued++
	if t.queued > s.maxQueuedOf(t) {
		return
	}
	if s.recordCall != nil {
		s.callMove = m.message // to point to m would put every message on the heap
		s.record(Call{Type: CallSteer, Client: client, Message: steeringMessages[m.typ], Move: &s.callMove})
	}
	s.confirm(t, m.message.Seen)
	// A claim beyond what it was sent counts for nothing.
	m.message.Seen = t.known(min(m.message.Seen, t.confirmed)).own
	t.highestNumber = max(t.highestNumber, m.message.Seq, m.message.Press)
	if m.typ == inputWrite {
		for _, i := range t.queuedWrites {
			older := &s.inputs[i]
			sameProperty := older.steering.property == m.property
			if sameProperty && older.steering.message.Entity == m.message.Entity {
				older.typ = inputOvertaken
				s.overtaken = append(s.overtaken, Overtaken{client, older.steering.message.Seq})
			}
		}
		t.queuedWrites = append(t.queuedWrites, len(s.inputs))
	}
	s.inputs = append(s.inputs, input{seat: t, typ: m.typ, steering: m})
}

// target returns the entity that a client's input is for, or nil. number 0 means the entity of a shared kind, or the
// client's own.
func (s *Session) target(t *seat, k *contract.Kind, number uint32) *world.Entity {
	switch {
	case number != 0:
		if e := s.view.Entity(t.client.Number, number); e != nil && e.Kind == k {
			return e
		}
		return nil
	case k.Shared:
		return s.world.Shared(k.Index)
	}
	return s.world.OfClient(k.Index, t.client.Number)
}

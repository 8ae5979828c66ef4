package session

import (
	"encoding/json"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
)

// Sending is a client that the contract sends to another session. The client has its seat until Depart or Stay says
// what has become of that.
type Sending struct {
	Client   int
	Exit     *contract.Exit
	Key      string                     // of the session that the exit leads to
	Settings map[string]json.RawMessage // of that session, when it has to be opened
}

// send begins to send a client elsewhere. One that leaves, or is under way already, is not sent.
func (s *Session) send(effect rules.Effect) {
	t := s.seats[effect.Client]
	if t == nil || t.leaving || t.isUnderWay || t.cutReason != "" {
		return
	}
	t.isUnderWay = true
	out := Sending{
		Client:   effect.Client,
		Exit:     effect.Exit,
		Key:      effect.Key,
		Settings: map[string]json.RawMessage{},
	}
	for i, p := range effect.Exit.Params {
		out.Settings[p.Name] = p.Type.AppendJSON(nil, effect.Values[i])
	}
	s.sendings = append(s.sendings, out)
}

// Depart says that the place of a client that is sent elsewhere is ready there: its seat here ends with the next tick.
func (s *Session) Depart(client int) { s.arrive(client, CallDepart, inputDepart) }

// Stay says that a client cannot be sent elsewhere: it stays.
func (s *Session) Stay(client int) { s.arrive(client, CallStay, inputStay) }

// arrive queues what has become of a client that is sent elsewhere.
func (s *Session) arrive(client int, call CallType, typ inputType) {
	if t := s.seats[client]; t != nil && t.isUnderWay && !t.leaving {
		s.record(Call{Type: call, Client: client})
		s.inputs = append(s.inputs, input{seat: t, typ: typ})
	}
}

// stay carries out that a client which was sent elsewhere could not be.
func (s *Session) stay(t *seat) {
	t.isUnderWay = false
	client := t.client.Number
	s.setCause(causeStay, int64(client), 0)
	s.endClientHandler(client, "on stay", s.machine.Stay(client))
}

// DepartReason is why the seat of a client has ended that was sent elsewhere.
const DepartReason = "it was sent to another session"

// depart carries out that a client which was sent elsewhere goes there.
func (s *Session) depart(t *seat, step *Step) {
	step.Cuts = append(step.Cuts, Cut{Client: t.client.Number, Reason: DepartReason, Departs: true})
	s.leave(t)
}

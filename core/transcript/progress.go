package transcript

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Progress is how far the clients of a recorded session have come at a tick. It has to be told of every call and every
// tick from the session's beginning. The zero value is that of a session that nobody has joined.
type Progress struct {
	Clients []*Seated // that have a seat, in the order of their joining
	names   names
}

// Seated is a client that has a seat, with the numbers of what it sent last.
type Seated struct {
	Number int
	Name   string // in a drill
	Role   string
	Lost   bool // its connection is
	Ready  bool // it has said so
	Behind bool // nothing is packed for it
	Seq    uint64
	Press  uint64
	Holds  []wire.Move // presses that it has not released
}

// Called notes a call, before or after it is made.
func (p *Progress) Called(c *session.Call) {
	if c.Type == session.CallJoin {
		p.Clients = append(p.Clients, &Seated{Number: c.Client, Name: p.names.of(c.Name), Role: c.Role})
		return
	}
	if c.Type == session.CallRecover {
		for _, x := range p.Clients {
			x.Lost = true
			x.Behind = false
		}
		return
	}
	x := p.client(c.Client)
	if x == nil {
		return
	}
	switch c.Type {
	case session.CallLeave:
		p.out(c.Client)
	case session.CallLost:
		x.Lost = true
	case session.CallBack:
		x.Lost = false
		x.Ready = false
		x.Behind = false
	case session.CallReady:
		x.Ready = true
	case session.CallBehind:
		x.Behind = true
	case session.CallCaughtUp:
		x.Behind = false
	case session.CallAsk:
		x.Seq = max(x.Seq, c.Ask.Seq)
	case session.CallSteer:
		x.steered(c.Message, c.Move)
	}
}

// Ticked notes what came of a tick, and takes the roles that clients have then.
func (p *Progress) Ticked(s *session.Session, step *session.Step) {
	for _, cut := range step.Cuts {
		p.out(cut.Client)
	}
	for _, c := range s.Clients() {
		if x := p.client(c.Number); x != nil {
			x.Role = c.Role
		}
	}
}

// client returns the client with a number; nil for none.
func (p *Progress) client(number int) *Seated {
	for _, x := range p.Clients {
		if x.Number == number {
			return x
		}
	}
	return nil
}

// out notes that a client has no seat any more.
func (p *Progress) out(client int) {
	p.Clients = slices.DeleteFunc(p.Clients, func(x *Seated) bool { return x.Number == client })
}

// steered notes a write, a press or the end of one.
func (x *Seated) steered(message wire.MessageType, m *wire.Move) {
	same := func(h wire.Move) bool { return h.Property == m.Property && h.Entity == m.Entity }
	switch message {
	case wire.MessageWrite:
		x.Seq = max(x.Seq, m.Seq)
	case wire.MessagePress:
		x.Press = max(x.Press, m.Press)
		x.Holds = append(slices.DeleteFunc(x.Holds, same), *m)
	case wire.MessageRelease:
		x.Holds = slices.DeleteFunc(x.Holds, same)
	}
}

// names are the names that clients got in a drill, with how often each was given. The zero value has none.
type names map[string]int

// reserved are names that mean something else in a drill.
var reserved = []string{"server", "everyone", "nothing", "clients", "self", "caller"}

// of returns a name of its own for a client: small letters, digits and underscores.
func (n *names) of(client string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(client))
	name = strings.Trim(name, "_")
	if name == "" || name[0] < 'a' || slices.Contains(reserved, name) {
		name = "client_" + name
	}
	if *n == nil {
		*n = names{}
	}
	(*n)[name]++
	if times := (*n)[name]; times > 1 {
		name = fmt.Sprintf("%s_%d", name, times)
	}
	return name
}

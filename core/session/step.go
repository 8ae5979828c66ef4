package session

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
)

// Step is what one tick did. The session owns it; it holds until the next tick.
type Step struct {
	Tick        int64
	Frames      []ClientFrame
	Decisions   []Decision
	Events      []EventSent
	Cuts        []Cut
	Sendings    []Sending // clients that the contract sends elsewhere: Depart or Stay has to say of each
	Logs        []Log
	Kept        []KeptChange    // changes of what players keep, in their order
	Misfits     []KeptMisfit    // of what was loaded
	Result      json.RawMessage // what the session came to, with Closed; nil for none
	Closed      string          // why the contract ended the session with this tick; empty when it goes on
	Faults      []Fault         // of handlers, timers and writes; what they did was undone
	Overtaken   []Overtaken     // writes that a newer one of the same client replaced before anybody looked at them
	Refused     []Refused       // writes, presses and releases that were not carried out
	Reveals     []rules.Reveal  // since the last tick, in their order; only with Options.Reveals
	Deferred    int             // inputs that came in this tick and wait for another one
	Heaviest    Heavy           // the cause that took the most steps
	MemoryUsed  int64           // bytes that entities take, and what clients are told of them; see Options.Memory
	Memory      []byte          // in which the frames stand
	ServerState *wire.Block     // what changed for the server itself; nil unless traced and watched
}

// ClientFrame is a binary frame for one client. It holds until the next Tick, unless UseMemory gives that other memory.
type ClientFrame struct {
	Client int
	Bytes  []byte
	Whole  []byte // the same, after as many bytes as Options.Headroom
}

// Cut says that a client that had a seat until now is out, and why.
type Cut struct {
	Client  int
	Reason  string
	Departs bool // it was sent to another session, where its place is ready
}

// EventSent is an event and who it was sent to.
type EventSent struct {
	Event   *wire.Event
	Clients []int
}

// Log is a line that the contract logged, and for whom.
type Log struct {
	Text    string
	Clients []int
}

// Overtaken is a write of a client, by its sequence number, that was not carried out because a newer one of the same
// property came in the same tick. Its client is told nothing: the newer one counts.
type Overtaken struct {
	Client int
	Seq    uint64
}

// Refused is a write, press or release that was not carried out.
type Refused struct {
	Client   wire.Client
	Type     string // write, press or release
	Property string // full name
	Outcome  wire.Outcome
	Reason   string
}

// Decision is a decided request with all that there is to tell of it. It is for those who run the session: Reason may
// speak of what the client may not see.
type Decision struct {
	Tick    int64
	Client  wire.Client
	Ask     wire.Ask
	Entity  uint32 // that the request was for; 0 if there is no such entity
	Kind    string
	Owner   int
	Outcome wire.Outcome
	Stage   wire.Stage
	Reason  string
	Reply   json.RawMessage // of an accepted request that replies
	Check   int             // index of the check that decided, or -1
	Strike  bool            // it counted a strike, or expelled
	Text    string          // of that check
	In      string          // the body that decided, such as `request use of Diver`; empty if none did
	File    string          // of that body
	Line    int             // of the contract; 0 if none decided
	Changes []Change        // only with Options.Trace
	Events  []string        // the full names of those that it sent
	// Checks is what came of the request's checks, while the session is watched; nil when it did not come to them.
	Checks []CheckResult

	failedCheck int // that refused it at StageCheck
}

// refuse sets what became of a request that is not accepted.
func (d *Decision) refuse(outcome wire.Outcome, stage wire.Stage, reason string) {
	d.Outcome = outcome
	d.Stage = stage
	d.Reason = reason
}

// Change is what an accepted request changed.
type Change struct {
	Entity   uint32
	Kind     string
	Owner    int
	Property string
	Type     *contract.Type
	Old, New contract.Value
}

// Fault says that something failed inside that the contract does by itself, or a write of a client. What it did was
// undone. A request that fails has a Decision instead.
type Fault struct {
	Of     string // what was run, such as "on join" or "a timer of Diver"
	In     string // the body that failed, such as "on spawn of Diver"
	File   string // of the contract, or one that it includes
	Line   int
	Entity uint32 // whose handler or timer was run, by its public number; 0 for none
	Kind   string // of that entity
	Serial int64  // of that entity: it was the how manyth of its kind, from 1
	Owner  int    // of that entity
	Client int    // that joined, left, lost its connection or wrote; 0 for none
	Seq    uint64 // of a write
	Reason string
}

// Words returns a sentence about a fault: its place in the contract, what it was about unless that is empty, and why.
func (f *Fault) Words(about string) string {
	in := f.In
	if in == "" {
		in = f.Of
	}
	if about != "" {
		about = " (" + about + ")"
	}
	return fmt.Sprintf("%s fails inside, in line %d of %s%s: %s", in, f.Line, f.File, about, f.Reason)
}

var digits = regexp.MustCompile(`-?[0-9]+(\.[0-9]+)?`)

// Cause returns what failed and why, without the numbers of this one time: faults of one cause are the same fault
// again.
func (f *Fault) Cause() string {
	return fmt.Sprintf("%s in line %d of %s: %s", f.In, f.Line, f.File, digits.ReplaceAllString(f.Reason, "N"))
}

// Fault returns the fault of a request that failed inside, and what it was about.
func (d *Decision) Fault() (f Fault, about string) {
	kind, name, _ := strings.Cut(d.Ask.Request, ".")
	f = Fault{
		Of:     "request " + name + " of " + kind,
		In:     d.In,
		File:   d.File,
		Line:   d.Line,
		Client: d.Client.Number,
		Seq:    d.Ask.Seq,
		Reason: d.Reason,
	}
	values := make([]string, len(d.Ask.Args))
	for i, value := range d.Ask.Args {
		values[i] = string(value)
	}
	asked := strings.Join(values, ", ")
	if asked == "" {
		asked = "nothing"
	}
	return f, fmt.Sprintf("asked by %s with %s", d.Client.Name, asked)
}

// maxValuesTold is how many values of an entity are told with a fault of one of its handlers.
const maxValuesTold = 8

// About returns what a fault of the last tick was about: the entity by name, with the values that it has now, or the
// client.
func (s *Session) About(f *Fault) string {
	clientName := func(client int) string {
		if t := s.seats[client]; t != nil && client != 0 {
			return t.client.Name
		}
		return ""
	}
	if f.Kind == "" {
		return clientName(f.Client)
	}
	out := fmt.Sprintf("%s[%d]", f.Kind, f.Serial)
	if owner := clientName(f.Owner); owner != "" {
		out = owner + "." + f.Kind
	}
	e := s.find(f.Entity)
	if e == nil {
		return out
	}
	var values []string
	for _, x := range s.numbers.Spawn(e).Fields {
		if len(values) == maxValuesTold {
			values = append(values, "…")
			break
		}
		values = append(values, x.Name+" = "+x.Type.Format(x.Value))
	}
	return out + " with " + strings.Join(values, ", ")
}

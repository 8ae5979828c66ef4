package observe

import (
	"encoding/json"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Playback keeps what who watches a run would be told of it, from a tick on. It is a session.Observer.
type Playback struct {
	// Tamper stands between a client and its frames; see Follower. Nil for none.
	Tamper func(client int, f *wire.Frame) *wire.Frame

	contract string
	version  int
	from     int64
	observer *Observer
	faults   FaultList
	follower *Follower // nil until the run has come to from
	messages []json.RawMessage
	bytes    int
}

// maxPlayback bounds the bytes of the messages of a Playback.
const maxPlayback = 16 << 20

// NewPlayback returns what keeps what is told of a session of a version of a contract.
func NewPlayback(contract string, version int, from int64) *Playback {
	return &Playback{contract: contract, version: version, from: from}
}

// Messages returns what was told: a sheet, and then a message for each tick.
func (r *Playback) Messages() []json.RawMessage { return r.messages }

// IsFull reports whether there was more than is kept.
func (r *Playback) IsFull() bool { return r.bytes > maxPlayback }

// Began makes the observer of the run's session, or of the one that takes its place: what is told then begins anew with
// a sheet.
func (r *Playback) Began(s *session.Session) {
	r.observer = New(s)
	r.follower = nil
	for _, c := range s.Clients() { // of a session that is played from its middle
		r.observer.Joined(c.Number)
	}
	r.begin(s)
}

// begin follows the run from here on, once it has come to the tick from which it is told of.
func (r *Playback) begin(s *session.Session) {
	if r.follower != nil || s.Now() < r.from {
		return
	}
	r.follower = r.observer.Begin()
	r.follower.Tamper = r.Tamper
	sheet := r.follower.Sheet(r.observer.Now())
	sheet.Session = &api.Session{
		Contract: r.contract,
		Version:  r.version,
		Tick:     s.Now(),
		Clients:  s.Clients(),
		Faults:   r.faults.Summary(),
	}
	r.keep(&sheet)
}

// keep adds a message, while there is room.
func (r *Playback) keep(m *api.Watch) {
	raw := api.Encode(m)
	r.bytes += len(raw)
	if r.bytes <= maxPlayback {
		r.messages = append(r.messages, raw)
	}
}

// Joined notes that a client has joined.
func (r *Playback) Joined(client int) { r.observer.Joined(client) }

// Left notes that a client has left.
func (r *Playback) Left(client int) { r.observer.Left(client) }

// Arrived notes that a client has applied a frame.
func (r *Playback) Arrived(client int, tick int64) { r.observer.Holds(client, tick) }

// Ticked keeps what there is to tell of a tick.
func (r *Playback) Ticked(step *session.Step) {
	faults := r.faults.Note(r.observer.Session(), step)
	if moment := r.observer.Tick(step, len(faults) > 0); moment != nil {
		if len(faults) > 0 {
			moment.Faults = r.faults.Summary()
		}
		if msg := r.follower.Tick(moment); msg != nil {
			r.keep(msg)
		}
	}
	r.begin(r.observer.Session())
}

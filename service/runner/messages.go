package runner

import (
	"log/slog"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Message is a message of a client that was read and not handled yet.
type Message struct {
	Type      wire.MessageType
	Confirmed int64     // the tick that it confirms; 0 for none
	At        time.Time // when it was read; whoever read it sets that
	size      int       // in bytes, as it came
	request   *session.Request
	steering  session.Steering
	text      string           // of a log line
	original  *wire.FromClient // as it came, for a transcript; nil without one
}

// ReadMessage reads a message, in binary or as JSON, into m: a thousand clients send one in every tick, and to hand
// over copies would take a twentieth of the tick. The error says that the message is broken; who sent it is to be cut.
// Everybody may call it.
func (r *Runner) ReadMessage(m *Message, raw []byte, json bool) error {
	var read wire.FromClient
	var err error
	if json {
		read, err = wire.ParseFromClient(raw)
	} else {
		read, err = wire.UnpackFromClient(raw, r.outline)
	}
	if err != nil {
		return err
	}
	*m = Message{Type: read.Type, Confirmed: read.Seen, size: len(raw)}
	if r.transcript != nil && read.Type != wire.MessageLog {
		sent := read // a copy, so that without a transcript no message is put on the heap
		m.original = &sent
	}
	switch read.Type {
	case wire.MessageAsk:
		request := r.session.ReadRequest(read.Ask)
		m.request = &request
	case wire.MessageLog:
		m.text = read.Text
	case wire.MessagePress, wire.MessageRelease, wire.MessageWrite:
		m.steering = r.session.ReadSteering(read.Type, read.Move())
	}
	return nil
}

// item says what the message is, for who counts what is sent.
func (m *Message) item() wire.UsageItem {
	switch m.Type {
	case wire.MessageAsk:
		return wire.UsageItem{Type: wire.UsageRequest, Of: m.request.Name()}
	case wire.MessagePress, wire.MessageRelease, wire.MessageWrite:
		return wire.UsageItem{Type: wire.UsageSteer, Of: m.steering.Name()}
	case wire.MessageSeen:
		return wire.UsageItem{Type: wire.UsageConfirm}
	}
	return wire.UsageItem{Type: wire.UsageOther}
}

// Handle does what a client's message asks for. It is called on the runner's goroutine.
func (r *Runner) Handle(client int, m *Message) {
	r.watchers.observer.Received(client, m.item(), m.size)
	switch m.Type {
	case wire.MessageReady:
		r.handleReady(client)
	case wire.MessageSeen:
		r.session.Confirm(client, m.Confirmed)
		r.watchers.observer.Confirmed(client)
	case wire.MessageDiffers:
		r.handleDifference(client, m.Confirmed)
	case wire.MessageLog:
		r.handleLog(client, m)
	case wire.MessageLeave:
		r.Leave(client, "the client left")
	case wire.MessageAsk:
		r.noteSent(client, m)
		r.requests.Asked(client, m.request.Seq(), m.request.Name(), m.At)
		r.session.Ask(client, *m.request)
	case wire.MessagePress, wire.MessageRelease, wire.MessageWrite:
		r.noteSent(client, m)
		r.session.Steer(client, m.steering)
	}
}

// handleReady lets a client play, which has said that it is ready.
func (r *Runner) handleReady(client int) {
	if s := r.seats[client]; s != nil {
		s.on(clientReady)
	}
	r.session.Ready(client)
}

// Lines of a client's log that are told to who watches: so many a second, and so many at once. What is over that is
// dropped.
const (
	logRate  = 20
	logBurst = 60
)

// handleLog hands a line of a client's log to those who watch. Nothing else comes of it.
func (r *Runner) handleLog(client int, m *Message) {
	s := r.seats[client]
	if s == nil {
		return
	}
	if s.logLimit == nil {
		s.logLimit = rate.NewLimiter(logRate, logBurst)
	}
	if s.logLimit.AllowN(r.now(), 1) {
		r.watchers.observer.Logged(client, m.Confirmed, m.text)
	}
}

// handleDifference sends a client its copy anew, which is not what its digest says.
func (r *Runner) handleDifference(client int, tick int64) {
	r.meters.differences.Inc()
	if r.session.ReportDifference(client) {
		slog.Warn(
			"a client's copy is not what it should be; it is sent anew", "session", r.row.ID, "client", client,
			"tick", tick,
		)
	}
}

// noteSent puts into the transcript what a client sent.
func (r *Runner) noteSent(client int, m *Message) {
	if r.transcript != nil && m.original != nil {
		r.transcript.Sent(client, m.original)
	}
}

// WriteDrill writes a drill of what the clients of the session have done. It is called on the runner's goroutine, and
// only when HasTranscript.
func (r *Runner) WriteDrill(name, file string) (text string, left int, err error) {
	return r.transcript.Drill(name, file)
}

// Expect adds to the drill of the session what a client sees now of a property, client 0 being the server, and returns
// the line. It is called on the runner's goroutine, and only when HasTranscript.
func (r *Runner) Expect(client int, entity uint32, property string) (line string, err error) {
	return r.transcript.Expect(client, entity, property)
}

// HasTranscript reports whether what clients do is noted: the session was opened with a seed.
func (r *Runner) HasTranscript() bool { return r.transcript != nil }

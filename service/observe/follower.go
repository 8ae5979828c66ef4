package observe

import (
	"encoding/json"
	"log/slog"
	"slices"

	"kamerad.example/api"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// Follower tells of the moments that an Observer notes. It reads no session, and belongs to whoever takes the moments;
// it has to be given each of them, in their order.
type Follower struct {
	// Tamper, if it is set, stands between a client and the frames that it is taken to have got; for tests.
	Tamper func(client int, f *wire.Frame) *wire.Frame

	contract *contract.Contract
	layout   *wire.Layout
	mirrors  map[int]*mirror // by the client's number
	traffic  *traffic
	quiet    int // ticks since there was last anything to tell
}

// mirror follows what one client holds.
type mirror struct {
	reader         *wire.Reader // of the frames that it is sent
	copy           replicate.Copy
	frames         []*wire.Frame // sent and not confirmed
	newlyConfirmed []*wire.Frame // confirmed since the last message
	changed        bool
	confirmed      int64
	toldConfirmed  int64 // what watchers know of confirmed
	toldLost       bool  // whether watchers know it to be without a connection
}

// addMirror begins to follow a client whose frames a reader reads.
//
// The mirror's copy is looked at only for a sheet, which tells motions and not where they have led to: to compute that
// for each frame took, with 500 entities that move and 30 clients, more than there is of a tick.
func (f *Follower) addMirror(client int, r *wire.Reader) *mirror {
	m := &mirror{reader: r, copy: replicate.Copy{OmitChanges: true, OmitMotion: true}}
	f.mirrors[client] = m
	f.traffic.follow(client, r)
	return m
}

// confirm makes the frames up to a tick part of what the client holds.
func (m *mirror) confirm(tick int64) {
	m.confirmed = max(m.confirmed, tick)
	n := 0
	for n < len(m.frames) && m.frames[n].Tick <= m.confirmed {
		m.copy.Apply(m.frames[n])
		n++
	}
	m.newlyConfirmed = append(m.newlyConfirmed, m.frames[:n]...)
	m.frames = slices.Delete(m.frames, 0, n)
}

// Sheet returns a message with everything but the session itself, as it was at a moment between two ticks.
func (f *Follower) Sheet(m *Moment) api.Watch {
	sheet := api.Watch{
		Type:      api.WatchSheet,
		Outline:   f.contract.FullOutline(),
		Tick:      m.tick,
		Server:    (&wire.Frame{Tick: m.tick, Snapshot: true, Blocks: []*wire.Block{m.server}}).AppendJSON(nil),
		Decisions: nonNil(m.decisions),
		Told:      nonNil(m.told),
		Arrivals:  m.arrivals,
	}
	var frames frameTable
	sheet.Clients = make([]api.WatchClient, len(m.clients))
	for i := range m.clients {
		of := f.mirrors[m.clients[i].client.Number]
		if of != nil {
			of.confirm(m.clients[i].confirmed)
		}
		client := &sheet.Clients[i]
		*client = f.describeClient(&m.clients[i])
		if of != nil {
			frame := &wire.Frame{Tick: of.copy.Tick, Snapshot: true, Blocks: []*wire.Block{of.copy.Snapshot()}}
			frames.add(&client.Frames, frame)
		}
	}
	sheet.Blocks = frames.finish()
	return sheet
}

// describeClient describes one client, without its frames.
func (f *Follower) describeClient(c *clientState) api.WatchClient {
	out := api.WatchClient{
		Client:      c.client,
		Test:        c.test,
		Lost:        c.isLost,
		Seen:        c.confirmed,
		Sent:        c.sent,
		Bytes:       c.bytes,
		Differences: c.differences,
	}
	if m := f.mirrors[c.client.Number]; m != nil {
		out.Seen = max(out.Seen, m.confirmed)
		if len(m.frames) > 0 {
			out.Waits = m.frames[0].Tick
		}
	}
	if c.isLost && out.Waits == 0 {
		out.Waits = c.sent + 1
	}
	if c.waitsSince > 0 && (out.Waits == 0 || c.waitsSince < out.Waits) {
		out.Waits = c.waitsSince
	}
	return out
}

// Tick takes in the moment of a tick, and returns what there is to tell of it; nil when that is nothing. Nothing new is
// told once a second only, for the tick.
func (f *Follower) Tick(m *Moment) *api.Watch {
	msg := api.Watch{
		Type:      api.WatchTick,
		Tick:      m.tick,
		Decisions: nonNil(m.decisions),
		Told:      nonNil(m.told),
		Refused:   m.refused,
		Logs:      m.logs,
		Load:      m.Load,
		Faults:    m.Faults,
	}
	if !m.server.Empty() {
		msg.Server = (&wire.Frame{Tick: m.tick, Blocks: []*wire.Block{m.server}}).AppendJSON(nil)
		msg.Left = m.server.Left
	}
	f.takeFrames(m)
	for _, n := range msg.Left {
		delete(f.mirrors, n)
	}
	var frames frameTable
	msg.Clients = f.changedClients(m, &frames)
	msg.Blocks = frames.finish()
	if m.tick%int64(f.contract.TickRate) == 0 {
		msg.Traffic = f.traffic.take(m.tick, f.mirrors)
	}
	if msg.Server == nil && msg.Traffic == nil && !m.failed &&
		len(msg.Clients)+len(msg.Decisions)+len(msg.Told)+len(msg.Refused)+len(msg.Logs) == 0 {
		f.quiet++
		if f.quiet < f.contract.TickRate {
			return nil
		}
	}
	f.quiet = 0
	return &msg
}

// takeFrames puts the frames of a tick into the mirrors of the clients that are sent them, and makes what clients have
// confirmed part of what they hold.
func (f *Follower) takeFrames(m *Moment) {
	for _, r := range m.received {
		f.traffic.received(r)
	}
	for i := range m.clients {
		if of := f.mirrors[m.clients[i].client.Number]; of != nil {
			of.confirm(m.clients[i].confirmed)
		}
	}
	for _, sent := range m.frames {
		f.takeFrame(sent.client, (*m.memory)[sent.begin:sent.end])
	}
	m.done()
}

// takeFrame puts a frame into the mirror of the client that is sent it.
func (f *Follower) takeFrame(client int, raw []byte) {
	of := f.mirrors[client]
	if of == nil {
		of = f.addMirror(client, wire.NewReader(f.layout))
	}
	// A frame's state alone: who watches gets decisions and events apart.
	frame, err := of.reader.Read(raw)
	if err != nil { // the service wrote it itself
		slog.Error("a frame cannot be read", "client", client, "error", err)
		return
	}
	f.traffic.sent(client, len(raw))
	if f.Tamper != nil {
		frame = f.Tamper(client, frame)
	}
	of.frames = append(of.frames, &wire.Frame{Tick: frame.Tick, Snapshot: frame.Snapshot, Blocks: frame.Blocks})
	if len(of.frames) > maxUnconfirmed {
		of.confirm(of.frames[0].Tick)
	}
	of.confirm(of.confirmed)
	of.changed = true
}

// changedClients describes the clients of which there is something new: they were sent something, or have confirmed it.
// Their frames are added to a table.
func (f *Follower) changedClients(m *Moment, frames *frameTable) []api.WatchClient {
	out := make([]api.WatchClient, 0, len(m.clients)) // they stay where they are
	for i := range m.clients {
		c := &m.clients[i]
		of := f.mirrors[c.client.Number]
		if of == nil || !of.changed && len(of.newlyConfirmed) == 0 && of.toldConfirmed == of.confirmed &&
			of.toldLost == c.isLost {
			continue
		}
		of.toldLost = c.isLost
		out = append(out, f.describeClient(c))
		for _, frame := range of.newlyConfirmed {
			frames.add(&out[len(out)-1].Frames, frame)
		}
		of.newlyConfirmed = nil
		of.changed = false
		of.toldConfirmed = of.confirmed
	}
	return out
}

// frameTable collects the frames of a message's clients: clients that may have the same are sent the same, and so most
// of what frames consist of stands in the frames of many.
type frameTable struct {
	frames []*wire.Frame
	places []*[]api.WatchFrame // where each of them is to be told
}

// add adds a frame that is to be told in a list of frames, which has to stay where it is.
func (t *frameTable) add(list *[]api.WatchFrame, f *wire.Frame) {
	t.frames = append(t.frames, f)
	t.places = append(t.places, list)
}

// finish puts each frame into its list, and returns the blocks that they consist of.
func (t *frameTable) finish() []json.RawMessage {
	blocks, of := wire.Share(t.frames)
	for i, f := range t.frames {
		*t.places[i] = append(*t.places[i], api.WatchFrame{Tick: f.Tick, Snapshot: f.Snapshot, State: of[i]})
	}
	out := make([]json.RawMessage, 0, len(blocks))
	for _, b := range blocks {
		out = append(out, b.JSON())
	}
	return out
}

// nonNil returns an empty list for nil, for JSON.
func nonNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

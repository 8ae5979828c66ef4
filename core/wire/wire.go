// Package wire holds the messages between server and clients, and their JSON form, the sub-protocol kamerad.json.v2.
//
// A frame carries all changes of one tick that a client may have. Its parts are applied in this order: clients that
// joined or have another role, entities that spawned, owners, values, entities that are gone, clients that left; then
// events; then decisions, and lines of the log.
//
// A Layout is made of an outline once, and shared. The server's side is Group, which packs what changed for those who
// get the same, and Block, which what it sends is put together of; the client's side is ParseFrame. Messages of clients
// are read by UnpackFromClient and, as JSON, ParseFromClient. Whatever comes from outside is held to bounds before
// memory is taken for it, and an error names what is broken. What a Group packed holds until it packs again.
//
// # How it works
//
// Numbers that mostly are small are written in few bits (bits.go). The values of one tick stand in columns
// (columns.go): all changes of one property of a kind one after the other, as differences from what the client has,
// each with as many bits as differences of that column mostly need. Both sides learn that number from the same changes,
// so that frames need not say it. group.go and pack.go are the server's side of it, reader.go is the client's; frame.go
// puts a frame together from blocks that clients share and what is one client's alone.
//
// message_type.go numbers the messages of clients, client.go reads and writes them, motion.go the short form of a write
// that comes with every tick. docs/protocol.md says the same for those who write a client in another language, and
// testdata/vectors has examples of all of it.
package wire

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"

	"kamerad.example/core/contract"
)

// Protocol is the name of the JSON sub-protocol.
const Protocol = "kamerad.json.v2"

// Bounds of what a client may send.
const (
	MaxMessage = 16 << 10 // bytes of one message
	MaxUndone  = 64       // requests of one client that have no decision yet
	// the highest sequence number, press number and tick: the greatest that JSON is safe to carry
	MaxNumber = 1<<53 - 1
	// how far the moment that a client drew may be before the tick that it confirmed, or after it, in 1/256 ticks
	MaxDrawn = 1 << 20
	MaxJoin  = 4 << 10 // bytes of a client's first message
	MaxLog   = 500     // bytes of a line of a client's log
)

// Bounds of what a server sends.
const (
	MaxClient = 1<<31 - 1 // the highest number of a client
	MaxReason = 1000      // bytes of a decision's reason; a longer one is cut
)

// Outcome is what became of a request.
type Outcome string

// The outcomes.
const (
	Accepted  Outcome = "accepted"
	Denied    Outcome = "denied"
	Dropped   Outcome = "dropped"
	Malformed Outcome = "malformed"
	Faulted   Outcome = "faulted"
	Undone    Outcome = "undone"  // it was accepted, and what came of it was lost with the service
	Unknown   Outcome = "unknown" // of a later version of the protocol
)

// Stage names the part of the pipeline that decided a request.
type Stage string

// The stages, in their order.
const (
	StageBounds Stage = "bounds" // sequence and the general limit
	StageTypes  Stage = "types"  // the request's name and its arguments
	StageTarget Stage = "target" // the entity
	StageFrom   Stage = "from"   // who may ask
	StageLimit  Stage = "limit"
	StageCheck  Stage = "check"
	StageBody   Stage = "body"
)

// Ask is a request as a client sends it.
type Ask struct {
	Seq     uint64            `json:"seq"`              // counts up from 1
	Entity  uint32            `json:"entity,omitempty"` // 0: the one of a shared kind, or the client's own
	Request string            `json:"request"`          // Kind.name
	Args    []json.RawMessage `json:"args"`
	Seen    int64             `json:"seen,omitempty"` // the newest tick that the client has applied
	// how long before that tick the client drew the world, in 1/256 ticks; see MaxDrawn
	Drawn int64 `json:"drawn,omitempty"`
}

// Move is a client's press or release of a hold, or its write of a property. A press that is sent again with its number
// renews the lease.
type Move struct {
	Seq      uint64          // of a write: counts up with those of requests
	Entity   uint32          // 0: the one of a shared kind, or the client's own
	Property string          // Kind.name
	Press    uint64          // of a hold: counts up from 1 with each new press
	Value    json.RawMessage `json:",omitempty"` // of a write
	Numbers  [4]int64        // in place of the Value, when the property holds booleans, numbers or vectors: its slots
	Wide     int             // how many they are; 0 for a Value
	Seen     int64           // the newest tick that the client has applied
	Drawn    int64           // see Ask
}

// FromClient is any message of a client: an Ask (type ask), a Move (press, release, write), or one of ready, seen,
// differs, leave and log.
type FromClient struct {
	Type MessageType `json:"type"`
	Ask
	Property string          `json:"property,omitempty"`
	Text     string          `json:"text,omitempty"` // of a log line
	Press    uint64          `json:"press,omitempty"`
	Value    json.RawMessage `json:"value,omitempty"`
	Numbers  [4]int64        `json:"-"` // see Move
	Wide     int             `json:"-"`
	typ      *contract.Type  // of the Numbers
}

// valueJSON returns the value of a write, however it came.
func (m *FromClient) valueJSON() json.RawMessage {
	if m.Wide == 0 {
		return m.Value
	}
	return m.typ.AppendJSON(nil, m.typ.FromSlots(m.Numbers[:m.Wide], nil))
}

// Move returns the press, release or write that a message is.
func (m *FromClient) Move() Move {
	return Move{m.Seq, m.Entity, m.Property, m.Press, m.Value, m.Numbers, m.Wide, m.Seen, m.Drawn}
}

// ParseFromClient reads a client's message. The error says what is broken; a client that sends such a message is cut.
func ParseFromClient(raw []byte) (FromClient, error) {
	var m FromClient
	if len(raw) > MaxMessage {
		return m, fmt.Errorf("the message has %d bytes, at most %d are allowed", len(raw), MaxMessage)
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&m); err != nil {
		return m, fmt.Errorf("the message is not one of %s: %w", Protocol, err)
	}
	if dec.More() {
		return m, fmt.Errorf("the message goes on after its end")
	}
	switch m.Type.carries() {
	case carriesNothing, carriesTick, carriesText:
	case carriesPress:
		if m.Press == 0 {
			return m, fmt.Errorf("the %s has no number; they count up from 1", m.Type)
		}
	case carriesCall:
		if m.Seq == 0 {
			return m, fmt.Errorf("the request has no sequence number; they count up from 1")
		}
	default:
		return m, fmt.Errorf(
			"the message has the unknown type %.40q; there are ask, write, press, release, ready, seen, differs, "+
				"leave and log",
			m.Type,
		)
	}
	return m, m.checkBounds()
}

// checkBounds returns an error when a number of the message is out of its range.
func (m *FromClient) checkBounds() error {
	switch {
	case m.Seq > MaxNumber:
		return fmt.Errorf(
			"the message `%s` has the sequence number %d, the highest is %d", m.Type, m.Seq, uint64(MaxNumber),
		)
	case m.Press > MaxNumber:
		return fmt.Errorf("the message `%s` has the number %d, the highest is %d", m.Type, m.Press, uint64(MaxNumber))
	case len(m.Text) > MaxLog:
		return fmt.Errorf(
			"the message `%s` has a text of %d bytes, at most %d are allowed", m.Type, len(m.Text), MaxLog,
		)
	case m.Seen < 0 || m.Seen > MaxNumber:
		return fmt.Errorf(
			"the message `%s` confirms the tick %d; ticks are from 0 to %d", m.Type, m.Seen, uint64(MaxNumber),
		)
	case m.Drawn < -MaxDrawn || m.Drawn > MaxDrawn:
		return fmt.Errorf(
			"the message `%s` was drawn %d/256 ticks before its tick; at most %d are possible, either way", m.Type,
			m.Drawn, MaxDrawn,
		)
	}
	return nil
}

// Join is the first message of a client over a new connection: it asks for a new seat with a Name and a Role, or for
// the seat that a Token belongs to.
type Join struct {
	Type MessageType `json:"type"` // join
	Name string      `json:"name,omitempty"`
	Role string      `json:"role,omitempty"` // empty for the contract's first one
	// the fingerprint of the outline that the client was made for; empty for any
	Outline string `json:"outline,omitempty"`
	Token   string `json:"token,omitempty"`  // of the seat's last hello
	Seen    int64  `json:"seen,omitempty"`   // with a token: the newest tick that the client has applied
	Ticket  string `json:"ticket,omitempty"` // says who the player is, for a service that wants to know
}

// JSON returns the message.
func (j Join) JSON() []byte {
	j.Type = "join"
	return appendMarshalled(nil, j)
}

// ParseJoin reads a client's first message. Members that it does not know are left out, so that a client may be newer
// than its server. The error says what is broken and what would be right.
func ParseJoin(raw []byte) (Join, error) {
	var j Join
	if len(raw) > MaxJoin {
		return j, fmt.Errorf("the first message has %d bytes, at most %d are allowed", len(raw), MaxJoin)
	}
	const right = `it has to be like {"type":"join","name":"Ana"}`
	if err := json.Unmarshal(raw, &j); err != nil {
		return j, fmt.Errorf("the first message is no `join`: %w; %s", err, right)
	}
	if j.Type != MessageJoin {
		return j, fmt.Errorf("the first message has the type %.40q; %s", j.Type, right)
	}
	if j.Seen < 0 || j.Seen > MaxNumber {
		return j, fmt.Errorf(
			"the message `join` confirms the tick %d; ticks are from 0 to %d", j.Seen, uint64(MaxNumber),
		)
	}
	return j, nil
}

// Client is what clients know of each other.
type Client struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	Role   string `json:"role"`
}

// Revision counts what was added to what clients may say in this version of the protocol, from 1. With 2 came `log`.
const Revision = 2

// Hello is the first message to a client.
type Hello struct {
	Type     MessageType `json:"type"` // hello
	Protocol string      `json:"protocol"`
	// of the protocol: what a client may say and the server understands; see Revision
	Revision int    `json:"revision"`
	Client   Client `json:"client"`
	Token    string `json:"token"`    // takes the seat again when the connection was lost; good once
	GraceMs  int64  `json:"grace_ms"` // how long the seat waits then
	// the highest number that the seat gave to anything it sent; the next ones are above it
	Received    uint64            `json:"received"`
	Fingerprint string            `json:"fingerprint"`
	Outline     *contract.Outline `json:"outline,omitempty"` // nil for a client that named its fingerprint

	Settings map[string]json.RawMessage `json:"settings,omitempty"` // the values of the contract's public settings
}

// Field is one property or argument with its value. Of a property that moves by itself the Motion travels; the value is
// where that puts it at the tick of the frame or copy that holds the field.
type Field struct {
	Name     string
	Type     *contract.Type
	Value    contract.Value
	Motion   *Motion   // nil for what does not move by itself
	Attached *Attached // nil for what is not attached
}

// Spawn tells a client of an entity, with all values that it may have.
type Spawn struct {
	Entity uint32
	Kind   string
	Owner  int
	Fields []Field
}

// Update gives new values of an entity, and takes back those that the client may no longer have.
type Update struct {
	Entity    uint32
	Kind      string
	Fields    []Field
	Withdrawn []string // names of properties
}

// Owned reports that an entity has another owner.
type Owned struct {
	Entity uint32 `json:"entity"`
	Owner  int    `json:"owner"`
}

// Block is a part of a frame that is the same for everyone who gets it. It must not be changed once it has been
// encoded.
type Block struct {
	Joined  []Client
	Spawned []Spawn
	Owned   []Owned
	Values  []Update
	Gone    []uint32
	Left    []int
	json    []byte
}

// Empty reports whether a block says nothing; a nil block does.
func (b *Block) Empty() bool {
	return b == nil || len(b.Joined)+len(b.Spawned)+len(b.Owned)+len(b.Values)+len(b.Gone)+len(b.Left) == 0
}

// Event is a client RPC on its way.
type Event struct {
	Event  string // full name
	Entity uint32 // 0 for one of the contract itself
	Fields []Field
	json   []byte
}

// Decision is what a client is told of its request, or of a write, press or release that was refused. Check is the
// index of the check that failed among the reasons of the request's outline, or -1.
type Decision struct {
	Seq     uint64          `json:"seq,omitempty"`     // of a request or write; of Seq, Press and Release one is not 0
	Press   uint64          `json:"press,omitempty"`   // of a press
	Release uint64          `json:"release,omitempty"` // of a release: the number of its press
	Outcome Outcome         `json:"outcome"`
	Stage   Stage           `json:"stage,omitempty"`
	Reason  string          `json:"reason,omitempty"`
	Check   int             `json:"check"`
	Reply   json.RawMessage `json:"reply,omitempty"` // what an accepted request replied
}

// Frame is everything that one client gets of one tick. Snapshot: forget what you hold, this is all.
type Frame struct {
	Tick      int64
	Snapshot  bool
	Blocks    []*Block
	Events    []*Event
	Decisions []Decision
	Logs      []string // lines for the client's log
	Digest    *uint32  // of all that the client should hold once the frame is applied; nil for most frames
	Settled   int64    // the newest tick up to which all that is kept was stored
	// which incarnation of the session this is, when that is another one than before; nil for most frames
	Incarnation *Incarnation
}

// Incarnation says that a session goes on in another process than before, from what was kept: it is no longer so what
// frames of the incarnation before told of later ticks than Kept, and decisions of those are undone.
type Incarnation struct {
	Number int   `json:"number"` // from 1; a session that never had to be recovered has none
	Kept   int64 `json:"kept"`   // the last tick of the incarnation before that was kept
}

// Bye is the last message to a client.
type Bye struct {
	Type   MessageType `json:"type"` // bye
	Reason string      `json:"reason"`
	Code   string      `json:"code,omitempty"` // of a refusal, for programs; CodeSent for who is sent elsewhere
	// of who is sent elsewhere: the session, its contract, and what lets it in there, empty where nothing is wanted
	Session  int64  `json:"session,omitempty"`
	Contract string `json:"contract,omitempty"`
	Ticket   string `json:"ticket,omitempty"`
}

// CodeSent is the code of a bye that tells a client to which session it is sent.
const CodeSent = "sent"

// appendString appends a text as JSON.
func appendString(dst []byte, s string) []byte {
	raw, _ := json.Marshal(s) // a string always marshals
	return append(dst, raw...)
}

// appendFields appends fields as a JSON object.
func appendFields(dst []byte, fields []Field) []byte {
	dst = append(dst, '{')
	for i, f := range fields {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendString(dst, f.Name)
		dst = append(dst, ':')
		dst = f.appendJSON(dst)
	}
	return append(dst, '}')
}

// appendList appends `,"name":[…]` when there is something to list.
func appendList[T any](dst []byte, name string, items []T, one func(dst []byte, item T) []byte) []byte {
	if len(items) == 0 {
		return dst
	}
	if dst[len(dst)-1] != '{' {
		dst = append(dst, ',')
	}
	dst = append(dst, '"')
	dst = append(dst, name...)
	dst = append(dst, `":[`...)
	for i, item := range items {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = one(dst, item)
	}
	return append(dst, ']')
}

// appendMarshalled appends plain data as JSON.
func appendMarshalled[T any](dst []byte, v T) []byte {
	raw, _ := json.Marshal(v) // plain data always marshals
	return append(dst, raw...)
}

// JSON encodes a block; the bytes are made once and shared by all frames that hold it.
func (b *Block) JSON() []byte {
	if b.json != nil {
		return b.json
	}
	dst := appendList([]byte{'{'}, "joined", b.Joined, appendMarshalled[Client])
	dst = appendList(dst, "spawned", b.Spawned, func(dst []byte, s Spawn) []byte {
		dst = fmt.Appendf(dst, `{"entity":%d,"kind":"%s","owner":%d,"values":`, s.Entity, s.Kind, s.Owner)
		return append(appendFields(dst, s.Fields), '}')
	})
	dst = appendList(dst, "owned", b.Owned, appendMarshalled[Owned])
	dst = appendList(dst, "values", b.Values, func(dst []byte, u Update) []byte {
		dst = fmt.Appendf(dst, `{"entity":%d,"kind":"%s","values":`, u.Entity, u.Kind)
		dst = appendFields(dst, u.Fields)
		if u.Withdrawn != nil {
			dst = appendMarshalled(append(dst, `,"withdrawn":`...), u.Withdrawn)
		}
		return append(dst, '}')
	})
	dst = appendList(
		dst, "gone", b.Gone, func(dst []byte, n uint32) []byte { return strconv.AppendUint(dst, uint64(n), 10) },
	)
	dst = appendList(
		dst, "left", b.Left, func(dst []byte, n int) []byte { return strconv.AppendInt(dst, int64(n), 10) },
	)
	b.json = append(dst, '}')
	return b.json
}

// JSON encodes an event; the bytes are made once and shared.
func (e *Event) JSON() []byte {
	if e.json == nil {
		dst := fmt.Appendf(nil, `{"event":"%s"`, e.Event)
		if e.Entity != 0 {
			dst = fmt.Appendf(dst, `,"entity":%d`, e.Entity)
		}
		dst = append(dst, `,"values":`...)
		e.json = append(appendFields(dst, e.Fields), '}')
	}
	return e.json
}

// AppendJSON appends a frame as one message.
func (f *Frame) AppendJSON(dst []byte) []byte {
	dst = fmt.Appendf(dst, `{"type":"frame","tick":%d`, f.Tick)
	if f.Snapshot {
		dst = append(dst, `,"snapshot":true`...)
	}
	blocks := slices.DeleteFunc(slices.Clone(f.Blocks), (*Block).Empty)
	dst = appendList(dst, "state", blocks, func(dst []byte, b *Block) []byte { return append(dst, b.JSON()...) })
	dst = appendList(dst, "events", f.Events, func(dst []byte, e *Event) []byte { return append(dst, e.JSON()...) })
	if f.Settled != 0 {
		dst = fmt.Appendf(dst, `,"settled":%d`, f.Settled)
	}
	if f.Digest != nil {
		dst = fmt.Appendf(dst, `,"digest":%d`, *f.Digest)
	}
	if f.Incarnation != nil {
		dst = appendMarshalled(append(dst, `,"incarnation":`...), *f.Incarnation)
	}
	dst = appendList(dst, "decisions", f.Decisions, appendMarshalled[Decision])
	dst = appendList(dst, "logs", f.Logs, appendMarshalled[string])
	return append(dst, '}')
}

// The shapes in which a frame is read back.
type (
	blockJSON struct {
		Joined  []Client    `json:"joined"`
		Spawned []spawnJSON `json:"spawned"`
		Owned   []Owned     `json:"owned"`
		Values  []spawnJSON `json:"values"`
		Gone    []uint32    `json:"gone"`
		Left    []int       `json:"left"`
	}
	spawnJSON struct {
		Entity    uint32                     `json:"entity"`
		Kind      string                     `json:"kind"`
		Owner     int                        `json:"owner"`
		Values    map[string]json.RawMessage `json:"values"`
		Withdrawn []string                   `json:"withdrawn"`
	}
	eventJSON struct {
		Event  string                     `json:"event"`
		Entity uint32                     `json:"entity"`
		Values map[string]json.RawMessage `json:"values"`
	}
	frameJSON struct {
		Type      MessageType `json:"type"`
		Tick      int64       `json:"tick"`
		Snapshot  bool        `json:"snapshot"`
		State     []blockJSON `json:"state"`
		Events    []eventJSON `json:"events"`
		Decisions []Decision  `json:"decisions"`
		Logs      []string    `json:"logs"`
		Reason    string      `json:"reason"`
		Digest    *uint32     `json:"digest"`
		Settled   int64       `json:"settled"`

		Incarnation *Incarnation `json:"incarnation"`
	}
)

// ParseFrame reads a frame with the outline that the client was given, or the reason of a bye (then the frame is nil).
func ParseFrame(raw []byte, o *contract.Outline) (frame *Frame, bye string, err error) {
	var in frameJSON
	if err := json.Unmarshal(raw, &in); err != nil {
		return nil, "", fmt.Errorf("read a frame: %w", err)
	}
	switch in.Type {
	case MessageBye:
		return nil, in.Reason, nil
	case MessageFrame:
	default:
		return nil, "", fmt.Errorf("read a frame: its type is %.40q", in.Type)
	}
	f := &Frame{
		Tick:      in.Tick,
		Snapshot:  in.Snapshot,
		Decisions: in.Decisions,
		Logs:      in.Logs,
		Digest:    in.Digest,
		Settled:   in.Settled,

		Incarnation: in.Incarnation,
	}
	for _, b := range in.State {
		out := &Block{
			Joined: b.Joined,
			Owned:  b.Owned,
			Gone:   b.Gone,
			Left:   b.Left,
		}
		for _, s := range b.Spawned {
			fields, err := parseFields(o, s, in.Tick)
			if err != nil {
				return nil, "", err
			}
			out.Spawned = append(out.Spawned, Spawn{s.Entity, s.Kind, s.Owner, fields})
		}
		for _, s := range b.Values {
			fields, err := parseFields(o, s, in.Tick)
			if err != nil {
				return nil, "", err
			}
			out.Values = append(out.Values, Update{s.Entity, s.Kind, fields, s.Withdrawn})
		}
		f.Blocks = append(f.Blocks, out)
	}
	for _, e := range in.Events {
		out := &Event{Event: e.Event, Entity: e.Entity}
		params, ok := eventParams(o, e.Event)
		if !ok {
			return nil, "", fmt.Errorf("read a frame: the outline has no event %.80q", e.Event)
		}
		for _, p := range params {
			v, err := p.Type.ParseJSON(e.Values[p.Name])
			if err != nil {
				return nil, "", fmt.Errorf("read the event %s: %s %w", e.Event, p.Name, err)
			}
			out.Fields = append(out.Fields, Field{Name: p.Name, Type: p.Type, Value: v})
		}
		f.Events = append(f.Events, out)
	}
	return f, "", nil
}

// parseFields reads the values of an entity by the types that the outline gives its properties.
func parseFields(o *contract.Outline, s spawnJSON, tick int64) ([]Field, error) {
	kind := o.Kind(s.Kind)
	if kind == nil {
		return nil, fmt.Errorf("read a frame: the outline has no kind %.80q", s.Kind)
	}
	var out []Field
	for i := range kind.Properties { // in the outline's order
		p := &kind.Properties[i]
		raw, ok := s.Values[p.Name]
		if !ok {
			continue
		}
		f := Field{Name: p.Name, Type: p.Type}
		var err error
		switch way, rate := encodingOf(kind, p); {
		case way != encodeMotion && way != encodeAttached || len(raw) == 0 || raw[0] != '{':
			f.Value, err = p.Type.ParseJSON(raw)
		case way == encodeMotion:
			f.Motion, err = parseMotion(raw, p.Type, rate, o.Tick)
			if err == nil {
				f.Value = f.Motion.Value(p.Type, tick)
			}
		default:
			f.Attached, f.Value, err = parseAttached(raw, p.Type)
		}
		if err != nil {
			return nil, fmt.Errorf("read a frame: %s.%s %w", s.Kind, p.Name, err)
		}
		out = append(out, f)
	}
	if len(out) != len(s.Values) {
		return nil, fmt.Errorf("read a frame: it has properties of %s that the outline lacks", s.Kind)
	}
	return out, nil
}

// eventParams returns the arguments of an event by its full name, and whether the outline has it.
func eventParams(o *contract.Outline, name string) ([]contract.Param, bool) {
	for i := range o.Kinds {
		for _, e := range o.Kinds[i].Events {
			if o.Kinds[i].Name+"."+e.Name == name {
				return e.Params, true
			}
		}
	}
	for _, e := range o.Events {
		if e.Name == name {
			return e.Params, true
		}
	}
	return nil, false
}

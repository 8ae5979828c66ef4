package wire

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"kamerad.example/core/contract"
)

// The first byte of a client's binary message has the type of the message in its lowest five bits, and says in others
// what comes with it. One that begins with `{` is a message of the JSON sub-protocol.
const (
	typeBits   = 0x1f
	hasDrawn   = 0x40 // the moment that the client drew
	hasUnknown = 0x80 // a part of a later version of the protocol, which is skipped
)

// Pack returns a client's message in its binary form, with the outline that the client was given. What does not fit the
// outline, such as a forged request, is given as JSON.
func (m *FromClient) Pack(o *contract.Outline) []byte {
	switch m.Type.carries() {
	case carriesNothing:
		return []byte{m.Type.number()}
	case carriesTick:
		return binary.AppendUvarint([]byte{m.Type.number()}, uint64(m.Seen))
	case carriesText:
		return append(binary.AppendUvarint([]byte{m.Type.number()}, uint64(m.Seen)), m.Text...)
	}
	if out := m.packBinary(o); out != nil {
		return out
	}
	return m.JSON()
}

// JSON returns a client's message in its JSON form.
func (m *FromClient) JSON() []byte {
	out := map[string]any{"type": m.Type}
	switch m.Type {
	case MessageSeen, MessageDiffers:
		out["seen"] = m.Seen
	case MessageLog:
		out["text"] = m.Text
	case MessageAsk:
		out["seq"], out["request"], out["args"] = m.Seq, m.Request, m.Args
	case MessageWrite:
		out["seq"], out["property"], out["value"] = m.Seq, m.Property, m.valueJSON()
	case MessagePress, MessageRelease:
		out["property"], out["press"] = m.Property, m.Press
	}
	if m.Entity != 0 {
		out["entity"] = m.Entity
	}
	if m.Seen != 0 {
		out["seen"] = m.Seen
	}
	if m.Drawn != 0 {
		out["drawn"] = m.Drawn
	}
	return appendMarshalled(nil, out)
}

// packBinary returns the binary form of a message that is about something in the contract; nil when the outline does
// not have that, or a value is of another type.
func (m *FromClient) packBinary(o *contract.Outline) []byte {
	full := m.Property
	msg := m.Type.number()
	if m.Type == MessageAsk {
		full = m.Request
	}
	kindName, name, _ := strings.Cut(full, ".")
	var kind, at int
	var types []*contract.Type
	args := m.Args
	kind = o.Place(kindName)
	if kind < 0 {
		return nil
	}
	k := &o.Kinds[kind]
	switch m.Type {
	case MessageAsk:
		at = k.RequestPlace(name)
		if at < 0 || len(args) != len(k.Requests[at].Params) {
			return nil
		}
		for _, p := range k.Requests[at].Params {
			types = append(types, p.Type)
		}
	default:
		at = k.Place(name)
		if at < 0 {
			return nil
		}
		args = nil
		if m.Type == MessageWrite {
			types = []*contract.Type{k.Properties[at].Type}
			args = []json.RawMessage{m.valueJSON()}
		}
	}
	if m.Drawn != 0 {
		msg |= hasDrawn
	}
	out := []byte{msg}
	for _, n := range []uint64{m.Seq + m.Press, uint64(max(m.Seen, 0)), uint64(m.Entity), uint64(kind), uint64(at)} {
		out = binary.AppendUvarint(out, n)
	}
	if m.Drawn != 0 {
		out = binary.AppendUvarint(out, zigzag(m.Drawn))
	}
	w := &bitWriter{}
	for i, t := range types {
		v, err := t.ParseJSON(args[i])
		if err != nil {
			return nil
		}
		w.value(t, v)
	}
	return append(out, w.bytes()...)
}

// UnpackFromClient reads a client's binary message. The error says what is broken; a client that sends such a message
// is cut. Arguments that are of other types than declared make a request that will be decided malformed.
func UnpackFromClient(raw []byte, o *contract.Outline) (FromClient, error) {
	var m FromClient
	switch {
	case len(raw) > MaxMessage:
		return m, fmt.Errorf("the message has %d bytes, at most %d are allowed", len(raw), MaxMessage)
	case len(raw) == 0:
		return m, fmt.Errorf("the message is empty")
	case raw[0] == '{':
		return ParseFromClient(raw)
	}
	c := &cursor{buf: raw[1:]}
	msg := raw[0] & typeBits
	if raw[0]&hasUnknown != 0 {
		c.lengthAndBytes()
	}
	if msg == 0 || int(msg) >= len(clientMessages) {
		return m, fmt.Errorf(
			"the message has the unknown type %d; there are 1 to %d, and JSON", msg, len(clientMessages)-1,
		)
	}
	m.Type = clientMessages[msg].typ
	carries := clientMessages[msg].carries
	switch carries {
	case carriesNothing, carriesTick, carriesText:
		if carries != carriesNothing {
			m.Seen = c.tick()
		}
		if carries == carriesText {
			m.Text = strings.ToValidUTF8(string(c.rest()), "\uFFFD")
		}
		if c.bad || len(c.buf) > 0 || raw[0]&hasDrawn != 0 {
			return m, fmt.Errorf("the message `%s` is broken", m.Type)
		}
		return m, m.checkBounds()
	}
	number := c.uvarint()
	m.Seen = c.tick()
	entity := c.uvarint()
	kind := c.uvarint()
	at := c.uvarint()
	if raw[0]&hasDrawn != 0 {
		m.Drawn = unzigzag(c.uvarint())
	}
	if c.bad || entity > 1<<32-1 || number == 0 {
		return m, fmt.Errorf("the message `%s` is broken, or has no number; they count up from 1", m.Type)
	}
	m.Entity = uint32(entity)
	if carries == carriesCall {
		m.Seq = number
	} else {
		m.Press = number
	}
	if err := m.checkBounds(); err != nil {
		return m, err
	}
	b := &bitReader{buf: c.buf}
	if m.Type == MessageAsk {
		return m, m.readAsk(b, o, kind, at)
	}
	m.readProperty(b, o, kind, at)
	return m, nil
}

// readProperty reads what a write, a press or a release is about: the property at a place of a kind of the outline, and
// for a write its value. A place that the outline does not have gets a name that no contract has, so that the message
// is decided as unknown.
func (m *FromClient) readProperty(b *bitReader, o *contract.Outline, kind, at uint64) {
	if kind >= uint64(len(o.Kinds)) || at >= uint64(len(o.Kinds[kind].Properties)) {
		m.Property = placeholderName(kind, at)
		return
	}
	k := &o.Kinds[kind]
	p := &k.Properties[at]
	m.Property = k.Name + "." + p.Name
	if m.Type == MessageWrite && !b.numbers(p.Type, m) {
		m.Value = b.json(p.Type)
	}
}

// readAsk reads the name and the arguments of a request.
func (m *FromClient) readAsk(b *bitReader, o *contract.Outline, kind, at uint64) error {
	m.Args = []json.RawMessage{}
	if kind >= uint64(len(o.Kinds)) || at >= uint64(len(o.Kinds[kind].Requests)) {
		m.Request = placeholderName(kind, at)
		return nil
	}
	k := &o.Kinds[kind]
	q := &k.Requests[at]
	m.Request = k.Name + "." + q.Name
	for _, p := range q.Params {
		m.Args = append(m.Args, b.json(p.Type))
	}
	if !b.bad && !b.done() {
		return fmt.Errorf("the message `ask` goes on after its end")
	}
	return nil
}

// placeholderName returns what stands for the name of what an outline does not have, by the places that a message
// gives. No contract has such a name, so that the message is decided malformed, as one of the JSON form with a made-up
// name.
func placeholderName(kind, at uint64) string { return fmt.Sprintf("%d.%d", kind, at) }

// tick reads the number of a tick; one that no int64 holds is told as the greatest, which is out of range.
func (c *cursor) tick() int64 { return int64(min(c.uvarint(), math.MaxInt64)) }

// numbers reads a value as its slots, and reports whether it is one that is made of numbers that mean the same
// everywhere.
func (r *bitReader) numbers(t *contract.Type, m *FromClient) bool {
	at := r.at
	n := t.Width()
	switch t.Form {
	case contract.FormBool:
		m.Numbers[0] = int64(r.get(1))
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormVec2, contract.FormVec3:
		for i := range n {
			m.Numbers[i] = r.number(t)
		}
	default:
		return false
	}
	if r.bad { // it is told as what it is
		r.at = at
		return false
	}
	m.Wide = n
	m.typ = t
	return true
}

// json reads a value as JSON; {}, which no type takes, stands for what is none. The four numbers of a rotation may be
// any in its range: it is read as JSON is, which makes a unit quaternion of them, or finds that they are none.
func (r *bitReader) json(t *contract.Type) json.RawMessage {
	v := r.value(t)
	if r.bad {
		return json.RawMessage("{}")
	}
	out := t.AppendJSON(nil, v)
	if !t.Has(contract.FormRotation) {
		return out
	}
	v, err := t.ParseJSON(out)
	if err != nil {
		return json.RawMessage("{}")
	}
	return t.AppendJSON(nil, v)
}

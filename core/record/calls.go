// Package record keeps what a session was given, so that it can be played again: its calls in batches, as bytes, and
// checkpoints of it from time to time. Play goes through a recording tick by tick and holds each frame against it.
//
// It knows no database and no clock: who runs a session takes batches of a Writer and stores them; who asks for the
// past hands a Player what was stored.
package record

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Revision is the version of what a recording means: of how calls are written, and of what a session makes of them. It
// is raised with each change of either, the rounding of numbers, the order of what is run and the dice among them.
const Revision = 2

// Bounds of a batch from outside.
const (
	maxText = 1 << 20 // bytes of a text or a value
	maxArgs = 64      // of a request
	maxKept = 10_000  // properties of a player
)

// errShort says that bytes of calls end in the middle of one.
var errShort = errors.New("the bytes end in the middle of a call")

// encoder writes calls as bytes. Texts that come again are written as the number that they got when they came first in
// the same batch.
type encoder struct {
	out   []byte
	tick  int64 // of the last tick that was written
	texts map[string]int
}

// call writes a call. Ticks are written by how far they are from the present one.
func (e *encoder) call(c *session.Call) {
	typ := c.Type
	if typ == session.CallJoin && c.Player != "" {
		typ = session.CallJoinPlayer
	}
	e.out = append(e.out, byte(typ))
	switch c.Type {
	case session.CallTick:
		e.out = binary.LittleEndian.AppendUint32(e.out, c.Frames)
		e.tick = c.Tick
		return
	case session.CallConfirmStored:
		e.ticks(c.Tick)
		return
	case session.CallRecover:
		e.ticks(c.Tick)
		e.tick = c.Tick - 1
		return
	}
	e.number(uint64(c.Client))
	switch typ {
	case session.CallJoin:
		e.text(c.Name)
		e.text(c.Role)
	case session.CallJoinPlayer:
		e.text(c.Player)
		e.text(c.Name)
		e.text(c.Role)
	case session.CallBack, session.CallConfirm, session.CallBehind:
		e.ticks(c.Tick)
	case session.CallAsk:
		e.ask(c.Ask)
	case session.CallSteer:
		e.move(c.Message, c.Move)
	case session.CallSet:
		e.number(uint64(c.Entity))
		e.text(c.Property)
		e.bytes(c.Value)
	case session.CallHand:
		e.number(uint64(c.Entity))
	case session.CallLoadKept:
		e.signed(c.Kept.Fence)
		e.number(uint64(len(c.Kept.Values)))
		for _, name := range slices.Sorted(maps.Keys(c.Kept.Values)) {
			e.text(name)
			e.bytes(c.Kept.Values[name])
		}
	}
}

func (e *encoder) ask(a *wire.Ask) {
	e.number(a.Seq)
	e.number(uint64(a.Entity))
	e.text(a.Request)
	e.ticks(a.Seen)
	e.signed(a.Drawn)
	e.number(uint64(len(a.Args)))
	for _, arg := range a.Args {
		e.bytes(arg)
	}
}

func (e *encoder) move(message wire.MessageType, m *wire.Move) {
	e.text(string(message))
	e.number(m.Seq)
	e.number(m.Press)
	e.number(uint64(m.Entity))
	e.text(m.Property)
	e.ticks(m.Seen)
	e.signed(m.Drawn)
	e.number(uint64(m.Wide))
	for i := range m.Wide {
		e.signed(m.Numbers[i])
	}
	if m.Wide == 0 {
		e.bytes(m.Value)
	}
}

func (e *encoder) number(n uint64) { e.out = binary.AppendUvarint(e.out, n) }
func (e *encoder) signed(n int64)  { e.out = binary.AppendVarint(e.out, n) }
func (e *encoder) ticks(n int64)   { e.signed(e.tick - n) }

func (e *encoder) bytes(b []byte) {
	e.number(uint64(len(b)))
	e.out = append(e.out, b...)
}

// text writes a text, or the number of one that came before.
func (e *encoder) text(s string) {
	if n, known := e.texts[s]; known {
		e.number(uint64(n))
		return
	}
	e.texts[s] = len(e.texts) + 1
	e.number(0)
	e.bytes([]byte(s))
}

// decoder reads what an encoder has written. It may get any bytes.
type decoder struct {
	in    []byte
	tick  int64
	texts []string
	call  session.Call
	ask   wire.Ask
	move  wire.Move
	err   error
}

// next returns the next call, which holds until the call after it is read; nil at the end.
func (d *decoder) next() (*session.Call, error) {
	if len(d.in) == 0 {
		return nil, nil
	}
	d.call = session.Call{Type: session.CallType(d.in[0])}
	d.in = d.in[1:]
	c := &d.call
	switch c.Type {
	case session.CallTick:
		d.tick++
		c.Tick = d.tick
		if sum := d.take(4); sum != nil {
			c.Frames = binary.LittleEndian.Uint32(sum)
		}
	case session.CallConfirmStored:
		c.Tick = d.ticks()
	case session.CallRecover:
		c.Tick = d.ticks()
		d.tick = c.Tick - 1
	case session.CallLeave, session.CallLost, session.CallReady, session.CallCaughtUp,
		session.CallReportDifference, session.CallDepart, session.CallStay:
		c.Client = d.small()
	case session.CallJoinPlayer:
		c.Type = session.CallJoin
		c.Client = d.small()
		c.Player = d.text()
		c.Name = d.text()
		c.Role = d.text()
	case session.CallJoin:
		c.Client = d.small()
		c.Name = d.text()
		c.Role = d.text()
	case session.CallBack, session.CallConfirm, session.CallBehind:
		c.Client = d.small()
		c.Tick = d.ticks()
	case session.CallAsk:
		c.Client = d.small()
		d.readAsk(c)
	case session.CallSteer:
		c.Client = d.small()
		d.readMove(c)
	case session.CallSet:
		c.Client = d.small()
		c.Entity = d.entity()
		c.Property = d.text()
		c.Value = d.bytes()
	case session.CallHand:
		c.Client = d.small()
		c.Entity = d.entity()
	case session.CallLoadKept:
		c.Client = d.small()
		d.readKept(c)
	default:
		return nil, fmt.Errorf("read the calls of a session: %s is not known", c.Type)
	}
	if d.err != nil {
		return nil, fmt.Errorf("read the calls of a session: %s after tick %d: %w", c.Type, d.tick, d.err)
	}
	return c, nil
}

func (d *decoder) readAsk(c *session.Call) {
	d.ask = wire.Ask{
		Seq:     d.number(),
		Entity:  d.entity(),
		Request: d.text(),
		Seen:    d.ticks(),
		Drawn:   d.signed(),
	}
	count := d.number()
	if count > maxArgs {
		d.fail(fmt.Errorf("a request has %d arguments", count))
		return
	}
	d.ask.Args = make([]json.RawMessage, 0, count)
	for range count {
		d.ask.Args = append(d.ask.Args, d.bytes())
	}
	c.Ask = &d.ask
}

func (d *decoder) readMove(c *session.Call) {
	c.Message = wire.MessageType(d.text())
	d.move = wire.Move{
		Seq:      d.number(),
		Press:    d.number(),
		Entity:   d.entity(),
		Property: d.text(),
		Seen:     d.ticks(),
		Drawn:    d.signed(),
	}
	wide := d.number()
	if wide > uint64(len(d.move.Numbers)) {
		d.fail(fmt.Errorf("a value has %d numbers", wide))
		return
	}
	d.move.Wide = int(wide)
	for i := range d.move.Wide {
		d.move.Numbers[i] = d.signed()
	}
	if d.move.Wide == 0 {
		d.move.Value = d.bytes()
	}
	c.Move = &d.move
}

func (d *decoder) readKept(c *session.Call) {
	kept := &session.Kept{Fence: d.signed(), Values: map[string]json.RawMessage{}}
	count := d.number()
	if count > maxKept {
		d.fail(fmt.Errorf("a player keeps %d values", count))
		return
	}
	for range count {
		name := d.text()
		kept.Values[name] = d.bytes()
	}
	c.Kept = kept
}

// fail notes the first thing that is wrong; from then on there are no more bytes.
func (d *decoder) fail(err error) {
	if d.err == nil {
		d.err = err
	}
	d.in = nil
}

func (d *decoder) number() uint64 {
	n, size := binary.Uvarint(d.in)
	if size <= 0 {
		d.fail(errShort)
		return 0
	}
	d.in = d.in[size:]
	return n
}

func (d *decoder) signed() int64 {
	n, size := binary.Varint(d.in)
	if size <= 0 {
		d.fail(errShort)
		return 0
	}
	d.in = d.in[size:]
	return n
}

// small reads the number of a client.
func (d *decoder) small() int {
	n := d.number()
	if n > math.MaxInt32 {
		d.fail(fmt.Errorf("a client has the number %d", n))
		return 0
	}
	return int(n)
}

func (d *decoder) entity() uint32 {
	n := d.number()
	if n > math.MaxUint32 {
		d.fail(fmt.Errorf("an entity has the number %d", n))
		return 0
	}
	return uint32(n)
}

func (d *decoder) ticks() int64 { return d.tick - d.signed() }

// take returns the next bytes; nil when there are fewer.
func (d *decoder) take(n uint64) []byte {
	if n > uint64(len(d.in)) {
		d.fail(errShort)
		return nil
	}
	out := d.in[:n]
	d.in = d.in[n:]
	return out
}

// bytes reads a value; it stays what it is.
func (d *decoder) bytes() []byte {
	n := d.number()
	if n > maxText {
		d.fail(fmt.Errorf("a value has %d bytes", n))
		return nil
	}
	return d.take(n)
}

func (d *decoder) text() string {
	n := d.number()
	if n == 0 {
		s := string(d.bytes())
		d.texts = append(d.texts, s)
		return s
	}
	if n > uint64(len(d.texts)) {
		d.fail(fmt.Errorf("text %d of %d is named", n, len(d.texts)))
		return ""
	}
	return d.texts[n-1]
}

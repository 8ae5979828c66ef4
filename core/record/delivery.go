package record

import (
	"context"
	"fmt"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// deliveries finds out when each client got the value that the reason is about.
func (i *inquiry) deliveries(ctx context.Context) error {
	r := i.reason
	r.Deliveries = []Delivery{}
	p := i.player
	if err := p.rewind(ctx, max(r.Changed-1, 0)); err != nil {
		return err
	}
	d := &deliveryWatch{reason: r, session: p.Session(), readers: map[int]*wire.Reader{}, found: map[int]*Delivery{}}
	for _, c := range d.session.Clients() {
		d.readers[c.Number] = d.session.Reader(c.Number)
	}
	p.Called = d.called
	defer func() { p.Called = nil }()
	until := r.Changed + int64(deliverySeconds*d.session.Contract().TickRate)
	for d.session.Now() < until && !d.isDone() {
		step, err := p.Next(ctx)
		if err != nil {
			return err
		}
		if step == nil {
			break
		}
		if err := d.read(step); err != nil {
			return err
		}
	}
	for _, c := range d.session.Clients() {
		delivery := d.of(c)
		if delivery.Sent == 0 {
			delivery.Why = d.whyNot(c.Number)
		}
		r.Deliveries = append(r.Deliveries, *delivery)
	}
	return nil
}

// deliveryWatch looks for a value in the frames that clients are sent.
type deliveryWatch struct {
	reason  *Reason
	session *session.Session
	readers map[int]*wire.Reader
	found   map[int]*Delivery
}

// of returns the delivery of a client.
func (d *deliveryWatch) of(c wire.Client) *Delivery {
	out := d.found[c.Number]
	if out == nil {
		out = &Delivery{Client: c.Number, Name: c.Name}
		d.found[c.Number] = out
	}
	return out
}

// called notes what clients confirm.
func (d *deliveryWatch) called(c *session.Call) {
	confirmed := int64(0)
	switch c.Type {
	case session.CallConfirm, session.CallBack:
		confirmed = c.Tick
	case session.CallAsk:
		confirmed = c.Ask.Seen
	case session.CallSteer:
		confirmed = c.Move.Seen
	default:
		return
	}
	if x := d.found[c.Client]; x != nil && x.Sent > 0 && x.Confirmed == 0 && confirmed >= x.Sent {
		x.Confirmed = d.session.Now()
	}
}

// read looks for the value in the frames of a tick.
func (d *deliveryWatch) read(step *session.Step) error {
	for _, f := range step.Frames {
		reader := d.readers[f.Client]
		if reader == nil { // it came since, and a client's first frame is a snapshot
			reader = wire.NewReader(d.session.Layout())
			d.readers[f.Client] = reader
		}
		frame, err := reader.Read(f.Bytes)
		if err != nil {
			return fmt.Errorf("say why: a frame of client %d: %w", f.Client, err)
		}
		if step.Tick < d.reason.Changed || !d.brings(frame) {
			continue
		}
		for _, c := range d.session.Clients() {
			if c.Number == f.Client {
				if x := d.of(c); x.Sent == 0 {
					x.Sent = step.Tick
				}
			}
		}
	}
	return nil
}

// brings reports whether a frame has the value.
func (d *deliveryWatch) brings(f *wire.Frame) bool {
	has := func(entity uint32, fields []wire.Field) bool {
		if entity != d.reason.Entity {
			return false
		}
		for i := range fields {
			if fields[i].Name == d.reason.Property {
				return true
			}
		}
		return false
	}
	for _, b := range f.Blocks {
		for i := range b.Spawned {
			if has(b.Spawned[i].Entity, b.Spawned[i].Fields) {
				return true
			}
		}
		for i := range b.Values {
			if has(b.Values[i].Entity, b.Values[i].Fields) {
				return true
			}
		}
	}
	return false
}

// isDone reports whether every client that may have the value has said that it has it.
func (d *deliveryWatch) isDone() bool {
	if d.session.Now() <= d.reason.Changed {
		return false
	}
	for _, c := range d.session.Clients() {
		if x := d.found[c.Number]; (x == nil || x.Confirmed == 0) && d.whyNot(c.Number) == notYet {
			return false
		}
	}
	return true
}

// notYet is why a client has not got a value that it may have.
var notYet = fmt.Sprintf("nothing brought it within %d s: it waits", deliverySeconds)

// whyNot says why a client has not got the value.
func (d *deliveryWatch) whyNot(client int) string {
	e := d.session.FindEntity(d.reason.Entity)
	switch {
	case e == nil:
		return "the entity is gone"
	case !d.session.MayHave(client, e, e.Kind.Property(d.reason.Property)):
		return "it is not in the audience"
	case e.Kind.Property(d.reason.Property).Moves():
		return "its copy computes it from its motion"
	case e.Kind.Property(d.reason.Property).Attaches():
		return "its copy computes it from what it is attached to"
	case d.session.IsLost(client):
		return "its connection was lost"
	}
	return notYet
}

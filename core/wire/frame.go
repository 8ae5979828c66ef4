package wire

import (
	"encoding/binary"
	"slices"
	"strings"

	"kamerad/core/contract"
)

// Binary is the name of the sub-protocol of binary frames; Protocol that of their JSON twin.
const Binary = "kamerad.v1"

// Parts is what one client's binary frame is made of. What is shared by clients was packed once.
type Parts struct {
	Snapshot   bool
	Tick       int64
	Last       int64 // the tick of the client's last frame; does not count for a snapshot
	Settled    int64 // told when it is another than the one told last, WasSettled
	WasSettled int64
	Digest     uint32
	HasDigest  bool
	Roster     []byte // nil when nobody came or went
	Blocks     []Part
	Events     [][]byte
	Decisions  []Decision
	Logs       []string
}

// Append appends a frame.
func (p *Parts) Append(dst []byte) []byte {
	flags := byte(0)
	if p.Snapshot {
		p.WasSettled = 0 // it is forgotten as well
	}
	flag := func(has bool, bit byte) {
		if has {
			flags |= bit
		}
	}
	flag(p.Snapshot, hasSnapshot)
	flag(p.Settled != p.WasSettled, hasSettled)
	flag(p.HasDigest, hasDigest)
	flag(p.Roster != nil, hasRoster)
	flag(len(p.Events) > 0, hasEvents)
	flag(len(p.Decisions) > 0, hasDecisions)
	flag(len(p.Logs) > 0, hasLogs)
	dst = append(dst, flags)
	if p.Snapshot {
		dst = binary.AppendUvarint(dst, uint64(p.Tick))
	} else {
		dst = binary.AppendUvarint(dst, uint64(p.Tick-p.Last))
	}
	if flags&hasSettled != 0 {
		dst = binary.AppendUvarint(dst, uint64(p.Tick-p.Settled))
	}
	if p.HasDigest {
		dst = binary.LittleEndian.AppendUint32(dst, p.Digest)
	}
	if p.Roster != nil {
		dst = appendPart(dst, p.Roster)
	}
	dst = binary.AppendUvarint(dst, uint64(len(p.Blocks)))
	for i := range p.Blocks {
		dst = p.Blocks[i].append(dst)
	}
	if len(p.Events) > 0 {
		dst = binary.AppendUvarint(dst, uint64(len(p.Events)))
		for _, e := range p.Events {
			dst = appendPart(dst, e)
		}
	}
	if len(p.Decisions) > 0 {
		dst = appendPart(dst, packDecisions(p.Decisions))
	}
	if len(p.Logs) > 0 {
		dst = binary.AppendUvarint(dst, uint64(len(p.Logs)))
		for _, l := range p.Logs {
			dst = appendPart(dst, []byte(l))
		}
	}
	return dst
}

func appendPart(dst, part []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(part))), part...)
}

// Part is what one group has for a client: its handle with what is done, and the bytes that go with it. They are copied into the frame
// alone.
type Part struct {
	op    uint64
	group int // of an entry, else -1
	bytes []byte
}

// Change is the block of a group that the client calls by a handle; 0 is its private one.
func Change(handle int, block []byte) Part { return Part{uint64(handle)<<2 + opChange, -1, block} }

// Enter brings a client into a group, by the group's place in the outline.
func Enter(handle, group int, snapshot []byte) Part {
	return Part{uint64(handle)<<2 | opEnter, group, snapshot}
}

// Leave takes a client out of a group.
func Leave(handle int) Part { return Part{uint64(handle)<<2 | opLeave, -1, nil} }

func (p *Part) append(dst []byte) []byte {
	dst = binary.AppendUvarint(dst, p.op)
	if p.group >= 0 {
		dst = binary.AppendUvarint(dst, uint64(p.group))
	}
	if p.bytes == nil {
		return dst
	}
	return appendPart(dst, p.bytes)
}

// PackRoster packs who joined or has another role, and who left.
func PackRoster(o *contract.Outline, joined []Client, left []int) []byte {
	w := &bitWriter{}
	w.gamma(uint64(len(joined)))
	for _, j := range joined {
		w.gamma(uint64(j.Number))
		w.below(uint64(slices.Index(o.Roles, j.Role)), uint64(len(o.Roles)))
		w.text(j.Name)
	}
	w.gamma(uint64(len(left)))
	for _, n := range left {
		w.gamma(uint64(n))
	}
	return w.bytes()
}

// PackEvent packs an event by its place among those of a kind, or of the contract itself when kind is -1.
func PackEvent(o *contract.Outline, kind, at int, e *Event) []byte {
	w := &bitWriter{}
	if w.bit(kind >= 0); kind >= 0 {
		w.below(uint64(kind), uint64(len(o.Kinds)))
		w.below(uint64(at), uint64(len(o.Kinds[kind].Events)))
		if w.bit(e.Entity != 0); e.Entity != 0 {
			w.put(uint64(e.Entity), 32)
		}
	} else {
		w.below(uint64(at), uint64(len(o.Events)))
	}
	for _, f := range e.Fields {
		w.value(f.Type, f.Value)
	}
	return w.bytes()
}

func packDecisions(list []Decision) []byte {
	w := &bitWriter{}
	w.gamma(uint64(len(list)))
	for _, d := range list {
		w.gamma(d.Seq)
		w.gamma(uint64(d.Check + 1))
		w.below(uint64(slices.Index(outcomes, d.Outcome)), uint64(len(outcomes)))
		w.below(uint64(slices.Index(stages, d.Stage)), uint64(len(stages)))
		w.text(shortened(d.Reason))
		w.text(string(d.Reply))
	}
	return w.bytes()
}

// shortened returns a reason as it is sent: valid UTF-8, since a reason may quote what a client sent, and of MaxReason bytes at most.
func shortened(reason string) string {
	reason = strings.ToValidUTF8(reason, "\uFFFD")
	if len(reason) <= MaxReason {
		return reason
	}
	return strings.ToValidUTF8(reason[:MaxReason-len("…")], "") + "…"
}

package wire

import (
	"encoding/binary"
	"math/bits"
	"slices"
	"strings"

	"kamerad.example/core/contract"
)

// Binary is the name of the sub-protocol of binary frames; Protocol that of their JSON twin.
const Binary = "kamerad.v2"

// section is a part of a binary frame. Its value is the bit of the frame's head that announces it; the lowest bit says
// that the frame is a snapshot.
//
// The sections of a frame stand in the order of their bits, each with its length before it, so that a reader skips
// those it does not know.
type section uint

const (
	snapshotBit section = iota
	stateSection
	eventsSection
	decisionsSection
	digestSection
	rosterSection
	_ // never set, so that a frame never begins as JSON does
	logsSection
	settledSection

	// These have their bits and are not written yet: another outline for a session that runs, and where the session
	// lives now.
	outlineSection
	movedSection

	incarnationSection
)

// Parts is what one client's binary frame is made of. What clients share was packed once, and is copied into each
// frame.
type Parts struct {
	Snapshot   bool
	Tick       int64
	Last       int64 // the tick of the client's last frame; a snapshot does not need it
	Settled    int64 // sent when it is another than WasSettled, which was sent last
	WasSettled int64
	Digest     uint32
	HasDigest  bool
	// of the session; nil for a client that knows it
	Incarnation *Incarnation
	Roster      []byte // nil when nobody came or went
	Blocks      []Part
	Events      [][]byte
	Decisions   []Decision
	Logs        []string
}

// Append appends the frame to dst: a head with a bit for each section that it has, the tick, then the sections in the
// order of their bits.
func (p *Parts) Append(dst []byte) []byte {
	if p.Snapshot {
		p.WasSettled = 0 // it is forgotten as well
	}
	head := uint64(0)
	announce := func(s section, has bool) {
		if has {
			head |= 1 << s
		}
	}
	announce(snapshotBit, p.Snapshot)
	announce(stateSection, len(p.Blocks) > 0)
	announce(eventsSection, len(p.Events) > 0)
	announce(decisionsSection, len(p.Decisions) > 0)
	announce(digestSection, p.HasDigest)
	announce(rosterSection, p.Roster != nil)
	announce(logsSection, len(p.Logs) > 0)
	announce(settledSection, p.Settled != p.WasSettled)
	announce(incarnationSection, p.Incarnation != nil)
	dst = binary.AppendUvarint(dst, head)
	if p.Snapshot {
		dst = binary.AppendUvarint(dst, uint64(p.Tick))
	} else {
		dst = binary.AppendUvarint(dst, uint64(p.Tick-p.Last))
	}
	if len(p.Blocks) > 0 {
		dst = p.appendState(dst)
	}
	if len(p.Events) > 0 {
		dst = appendParts(dst, p.Events)
	}
	if len(p.Decisions) > 0 {
		dst = appendPart(dst, packDecisions(p.Decisions))
	}
	if p.HasDigest {
		dst = binary.LittleEndian.AppendUint32(append(dst, 4), p.Digest)
	}
	if p.Roster != nil {
		dst = appendPart(dst, p.Roster)
	}
	if len(p.Logs) > 0 {
		dst = appendParts(dst, p.Logs)
	}
	if p.Settled != p.WasSettled {
		ago := uint64(p.Tick - p.Settled)
		dst = binary.AppendUvarint(dst, uint64(uvarintLen(ago)))
		dst = binary.AppendUvarint(dst, ago)
	}
	if p.Incarnation != nil {
		section := binary.AppendUvarint(nil, uint64(p.Incarnation.Number))
		dst = appendPart(dst, binary.AppendUvarint(section, uint64(p.Incarnation.Kept)))
	}
	return dst
}

// appendParts appends a section of several parts: its length in bytes, then each part with its own length.
func appendParts[T []byte | string](dst []byte, list []T) []byte {
	size := 0
	for _, part := range list {
		size += partLen(len(part))
	}
	dst = binary.AppendUvarint(dst, uint64(size))
	for _, part := range list {
		dst = binary.AppendUvarint(dst, uint64(len(part)))
		dst = append(dst, part...)
	}
	return dst
}

// appendState appends the section of the blocks. The bytes of the last block run to the end of the section and need no
// length.
func (p *Parts) appendState(dst []byte) []byte {
	size := uvarintLen(uint64(len(p.Blocks)))
	for i := range p.Blocks {
		size += p.Blocks[i].len(i == len(p.Blocks)-1)
	}
	dst = binary.AppendUvarint(dst, uint64(size))
	dst = binary.AppendUvarint(dst, uint64(len(p.Blocks)))
	for i := range p.Blocks {
		dst = p.Blocks[i].append(dst, i == len(p.Blocks)-1)
	}
	return dst
}

// uvarintLen returns how many bytes a uvarint takes.
func uvarintLen(v uint64) int { return (bits.Len64(v|1) + 6) / 7 }

// partLen returns how many bytes a part of n bytes takes, with its length.
func partLen(n int) int { return uvarintLen(uint64(n)) + n }

// appendPart appends a length and so many bytes.
func appendPart(dst, part []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(part))), part...)
}

// Part is the block of one group for one client: the client's handle of the group, what is done with it, and the bytes
// that go with that.
type Part struct {
	op    uint64
	group int // of an entry, else -1
	bytes []byte
}

// Change returns the block of a group that the client is in; handle 0 is its private group.
func Change(handle int, block []byte) Part { return Part{uint64(handle)<<2 + opChange, -1, block} }

// Enter returns the block that brings a client into a group. group is the group's index within the outline.
func Enter(handle, group int, snapshot []byte) Part {
	return Part{uint64(handle)<<2 | opEnter, group, snapshot}
}

// Leave returns the block that takes a client out of a group.
func Leave(handle int) Part { return Part{uint64(handle)<<2 | opLeave, -1, nil} }

// len returns how many bytes append appends.
func (p *Part) len(last bool) int {
	n := uvarintLen(p.op)
	if p.group >= 0 {
		n += uvarintLen(uint64(p.group))
	}
	switch {
	case p.bytes == nil:
		return n
	case last:
		return n + len(p.bytes)
	}
	return n + partLen(len(p.bytes))
}

// append appends a block; last says that nothing follows it in its section.
func (p *Part) append(dst []byte, last bool) []byte {
	dst = binary.AppendUvarint(dst, p.op)
	if p.group >= 0 {
		dst = binary.AppendUvarint(dst, uint64(p.group))
	}
	switch {
	case p.bytes == nil:
		return dst
	case last:
		return append(dst, p.bytes...)
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

// PackEvent packs an event. at is its index among those of the kind with the index kind, or among those of the contract
// itself when kind is -1.
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

// DecisionBytes returns how many bytes a decision takes at most in a frame, besides the section's length.
func DecisionBytes(d *Decision) int { return len(packDecisions([]Decision{*d})) }

// packDecisions returns the section with decisions.
func packDecisions(list []Decision) []byte {
	w := &bitWriter{}
	w.gamma(uint64(len(list)))
	for _, d := range list {
		number := d.Seq
		switch {
		case d.Press != 0:
			number = d.Press
			w.put(numberIsPress, 2)
		case d.Release != 0:
			number = d.Release
			w.put(numberIsRelease, 2)
		default:
			w.put(numberIsSeq, 2)
		}
		w.gamma(number)
		w.gamma(uint64(d.Check + 1))
		w.put(uint64(slices.Index(outcomes[:], d.Outcome)), 4)
		w.put(uint64(slices.Index(stages[:], d.Stage)), 4)
		w.text(truncateReason(d.Reason))
		w.text(string(d.Reply))
	}
	return w.bytes()
}

// What the number of a decision is.
const (
	numberIsSeq = iota
	numberIsPress
	numberIsRelease
)

// The outcomes and stages by their numbers in binary frames. Numbers without a name are free for later ones: a reader
// that does not know a number takes it for Unknown.
var (
	outcomes = [16]Outcome{Accepted, Denied, Dropped, Malformed, Faulted, Undone}
	stages   = [16]Stage{"", StageBounds, StageTypes, StageTarget, StageFrom, StageLimit, StageCheck, StageBody}
)

// truncateReason returns a reason as it is sent: valid UTF-8, since a reason may quote what a client sent, and of
// MaxReason bytes at most.
func truncateReason(reason string) string {
	reason = strings.ToValidUTF8(reason, "\uFFFD")
	if len(reason) <= MaxReason {
		return reason
	}
	return strings.ToValidUTF8(reason[:MaxReason-len("…")], "") + "…"
}

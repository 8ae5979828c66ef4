package contract

import mathbits "math/bits"

// What an entity takes in memory, in bytes, measured and rounded up. TestMemoryIsNotMoreThanTold holds them against
// sessions that run.
const (
	entityMemory    = 1000 // by itself
	slotMemory      = 40   // for each slot of its row
	propertyMemory  = 240  // for each property,
	pacedMemory     = 400  // of one that is sent at most so often,
	followsMemory   = 800  // of one that follows another one,
	wholeMemory     = 320  // and of one whose changes are sent whole,
	wholeSlotMemory = 128  // for each slot of that
	textMemory      = 160  // for each text, besides its characters
	placeMemory     = 270  // for an index of where it is,
	valueMemory     = 90   // and for one of what a property is
	delayMemory     = 96   // for each action that waits for its time, besides its arguments
	EntryMemory     = 240  // for each client who is told of an entity by itself
	ClientMemory    = 16 << 10

	meteredMemory         = 320 // for each client with a limit of bytes,
	meteredPropertyMemory = 140 // and for each property of that
)

// Memory returns what one entity of the kind takes in the service's memory, in bytes, when each of its texts, lists,
// maps and stacks is as long as it may be. What clients who are told of it by themselves take comes on top: EntryMemory
// for each.
func (k *Kind) Memory() int64 {
	out := int64(entityMemory + slotMemory*k.Slots)
	for _, p := range k.Properties {
		out += p.memory()
	}
	for _, p := range k.Indexed {
		if p.Type.Width() > 1 {
			out += placeMemory
		} else {
			out += valueMemory
		}
	}
	return out
}

// MeteredMemory returns what each client with a limit of bytes takes for an entity of the kind besides EntryMemory, in
// bytes: what it was sent of it.
func (k *Kind) MeteredMemory() int64 {
	out := int64(meteredMemory + 16*k.Slots)
	for _, p := range k.Properties {
		out += meteredPropertyMemory + 2*p.Type.texts()
	}
	return out
}

// memory returns what a property of one entity takes, besides the slots of its row, in bytes.
func (p *Property) memory() int64 {
	out := int64(propertyMemory)
	if p.AtMost > 0 {
		out += pacedMemory
	}
	if p.Follows != nil {
		out += followsMemory
	}
	switch p.Type.Form {
	case FormText, FormRecord, FormStacks, FormList, FormMap:
		out += wholeMemory + wholeSlotMemory*int64(p.Type.Width())
	}
	return out + 2*p.Type.texts() // here, and as it was last sent
}

// texts returns what the texts in a value take at most, in bytes.
func (t *Type) texts() (out int64) {
	t.Slots(0, func(_ int, t *Type) {
		if t.Form == FormText {
			out += textMemory + 4*int64(t.Max) // up to four bytes a character
		}
	})
	return out
}

// Memory returns what one run of the action takes in the service's memory while it waits for its time, in bytes.
func (a *Action) Memory() int64 {
	out := int64(delayMemory)
	for _, p := range a.Params {
		out += 8*int64(p.Type.Width()) + p.Type.texts()
	}
	return out
}

// SureMemory returns what a session takes in memory before its contract has spawned anything, in bytes: its shared
// entities, and those that each of its clients has when all seats are taken.
func (c *Contract) SureMemory() int64 {
	most := int64(0) // of a client, by role
	for role := range c.Roles {
		of := int64(0)
		for _, k := range c.Kinds {
			if k.Per == role {
				of += k.Memory()
			}
		}
		most = max(most, of)
	}
	out := int64(c.Seats) * (most + ClientMemory)
	for _, k := range c.Kinds {
		if k.Shared {
			out += k.Memory()
		}
	}
	return out
}

// Bits returns how many bits a whole value takes at most, and what its usual change takes.
func (t *Type) Bits() (most, typical int) {
	width := func(values int64) int { return mathbits.Len64(uint64(max(values-1, 0))) }
	small := func(n int) int {
		if n <= 6 {
			return n
		}
		return 2 + (n+2)/3
	}
	switch t.Form {
	case FormBool:
		return 1, 1
	case FormInt, FormTime, FormReal, FormDirection:
		n := mathbits.Len64(uint64(t.High) - uint64(t.Low))
		return n, small(n)
	case FormVec2, FormVec3, FormRotation:
		n := mathbits.Len64(uint64(t.High) - uint64(t.Low))
		return t.Width() * n, t.Width() * small(n)
	case FormEnum:
		n := width(int64(len(t.Enum.Values)))
		return n, n
	case FormKind:
		n := width(int64(len(t.Names)))
		return n, n
	case FormEntity:
		return 33, 17 // a number of 32 bits, or nothing
	case FormClient:
		return 21, 9 // up to a thousand seats, the server, nothing
	case FormInstant:
		return 129, 63 // milliseconds, of either sign
	case FormText:
		n := 2*mathbits.Len64(uint64(4*t.Max)) + 1
		return n + 32*t.Max, n/2 + 4*t.Max // up to four bytes a character
	case FormRecord:
		for _, p := range t.Parts {
			m, y := p.Type.Bits()
			most = most + m
			typical = typical + y
		}
		return most, typical
	case FormStacks:
		m := width(int64(len(t.Enum.Values))) + width(t.Each)
		if t.Slotted {
			m++ // whether the slot is empty
		}
		n := mathbits.Len64(uint64(t.Max))
		return n + t.Max*m, n + (t.Max*m+1)/2
	case FormList, FormMap:
		m, _ := t.Of.Bits()
		if t.Key != nil {
			k, _ := t.Key.Bits()
			m += k
		}
		n := mathbits.Len64(uint64(t.Max))
		return n + t.Max*m, n + (t.Max*m+1)/2
	}
	return 0, 0
}

package wire

import "kamerad.example/core/contract"

// UsageType says what the bits of a frame were spent on.
type UsageType string

// What bits are spent on, in both directions. Framing is heads, lengths and the bits that fill the last byte.
const (
	UsageProperty UsageType = "property"
	UsageEntity   UsageType = "entity" // that one comes, goes or has another owner
	UsageEvent    UsageType = "event"
	UsageDecision UsageType = "decision"
	UsageRoster   UsageType = "roster"
	UsageLog      UsageType = "log"
	UsageDigest   UsageType = "digest"
	UsageFraming  UsageType = "framing"

	// What clients send.
	UsageRequest UsageType = "request"
	UsageSteer   UsageType = "steer" // presses, releases and writes of a property
	UsageConfirm UsageType = "confirm"
	UsageOther   UsageType = "other"
)

// UsageItem names what bits were spent on: a property or an event as Kind.name, an entity by its kind. Of is empty for
// what there is only one of.
type UsageItem struct {
	Type UsageType `json:"type"`
	Of   string    `json:"of,omitempty"`
}

// Amount is how much was sent: Count values, entities, events or decisions in Bits.
type Amount struct {
	Bits  int64
	Count int64
}

// Usage is what the frames that a Reader has read were spent on. Every bit of a frame is counted once.
type Usage struct {
	Amounts []Amount // in the order of UsageItems
	layout  *usageLayout
	counted int64 // bits of the frame that is being read
}

// usageLayout says where the amounts of an outline's items stand.
type usageLayout struct {
	items   []UsageItem
	kinds   []int // by kind: of the entity itself; its properties and then its events follow
	events  int   // of the first event that belongs to no kind
	general map[UsageType]int
}

// newUsageLayout lays out all that a frame of an outline may have.
func newUsageLayout(o *contract.Outline) *usageLayout {
	l := &usageLayout{general: map[UsageType]int{}}
	add := func(t UsageType, of string) { l.items = append(l.items, UsageItem{t, of}) }
	for i := range o.Kinds {
		k := &o.Kinds[i]
		l.kinds = append(l.kinds, len(l.items))
		add(UsageEntity, k.Name)
		for _, p := range k.Properties {
			add(UsageProperty, k.Name+"."+p.Name)
		}
		for _, e := range k.Events {
			add(UsageEvent, k.Name+"."+e.Name)
		}
	}
	l.events = len(l.items)
	for _, e := range o.Events {
		add(UsageEvent, e.Name)
	}
	for _, t := range []UsageType{UsageDecision, UsageRoster, UsageLog, UsageDigest, UsageFraming} {
		l.general[t] = len(l.items)
		add(t, "")
	}
	return l
}

// UsageItems returns what the frames of an outline can be spent on, in the order of Usage.Amounts. Nobody changes it.
func (l *Layout) UsageItems() []UsageItem { return l.usage.items }

// CountUsage makes the reader count what the frames that it reads from now on are spent on, and returns the counts.
// They belong to the caller, who may set amounts back to zero between two frames.
func (r *Reader) CountUsage() *Usage {
	l := r.layout.usage
	r.usage = &Usage{Amounts: make([]Amount, len(l.items)), layout: l}
	return r.usage
}

// add counts so many bits for so many of one item.
func (u *Usage) add(at int, bits uint, count int) {
	u.Amounts[at].Bits += int64(bits)
	u.Amounts[at].Count += int64(count)
	u.counted += int64(bits)
}

// The methods below do nothing without a Usage.

// entity counts bits that concern the existence of an entity of a kind, or its owner.
func (u *Usage) entity(kind int, bits uint) {
	if u != nil {
		u.add(u.layout.kinds[kind], bits, 1)
	}
}

// property counts the bits of so many values of a property.
func (u *Usage) property(kind, property int, bits uint, count int) {
	if u != nil {
		u.add(u.layout.kinds[kind]+1+property, bits, count)
	}
}

// event counts the bytes of an event: of a kind with so many properties, or of none when kind is -1.
func (u *Usage) event(kind, properties, at, bytes int) {
	if u == nil {
		return
	}
	if kind < 0 {
		u.add(u.layout.events+at, uint(bytes)*8, 1)
		return
	}
	u.add(u.layout.kinds[kind]+1+properties+at, uint(bytes)*8, 1)
}

// section counts the bytes of a section that is one item, with its length before it.
func (u *Usage) section(t UsageType, bytes, count int) {
	if u != nil {
		u.add(u.layout.general[t], uint(partLen(bytes))*8, count)
	}
}

// endFrame counts what was not counted of a frame as framing.
func (u *Usage) endFrame(bytes int) {
	if u == nil {
		return
	}
	u.add(u.layout.general[UsageFraming], uint(int64(bytes)*8-u.counted), 1)
	u.counted = 0
}

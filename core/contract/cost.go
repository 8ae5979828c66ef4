package contract

import (
	"fmt"
	mathbits "math/bits"
	"slices"
)

// Cost is what a contract's values take on the wire, in packed bits, computed from the declared ranges alone. The most
// is what a value takes whole; typical is what its usual change takes: of a number a small difference (two bits that
// say how small, and a third of its bits), of a text, a list, a map or stacks half of its room with one byte a
// character.
type Cost struct {
	Clients    int            `json:"clients"`
	TickRate   int            `json:"tick_rate"` // ticks a second
	Entities   map[string]int `json:"entities"`  // of each kind
	Properties []CostRow      `json:"properties"`
	Requests   []CostRow      `json:"requests"` // what a client sends
	Events     []CostRow      `json:"events"`
	// What one client gets, in bytes: of a snapshot; in a tick in which every value that it can have changes and every
	// event is told once of every entity; and in a tick in which what timers and motion change does so once. Frame
	// headers apart.
	Snapshot int `json:"snapshot_bytes"`
	Most     int `json:"most_bytes"`
	Typical  int `json:"typical_bytes"`
	// Asked are the audiences that are asked for each pair of client and entity, and how often a tick.
	Asked []AskedAudience `json:"asked"`
	// Memory is what the service needs for the session with these clients and entities, in bytes, when every value is
	// as long as it may be and every client is told by itself of all that it can be told of by itself. Kinds tells what
	// one entity takes.
	Memory int64       `json:"memory_bytes"`
	Kinds  []MemoryRow `json:"kinds"`
}

// MemoryRow is what the entities of a kind take in the service's memory, in bytes.
type MemoryRow struct {
	Kind  string `json:"kind"`
	Count int    `json:"count"`
	Each  int64  `json:"bytes_each"`
	// that one entity takes for each client who is told of it by itself; 0 when none is
	Client int64 `json:"bytes_client"`
}

// CostRow is one row of a Cost.
type CostRow struct {
	Name    string `json:"name"`
	To      string `json:"to,omitempty"`
	Most    int    `json:"most_bits"`
	Typical int    `json:"typical_bits"`
	Count   int    `json:"count,omitempty"` // entities that have it
}

// AskedAudience is an audience that has to be asked for each client and entity.
type AskedAudience struct {
	Of    string `json:"of"` // the kind or property
	To    string `json:"to"`
	Pairs int    `json:"pairs"` // a tick
	Class Class  `json:"class"`
}

// Class says how an audience finds its clients.
type Class string

// The classes: by equal keys, by nearness, the same for all clients of an entity, or by asking each pair.
const (
	ByKeys     Class = "keys"
	ByNearness Class = "nearness"
	ByEntity   Class = "entity"
	ByAsking   Class = "asking"
)

// class tells how the clients of an audience can be found.
func (a *Named) class() Class {
	viewer := func(x *Expr) bool { return x.Op == OpViewer }
	if a.Cond == nil || a.Cond.Value == nil {
		return ByAsking
	}
	switch s := a.Split(); {
	case s == nil:
		return ByAsking
	case s.Radius != nil:
		return ByNearness
	case !mentions(a.Cond.Value, viewer):
		return ByEntity
	}
	return ByKeys
}

// Bits gives how many bits a whole value takes at most, and what its usual change takes.
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
	case FormInt, FormReal, FormDirection:
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

// farther is how many bits more than a whole value its change may take: 12 for each number that changes by far more
// than usual.
func (p *Property) farther() int {
	if p.Once || p.Loose || p.Moves() {
		return 0
	}
	switch p.Type.Form {
	case FormInt, FormReal, FormDirection, FormVec2, FormVec3, FormRotation:
		width := mathbits.Len64(uint64(p.Type.High) - uint64(p.Type.Low))
		if width == 0 {
			return 0
		}
		if width < 4 { // of so few values each change is short: so many ones and a zero
			return p.Type.Width() * max(0, 2*int(p.Type.High-p.Type.Low)+1-width)
		}
		return p.Type.Width() * 12
	}
	return 0
}

func paramBits(params []Param) (most, typical int) {
	for _, p := range params {
		m, y := p.Type.Bits()
		most = most + m
		typical = typical + y
	}
	return most, typical
}

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
	delayMemory     = 96   // for each action that waits for its time, besides its arguments
	EntryMemory     = 240  // for each client who is told of an entity by itself
	ClientMemory    = 16 << 10
)

// Memory returns what one entity of the kind takes in the service's memory, in bytes, when each of its texts, lists,
// maps and stacks is as long as it may be. What clients who are told of it by themselves take comes on top: EntryMemory
// for each.
func (k *Kind) Memory() int64 {
	out := int64(entityMemory + slotMemory*k.Slots)
	for _, p := range k.Properties {
		out += p.memory()
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

// private reports whether there are clients who are told of an entity of the kind by themselves: its owner, or who is
// near or asked for.
func (k *Kind) private() bool {
	if k.To == Some || k.To == Owner {
		return true
	}
	return slices.ContainsFunc(k.Properties, func(p *Property) bool { return p.To == Some || p.To == Owner })
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

// Bounds of what Cost is asked.
const (
	MaxCostClients  = MaxSeats
	MaxCostEntities = 1_000_000
)

// Cost computes what the contract costs with so many clients and entities. A kind that is not named has as many as it
// surely has: one if shared, one for each client if `per` a role, else 10. The error names a kind that does not exist,
// or a number that is out of its range.
func (c *Contract) Cost(clients int, entities map[string]int) (*Cost, error) {
	if clients < 1 || clients > MaxCostClients {
		return nil, fmt.Errorf("compute the cost: %d clients; from 1 to %d", clients, MaxCostClients)
	}
	out := &Cost{
		Clients:    clients,
		TickRate:   c.TickRate,
		Entities:   map[string]int{},
		Properties: []CostRow{},
		Requests:   []CostRow{},
		Events:     []CostRow{},
		Asked:      []AskedAudience{},
		Kinds:      []MemoryRow{},
	}
	for name, n := range entities {
		i := slices.IndexFunc(c.Kinds, func(k *Kind) bool { return k.Name == name })
		if i < 0 {
			var known []string
			for _, k := range c.Kinds {
				known = append(known, k.Name)
			}
			return nil, fmt.Errorf("compute the cost: the contract has no kind %.60q; it has %v", name, known)
		}
		if n < 0 || n > MaxCostEntities {
			return nil, fmt.Errorf("compute the cost: %d entities of %s; from 0 to %d", n, name, MaxCostEntities)
		}
		if c.Kinds[i].Shared && n != 1 || c.Kinds[i].Per >= 0 && n > clients {
			return nil, fmt.Errorf(
				"compute the cost: %d entities of %s; there is %s", n, name,
				map[bool]string{true: "exactly one", false: "one for each client at most"}[c.Kinds[i].Shared],
			)
		}
	}
	out.Memory = int64(clients) * ClientMemory
	moving := c.moving()
	var snapshot, most, typical int
	for _, k := range c.Kinds {
		n, given := entities[k.Name]
		switch {
		case given:
		case k.Shared:
			n = 1
		case k.Per >= 0:
			n = clients
		default:
			n = 10
		}
		out.Entities[k.Name] = n
		row := MemoryRow{Kind: k.Name, Count: n, Each: k.Memory()}
		if k.private() {
			row.Client = EntryMemory
		}
		out.Kinds = append(out.Kinds, row)
		out.Memory += int64(n) * (row.Each + int64(clients)*row.Client)
		// An entity is named by a slot of its audience; its spawn also tells its number, kind and owner.
		slot := mathbits.Len(uint(max(n-1, 0))) + mathbits.Len(uint(len(c.Kinds)))
		if k.To != Nobody {
			snapshot += n * (slot + 32 + 21)
		}
		for _, p := range k.Properties {
			m, y := p.Type.Bits()
			if p.To == Nobody {
				m = 0
				y = 0
			}
			far := p.farther()
			if p.To == Nobody {
				far = 0
			}
			to := c.ToText(p.To, p.Who)
			if p.To == Everyone {
				to = c.ToText(k.To, k.Who)
			}
			out.Properties = append(out.Properties, CostRow{
				Name:    k.Name + "." + p.Name,
				To:      to,
				Most:    m + far,
				Typical: y,
				Count:   n,
			})
			if p.To == Nobody {
				continue
			}
			count := n
			if p.To == Owner {
				count = min(n, 1) // what belongs to one client
			}
			snapshot += count * m
			which := mathbits.Len(uint(len(k.Properties)))
			if !p.Once {
				most += count * (slot + which + m + far)
			}
			if moving[p] {
				typical += count * (slot + which + y)
			}
			if p.Follows != nil {
				most -= count * (slot + which + m + far) // sent only when the truth strays from the rule
			}
		}
		for _, r := range k.Requests {
			m, y := paramBits(r.Params)
			out.Requests = append(out.Requests, CostRow{
				Name:    r.FullName(),
				To:      c.WhoText(r.From),
				Most:    m + 32 + 16,
				Typical: y + slot + 8,
			})
		}
		for _, e := range k.Events {
			m, y := paramBits(e.Params)
			out.Events = append(out.Events, CostRow{
				Name:    e.FullName(),
				Most:    m + 32 + 16,
				Typical: y + 32 + 12,
				Count:   n,
			}) // its entity comes by its number
			most += n * (m + 32 + 16)
		}
		ask := func(of string, to Audience, who []Who) {
			for _, w := range who {
				if to == Some && w.Sort == ToNamed {
					out.Asked = append(out.Asked, AskedAudience{of, c.ToText(to, who), clients * n, w.Aud.class()})
				}
			}
		}
		ask(k.Name, k.To, k.Who)
		for _, p := range k.Properties {
			ask(k.Name+"."+p.Name, p.To, p.Who)
		}
	}
	for _, e := range c.Events {
		if e.Kind == nil {
			m, y := paramBits(e.Params)
			out.Events = append(out.Events, CostRow{Name: e.FullName(), Most: m + 8, Typical: y + 8})
			most += m + 8
		}
	}
	out.Snapshot = (snapshot + 7) / 8
	out.Most = (most + 7) / 8
	out.Typical = (typical + 7) / 8
	return out, nil
}

// moving finds the properties that change without anybody asking: by timers, on ticks, by writes of clients and by
// holds.
func (c *Contract) moving() map[*Property]bool {
	out := map[*Property]bool{}
	for _, p := range c.pieces() {
		if p.request != nil || p.once {
			continue
		}
		eachStmt(p.stmts, func(s *Stmt) {
			if s.Op < OpSet || s.Op > OpSplit {
				return
			}
			root := s.X.root()
			if root.Prop != nil {
				out[root.Prop] = true
			}
			for _, q := range root.Props {
				if q != nil {
					out[q] = true
				}
			}
		})
	}
	for _, k := range c.Kinds {
		for _, p := range k.Properties {
			if p.Set != nil || p.Hold != nil {
				out[p] = true
			}
		}
	}
	return out
}

// heavy is how many bits a value that many get and that keeps changing may take before it is told of.
const heavy = 8 * 1000

// costly looks for audiences that have to be asked of each pair, and for great values that keep changing.
func (c *checker) costly() {
	moving := c.out.moving()
	for _, a := range c.out.Audiences {
		used := false
		for _, k := range c.out.Kinds {
			of := func(who []Who) bool { return slices.ContainsFunc(who, func(w Who) bool { return w.Aud == a }) }
			used = used || of(k.Who) || slices.ContainsFunc(k.Properties, func(p *Property) bool { return of(p.Who) })
		}
		if used && a.class() == ByAsking {
			c.find(
				"costly", a.decl.Start, a.Cond.at,
				fmt.Sprintf("`%s` has to be asked of each client and entity, in each tick", a.Name),
				"compare one value of the viewer with one of the entity by `==`, or ask how near they are: those are found without asking",
			)
		}
	}
	for _, k := range c.out.Kinds {
		for _, p := range k.Properties {
			most, _ := p.Type.Bits()
			if most > heavy && p.To != Nobody && moving[p] && p.AtMost == 0 {
				c.find(
					"costly", p.decl, p.name,
					fmt.Sprintf(
						"`%s.%s` keeps changing and takes up to %d bytes each time, for each client that gets it",
						k.Name, p.Name, most/8,
					),
					"send it less often: `at most 2 per second`; or keep what changes in a property of its own",
				)
			}
		}
	}
}

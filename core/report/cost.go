package report

import (
	"fmt"
	mathbits "math/bits"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/findings"
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
	// Limits are those of the bytes that a client is sent, by role; empty when there are none.
	Limits []LimitRow `json:"limits,omitempty"`
	// Asked are the audiences that are asked for each pair of client and entity, and how often a tick.
	Asked []AskedAudience `json:"asked"`
	// Memory is what the service needs for the session with these clients and entities, in bytes, when every value is
	// as long as it may be and every client is told by itself of all that it can be told of by itself. Kinds tells what
	// one entity takes.
	Memory int64       `json:"memory_bytes"`
	Kinds  []MemoryRow `json:"kinds"`
	// Bodies are the bodies and conditions that go over something, those that may take the most steps first.
	Bodies []BodyRow `json:"bodies"`
}

// LimitRow is how many bytes each client of a role is sent in any second.
type LimitRow struct {
	Role    string `json:"role"`
	Bytes   int    `json:"bytes"`
	Nearest string `json:"nearest,omitempty"` // the property that says what is near
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
	Of    string         `json:"of"` // the kind or property
	To    string         `json:"to"`
	Pairs int            `json:"pairs"` // a tick
	Class findings.Class `json:"class"`
}

// longestChange is how many bits more than a whole value its change may take: 12 for each number that changes by far
// more than usual.
func longestChange(p *contract.Property) int {
	if p.Once || p.Loose || p.Moves() {
		return 0
	}
	switch p.Type.Form {
	case contract.FormInt, contract.FormTime, contract.FormReal, contract.FormDirection,
		contract.FormVec2, contract.FormVec3,
		contract.FormRotation:
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

// paramBits returns how many bits the arguments take, at most and typically.
func paramBits(params []contract.Param) (most, typical int) {
	for _, p := range params {
		m, y := p.Type.Bits()
		most = most + m
		typical = typical + y
	}
	return most, typical
}

// hasPrivate reports whether there are clients who are told of an entity of the kind by themselves: its owner, or who
// is near or asked for.
//
// Each such client has an entry of its own in the session's memory for each entity that it is told of.
func hasPrivate(k *contract.Kind) bool {
	if k.To == contract.Some || k.To == contract.Owner {
		return true
	}
	return slices.ContainsFunc(k.Properties, func(p *contract.Property) bool {
		return p.To == contract.Some ||
			p.To == contract.Owner
	})
}

// Bounds of what Cost is asked.
const (
	MaxCostClients  = contract.MaxSeats
	MaxCostEntities = 1_000_000
)

// NewCost computes what the contract costs with so many clients and entities. A kind that is not named has as many as
// it surely has: one if shared, one for each client if `per` a role, else 10. The error names a kind that does not
// exist, or a number that is out of its range.
//
// The result is an upper bound where it says most and memory, and an estimate where it says typical. It
// is computed from the contract alone: no session is run.
func NewCost(c *contract.Contract, clients int, entities map[string]int) (*Cost, error) {
	if err := checkAmounts(c, clients, entities); err != nil {
		return nil, err
	}
	a := &costing{
		contract: c,
		clients:  clients,
		moving:   findings.Moving(c),
		out: &Cost{
			Clients:    clients,
			TickRate:   c.TickRate,
			Entities:   map[string]int{},
			Properties: []CostRow{},
			Requests:   []CostRow{},
			Events:     []CostRow{},
			Asked:      []AskedAudience{},
			Kinds:      []MemoryRow{},
			Memory:     int64(clients) * contract.ClientMemory,
		},
	}
	for _, k := range c.Kinds {
		n, given := entities[k.Name]
		switch {
		case given:
		case k.Shared:
			n = 1
		case k.Per >= 0:
			n = clients
		default:
			n = usualEntities
		}
		a.addKind(k, n)
	}
	for _, e := range c.Events {
		if e.Kind == nil {
			whole, typical := paramBits(e.Params)
			a.out.Events = append(a.out.Events, CostRow{
				Name:    e.FullName(),
				Most:    whole + indexBits,
				Typical: typical + indexBits,
			})
			a.most += whole + indexBits
		}
	}
	for i, role := range c.Roles {
		if limit := c.ByteLimit(i); limit.Bytes > 0 {
			a.out.Limits = append(a.out.Limits, LimitRow{role, limit.Bytes, limit.Nearest})
		}
	}
	a.out.Bodies = bodyRows(c, clients, a.out.Entities)
	a.out.Snapshot = (a.snapshot + 7) / 8
	a.out.Most = (a.most + 7) / 8
	a.out.Typical = (a.typical + 7) / 8
	return a.out, nil
}

// checkAmounts returns what is wrong with the numbers of clients and entities that a cost is asked for.
func checkAmounts(c *contract.Contract, clients int, entities map[string]int) error {
	if clients < 1 || clients > MaxCostClients {
		return fmt.Errorf("compute the cost: %d clients; from 1 to %d", clients, MaxCostClients)
	}
	for name, n := range entities {
		i := slices.IndexFunc(c.Kinds, func(k *contract.Kind) bool { return k.Name == name })
		if i < 0 {
			var known []string
			for _, k := range c.Kinds {
				known = append(known, k.Name)
			}
			return fmt.Errorf("compute the cost: the contract has no kind %.60q; it has %v", name, known)
		}
		if n < 0 || n > MaxCostEntities {
			return fmt.Errorf("compute the cost: %d entities of %s; from 0 to %d", n, name, MaxCostEntities)
		}
		switch k := c.Kinds[i]; {
		case k.Shared && n != 1:
			return fmt.Errorf("compute the cost: %d entities of %s; there is exactly one", n, name)
		case k.Per >= 0 && n > clients:
			return fmt.Errorf("compute the cost: %d entities of %s; there is one for each client at most", n, name)
		}
	}
	return nil
}

// What messages take beside values, in bits.
const (
	numberBits  = 32 // an entity's number
	headBits    = 21 // an entity's kind and owner, in a spawn
	requestBits = 16 // a request's name and sequence number, or an event's name, at most
	indexBits   = 8  // the same usually
	eventBits   = 12 // an event of an entity usually, beside the entity's number
)

// usualEntities is how many entities of a kind there are taken to be when nothing says so.
const usualEntities = 10

// costing is a cost that is being computed. The sums are in bits.
type costing struct {
	contract *contract.Contract
	clients  int
	moving   map[*contract.Property]bool // properties that change without anybody asking
	out      *Cost

	snapshot, most, typical int
}

// addKind adds n entities of a kind.
//
// k.Memory is what package contract says that one entity takes; the session holds itself to the same
// number.
func (a *costing) addKind(k *contract.Kind, n int) {
	a.out.Entities[k.Name] = n
	row := MemoryRow{Kind: k.Name, Count: n, Each: k.Memory()}
	switch isLimited := a.contract.ByteLimits != nil && k.Visible(); {
	case isLimited:
		row.Client = contract.EntryMemory + k.MeteredMemory()
	case hasPrivate(k):
		row.Client = contract.EntryMemory
	}
	a.out.Kinds = append(a.out.Kinds, row)
	a.out.Memory += int64(n) * (row.Each + int64(a.clients)*row.Client)

	// An entity is named by a slot of its audience; its spawn also tells its number, kind and owner.
	slot := mathbits.Len(uint(max(n-1, 0))) + mathbits.Len(uint(len(a.contract.Kinds)))
	if k.To != contract.Nobody {
		a.snapshot += n * (slot + numberBits + headBits)
	}
	for _, p := range k.Properties {
		a.addProperty(k, p, n, slot)
	}
	for _, r := range k.Requests {
		whole, typical := paramBits(r.Params)
		a.out.Requests = append(a.out.Requests, CostRow{
			Name:    r.FullName(),
			To:      a.contract.WhoText(r.From),
			Most:    whole + numberBits + requestBits,
			Typical: typical + slot + indexBits,
		})
	}
	for _, e := range k.Events { // its entity comes by its number
		whole, typical := paramBits(e.Params)
		a.out.Events = append(a.out.Events, CostRow{
			Name:    e.FullName(),
			Most:    whole + numberBits + requestBits,
			Typical: typical + numberBits + eventBits,
			Count:   n,
		})
		a.most += n * (whole + numberBits + requestBits)
	}
	a.addAsked(k.Name, k.To, k.Who, n)
	for _, p := range k.Properties {
		a.addAsked(k.Name+"."+p.Name, p.To, p.Who, n)
	}
}

// addProperty adds a property of n entities, each of which takes so many bits to be named.
//
// What follows something is not sent while it does, so it counts in snapshots and not in what a tick
// takes.
func (a *costing) addProperty(k *contract.Kind, p *contract.Property, n, slot int) {
	row := CostRow{Name: k.Name + "." + p.Name, To: a.contract.ToText(p.To, p.Who), Count: n}
	if p.To == contract.Everyone {
		row.To = a.contract.ToText(k.To, k.Who)
	}
	if p.To == contract.Nobody {
		a.out.Properties = append(a.out.Properties, row)
		return
	}
	whole, typical := p.Type.Bits()
	row.Most = whole + longestChange(p)
	row.Typical = typical
	a.out.Properties = append(a.out.Properties, row)

	count := n
	if p.To == contract.Owner {
		count = min(n, 1) // what belongs to one client
	}
	a.snapshot += count * whole
	which := mathbits.Len(uint(len(k.Properties)))
	if !p.Once {
		a.most += count * (slot + which + row.Most)
	}
	if a.moving[p] {
		a.typical += count * (slot + which + typical)
	}
	if p.Follows != nil {
		a.most -= count * (slot + which + row.Most) // sent only when the truth strays from the rule
	}
}

// addAsked adds the audiences of something that have to be asked for each client and each of n entities.
//
// Audiences that are found by keys or nearness are listed as well, with their class, and cost far less
// than their pairs.
func (a *costing) addAsked(of string, to contract.Audience, who []contract.Who, n int) {
	for _, w := range who {
		if to == contract.Some && w.Sort == contract.ToNamed {
			a.out.Asked = append(a.out.Asked, AskedAudience{
				Of:    of,
				To:    a.contract.ToText(to, who),
				Pairs: a.clients * n,
				Class: findings.ClassOf(w.Aud),
			})
		}
	}
}

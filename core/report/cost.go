package report

import (
	"fmt"
	"kamerad.example/core/contract"
	"kamerad.example/core/findings"
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
	Of    string         `json:"of"` // the kind or property
	To    string         `json:"to"`
	Pairs int            `json:"pairs"` // a tick
	Class findings.Class `json:"class"`
}

// farther is how many bits more than a whole value its change may take: 12 for each number that changes by far more
// than usual.
func longestChange(p *contract.Property) int {
	if p.Once || p.Loose || p.Moves() {
		return 0
	}
	switch p.Type.Form {
	case contract.FormInt, contract.FormReal, contract.FormDirection, contract.FormVec2, contract.FormVec3, contract.FormRotation:
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

func paramBits(params []contract.Param) (most, typical int) {
	for _, p := range params {
		m, y := p.Type.Bits()
		most = most + m
		typical = typical + y
	}
	return most, typical
}

// private reports whether there are clients who are told of an entity of the kind by themselves: its owner, or who is
// near or asked for.
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

// Cost computes what the contract costs with so many clients and entities. A kind that is not named has as many as it
// surely has: one if shared, one for each client if `per` a role, else 10. The error names a kind that does not exist,
// or a number that is out of its range.
func NewCost(c *contract.Contract, clients int, entities map[string]int) (*Cost, error) {
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
		i := slices.IndexFunc(c.Kinds, func(k *contract.Kind) bool { return k.Name == name })
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
	out.Memory = int64(clients) * contract.ClientMemory
	moving := findings.Moving(c)
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
		if hasPrivate(k) {
			row.Client = contract.EntryMemory
		}
		out.Kinds = append(out.Kinds, row)
		out.Memory += int64(n) * (row.Each + int64(clients)*row.Client)
		// An entity is named by a slot of its audience; its spawn also tells its number, kind and owner.
		slot := mathbits.Len(uint(max(n-1, 0))) + mathbits.Len(uint(len(c.Kinds)))
		if k.To != contract.Nobody {
			snapshot += n * (slot + 32 + 21)
		}
		for _, p := range k.Properties {
			m, y := p.Type.Bits()
			if p.To == contract.Nobody {
				m = 0
				y = 0
			}
			far := longestChange(p)
			if p.To == contract.Nobody {
				far = 0
			}
			to := c.ToText(p.To, p.Who)
			if p.To == contract.Everyone {
				to = c.ToText(k.To, k.Who)
			}
			out.Properties = append(out.Properties, CostRow{
				Name:    k.Name + "." + p.Name,
				To:      to,
				Most:    m + far,
				Typical: y,
				Count:   n,
			})
			if p.To == contract.Nobody {
				continue
			}
			count := n
			if p.To == contract.Owner {
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
		ask := func(of string, to contract.Audience, who []contract.Who) {
			for _, w := range who {
				if to == contract.Some && w.Sort == contract.ToNamed {
					out.Asked = append(
						out.Asked, AskedAudience{of, c.ToText(to, who), clients * n, findings.ClassOf(w.Aud)},
					)
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

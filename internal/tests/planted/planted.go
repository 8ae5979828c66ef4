// Package planted has faults that tests plant between the engine and one client, and into Tidewreck's contract:
// whatever shows what clients hold has to show them.
package planted

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// Client is the number of the client whose frames are tampered with.
const Client = 2

// Fault is one of them: Tamper stands between the session and client 2, or From stands in the contract in place of To.
type Fault struct {
	Name   string
	Tamper func(client int, f *wire.Frame) *wire.Frame
	From   string
	To     string
	Says   string // is part of what a drill says of it; empty for anything
}

// Faults returns all of them.
func Faults() []Fault { return slices.Concat(stateFaults(), messageFaults(), contractFaults()) }

// tamper is what stands between the session and a client.
type tamper = func(client int, f *wire.Frame) *wire.Frame

// each calls f for all values of the frames of client 2.
func each(f func(kind string, fields *[]wire.Field)) tamper {
	return block(func(b *wire.Block) {
		for i := range b.Spawned {
			f(b.Spawned[i].Kind, &b.Spawned[i].Fields)
		}
		for i := range b.Values {
			f(b.Values[i].Kind, &b.Values[i].Fields)
		}
	})
}

// field changes each value of a property that client 2 is sent.
func field(name string, change func(*wire.Field)) tamper {
	return each(func(_ string, fields *[]wire.Field) {
		for i := range *fields {
			if (*fields)[i].Name == name {
				change(&(*fields)[i])
			}
		}
	})
}

// of changes each frame of client 2.
func of(change func(x *wire.Frame)) tamper {
	return func(client int, x *wire.Frame) *wire.Frame {
		if client == Client {
			change(x)
		}
		return x
	}
}

// block changes each block of the frames of client 2.
func block(change func(b *wire.Block)) tamper {
	return of(func(x *wire.Frame) {
		for _, b := range x.Blocks {
			change(b)
		}
	})
}

// stateFaults returns those that change what client 2 holds.
func stateFaults() []Fault {
	air := &contract.Type{
		Form: contract.FormReal,
		Low:  0,
		High: 200,
		Per:  2,
		Unit: 1,
	}
	return []Fault{
		{
			Name:   "one client is off by one",
			Tamper: field("hull", func(f *wire.Field) { f.Value.Num-- }),
			Says:   "Diver.hull",
		},
		{Name: "a value is leaked", Tamper: each(func(kind string, fields *[]wire.Field) {
			if kind == "Diver" && len(*fields) > 3 && (*fields)[0].Name != "air" {
				*fields = append(*fields, wire.Field{Name: "air", Type: air, Value: contract.Value{Num: 3}})
			}
		}), Says: "air"},
		{Name: "a list has another order", Tamper: field("choices", func(f *wire.Field) {
			f.Value.Parts = append(append([]contract.Value{}, f.Value.Parts[1:]...), f.Value.Parts[0])
		}), Says: "choices"},
		{Name: "an entity is missing on one client", Tamper: block(func(b *wire.Block) {
			for i := range b.Spawned {
				if b.Spawned[i].Kind == "Flare" {
					b.Spawned = append(b.Spawned[:i:i], b.Spawned[i+1:]...)
					return
				}
			}
		}), Says: "Flare"},
		{Name: "an entity stays on one client", Tamper: block(func(b *wire.Block) { b.Gone = nil })},
		{Name: "an owner is stale", Tamper: block(func(b *wire.Block) { b.Owned = nil })},
		{Name: "a value is not withdrawn", Tamper: block(func(b *wire.Block) {
			for i := range b.Values {
				b.Values[i].Withdrawn = nil
			}
		})},
		{Name: "changes are lost", Tamper: block(func(b *wire.Block) { b.Values = nil })},
		{Name: "who left is still there", Tamper: block(func(b *wire.Block) { b.Left = nil })},
		{Name: "a spawn comes with first values", Tamper: block(func(b *wire.Block) {
			for i := range b.Spawned {
				for j := range b.Spawned[i].Fields {
					if f := &b.Spawned[i].Fields[j]; b.Spawned[i].Kind == "Diver" && f.Name == "crew" {
						f.Value.Num = 0
					}
				}
			}
		}), Says: "crew"},
		{Name: "something is left over from an earlier run", Tamper: block(func(b *wire.Block) {
			if len(b.Spawned) > 3 {
				b.Spawned = append(b.Spawned, wire.Spawn{Entity: 77, Kind: "Crate"})
			}
		}), Says: "Crate"},
	}
}

// messageFaults returns those that change what client 2 is told, and not what it holds.
func messageFaults() []Fault {
	return []Fault{
		{Name: "an event is lost", Tamper: of(func(x *wire.Frame) { x.Events = nil })},
		{Name: "an event comes twice", Tamper: of(func(x *wire.Frame) { x.Events = append(x.Events, x.Events...) })},
		{Name: "an event has another value", Tamper: of(func(x *wire.Frame) {
			for _, e := range x.Events {
				if e.Event == "Diver.used" {
					e.Fields[0].Value.Num = 2
				}
			}
		})},
		{Name: "a log line is lost", Tamper: of(func(x *wire.Frame) { x.Logs = nil })},
		{Name: "a denial arrives as accepted", Tamper: of(func(x *wire.Frame) {
			for i := range x.Decisions {
				x.Decisions[i].Outcome = wire.Accepted
			}
		})},
		{Name: "a reason is another one", Tamper: of(func(x *wire.Frame) {
			for i := range x.Decisions {
				x.Decisions[i].Reason += "!"
			}
		})},
		{Name: "decisions are lost", Tamper: of(func(x *wire.Frame) { x.Decisions = nil })},
	}
}

// contractFaults returns those that are planted into the contract.
func contractFaults() []Fault {
	return []Fault{
		{Name: "a hold sticks", From: "hold kick lease 1s", To: "hold kick lease 50s"},
		{
			Name: "a winch stays with who is lost",
			From: "on owner lost { give self to server } // the seat still waits",
			To:   "",
		},
		{
			Name: "a sting hurts twice",
			From: "const flare_stings_diver = 12",
			To:   "const flare_stings_diver = 24",
			Says: "hull",
		},
		{Name: "flares sting their own crew", From: "where d.crew != crew {", To: "where d != thrower {"},
		{Name: "all surface at one buoy", From: "pos = free_buoy(self)\n    tell", To: "pos = vec(10, 0)\n    tell"},
		{Name: "a patch mends too much", From: "const patch_mends = 25", To: "const patch_mends = 26", Says: "hull"},
		{Name: "one strike more", From: "strikes 5 in 10s", To: "strikes 6 in 10s"},
		{Name: "the dive begins with one", From: "willing >= divers and (willing", To: "willing >= 1 and (1"},
		{
			Name: "a crate gives nothing",
			From: "caller.Diver.satchel.put(reveal(what), reveal(taken))",
			To:   "if taken > 9 { caller.Diver.satchel.put(reveal(what), 1) }",
		},
	}
}

package report

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"strings"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/codegen"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// BodyRow is what a body or condition of a contract may take, in steps of the rules' machine: two million end a cause.
type BodyRow struct {
	Of   string `json:"of"` // such as "on tick of Flare"
	File string `json:"file"`
	Line int    `json:"line"`
	// At most, with what it runs itself, when everything that it goes over is as many as there are; EndlessSteps when
	// it comes back to itself. What it sets off, such as `on change`, is not in it.
	Steps   int64      `json:"steps_most"`
	Queries []QueryRow `json:"queries"`
}

// QueryRow is what a loop or query goes over.
type QueryRow struct {
	Line int    `json:"line"`
	Over string `json:"over"` // kinds, `clients`, or the name of a list or map
	By   string `json:"by"`   // how that is found: each, place, nearest, value, number
}

// The ways to find what a query goes over.
const (
	byEach    = "each"    // all are looked at
	byPlace   = "place"   // an index of where they are
	byNearest = "nearest" // the same, from the nearest on
	byValue   = "value"   // an index of what a property is
	byNumber  = "number"  // none is looked at: only how many there are, or the first
)

// EndlessSteps stands for more steps than can be told: bodies that spawn each other without end.
const EndlessSteps = math.MaxInt64

// steps computes what bodies may take.
type steps struct {
	program  *bytecode.Program
	clients  int
	entities map[string]int
	done     map[*bytecode.Code]int64
}

// bodyRows returns what each body and condition of a contract that goes over something may take, the most first. There
// are none of a contract that cannot be translated; whoever opens a session of it is told why.
func bodyRows(c *contract.Contract, clients int, entities map[string]int) []BodyRow {
	out := []BodyRow{}
	program, err := codegen.Generate(c)
	if err != nil {
		return out
	}
	s := &steps{program: program, clients: clients, entities: entities, done: map[*bytecode.Code]int64{}}
	program.EachCode(func(code *bytecode.Code) {
		row := BodyRow{Of: code.Name, File: code.File, Queries: []QueryRow{}}
		for _, line := range code.Lines { // what finds the arguments stands in none
			if row.Line == 0 {
				row.Line = int(line)
			}
		}
		for pc, in := range code.Instructions {
			if by := s.found(code, &in); by != "" {
				over := s.over(&code.Loops[in.K])
				row.Queries = append(row.Queries, QueryRow{Line: int(code.Lines[pc]), Over: over, By: by})
			} else if list := wallsOf(code, &in); list != nil {
				by = byEach
				if list.StaysAsItIs() {
					by = byPlace
				}
				row.Queries = append(row.Queries, QueryRow{Line: int(code.Lines[pc]), Over: s.listName(list), By: by})
			}
		}
		row.Steps = s.most(code)
		if len(row.Queries) > 0 {
			out = append(out, row)
		}
	})
	slices.SortStableFunc(out, func(a, b BodyRow) int { return cmp.Compare(b.Steps, a.Steps) })
	return out
}

// found returns how an instruction finds what a query goes over; none for one that begins no query.
func (s *steps) found(code *bytecode.Code, in *bytecode.Instruction) string {
	switch in.Op {
	case bytecode.OpHowMany, bytecode.OpFirst:
		return byNumber
	case bytecode.OpIter, bytecode.OpNearest, bytecode.OpCountNear:
	default:
		return ""
	}
	switch l := &code.Loops[in.K]; {
	case l.Within >= 0:
		return byPlace
	case l.Nearest:
		return byNearest
	case l.Properties != nil:
		return byValue
	}
	return byEach
}

// over returns what a loop goes over, in words.
func (s *steps) over(l *bytecode.Loop) string {
	switch {
	case l.Kinds != nil:
	case l.Clients:
		return "clients"
	case l.Range >= 0:
		return "numbers"
	default:
		return s.listName(&l.List)
	}
	var names []string
	for _, k := range l.Kinds {
		names = append(names, k.Name)
	}
	return strings.Join(names, ", ")
}

// listName returns what a list is called, where it has a name.
func (s *steps) listName(a *bytecode.Address) string {
	c := s.program.Contract
	switch a.Space {
	case bytecode.InTable:
		for _, d := range c.Declared {
			if d.Type != nil && d.Place == a.Base {
				return d.Name
			}
		}
	case bytecode.InSettings:
		for _, x := range c.Settings {
			if x.Slot == a.Base {
				return x.Name
			}
		}
	}
	return a.Name()
}

// wallsOf returns the list of walls that an instruction looks at, nil for none.
func wallsOf(code *bytecode.Code, in *bytecode.Instruction) *bytecode.Address {
	if in.Op != bytecode.OpMath {
		return nil
	}
	switch m := &code.Maths[in.K]; m.Name {
	case "crosses", "along_walls", "free", "nearest":
		return &m.List
	}
	return nil
}

// count returns how many a loop may go over.
func (s *steps) count(l *bytecode.Loop) (n int64) {
	switch {
	case l.Clients:
		return int64(s.clients)
	case l.Kinds == nil:
		return int64(l.Most)
	}
	for _, k := range l.Kinds {
		n += int64(s.entities[k.Name])
	}
	return n
}

// most returns how many steps a run of code takes at most. It counts as the machine does: each round of a loop counts
// the length of the code that it is in, and so does what is called.
func (s *steps) most(code *bytecode.Code) int64 {
	if n, known := s.done[code]; known {
		return n
	}
	s.done[code] = EndlessSteps // for one that comes back to itself
	length := int64(len(code.Instructions))
	out := length
	times := int64(1)
	type region struct {
		end   int
		times int64 // of what stands around it
	}
	var open []region
	for pc := range code.Instructions {
		in := &code.Instructions[pc]
		for len(open) > 0 && pc >= open[len(open)-1].end {
			times = open[len(open)-1].times
			open = open[:len(open)-1]
		}
		switch in.Op {
		case bytecode.OpCountNear:
			out = plus(out, product(times, s.count(&code.Loops[in.K])))
		case bytecode.OpNearest:
			out = plus(out, product(times, nearestLooks*s.count(&code.Loops[in.K])))
		case bytecode.OpIter:
			l := &code.Loops[in.K]
			n := s.count(l)
			looks := n
			if l.Nearest {
				looks *= nearestLooks
			}
			out = plus(out, product(times, plus(looks, product(n+1, length))))
			open = append(open, region{end: int(code.Instructions[pc+1].C), times: times})
			times = product(times, n)
		default:
			out = plus(out, product(times, s.runs(code, in)))
		}
	}
	s.done[code] = out
	return out
}

// nearestLooks is how often a query for the nearest looks at what is there at most: it looks twice as far each time,
// and once more at all when that comes to as many.
const nearestLooks = 4

// runs returns how many steps the code that an instruction runs takes at most.
func (s *steps) runs(code *bytecode.Code, in *bytecode.Instruction) (out int64) {
	switch in.Op {
	case bytecode.OpCall:
		return s.most(&s.program.Functions[code.Calls[in.K].Function.Index])
	case bytecode.OpCompute:
		for kind, p := range code.Computed[in.K].Properties {
			if p != nil {
				out = max(out, s.most(s.program.Kinds[kind].Properties[p.Index].Value))
			}
		}
	case bytecode.OpRun:
		return s.most(&s.program.Actions[code.Calls[in.K].Action.Index])
	case bytecode.OpSpawn:
		for _, k := range code.Spawns[in.K].Kinds {
			if spawned := s.program.Kinds[k.Index].Spawn; spawned != nil {
				out = max(out, s.most(spawned))
			}
		}
	case bytecode.OpDespawn: // of which kind is known only when it runs
		for i := range s.program.Kinds {
			if ends := s.program.Kinds[i].Despawn; ends != nil {
				out = max(out, s.most(ends))
			}
		}
	case bytecode.OpPublic:
		return bytecode.NumberSteps
	case bytecode.OpMath:
		if list := wallsOf(code, in); list != nil {
			times := map[string]int64{"along_walls": geometry.Legs + 1, "nearest": 2}[code.Maths[in.K].Name]
			return max(times, 1) * int64(list.Type.Max)
		}
	case bytecode.OpRoute:
		r := &code.Routes[in.K]
		return int64(r.Places.Type.Max) + 2*int64(r.Links.Type.Max)
	case bytecode.OpSort:
		n := code.Containers[in.K].Container.Type.Max
		return int64(n * bits.Len(uint(n)))
	case bytecode.OpWords:
		return longest(&code.Texts[in.K])
	case bytecode.OpTell:
		return s.asked(code.Tells[in.K].Terms)
	case bytecode.OpLog:
		return s.asked(code.Logs[in.K].Terms)
	}
	return out
}

// asked returns how many steps it takes at most to find the clients that terms name.
func (s *steps) asked(terms []bytecode.Term) (out int64) {
	for _, t := range terms {
		if t.Audience != nil {
			out = plus(out, product(int64(s.clients), s.most(&s.program.Audiences[t.Audience.Index])))
		}
	}
	return out
}

// longest returns how many bytes a text that is put together has at most.
func longest(w *bytecode.Words) (out int64) {
	for _, word := range w.Words {
		out += int64(len(word))
	}
	for _, a := range w.Args {
		const longestNumber = 32 // such as -1.7976931348623157e+308
		switch {
		case a.Type.Form == contract.FormText:
			out += 4 * int64(a.Type.Max)
		case a.Type.Form == contract.FormClient || a.Type.Enum != nil || a.Type.Form == contract.FormEntity:
			out += contract.MaxText
		default:
			out += longestNumber * int64(a.Type.Width())
		}
	}
	return out
}

// plus returns the sum of two numbers of steps.
func plus(a, b int64) int64 {
	if a > EndlessSteps-b {
		return EndlessSteps
	}
	return a + b
}

// product returns the product of two numbers of steps.
func product(a, b int64) int64 {
	if a != 0 && b > EndlessSteps/a {
		return EndlessSteps
	}
	return a * b
}

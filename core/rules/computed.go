package rules

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// compute computes a property of an entity in the frame of a depth, and returns its slots, clipped where the property
// is `clamped`. They hold until the frame is used again. The outcome is nil unless it faults.
func (m *Machine) compute(depth int, e *world.Entity, p *contract.Property) ([]int64, *Outcome) {
	code := m.program.Kinds[e.Kind.Index].Properties[p.Index].Value
	fault := func(reason string) *Outcome {
		m.outcome = Outcome{
			Faulted: true,
			Check:   -1,
			Reason:  reason,
			In:      code.Name,
			File:    code.File,
			Line:    p.Line,
		}
		return &m.outcome
	}
	m.steps -= int64(len(code.Instructions))
	if m.steps < 0 {
		return nil, fault(fmt.Sprintf("it takes too many steps: more than %d", maxSteps))
	}
	if depth > 0 {
		if _, how := m.frame(depth - 1); how != ended {
			return nil, fault(m.reason)
		}
	}
	if out := m.run(code, depth, e); out != nil {
		return nil, out
	}
	slots := m.frames[depth].nums[:p.Type.Width()]
	if p.TakesAll() {
		for i := range slots {
			slots[i] = p.Type.Bring(slots[i])
		}
	}
	if err := m.fits(p.Type, slots); err != nil {
		return nil, fault(fmt.Sprintf("%s.%s cannot become %s", e.Kind.Name, p.Name, err))
	}
	return slots, nil
}

// ComputeInitial gives the computed properties of an entity their first values: when it is spawned, and of shared
// entities before the session begins. The outcome is nil unless one of them faults.
func (m *Machine) ComputeInitial(e *world.Entity) *Outcome { return m.computeInitial(0, e) }

// computeInitial is ComputeInitial in the frame of a depth.
func (m *Machine) computeInitial(depth int, e *world.Entity) *Outcome {
	for _, p := range m.program.Kinds[e.Kind.Index].Computed {
		slots, out := m.compute(depth, e, p)
		if out != nil {
			return out
		}
		m.World.SetInitial(e, p, slots)
	}
	return nil
}

// computeChanged brings the computed properties up to date of which the open transaction has written something that
// they read since a mark. What they come to differ in is written like any other change.
func (m *Machine) computeChanged(mark int) *Outcome {
	if !m.program.HasComputed {
		return nil
	}
	reads := func(k *contract.Kind) uint64 { return m.program.Kinds[k.Index].Reads }
	m.outdated = m.World.WrittenSince(mark, reads, m.outdated[:0])
	for _, e := range m.outdated {
		for _, p := range m.program.Kinds[e.Kind.Index].Computed {
			revealed := len(m.Reveals)
			slots, out := m.compute(0, e, p)
			if out != nil {
				return out
			}
			if slices.Equal(slots, e.Nums[p.Slot:p.Slot+len(slots)]) {
				m.Reveals = m.Reveals[:revealed] // nobody is told anything
				continue
			}
			m.World.Set(e, p, slots)
		}
	}
	return nil
}

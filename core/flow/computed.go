package flow

import (
	"maps"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// computed follows what a computed property of an entity is computed from: v is what is known of its value, faults are
// those of a cause that computes it here. It reports nothing: who gets the property may know what its declaration reads
// or reveals, which is checked there (computedValue).
func (f *flow) computed(k *contract.Kind, p *contract.Property, on sym) (v val, faults []fault) {
	f.cause.steps++
	if f.cause.steps > maxFlow {
		nobody := f.atom(
			crowd{{sort: contract.ToNobody}}, "`"+k.Name+"."+p.Name+"`", "nobody, as far as it can be followed",
		)
		return val{label: label{nobody}}, []fault{{label{nobody}, f.at, f.decl, f.later, mendClamped}}
	}
	inner := *f
	inner.kind = k
	inner.self = on
	inner.mine = false
	inner.locals = map[int64]val{}
	inner.lists = map[int64]val{}
	inner.facts = nil
	inner.free = nil
	inner.maybe++
	inner.cause = &Cause{
		Changes:   maps.Clone(f.cause.Changes),
		GivesAway: f.cause.GivesAway,
		fns:       map[string]val{},
		steps:     f.cause.steps,
	}
	report := f.flows.report
	f.flows.report = func(string, int, syntax.Span, string, string) {}
	v = inner.value(p.Value.Value)
	f.flows.report = report
	if !p.TakesAll() {
		inner.handedTo(v, p.Value.Value, p.Type, mendClamped)
	}
	f.cause.steps = inner.cause.steps
	return f.typed(v, p.Type), inner.cause.faults
}

// computes notes that the cause computes a computed property of an entity, and fails when that does.
func (f *flow) computes(k *contract.Kind, p *contract.Property, on sym) {
	_, faults := f.computed(k, p, on)
	f.cause.faults = append(f.cause.faults, faults...)
}

// changed notes that the cause changes a property of an entity, and with it what is computed from that: who sees the
// one sees the other change, and the cause fails when it cannot be computed any more.
func (f *flow) changed(k *contract.Kind, p *contract.Property, on sym) {
	f.cause.Changes[p] = true
	f.forget(p)
	for _, q := range k.Properties {
		if !q.Computed || q.Reads>>p.Index&1 == 0 {
			continue
		}
		f.cause.Changes[q] = true
		f.cause.dests = append(f.cause.dests, f.toProperty(k, q, on))
		f.computes(k, q, on)
	}
}

// computesNew notes that the cause fails when the computed properties of an entity that it spawns cannot be computed.
func (f *flow) computesNew(k *contract.Kind, on sym) {
	for _, q := range k.Properties {
		if q.Computed {
			f.computes(k, q, on)
		}
	}
}

// computedValue checks what a property is computed from against who gets it.
func (l *flows) computedValue(k *contract.Kind, p *contract.Property) {
	f := l.newFlow(l.newCause("the value of "+k.Name+"."+p.Name, l.lineOf(p.NameAt), k), k, p.Offset)
	f.at = p.Value.At
	v := f.value(p.Value.Value)
	f.cause.faults = nil // the causes that change what it reads fail
	f.sink(v.label, f.toProperty(k, p, f.self))
}

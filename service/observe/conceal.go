package observe

import (
	"slices"

	"kamerad.example/api"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// Conceal takes out of a message of a moment what no client may know: the seed, the values of properties that are
// nobody's, which are left out of the outline too, and those that checks saw. That there are entities of a kind which
// is nobody's is told. What the message shares with others is left as it is.
func (f *Follower) Conceal(m *api.Watch, of *Moment) {
	if m.Session != nil {
		session := *m.Session
		session.Seed = 0
		m.Session = &session
	}
	if m.Outline != nil { // made for this message
		for i := range m.Outline.Kinds {
			k := &m.Outline.Kinds[i]
			k.Properties = slices.DeleteFunc(k.Properties, func(p contract.PropertyOutline) bool {
				return f.isNobodys(k.Name, p.Name)
			})
		}
	}
	if m.Server != nil {
		block := f.concealBlock(of.server)
		m.Server = (&wire.Frame{
			Tick:     m.Tick,
			Snapshot: m.Type == api.WatchSheet,
			Blocks:   []*wire.Block{block},
		}).AppendJSON(nil)
	}
	m.Decisions = slices.Clone(m.Decisions)
	for i := range m.Decisions {
		d := &m.Decisions[i]
		d.Changes = slices.DeleteFunc(slices.Clone(d.Changes), func(c api.Change) bool {
			return f.isNobodys(c.Kind, c.Property)
		})
		d.Checks = slices.Clone(d.Checks)
		for j := range d.Checks {
			d.Checks[j].Values = nil
		}
	}
}

// concealBlock returns a block without the values that are nobody's.
func (f *Follower) concealBlock(b *wire.Block) *wire.Block {
	out := &wire.Block{
		Joined:  b.Joined,
		Spawned: slices.Clone(b.Spawned),
		Owned:   b.Owned,
		Gone:    b.Gone,
		Left:    b.Left,
	}
	for i := range out.Spawned {
		out.Spawned[i].Fields = f.concealFields(out.Spawned[i].Kind, out.Spawned[i].Fields)
	}
	for _, u := range b.Values {
		u.Fields = f.concealFields(u.Kind, u.Fields)
		if len(u.Fields)+len(u.Withdrawn) > 0 {
			out.Values = append(out.Values, u)
		}
	}
	return out
}

// concealFields returns the fields of an entity that some client may have.
func (f *Follower) concealFields(kind string, fields []wire.Field) []wire.Field {
	return slices.DeleteFunc(slices.Clone(fields), func(x wire.Field) bool { return f.isNobodys(kind, x.Name) })
}

// isNobodys reports whether no client may have a property.
func (f *Follower) isNobodys(kind, property string) bool {
	at := slices.IndexFunc(f.contract.Kinds, func(k *contract.Kind) bool { return k.Name == kind })
	if at < 0 {
		return true
	}
	k := f.contract.Kinds[at]
	return !k.Visible() || slices.ContainsFunc(k.Properties, func(p *contract.Property) bool {
		return p.Name == property && p.To == contract.Nobody
	})
}

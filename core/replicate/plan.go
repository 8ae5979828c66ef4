package replicate

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// kindPlan says how the entities of a kind travel. It is made once for each kind of a session's contract.
//
// Properties are counted in two ways: by their index within the kind, and by their index within the outline, which
// leaves out those that no client gets. Masks are bit sets over the former unless they say otherwise.
type kindPlan struct {
	view *View
	contract.KindGrouping

	outlineIndex    int                  // of the kind; -1 when no client ever knows of one
	outlineProperty []int                // by property: its index within the outline, or -1
	sentProperties  []*contract.Property // by index within the outline
	lanes           []laneRef            // of all groups that get something of the kind

	visibleMask    uint64 // properties that somebody may get
	sharedMask     uint64 // properties that some recipient set gets
	deltaMask      uint64 // properties that are sent as differences of numbers
	lazyDigestMask uint64 // properties whose digest is computed when it is asked for: no recipient set has them

	worldSlots []slotRange // by property: where the world keeps it in an entity's numbers
	// by property: where the baseline keeps what was last sent; what was sent before follows it
	baselineSlots []slotRange
	baselineWidth int // numbers that a baseline takes

	perClient  bool // Rules has to be asked for each client and entity
	toOwner    bool // an owner gets something of its own
	byDistance bool // clients who are close enough get something
	hasMotion  bool // some property follows another one
	masksRefs  bool // some value refers to entities that not everyone who gets the value may know of
}

// laneRef names a lane: what one audience gets of one kind.
type laneRef struct{ audience, lane int }

// slotRange is a range of numbers, the end excluded.
type slotRange struct{ from, to int }

// newKindPlan returns how the entities of a kind are put into groups, as the outline has it.
func newKindPlan(v *View, kind *contract.Kind, grouping contract.KindGrouping) kindPlan {
	isKind := func(k contract.KindOutline) bool { return k.Name == kind.Name }
	p := kindPlan{
		view:         v,
		KindGrouping: grouping,
		outlineIndex: slices.IndexFunc(v.outline.Kinds, isKind),
	}
	for _, property := range kind.Properties {
		index := -1
		if p.outlineIndex >= 0 && property.To != contract.Nobody {
			index = len(p.sentProperties)
			p.sentProperties = append(p.sentProperties, property)
			p.visibleMask |= 1 << property.Index
			if wire.IsNumeric(property.Type) && !property.Loose && !property.Moves() && !property.Attaches() {
				p.deltaMask |= 1 << property.Index
			}
		}
		p.outlineProperty = append(p.outlineProperty, index)
		width := property.Type.Width()
		p.worldSlots = append(p.worldSlots, slotRange{property.Slot, property.Slot + width})
		p.baselineSlots = append(p.baselineSlots, slotRange{p.baselineWidth, p.baselineWidth + width})
		p.baselineWidth += 2 * width
		if property.Follows != nil {
			p.hasMotion = true
		}
	}
	return p
}

// findPrivateParts finds out what clients may have of the kind by themselves, outside of recipient sets. The view's
// audiences have to be there.
func (p *kindPlan) findPrivateParts() {
	p.addReach(p.Reach, false)
	for i, x := range p.Properties {
		if x.Hides {
			p.masksRefs = true
		}
		if p.outlineProperty[i] >= 0 && !x.With {
			p.addReach(x.Reach, x.Asked)
		}
	}
	p.lazyDigestMask = p.visibleMask &^ p.sharedMask
	for i, x := range p.Properties {
		if x.Hides {
			p.lazyDigestMask &^= 1 << i // each client has a value of its own
		}
	}
}

// addReach notes how the kind, or a property of it, reaches clients one by one. asked says that Rules has to be asked.
func (p *kindPlan) addReach(r contract.Reach, asked bool) {
	if asked || r.Term == contract.ByPair {
		p.perClient = true
	}
	if r.Term == contract.ByOwner {
		p.toOwner = true
	}
	if r.Term == contract.ByAudience {
		if _, near := p.view.rules.Splits(r.Aud); near {
			p.byDistance = true
		}
	}
}

// outlineMask returns a set of properties as a set over their indices within the outline.
func (p *kindPlan) outlineMask(properties uint64) (out uint64) {
	for rest := properties & p.visibleMask; rest != 0; rest &= rest - 1 {
		out |= 1 << p.outlineProperty[lowestBit(rest)]
	}
	return out
}

package contract

import "slices"

// Reach says who gets something, as far as that does not depend on the entity: clients with a role in Yes always, those
// with a role in Maybe when Term says so, all others never. Roles are bits.
type Reach struct {
	Yes, Maybe uint64
	Term       Term
	Aud        *Named // of ByAudience
}

// Term is what decides for each entity.
type Term uint8

// The terms. ByPair is what has to be asked for each client and entity.
const (
	ByNone Term = iota
	ByOwner
	ByAudience
	ByPair
)

// Everyone reports whether all clients always get it, Nobody whether none ever does.
func (r Reach) Everyone(roles int) bool { return r.Yes == 1<<roles-1 }

// Nobody reports whether no client ever gets it.
func (r Reach) Nobody() bool { return r.Yes|r.Maybe == 0 }

// ReachOf splits an audience.
func (c *Contract) ReachOf(to Audience, who []Who) Reach {
	all := uint64(1)<<len(c.Roles) - 1
	switch {
	case to == Nobody:
		return Reach{}
	case to == Everyone:
		return Reach{Yes: all}
	case to == Owner:
		return Reach{Maybe: all, Term: ByOwner}
	}
	pair := Reach{Maybe: all, Term: ByPair}
	var r Reach
	for _, w := range who {
		switch term := Term(ByPair); w.Sort {
		case ToNobody:
		case ToEveryone:
			r = (Reach{})
			if !w.But {
				r.Yes = all
			}
		case ToRole:
			r.Yes &^= 1 << w.Role
			r.Maybe &^= 1 << w.Role
			if !w.But {
				r.Yes |= 1 << w.Role
			}
		default:
			if w.Sort == ToOwner {
				term = ByOwner
			} else if w.Sort == ToNamed && !w.Aud.Secret && w.Aud.Split() != nil &&
				(len(w.Args) == 0 || len(w.Args) == 1 && w.Args[0].Op == OpSelf) {
				term = ByAudience
			}
			if w.But || term == ByPair || r.Maybe != 0 {
				return pair
			}
			r.Term = term
			r.Aud = w.Aud
			r.Maybe = all &^ r.Yes
		}
	}
	if r.Maybe == 0 {
		r.Term = ByNone
		r.Aud = nil
	}
	return r
}

// Group is what of the world those in one audience have in common.
type Group struct {
	Reach
	Lanes []*Lane
	to    string
}

// Lane is what of the entities of a kind a group carries: properties, and with Whole that they are there at all.
type Lane struct {
	Kind       *Kind
	Whole      bool
	Properties []*Property
}

// Grouping says how everything that clients may get comes to them.
type Grouping struct {
	Groups []*Group
	Kinds  []KindGrouping // by kind
}

// KindGrouping says by which group a kind's entities are known, and by which its properties come; -1 is none.
type KindGrouping struct {
	Reach      Reach
	Whole      int
	Properties []PropertyGrouping
}

// PropertyGrouping says how a property comes: together with the entity, by a group of its own reach, or (Asked) by
// asking each pair of client and entity, which must then be allowed both.
type PropertyGrouping struct {
	Reach Reach
	With  bool // those who know of the entity get it
	Asked bool
	Hides bool // its refs may be of what not everyone knows of: each client gets its own
	Group int
}

// Grouping sorts all that clients may get into groups. What is to everyone is the first one.
func (c *Contract) Grouping() *Grouping {
	g := &Grouping{Groups: []*Group{{Reach: Reach{Yes: 1<<len(c.Roles) - 1}, to: Everyone.String()}}}
	group := func(r Reach, to string) int {
		if r.Yes == 0 && r.Term != ByAudience {
			return -1 // one client at a time
		}
		i := slices.IndexFunc(g.Groups, func(x *Group) bool { return x.Reach == r })
		if i < 0 {
			i = len(g.Groups)
			g.Groups = append(g.Groups, &Group{Reach: r, to: to})
		}
		return i
	}
	lane := func(i int, k *Kind) *Lane {
		x := g.Groups[i]
		if n := len(x.Lanes); n > 0 && x.Lanes[n-1].Kind == k {
			return x.Lanes[n-1]
		}
		x.Lanes = append(x.Lanes, &Lane{Kind: k})
		return x.Lanes[len(x.Lanes)-1]
	}
	for _, k := range c.Kinds {
		kg := KindGrouping{Reach: c.ReachOf(k.To, k.Who), Whole: -1}
		if !kg.Reach.Nobody() {
			kg.Whole = group(kg.Reach, c.ToText(k.To, k.Who))
			if kg.Whole >= 0 {
				lane(kg.Whole, k).Whole = true
			}
		}
		everyone := kg.Reach.Everyone(len(c.Roles))
		for _, p := range k.Properties {
			pg := PropertyGrouping{Reach: c.ReachOf(p.To, p.Who), Group: -1}
			switch {
			case kg.Reach.Nobody() || pg.Reach.Nobody():
			case c.hides(p.Type):
				pg.Asked = true
				pg.Hides = true
			case pg.Reach.Everyone(len(c.Roles)) || pg.Reach == kg.Reach && pg.Reach.Term != ByPair:
				pg.With = true
				pg.Group = kg.Whole
			case everyone && pg.Reach.Term != ByPair:
				pg.Group = group(pg.Reach, c.ToText(p.To, p.Who))
			default:
				pg.Asked = true
			}
			if pg.Group >= 0 {
				l := lane(pg.Group, k)
				l.Properties = append(l.Properties, p)
			}
			kg.Properties = append(kg.Properties, pg)
		}
		g.Kinds = append(g.Kinds, kg)
	}
	return g
}

// hides reports whether a value refers to entities that not everyone may know of.
func (c *Contract) hides(t *Type) bool {
	if t.Form == FormEntity {
		return slices.ContainsFunc(t.Kinds, func(k *Kind) bool { return k.To != Everyone })
	}
	return t.Key != nil && c.hides(t.Key) || t.Of != nil && c.hides(t.Of) ||
		slices.ContainsFunc(t.Parts, func(p Param) bool { return c.hides(p.Type) })
}

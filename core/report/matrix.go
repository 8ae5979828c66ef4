// Package report computes what can be told of a contract before anything runs: who sees, changes and asks for what
// (NewMatrix), what it takes on the wire and in memory (NewCost), and how two versions differ (Compare). It changes no
// contract, and what it returns is the caller's own.
//
// # How it works
//
// The matrix (matrix.go) asks for each viewer, such as the owner or another player, what the audiences of the contract
// say, and takes what requests change from the causes of package flow. The cost (cost.go) adds up the widths of types
// in bits and the memory of rows. Compare (compare.go) holds the outlines of two versions against each other and says
// which clients of the old one may go on with the new one.
package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/flow"
)

// Matrix says of everything in a contract who sees it, who may change it and who may ask for it.
//
// It is computed from the contract alone, and is the same for all sessions of it.
type Matrix struct {
	Contract   string           `json:"contract"`
	Viewers    []Viewer         `json:"viewers"` // the columns: kinds of client
	Properties []MatrixProperty `json:"properties"`
	Requests   []MatrixRequest  `json:"requests"`
	Events     []MatrixEvent    `json:"events"`
	Reveals    []flow.Reveal    `json:"reveals"`
}

// Viewer is a kind of client: the owner of the entity at hand, a role, or whoever is in a named audience.
type Viewer struct {
	Name string `json:"name"`
	Sort string `json:"sort"` // owner, role or audience
	role int
	aud  *contract.Named
}

// Access says whether a viewer has something: always, sometimes or never.
type Access string

// The accesses. A viewer has something sometimes when that depends on more than what it is, such as how near it stands.
// An audience is unrelated to what it neither gives nor takes: being in it changes nothing.
const (
	Never     Access = "never"
	Unrelated Access = "unrelated"
	Sometimes Access = "sometimes"
	Always    Access = "always"
)

// rank orders the accesses from never to always.
func (a Access) rank() int { return slices.Index([]Access{Never, Unrelated, Sometimes, Always}, a) }

// MatrixProperty is a property: who gets it and what writes it.
type MatrixProperty struct {
	Name   string   `json:"name"` // Kind.property
	Type   string   `json:"type"`
	To     string   `json:"to"`
	Access []Access `json:"access"` // by viewer
	Writer string   `json:"writer"` // server, owner, or the client that the contract names, as in `set by gunner`
	Within string   `json:"within,omitempty"`
	By     []string `json:"by"` // the requests, handlers and timers of the server that may change it
	Line   int      `json:"line"`
}

// MatrixRequest is a request: who may ask, what is checked, and what it can do.
type MatrixRequest struct {
	Name    string           `json:"name"`
	From    string           `json:"from"`
	Access  []Access         `json:"access"`
	Limit   string           `json:"limit,omitempty"`
	Pause   string           `json:"pause,omitempty"`
	Checks  []contract.Check `json:"checks"`
	Changes []string         `json:"changes"` // properties, also by the handlers that it sets off
	Does    []string         `json:"does"`    // what it spawns, despawns, gives away and so on
	Tells   []string         `json:"tells"`
	Reveals []string         `json:"reveals"`
	Line    int              `json:"line"`
}

// MatrixEvent is an event: who can be told, and by what.
type MatrixEvent struct {
	Name   string   `json:"name"`
	To     []string `json:"to"`
	Access []Access `json:"access"`
	By     []string `json:"by"`
}

// NewMatrix computes the access matrix.
//
// What a request may change includes what the handlers change that it sets off. The contract has to be
// without a mistake.
func NewMatrix(c *contract.Contract) *Matrix {
	m := &Matrix{
		Contract:   c.Name,
		Viewers:    viewersOf(c),
		Properties: []MatrixProperty{},
		Requests:   []MatrixRequest{},
		Events:     []MatrixEvent{},
		Reveals:    []flow.Reveal{},
	}
	causes := flow.Causes(c)
	changers := map[*contract.Property][]string{}
	tellers := map[*contract.Event][]string{}
	for _, x := range causes {
		for p := range x.Changes {
			changers[p] = append(changers[p], x.Name)
		}
		for p := range x.Makes {
			if !x.Changes[p] {
				changers[p] = append(changers[p], x.Name)
			}
		}
		for e := range x.Events {
			tellers[e] = append(tellers[e], x.Name)
		}
	}
	m.addReveals(causes)
	for _, k := range c.Kinds {
		for _, p := range k.Properties {
			m.Properties = append(m.Properties, propertyRow(c, m, k, p, changers[p]))
		}
		for _, r := range k.Requests {
			m.Requests = append(m.Requests, requestRow(c, m, causes, r))
		}
	}
	for _, e := range c.Events {
		m.Events = append(m.Events, eventRow(c, m, causes, e, tellers[e]))
	}
	return m
}

// viewersOf returns the matrix's columns: the owner, each role, and each declared audience.
func viewersOf(c *contract.Contract) []Viewer {
	out := []Viewer{{Name: "owner", Sort: "owner", role: -1}}
	for i, r := range c.Roles {
		out = append(out, Viewer{Name: r, Sort: "role", role: i})
	}
	for _, a := range c.Audiences {
		out = append(out, Viewer{
			Name: a.Name,
			Sort: "audience",
			role: -1,
			aud:  a,
		})
	}
	return out
}

// addReveals lists each place once that reveals something which not everyone may know, in the order of the contract. A
// function or action that several causes run would otherwise stand there for each of them.
//
// A reveal of what everyone gets anyway is left out.
func (m *Matrix) addReveals(causes []*flow.Cause) {
	for _, x := range causes {
		for _, r := range x.Reveals {
			if len(r.Of) > 0 {
				m.Reveals = append(m.Reveals, r)
			}
		}
	}
	slices.SortFunc(
		m.Reveals, func(a, b flow.Reveal) int { return cmp.Or(a.Line-b.Line, strings.Compare(a.Text, b.Text)) },
	)
	m.Reveals = slices.CompactFunc(m.Reveals, func(a, b flow.Reveal) bool {
		return a.Line == b.Line && a.Text == b.Text && a.In == b.In && a.To == b.To
	})
}

// propertyRow returns the row of a property: who gets it, who writes it, and what changes it. changers are the names of
// the causes that do.
//
// A viewer has a property as far as it has the entity too: the lesser of both accesses counts.
func propertyRow(
	c *contract.Contract, m *Matrix, k *contract.Kind, p *contract.Property, changers []string,
) MatrixProperty {
	row := MatrixProperty{
		Name:   k.Name + "." + p.Name,
		Type:   p.Type.String(),
		To:     c.ToText(p.To, p.Who),
		Writer: "server",
		By:     []string{},
		Line:   p.Line,
	}
	if k.To == contract.Some && p.To == contract.Everyone {
		row.To = c.ToText(k.To, k.Who)
	} else if k.To == contract.Some && p.To != contract.Nobody {
		row.To += " within " + c.ToText(k.To, k.Who)
	}
	if p.Hold != nil {
		row.Type = "hold"
		row.Writer = "owner"
	}
	if p.Set != nil {
		row.Writer = "owner"
		if !p.Set.Owner {
			row.Writer = p.Set.ByText
		}
		row.Within = p.Set.Text
	}
	for _, by := range changers { // what its own clause does is told as its writer
		if !strings.HasPrefix(by, "the hold ") && !strings.HasPrefix(by, "the write ") {
			row.By = append(row.By, by)
		}
	}
	slices.Sort(row.By)
	for _, v := range m.Viewers {
		access := least(accessOf(c, k, k.To, k.Who, v), accessOf(c, k, p.To, p.Who, v))
		row.Access = append(row.Access, v.related(access, k.Who, p.Who))
	}
	return row
}

// eventRow returns the row of an event: who is told it, and by what. A viewer has the best access that any of the
// causes gives it.
//
// Each `tell` of the event may have its own audience; To lists all of them.
func eventRow(
	c *contract.Contract, m *Matrix, causes []*flow.Cause, e *contract.Event, tellers []string,
) MatrixEvent {
	row := MatrixEvent{Name: e.FullName(), To: []string{}, By: slices.Sorted(slices.Values(tellers))}
	if row.By == nil {
		row.By = []string{}
	}
	for _, v := range m.Viewers {
		best := Never
		var all []contract.Who
		for _, x := range causes {
			for _, who := range x.Events[e] {
				row.To = append(row.To, c.WhoText(who))
				all = append(all, who...)
				if a := accessOf(c, x.Kind, contract.Some, who, v); a.rank() > best.rank() {
					best = a
				}
			}
		}
		row.Access = append(row.Access, v.related(best, all))
	}
	slices.Sort(row.To)
	row.To = slices.Compact(row.To)
	return row
}

// requestRow returns the row of a request: who may ask it, and what its causes change, do, tell and reveal.
func requestRow(c *contract.Contract, m *Matrix, causes []*flow.Cause, r *contract.Request) MatrixRequest {
	row := MatrixRequest{
		Name:    r.FullName(),
		From:    c.WhoText(r.From),
		Checks:  r.Checks,
		Reveals: []string{},
		Line:    r.Line,
	}
	if row.Checks == nil {
		row.Checks = []contract.Check{}
	}
	if r.Limit != nil {
		row.Limit = fmt.Sprintf("%d in %g s", r.Limit.Count, float64(r.Limit.Ms)/1000)
	}
	if r.Pause != nil {
		row.Pause = pauseText(c, r.Pause)
	}
	for _, v := range m.Viewers {
		row.Access = append(
			row.Access,
			v.related(
				least(accessOf(c, r.Kind, r.Kind.To, r.Kind.Who, v), accessOf(c, r.Kind, contract.Some, r.From, v)),
				r.Kind.Who,
				r.From,
			),
		)
	}
	row.addEffects(c, setOff(causes, r))
	return row
}

// addEffects fills in what the causes that a request sets off change, do, tell and reveal, each once and in order.
func (row *MatrixRequest) addEffects(c *contract.Contract, causes []*flow.Cause) {
	changes := map[string]bool{}
	does := map[string]bool{}
	tells := map[string]bool{}
	for _, x := range causes {
		for p := range x.Changes {
			changes[propertyName(c, p)] = true
		}
		for what, kinds := range map[string]map[*contract.Kind]bool{
			"spawns":   x.Spawns,
			"despawns": x.Despawns,
			"gives":    x.GivesAway,
		} {
			for k := range kinds {
				does[what+" "+k.Name] = true
			}
		}
		for what := range x.Others {
			does[what] = true
		}
		for e, lists := range x.Events {
			for _, who := range lists {
				tells[e.FullName()+" to "+c.WhoText(who)] = true
			}
		}
		for _, v := range x.Reveals {
			if len(v.Of) > 0 {
				row.Reveals = append(row.Reveals, v.String())
			}
		}
	}
	sorted := func(set map[string]bool) []string {
		return append([]string{}, slices.Sorted(maps.Keys(set))...)
	}
	row.Changes = sorted(changes)
	row.Does = sorted(does)
	row.Tells = sorted(tells)
}

// setOff returns what a request does and the handlers that it may set off.
//
// It follows them to the end: a handler may change what another one waits for.
func setOff(causes []*flow.Cause, r *contract.Request) []*flow.Cause {
	var all []*flow.Cause
	add := func(such func(x *flow.Cause) bool) {
		for _, x := range causes {
			if such(x) && !slices.Contains(all, x) {
				all = append(all, x)
			}
		}
	}
	add(func(x *flow.Cause) bool { return x.Request == r })
	for i := 0; i < len(all); i++ {
		add(func(x *flow.Cause) bool {
			return x.Watch != nil && (all[i].Changes[x.Watch] || all[i].Makes[x.Watch]) ||
				x.Spawning && all[i].Spawns[x.Kind] || x.Ending && all[i].Despawns[x.Kind]
		})
	}
	return all
}

// propertyName returns the name of a property with that of its kind.
func propertyName(c *contract.Contract, p *contract.Property) string {
	for _, k := range c.Kinds {
		if slices.Contains(k.Properties, p) {
			return k.Name + "." + p.Name
		}
	}
	return p.Name
}

// related sets an audience apart that stands in none of some lists.
//
// Being in it says nothing then, and "sometimes" would read as if it did.
func (v Viewer) related(a Access, lists ...[]contract.Who) Access {
	if a != Sometimes || v.aud == nil {
		return a
	}
	for _, who := range lists {
		if slices.ContainsFunc(who, func(w contract.Who) bool { return w.Aud == v.aud }) {
			return a
		}
	}
	return Unrelated
}

// least returns the access that is less.
func least(a, b Access) Access {
	if a.rank() < b.rank() {
		return a
	}
	return b
}

// accessOf reports whether a viewer is among the clients of an audience of a kind's entity.
//
// k is nil for an event of the contract itself. Terms are followed in their order: `but` takes away
// from those before it.
func accessOf(c *contract.Contract, k *contract.Kind, to contract.Audience, who []contract.Who, v Viewer) Access {
	switch {
	case to == contract.Everyone:
		return Always
	case to == contract.Nobody:
		return Never
	case to == contract.Owner:
		who = []contract.Who{{Sort: contract.ToOwner}}
	}
	out := Never
	for _, w := range who {
		is := accessByTerm(c, k, w, v)
		switch {
		case !w.But:
			if is.rank() > out.rank() {
				out = is
			}
		case is == Always:
			out = Never
		case is == Sometimes:
			out = least(out, Sometimes)
		}
	}
	return out
}

// accessByTerm reports whether a viewer is among the clients of one term of an audience, whatever the other terms say.
//
// It says always or never only where that follows from roles and owners, whatever happens in a session.
func accessByTerm(c *contract.Contract, k *contract.Kind, w contract.Who, v Viewer) Access {
	owners := -1 // the role of all owners
	if k != nil && k.Per >= 0 {
		owners = k.Per
	}
	if k != nil && owners < 0 && !k.GivenAway && (v.Sort == "owner" || w.Sort == contract.ToOwner) &&
		w.Sort != contract.ToEveryone {
		return Never // it always belongs to the server
	}
	same := func(a, b int) Access {
		switch {
		case a < 0 || b < 0:
			return Sometimes
		case a == b:
			return Always
		}
		return Never
	}
	switch w.Sort {
	case contract.ToEveryone:
		return Always
	case contract.ToNobody:
		return Never
	case contract.ToRole:
		if v.Sort == "owner" {
			return same(owners, w.Role)
		}
		return same(v.role, w.Role)
	case contract.ToOwner:
		if v.Sort == "owner" {
			return Always
		}
		if v.Sort == "role" && same(owners, v.role) == Never {
			return Never
		}
	case contract.ToNamed:
		if w.Aud == v.aud {
			return Always
		}
		if v.Sort == "owner" && k != nil {
			if flow.HoldsForOwner(c, k, w) {
				return Always
			}
		}
	}
	return Sometimes
}

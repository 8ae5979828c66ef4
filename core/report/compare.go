package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Comparison says what differs between two versions of a contract.
type Comparison struct {
	Changes []Difference `json:"changes"`
	// TakesOver reports whether a running session of the first version could go on with the second one; Blocks are the
	// changes that it could not.
	TakesOver bool     `json:"takes_over"`
	Blocks    []string `json:"blocks"`
	// Stay reports whether every client of the first version may stay; if not, those may that use none of Lose.
	Stay bool     `json:"stay"`
	Lose []string `json:"lose"`
}

// Difference is one change.
type Difference struct {
	What string `json:"what"` // header, enum, setting, audience, kind, property, request or event
	Name string `json:"name"`
	How  How    `json:"how"`
	// Of what changed: type, audience, writer, rule, clauses, default, arguments, reply, from, limit, checks, body and
	// so on.
	Aspect string `json:"aspect,omitempty"`
	Was    string `json:"was,omitempty"`
	Is     string `json:"is,omitempty"`
	Then   string `json:"then,omitempty"` // what becomes of it in a running session
}

// How says how something differs.
type How string

// The ways in which something differs.
const (
	Added   How = "added"
	Removed How = "removed"
	Renamed How = "renamed"
	Changed How = "changed"
)

// Compare compares two versions of a contract, a before b.
//
// Both have to be without a mistake. What is compared is what the contract means, as far as the model
// tells; bodies are compared by their words, so that a remark or another indent is no difference.
func Compare(a, b *contract.Contract) *Comparison {
	c := &comparer{a: a, b: b, out: &Comparison{Changes: []Difference{}, Blocks: []string{}, Lose: []string{}}}
	c.header()
	c.enums()
	each(
		a.Settings, b.Settings, func(s *contract.Setting) string { return s.Name },
		func(name string, x, y *contract.Setting) {
			c.pair("setting", name, x != nil, y != nil, func() {
				c.aspect("setting", name, "type", x.Type.String(), y.Type.String(), "")
				c.aspect("setting", name, "public", strconv.FormatBool(x.Public), strconv.FormatBool(y.Public), "")
				c.aspect(
					"setting", name, "default", valueText(a, x.Type, x.Default), valueText(b, y.Type, y.Default),
					"a session keeps the settings that it was opened with",
				)
			})
		},
	)
	each(a.Declared, b.Declared, func(d *contract.Declared) string { return d.What + " " + d.Name }, c.declared)
	each(
		a.Fns, b.Fns, func(f *contract.Fn) string { return f.Name },
		func(name string, x, y *contract.Fn) {
			c.pair("function", name, x != nil, y != nil, func() {
				c.aspect("function", name, "value", spanWords(a, x.At), spanWords(b, y.At), computedAnew)
			})
		},
	)
	each(
		a.Audiences, b.Audiences, func(n *contract.Named) string { return n.Name },
		func(name string, x, y *contract.Named) {
			c.pair("audience", name, x != nil, y != nil, func() {
				c.aspect(
					"audience", name, "condition", spanWords(a, x.At), spanWords(b, y.At),
					"who gets what it decides changes with the next tick",
				)
			})
		},
	)
	each(a.Exits, b.Exits, func(x *contract.Exit) string { return x.Name }, c.exit)
	each(a.Kinds, b.Kinds, func(k *contract.Kind) string { return k.Name }, c.kind)
	each(
		contractEvents(a), contractEvents(b), func(e *contract.Event) string { return e.Name },
		func(name string, x, y *contract.Event) { c.event(name, x, y) },
	)
	newer := b.Handlers()
	for i, h := range a.Handlers() {
		c.aspect("handler", h.Name, "body", bodyWords(a, h.Body), bodyWords(b, newer[i].Body), "")
	}
	if len(c.out.Changes) == 0 && sourceWords(a, 0, len(a.Source.Text)) != sourceWords(b, 0, len(b.Source.Text)) {
		// Whatever it is, such as the order of declarations: two texts that differ must not pass for the same.
		c.add(Difference{What: "contract", Name: b.Name, How: Changed, Aspect: "text"})
	}
	c.clients()
	c.out.TakesOver = len(c.out.Blocks) == 0
	return c.out
}

// exit compares an exit.
func (c *comparer) exit(name string, x, y *contract.Exit) {
	c.pair("exit", name, x != nil, y != nil, func() {
		c.aspect("exit", name, "contract", x.To, y.To, "")
		c.aspect("exit", name, "parameters", paramsText(x.Params), paramsText(y.Params), "")
	})
}

// computedAnew says what becomes of what a constant or function is computed with.
const computedAnew = "what is computed with it changes with the next tick"

type comparer struct {
	a, b *contract.Contract
	out  *Comparison
}

// each calls f for all names of two lists, with what is in only one of them nil in the other.
//
// Those of a come in their order, then those that only b has.
func each[T any](a, b []*T, name func(*T) string, f func(name string, x, y *T)) {
	find := func(list []*T, n string) *T {
		if i := slices.IndexFunc(list, func(x *T) bool { return name(x) == n }); i >= 0 {
			return list[i]
		}
		return nil
	}
	for _, x := range a {
		f(name(x), x, find(b, name(x)))
	}
	for _, y := range b {
		if find(a, name(y)) == nil {
			f(name(y), nil, y)
		}
	}
}

// add notes a difference.
func (c *comparer) add(d Difference) { c.out.Changes = append(c.out.Changes, d) }

// pair notes what is in only one of the versions; what is in both is compared.
func (c *comparer) pair(what, name string, before, after bool, both func()) {
	switch {
	case !before:
		c.add(Difference{What: what, Name: name, How: Added})
	case !after:
		c.add(Difference{What: what, Name: name, How: Removed})
	default:
		both()
	}
}

// aspect notes a difference when the two texts are not the same; then says what becomes of a session that takes the
// second version.
func (c *comparer) aspect(what, name, aspect, was, is, then string) {
	if was != is {
		c.add(Difference{what, name, Changed, aspect, was, is, then})
	}
}

// declared compares two types or constants of one name.
func (c *comparer) declared(_ string, x, y *contract.Declared) {
	any := x
	if any == nil {
		any = y
	}
	text := func(c *contract.Contract, d *contract.Declared) string {
		out := spanWords(c, d.At)
		if d.Type != nil {
			out += " = " + valueText(c, d.Type, c.Memory[d.Place:])
		}
		return out
	}
	c.pair(any.What, any.Name, x != nil, y != nil, func() {
		c.aspect(any.What, any.Name, "value", text(c.a, x), text(c.b, y), computedAnew)
	})
}

// reordered returns two lists of names as texts when they hold the same names in another order, and else two empty
// texts.
func reordered(a, b []string) (was, is string) {
	if slices.Equal(a, b) || !slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))) {
		return "", ""
	}
	return strings.Join(a, ", "), strings.Join(b, ", ")
}

// header compares ticks, seats, strikes and roles.
//
// Blocks are what a running session could not take over.
func (c *comparer) header() {
	a := c.a
	b := c.b
	c.aspect("header", "language", "version", fmt.Sprint(a.Language), fmt.Sprint(b.Language), "it means the same")
	c.aspect("header", "tick", "ticks per second", fmt.Sprint(a.TickRate), fmt.Sprint(b.TickRate), "")
	if a.TickRate != b.TickRate {
		c.out.Blocks = append(c.out.Blocks, "the number of ticks per second changes: what runs counts in ticks")
	}
	c.aspect("header", "seats", "seats", fmt.Sprint(a.Seats), fmt.Sprint(b.Seats), "who has a seat keeps it")
	c.aspect("header", "seats", "grace", fmt.Sprint(a.Grace, " ticks"), fmt.Sprint(b.Grace, " ticks"), "")
	c.aspect(
		"header", "strikes", "strikes", fmt.Sprint(a.Strikes, " in ", a.Window, " ticks"),
		fmt.Sprint(b.Strikes, " in ", b.Window, " ticks"), "",
	)
	for i, r := range a.Roles {
		if at := slices.Index(b.Roles, r); at >= 0 {
			c.aspect("header", "each "+r, "bytes per second", a.ByteLimit(i).String(), b.ByteLimit(at).String(), "")
			c.aspect("header", "role "+r, "who may have it", a.AccessOf(i), b.AccessOf(at), "")
			continue
		}
		c.add(Difference{What: "role", Name: r, How: Removed})
		c.out.Blocks = append(c.out.Blocks, fmt.Sprintf("the role `%s` is gone: clients may have it", r))
	}
	for _, r := range b.Roles {
		if !slices.Contains(a.Roles, r) {
			c.add(Difference{What: "role", Name: r, How: Added})
		}
	}
	was, is := reordered(a.Roles, b.Roles)
	c.aspect("header", "roles", "order", was, is, "who names no role gets the first one")
}

// enums compares the values of enums with the same name.
func (c *comparer) enums() {
	each(c.a.Enums, c.b.Enums, func(e *contract.Enum) string { return e.Name }, func(name string, x, y *contract.Enum) {
		c.pair("enum", name, x != nil, y != nil, func() {
			for _, v := range x.Values {
				if !slices.Contains(y.Values, v) {
					c.add(Difference{
						What: "enum",
						Name: name + "." + v,
						How:  Removed,
						Then: "what has this value starts at its default",
					})
				}
			}
			for _, v := range y.Values {
				if !slices.Contains(x.Values, v) {
					c.add(Difference{What: "enum", Name: name + "." + v, How: Added})
				}
			}
			was, is := reordered(x.Values, y.Values)
			c.aspect("enum", name, "order", was, is, "values keep their names")
		})
	})
}

// kindSort returns how entities of a kind come to be.
func kindSort(k *contract.Kind, c *contract.Contract) string {
	switch {
	case k.Shared:
		return "shared"
	case k.Per >= 0:
		return "per " + c.Roles[k.Per]
	}
	return "spawned"
}

// kind compares two kinds of one name; the one that a version does not have is nil.
//
// A kind that changed how its entities come to be is another kind, under which those that are there
// make no sense.
func (c *comparer) kind(name string, x, y *contract.Kind) {
	if x == nil || y == nil {
		d := Difference{
			What: "kind",
			Name: name,
			How:  Removed,
			Then: "its entities are despawned",
		}
		if x == nil {
			d.How = Added
			d.Then = map[bool]string{true: "it is there from the next tick on"}[y.Shared || y.Per >= 0]
		}
		c.add(d)
		return
	}
	before := len(c.out.Changes)
	c.aspect("kind", name, "sort", kindSort(x, c.a), kindSort(y, c.b), "")
	if kindSort(x, c.a) != kindSort(y, c.b) {
		c.out.Blocks = append(
			c.out.Blocks,
			fmt.Sprintf("`%s` was %s and is %s: its entities cannot be both", name, kindSort(x, c.a), kindSort(y, c.b)),
		)
	}
	c.aspect(
		"kind", name, "audience", c.a.ToText(x.To, x.Who), c.b.ToText(y.To, y.Who),
		"who gains it gets it with the next tick, who loses it has it taken back",
	)
	c.aspect("kind", name, "parts", strings.Join(x.Parts, ", "), strings.Join(y.Parts, ", "), "")
	c.properties(name, x, y)
	each(x.Requests, y.Requests, func(r *contract.Request) string { return r.FullName() }, c.request)
	each(
		x.Events, y.Events, func(e *contract.Event) string { return e.FullName() },
		func(name string, x, y *contract.Event) { c.event(name, x, y) },
	)
	c.bodies(name, x, y)
	if len(c.out.Changes) == before && spanWords(c.a, x.At) != spanWords(c.b, y.At) {
		c.add(Difference{What: "kind", Name: name, How: Changed, Aspect: "text"})
	}
}

// bodies compares the handlers, actions and timers of two kinds of one name, those of their parts included.
func (c *comparer) bodies(name string, x, y *contract.Kind) {
	was := handlersOf(x)
	is := handlersOf(y)
	for _, handler := range slices.Sorted(maps.Keys(mergedKeys(was, is))) {
		if bodyWords(c.a, was[handler]) != bodyWords(c.b, is[handler]) {
			c.add(Difference{What: "handler", Name: handler + " of " + name, How: Changed, Aspect: "body"})
		}
	}
	each(
		x.Actions, y.Actions, func(a *contract.Action) string { return a.Name },
		func(action string, a, b *contract.Action) {
			c.pair("action", name+"."+action, a != nil, b != nil, func() {
				if bodyWords(c.a, a.Body) != bodyWords(c.b, b.Body) {
					c.add(Difference{What: "action", Name: name + "." + action, How: Changed, Aspect: "body"})
				}
			})
		},
	)
	timers := func(c *contract.Contract, k *contract.Kind) (out []string) {
		for _, t := range k.Timers {
			out = append(out, spanWords(c, t.At))
		}
		return out
	}
	if !slices.Equal(timers(c.a, x), timers(c.b, y)) {
		c.add(Difference{
			What:   "kind",
			Name:   name,
			How:    Changed,
			Aspect: "timers",
			Then:   "timers go on counting",
		})
	}
}

// handlersOf returns the handlers of a kind by what they wait for.
func handlersOf(k *contract.Kind) map[string]*contract.Body {
	out := map[string]*contract.Body{
		"on start":       k.OnStart,
		"on spawn":       k.OnSpawn,
		"on tick":        k.OnTick,
		"on owner lost":  k.OnOwnerLost,
		"on owner leave": k.OnOwnerLeave,
		"on despawn":     k.OnDespawn,
	}
	for i, b := range k.OnChange {
		out["on change "+k.Properties[i].Name] = b
	}
	return out
}

// mergedKeys returns a map with the keys of both maps.
func mergedKeys(a, b map[string]*contract.Body) map[string]*contract.Body {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}

// properties compares the properties of two kinds of one name. One that says which name it had before is compared with
// that one.
//
// Without `was`, a renamed property is one that was removed and one that was added: its value is lost.
func (c *comparer) properties(name string, x, y *contract.Kind) {
	taken := map[string]bool{}
	for _, p := range y.Properties {
		q := x.Property(p.Name)
		if q == nil && p.Was != "" {
			q = x.Property(p.Was)
			if q != nil {
				taken[q.Name] = true
				c.add(Difference{
					What: "property",
					Name: name + "." + p.Name,
					How:  Renamed,
					Was:  name + "." + q.Name,
					Is:   name + "." + p.Name,
					Then: "it takes the value over",
				})
			}
		}
		if q == nil {
			c.add(Difference{
				What: "property",
				Name: name + "." + p.Name,
				How:  Added,
				Is:   p.Type.String(),
				Then: "it starts at its default",
			})
			continue
		}
		c.property(name+"."+p.Name, q, p)
	}
	for _, q := range x.Properties {
		if y.Property(q.Name) == nil && !taken[q.Name] {
			c.add(Difference{
				What: "property",
				Name: name + "." + q.Name,
				How:  Removed,
				Was:  q.Type.String(),
				Then: "its value is lost; `was " + q.Name + "` on another property would keep it",
			})
		}
	}
}

// property compares two properties of one name, or of which the second one is said to have been the first.
//
// The text in a running session follows from the types alone: values are kept in steps, and the same
// steps mean the same only with the same step.
func (c *comparer) property(name string, x, y *contract.Property) {
	then := "it keeps its value"
	switch {
	case x.Type.String() == y.Type.String():
	case x.Type.Form != y.Type.Form || x.Type.Per != y.Type.Per || x.Type.Unit != y.Type.Unit:
		then = "it starts at its default: a value of the one type is none of the other"
	case y.Type.Low > x.Type.Low || y.Type.High < x.Type.High || y.Type.Max < x.Type.Max:
		then = "it keeps its value where that fits, and is clipped where not"
	}
	c.aspect("property", name, "type", x.Type.String(), y.Type.String(), then)
	c.aspect(
		"property", name, "audience", c.a.ToText(x.To, x.Who), c.b.ToText(y.To, y.Who),
		"who gains it gets it with the next tick, who loses it has it taken back",
	)
	writer := func(of *contract.Contract, p *contract.Property) (by, rule string) {
		switch {
		case p.Hold != nil:
			rule = fmt.Sprintf("lease %g s", float64(p.Hold.Ms)/1000)
			if p.Hold.When != nil {
				rule += " when " + spanWords(of, p.Hold.When.At)
			}
			return "held by its owner", rule
		case p.Set == nil:
			return "the server", ""
		case p.Set.Owner:
			return "the owner", p.Set.Text
		}
		return "the client " + p.Set.ByText, p.Set.Text
	}
	by, rule := writer(c.a, x)
	by2, rule2 := writer(c.b, y)
	c.aspect("property", name, "writer", by, by2, "")
	c.aspect("property", name, "rule", rule, rule2, "")
	c.aspect("property", name, "clauses", clauseText(c.a, x), clauseText(c.b, y), "")
	c.aspect(
		"property", name, "default", valueText(c.a, x.Type, x.Default), valueText(c.b, y.Type, y.Default),
		"what is there keeps its value",
	)
}

// valueText returns a value of a type, from its slots, as a contract writes it.
func valueText(c *contract.Contract, t *contract.Type, slots []int64) string {
	return t.Format(t.FromSlots(slots, func(n int64) string { return c.Texts[n] }))
}

// clauseText returns the clauses of a property in a fixed order.
func clauseText(c *contract.Contract, p *contract.Property) string {
	words := p.Clauses.Words()
	if p.Computed {
		words = append(words, "from", spanWords(c, p.Value.At))
	}
	if f := p.Follows; f != nil && f.Rate != nil {
		words = append(words, "follows", f.Rate.Name)
	} else if f != nil {
		to := slices.IndexFunc(f.To, func(q *contract.Property) bool { return q != nil })
		words = append(words, "follows", f.Holder.Name+"."+f.To[to].Name)
		for _, n := range f.By {
			words = append(words, "by", fmt.Sprint(math.Float64frombits(uint64(n))))
		}
	}
	return strings.Join(words, " ")
}

// pauseText returns the time of a pause: in seconds, or as the contract writes it.
func pauseText(c *contract.Contract, p *contract.Pause) string {
	if p.Wait != nil {
		return spanWords(c, p.Wait.At)
	}
	return fmt.Sprintf("%g s", float64(p.Ms)/1000)
}

// paramsText returns parameters as a contract writes them.
func paramsText(params []contract.Param) string {
	var out []string
	for _, p := range params {
		out = append(out, p.Name+": "+p.Type.String())
	}
	return strings.Join(out, ", ")
}

// request compares two requests of one name; the one that a version does not have is nil.
func (c *comparer) request(name string, x, y *contract.Request) {
	c.pair("request", name, x != nil, y != nil, func() {
		reply := func(t *contract.Type) string {
			if t == nil {
				return ""
			}
			return t.String()
		}
		limit := func(of *contract.Contract, r *contract.Request) string {
			out := ""
			if r.Limit != nil {
				out = fmt.Sprintf("%d in %g s", r.Limit.Count, float64(r.Limit.Ms)/1000)
			}
			if r.Pause != nil {
				out += " " + pauseText(of, r.Pause) + " apart"
			}
			return strings.TrimSpace(out)
		}
		checks := func(r *contract.Request) string {
			var out []string
			for _, q := range r.Checks {
				out = append(out, fmt.Sprintf("%s else %s %q", q.Text, q.Then, q.Reason))
			}
			return strings.Join(out, "; ")
		}
		c.aspect("request", name, "arguments", paramsText(x.Params), paramsText(y.Params), "")
		c.aspect("request", name, "reply", reply(x.Reply), reply(y.Reply), "")
		c.aspect("request", name, "from", c.a.WhoText(x.From), c.b.WhoText(y.From), "")
		c.aspect("request", name, "limit", limit(c.a, x), limit(c.b, y), "")
		c.aspect("request", name, "checks", checks(x), checks(y), "")
		if requestWords(c.a, x) != requestWords(c.b, y) {
			c.add(Difference{
				What:   "request",
				Name:   name,
				How:    Changed,
				Aspect: "body",
			})
		}
	})
}

// requestWords returns the words of a request's body, and of the names that its head gives.
func requestWords(c *contract.Contract, r *contract.Request) string {
	var out []string
	for _, s := range r.Head {
		if s.Op == contract.OpLet {
			out = append(out, spanWords(c, s.At))
		}
	}
	for _, s := range r.Body {
		out = append(out, spanWords(c, s.At))
	}
	return strings.Join(out, "; ")
}

// bodyWords returns the words of a handler or action, and "" for none.
func bodyWords(c *contract.Contract, b *contract.Body) string {
	if b == nil {
		return ""
	}
	return spanWords(c, b.At)
}

// spanWords returns the words of a part of a contract's text.
func spanWords(c *contract.Contract, at syntax.Span) string { return sourceWords(c, at.Start, at.End) }

// event compares two events of one name; the one that a version does not have is nil.
func (c *comparer) event(name string, x, y *contract.Event) {
	c.pair("event", name, x != nil, y != nil, func() {
		c.aspect("event", name, "arguments", paramsText(x.Params), paramsText(y.Params), "")
		c.aspect(
			"event", name, "clauses", map[bool]string{true: "loose"}[x.Loose], map[bool]string{true: "loose"}[y.Loose],
			"",
		)
	})
}

// contractEvents returns the events that belong to no kind.
func contractEvents(c *contract.Contract) []*contract.Event {
	return slices.DeleteFunc(slices.Clone(c.Events), func(e *contract.Event) bool { return e.Kind != nil })
}

// sourceWords returns a piece of the source without its comments, and with one blank for any number.
//
// A remark is what follows `//` outside of a text.
func sourceWords(c *contract.Contract, start, end int) string {
	if start < 0 || end > len(c.Source.Text) || start >= end {
		return ""
	}
	var out []string
	for _, line := range strings.Split(c.Source.Text[start:end], "\n") {
		if i := strings.Index(line, "//"); i >= 0 && strings.Count(line[:i], `"`)%2 == 0 {
			line = line[:i]
		}
		out = append(out, strings.Fields(line)...)
	}
	return strings.Join(out, " ")
}

// clients finds the names that clients of the first version know and that are not the same in the second one.
//
// It compares the outlines, which are all that a client knows. Names that only the second version has
// disturb nobody.
func (c *comparer) clients() {
	a := c.a.Outline()
	b := c.b.Outline()
	same := func(x, y any) bool {
		one, _ := json.Marshal(x) // plain data always marshals
		two, _ := json.Marshal(y)
		return bytes.Equal(one, two)
	}
	lose := func(name string) { c.out.Lose = append(c.out.Lose, name) }
	if a.Tick != b.Tick {
		lose("the number of ticks per second")
	}
	for _, k := range a.Kinds {
		l := b.Kind(k.Name)
		if l == nil || l.Per != k.Per || l.Shared != k.Shared {
			lose(k.Name)
			continue
		}
		for _, p := range k.Properties {
			if q := l.Property(p.Name); q == nil || !same(p, *q) {
				lose(k.Name + "." + p.Name)
			}
		}
		for _, r := range k.Requests {
			if q := l.Request(r.Name); q == nil || !same(r, *q) {
				lose(k.Name + "." + r.Name)
			}
		}
		c.lostEvents(k.Name+".", k.Events, l.Events, same)
	}
	c.lostEvents("", a.Events, b.Events, same)
	for _, x := range a.Constants {
		if !slices.ContainsFunc(b.Constants, func(y contract.ConstantOutline) bool { return same(x, y) }) {
			lose("the public constant " + x.Name)
		}
	}
	for _, x := range a.Settings {
		if !slices.ContainsFunc(b.Settings, func(y contract.SettingOutline) bool { return same(x, y) }) {
			lose("the public setting " + x.Name)
		}
	}
	c.out.Stay = len(c.out.Lose) == 0
}

// lostEvents adds the events of a that b does not have in the same form to what clients lose.
func (c *comparer) lostEvents(prefix string, a, b []contract.EventOutline, same func(x, y any) bool) {
	for _, e := range a {
		if !slices.ContainsFunc(b, func(f contract.EventOutline) bool { return same(e, f) }) {
			c.out.Lose = append(c.out.Lose, prefix+e.Name)
		}
	}
}

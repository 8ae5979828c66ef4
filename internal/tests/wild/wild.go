// Package wild makes random contracts for tests: right ones, with values of all audiences that flow, decide and count.
//
// Contract makes one that does things, for tests of leaks, drills and rules; Carried makes one of which only the values
// matter, with all clauses and audiences, for tests of replication. The same source of randomness gives the same text.
package wild

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Contract makes a random contract. Its first role, `player`, has a Diver each; `referee` is the other.
func Contract(r *rand.Rand) string {
	g := &maker{Rand: r, care: 3 + r.IntN(60)}
	return g.contract()
}

type maker struct {
	*rand.Rand
	b       strings.Builder
	kinds   []kind
	fns     int
	names   int // of queries
	friends bool
	rolled  []prop   // hidden numbers, in the present body
	care    int      // one statement of so many does not care who learns what
	acts    []string // of Diver
}

type kind struct {
	name  string
	to    string
	ints  []prop // 0..9
	bools []prop
	lists []prop // list<int 0..9> max 4
	refs  []prop // ref Diver
	times []prop // time 100ms..900ms
}

type prop struct{ name, to string }

// clause says who gets the property, in its declaration.
func (p prop) clause() string {
	if p.to == "" {
		return ""
	}
	return " to " + p.to
}

// place is where code stands: what it may name.
type place struct {
	kind     int // of self, -1 for none
	caller   bool
	referee  bool // the caller is one, who has no Diver
	body     bool // it may roll and change
	ints     []string
	entities map[string]int // names of entities, by kind
	depth    int
	reply    bool
	ending   bool // it is about to go
	// who learns of it: of which audience values of self may be used besides public ones; "any" does not care
	level string
}

// one returns one of some words.
func (g *maker) one(words ...string) string { return words[g.IntN(len(words))] }

// careful returns a level to code: mostly one that keeps to its audience.
func (g *maker) careful(at *place) *place {
	out := *at
	out.level = "any"
	if at.level != "" && at.level != "public" {
		return at
	}
	if !g.in(g.care) {
		out.level = "public"
		if at.level == "" && at.kind >= 0 && at.kind < len(g.kinds) && g.in(2) {
			k := &g.kinds[at.kind]
			for _, p := range append(append([]prop{}, k.ints...), k.bools...) {
				if p.to != "" && p.name != "held" && p.name != "w" && g.in(2) {
					out.level = p.to
				}
			}
		}
	}
	return &out
}

// reads returns the properties of an entity that code of a level may use.
func (g *maker) reads(at *place, e string, list []prop) []prop {
	var out []prop
	for _, p := range list {
		if p.to == "" || at.level == "any" || at.level == "nobody" || e == "self" && p.to == at.level ||
			at.caller && at.kind == diver && at.level == "caller" && p.to == "owner" &&
				(e == "self" || e == "caller.Diver") {
			out = append(out, p)
		}
	}
	return out
}

// stored returns those of some numbers that are not computed.
func stored(list []prop) (out []prop) {
	for _, p := range list {
		if p.name != "c" {
			out = append(out, p)
		}
	}
	return out
}

// writes returns the properties of an entity that code of a level may write.
func (g *maker) writes(at *place, e string, list []prop) []prop {
	var out []prop
	for _, p := range list {
		if p.name == "held" || p.name == "c" {
			continue
		}
		if at.level == "any" || at.level == "public" || at.level == "caller" || p.to == "nobody" ||
			e == "self" && p.to == at.level {
			out = append(out, p)
		}
	}
	return out
}

// some returns one of some properties, and whether there is any.
func (g *maker) some(list []prop) (prop, bool) {
	if len(list) == 0 {
		return prop{}, false
	}
	return list[g.IntN(len(list))], true
}

// in reports true once in n times.
func (g *maker) in(n int) bool { return g.IntN(n) == 0 }

// line adds a line to the contract.
func (g *maker) line(format string, args ...any) { fmt.Fprintf(&g.b, format+"\n", args...) }

const (
	dive  = 0
	diver = 1
	crate = 2
)

// audience returns an audience for a property or a kind; mostly none.
func (g *maker) audience(kind int) string {
	if g.in(2) {
		return ""
	}
	choices := []string{"nobody", "nobody", "referee", "told(self)"}
	switch kind {
	case diver:
		choices = []string{
			"nobody", "owner", "owner", "mates(self)", "everyone but owner", "referee", "owner or referee",
		}
		if g.friends {
			choices = append(choices, "friends(self)")
		}
	case crate:
		choices = []string{"nobody", "nobody", "owner", "referee", "everyone but owner"}
	}
	return g.one(choices...)
}

// properties declares the properties of a kind.
func (g *maker) properties(k *kind, index int) {
	for i := range 2 + g.IntN(3) {
		p := prop{fmt.Sprintf("n%d", i), g.audience(index)}
		k.ints = append(k.ints, p)
		extra := " clamped"
		if g.in(9) {
			extra = ""
		}
		if g.in(8) {
			extra += " at most 2 per second"
		}
		g.line("  %s: int 0..9 = %d%s%s", p.name, g.IntN(10), extra, p.clause())
	}
	for i := range g.IntN(3) {
		p := prop{fmt.Sprintf("b%d", i), g.audience(index)}
		k.bools = append(k.bools, p)
		g.line("  %s: bool = %s%s", p.name, g.one("true", "false"), p.clause())
	}
	if g.in(3) {
		p := prop{"bag", g.audience(index)}
		k.lists = append(k.lists, p)
		g.line("  bag: list<int 0..9> max 4 = [%d]%s", g.IntN(10), p.clause())
	}
	if g.in(3) {
		p := prop{"t", g.audience(index)}
		k.times = append(k.times, p)
		g.line("  t: time 100ms..900ms = %d00ms clamped%s", 1+g.IntN(4), p.clause())
	}
	if g.in(3) {
		p := prop{"buddy", g.audience(index)}
		k.refs = append(k.refs, p)
		g.line("  buddy: ref Diver = nothing%s", p.clause())
	}
	if g.in(3) {
		p := prop{"c", g.audience(index)}
		if p.to == "" && g.in(2) {
			p.to = "nobody"
		}
		clamped := " clamped"
		if index != dive && g.in(4) { // that of a shared kind would keep the session from being opened
			clamped = ""
		}
		g.line("  c: int 0..9%s := %s%s", clamped, g.computed(k, p), p.clause())
		k.ints = append(k.ints, p)
	}
	if index == diver {
		g.inputs(k)
	}
}

// inputs declares what divers write and hold themselves.
func (g *maker) inputs(k *kind) {
	if g.in(4) {
		p := prop{"w", g.audience(diver)}
		k.ints = append(k.ints, p)
		rule := ""
		if g.in(2) {
			rule = " when " + g.cond(g.careful(&place{kind: diver, level: "public", ints: []string{"old", "new"}}), 1)
		}
		g.line("  w: int 0..9 = 5%s set by owner pace abs(new - old) 8 per second burst 8%s", p.clause(), rule)
	}
	if g.in(5) {
		p := prop{"held", g.audience(diver)}
		k.bools = append(k.bools, p)
		g.line(
			"  hold held lease 500ms when %s%s", g.cond(g.careful(&place{kind: diver, level: "public"}), 1), p.clause(),
		)
	}
}

// computed returns what a computed property of a kind is computed from: mostly what those who get it may know.
func (g *maker) computed(k *kind, p prop) string {
	known := func(q prop) bool { return q.to == "" || q.to == p.to || p.to == "nobody" || g.in(g.care) }
	value := func() string {
		q := k.ints[g.IntN(len(k.ints))]
		if len(k.lists) > 0 && g.in(3) {
			q = prop{"bag.count()", k.lists[0].to}
		}
		if known(q) {
			return q.name
		}
		return fmt.Sprint(g.IntN(6))
	}
	if len(k.bools) > 0 && known(k.bools[0]) && g.in(2) {
		return fmt.Sprintf("if %s then %s else %s", k.bools[0].name, value(), value())
	}
	return g.one(
		value(), fmt.Sprintf("%s + %s", value(), value()), fmt.Sprintf("%s * 2 - %s", value(), value()),
		fmt.Sprintf("if %s > %s then 1 else 7", value(), value()), fmt.Sprintf("12 / (%s - 20)", value()),
	)
}

// contract writes the whole contract.
func (g *maker) contract() string {
	g.line("contract wild language 2\ntick 20 per second\nstrikes %s in 10s\nroles player, referee", g.one("8", "200"))
	g.line("audience mates(d: Diver) = viewer.Diver.crew == d.crew")
	g.friends = g.in(15)
	if g.friends {
		g.line("audience friends(d: Diver) = viewer.Diver.n0 == d.n0")
	}
	g.line("audience told(d: Dive) = d.phase == 2")
	names := []string{"Dive", "Diver", "Crate"}
	heads := []string{"shared Dive", "entity Diver per player", "entity Crate"}
	for i, head := range heads {
		k := kind{name: names[i]}
		g.kinds = append(g.kinds, k)
		if i == crate && g.in(2) {
			g.kinds[i].to = g.one("nobody", "referee", "owner")
			head += " to " + g.kinds[i].to
		}
		g.line("%s {", head)
		switch i {
		case dive:
			g.line("  phase: int 0..2 = 0\n  made: int 0..9 = 0 clamped")
			g.kinds[i].ints = append(g.kinds[i].ints, prop{"phase", ""})
		case diver:
			g.line("  crew: int 0..1 = 0")
			g.line("  n9: int 0..9 = 3 clamped\n  event e0(x: int 0..9)\n  event e1(x: int 0..9, who: ref Diver)")
			g.kinds[i].ints = append(g.kinds[i].ints, prop{"crew", ""}, prop{"n9", ""})
		}
		g.properties(&g.kinds[i], i)
		if i == dive {
			// What follows names members of the kinds below: it is written once they are known.
			g.line("§dive\n}")
			continue
		}
		g.line("§%s\n}", strings.ToLower(names[i]))
	}
	if g.in(2) {
		g.line(
			"fn f(n: int) -> int = clip(%s, 0..9)",
			g.int(g.careful(&place{kind: -1, level: "public", ints: []string{"n"}}), 2),
		)
		g.fns = 1
	}
	if g.in(2) {
		g.line(
			"on join(c) {\n%s}",
			g.begin(&place{kind: -1, body: true, entities: map[string]int{"c.Diver": diver}}, 1+g.IntN(2)),
		)
	}
	text := g.b.String()
	for i := range names {
		g.b.Reset()
		g.members(i)
		text = strings.Replace(text, "§"+strings.ToLower(names[i])+"\n", g.b.String(), 1)
	}
	return text
}

// members writes the requests, handlers and timers of a kind.
//
//revive:disable-next-line:function-length It is one text.
func (g *maker) members(i int) {
	k := &g.kinds[i]
	if i == diver && g.in(2) {
		g.line(
			"  action act(n: int 0..9) {\n%s  }", g.body(&place{kind: i, body: true, ints: []string{"n"}}, 1+g.IntN(2)),
		)
		g.acts = append(g.acts, "act")
	}
	for n := range []int{1, 2, 1}[i] + g.IntN(2) {
		from := g.one(" from everyone", " from player", " from player", " from referee")
		if i == diver && !g.in(3) {
			from = ""
		}
		reply := ""
		if g.in(6) {
			reply = " -> int 0..9"
		}
		at := &place{
			kind:    i,
			caller:  true,
			referee: from == " from referee" || from == " from everyone",
			ints:    []string{"a"},
		}
		other := ""
		if g.in(4) {
			other = ", o: ref Diver"
			at.entities = map[string]int{"o": diver}
		}
		g.line("  request r%d(a: int 0..9%s)%s%s", n, other, reply, from)
		at = g.careful(at)
		if at.level == "public" && g.in(2) {
			at.level = "caller"
		} else if at.level != "any" {
			at.level = "public"
		}
		if g.in(5) {
			g.line("    pause %s else deny \"not yet\"", g.time(k, "100ms", "250ms"))
		}
		for range g.IntN(2) {
			g.line("    check %s else %s \"no\"", g.cond(at, 1), g.one("deny", "deny", "strike"))
		}
		at.body = true
		at.reply = reply != ""
		if at.level != "any" {
			at.level = ""
		}
		g.line(
			"  {\n%s%s  }", g.body(at, 1+g.IntN(2)), map[bool]string{true: "    reply " + g.fit(g.int(g.careful(&place{
				kind:    i,
				caller:  true,
				referee: true,
				level:   "public",
			}), 1)) + "\n", false: ""}[reply != ""],
		)
	}
	for range g.IntN(2) {
		while := ""
		at := &place{kind: i, body: true}
		if g.in(2) {
			at = g.careful(at)
			at.body = false
			while = " while " + g.cond(at, 1)
			at.body = true
		}
		g.line("  every %s%s {\n%s  }", g.time(k, "100ms", "250ms", "400ms"), while, g.body(at, 1+g.IntN(2)))
	}
	if g.in(3) {
		p := k.ints[g.IntN(len(k.ints))]
		at := g.careful(&place{kind: i, body: true, level: "public"})
		if at.level != "any" && p.to != "" {
			at.level = p.to
		}
		body := g.body(at, 1)
		for range 8 { // what sets itself off is rare
			if strings.Contains(body, "self."+p.name+" ") {
				body = g.body(at, 1)
			}
		}
		if !strings.Contains(body, "self."+p.name+" ") || g.in(5) {
			g.line("  on change %s {\n%s  }", p.name, body)
		}
	}
	if i != dive && g.in(4) {
		g.line("  on spawn {\n%s%s  }", g.rolls(k), g.begin(&place{kind: i, body: true}, 1))
	}
	if i != dive && g.in(3) {
		g.line("  on despawn {\n%s  }", g.body(&place{kind: i, body: true, ending: true}, 1+g.IntN(2)))
	}
	if i == dive {
		g.line(
			"  on start {\n    %s    spawn Crate\n    spawn Crate\n    %sspawn Crate\n%s  }", g.rolls(k), g.perhaps(),
			g.begin(&place{kind: i, body: true}, g.IntN(2)),
		)
	}
}

// rolls returns hidden numbers of self first values that nobody can know.
func (g *maker) rolls(k *kind) string {
	out := ""
	g.rolled = nil
	for _, p := range k.ints {
		if p.to != "" && p.name != "w" && p.name != "c" && g.in(3) {
			g.rolled = append(g.rolled, p)
			out += fmt.Sprintf("    %s = roll(0..9)\n", p.name)
		}
	}
	return out
}

// time returns a time for code of a kind: mostly one of some literals, or one that everyone knows.
func (g *maker) time(k *kind, literals ...string) string {
	if len(k.times) > 0 && (k.times[0].to == "" || g.in(g.care)) {
		return g.one("t", "t + 50ms", "t * 2")
	}
	return g.one(literals...)
}

// perhaps lets the rest of a body depend on a hidden number that was rolled just now, rarely.
func (g *maker) perhaps() string {
	for _, p := range g.rolled {
		if g.in(g.care) {
			return g.one(
				fmt.Sprintf("if %s > 4 { return }\n    ", p.name), fmt.Sprintf("let never = 10 / %s\n    ", p.name),
			)
		}
	}
	return ""
}

// entity names an entity that is at hand, and its kind.
func (g *maker) entity(at *place) (string, int) {
	type choice struct {
		name string
		kind int
	}
	list := []choice{{"Dive", dive}}
	if at.kind >= 0 {
		list = append(list, choice{"self", at.kind}, choice{"self", at.kind}, choice{"self", at.kind})
	}
	if at.caller {
		if !at.referee {
			list = append(list, choice{"caller.Diver", diver})
		}
	}
	for _, name := range sorted(at.entities) {
		list = append(list, choice{name, at.entities[name]})
	}
	c := list[g.IntN(len(list))]
	if c.kind < len(g.kinds) && g.in(8) && len(g.reads(at, c.name, g.kinds[c.kind].refs)) > 0 {
		return c.name + ".buddy", diver // whoever that is
	}
	return c.name, c.kind
}

// sorted returns the keys of a map in order.
func sorted(m map[string]int) []string {
	var out []string
	for name := range m {
		out = append(out, name)
	}
	for i := range out {
		for j := range i {
			if out[i] < out[j] {
				out[i], out[j] = out[j], out[i]
			}
		}
	}
	return out
}

// int returns an expression that is a whole number.
func (g *maker) int(at *place, depth int) string {
	if depth <= 0 || g.in(3) {
		if len(at.ints) > 0 && g.in(2) {
			return g.one(at.ints...)
		}
		return fmt.Sprint(g.IntN(10))
	}
	switch g.IntN(11) {
	case 0:
		return fmt.Sprintf("(%s %s %s)", g.int(at, depth-1), g.one("+", "-"), g.int(at, depth-1))
	case 9:
		return fmt.Sprintf("(if %s then %s else %s)", g.cond(at, depth-1), g.int(at, depth-1), g.int(at, depth-1))
	case 10:
		g.names++
		name := fmt.Sprintf("i%d", g.names)
		return fmt.Sprintf("sum(%s in 0..clip(%s, 0..9): %s)", name, g.int(at, depth-1), name)
	case 1:
		if at.body && len(at.ints) >= 0 {
			return "roll(0..9)"
		}
	case 2:
		g.names++
		name := fmt.Sprintf("d%d", g.names)
		return fmt.Sprintf("count(%s in Diver where %s)", name, g.cond(g.with(at, name), depth-1))
	case 3:
		if g.fns > 0 {
			return fmt.Sprintf("f(%s)", g.int(at, depth-1))
		}
	case 4:
		if e, k := g.entity(at); len(g.kinds) > k && len(g.reads(at, e, g.kinds[k].lists)) > 0 {
			return e + ".bag.count()"
		}
	case 5:
		if g.in(4) {
			return fmt.Sprintf("length(words(\"{%s} {%s}\"))", g.int(at, depth-1), g.one("true", "1 > 2", "Dive.phase"))
		}
		g.names++
		return fmt.Sprintf("max(x%d in Diver: x%d.%s else 0)", g.names, g.names, g.one("n9", "crew"))
	}
	if e, k := g.entity(at); k < len(g.kinds) {
		if p, ok := g.some(g.reads(at, e, g.kinds[k].ints)); ok {
			return e + "." + p.name
		}
	}
	return fmt.Sprint(g.IntN(10))
}

// arranges returns a statement that puts the list of an entity in another order, or takes something out at its ends.
func (g *maker) arranges(at *place, e string) string {
	g.names++
	name := fmt.Sprintf("b%d", g.names)
	local := *at
	local.ints = append(append([]string{}, at.ints...), name)
	switch g.IntN(5) {
	case 0:
		return fmt.Sprintf("    sort %s in %s.bag by %s\n", name, e, g.int(&local, 2))
	case 1:
		return fmt.Sprintf("    %s.bag.shuffle()\n", e)
	case 2:
		return fmt.Sprintf("    if %s.bag.room() > 0 { %s.bag.put(%s, 0) }\n", e, e, g.fit(g.int(at, 1)))
	case 3:
		end := g.one("first", "last")
		return fmt.Sprintf(
			"    if %s.bag.count() > 0 {\n    let %s = %s.bag.take_%s()\n%s    }\n", e, name, e, end, g.stmt(&local),
		)
	}
	if at.depth >= 3 {
		return fmt.Sprintf("    %s.bag.take_first()\n", e)
	}
	return fmt.Sprintf("    for %si, %s in %s.bag {\n%s    }\n", name, name, e, g.stmt(&local))
}

// varying returns statements about a name that changes: under a condition, in a loop, or by way of a second one.
func (g *maker) varying(at *place, name string) string {
	local := *at
	local.ints = append(append([]string{}, at.ints...), name)
	change := fmt.Sprintf("    %s = clip(%s, -99..99)\n", name, g.int(&local, 2))
	switch g.IntN(4) {
	case 0:
		change = fmt.Sprintf("    if %s {\n%s    }\n", g.cond(at, 1), change)
	case 1:
		change = fmt.Sprintf("    for %si in 1..clip(%s, 0..3) {\n%s    }\n", name, g.int(at, 1), change)
	case 2: // what it was a round ago
		change = fmt.Sprintf(
			"    var %[1]sb = 0\n    for %[1]si in 1..3 {\n"+
				"    %[1]s = %[1]sb\n    %[1]sb = clip(%[2]s, -99..99)\n%[3]s    }\n",
			name, g.int(at, 1), g.stmt(&local),
		)
	}
	return fmt.Sprintf("    var %s = %s\n", name, g.int(at, 1)) + change + g.stmt(&local)
}

// with returns a place at which one more entity has a name.
func (g *maker) with(at *place, name string) *place {
	out := *at
	out.entities = map[string]int{name: diver}
	for n, k := range at.entities {
		out.entities[n] = k
	}
	return &out
}

// cond returns a condition.
func (g *maker) cond(at *place, depth int) string {
	switch g.IntN(8) {
	case 0:
		return fmt.Sprintf("not (%s)", g.cond(at, depth))
	case 1:
		if depth > 0 {
			return fmt.Sprintf("(%s %s %s)", g.cond(at, depth-1), g.one("and", "or"), g.cond(at, depth-1))
		}
	case 2:
		if e, k := g.entity(at); k < len(g.kinds) {
			if p, ok := g.some(g.reads(at, e, g.kinds[k].bools)); ok {
				return e + "." + p.name
			}
		}
	case 3:
		if e, k := g.entity(at); k < len(g.kinds) && len(g.reads(at, e, g.kinds[k].lists)) > 0 {
			return fmt.Sprintf("%s.bag.has(%d)", e, g.IntN(10))
		}
	case 4:
		if e, k := g.entity(at); k < len(g.kinds) && len(g.reads(at, e, g.kinds[k].refs)) > 0 {
			return strings.Replace(g.one("exists(§)", "§ == nothing"), "§", e+".buddy", 1)
		}
	}
	// Mostly a condition may hold or not.
	left := g.int(at, depth)
	for range 6 {
		if len(left) > 1 || left == "a" || left == "n" {
			break
		}
		left = g.int(at, max(depth, 1))
	}
	right := 2 + g.IntN(5)
	if strings.Contains(left, "phase") || strings.Contains(left, "crew") || strings.Contains(left, "count(") {
		right = 1
	}
	return fmt.Sprintf("%s + 0 %s %d", left, g.one("<", ">=", "==", "<", ">="), right)
}

// fit brings a number into 0..9.
func (g *maker) fit(n string) string {
	if g.in(12) {
		return n
	}
	return "clip(" + n + ", 0..9)"
}

// begin writes the body of what runs when something begins, where counting up would soon fail always.
func (g *maker) begin(at *place, n int) string {
	return strings.NewReplacer(" += ", " = ", " -= ", " = ", "Dive.made = 1", "Dive.made += 1").Replace(g.body(at, n))
}

// body returns n statements.
func (g *maker) body(at *place, n int) string {
	var b strings.Builder
	local := *at
	for range n {
		at := g.careful(&local)
		b.WriteString(g.stmt(at))
	}
	return b.String()
}

//
//revive:disable-next-line:function-length It is one switch.
func (g *maker) stmt(at *place) string {
	at.depth++
	defer func() { at.depth-- }()
	inner := func() string {
		local := *at
		return g.stmt(&local)
	}
	loud := at.level == "any" || at.level == "public" || at.level == "caller"
	switch g.IntN(14) {
	case 0:
		if at.depth < 3 {
			other := ""
			if g.in(3) {
				other = " else {\n" + inner() + "    }"
			}
			return fmt.Sprintf("    if %s {\n%s    }%s\n", g.cond(at, 1), inner(), other)
		}
	case 1:
		if at.depth < 3 {
			name := fmt.Sprintf("x%d", g.IntN(1000))
			if g.in(4) {
				local := *at
				local.ints = append(append([]string{}, at.ints...), name)
				return fmt.Sprintf("    for %s in 1..clip(%s, 0..3) {\n%s    }\n", name, g.int(at, 1), g.stmt(&local))
			}
			local := g.with(at, name)
			return fmt.Sprintf("    for %s in Diver where %s {\n%s    }\n", name, g.cond(local, 0), g.stmt(local))
		}
	case 2:
		if g.in(4) && at.depth < 3 {
			name := fmt.Sprintf("w%d", g.IntN(100000))
			local := g.with(at, name)
			out := fmt.Sprintf(
				"    let %s = first(z in Diver where %s else nothing)\n", name, g.cond(g.with(at, "z"), 0),
			)
			if g.in(3) {
				out = fmt.Sprintf(
					"    let %s = if %s then nothing else first(z in Diver where %s else nothing)\n",
					name, g.cond(at, 0), g.cond(g.with(at, "z"), 0),
				)
			}
			return out + g.stmt(local)
		}
		name := fmt.Sprintf("v%d", g.IntN(100000))
		if g.in(3) && at.depth < 3 {
			return g.varying(at, name)
		}
		out := fmt.Sprintf("    let %s = %s\n", name, g.int(at, 2))
		at.ints = append(append([]string{}, at.ints...), name)
		return out + g.stmt(at)
	case 3, 4:
		if !loud {
			break
		}
		who := g.one("everyone", "everyone", "referee")
		if at.kind == diver {
			who = g.one("everyone", "owner", "mates(self)", "referee")
		}
		if at.caller && g.in(2) {
			who = "caller"
		}
		on := ""
		if at.kind != diver {
			e, k := g.entity(at)
			if k != diver {
				break
			}
			on = e + "."
		}
		if g.in(3) {
			e, k := g.entity(at)
			who2 := "nothing"
			if k < len(g.kinds) && len(g.reads(at, e, g.kinds[k].refs)) > 0 {
				who2 = e + ".buddy"
			}
			return fmt.Sprintf("    tell %s %se1(%s, %s)\n", who, on, g.fit(g.int(at, 2)), who2)
		}
		return fmt.Sprintf("    tell %s %se0(%s)\n", who, on, g.fit(g.int(at, 2)))
	case 5:
		if len(g.kinds) > crate && loud {
			sets := ""
			if p := stored(g.kinds[crate].ints); len(p) > 0 {
				sets = fmt.Sprintf("%s = %s", p[g.IntN(len(p))].name, g.fit(g.int(at, 1)))
			}
			out := fmt.Sprintf("    if Dive.made < 8 {\n    Dive.made += 1\n    spawn Crate { %s }\n    }\n", sets)
			if at.caller && g.kinds[crate].to == "owner" {
				name := fmt.Sprintf("s%d", g.IntN(100000))
				out = fmt.Sprintf("    let %s = spawn Crate { %s }\n    give %s to caller\n", name, sets, name)
			}
			return out
		}
	case 6:
		if at.kind == crate && loud && !at.ending {
			return "    despawn self\n"
		}
	case 7:
		if e, k := g.entity(at); k < len(g.kinds) && len(g.writes(at, e, g.kinds[k].lists)) > 0 {
			if g.in(2) {
				return fmt.Sprintf("    if %s.bag.room() > 0 { %s.bag.put(%s) }\n", e, e, g.fit(g.int(at, 1)))
			}
			if g.in(2) {
				return g.arranges(at, e)
			}
			return g.one(
				fmt.Sprintf("    %s.bag.clear()\n", e), fmt.Sprintf("    %s.bag.put(%s)\n", e, g.fit(g.int(at, 0))),
			)
		}
	case 8:
		if e, k := g.entity(at); k < len(g.kinds) && len(g.writes(at, e, g.kinds[k].refs)) > 0 {
			return fmt.Sprintf(
				"    %s.buddy = %s\n", e,
				g.one("nothing", "first(y in Diver else nothing)", "first(y in Diver where y.crew == 1 else nothing)"),
			)
		}
	case 9:
		if len(g.acts) > 0 && at.kind == diver && at.depth < 3 {
			later := "after " + g.time(&g.kinds[diver], "200ms") + " "
			return "    " + g.one("", later) + "do act(" + g.fit(g.int(at, 1)) + ")\n"
		}
	case 10:
		if e, k := g.entity(at); k < len(g.kinds) {
			if p, ok := g.some(g.writes(at, e, g.kinds[k].times)); ok && g.in(2) {
				return fmt.Sprintf("    %s.%s = 100ms * %s\n", e, p.name, g.fit(g.int(at, 1)))
			}
			if p, ok := g.some(g.writes(at, e, g.kinds[k].bools)); ok {
				return fmt.Sprintf("    %s.%s = %s\n", e, p.name, g.cond(at, 1))
			}
		}
	case 11:
		if at.caller && !at.reply && loud && g.in(2) {
			return fmt.Sprintf("    if %s { deny \"not now\" }\n", g.cond(at, 1))
		}
		if g.in(3) && loud {
			return fmt.Sprintf("    log everyone \"it is {%s}\"\n", g.int(at, 1))
		}
	}
	e, k := g.entity(at)
	if k >= len(g.kinds) {
		return "    log referee \"nothing\"\n"
	}
	p, ok := g.some(g.writes(at, e, g.kinds[k].ints))
	if !ok {
		p, ok = g.some(g.writes(at, "self", g.own(at)))
		if !ok {
			return "    if 1 > 2 { log everyone \"never\" }\n"
		}
		e = "self"
	}
	if p.name == "phase" || p.name == "crew" {
		high := map[string]int{"phase": 2, "crew": 1}[p.name]
		return fmt.Sprintf("    %s.%s = clip(%s, 0..%d)\n", e, p.name, g.int(at, 1), high)
	}
	return fmt.Sprintf("    %s.%s %s %s\n", e, p.name, g.one("=", "=", "+=", "-="), g.fit(g.int(at, 2)))
}

// own returns the numbers of self.
func (g *maker) own(at *place) []prop {
	if at.kind < 0 || at.kind >= len(g.kinds) {
		return nil
	}
	return g.kinds[at.kind].ints
}

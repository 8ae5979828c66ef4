package audit

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// The attacks, in the order of the report's columns.
const (
	NotOwner   = "not the owner"
	Role       = "another role"
	MadeUp     = "a made-up entity"
	Despawned  = "an entity that is gone"
	Invisible  = "an entity not to be seen"
	WrongKind  = "an entity of another kind"
	WrongType  = "values of wrong types"
	OutOfRange = "values out of range"
	Count      = "too few or many values"
	Unknown    = "unknown names"
	Checks     = "each check false"
	TooFast    = "too fast"
	Repeated   = "sent again"
	Disordered = "out of order"
	Unready    = "before ready"
	Left       = "after leaving"
	Broken     = "broken frames"
	Reads      = "reading"
)

// Attacks lists them.
var Attacks = []string{
	NotOwner, Role, MadeUp, Despawned, Invisible, WrongKind, WrongType, OutOfRange, Count, Unknown, Checks, TooFast,
	Repeated, Disordered, Unready, Left, Broken, Reads,
}

// The sorts of what is attacked.
const (
	OfRequest = "request"
	OfHold    = "hold"
	OfWrite   = "write"
	OfValue   = "value"
)

// target is what is attacked: a request, a hold or a property.
type target struct {
	sort    string // OfRequest, OfHold, OfWrite or OfValue
	kind    *contract.Kind
	outline *contract.KindOutline // of kind
	request *contract.Request     // of OfRequest, else nil
	prop    *contract.Property    // of the other sorts, else nil
	cells   map[string]*Cell      // by attack: how often it was tried, and what came of it
	seen    []verdict             // of each check
}

// verdict holds whether a check was seen to hold and to fail.
type verdict struct{ yes, no bool }

// name returns the name of the request or property.
func (t *target) name() string {
	if t.request != nil {
		return t.request.FullName()
	}
	return t.kind.Name + "." + t.prop.Name
}

// targets returns what can be attacked.
//
// What the outline lacks no client can send: of such a kind only the values are targets, since they may
// still be learned.
func targets(c *contract.Contract, o *contract.Outline) (out []*target) {
	for _, k := range c.Kinds {
		kind := o.Kind(k.Name)
		add := func(t *target) {
			t.kind, t.outline, t.cells = k, kind, map[string]*Cell{}
			for _, a := range Attacks {
				t.cells[a] = &Cell{Outcomes: map[string]int{}}
			}
			out = append(out, t)
		}
		for _, r := range k.Requests {
			if kind != nil {
				add(&target{sort: OfRequest, request: r, seen: make([]verdict, len(r.Checks))})
			}
		}
		for _, p := range k.Properties {
			switch {
			case p.Hold != nil && kind != nil:
				add(&target{sort: OfHold, prop: p})
			case p.Set != nil && kind != nil:
				add(&target{sort: OfWrite, prop: p})
			default:
				add(&target{sort: OfValue, prop: p})
			}
		}
	}
	return out
}

// attack is one message of a cheater.
type attack struct {
	of     *target
	what   string // one of Attacks
	class  string // of its values, for counting
	must   bool   // it must not be accepted
	m      wire.FromClient
	repeat int // how often it is sent with new numbers; 0 for once
	again  bool
	old    bool // with a number that was used before
	lost   bool // nobody is to hear of it: who sends it is out
}

// forger makes attacks from what a client holds. Its owner sets copy, me and gone before each attack.
type forger struct {
	contract *contract.Contract
	outline  *contract.Outline
	actor    *play.Actor // picks legal values
	copy     *replicate.Copy
	me       wire.Client
	gone     []uint32                 // numbers of entities that are gone
	kinds    map[uint32]string        // of all entities that ever were
	hidden   func(kind string) uint32 // an entity of a kind that the client does not know of; 0 for none
	r        *rand.Rand               // where all choices come from
}

// raw returns JSON texts as arguments.
func raw(words ...string) (out []json.RawMessage) {
	for _, w := range words {
		out = append(out, json.RawMessage(w))
	}
	return out
}

// params returns the types of what a target takes.
func (t *target) params() (out []*contract.Type) {
	if t.request != nil {
		for _, p := range t.request.Params {
			out = append(out, p.Type)
		}
	} else if t.sort == OfWrite {
		out = append(out, t.prop.Type)
	}
	return out
}

// message makes the message for some values.
//
// It has no numbers yet; who sends it gives it those.
func (t *target) message(entity uint32, values []json.RawMessage) wire.FromClient {
	m := wire.FromClient{Type: wire.MessageAsk}
	m.Request = t.name()
	m.Entity = entity
	switch t.sort {
	case OfRequest:
		m.Args = values
		if values == nil {
			m.Args = []json.RawMessage{}
		}
	case OfWrite:
		m.Type, m.Request, m.Property, m.Value = "write", "", t.name(), json.RawMessage("null")
		if len(values) > 0 {
			m.Value = values[0]
		}
	default:
		m.Type, m.Request, m.Property, m.Press = "press", "", t.name(), 1
	}
	return m
}

// legal picks values of the right types.
func (f *forger) legal(t *target) (out []json.RawMessage) {
	for _, p := range t.params() {
		out = append(out, p.AppendJSON(nil, f.actor.Value(f.copy, p)))
	}
	return out
}

// entity picks an entity of a target's kind that is, or is not, the attacker's own; 0 for none.
//
// It picks by the attacker's copy: what it does not see it can only guess.
func (f *forger) entity(t *target, own bool) uint32 {
	var list []uint32
	for _, x := range f.copy.Entities() {
		if x.Kind == t.kind.Name && (x.Owner == f.me.Number) == own {
			list = append(list, x.Number)
		}
	}
	if len(list) == 0 {
		return 0
	}
	return list[f.r.IntN(len(list))]
}

// onlyOwner reports whether nobody but the owner may use a target.
func (t *target) onlyOwner() bool {
	switch t.sort {
	case OfRequest:
		return len(t.request.From) == 1 && t.request.From[0].Sort == contract.ToOwner
	case OfWrite:
		return t.prop.Set.Owner
	}
	return true
}

// barred reports whether a role may never use a target.
//
// A role that may use it only sometimes is not barred.
func (t *target) barred(c *contract.Contract, role string) bool {
	if t.sort != OfRequest {
		return false
	}
	reach := c.ReachOf(contract.Some, t.request.From)
	bit := uint64(1) << slices.Index(c.Roles, role)
	return (reach.Yes|reach.Maybe)&bit == 0
}

// make returns the attacks of one sort that can be made now.
//
// The result is empty when the attacker's copy, or the target, has nothing for it: another state may.
// must of each says whether an acceptance is an effect by itself.
//
//revive:disable-next-line:function-length It is one switch.
func (f *forger) make(t *target, what string) []attack {
	one := func(class string, must bool, m wire.FromClient) []attack {
		return []attack{{of: t, what: what, class: class, must: must, m: m}}
	}
	mine := f.entity(t, true)
	any := mine
	if any == 0 {
		any = f.entity(t, false)
	}
	own := uint32(0) // the one of a shared kind, or the attacker's own
	if !t.kind.Shared && t.kind.Per < 0 {
		own = any
		if own == 0 {
			return nil
		}
	}
	legal := f.legal(t)
	switch what {
	case NotOwner:
		if e := f.entity(t, false); e != 0 && f.owned(e) {
			return one("foreign", t.onlyOwner(), t.message(e, legal))
		} else if e != 0 && t.onlyOwner() {
			return one("the server's", true, t.message(e, legal))
		}
	case Role:
		if t.barred(f.contract, f.me.Role) && any != 0 {
			return one(f.me.Role, true, t.message(own, legal))
		}
	case MadeUp:
		n := f.r.Uint32() | 1
		if _, real := f.kinds[n]; !real {
			return one("random", true, t.message(n, legal))
		}
	case Despawned:
		if len(f.gone) > 0 {
			n := f.gone[f.r.IntN(len(f.gone))]
			class := "of another kind"
			if f.kinds[n] == t.kind.Name {
				class = "of its kind"
			}
			return one(class, true, t.message(n, legal))
		}
	case Invisible:
		if n := f.hidden(t.kind.Name); n != 0 && t.kind.To != contract.Everyone {
			return one("of its kind", true, t.message(n, legal))
		}
	case WrongKind:
		for _, x := range f.copy.Entities() {
			if x.Kind != t.kind.Name && f.r.IntN(3) == 0 {
				return one(x.Kind, true, t.message(x.Number, legal))
			}
		}
	case WrongType, OutOfRange, Unknown:
		return f.values(t, what, own, legal)
	case Count:
		if t.sort == OfRequest {
			more := one("one more", true, t.message(own, append(slices.Clone(legal), raw("1")...)))
			if len(legal) > 0 {
				return append(more, one("one less", true, t.message(own, legal[1:]))...)
			}
			return more
		}
	case Checks:
		if t.sort == OfRequest && len(t.request.Checks) > 0 || t.sort == OfWrite {
			out := one("legal", false, t.message(own, legal))
			if e := f.entity(t, false); e != 0 && !t.onlyOwner() {
				out = append(out, one("another", false, t.message(e, legal))...)
			}
			return out
		}
	case TooFast:
		if t.sort == OfRequest && (t.request.Limit != nil || t.request.Pause != nil) {
			n := 3
			if t.request.Limit != nil {
				n += min(t.request.Limit.Count, 20)
			}
			return []attack{{of: t, what: what, class: "a burst", m: t.message(own, legal), repeat: n}}
		}
	case Repeated:
		if t.sort == OfRequest {
			return []attack{{of: t, what: what, class: "twice", m: t.message(own, legal), again: true}}
		}
	case Disordered:
		if t.sort == OfRequest {
			return []attack{{
				of:    t,
				what:  what,
				class: "an old number",
				must:  true,
				m:     t.message(own, legal),
				old:   true,
			}}
		}
	}
	return nil
}

// owned reports whether the client holds an entity that somebody else owns.
func (f *forger) owned(n uint32) bool {
	x := f.copy.Entity(n)
	return x != nil && x.Owner != 0 && x.Owner != f.me.Number
}

// values forges one value after the other, the others being right.
//
// So an acceptance can only be due to the value that is wrong.
func (f *forger) values(t *target, what string, own uint32, legal []json.RawMessage) (out []attack) {
	for i, p := range t.params() {
		for _, bad := range wrongValues(p, what) {
			list := slices.Clone(legal)
			list[i] = json.RawMessage(bad.json)
			out = append(out, attack{
				of:    t,
				what:  what,
				class: fmt.Sprintf("%d %s", i, bad.class),
				must:  bad.must,
				m:     t.message(own, list),
			})
		}
	}
	return out
}

// badValue is a value that is sent in place of a right one: what is wrong with it, for counting, its
// JSON, and whether it must not be accepted.
type badValue struct {
	class, json string
	must        bool
}

// unknownName returns a name that is no value of an enum or kind.
//
// It is not random, so that audits can be compared.
func unknownName(t *contract.Type) string {
	known := t.Names
	if t.Enum != nil {
		known = t.Enum.Values
	}
	name := "driftwood"
	for slices.Contains(known, name) {
		name += "_"
	}
	return name
}

// encoded returns a text as JSON.
func encoded(text string) []byte {
	raw, _ := json.Marshal(text) // a text always marshals
	return raw
}

// farthest is the greatest whole number that JSON carries exactly to every client, and its negative the least.
const farthest = 1<<53 - 1

// wrongValues returns values that a type does not have; those out of range come with the shortest and the longest that
// it has.
//
// A number that is just over a range is one that JSON and a double hold exactly. A text or list that is
// empty or as long as can be is legal, and sent because bounds are easily off by one.
//
//revive:disable-next-line:function-length It is one switch.
func wrongValues(t *contract.Type, what string) (out []badValue) {
	add := func(class, json string) { out = append(out, badValue{class, json, true}) }
	edge := func(class string, json []byte) { out = append(out, badValue{class, string(json), false}) }
	number := t.Whole() || t.Form == contract.FormReal
	whole := strings.Repeat
	switch what {
	case WrongType:
		if t.Form != contract.FormText && t.Form != contract.FormEnum && t.Form != contract.FormKind {
			add("a text", `"drop everything"`)
		} else {
			add("a number", "7")
		}
		if number || t.Form == contract.FormVec2 || t.Form == contract.FormVec3 || t.Form == contract.FormDirection {
			add("not a number", `"NaN"`)
			add("infinite", "1e999")
		}
		if t.Form != contract.FormBool {
			add("a truth", "true")
		}
		if t.Form != contract.FormRecord {
			add("a record", `{"x":1}`)
		}
		if t.Form != contract.FormEntity && t.Form != contract.FormClient {
			add("null", "null")
		}
		add("a deep list", whole("[", 40)+whole("]", 40))
	case OutOfRange:
		switch t.Form {
		case contract.FormInt, contract.FormTime:
			if t.High < farthest {
				add("just over", fmt.Sprint(t.High+1))
				add("far over", fmt.Sprint(int64(farthest)))
			}
			if t.Low > -farthest {
				add("just under", fmt.Sprint(t.Low-1))
				add("far under", fmt.Sprint(int64(-farthest)))
			}
			edge("the least", t.AppendJSON(nil, contract.Value{Num: t.Low}))
			edge("the most", t.AppendJSON(nil, contract.Value{Num: t.High}))
		case contract.FormReal:
			add("just over", fmt.Sprint(t.Real(t.High)+2*t.Real(1)))
			add("far over", "1e300")
			add("far under", "-1e300")
			edge("the least", t.AppendJSON(nil, contract.Value{Num: t.Low}))
			edge("the most", t.AppendJSON(nil, contract.Value{Num: t.High}))
		case contract.FormVec2, contract.FormVec3:
			rest := strings.Repeat(",0", t.Reals()-1)
			add("just over", fmt.Sprintf("[%g%s]", t.Real(t.High)+2*t.Real(1), rest))
			add("far over", "[1e300"+rest+"]")
			add("far under", "[-1e300"+rest+"]")
			add("one part more", "[0,0"+rest+"]")
		case contract.FormText:
			right := string(t.Character(true))
			text := func(s string) []byte { return t.AppendJSON(nil, contract.Value{Text: s}) }
			add("too long", string(text(whole(right, t.Max+1))))
			add("far too long", string(text(whole(right, min(8000, 20*t.Max+100)))))
			if wrong := t.Character(false); wrong != 0 {
				add("another character", string(text(string(wrong))))
			}
			edge("empty", text(""))
			edge("the longest", text(whole(right, t.Max)))
		case contract.FormList, contract.FormStacks, contract.FormMap:
			add("too long", "["+strings.TrimSuffix(whole("0,", t.Max+1), ",")+"]")
			edge("empty", t.AppendJSON(nil, contract.Value{}))
		}
	case Unknown:
		switch t.Form {
		case contract.FormEnum, contract.FormKind:
			add("an unknown value", string(encoded(unknownName(t))))
			add("an empty value", `""`)
		case contract.FormEntity:
			out = append(out, badValue{"a made-up entity", "4023233417", false})
		case contract.FormClient:
			out = append(out, badValue{"a client that is not there", "4711", false})
		}
	}
	return out
}

// can reports whether an attack applies to a target at all; the reason says why not.
//
// It goes by the contract alone. An empty reason means that it applies, and that a cell without a try
// was not reached.
//
//revive:disable-next-line:function-length It is one switch.
func (t *target) can(c *contract.Contract, what string) (reason string) {
	params := t.params()
	takes := func(what string) bool {
		return slices.ContainsFunc(params, func(p *contract.Type) bool { return len(wrongValues(p, what)) > 0 })
	}
	if t.sort == OfValue {
		if what == Reads {
			return ""
		}
		return "no client can send it"
	}
	switch what {
	case Reads:
		return "it is no value"
	case NotOwner:
		if t.kind.Shared && t.request != nil && !t.onlyOwner() {
			return "it belongs to nobody and is open to others"
		}
		if t.sort == OfRequest && !t.onlyOwner() && t.kind.Per < 0 {
			return "it is open to others than the owner"
		}
	case Role:
		if t.sort != OfRequest {
			return "it depends on the owner alone"
		}
		if !slices.ContainsFunc(c.Roles, func(r string) bool { return t.barred(c, r) }) {
			return "every role may"
		}
	case WrongKind:
		if !slices.ContainsFunc(c.Kinds, func(k *contract.Kind) bool { return k != t.kind && k.Visible() }) {
			return "there is no other kind"
		}
	case Invisible:
		if t.kind.To == contract.Everyone {
			return "all see all of its kind"
		}
	case WrongType, OutOfRange, Unknown:
		if len(params) == 0 {
			return "it takes no values"
		}
		if !takes(what) {
			return "no value of its types is such"
		}
	case Count, Repeated, Disordered:
		if t.sort != OfRequest {
			return "it is no request"
		}
	case Checks:
		if t.sort == OfHold {
			return "its condition is no check"
		}
		if t.sort == OfRequest && len(t.request.Checks) == 0 {
			return "it has no check"
		}
	case TooFast:
		if t.sort == OfWrite {
			return "its pace is a check"
		}
		if t.request == nil || t.request.Limit == nil && t.request.Pause == nil {
			return "it has no limit and no pause"
		}
	}
	return ""
}

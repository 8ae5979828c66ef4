package typing

import (
	"fmt"
	"math"
	"math/big"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// Place says where a type stands, and so what it may be.
type Place int

// The places of types.
const (
	InProperty Place = iota
	InMessage        // an argument of a request or event, a reply, a field of a record
	InBody           // an argument of an action, function or audience: ranges may be left out
)

// maxChars is how many bytes a list of characters such as "a-z0-9" may have.
const maxChars = 200

// plain are the types that need no range in an argument of an action, function or audience.
var plain = map[string]contract.Form{
	"int":  contract.FormInt,
	"real": contract.FormReal,
	"text": contract.FormText,
	"vec2": contract.FormVec2,
	"vec3": contract.FormVec3,
	"time": contract.FormTime,
}

// Type reads a type. It is nil when there was a mistake; it has been told.
//
// A declared type (`type Place = vec2 …`) brings its bounds along, so a use of it may not narrow them:
// two places with the same name have to be of the same width on the wire. Stacks belong to properties
// alone, since a message has no container that outlives it.
func (c *Unit) Type(d *syntax.Type, at Place) *contract.Type {
	t := c.plainType(d, at)
	if t == nil {
		return nil
	}
	// plainType has just read the alias, if it is one, so that Types knows it.
	alias := c.Types[d.Name.Text] != nil
	reals := t.Reals() > 0 && !alias
	ranged := t.Whole() || t.Form == contract.FormReal ||
		t.Form == contract.FormVec2 || t.Form == contract.FormVec3
	wrong := d.Low != nil && !ranged ||
		d.Step != nil && !reals && t.Form != contract.FormDirection ||
		d.Max != nil && t.Form != contract.FormText && !t.Holder() ||
		d.Each != nil && t.Form != contract.FormStacks ||
		d.Chars != nil && t.Form != contract.FormText
	if wrong || alias && (d.Low != nil || d.Step != nil || d.Max != nil || d.Chars != nil) {
		c.Fail(
			d.At, "no-bound", fmt.Sprintf("a value of the type %s has no such bound", d.Name.Text),
			"int, time, real and vectors have a range, reals and vectors a step, text, lists and maps max, stacks max "+
				"and each",
		)
		return nil
	}
	c.packing(d, t)
	if d.Slotted != nil && t.Form != contract.FormStacks {
		c.Fail(
			*d.Slotted, "no-bound", fmt.Sprintf("a value of the type %s has no slots", d.Name.Text),
			"stacks have: stacks<Item> max 8 each 5 slotted",
		)
		return nil
	}
	if at == InBody && t.Form == contract.FormStacks && !c.NeedsLanguage2(d.At, "stacks as an argument") {
		return nil
	}
	if at == InMessage && t.Form == contract.FormStacks {
		c.Fail(d.At, "wrong-type", "stacks stand only in a property", "send an item and a count")
		return nil
	}
	return t
}

// packing reads `wrapping` and `small`, which say how a type's values are packed, and the first also which they are.
// What is wrong there leaves the type as it is without them.
func (c *Unit) packing(d *syntax.Type, t *contract.Type) {
	at := d.Wraps
	if at == nil {
		at = d.Small
	}
	if at == nil || !c.NeedsLanguage2(*at, "a type that says how it is packed") {
		return
	}
	isNumber := t.Form == contract.FormInt || t.Form == contract.FormReal
	switch {
	case d.Wraps == nil:
	case d.Low == nil || !isNumber:
		c.Fail(
			*d.Wraps, "no-bound", "only an int or a real has a range that may wrap",
			"as in `real 0..359.5 step 0.5 wrapping`",
		)
	case uint64(t.High)-uint64(t.Low) >= contract.MaxWrapped:
		c.Fail(*d.Wraps, "out-of-range", "the range is too long to wrap", "at most 2^53 values")
	default:
		t.Wraps = true
	}
	t.Small = d.Small != nil && d.Low != nil
	if d.Small != nil && !t.Small {
		c.Fail(
			*d.Small, "no-bound", fmt.Sprintf("a value of the type %s has no small differences", d.Name.Text),
			"int, time, real and vectors do",
		)
	}
}

// plainType reads a type by its name: one of the language, an enum, a declared type, or in a body a kind. It does not
// look at bounds that the type may not have.
//
// The types of the language come first: no declaration can be called after one of them. A kind's name
// is a type in a body only, where it stands for a ref.
//
//revive:disable-next-line:function-length It is one switch.
func (c *Unit) plainType(d *syntax.Type, at Place) *contract.Type {
	name := d.Name.Text
	// Arguments of bodies never travel: no range is needed to count their bits.
	if form, ok := plain[name]; ok && at == InBody && d.Low == nil && d.Max == nil && d.Step == nil {
		return &contract.Type{Form: form}
	}
	switch name {
	case "bool":
		return &contract.Type{Form: contract.FormBool}
	case "client":
		return &contract.Type{Form: contract.FormClient}
	case "instant":
		return &contract.Type{Form: contract.FormInstant}
	case "int":
		return c.int(d)
	case "time":
		return c.time(d)
	case "real", "vec2", "vec3":
		return c.reals(d, contract.Form(name))
	case "direction", "rotation":
		return c.turns(d, contract.Form(name))
	case "text":
		return c.text(d)
	case "stacks":
		return c.stacks(d)
	case "list", "map":
		return c.holder(d)
	case "ref":
		if d.Ref.Text == "" {
			c.Fail(d.At, "no-range", "this ref does not say to what", "name a kind or part: ref Diver")
			return nil
		}
		return c.refTo(d.Ref)
	case "kind":
		return c.kindOf(d)
	}
	if e := c.Enums[name]; e != nil {
		c.Used[e] = true
		return &contract.Type{Form: contract.FormEnum, Enum: e}
	}
	if tree := c.Aliases[name]; tree != nil {
		c.Used[tree] = true
		return c.Alias(tree)
	}
	if c.Kinds[name] != nil || c.Parts[name] != nil {
		if at == InBody {
			return c.refTo(d.Name)
		}
		c.Fail(
			d.Name.At, "wrong-type", fmt.Sprintf("`%s` is a kind, not a type", name),
			"a reference to one is `ref "+name+"`",
		)
		return nil
	}
	known := append(
		append(Names(c.Enums), Names(c.Aliases)...), "bool", "int", "real", "text", "vec2", "vec3", "direction",
		"rotation", "stacks", "list", "map", "ref", "client", "instant", "time", "kind",
	)
	c.Fail(
		d.Name.At, "unknown-type", fmt.Sprintf("the type `%s` is not known", name),
		Suggest(
			name, known,
			"one of bool, int 0..100, real 0..1 step 0.01, text max 40, vec2 -9..9 step 0.1, list<T> max 8, "+
				"stacks<Item> max 6 each 5, ref Diver, client, or an enum or type that is declared",
		),
	)
	return nil
}

// int reads `int LOW..HIGH`.
//
// Both ends are inclusive. Their distance may be more than an int64 holds: whoever counts the values of
// the type has to count without a sign.
func (c *Unit) int(d *syntax.Type) *contract.Type {
	low, ok1 := d.Low.(*syntax.Number)
	high, ok2 := d.High.(*syntax.Number)
	if !ok1 || !ok2 {
		c.Fail(d.At, "no-range", "this int has no range", "say the least and the greatest value: int 0..100")
		return nil
	}
	if low.Value > high.Value {
		c.Fail(
			d.At, "out-of-range", fmt.Sprintf("the range %d..%d is empty", low.Value, high.Value),
			"the least value stands first",
		)
		return nil
	}
	if low.Value == 0 && high.Value == 0 && !c.Unread {
		c.Fail(d.At, "out-of-range", "the range 0..0 holds nothing but 0", "give it a greater range, or leave it out")
		return nil
	}
	return &contract.Type{Form: contract.FormInt, Low: low.Value, High: high.Value}
}

// time reads `time LOW..HIGH`, in milliseconds.
func (c *Unit) time(d *syntax.Type) *contract.Type {
	if !c.NeedsLanguage2(d.At, "a time that is stored or sent") {
		return nil
	}
	low, ok1 := d.Low.(*syntax.Time)
	high, ok2 := d.High.(*syntax.Time)
	if !ok1 || !ok2 {
		c.Fail(d.At, "no-range", "this time has no range", "say the shortest and the longest: time 0s..10min")
		return nil
	}
	if low.Ms > high.Ms || low.Ms == 0 && high.Ms == 0 {
		c.Fail(
			d.At, "out-of-range",
			fmt.Sprintf("the range %s..%s is empty", contract.TimeText(low.Ms), contract.TimeText(high.Ms)),
			"the shortest time stands first",
		)
		return nil
	}
	return &contract.Type{Form: contract.FormTime, Low: low.Ms, High: high.Ms}
}

// text reads `text max N of "CHARACTERS"`.
//
// N counts characters as the reference defines them, from 1 to contract.MaxText. Without CHARACTERS any
// character may stand in the text.
func (c *Unit) text(d *syntax.Type) *contract.Type {
	if d.Max == nil {
		c.Fail(
			d.At, "no-range", "this text has no greatest length",
			"say how many characters it may have: text max 40",
		)
		return nil
	}
	if !c.Bounded(d.Max.At, "the greatest length", d.Max.Value, 1, contract.MaxText) {
		return nil
	}
	t := &contract.Type{Form: contract.FormText, Max: int(d.Max.Value)}
	if d.Chars != nil {
		// The set may name ranges, as in "a-z"; contract.Type.Allows reads it.
		t.Chars = d.Chars.Value
		if t.Chars == "" || len(t.Chars) > maxChars {
			c.Fail(
				d.Chars.At, "out-of-range", "this names no characters, or too many",
				`as in text max 24 of "a-z0-9 -"`,
			)
		}
	}
	return t
}

// stacks reads `stacks<ITEM> max N each M`.
//
// ITEM has to be an enum, of which the value with the number 0 is an item like any other.
func (c *Unit) stacks(d *syntax.Type) *contract.Type {
	if len(d.Of) == 0 || d.Max == nil || d.Each == nil {
		c.Fail(
			d.At, "no-range", "these stacks are not bounded",
			"say of what, how many, and how many in each: stacks<Item> max 6 each 5",
		)
		return nil
	}
	of := d.Of[0].Name
	e := c.Enums[of.Text]
	if e == nil {
		c.Fail(
			of.At, "unknown-name", fmt.Sprintf("the enum `%s` is not declared", of.Text),
			Suggest(of.Text, Names(c.Enums), "declare it: enum "+of.Text+" { … }"),
		)
		return nil
	}
	c.Used[e] = true
	if !c.Bounded(d.Max.At, "the number of stacks", d.Max.Value, 1, contract.MaxStacks) ||
		!c.Bounded(d.Each.At, "the greatest count of a stack", d.Each.Value, 1, contract.MaxStackCount) {
		return nil
	}
	if d.Slotted != nil && !c.NeedsLanguage2(*d.Slotted, "`slotted`") {
		return nil
	}
	return &contract.Type{
		Form:    contract.FormStacks,
		Enum:    e,
		Max:     int(d.Max.Value),
		Each:    d.Each.Value,
		Slotted: d.Slotted != nil,
	}
}

// holder reads `list<T> max N` or `map<K, V> max N`.
//
// A container takes a fixed number of slots in its entity's row, as many as it needs when it is full.
// That is why it has to be bounded and may not take more than contract.MaxSlots. A map may hold short
// lists; no other container holds one, but by way of a record that has it.
func (c *Unit) holder(d *syntax.Type) *contract.Type {
	if len(d.Of) == 0 || d.Max == nil {
		c.Fail(
			d.At, "no-range", fmt.Sprintf("this %s is not bounded", d.Name.Text),
			"say of what and how many: list<Place> max 8, map<client, int 0..9> max 16",
		)
		return nil
	}
	if !c.Bounded(d.Max.At, "the greatest number of values", d.Max.Value, 1, contract.MaxItems) {
		return nil
	}
	t := &contract.Type{Form: contract.Form(d.Name.Text), Max: int(d.Max.Value)}
	for i, of := range d.Of {
		inner := c.Type(of, InMessage)
		if inner == nil {
			return nil
		}
		isKey := t.Form == contract.FormMap && i == 0 // what cannot be one is told below
		if inner.Holder() && !isKey && (t.Form != contract.FormMap || inner.Form != contract.FormList) {
			c.Fail(
				of.At, "wrong-type", fmt.Sprintf("a %s cannot hold a %s", d.Name.Text, inner.Form),
				"the values of a map may be lists, and records may have some: map<client, list<Item> max 4> max 8",
			)
			return nil
		}
		if inner.Holder() && !isKey && !c.mayNest(of, inner) {
			return nil
		}
		// The first type of a map is that of its keys. A key is one slot that is compared as a whole
		// number, which rules out vectors and records, and reals because two that print alike may
		// differ.
		if t.Form == contract.FormMap && i == 0 {
			switch inner.Form {
			case contract.FormInt, contract.FormEnum, contract.FormText, contract.FormBool, contract.FormClient,
				contract.FormEntity, contract.FormKind:
				t.Key = inner
				continue
			}
			c.Fail(
				of.At, "wrong-type", fmt.Sprintf("a value of the type %s cannot be a key", inner),
				"a key is an int, an enum, a text, a bool, a client, a ref or a kind",
			)
			return nil
		}
		t.Of = inner
	}
	if t.Width() > contract.MaxSlots {
		c.Fail(
			d.At, "out-of-range", fmt.Sprintf("this %s takes %d numbers", d.Name.Text, t.Width()),
			fmt.Sprintf("at most %d", contract.MaxSlots),
		)
		return nil
	}
	return t
}

// mayNest reports whether a list may stand within a record or a map, and says so when it may not.
//
// What holds it is read and written as a whole, in the registers of a body: it has to be short.
func (c *Unit) mayNest(d *syntax.Type, t *contract.Type) bool {
	if !c.NeedsLanguage2(d.At, "a list within a record or a map") {
		return false
	}
	if t.Width() > contract.MaxRecord {
		c.Fail(
			d.At, "out-of-range", fmt.Sprintf("this list takes %d numbers within another value", t.Width()),
			fmt.Sprintf("at most %d: one for its length, and those of each value", contract.MaxRecord),
		)
		return false
	}
	return true
}

// refTo returns the type of a ref to a kind, or to any kind that has a part.
func (c *Unit) refTo(n syntax.Ident) *contract.Type {
	if k := c.Kinds[n.Text]; k != nil {
		return k.Ref()
	}
	if p := c.Parts[n.Text]; p != nil {
		c.Used[p] = true
		return c.refPart(p)
	}
	c.Fail(
		n.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", n.Text),
		Suggest(n.Text, append(Names(c.Kinds), Names(c.Parts)...), "declare it: entity "+n.Text+" { … }"),
	)
	return nil
}

// refPart returns the type of a ref to any kind that has a part.
//
// The kinds stand in the order of the contract. While the part itself is read, its own kind belongs to
// them: `self` is of that kind there, and has to fit where a ref to the part is wanted.
func (c *Unit) refPart(p *Part) *contract.Type {
	t := &contract.Type{Form: contract.FormEntity, Name: p.Tree.Name.Text}
	for _, k := range c.Contract.Kinds {
		if slices.Contains(k.Parts, p.Tree.Name.Text) {
			t.Kinds = append(t.Kinds, k)
			t.Names = append(t.Names, k.Name)
		}
	}
	if p.Kind != nil && c.InPart == p {
		t.Kinds = append(t.Kinds, p.Kind)
		t.Names = append(t.Names, p.Kind.Name)
	}
	return t
}

// kindOf reads `kind of [A, B]`: a kind as a value.
//
// Such a value is for `spawn`, so every kind in the list has to be one that a contract may spawn. A
// list without a mistake has at least one kind, and the number of a value is its place in the list.
func (c *Unit) kindOf(d *syntax.Type) *contract.Type {
	t := &contract.Type{Form: contract.FormKind}
	for _, n := range d.Kinds {
		k := c.Kinds[n.Text]
		if k == nil {
			c.Fail(
				n.At, "unknown-name", fmt.Sprintf("the kind `%s` is not declared", n.Text),
				Suggest(n.Text, Names(c.Kinds), "name kinds, as in `kind of [Crate, Sled]`"),
			)
			return nil
		}
		if k.Shared || k.Per >= 0 {
			c.Fail(
				n.At, "wrong-type", fmt.Sprintf("%s is never spawned by the contract", k.Name),
				"name kinds that are neither shared nor `per` a role",
			)
			return nil
		}
		if slices.Contains(t.Names, k.Name) {
			c.Fail(n.At, "repeated", fmt.Sprintf("`%s` stands twice in this list", k.Name), "remove one of the two")
			continue
		}
		t.Kinds = append(t.Kinds, k)
		t.Names = append(t.Names, k.Name)
	}
	if len(t.Kinds) == 0 {
		c.Fail(d.At, "no-range", "this kind does not say of which", "name kinds: kind of [Crate, Sled]")
		return nil
	}
	return t
}

// Alias returns the type of a `type` declaration, which is read when it is first used. It returns nil, and reports why,
// for a type that is made of itself and for one that cannot be built.
//
// Types may be declared in any order, and a type may be used by one that stands before it. Reading
// holds the types whose reading has begun; one that is asked for again in between is made of itself.
func (c *Unit) Alias(d *syntax.TypeDecl) *contract.Type {
	name := d.Name.Text
	if t, done := c.Types[name]; done {
		return t
	}
	if c.Reading[name] {
		c.Fail(
			d.Name.At, "circle", fmt.Sprintf("the type `%s` is made of itself", name), "types cannot stand in a circle",
		)
		return nil
	}
	c.Reading[name] = true
	defer delete(c.Reading, name)
	var t *contract.Type
	if d.Type != nil {
		t = c.Type(d.Type, InMessage)
		// Type has reported it: stacks stand only in a property.
		if d.Type.Name.Text == "stacks" {
			t = nil
		}
	} else {
		t = c.record(d)
	}
	c.Types[name] = t
	return t
}

// record returns the record type that a declaration with fields makes, or nil when no field of it can be built or it
// takes too many slots.
//
// A field with a mistake is left out, and the record is built from the others: its uses are checked as
// far as that goes, and no field that is fine is told to be unknown.
func (c *Unit) record(d *syntax.TypeDecl) *contract.Type {
	name := d.Name.Text
	t := &contract.Type{Form: contract.FormRecord, Name: name}
	for _, f := range d.Fields {
		if slices.ContainsFunc(t.Parts, func(p contract.Param) bool { return p.Name == f.Name.Text }) {
			c.Fail(
				f.Name.At, "repeated", fmt.Sprintf("%s has the field `%s` already", name, f.Name.Text),
				"choose another name",
			)
			continue
		}
		ft := c.Type(f.Type, InMessage)
		if ft == nil {
			continue
		}
		if ft.Form == contract.FormMap {
			c.Fail(
				f.Type.At, "wrong-type", "a record cannot hold a map",
				"a list of records can stand for one; or give the entity a property of its own",
			)
			continue
		}
		if ft.Holder() && !c.mayNest(f.Type, ft) {
			continue
		}
		t.Parts = append(t.Parts, contract.Param{Name: f.Name.Text, Type: ft})
	}
	switch {
	case len(d.Fields) == 0:
		c.Fail(
			d.At, "empty", fmt.Sprintf("the record %s has no field", name),
			"as in `type Mark { number: int 0..9, at: Place }`",
		)
		return nil
	// Every field had a mistake, which was reported.
	case len(t.Parts) == 0:
		return nil
	case t.Width() > contract.MaxRecord:
		c.Fail(
			d.Name.At, "out-of-range", fmt.Sprintf("the record %s takes %d numbers", name, t.Width()),
			fmt.Sprintf("at most %d", contract.MaxRecord),
		)
		return nil
	}
	return t
}

// reals reads the range and step of a real or vector.
//
// A value of the type is held and sent as a count of steps. Low and High of the result are such counts,
// not the values as they were written; Per and Unit say what one step is. The ends are calculated with
// exact fractions: with doubles, 0.3 would not be three steps of 0.1.
func (c *Unit) reals(d *syntax.Type, form contract.Form) *contract.Type {
	if d.Low == nil || d.High == nil || d.Step == nil {
		c.Fail(
			d.At, "no-range", fmt.Sprintf("this %s has no range or no step", form),
			fmt.Sprintf("say the least and the greatest value and the step: %s -100..100 step 0.5", form),
		)
		return nil
	}
	t := &contract.Type{Form: form}
	if !c.step(d.Step, t) {
		return nil
	}
	low := Rational(d.Low)
	high := Rational(d.High)
	step := Rational(d.Step)
	if low.Cmp(high) > 0 {
		c.Fail(d.At, "out-of-range", fmt.Sprintf("the range of this %s is empty", form), "the least value stands first")
		return nil
	}
	counts := [2]int64{}
	for i, end := range []*big.Rat{low, high} {
		n := new(big.Rat).Quo(end, step)
		// Up to 2^53 a count and the number that it stands for are exact. A fraction is not: it is rounded when it is
		// made of its count and again when its count is made of it, by less than half a step as long as there are at
		// most 2^50.
		most := limit
		told := "at most 2^53 steps"
		if t.Per > 1 {
			most = limitOfFractions
			told = "at most 2^50 steps"
		}
		if !n.IsInt() || new(big.Rat).Abs(end).Cmp(limit) > 0 || new(big.Rat).Abs(n).Cmp(most) > 0 {
			c.Fail(
				[]syntax.Expr{d.Low, d.High}[i].Span(), "out-of-range",
				"this end of the range is not a whole number of steps, or too far away", told,
			)
			return nil
		}
		counts[i] = n.Num().Int64()
	}
	t.Low = counts[0]
	t.High = counts[1]
	return t
}

// turns reads `direction step S` or `rotation step S`.
//
// A direction is an angle, held as a count of steps from −π to π. A rotation is a quaternion, whose
// four components lie between −1 and 1 and are held as counts of 1/Per.
func (c *Unit) turns(d *syntax.Type, form contract.Form) *contract.Type {
	if d.Step == nil {
		c.Fail(
			d.At, "no-range", fmt.Sprintf("this %s has no step", form),
			fmt.Sprintf("say it in radians: %s step 0.01", form),
		)
		return nil
	}
	t := &contract.Type{Form: form}
	if !c.step(d.Step, t) {
		return nil
	}
	if t.Unit != 1 || t.Per < 2 || t.Per > 1_000_000 {
		c.Fail(
			d.Step.Span(), "out-of-range", fmt.Sprintf("this step is too wide or too small for a %s", form),
			"from 0.5 to 0.000001",
		)
		return nil
	}
	// The least and the greatest count mean nearly the same direction: each lies at most half a step
	// from the other side of the seam at π.
	t.High = int64(math.Round(math.Pi * float64(t.Per)))
	if form == contract.FormRotation {
		t.High = t.Per
	}
	t.Low = -t.High
	return t
}

// step reads a step into a type.
//
// A step is either a whole number (Unit) or one over a whole number (Per), and the other of the two is
// 1. So counts become values by one multiplication or one division, which rounds the same on every
// machine. The result is false, and t of no use, when x is neither; that has been reported.
func (c *Unit) step(x syntax.Expr, t *contract.Type) bool {
	step := Rational(x)
	t.Per = 1
	t.Unit = 1
	switch {
	case step.Sign() > 0 && step.IsInt() && step.Num().IsInt64():
		t.Unit = step.Num().Int64()
	case step.Sign() > 0 && step.Num().Cmp(big.NewInt(1)) == 0 && step.Denom().IsInt64():
		t.Per = step.Denom().Int64()
	default:
		c.Fail(
			x.Span(), "out-of-range", "this is no step",
			"a step is a whole number, or 1 over one: 5, 1, 0.5, 0.01, 0.001",
		)
		return false
	}
	return true
}

// How far the ends of a range may be from zero, in units and in steps: below 2^53 every whole number is
// a double of its own.
var (
	limit            = new(big.Rat).SetInt64(1 << 53)
	limitOfFractions = new(big.Rat).SetInt64(1 << 50)
)

// Rational returns the exact value of a number as it was written.
//
// An expression that is not a number that was written out counts as zero: the parser takes nothing else
// in the places that are read with Rational.
func Rational(x syntax.Expr) *big.Rat {
	switch x := x.(type) {
	case *syntax.Number:
		return new(big.Rat).SetInt64(x.Value)
	case *syntax.Decimal:
		if r, ok := new(big.Rat).SetString(x.Text); ok {
			return r
		}
	}
	return new(big.Rat)
}

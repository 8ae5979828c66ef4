package check

import (
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// constant reads a `const` or a `setting`. A constant that cannot be read is declared all the same, without a type, so
// that its uses are not reported as unknown.
//
// A constant may name those that stand above it. Lists and records go into the contract's memory;
// single values are put in place of each use.
func (c *builder) constant(d *syntax.Const) {
	name := d.Name.Text
	if c.Consts[name] != nil || c.Settings[name] != nil {
		c.Fail(d.Name.At, "repeated", fmt.Sprintf("the constant `%s` is declared already", name), "choose another name")
		return
	}
	unknown := &contract.Expr{Type: &contract.Type{}}
	var t *contract.Type
	if d.Type != nil {
		t = c.Type(d.Type, typing.InMessage)
		if t == nil {
			c.Consts[name] = unknown
			return
		}
	}
	if d.Public && !c.mayBePublic(d, t) {
		c.Consts[name] = unknown
		return
	}
	if d.From != nil {
		c.table(d, t)
		return
	}
	if !d.Setting {
		c.declared("constant", d.Name, d.At)
	}
	env := &typing.Scope{Unit: c.Unit, Constant: true}
	var v *contract.Expr
	if t != nil {
		v = env.Value(d.Value, t, "the value of `"+name+"`")
	} else {
		v = env.Expr(d.Value, nil)
	}
	if v == nil {
		c.Consts[name] = unknown
		return
	}
	slots, ok := c.Slots(v)
	if !ok {
		c.Fail(
			d.Value.Span(), "not-constant", "this is computed",
			"a constant is a number, a text, true, false, a vector, a list, a record or a value of an enum, as in "+
				"Item.flare",
		)
		return
	}
	if d.Public && !d.Setting {
		c.public(d, t, slots)
	}
	switch {
	case d.Setting:
		c.setting(d, t, slots)
	case v.Type.Holder() || v.Type.Form == contract.FormRecord:
		c.Consts[name] = c.Memory(v.Type, slots)
		c.walls(d, v.Type, slots)
	case v.Type.Counted():
		c.Consts[name] = typing.Widened(v)
	default:
		c.Consts[name] = v
	}
}

// mayBePublic reports whether a constant or setting can stand in the outline: it has a type, which clients read it by.
func (c *builder) mayBePublic(d *syntax.Const, t *contract.Type) bool {
	if !c.NeedsLanguage2(d.Name.At, "a public constant or setting") {
		return false
	}
	if t == nil {
		c.Fail(
			d.Name.At, "no-type", "what is public has to have a type: clients read it by that",
			"as in `public const reach: real 0..9 step 0.5 = 3`",
		)
		return false
	}
	if t.Has(contract.FormEntity) || t.Has(contract.FormClient) {
		c.Fail(d.Type.At, "wrong-type", "a constant cannot be of this type", "refs and clients are only in a session")
		return false
	}
	return true
}

// public notes a constant that clients get. All that its type names is sent.
func (c *builder) public(d *syntax.Const, t *contract.Type, slots []int64) {
	c.isSent(t)
	c.Used["const "+d.Name.Text] = true
	c.Contract.Public = append(c.Contract.Public, &contract.Public{Name: d.Name.Text, Type: t, Slots: slots})
}

// walls notes a constant that clients do not get, if it lists lines: whoever looks on sees them on the map.
func (c *builder) walls(d *syntax.Const, t *contract.Type, slots []int64) {
	if !d.Public && t.ListsLines() {
		c.Contract.Walls = append(c.Contract.Walls, &contract.Public{Name: d.Name.Text, Type: t, Slots: slots})
	}
}

// setting declares a setting with the slots of its default. Its own slots stand behind those of the settings before it.
//
// Settings are read from slots that belong to the session, since each session may be opened with other
// values. A ref or a client cannot be known when a session is opened.
func (c *builder) setting(d *syntax.Const, t *contract.Type, slots []int64) {
	if t.Has(contract.FormEntity) || t.Has(contract.FormClient) {
		c.Fail(
			d.Type.At, "wrong-type", "a setting cannot be of this type",
			"a number, a text, a vector, an enum, a record, or a list or map of such",
		)
		return
	}
	if t.Holder() && !c.NeedsLanguage2(d.Type.At, "a setting that is a list or a map") {
		return
	}
	c.isSent(t) // whoever opens a session may name any value
	c.Bounded(d.Name.At, "the number of settings", int64(len(c.Contract.Settings)+1), 0, contract.MaxSettings)
	s := &contract.Setting{Name: d.Name.Text, Type: t, Default: slots, Public: d.Public}
	if d.Public {
		c.Used[s] = true
	}
	for _, other := range c.Contract.Settings {
		s.Slot += other.Type.Width()
	}
	c.Contract.Settings = append(c.Contract.Settings, s)
	c.Settings[s.Name] = s
}

// table reads a constant from a JSON file.
//
// The name is declared before anything can go wrong, so that its uses are not reported as unknown.
func (c *builder) table(d *syntax.Const, t *contract.Type) {
	c.Consts[d.Name.Text] = &contract.Expr{Type: &contract.Type{}}
	if t == nil {
		c.Fail(
			d.Name.At, "no-type", "a table has to have a type",
			"as in `const walls: list<Segment> max 500 from \"walls.json\"`",
		)
		return
	}
	text, err := c.Files(d.From.Value)
	if err != nil {
		c.Fail(d.From.At, "no-file", err.Error(), "name a file beside the contract")
		return
	}
	// The values are checked against the type like those of a request: a table comes from outside the
	// contract.
	v, err := t.ParseJSON([]byte(text))
	if err != nil {
		c.Fail(
			d.From.At, "bad-table", fmt.Sprintf("what %q holds %s", d.From.Value, err),
			"it has to be a value of the type "+t.String()+", as JSON",
		)
		return
	}
	if t.Has(contract.FormEntity) || t.Has(contract.FormClient) {
		c.Fail(d.Type.At, "wrong-type", "a table cannot hold refs or clients", "they come to be only in a session")
		return
	}
	slots := t.AppendSlots(nil, v, c.Text)
	x := c.Memory(t, slots)
	if d.Public {
		c.public(d, t, slots)
	}
	c.walls(d, t, slots)
	noted := c.declared("constant", d.Name, d.At)
	noted.Type = t
	noted.Place = int(x.Num)
	if !t.Holder() && t.Form != contract.FormRecord {
		slots = c.Contract.Memory[x.Num:]
		x = typing.Widened(&contract.Expr{
			Op:   contract.OpConst,
			Type: t,
			Num:  slots[0],
			Nums: slots,
		})
	}
	c.Consts[d.Name.Text] = x
}

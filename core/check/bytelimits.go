package check

import (
	"fmt"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// byteLimits reads the lines `each client at most N bytes per second` and `each ROLE at most …`. The properties have
// to be known: `nearest` names one.
//
// What a role's own line says holds for it in place of what is said for each client.
func (c *builder) byteLimits(f *syntax.File) {
	roles := c.Contract.Roles
	lines := map[string]*syntax.ByteLimit{} // by `client` or role
	for _, d := range f.Decls {
		d, ok := d.(*syntax.ByteLimit)
		if !ok || !c.NeedsLanguage2(d.At, "a limit of bytes") {
			continue
		}
		of := d.Of.Text
		switch other := lines[of]; {
		case other != nil:
			c.Fail(
				d.At, "repeated",
				fmt.Sprintf("`each %s` has a limit of bytes already, in line %d", of, c.LineOf(other.At)),
				"remove one of the two",
			)
		case of != "client" && !slices.Contains(roles, of):
			c.Fail(
				d.Of.At, "unknown-name", fmt.Sprintf("there is no role `%s`", of),
				"write `each client`, or the name of a role",
			)
		default:
			lines[of] = d
			c.byteLimit(d)
		}
	}
	if len(lines) == 0 {
		return
	}
	for _, role := range roles {
		d := lines[role]
		if d == nil {
			d = lines["client"]
		}
		limit := contract.ByteLimit{}
		if d != nil {
			limit = contract.ByteLimit{Bytes: int(d.Bytes.Value), Nearest: d.Nearest.Text}
		}
		c.Contract.ByteLimits = append(c.Contract.ByteLimits, limit)
	}
}

// byteLimit checks one line.
func (c *builder) byteLimit(d *syntax.ByteLimit) {
	c.Used[typing.RoleUse(d.Of.Text)] = true
	least := max(contract.MinBytesPerSecond, contract.MinBytesPerTick*c.Contract.TickRate)
	c.Bounded(d.Bytes.At, "the number of bytes a second", d.Bytes.Value, int64(least), contract.MaxBytesPerSecond)
	if d.Nearest.Text != "" {
		c.nearest(d.Nearest)
	}
}

// nearest checks that a property says where entities are: somebody has to have a place of its own to measure from, and
// all places have to lie in the same space.
func (c *builder) nearest(name syntax.Ident) {
	var first *contract.Kind
	hasOwn := false
	for _, k := range c.Contract.Kinds {
		p := k.Property(name.Text)
		if p == nil || !p.IsPlace() {
			continue
		}
		if first == nil {
			first = k
		}
		if other := first.Property(name.Text); other.Type.Form != p.Type.Form {
			c.Fail(
				name.At, "wrong-type",
				fmt.Sprintf(
					"`%s.%s` is a %s and `%s.%s` a %s",
					first.Name, name.Text, other.Type.Form, k.Name, name.Text, p.Type.Form,
				),
				"distances are between places of one type",
			)
			return
		}
		c.Used[p.Offset] = true
		hasOwn = hasOwn || k.Per >= 0 && p.To != contract.Nobody
	}
	if !hasOwn {
		c.Fail(
			name.At, "unknown-name",
			fmt.Sprintf("no kind that is `per` a role has a place `%s` that its client may see", name.Text),
			"name a vec2 or vec3 that clients have one of, or leave `nearest` out",
		)
	}
}

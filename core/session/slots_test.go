package session

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

const slotThings = `
enum Item { flare, patch, tank }
fn at_two(s: stacks<Item> max 4 each 5 slotted) -> int = s.count_at(2)
shared Stall {
  hold: stacks<Item> max 4 each 5 slotted
  chest: stacks<Item> max 2 each 2 slotted
  heap: stacks<Item> max 3 each 5
}
`

// What stacks whose slots keep their numbers come to, one line each.
func TestSlotsAndSplits(t *testing.T) {
	for _, c := range []struct{ body, result, want string }{
		{"Stall.hold.put(flare, 7); Stall.hold.put(tank); reply Stall.hold.count_at(1) * 10 + Stall.hold.count()", "int 0..99", "28"},
		{"Stall.hold.put(flare); Stall.hold.put(patch); Stall.hold.take(flare); reply Stall.hold.item_at(1)", "Item", `"patch"`},
		{
			"Stall.hold.put(flare); Stall.hold.put(patch); Stall.hold.take(flare); reply Stall.hold.count_at(0) + Stall.hold.room()",
			"int 0..9", "3",
		},
		{"reply Stall.hold.item_at(1)", "Item", "faulted: slot 1 of hold is empty"},
		{
			"reply Stall.hold.count_at(who.number * 2)", "int 0..9",
			"faulted: Stall.hold has the slots 0 to 3, and none with the number 4",
		},
		{"Stall.hold.put_at(2, tank); Stall.hold.put_at(2, tank, 3); reply at_two(Stall.hold)", "int 0..9", "4"},
		{
			"Stall.hold.put_at(2, tank); Stall.hold.put_at(2, flare); reply 1", "int 0..9",
			"faulted: slot 2 of Stall.hold has tank, and cannot take flare",
		},
		{
			"Stall.hold.put_at(3, tank, 6); reply 1", "int 0..9",
			"faulted: slot 3 of Stall.hold has no room for 6 tank: only for 5",
		},
		{"Stall.hold.put_at(3, tank, 5); Stall.hold.take_at(3, 2); reply Stall.hold.count_at(3)", "int 0..9", "3"},
		{
			"Stall.hold.put_at(3, tank, 5); Stall.hold.take_at(3, 6); reply 1", "int 0..9",
			"faulted: slot 3 of Stall.hold has 5, of which 6 cannot be taken",
		},
		// from slot to slot: into an empty one, onto the same, in exchange
		{
			"Stall.hold.put(flare, 4); Stall.hold.move_at(0, Stall.hold, 3); reply Stall.hold.count_at(0) * 10 + Stall.hold.count_at(3)",
			"int 0..99", "4",
		},
		{"Stall.hold.put_at(0, flare, 4); Stall.hold.put_at(2, flare, 3); Stall.hold.move_at(0, Stall.hold, 2); " +
			"reply Stall.hold.count_at(0) * 10 + Stall.hold.count_at(2)", "int 0..99", "25"},
		{"Stall.hold.put_at(0, flare, 4); Stall.hold.put_at(2, tank, 3); Stall.hold.move_at(0, Stall.hold, 2); " +
			"reply Stall.hold.item_at(0)", "Item", `"tank"`},
		{"Stall.hold.put_at(0, flare, 4); Stall.hold.move_at(0, Stall.chest, 1, 2); " +
			"reply Stall.hold.count_at(0) * 10 + Stall.chest.count_at(1)", "int 0..99", "22"},
		{
			"Stall.hold.put_at(0, flare, 4); Stall.hold.move_at(0, Stall.chest, 1, 3); reply 1", "int 0..9",
			"faulted: slot 1 of Stall.chest has no room for 3 flare: only for 2",
		},
		{
			"Stall.hold.put_at(0, flare, 4); Stall.chest.put(tank); Stall.hold.move_at(0, Stall.chest, 0); reply 1", "int 0..9",
			"faulted: 4 flare of Stall.hold and 1 tank of Stall.chest cannot change places: one takes at most 5, the other 2",
		},
		// whole stacks go between those with slots and those without
		{"Stall.heap.put(tank, 3); Stall.hold.put_at(1, tank, 4); Stall.heap.move(Stall.hold, tank, 3); " +
			"reply Stall.hold.count_at(0) * 10 + Stall.hold.count_at(1)", "int 0..99", "25"},
		// to go over passes over empty slots
		{"Stall.hold.put_at(1, tank, 4); Stall.hold.put_at(3, flare, 2); var n = 0; " +
			"for item, c in Stall.hold { n = n * 10 + c }; reply n * 10 + count(i in Stall.hold)", "int 0..999", "422"},
		// what a split needs can be asked
		{"Stall.heap.put(flare, 3); reply Stall.heap.can_split(flare, 2) and not Stall.heap.can_split(flare, 3) and " +
			"not Stall.heap.can_split(flare, 0) and not Stall.heap.can_split(tank, 1)", "bool", "true"},
		{"Stall.chest.put(flare, 2); Stall.chest.put(tank, 2); reply Stall.chest.can_split(flare, 1)", "bool", "false"},
		{
			"Stall.hold.put_at(1, flare, 3); Stall.hold.split(flare, 2); reply Stall.hold.count_at(0) * 10 + Stall.hold.count_at(1)",
			"int 0..99", "21",
		},
		{
			"Stall.heap.put(flare, 3); Stall.heap.split(flare, 0); reply 1", "int 0..9",
			"faulted: Stall.heap has no stack of more than 0 flare to split",
		},
	} {
		assert.Equal(t, c.want, reply(t, slotThings, c.body, c.result), c.body)
	}
}

package rules

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/world"
)

// try puts a head and a body into a request with the arguments x and y, and runs it for client 1.
func try(t *testing.T, head, body string, x, y int64) (*world.World, *Machine, Outcome) {
	c, problems := compile.Load(
		"thing.kam", strings.NewReplacer("HEAD", head, "BODY", body).Replace(`contract thing language 1
roles player, other
entity Box per other { n: int 0..9 = 0 }
entity Thing per player {
  n: int -9223372036854775807..9223372036854775807 = 0
  small: int 0..9 = 3
  s: text max 8
  event said(what: text max 3, n: int 0..9)
  request go(x: int -9223372036854775807..9223372036854775807, y: int -9223372036854775807..9223372036854775807)
    HEAD
  { BODY }
}`),
	)
	require.NotNil(t, c, problems.Error())
	w := world.New(c, nil)
	e := w.Spawn(c.Kinds[1], 1)
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	m := NewMachine(p, w, [32]byte{})
	for _, client := range []world.Client{
		{Number: 1, Name: "Ana"}, {Number: 2, Name: "Bo"}, {Number: 3, Name: "Cleo", Role: 1},
	} {
		w.AddClient(client)
	}
	w.Commit()
	if out := m.Ask(c.Requests[0], e, 1, []int64{x, y}); out != nil {
		return w, m, *out
	}
	return w, m, Outcome{Check: -1}
}

func TestArithmeticIsExactOrFaults(t *testing.T) {
	const big = math.MaxInt64
	for _, c := range []struct {
		body  string
		x, y  int64
		want  int64
		fault string
	}{
		{"n = x + y", 2, 3, 5, ""},
		{"n = x + y", big, 1, 0, "+"},
		{"n = x + y", -big, -2, 0, "+"},
		{"n = x - y", -big, 2, 0, "-"},
		{"n = x - y", -2, big - 1, 0, "its range is"}, // fits 64 bits, not the property
		{"n = x * y", 1 << 31, 1 << 31, 1 << 62, ""},
		{"n = x * y", 1 << 32, 1 << 31, 0, "*"},
		{"n = x * y", -big, -1, big, ""},
		{"n = x / y", 7, -2, -3, ""},
		{"n = x % y", 7, -2, 1, ""},
		{"n = x % y", 7, -1, 0, ""},
		{"n = x / y", 7, -1, -7, ""},
		{"n = x / y", 7, 0, 0, "division by zero"},
		{"n = x % y", 7, 0, 0, "division by zero"},
		{"n = -x", 4, 0, -4, ""},
		{"n = 2 + x * y - 1", 3, 4, 13, ""},
		{"n = (2 + x) * y", 3, 4, 20, ""},
		{"if x < y and not (x == 1) or y > 100 { n = 1 } else { n = 2 }", 2, 3, 1, ""},
		{"if y == 0 or x / y > 1 { n = 1 }", 5, 0, 1, ""},
		{"if y != 0 and x / y > 1 { n = 1 } else if x == 5 { n = 3 }", 5, 0, 3, ""},
		{"let a = x; let b = a + y; n += b; n -= 1", 5, 6, 10, ""},
		{"n = 5; small = x", 10, 0, 0, "small cannot become 10"},
		{"n = 5; n = x / y", 10, 0, 0, "division by zero"},
		{`s = caller.name; if s == "Ana" { n = caller.number }`, 0, 0, 1, ""},
		{"n = caller.Box.n", 0, 0, 0, "reached through nothing"},
	} {
		w, _, out := try(t, "", c.body, c.x, c.y)
		e := w.Entities()[0]
		if c.fault != "" {
			require.True(t, out.Faulted, "%s", c.body)
			assert.Contains(t, out.Reason, c.fault, c.body)
			w.Rollback()
			assert.Zero(t, w.Value(e, e.Kind.Property("n")).Num, c.body)
			continue
		}
		require.False(t, out.Faulted, "%s: %s", c.body, out.Reason)
		assert.Equal(t, c.want, w.Value(e, e.Kind.Property("n")).Num, c.body)
	}
}

func TestAReadThroughNothingFailsTheCheckThatReadsIt(t *testing.T) {
	for _, head := range []string{
		`check caller.Box.n == 0 else deny "no box"`,
		`check not (caller.Box.n == 1) else deny "no box"`,
		`check x == 0 or caller.Box.n == 0 else deny "no box"`,
		`let box = caller.Box.n check box == 0 else deny "no box"`,
		`let box = caller.Box check box.n == 0 else deny "no box"`,
		`check caller.Box.owner == caller else deny "no box"`,
	} {
		_, _, out := try(t, head, "n = 1", 1, 0)
		assert.True(t, out.Denied, head)
		assert.Equal(t, "no box", out.Reason, head)
		assert.Equal(t, 0, out.Check, head)
	}
	_, _, out := try(t, `check x == 1 or caller.Box.n == 0 else deny "no box"`, "n = 1", 1, 0)
	assert.False(t, out.Denied, "what decides already is not asked further")
	_, _, out = try(t, `let box = caller.Box.n`, "n = box", 1, 0)
	assert.True(t, out.Faulted)
	_, _, out = try(t, `check x / y == 1 else deny "no"`, "n = 1", 1, 0)
	assert.True(t, out.Faulted, "a division by zero is no answer to a check")
}

func TestTellReachesThoseWhoAreNamed(t *testing.T) {
	for term, want := range map[string][]int{
		"everyone but caller": {2, 3}, "owner": {1}, "other": {3}, "other or caller": {1, 3},
		"nobody": nil, "everyone but other": {1, 2}, "player but owner or other": {2, 3},
	} {
		_, m, out := try(t, "", `tell `+term+` said("a", x)`, 4, 0)
		require.False(t, out.Faulted)
		assert.Equal(t, want, m.Told[0].Clients, term)
		assert.EqualValues(t, 4, m.Told[0].Values[1].Num)
	}
	_, m, _ := try(t, "", `tell everyone said("a", x)`, 4, 0)
	assert.True(t, m.Told[0].Everyone)
	_, m, out := try(t, "", `tell everyone said("a", x)`, 10, 0)
	assert.True(t, out.Faulted, "a value outside an event's range")
	assert.Empty(t, m.Told)
	_, _, out = try(t, "", `s = "abcd"; tell everyone said(s, 1)`, 10, 0)
	assert.Contains(t, out.Reason, "has 4 characters")
}

// held runs the only request of a contract, for client 1 on the first kind's shared entity, and returns what that holds
// of a property afterwards.
func held(t *testing.T, text, property string) (value string, out *Outcome) {
	c, problems := compile.Load("thing.kam", text)
	require.NotNil(t, c, problems.Error())
	w := world.New(c, nil)
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	w.AddClient(world.Client{Number: 1, Name: "Ana"})
	w.Commit()
	e := w.Shared(0)
	out = NewMachine(p, w, [32]byte{}).Ask(c.Requests[0], e, 1, nil)
	if out != nil {
		w.Rollback()
	}
	q := e.Kind.Property(property)
	return q.Type.Format(w.Value(e, q)), out
}

// A key that is missing is put in with a whole value only: a part of none would stand beside whatever was there before.
func TestAPartIsWrittenOnlyOfWhatIsThere(t *testing.T) {
	const book = `contract book language 1
roles player
type Mark { worth: int 5..99, n: int 0..99 }
shared Book {
  marks: map<int 0..9, Mark> max 5
  places: map<int 0..9, vec2 -5..5 step 1> max 5
  request note() from player { marks[5] = Mark(worth = 7, n = 42); places[5] = vec(3, 4); BODY }
}
`
	for _, x := range []struct{ body, property, want, fault string }{
		{"marks[5].n = 1", "marks", "5: (worth 7, n 1)", ""},
		{"marks[2] = Mark(worth = 6, n = 1)", "marks", "2: (worth 6, n 1), 5: (worth 7, n 42)", ""},
		{"places[5].x = 1", "places", "5: (1, 4)", ""},
		{"places[2] = vec(1, 2)", "places", "2: (1, 2), 5: (3, 4)", ""},
		{"marks[2].worth = 9", "marks", "", "the map `marks` does not have the key 2"},
		{"marks[8].n = 9", "marks", "", "the map `marks` does not have the key 8"},
		{"places[2].x = 1", "places", "", "the map `places` does not have the key 2"},
	} {
		value, out := held(t, strings.Replace(book, "BODY", x.body, 1), x.property)
		if x.fault == "" {
			require.Nil(t, out, x.body)
			assert.Equal(t, x.want, value, x.body)
			continue
		}
		if assert.NotNil(t, out, "%s: %s", x.body, value) {
			assert.True(t, out.Faulted, x.body)
			assert.Contains(t, out.Reason, x.fault, x.body)
		}
	}
}

// What is `clamped` is clipped however it is written: by one of its components, or as a property of any kind with a
// part.
func TestClampedIsClippedHoweverItIsWritten(t *testing.T) {
	const book = `contract book language 1
roles player
part Body { pos: vec2 -5..5 step 1 = vec(0, 0) clamped; n: int 0..5 = 0 clamped; m: int 0..5 = 0 }
shared Book with Body { request push() from player { BODY } }
shared Other with Body { on start { m = 1 } }
`
	for _, x := range []struct{ body, property, want string }{
		{"pos.x += 100", "pos", "(5, 0)"},
		{"pos.y -= 7", "pos", "(0, -5)"},
		{"pos += vec(9, 9)", "pos", "(5, 5)"},
		{"for b in Body { b.n += 10 }", "n", "5"},
		{"for b in Body { b.n -= 30 }", "n", "0"},
		{"for b in Body { b.pos.x += 8 }", "pos", "(5, 0)"},
		{"for b in Body { b.pos += vec(8, 1) }", "pos", "(5, 1)"},
	} {
		value, out := held(t, strings.Replace(book, "BODY", x.body, 1), x.property)
		if assert.Nil(t, out, x.body) {
			assert.Equal(t, x.want, value, x.body)
		}
	}
	_, out := held(t, strings.Replace(book, "BODY", "for b in Body { b.m += 6 }", 1), "m")
	if assert.NotNil(t, out) {
		assert.Contains(t, out.Reason, "Book.m cannot become 6")
	}
}

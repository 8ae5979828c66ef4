package codegen

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/wild"
)

// pieces returns all code of a program, however deep it stands.
func pieces(v reflect.Value) (out []*bytecode.Code) {
	switch v.Kind() {
	case reflect.Pointer:
		if c, is := v.Interface().(*bytecode.Code); is {
			if c != nil && c.Instructions != nil {
				out = append(out, c)
			}
		} else if !v.IsNil() && strings.HasPrefix(v.Type().Elem().PkgPath(), reflect.TypeFor[bytecode.Code]().PkgPath()) {
			out = pieces(v.Elem())
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			out = append(out, pieces(v.Index(i))...)
		}
	case reflect.Struct:
		if c, is := v.Interface().(bytecode.Code); is {
			return pieces(reflect.ValueOf(&c))
		}
		for i := range v.NumField() {
			out = append(out, pieces(v.Field(i))...)
		}
	}
	return out
}

// table returns how long the table is that an operation names by K, or -1 for one that names none.
func table(c *bytecode.Code, op bytecode.Op) int {
	switch op {
	case bytecode.OpDeny, bytecode.OpExpel, bytecode.OpClose:
		return len(c.Strings)
	case bytecode.OpLoad, bytecode.OpSince, bytecode.OpPath:
		return len(c.Properties)
	case bytecode.OpReal, bytecode.OpSteps, bytecode.OpWiden, bytecode.OpNarrow, bytecode.OpReply:
		return len(c.Types)
	case bytecode.OpFetch, bytecode.OpShuffle, bytecode.OpIndex, bytecode.OpKey, bytecode.OpKeyPut:
		return len(c.Fetches)
	case bytecode.OpPutWide, bytecode.OpPutList:
		return len(c.Puts)
	case bytecode.OpHolder:
		return len(c.Containers)
	case bytecode.OpMath:
		return len(c.Maths)
	case bytecode.OpIter:
		return len(c.Loops)
	case bytecode.OpCall, bytecode.OpRun, bytecode.OpDelay:
		return len(c.Calls)
	case bytecode.OpTell:
		return len(c.Tells)
	case bytecode.OpLog:
		return len(c.Logs)
	case bytecode.OpSpawn:
		return len(c.Spawns)
	case bytecode.OpReveal:
		return len(c.Reveals)
	case bytecode.OpFail:
		return len(c.Reasons)
	}
	return -1
}

// sound checks what the machine takes for granted: each instruction has a line, jumps stay within the code, tables have
// what is named, and the last instruction ends the code.
func sound(t *testing.T, c *bytecode.Code) {
	n := len(c.Instructions)
	require.Len(t, c.Lines, n)
	require.Len(t, c.Checks, n)
	for i, in := range c.Instructions {
		at := fmt.Sprintf("%s, instruction %d: %+v", c.Name, i, in)
		switch {
		case in.Op == bytecode.OpNext || in.Op >= bytecode.OpJump && in.Op <= bytecode.OpSharedNeK:
			require.Less(t, int(in.C), n, at)
		case in.Op == bytecode.OpStore || in.Op == bytecode.OpStoreK || in.Op == bytecode.OpBump:
			require.Less(t, int(in.C), len(c.Stores), at)
		}
		if length := table(c, in.Op); length >= 0 {
			require.True(t, in.K >= 0 && int(in.K) < length, at)
		}
		require.Less(t, int(c.Checks[i]), max(1, len(c.Reasons)), at)
	}
	last := c.Instructions[n-1].Op
	require.True(t, last == bytecode.OpEnd || last == bytecode.OpFail, c.Name)
	require.LessOrEqual(t, c.Nums+c.Width, bytecode.Registers, c.Name)
}

func TestCodeIsSoundAndTheSameEachTime(t *testing.T) {
	texts := map[string]string{}
	for seed := range uint64(200) {
		texts[fmt.Sprint("wild ", seed)] = wild.Contract(rand.New(rand.NewPCG(seed, 1)))
		texts[fmt.Sprint("carried ", seed)] = wild.Carried(rand.New(rand.NewPCG(seed, 1)))
	}
	all := 0
	for name, text := range texts {
		c, problems := compile.Load("wild.kam", text)
		if c == nil { // a few random contracts ask for what cannot be
			require.NotEmpty(t, problems, name)
			continue
		}
		for _, traced := range []bool{false, true} {
			first, err := generate(c, traced)
			require.NoError(t, err)
			second, err := generate(c, traced)
			require.NoError(t, err)
			list := pieces(reflect.ValueOf(first))
			again := pieces(reflect.ValueOf(second))
			require.Len(t, again, len(list))
			ids := map[int]bool{}
			for i, code := range list {
				sound(t, code)
				require.Equal(t, code.Instructions, again[i].Instructions, name)
				require.False(t, ids[code.ID], "two pieces of %s have the number %d", name, code.ID)
				ids[code.ID] = true
			}
			all += len(list)
		}
	}
	assert.Greater(t, all, 10_000)
}

// A comparison with a constant, a counter and a property of self take one instruction each.
func TestWhatIsCommonTakesOneInstruction(t *testing.T) {
	for body, want := range map[string][]bytecode.Op{
		"":                         {},
		"n = 3":                    {bytecode.OpStoreK},
		"n += 2":                   {bytecode.OpBump},
		"n = m":                    {bytecode.OpSelf, bytecode.OpStore},
		"if n == 3 { n = 4 }":      {bytecode.OpSelfNeK, bytecode.OpStoreK},
		"if 3 <= n { n = 4 }":      {bytecode.OpSelfLtK, bytecode.OpStoreK},
		"if not (n > m) { n = 4 }": {bytecode.OpSelf, bytecode.OpSelf, bytecode.OpLt, bytecode.OpStoreK},
		"n = 5 - m":                {bytecode.OpConst, bytecode.OpSubSelf, bytecode.OpStore},
		"n = m * m":                {bytecode.OpSelf, bytecode.OpMul, bytecode.OpStore},
		"despawn self":             {bytecode.OpDespawn},
	} {
		c := contracts.Load(t, `contract reef language 1
entity Eel {
  n: int 0..999999 = 0
  m: int 0..9 = 0
  on spawn { `+body+` }
}
shared Reef { on start { spawn Eel { m = 1 } } }`)
		p, err := Generate(c)
		require.NoError(t, err)
		var got []bytecode.Op
		for _, in := range p.Kinds[0].Spawn.Instructions {
			got = append(got, in.Op)
		}
		assert.Equal(t, append(want, bytecode.OpEnd), got, body)
	}
}

func TestALineThatNeedsTooManyRegistersIsNamed(t *testing.T) {
	for records, fails := range map[int]bool{2: false, 16: true} {
		c := contracts.Load(t, `contract reef language 1
type Mark { `+fields+` }
event said(`+repeated("m%d: Mark", records)+`)
entity Eel {
  mark: Mark = Mark(`+values+`)
  on spawn {
    tell everyone said(`+repeated("mark", records)+`)
  }
}
shared Reef { on start { spawn Eel } }`)
		_, err := Generate(c)
		if fails {
			assert.ErrorContains(t, err, "compile line 7 of reef: what is computed here at once needs more than 256 numbers")
		} else {
			assert.NoError(t, err)
		}
	}
}

// fields are as many fields as a record may have, values are their values.
var (
	fields = repeated("f%d: int 0..9", contract.MaxRecord)
	values = repeated("f%d = 1", contract.MaxRecord)
)

// repeated returns a list of texts; %d in it is the place of each, from 0.
func repeated(text string, times int) string {
	var list []string
	for i := range times {
		list = append(list, strings.ReplaceAll(text, "%d", fmt.Sprint(i)))
	}
	return strings.Join(list, ", ")
}

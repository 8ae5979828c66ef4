package codegen_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
)

// The cells of a grid are as wide as the distances that a contract names, and there are few grids.
func TestCellsAreAsWideAsWhatIsNear(t *testing.T) {
	c, problems := compile.Load("cells.kam", `contract cells language 1
const about = 60
entity Diver per player {
  pos: vec2 -200..200 step 0.01 = vec(0, 0)
  n: int 0..1000 = 0
  crew: int 0..3 = 0
  request close() { n = count(d in Diver within 0.8 of pos) + count(d in Diver within 1 of pos) }
  request far()   { n = count(d in Diver within 5 of pos) + count(d in Diver within about of pos) }
  request other() { n = count(d in Diver within n of pos) + count(d in Diver within 100.5 of pos) }
  request alike() { n = count(d in Diver where d.crew == crew and d.n > 3) }
}
entity Crate { pos: vec2 0..99 step 1; n: int 0..9 = 0 }
entity Eel { pos: vec2 -200..200 step 0.01 }
shared Sea {
  n: int 0..100 = 0
  on start {
    spawn Crate { pos = vec(1, 1) }
    spawn Eel { pos = vec(1, 1) }
    n = count(c in Crate within 0.1 of vec(3, 4))
  }
}`)
	require.NotNil(t, c, problems.Error())
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	byKind := map[string]bytecode.Index{}
	for i, k := range c.Kinds {
		x := p.Indexes[i]
		byKind[k.Name] = x
		by := x.Values
		if x.Place != nil {
			by = append(by, x.Place)
		}
		assert.ElementsMatch(t, k.Indexed, by, "what the memory of a kind counts")
	}
	diver := byKind["Diver"]
	assert.Equal(t, "pos", diver.Place.Name)
	assert.Equal(t, []int{7, 9, 13}, diver.Shifts, "128 steps for 0.8 and 1, 512 for 5, 8192 for 60 and more")
	require.Len(t, diver.Values, 1)
	assert.Equal(t, "crew", diver.Values[0].Name)
	assert.Equal(t, []int{0}, byKind["Crate"].Shifts, "no narrower than a step")
	assert.Nil(t, byKind["Eel"].Place, "nobody asks for it")
	assert.Empty(t, byKind["Eel"].Values)
}

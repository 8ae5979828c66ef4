package checkpoint

import (
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type named interface{ name() string }

type model struct {
	kinds []*kind
	byKey map[string]*kind
}

type kind struct{ label string }

type node struct {
	text   string
	kind   *kind // of the model
	next   *node
	inside counter // that others point to
	holds  named
	memory []int64 `checkpoint:"cap"`
	spare  []byte  `checkpoint:"-"`
	flags  [3]bool
}

func (n *node) name() string { return n.text }

type counter struct {
	low, high int64
}

type graph struct {
	nodes   []*node
	all     []node
	second  *node // into all
	high    *int64
	one     []int64
	other   []int64 // shares memory with one
	byNode  map[*node]string
	byKey   map[[2]int64]*node
	empty   []string
	none    []string
	again   map[*node]string // the same as byNode
	nothing map[int]int
	maps    []map[int]int
}

func newModel() *model {
	a, b := &kind{"a"}, &kind{"b"}
	return &model{kinds: []*kind{a, b}, byKey: map[string]*kind{"b": b, "a": a, "c": {"c"}, "d": {"d"}}}
}

func newGraph(m *model) *graph {
	numbers := []int64{1, 2, 3, 4, 5, 6}
	a := &node{text: "first", kind: m.kinds[1], flags: [3]bool{true, false, true}, spare: []byte("gone")}
	b := &node{text: "second", kind: m.byKey["d"], next: a, holds: a, memory: numbers[:2:4]}
	a.next = b
	a.inside = counter{7, 8}
	g := &graph{
		nodes: []*node{a, b, a},
		all:   []node{{text: "x"}, {text: "y", next: a}, {text: "z"}},
		high:  &a.inside.high,
		one:   numbers[:5],
		other: numbers[3:],
		empty: []string{},
		byKey: map[[2]int64]*node{{1, 2}: b, {3, 4}: nil},
	}
	g.second = &g.all[1]
	g.byNode = map[*node]string{a: "is a", b: "is b"}
	g.again = g.byNode
	g.maps = []map[int]int{{140: 1}}
	return g
}

func newTestCodec(t *testing.T, m *model) *Codec {
	c, err := New((*graph)(nil), []any{(*node)(nil)}, m)
	require.NoError(t, err)
	return c
}

// What is read is the graph that was written: values, and everything that two ways lead to.
func TestAGraphIsReadAsItWasWritten(t *testing.T) {
	m := newModel()
	data, err := newTestCodec(t, m).Write(newGraph(m))
	require.NoError(t, err)

	other := newModel()
	var g graph
	require.NoError(t, newTestCodec(t, other).Read(data, &g))
	a, b := g.nodes[0], g.nodes[1]
	assert.Same(t, a, g.nodes[2])
	assert.Same(t, b, a.next)
	assert.Same(t, a, b.next)
	assert.Same(t, other.kinds[1], a.kind, "of the model that is there")
	assert.Same(t, other.byKey["d"], b.kind)
	assert.Equal(t, named(a), b.holds)
	assert.Same(t, a, b.holds)
	assert.Equal(t, [3]bool{true, false, true}, a.flags)
	assert.Nil(t, a.spare)
	assert.Same(t, &a.inside.high, g.high)
	assert.Same(t, &g.all[1], g.second)
	assert.Equal(t, []string{"x", "y", "z"}, []string{g.all[0].text, g.second.text, g.all[2].text})
	assert.Same(t, a, g.second.next)
	assert.Equal(t, []int64{1, 2, 3, 4, 5}, g.one)
	assert.Equal(t, []int64{4, 5, 6}, g.other)
	assert.Same(t, &g.one[3], &g.other[0])
	assert.Equal(t, []int64{1, 2, 3, 4}, b.memory[:cap(b.memory)])
	assert.Len(t, b.memory, 2)
	assert.Equal(t, map[*node]string{a: "is a", b: "is b"}, g.byNode)
	g.again[a] = "changed"
	assert.Equal(t, "changed", g.byNode[a])
	assert.Equal(t, map[[2]int64]*node{{1, 2}: b, {3, 4}: nil}, g.byKey)
	assert.NotNil(t, g.empty)
	assert.Nil(t, g.none)
	assert.Nil(t, g.nothing)
	assert.Equal(t, []map[int]int{{140: 1}}, g.maps)
}

// What was not written by Write, or by a program with other types, is an error.
func TestWhatDoesNotFitIsRefused(t *testing.T) {
	m := newModel()
	c := newTestCodec(t, m)
	data, err := c.Write(newGraph(m))
	require.NoError(t, err)
	for i := range data {
		broken := append([]byte(nil), data...)
		broken[i] ^= 4
		require.Error(t, c.Read(broken, &graph{}), i)
		if i < headSize {
			continue
		}
		require.ErrorIs(t, c.Read(broken, &graph{}), ErrBroken)
		// Even with the sum of what stands there it is no panic.
		binary.LittleEndian.PutUint32(broken[16:], crc32.Checksum(broken[headSize:], castagnoli))
		assert.NotPanics(t, func() { _ = c.Read(broken[:i], &graph{}) })
	}
	larger := newModel()
	larger.kinds = append(larger.kinds, &kind{"more"})
	require.ErrorIs(t, newTestCodec(t, larger).Read(data, &graph{}), ErrFormat)
	other, err := New((*node)(nil), []any{(*node)(nil)}, m)
	require.NoError(t, err)
	require.ErrorIs(t, other.Read(data, &node{}), ErrFormat)
	_, err = New((*struct{ f func() })(nil), nil)
	require.ErrorContains(t, err, "in the field f")
	_, err = c.Write(&struct{ x int }{})
	require.ErrorContains(t, err, "the root is a")
	_, err = newTestCodec(t, m).Write(&graph{nodes: []*node{{holds: stray{}}}})
	require.ErrorContains(t, err, "was not declared")
}

type stray struct{}

func (stray) name() string { return "" }

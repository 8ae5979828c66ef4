package wire

import (
	"encoding/hex"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad/core/contract"
)

type vectors struct {
	Outline *contract.Outline
	Frames  []struct {
		Hex  string
		Says json.RawMessage
	}
}

func readVectors(t testing.TB) (out []vectors) {
	files, err := filepath.Glob("testdata/vectors/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		var v vectors
		require.NoError(t, json.Unmarshal(raw, &v))
		out = append(out, v)
	}
	return out
}

// Whoever reads the frames of the vectors, one after the other, with nothing but the outline, comes to what they are said to say.
func TestVectors(t *testing.T) {
	frames := 0
	for _, v := range readVectors(t) {
		r := NewReader(NewLayout(v.Outline))
		for i, f := range v.Frames {
			raw, err := hex.DecodeString(f.Hex)
			require.NoError(t, err)
			got, err := r.Read(raw)
			require.NoError(t, err, "frame %d", i)
			require.Equal(t, string(f.Says), string(got.AppendJSON(nil)), "frame %d", i)
			frames++
		}
	}
	t.Logf("%d frames", frames)
}

// A frame that was cut short or damaged is an error or says something else; it is never a panic, and never takes memory without bound.
func TestDamagedFramesAreErrors(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	broken, read := 0, 0
	for _, v := range readVectors(t) {
		for range 400 {
			r := NewReader(NewLayout(v.Outline))
			for _, f := range v.Frames {
				raw, _ := hex.DecodeString(f.Hex)
				switch random.IntN(12) {
				case 0:
					raw = raw[:random.IntN(len(raw))]
				case 1, 2:
					raw[random.IntN(len(raw))] ^= 1 << random.IntN(8)
				case 3:
					raw = append(raw, byte(random.IntN(256)))
				}
				if _, err := r.Read(raw); err != nil {
					broken++
					break
				}
				read++
			}
		}
	}
	t.Logf("%d frames were read, %d broken ones told", read, broken)
	assert.Greater(t, broken, 1000)
}

// FuzzReader reads frames that nobody wrote, after one that somebody did.
func FuzzReader(f *testing.F) {
	all := readVectors(f)
	for i, v := range all {
		for _, frame := range v.Frames {
			raw, _ := hex.DecodeString(frame.Hex)
			f.Add(byte(i), raw)
		}
	}
	f.Fuzz(func(t *testing.T, which byte, raw []byte) {
		v := all[int(which)%len(all)]
		r := NewReader(NewLayout(v.Outline))
		first, _ := hex.DecodeString(v.Frames[0].Hex)
		_, err := r.Read(first)
		require.NoError(t, err)
		for range 2 {
			if got, err := r.Read(raw); err == nil {
				got.AppendJSON(nil)
			}
		}
	})
}

// FuzzFromClient reads clients' messages that nobody wrote.
func FuzzFromClient(f *testing.F) {
	o := readVectors(f)[0].Outline
	f.Add([]byte{msgAsk, 1, 2, 0, 0, 0})
	f.Add([]byte{msgWrite, 1, 2, 0, 1, 0, 9, 9})
	f.Add([]byte(`{"type":"ask","seq":1,"request":"A.b","args":[]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := UnpackFromClient(raw, o)
		if err != nil || raw[0] == '{' || raw[0]&hasUnknown != 0 {
			return
		}
		again, err := UnpackFromClient(m.Pack(o), o)
		require.NoError(t, err)
		require.Equal(t, string(m.JSON()), string(again.JSON()))
	})
}

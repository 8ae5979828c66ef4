package wire

import (
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

type (
	vectors struct {
		Outline  *contract.Outline `json:"outline"`
		Frames   []saying          `json:"frames"`
		Messages []saying          `json:"messages,omitempty"`
	}
	// saying is a frame or message with its JSON twin.
	saying struct {
		Hex  string          `json:"hex"`
		Says json.RawMessage `json:"says"`
	}
)

func readVectors(t testing.TB) (out []vectors) {
	files, err := filepath.Glob("testdata/vectors/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		var v vectors
		require.NoError(t, json.Unmarshal(raw, &v))
		if v.Outline != nil { // else it is of the codings
			out = append(out, v)
		}
	}
	return out
}

// Whoever reads the frames of the vectors, one after the other, with nothing but the outline, comes to what they are
// said to say.
func TestVectors(t *testing.T) {
	frames := 0
	messages := 0
	seen := map[MessageType]bool{}
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
		for _, m := range v.Messages {
			raw, err := hex.DecodeString(m.Hex)
			require.NoError(t, err)
			got, err := UnpackFromClient(raw, v.Outline)
			require.NoError(t, err, m.Hex)
			require.JSONEq(t, string(m.Says), string(got.JSON()))
			seen[got.Type] = true
			messages++
		}
	}
	for _, m := range clientMessages[1:] {
		require.True(t, seen[m.typ], "the vectors have a message `%s`", m.typ)
	}
	t.Logf("%d frames, %d messages", frames, messages)
}

// A frame that was cut short or damaged is an error or says something else; it is never a panic, and never takes memory
// without bound.
func TestDamagedFramesAreErrors(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	broken := 0
	read := 0
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
	f.Add([]byte{MessageAsk.number(), 1, 2, 0, 0, 0})
	f.Add([]byte{MessageWrite.number(), 1, 2, 0, 1, 0, 9, 9})
	f.Add([]byte(`{"type":"ask","seq":1,"request":"A.b","args":[]}`))
	f.Add([]byte("\x06\x7f \x7f\x00\x065v\xdd \x7f\x00")) // a rotation whose numbers are no unit quaternion
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

// later returns a frame as a later version of the protocol may send it: with sections that this version has no use for,
// and a kind of block that it does not know.
func later(t *testing.T, random *rand.Rand, raw []byte) []byte {
	noise := func() []byte {
		out := make([]byte, random.IntN(200))
		for i := range out {
			out[i] = byte(random.Uint32())
		}
		return appendPart(nil, out)
	}
	c := &cursor{buf: raw}
	head := c.uvarint()
	tick := c.uvarint()
	var body []byte
	news := uint64(1)<<outlineSection | 1<<movedSection | 1<<(20+random.IntN(40))
	for s := section(1); s < 64; s++ {
		switch {
		case head>>s&1 != 0 && s == stateSection:
			in := &cursor{buf: c.lengthAndBytes()}
			blocks := append(appendPart(
				appendUvarints(nil, in.uvarint()+1, opReserved|7<<2), []byte("of a later version"),
			), in.buf...)
			body = appendPart(body, blocks)
		case head>>s&1 != 0:
			body = appendPart(body, c.lengthAndBytes())
		case news>>s&1 != 0:
			body = append(body, noise()...)
		}
	}
	require.False(t, c.bad || len(c.buf) > 0)
	return append(appendUvarints(nil, head|news, tick), body...)
}

func appendUvarints(dst []byte, list ...uint64) []byte {
	for _, v := range list {
		dst = binary.AppendUvarint(dst, v)
	}
	return dst
}

// A reader skips what a later version adds to frames, decisions and messages, and reads all else as ever.
func TestWhatALaterVersionAddsIsSkipped(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	python, _ := vectorFiles(t)
	folder := t.TempDir()
	var files []string
	for n, v := range readVectors(t) {
		r := NewReader(NewLayout(v.Outline))
		for i := range v.Frames {
			f := &v.Frames[i]
			raw, err := hex.DecodeString(f.Hex)
			require.NoError(t, err)
			raw = later(t, random, raw)
			got, err := r.Read(raw)
			require.NoError(t, err, "frame %d", i)
			require.Equal(t, string(f.Says), string(got.AppendJSON(nil)), "frame %d", i)
			f.Hex = hex.EncodeToString(raw)
		}
		raw, err := json.Marshal(v)
		require.NoError(t, err)
		files = append(files, filepath.Join(folder, strconv.Itoa(n)+".json"))
		require.NoError(t, os.WriteFile(files[n], raw, 0o600))
	}
	out, err := exec.Command(python, append([]string{documentsReader}, files...)...).CombinedOutput()
	require.NoError(t, err, string(out))

	w := &bitWriter{}
	w.gamma(1)
	w.put(numberIsPress, 2)
	w.gamma(3)
	w.gamma(0)
	w.put(15, 4)
	w.put(14, 4)
	w.text("why")
	w.text("")
	frame := append(appendUvarints(nil, 1|1<<decisionsSection, 5), appendPart(nil, w.bytes())...)
	got, err := NewReader(NewLayout(readVectors(t)[0].Outline)).Read(frame)
	require.NoError(t, err)
	assert.Equal(t, []Decision{{Press: 3, Outcome: Unknown, Reason: "why", Check: -1}}, got.Decisions)

	m, err := UnpackFromClient(
		append(append([]byte{MessageSeen.number() | hasUnknown}, appendPart(nil, []byte("of a later version"))...), 7),
		nil,
	)
	require.NoError(t, err)
	assert.Equal(t, FromClient{Type: MessageSeen, Ask: Ask{Seen: 7}}, m)
}

// A request or property by places that the outline does not have is decided malformed, as one by a name that it does
// not have: it is read.
func TestWhatTheOutlineDoesNotHaveIsRead(t *testing.T) {
	o := &contract.Outline{Kinds: []contract.KindOutline{{Name: "Thing"}}}
	for raw, want := range map[string]string{
		string([]byte{MessageAsk.number(), 1, 2, 0, 9, 0}):         "9.0",
		string([]byte{MessageAsk.number(), 1, 2, 0, 0, 4, 1, 2}):   "0.4",
		string([]byte{MessagePress.number(), 1, 2, 0, 0, 4}):       "0.4",
		string([]byte{MessageWrite.number(), 1, 2, 0, 3, 4, 1, 2}): "3.4",
	} {
		m, err := UnpackFromClient([]byte(raw), o)
		require.NoError(t, err)
		assert.Equal(t, want, m.Request+m.Property)
	}
}

package session

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad/core/contract"
	"kamerad/core/wire"
	"kamerad/internal/tests/wild"
)

// vector is what one client got, for those who write a client in another language.
type vector struct {
	Outline *contract.Outline `json:"outline"`
	Frames  []vectorFrame     `json:"frames"`
}

type vectorFrame struct {
	Hex  string          `json:"hex"`
	Says json.RawMessage `json:"says"` // its JSON twin
}

const vectorFolder = "../wire/testdata/vectors"

// The committed test vectors are what a session sends: its binary frames and what each of them says. KAMERAD_UPDATE_VECTORS=1 writes
// them anew after a change of the protocol.
func TestTheVectorsAreWhatASessionSends(t *testing.T) {
	for name, seed := range map[string]uint64{"one": 3, "two": 8, "three": 21, "four": 34} {
		var c *contract.Contract
		for ; c == nil; seed++ {
			c, _ = contract.Load("carried.kam", wild.Carried(rand.New(rand.NewPCG(seed, 1))))
		}
		w := newCrowd(t, c, seed)
		out := vector{Outline: c.Outline()}
		w.join("player")
		reader := w.Reader(1)
		for tick := range 30 {
			if tick == 3 || tick == 9 {
				w.join(c.Roles[tick%2])
			}
			for range 5 {
				w.change()
			}
			if tick == 20 {
				w.view.Resync(1) // a snapshot in the middle
			}
			for _, cf := range w.Tick().Frames {
				if cf.Client != 1 {
					continue
				}
				f, err := reader.Read(cf.Bytes)
				require.NoError(t, err)
				out.Frames = append(out.Frames, vectorFrame{hex.EncodeToString(cf.Bytes), f.AppendJSON(nil)})
			}
		}
		raw := bytes.ReplaceAll(mustJSON(t, out), []byte(`{"hex"`), []byte("\n{\"hex\""))
		file := filepath.Join(vectorFolder, name+".json")
		if os.Getenv("KAMERAD_UPDATE_VECTORS") != "" {
			require.NoError(t, os.MkdirAll(vectorFolder, 0o755))
			require.NoError(t, os.WriteFile(file, append(raw, '\n'), 0o644))
		}
		kept, err := os.ReadFile(file)
		require.NoError(t, err)
		require.True(t, string(kept) == string(raw)+"\n", "the protocol changed: KAMERAD_UPDATE_VECTORS=1 writes the vectors anew")
	}
}

func mustJSON(t *testing.T, v any) []byte {
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	return raw
}

// A client's messages mean the same in both forms.
func TestAClientsMessagesMeanTheSameInBothForms(t *testing.T) {
	c := tidewreck(t)
	o := c.Outline()
	for _, m := range []string{
		`{"type":"ready"}`, `{"type":"seen","seen":812}`, `{"type":"differs","seen":80}`, `{"type":"leave"}`,
		`{"type":"ask","seq":5,"entity":3735928559,"request":"Diver.use","args":["patch"],"seen":812}`,
		`{"type":"ask","seq":6,"request":"Diver.launch","args":[0.5,[1.25,-3]],"seen":812}`,
		`{"type":"ask","seq":7,"request":"Winch.grab","args":[],"seen":812}`,
		`{"type":"ask","seq":8,"request":"Strongbox.guess","args":[4]}`,
		`{"type":"write","seq":9,"property":"Diver.pos","value":[-29.5,0],"seen":812}`,
		`{"type":"press","property":"Diver.kick","press":3}`, `{"type":"release","entity":7,"property":"Diver.kick","press":3}`,
		// What does not fit is sent as JSON.
		`{"type":"ask","seq":10,"request":"Diver.use","args":["pearl"]}`, `{"type":"ask","seq":11,"request":"Diver.nothing","args":[]}`,
	} {
		want, err := wire.ParseFromClient([]byte(m))
		require.NoError(t, err, m)
		packed := want.Pack(o)
		got, err := wire.UnpackFromClient(packed, o)
		require.NoError(t, err, m)
		require.JSONEq(t, string(want.JSON()), string(got.JSON()))
		require.JSONEq(t, m, string(want.JSON()))
	}
}

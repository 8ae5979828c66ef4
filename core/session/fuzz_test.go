package session

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// plainArgument returns some value of a type.
func plainArgument(t *contract.Type) string {
	switch t.Form {
	case contract.FormBool:
		return "true"
	case contract.FormInt, contract.FormReal:
		raw := t.AppendJSON(nil, contract.Value{Num: t.High})
		return string(raw)
	case contract.FormText:
		return `""`
	case contract.FormEnum:
		return `"` + t.Enum.Values[0] + `"`
	case contract.FormKind:
		return `"` + t.Names[0] + `"`
	case contract.FormVec2, contract.FormVec3:
		v := contract.Value{}
		for range t.Reals() {
			v.Parts = append(v.Parts, contract.Value{Num: t.Low})
		}
		return string(t.AppendJSON(nil, v))
	case contract.FormDirection:
		return "0"
	case contract.FormRotation:
		return "[0,0,0,1]"
	case contract.FormList, contract.FormMap:
		return "[]"
	case contract.FormClient, contract.FormInstant:
		return "1"
	}
	return "null"
}

// Whatever contract the checker lets pass runs: it compiles, and no handler, timer or request of it breaks the session.
func FuzzSession(f *testing.F) {
	for _, pattern := range []string{"../compile/testdata/right/*.kam", "../../demo/*.kam", "../../docs/*.md"} {
		files, _ := filepath.Glob(pattern)
		for _, file := range files {
			raw, err := os.ReadFile(file)
			require.NoError(f, err)
			if filepath.Ext(file) == ".kam" {
				f.Add(string(raw))
			}
			for _, block := range regexp.MustCompile("(?s)```kam\n(.*?)```").FindAllStringSubmatch(string(raw), -1) {
				f.Add(block[1])
			}
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, _ := compile.Load("fuzz.kam", text)
		if c == nil || c.TickRate > 60 {
			return
		}
		s, err := New(c, Options{Trace: true})
		if err != nil {
			return // it asks for more than the machine has
		}
		for i, role := range c.Roles {
			if i < 3 && i < c.Seats {
				_, err := s.Join("Client "+string(rune('A'+i)), role)
				require.NoError(t, err)
			}
		}
		s.Tick()
		seq := uint64(0)
		for _, client := range s.Clients() {
			s.Ready(client.Number)
			for _, r := range c.Requests {
				seq++
				ask := wire.Ask{Seq: seq, Request: r.FullName(), Args: []json.RawMessage{}}
				for _, p := range r.Params {
					ask.Args = append(ask.Args, json.RawMessage(plainArgument(p.Type)))
				}
				s.Ask(client.Number, s.ReadRequest(ask))
				if seq%8 == 0 {
					s.Tick()
				}
			}
			for name, p := range s.steerable {
				s.Steer(client.Number, s.ReadSteering("press", wire.Move{Property: name, Press: 1}))
				s.Steer(
					client.Number,
					s.ReadSteering("write", wire.Move{Property: name, Value: json.RawMessage(plainArgument(p.Type))}),
				)
			}
			s.Lost(client.Number)
			s.Tick()
			s.Back(client.Number, 0)
		}
		for range 2 * c.TickRate {
			if s.Tick().Closed != "" {
				return
			}
			if len(s.world.Entities()) > 2000 {
				return
			}
		}
		for _, client := range s.Clients() {
			s.Leave(client.Number)
			s.Tick()
		}
	})
}

package record

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// randomCall returns any call.
func randomCall(t *rapid.T) session.Call {
	text := rapid.SampledFrom([]string{"", "ana", "Diver.use", "Diver.pos", "\x00\xff"})
	tick := rapid.Int64Range(-5, 1<<40)
	number := rapid.Uint64()
	value := rapid.Custom(func(t *rapid.T) json.RawMessage {
		return rapid.SliceOfN(rapid.Byte(), 1, 9).Draw(t, "value")
	})
	c := session.Call{Type: rapid.SampledFrom(session.CallTypes()).Draw(t, "type")}
	if c.Type != session.CallTick && c.Type != session.CallConfirmStored && c.Type != session.CallRecover {
		c.Client = int(rapid.Int32Min(0).Draw(t, "client"))
	}
	switch c.Type {
	case session.CallTick:
		c.Frames = rapid.Uint32().Draw(t, "frames")
	case session.CallJoin:
		c.Player = text.Draw(t, "player")
		c.Name = text.Draw(t, "name")
		c.Role = text.Draw(t, "role")
	case session.CallBack, session.CallConfirm, session.CallBehind, session.CallConfirmStored:
		c.Tick = tick.Draw(t, "tick")
	case session.CallAsk:
		c.Ask = &wire.Ask{
			Seq:     number.Draw(t, "seq"),
			Entity:  rapid.Uint32().Draw(t, "entity"),
			Request: text.Draw(t, "request"),
			Args:    rapid.SliceOfN(value, 0, 4).Draw(t, "args"),
			Seen:    tick.Draw(t, "seen"),
			Drawn:   rapid.Int64().Draw(t, "drawn"),
		}
	case session.CallSteer:
		m := wire.Move{
			Seq:      number.Draw(t, "seq"),
			Press:    number.Draw(t, "press"),
			Entity:   rapid.Uint32().Draw(t, "entity"),
			Property: text.Draw(t, "property"),
			Seen:     tick.Draw(t, "seen"),
			Drawn:    rapid.Int64().Draw(t, "drawn"),
			Wide:     rapid.IntRange(0, 4).Draw(t, "wide"),
		}
		for i := range m.Wide {
			m.Numbers[i] = rapid.Int64().Draw(t, "number")
		}
		if m.Wide == 0 {
			m.Value = value.Draw(t, "value")
		}
		c.Message = rapid.SampledFrom([]wire.MessageType{wire.MessagePress, wire.MessageWrite}).Draw(t, "message")
		c.Move = &m
	case session.CallSet:
		c.Entity = rapid.Uint32().Draw(t, "entity")
		c.Property = text.Draw(t, "property")
		c.Value = value.Draw(t, "value")
	case session.CallLoadKept:
		c.Kept = &session.Kept{
			Fence:  rapid.Int64().Draw(t, "fence"),
			Values: rapid.MapOf(text, value).Draw(t, "values"),
		}
	case session.CallHand:
		c.Entity = rapid.Uint32().Draw(t, "entity")
	}
	return c
}

// Every call is read as it was written, whatever is in it.
func TestCallsAreReadAsTheyWereWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var calls []session.Call
		tick := rapid.Int64Range(0, 1<<40).Draw(t, "first")
		w := NewWriter(tick, 7)
		for range rapid.IntRange(1, 30).Draw(t, "count") {
			c := randomCall(t)
			switch c.Type {
			case session.CallTick:
				tick++
				c.Tick = tick
			case session.CallRecover:
				tick += 100
				c.Tick = tick + 1
			}
			calls = append(calls, c)
			w.Record(&c)
		}
		tick++
		last := session.Call{Type: session.CallTick, Tick: tick}
		calls = append(calls, last)
		w.Record(&last)
		batch, ok := w.Take()
		require.True(t, ok)
		require.Equal(t, tick, batch.Last)
		require.EqualValues(t, 7, batch.Number)
		d := decoder{in: batch.Data, tick: batch.After}
		for _, want := range calls {
			got, err := d.next()
			require.NoError(t, err)
			if want.Ask != nil && len(want.Ask.Args) == 0 {
				want.Ask.Args = []json.RawMessage{}
			}
			require.Equal(t, want, *got)
		}
		got, err := d.next()
		require.NoError(t, err)
		require.Nil(t, got)
	})
}

// Every call is exported, in either form, as it was.
func TestCallsAreExportedAsTheyWere(t *testing.T) {
	types := map[string]session.CallType{}
	for _, x := range session.CallTypes() {
		types[x.String()] = x
	}
	rapid.Check(t, func(t *rapid.T) {
		want := randomCall(t)
		texts := want.Player + want.Name + want.Role + want.Property
		if want.Ask != nil {
			texts += want.Ask.Request
		}
		if want.Move != nil {
			texts += want.Move.Property
		}
		if !utf8.ValidString(texts) {
			return // JSON has no such text, and nothing in a session such a name
		}
		want.Value = json.RawMessage(`{"a":"b,\"c\""}`)
		if want.Ask != nil {
			want.Ask.Args = []json.RawMessage{[]byte("[1,2]")}
		}
		if want.Move != nil && want.Move.Wide == 0 {
			want.Move.Value = []byte("null")
		}
		if want.Kept != nil {
			want.Kept.Values = map[string]json.RawMessage{"Diver.tint": []byte("3")}
		}
		var table, lines line
		out := lineOf(&want)
		require.NoError(t, table.fill(out.cells()))
		raw, err := json.Marshal(out)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &lines))
		for _, l := range []line{table, lines} {
			got, err := l.call(types)
			require.NoError(t, err)
			require.Equal(t, want, *got)
		}
	})
}

// Bytes that are none of calls are an error, and nothing more.
func FuzzCalls(f *testing.F) {
	w := NewWriter(4, 1)
	w.Record(&session.Call{Type: session.CallJoin, Client: 1, Name: "ana", Role: "player"})
	w.Record(&session.Call{Type: session.CallAsk, Client: 1, Ask: &wire.Ask{Seq: 1, Request: "Diver.use"}})
	w.Record(&session.Call{Type: session.CallSteer, Client: 1, Message: wire.MessageWrite, Move: &wire.Move{Wide: 2}})
	w.Record(&session.Call{Type: session.CallTick, Tick: 5})
	f.Add(w.encoder.out)
	f.Fuzz(func(t *testing.T, data []byte) {
		d := decoder{in: data}
		for {
			call, err := d.next()
			if err != nil {
				assert.Nil(t, call)
				return
			}
			if call == nil {
				return
			}
		}
	})
}

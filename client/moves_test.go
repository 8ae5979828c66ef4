package client

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/wire"
)

// moves returns what a client has sent, without what it sends by itself.
func moves(f *fake) []string {
	var out []string
	for _, m := range f.sent() {
		if !strings.Contains(m, `"seen"}`) && !strings.Contains(m, `"ready"`) {
			out = append(out, m)
		}
	}
	return out
}

func TestAClientWritesAndHolds(t *testing.T) {
	c, problems := compile.Load("a.kam", `contract a language 1
entity Diver per player {
  pos: vec2 -9..9 step 0.5 set by owner pace distance(old, new) 8 per second when new.y <= 0
  hold kick lease 90ms
  request look() { pos.x += 1 }
}
tick 100 per second`)
	require.NotNil(t, c, problems.Error())
	raw, err := json.Marshal(wire.Hello{
		Type:     wire.MessageHello,
		Protocol: wire.Protocol,
		Client:   wire.Client{Number: 3, Name: "Ana", Role: "player"},
		Outline:  c.Outline(),
	})
	require.NoError(t, err)
	f := newFake(string(raw))
	me, err := New(t.Context(), f, Options{})
	require.NoError(t, err)

	seq, err := me.Write(0, "Diver.pos", json.RawMessage("[1,-2]"))
	require.NoError(t, err)
	assert.EqualValues(t, 1, seq)
	_, err = me.Write(7, "Diver.pos", json.RawMessage("[1,"))
	assert.ErrorContains(t, err, "the value is not JSON")
	_, err = me.Write(7, "Diver.pos", json.RawMessage("[2,-2]"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(moves(f)) == 2 }, 5*time.Second, time.Millisecond)
	for i, want := range []string{
		`{"type":"write","seq":1,"property":"Diver.pos","value":[1,-2]}`,
		`{"type":"write","seq":2,"entity":7,"property":"Diver.pos","value":[2,-2]}`,
	} {
		sent, err := wire.ParseFromClient([]byte(moves(f)[i]))
		require.NoError(t, err)
		wanted, err := wire.ParseFromClient([]byte(want))
		require.NoError(t, err)
		assert.Equal(t, wanted.Move(), sent.Move(), "what is sent can be read")
	}

	// A hold renews its lease with the same number until it is released; the next one has another number.
	_, err = me.Hold(0, "Diver.pos")
	assert.ErrorContains(t, err, "the outline has no such hold")
	release, err := me.Hold(0, "Diver.kick")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(moves(f)) >= 5 }, 5*time.Second, time.Millisecond, "it is renewed")
	release()
	release() // twice is once
	last := func() wire.FromClient {
		all := moves(f)
		m, err := wire.ParseFromClient([]byte(all[len(all)-1]))
		require.NoError(t, err)
		return m
	}
	require.Eventually(t, func() bool { return last().Type == wire.MessageRelease }, 5*time.Second, time.Millisecond)
	for _, m := range moves(f)[2:] {
		assert.Contains(t, m, `"press":1`)
	}
	again, err := me.Hold(0, "Diver.kick")
	require.NoError(t, err)
	defer again()
	require.Eventually(t, func() bool {
		return last().Press == 2 &&
			last().Type == wire.MessagePress
	}, 5*time.Second, time.Millisecond)
	f.out <- []byte(`{"type":"bye","reason":"enough"}`)
	<-me.Ended()
}

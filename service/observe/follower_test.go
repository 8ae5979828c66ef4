package observe

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
)

// What clients hold alike is told once, and what only one of them holds stands beside it.
func TestBlocksAreToldOnce(t *testing.T) {
	s, err := session.New(contracts.Load(t, `contract kelp language 1
roles player
entity Diver per player {
  hull: int 0..9999 = 0
  air:  int 0..9999 = 0 to owner
  every 50ms { hull += 1; air += 1 }
}`), session.Options{Trace: true, Memory: session.DefaultMemory})
	require.NoError(t, err)
	o := New(s)
	for i := range 3 {
		n, err := s.Join(fmt.Sprint("Diver ", i), "player")
		require.NoError(t, err)
		o.Joined(n)
	}
	f := o.Begin()
	for range 3 {
		step := s.Tick()
		for n := 1; n <= 3; n++ {
			s.Confirm(n, step.Tick-1)
			o.Confirmed(n)
		}
		m := f.Tick(o.Tick(step, false))
		if step.Tick < 3 {
			continue
		}
		require.Len(t, m.Clients, 3)
		assert.Len(t, m.Blocks, 4) // all hulls, and the air of each
		for i, c := range m.Clients {
			require.Len(t, c.Frames, 1)
			raw, err := m.Frame(c.Frames[0])
			require.NoError(t, err)
			assert.Equal(t, 3, strings.Count(string(raw), `"hull"`), "client %d: %s", i, raw)
			assert.Equal(t, 1, strings.Count(string(raw), `"air"`), "client %d: %s", i, raw)
		}
	}
	sheet := f.Sheet(o.Now())
	for _, c := range sheet.Clients {
		require.Len(t, c.Frames, 1)
		assert.True(t, c.Frames[0].Snapshot)
		raw, err := sheet.Frame(c.Frames[0])
		require.NoError(t, err)
		assert.Equal(t, 3, strings.Count(string(raw), `"hull"`))
	}
	_, err = sheet.Frame(api.WatchFrame{Tick: 7, State: []int{9}})
	assert.EqualError(t, err, "the frame of tick 7 is to have block 9 of 7")
}

// A session that is paused goes on receiving: what its clients send is added up, and nothing of it is lost.
func TestWhatAPausedSessionReceivesIsBounded(t *testing.T) {
	s, err := session.New(contracts.Load(t, contracts.Tally), session.Options{Trace: true})
	require.NoError(t, err)
	o := New(s)
	f := o.Begin()
	ask := wire.UsageItem{Type: wire.UsageRequest, Of: "Tally.add"}
	confirm := wire.UsageItem{Type: wire.UsageConfirm}
	const times = 10 * maxReceived
	for range times {
		o.Received(1, ask, 10)
		o.Received(2, confirm, 200)
	}
	assert.LessOrEqual(t, len(o.received), maxReceived)
	for s.Now()%int64(s.Contract().TickRate) != 0 || s.Now() == 0 {
		m := f.Tick(o.Tick(s.Tick(), false))
		if m == nil || m.Traffic == nil {
			continue
		}
		bits := map[string][2]int64{}
		for _, row := range m.Traffic.Rows {
			if row.Up {
				bits[string(row.Type)] = [2]int64{sum(row.Bits), sum(row.Counts)}
			}
		}
		assert.Equal(t, map[string][2]int64{
			string(wire.UsageRequest): {times * 10 * 8, times},
			string(wire.UsageConfirm): {times * 200 * 8, times},
			string(api.UsageSocket):   {times * ((2 + 4) + (4 + 4)) * 8, 2 * times},
		}, bits)
		return
	}
	assert.Fail(t, "no traffic was told of")
}

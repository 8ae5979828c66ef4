package runner

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/journal"
	"kamerad.example/store"
)

const lookText = `contract look language 2
seats 4 grace 1s
entity Diver per player { tint: int 0..5 = 2 keep; request paint(hue: int 0..5) { tint = hue } }
`

// pockets has what players keep, in memory.
type pockets struct {
	mu       sync.Mutex
	fence    int64
	holder   map[string]int64 // the fence of who has it; 0 for nobody
	values   map[string]json.RawMessage
	away     bool
	released []string
}

func (p *pockets) Lease(_ context.Context, k store.Keeper, session int64) (store.Kept, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.away {
		return store.Kept{}, errors.New("away")
	}
	if p.holder[k.Name] != 0 {
		return store.Kept{}, &store.ErrLeased{Session: 7}
	}
	p.fence++
	p.holder[k.Name] = p.fence
	return store.Kept{Keeper: k, Fence: p.fence, Values: p.values, Session: session}, nil
}

func (p *pockets) Append(_ context.Context, e store.Entries) (store.Result, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, k := range e.Kept {
		if k.Release && p.holder[k.Name] == k.Fence {
			p.holder[k.Name] = 0
			p.released = append(p.released, k.Name)
		}
	}
	return store.Result{}, nil
}

func (p *pockets) IsDurable(context.Context) (bool, string, error) { return true, "", nil }

// free reports whether nobody has what a player keeps.
func (p *pockets) free(player string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.holder[player] == 0
}

// newLook returns a runner of a session whose players keep something. It runs.
func newLook(t *testing.T, p *pockets) *Runner {
	p.holder = map[string]int64{}
	s, err := session.New(contracts.Load(t, lookText), session.Options{Trace: true})
	require.NoError(t, err)
	j := journal.New(p)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = j.Close(ctx)
	})
	log := j.Open(s, journal.Options{Session: 1, Contract: "look", NextBatch: 1})
	r, _ := newTestRunnerOf(t, s, Options{Log: log, Players: p})
	go r.Run()
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		r.Close(ctx, "over")
	})
	return r
}

// take asks for a seat as a connection does.
func take(t *testing.T, r *Runner, name string) (client int, err error) {
	j := SeatRequest{Join: wire.Join{Name: name}}
	done, err := r.Prepare(t.Context(), &j)
	if err != nil {
		return 0, err
	}
	defer done()
	var seating Seating
	var refused error
	require.NoError(t, r.Do(t.Context(), func() { seating, refused = r.TakeSeat(j) }))
	return seating.Hello.Client.Number, refused
}

// What a player keeps is free again however the player leaves: by themselves, when their connection does not come back,
// and when they get no seat after all. Who is refused takes nothing from the one who has it.
func TestWhatIsKeptIsFreeOnceThePlayerIsGone(t *testing.T) {
	p := &pockets{}
	r := newLook(t, p)
	gone := func(player string) {
		require.Eventually(t, func() bool { return p.free(player) }, 10*time.Second, 5*time.Millisecond, player)
	}
	ana, err := take(t, r, "Ana")
	require.NoError(t, err)
	assert.False(t, p.free("Ana"))
	_, err = take(t, r, "Ana")
	var refusal *session.Refusal
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, session.NameTaken, refusal.Code)
	assert.False(t, p.free("Ana"), "hers is not taken from her")
	r.Post(func() { r.Leave(ana, "enough") })
	gone("Ana")

	bo, err := take(t, r, "Bo")
	require.NoError(t, err)
	// The session itself cuts who does not come back in time.
	require.NoError(t, r.Do(t.Context(), func() { r.session.Lost(bo) }))
	gone("Bo")

	j := SeatRequest{Join: wire.Join{Name: "Cleo"}}
	done, err := r.Prepare(t.Context(), &j)
	require.NoError(t, err)
	assert.False(t, p.free("Cleo"))
	done() // and no seat was taken
	gone("Cleo")

	p.mu.Lock()
	p.away = true
	p.mu.Unlock()
	_, err = take(t, r, "Dov")
	var why *Refusal
	require.ErrorAs(t, err, &why)
	assert.Equal(t, "kept_unavailable", why.Code)
	p.mu.Lock()
	p.away = false
	p.holder["Dov"] = 99
	p.mu.Unlock()
	_, err = take(t, r, "Dov")
	require.ErrorAs(t, err, &why)
	assert.Equal(t, "player_elsewhere", why.Code)
}

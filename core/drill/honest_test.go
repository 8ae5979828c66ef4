package drill

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/foresee"
	"kamerad.example/core/link"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/wild"
)

// honest is a player that sends only what the checks that it can evaluate allow on its own copy.
type honest struct {
	*player
	outline *contract.Outline
	actor   *play.Actor
	role    string
}

func (h *honest) Outline() *contract.Outline     { return h.outline }
func (h *honest) Me() wire.Client                { return wire.Client{Number: h.number, Name: h.name, Role: h.role} }
func (h *honest) Look(f func(c *replicate.Copy)) { f(&h.player.copy) }

// crowd is how many entities are so many that a session is not played on.
const crowd = 500

// spam lets honest players with late views send all that they can for some ticks, and tells how many of their requests
// were decided, how many strikes there were, and who was thrown out. It ends early once the contract has spawned very
// much, and says after how many ticks.
func spam(t *testing.T, c *contract.Contract, seed uint64, ticks int) (lasted, decided, strikes int, out []string) {
	s, err := session.New(c, session.Options{Key: Key(seed)})
	require.NoError(t, err)
	w := newStage(&Drill{}, s)
	f, _ := foresee.New(c.Outline())
	r := rand.New(rand.NewPCG(seed, 11))
	var all []*honest
	for i := range 4 {
		conditions := link.Conditions{
			Delay:  time.Duration(200+r.IntN(1800)) * time.Millisecond,
			Jitter: 100 * time.Millisecond,
			Loss:   0.05,
		}
		role := c.Roles[i%min(2, len(c.Roles))]
		p, err := w.join(fmt.Sprint("h", i), role, conditions, &Shaking{Seed: seed}, false)
		require.NoError(t, err)
		h := &honest{player: p, outline: w.outline, role: role}
		h.actor = play.NewActor(h, rand.New(rand.NewPCG(seed, uint64(i))))
		all = append(all, h)
	}
	for lasted < ticks && (lasted == 0 || lasted%1000 > 0 || len(s.State().Spawned) < crowd) {
		lasted++
		for _, h := range all {
			if h.out != "" || len(h.open) >= wire.MaxUndone || r.IntN(3) > 0 {
				continue
			}
			entity, request, args := h.actor.Pick()
			kind, name, _ := strings.Cut(request, ".")
			k := w.outline.Kind(kind)
			if request == "" || k == nil || k.Request(name) == nil {
				continue
			}
			var values []contract.Value
			for i, p := range k.Request(name).Params {
				v, err := p.Type.ParseJSON(args[i])
				require.NoError(t, err)
				values = append(values, v)
			}
			if f != nil && f.Denies(&h.player.copy, h.number, w.outline, request, entity, values) >= 0 {
				continue
			}
			if args == nil {
				args = []json.RawMessage{}
			}
			m := wire.FromClient{Type: wire.MessageAsk}
			m.Request = request
			m.Entity = entity
			m.Args = args
			w.ask(h.player, m, nil)
			decided++
		}
		require.NoError(t, w.step())
		for _, h := range all {
			strikes += s.Strikes(h.number)
		}
		w.faults = nil
	}
	for _, h := range all {
		if h.out != "" {
			out = append(out, h.name+": "+h.out)
		}
	}
	return lasted, decided, strikes, out
}

// Honest clients that spam over bad links, with delays of up to two seconds, are never struck and never expelled: in
// random contracts and in Tidewreck. KAMERAD_HONEST says how many seconds of virtual time each is played, and
// KAMERAD_RUNS how many random contracts. Where a contract spawns without end, the time is that of several sessions.
func TestHonestClientsAreNeverStruck(t *testing.T) {
	seconds := 20
	runs := 10
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_HONEST")); err == nil {
		seconds = n
	}
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_RUNS")); err == nil {
		runs = n
	}
	contracts := []*contract.Contract{}
	names := []string{}
	for seed := uint64(1); len(contracts) < runs; seed++ {
		text := wild.Contract(rand.New(rand.NewPCG(seed, 1)))
		if seed%2 == 0 { // most of what changes has to wait
			text = strings.Replace(text, "\n", "\neach client at most 500 bytes per second\n", 1)
		}
		c, problems := compile.Load("wild.kam", text)
		unfair := slices.ContainsFunc(problems, func(p syntax.Problem) bool { return p.Code == "unfair" })
		// a contract that is warned of strikes on what nobody can know may strike anybody
		if c == nil || len(c.Requests) == 0 || unfair {
			continue
		}
		contracts = append(contracts, c)
		names = append(names, fmt.Sprint("seed ", seed))
	}
	raw, err := os.ReadFile(demo + "/tidewreck.kam")
	require.NoError(t, err)
	c, problems := compile.LoadWith("tidewreck.kam", string(raw), beside(nil))
	require.NotNil(t, c, problems)
	contracts = append(contracts, c)
	names = append(names, "Tidewreck")

	sent := make([]int, len(contracts))
	struck := make([]int, len(contracts))
	thrown := make([]int, len(contracts))
	t.Run("contracts", func(t *testing.T) {
		for i, c := range contracts {
			t.Run(names[i], func(t *testing.T) {
				t.Parallel()
				sessions := 0
				for left := seconds * c.TickRate; left > 0; sessions++ {
					lasted, n, strikes, out := spam(t, c, uint64(1000*i+sessions), left)
					assert.Zero(t, strikes)
					assert.Empty(t, out)
					left -= lasted
					sent[i] = sent[i] + n
					struck[i] = struck[i] + strikes
					thrown[i] = thrown[i] + len(out)
				}
				t.Logf("%d requests in %d sessions", sent[i], sessions)
			})
		}
	})
	assert.Positive(t, sent[runs], "in Tidewreck")
	sum := func(list []int) (sum int) {
		for _, n := range list {
			sum += n
		}
		return sum
	}
	t.Logf(
		"%d requests of honest clients in %d random contracts and %d in Tidewreck, %d s each: %d strikes, %d "+
			"clients out",
		sum(sent[:runs]), runs, sent[runs], seconds, sum(struck), sum(thrown),
	)
}

package drill

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/link"
)

// What goes wrong in a random run is of all four sorts, each with what it takes and within its bounds; its words read
// back as the same.
func TestEverythingGoesWrong(t *testing.T) {
	seen := map[FaultKind]int{}
	for seed := range uint64(300) {
		for _, f := range shaking(seed, []string{"ana", "bo"}).Faults {
			seen[f.What]++
			again, err := ParseFault(f.String())
			require.NoError(t, err)
			assert.Equal(t, f, again)
			switch f.What {
			case FaultDelay, FaultJitter:
				most := map[FaultKind]time.Duration{
					FaultDelay:  200 * time.Millisecond,
					FaultJitter: 100 * time.Millisecond,
				}[f.What]
				assert.True(t, f.Time > 0 && f.Time <= most && f.Share == 0 && f.Length == 0, "%+v", f)
			case FaultLoss:
				assert.True(t, f.Share >= 0.01 && f.Share <= 0.2 && f.Time == 0 && f.Length == 0, "%+v", f)
			default:
				assert.True(t, f.Length > 0 && f.Length <= 1200*time.Millisecond && f.Time > 0 &&
					f.Share == 0, "%+v", f)
			}
		}
	}
	for _, what := range []FaultKind{FaultDelay, FaultJitter, FaultLoss, FaultStall} {
		assert.Greater(t, seen[what], 100, what)
	}
	assert.Len(t, seen, 4)
}

// Each sort of fault makes a link worse in its own way, and only that of its client.
func TestEachFaultWorsensItsLink(t *testing.T) {
	good := link.Conditions{Delay: time.Second}
	for fault, want := range map[string]link.Conditions{
		"bo delay 1080ms":    {Delay: 1080 * time.Millisecond},
		"bo jitter 40ms":     {Delay: time.Second, Jitter: 40 * time.Millisecond},
		"bo loss 5%":         {Delay: time.Second, Loss: 0.05},
		"bo stall 2s+600ms":  good,
		"ana stall 2s+600ms": good,
		"ana delay 9s":       good,
	} {
		f, err := ParseFault(fault)
		require.NoError(t, err)
		s := &Shaking{Faults: []Fault{f}}
		assert.Equal(t, want, s.worsen("bo", good), fault)
		stalls := []stall(nil)
		if fault == "bo stall 2s+600ms" {
			stalls = []stall{{2 * time.Second, 2600 * time.Millisecond}}
		}
		assert.Equal(t, stalls, s.stalls("bo"), fault)
	}
}

// What still fails is made as small as it can be: a stall shorter, and not earlier; a delay shorter.
func TestFaultsShrink(t *testing.T) {
	parse := func(text string) Fault {
		f, err := ParseFault(text)
		require.NoError(t, err)
		return f
	}
	all := &Shaking{
		Seed:   3,
		Faults: []Fault{parse("ana delay 160ms"), parse("bo loss 16%"), parse("bo stall 2s+1200ms")},
	}
	for what, want := range map[FaultKind]string{
		FaultStall: "bo stall 2s+150ms",
		FaultDelay: "ana delay 20ms",
		FaultLoss:  "bo loss 2%",
	} {
		small := shrink(all, func(s *Shaking) bool {
			for _, f := range s.Faults {
				if f.What == what {
					return f.Length >= 100*time.Millisecond || f.Time >= 20*time.Millisecond && what == FaultDelay ||
						f.Share >= 0.02
				}
			}
			return false
		})
		require.Len(t, small.Faults, 1)
		assert.Equal(t, want, small.Faults[0].String())
	}
}

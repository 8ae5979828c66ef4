package endurance

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kamerad.example/internal/tests/testservice"
)

// tickSums holds how many ticks a service did, how many it should have done, and how many took too long.
type tickSums struct{ ticks, due, overruns float64 }

func (s *tickSums) add(other tickSums) {
	s.ticks += other.ticks
	s.due += other.due
	s.overruns += other.overruns
}

func (s tickSums) String() string {
	return fmt.Sprintf("%.0f ticks of %.0f, %.0f too long", s.ticks, s.due, s.overruns)
}

// tickReport holds a service's ticks, apart by whether the machine was disturbed at the time.
type tickReport struct {
	calm, disturbed tickSums
	changes         int // how often the machine went from calm to disturbed or back
}

func (r tickReport) String() string {
	return fmt.Sprintf(
		"undisturbed: %v; while others had the processors: %v (%d changes)", r.calm, r.disturbed, r.changes,
	)
}

// window is how long ticks are counted together.
const window = 250 * time.Millisecond

// disturbing is how much of a processor's time the hypervisor has to give to others within a window for the machine to
// count as disturbed, before, in and after that window. What runs on this machine does not count as such time, however
// much it takes, so an attack cannot excuse itself.
const disturbing = 20 * time.Millisecond

// followTicks counts a service's ticks until stop is called. rate is how many it should do in a second, over all
// sessions.
func followTicks(t *testing.T, p *testservice.Process, rate float64) (stop func() tickReport) {
	ended := make(chan struct{})
	result := make(chan tickReport)
	count := func() (time.Time, tickSums) {
		return time.Now(), tickSums{
			ticks:    metric(t, p, "kamerad_tick_seconds_count"),
			overruns: metric(t, p, "kamerad_tick_overruns_total"),
		}
	}
	go func() {
		var windows []tickSums
		var disturbed []bool
		at, sums := count()
		steal := stolen(t)
		for running := true; running; {
			select {
			case <-ended:
				running = false
			case <-time.After(window):
			}
			nextAt, next := count()
			nextSteal := stolen(t)
			windows = append(windows, tickSums{
				ticks:    next.ticks - sums.ticks,
				due:      rate * nextAt.Sub(at).Seconds(),
				overruns: next.overruns - sums.overruns,
			})
			most := time.Duration(0)
			for cpu := range nextSteal {
				most = max(most, nextSteal[cpu]-steal[cpu])
			}
			disturbed = append(disturbed, most >= disturbing)
			at, sums, steal = nextAt, next, nextSteal
		}
		result <- apart(windows, disturbed)
	}()
	return func() tickReport { close(ended); return <-result }
}

// apart adds the windows up. One that stands beside a disturbed one counts as disturbed: a tick ends in a later window
// than the one it began in.
func apart(windows []tickSums, disturbed []bool) (r tickReport) {
	was := false
	for i, sums := range windows {
		is := disturbed[i] || i > 0 && disturbed[i-1] || i+1 < len(windows) && disturbed[i+1]
		if i > 0 && is != was {
			r.changes++
		}
		if is {
			r.disturbed.add(sums)
		} else {
			r.calm.add(sums)
		}
		was = is
	}
	return r
}

// stolen returns how long each processor was given to others by a hypervisor since the machine started, as Linux counts
// it; nothing elsewhere.
func stolen(t *testing.T) (out []time.Duration) {
	text, err := os.ReadFile("/proc/stat")
	if os.IsNotExist(err) {
		return nil
	}
	if !assert.NoError(t, err) {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		const steal = 8 // after the name: user, nice, system, idle, iowait, irq, softirq, steal
		if len(fields) <= steal || !strings.HasPrefix(fields[0], "cpu") || fields[0] == "cpu" {
			continue
		}
		ticks, err := strconv.Atoi(fields[steal])
		assert.NoError(t, err)
		out = append(out, time.Duration(ticks)*10*time.Millisecond)
	}
	return out
}

// stolenShare returns which share of the processors' time was stolen between two results of stolen.
func stolenShare(before, after []time.Duration, passed time.Duration) float64 {
	lost := time.Duration(0)
	for cpu := range after {
		lost += after[cpu] - before[cpu]
	}
	return lost.Seconds() / max(passed.Seconds()*float64(len(after)), 1e-9)
}

func TestTicksAreJudgedWhileTheMachineIsCalm(t *testing.T) {
	one := tickSums{ticks: 10, due: 10}
	late := tickSums{ticks: 7, due: 10, overruns: 1}
	r := apart([]tickSums{one, late, one, one, late, one}, []bool{true, false, false, false, false, false})
	assert.Equal(t, tickSums{ticks: 37, due: 40, overruns: 1}, r.calm)
	assert.Equal(t, tickSums{ticks: 17, due: 20, overruns: 1}, r.disturbed)
	assert.Equal(t, 1, r.changes)
}

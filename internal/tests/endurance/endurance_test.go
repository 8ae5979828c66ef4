package endurance

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/client/load"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/testservice"
)

// dive has no limits of its own, so that honest clients are decided at once and whoever asks for much is accepted.
const dive = `contract dive language 1
tick 20 per second
seats 64
roles player, crier

entity Diver per player {
  depth: int 0..1000 = 0 clamped
  request sink() { depth += 1 }
}

entity Horn per crier {
  blown: int 0..1000 = 0 clamped
  request blow(words: text max 1000) { blown += 1 }
}
`

// burner costs, once its cellar is full, three quarters of what a contract may in each request and timer.
const burner = `contract burner language 1
tick 20 per second
seats 16

entity Coal { hot: bool = false once }

entity Oven per player {
  heat: int 0..1000000000 = 0 clamped
  request burn() {
    for a in Coal { for b in Coal { for c in Coal { heat += 1 } } }
  }
  every 100ms {
    for a in Coal { for b in Coal { for c in Coal { heat += 1 } } }
  }
}

shared Cellar to nobody {
  every 50ms while count(Coal) < 50 { spawn Coal }
}
`

func needed(t *testing.T) {
	if os.Getenv("KAMERAD_ENDURANCE") == "" {
		t.Skip("takes minutes to hours: KAMERAD_ENDURANCE=1 runs it")
	}
}

// times is how often something is done over: KAMERAD_TIMES, or what the test asks for.
func times(otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_TIMES")); err == nil {
		return n
	}
	return otherwise
}

// long is how long something lasts: KAMERAD_FOR, or ten minutes.
func long(t *testing.T) time.Duration {
	text := os.Getenv("KAMERAD_FOR")
	if text == "" {
		return 10 * time.Minute
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err)
	return d
}

func open(t *testing.T, p *testservice.Process, name, source string) int64 {
	_, err := p.Publish(t.Context(), name+".kam", source, demo.Files)
	require.NoError(t, err)
	s, err := p.Open(t.Context(), api.OpenSession{Contract: name})
	require.NoError(t, err)
	return s.ID
}

// play has honest clients play a session, each with so many requests a second. It fails the test when one is thrown out
// or gets out of step.
func play(
	t *testing.T, p *testservice.Process, session int64, clients int, asks float64, lasts time.Duration,
) *load.Report {
	r, err := load.Run(t.Context(), load.Options{
		Service: p.Service,
		Session: session,
		Clients: clients,
		For:     lasts,
		Asks:    asks,
		Seed:    uint64(session),
		Name:    "Honest",
	})
	if assert.NoError(t, err) {
		assert.Empty(t, r.Out, "nobody honest is out")
		assert.Zero(t, r.Differed, "nobody honest is out of step")
	}
	return r
}

// metric returns the sum of a metric over its labels.
func metric(t *testing.T, p *testservice.Process, name string) (sum float64) {
	answer, err := http.Get(p.Service + "/metrics")
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	found := regexp.MustCompile(`(?m)^`+name+`(?:\{[^}]*\})? (\S+)$`).FindAllStringSubmatch(string(text), -1)
	require.NotEmpty(t, found, name)
	for _, line := range found {
		value, err := strconv.ParseFloat(line[1], 64)
		require.NoError(t, err)
		sum += value
	}
	return sum
}

// most follows the service's memory until stop is called, which returns the most it had, in megabytes.
func most(t *testing.T, p *testservice.Process) (stop func() float64) {
	ended := make(chan struct{})
	result := make(chan float64)
	go func() {
		top := 0.0
		for {
			select {
			case <-ended:
				result <- top
				return
			case <-time.After(500 * time.Millisecond):
				top = max(top, metric(t, p, "process_resident_memory_bytes")/1e6)
			}
		}
	}()
	return func() float64 { close(ended); return <-result }
}

func median(list []float64) float64 {
	list = slices.Sorted(slices.Values(list))
	return list[len(list)/2]
}

// quiet reports that the service had no failure inside, no frame out of order and, in a race build, no race.
func quiet(t *testing.T, p *testservice.Process) {
	assert.Zero(t, metric(t, p, "kamerad_session_failures_total"))
	assert.Zero(t, metric(t, p, "kamerad_misordered_frames_total"))
	assert.NotContains(t, p.Log(), "DATA RACE")
	assert.NotContains(t, p.Log(), "panic")
}

// Eight hostile clients for ten minutes: memory is at most that of honest play and 64 MB more, no tick comes late, and
// everyone honest, in their session and another one, plays on. Ticks are judged while the machine is undisturbed.
func TestHostileClients(t *testing.T) {
	needed(t)
	p := testservice.Start(t)
	attacked := open(t, p, "tidewreck", demo.Contract)
	other := open(t, p, "tidewreck", demo.Contract)
	honest := func(lasts time.Duration) {
		var both sync.WaitGroup
		both.Go(func() { play(t, p, attacked, 4, 4, lasts) })
		both.Go(func() { play(t, p, other, 6, 4, lasts) })
		both.Wait()
	}
	stop := most(t, p)
	honest(20 * time.Second)
	before := stop()
	stop = most(t, p)
	ticks := followTicks(t, p, 2*20)
	_, wait := abuse(t, "hostile", target{p.Service, attacked, int(long(t).Seconds())})
	honest(long(t))
	seen := ticks()
	after := stop()
	wait()
	t.Logf("memory %.0f MB before, %.0f under attack; %.0f broken messages",
		before, after, metric(t, p, "kamerad_broken_messages_total"))
	t.Log(seen)
	assert.Less(t, after, before+64)
	assert.Zero(t, seen.calm.overruns, "ticks that took too long")
	assert.InDelta(t, seen.calm.due, seen.calm.ticks, 40+float64(seen.changes))
	assert.Greater(t, seen.calm.due, seen.disturbed.due/3, "the machine was disturbed too much to judge ticks")
	quiet(t, p)
}

// pairs measures the honest clients' 99th percentile with and without something, in turns, and returns the ratio of the
// medians. A pair during which a hypervisor gave the processors to others is measured again.
func pairs(t *testing.T, count int, without, with func() float64) float64 {
	const share = 0.05 // of the processors' time that others may have had
	var a, b []float64
	for tries := 0; len(a) < count; tries++ {
		require.Less(t, tries, 5*count, "the machine was disturbed too much to judge")
		began := time.Now()
		before := stolen(t)
		x := without()
		y := with()
		lost := stolenShare(before, stolen(t), time.Since(began))
		t.Logf("pair: without %.1f ms, with %.1f ms; others had %.1f %% of the processors", x, y, 100*lost)
		if lost > share {
			continue
		}
		a = append(a, x)
		b = append(b, y)
	}
	t.Logf("medians: without %.1f ms, with %.1f ms, ratio %.3f", median(a), median(b), median(b)/median(a))
	return median(b) / median(a)
}

// What hostile clients send to one session delays those of another one no more than the same bytes sent to a program
// that only reads them.
func TestHostileClientsDelayNobody(t *testing.T) {
	needed(t)
	p := testservice.Start(t)
	attacked := open(t, p, "tidewreck", demo.Contract)
	other := open(t, p, "tidewreck", demo.Contract)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().String()
	require.NoError(t, listener.Close())
	t.Setenv("KAMERAD_SINK", address)
	cmd, _ := abuse(t, "sink", target{p.Service, attacked, 0})
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	under := func(service string) func() float64 {
		return func() float64 {
			_, wait := abuse(t, "hostile", target{service, attacked, 20})
			r := play(t, p, other, 6, 4, 19*time.Second)
			wait()
			return r.Delay.P99
		}
	}
	assert.LessOrEqual(t, pairs(t, times(5), under("http://"+address), under(p.Service)), 1.1)
	quiet(t, p)
}

// Whoever wears out connections and seats delays nobody who plays.
func TestConnectionsDelayNobody(t *testing.T) {
	needed(t)
	for _, c := range []struct {
		abuse  string
		amount int
	}{{"join", 10_000}, {"slow", 2_000}, {"idle", 5_000}} {
		t.Run(c.abuse, func(t *testing.T) {
			p := testservice.Start(t)
			played := open(t, p, "dive", dive)
			joined := open(t, p, "dive", dive)
			stop := most(t, p)
			alone := func() float64 { return play(t, p, played, 10, 4, 15*time.Second).Delay.P99 }
			beside := func() float64 {
				_, wait := abuse(t, c.abuse, target{p.Service, joined, c.amount})
				ended := make(chan struct{})
				go func() { wait(); close(ended) }()
				var p99 []float64
				for running := true; running; { // as long as it lasts
					p99 = append(p99, alone())
					select {
					case <-ended:
						running = false
					default:
					}
				}
				return slices.Max(p99)
			}
			assert.LessOrEqual(t, pairs(t, times(3), alone, beside), 1.1)
			t.Logf("memory %.0f MB at most", stop())
			quiet(t, p)
		})
	}
}

// Sixteen clients that vanish without a word leave the seats of a session of sixteen free within five seconds, and
// delay nobody else.
func TestAbruptJoinsDelayNobody(t *testing.T) {
	needed(t)
	p := testservice.Start(t)
	played := open(t, p, "dive", dive)
	crowded := open(
		t, p, "crowd", strings.NewReplacer("seats 64", "seats 16", "contract dive", "contract crowd").Replace(dive),
	)
	alone := func() float64 { return play(t, p, played, 10, 4, 10*time.Second).Delay.P99 }
	beside := func() float64 {
		_, wait := abuse(t, "abrupt", target{p.Service, crowded, 10}) // fails when a seat is not free in time
		p99 := alone()
		wait()
		return p99
	}
	assert.LessOrEqual(t, pairs(t, times(3), alone, beside), 1.1)
	quiet(t, p)
}

// A session whose contract uses all the time that it may have delays none of twenty others.
func TestABurnerDelaysNobody(t *testing.T) {
	needed(t)
	p := testservice.Start(t)
	var sessions []int64
	for range 20 {
		sessions = append(sessions, open(t, p, "dive", dive))
	}
	all := func() float64 {
		p99 := make([]float64, len(sessions))
		var each sync.WaitGroup
		for i, session := range sessions {
			each.Go(func() { p99[i] = play(t, p, session, 2, 4, 15*time.Second).Delay.P99 })
		}
		each.Wait()
		return median(p99)
	}
	burning := open(t, p, "burner", burner)
	beside := func() float64 {
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			_, _ = load.Run(ctx, load.Options{
				Service: p.Service,
				Session: burning,
				Clients: 8,
				For:     time.Minute,
				Asks:    20,
				Name:    "Fire",
			})
		}()
		p99 := all()
		cancel()
		<-ended
		return p99
	}
	assert.LessOrEqual(t, pairs(t, times(3), all, beside), 1.1)
	t.Logf("%.0f inputs were put off", metric(t, p, "kamerad_deferred_inputs_total"))
	quiet(t, p)
}

// proxy stands between the service and its database, and can cut it off.
type proxy struct {
	url  string // of the database, through the proxy
	mu   sync.Mutex
	away bool
	all  map[net.Conn]struct{}
}

func newProxy(t *testing.T) *proxy {
	u, err := url.Parse(testservice.Database(t))
	require.NoError(t, err)
	database := u.Host
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	u.Host = listener.Addr().String()
	x := &proxy{url: u.String(), all: map[net.Conn]struct{}{}}
	go func() {
		for {
			from, err := listener.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", database)
			if err != nil || !x.keep(from, to) {
				from.Close()
				continue
			}
			pass := func(a, b net.Conn) { _, _ = io.Copy(a, b); x.end(a, b) }
			go pass(from, to)
			go pass(to, from)
		}
	}()
	return x
}

func (x *proxy) keep(list ...net.Conn) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.away {
		return false
	}
	for _, c := range list {
		x.all[c] = struct{}{}
	}
	return true
}

func (x *proxy) end(list ...net.Conn) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, c := range list {
		c.Close()
		delete(x.all, c)
	}
}

// set cuts the database off, or lets it come back.
func (x *proxy) set(away bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.away = away
	if away {
		for c := range x.all {
			c.Close()
		}
		clear(x.all)
	}
}

// The database is away for ten minutes, under one client that floods the service and fifty that are honest: memory is
// bounded, what is dropped is counted and is the flooder's, and all of the honest is stored.
func TestTheDatabaseIsAway(t *testing.T) {
	needed(t)
	x := newProxy(t)
	p := testservice.StartOn(t, x.url)
	session := open(t, p, "dive", dive)
	before := metric(t, p, "process_resident_memory_bytes") / 1e6
	stop := most(t, p)
	flooding, cancel := context.WithCancel(t.Context())
	flooded := make(chan int)
	go func() {
		eve, err := client.Join(flooding, p.Service, session, "Eve", "crier", client.Options{})
		assert.NoError(t, err)
		defer eve.Close()
		words := json.RawMessage(strconv.Quote(strings.Repeat("x", 990)))
		var sent atomic.Int64
		var all sync.WaitGroup
		for range 10 {
			all.Go(func() {
				for flooding.Err() == nil {
					if _, err := eve.Ask(flooding, 0, "Horn.blow", words); err == nil {
						sent.Add(1)
					} else if !assert.ErrorIs(t, err, context.Canceled) {
						return
					}
				}
			})
		}
		all.Wait()
		flooded <- int(sent.Load())
	}()
	asked := make(chan int)
	go func() { asked <- play(t, p, session, 50, 2, long(t)+20*time.Second).Asked }()
	time.Sleep(10 * time.Second)
	x.set(true)
	time.Sleep(long(t))
	x.set(false)
	honest := <-asked
	cancel()
	sent := <-flooded
	top := stop()
	require.Eventually(
		t, func() bool { return metric(t, p, "kamerad_records_waiting") == 0 }, time.Minute, 100*time.Millisecond,
	)
	dropped := metric(t, p, "kamerad_records_dropped_total")
	stored := p.Query(
		"select count(*) filter (where name like 'Honest%'), count(*) filter (where name = 'Eve'), count(*) from " +
			"decisions",
	)[0]
	t.Logf(
		"memory %.0f MB before, %.0f at most; honest: %d asked, %v stored; the flooder: %d asked, %v stored; %.0f "+
			"records dropped",
		before, top, honest, stored[0], sent, stored[1], dropped,
	)
	assert.GreaterOrEqual(t, stored[0], int64(honest), "no honest record is missing")
	assert.LessOrEqual(
		t, stored[0], int64(honest+50),
		"and none stands twice: each client may have one that it did not see the end of",
	)
	assert.InDelta(
		t, float64(sent), float64(stored[1].(int64))+dropped, 10, "what of its last requests it did not see the end of",
	)
	assert.Greater(t, sent, int(long(t).Seconds())*20, "it floods")
	assert.Less(t, top, before+128)
	quiet(t, p)
	assert.Zero(t, p.Stop())
}

// A service that is told to stop ends in time, says what it could not do, and leaves nothing open in the database.
func TestStopping(t *testing.T) {
	needed(t)
	heavy := strings.Replace(burner, "every 100ms", "every 50ms", 1)
	for name, prepare := range map[string]func(t *testing.T, p *testservice.Process) (status int, says string){
		"under load": func(t *testing.T, p *testservice.Process) (int, string) {
			loaded(t, p, open(t, p, "dive", dive), 16, 20)
			return 0, "Stopped: all clients were told and all records are stored."
		},
		"a heavy contract": func(t *testing.T, p *testservice.Process) (int, string) {
			loaded(t, p, open(t, p, "burner", heavy), 8, 20)
			time.Sleep(4 * time.Second) // its cellar is full
			return 0, "Stopped: all clients were told and all records are stored."
		},
		"paused": func(t *testing.T, p *testservice.Process) (int, string) {
			session := open(t, p, "dive", dive)
			loaded(t, p, session, 8, 20)
			_, err := p.Pause(t.Context(), session, true)
			require.NoError(t, err)
			return 0, "Stopped: all clients were told and all records are stored."
		},
		"opening": func(t *testing.T, p *testservice.Process) (int, string) {
			open(t, p, "dive", dive)
			for range 4 {
				go func() {
					for {
						if _, err := p.Open(context.Background(), api.OpenSession{Contract: "dive"}); err != nil {
							return
						}
					}
				}()
			}
			time.Sleep(100 * time.Millisecond)
			return 0, "Stopped: all clients were told and all records are stored."
		},
		"the database hangs": func(t *testing.T, p *testservice.Process) (int, string) {
			loaded(t, p, open(t, p, "dive", dive), 16, 20)
			conn, err := pgx.Connect(t.Context(), p.Database)
			require.NoError(t, err)
			t.Cleanup(func() { conn.Close(context.Background()) })
			_, err = conn.Exec(t.Context(), "begin; lock table decisions in access exclusive mode")
			require.NoError(t, err)
			time.Sleep(500 * time.Millisecond)
			return 1, "could not be written in time"
		},
	} {
		t.Run(name, func(t *testing.T) {
			slowest := time.Duration(0)
			for range times(20) {
				t.Run("", func(t *testing.T) {
					p := testservice.Start(t)
					status, says := prepare(t, p)
					began := time.Now()
					assert.Equal(t, status, p.Stop())
					slowest = max(slowest, time.Since(began))
					assert.Contains(t, p.Log(), says)
					assert.Less(t, time.Since(began), 10500*time.Millisecond)
					assert.Empty(t, p.Query("select id from sessions where closed_at is null"))
				})
			}
			t.Logf("%s: stopped within %s", name, slowest)
		})
	}
}

// loaded has clients play until the test ends, and waits until they do.
func loaded(t *testing.T, p *testservice.Process, session int64, clients int, asks float64) {
	ctx, cancel := context.WithCancel(context.Background())
	joined := make(chan struct{})
	ended := make(chan struct{})
	once := sync.OnceFunc(func() { close(joined) })
	go func() {
		defer close(ended)
		_, _ = load.Run(ctx, load.Options{
			Service: p.Service,
			Session: session,
			Clients: clients,
			For:     time.Hour,
			Asks:    asks,
			Name:    "Diver",
			OnTime:  func(time.Duration) { once() },
		})
	}()
	t.Cleanup(func() { cancel(); <-ended })
	select {
	case <-joined:
	case <-time.After(20 * time.Second):
		require.Fail(t, "the clients did not all join")
	}
}

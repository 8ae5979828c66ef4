package kamerad

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/internal/tests/testservice"
)

// guessesPerSecond is how many tokens are guessed.
const guessesPerSecond = 10_000

// TestGuesser is no test: TestGuessesCostTheHonestNothing runs it in another network, to guess tokens.
func TestGuesser(t *testing.T) {
	address := os.Getenv("KAMERAD_GUESS")
	if address == "" {
		t.Skip("has nothing to guess")
	}
	long, err := time.ParseDuration(os.Getenv("KAMERAD_GUESS_FOR"))
	require.NoError(t, err)
	until := time.Now().Add(long)
	var tried, looked, in atomic.Int64
	var all sync.WaitGroup
	const guessers = 100
	for range guessers {
		all.Go(func() {
			pace := time.NewTicker(guessers * time.Second / guessesPerSecond)
			defer pace.Stop()
			var conn net.Conn
			for time.Now().Before(until) {
				<-pace.C
				tried.Add(1)
				if conn == nil {
					raw, err := net.DialTimeout("tcp", address, time.Second)
					if err != nil {
						continue
					}
					conn = tls.Client(raw, &tls.Config{
						InsecureSkipVerify: true,
						CurvePreferences:   []tls.CurveID{tls.X25519}, // what guesses costs as little as can be
					})
				}
				_ = conn.SetDeadline(time.Now().Add(time.Second))
				_, err := fmt.Fprintf(
					conn,
					"GET /api/me HTTP/1.1\r\nHost: wreck.example\r\nAuthorization: Bearer %s\r\n\r\n",
					auth.NewToken(),
				)
				var answer *http.Response
				if err == nil {
					answer, err = http.ReadResponse(bufio.NewReader(conn), nil)
				}
				if err != nil {
					_ = conn.Close()
					conn = nil
					continue
				}
				looked.Add(1)
				if answer.StatusCode == http.StatusOK {
					in.Add(1)
				}
				body := make([]byte, 1<<10)
				_, _ = answer.Body.Read(body)
				if answer.Close {
					_ = conn.Close()
					conn = nil
				}
			}
		})
	}
	all.Wait()
	fmt.Printf("tried %d, answered %d, in %d\n", tried.Load(), looked.Load(), in.Load())
}

// TestGuessesCostTheHonestNothing has somebody in another network guess tokens while divers play, in pairs: for as long
// without. The guesser alone takes its share of the machine, so that it guesses against nobody then.
func TestGuessesCostTheHonestNothing(t *testing.T) {
	if testing.Short() || os.Geteuid() != 0 {
		t.Skip("makes a network, which only root may")
	}
	const here = "10.231.78.1"
	elsewhere := network(t, here, "10.231.78.2")
	folder := filepath.Join(t.TempDir(), "door")
	database := testservice.Database(t)
	env := []string{"KAMERAD_DATABASE=" + database}
	out, status := testservice.Run(
		t, testservice.Binary(t), "", env, "secure", folder, "--host", here+",127.0.0.1", "--listen", "0.0.0.0:0",
	)
	require.Equal(t, 0, status, out)
	p := testservice.StartAt(t, database, "0.0.0.0:0", "demo", "--config", filepath.Join(folder, "kamerad.toml"))
	_, port, err := net.SplitHostPort(strings.TrimPrefix(p.Service, "https://"))
	require.NoError(t, err)
	p.Service = "https://127.0.0.1:" + port
	token, err := os.ReadFile(filepath.Join(folder, "operator.token"))
	require.NoError(t, err)
	p.Token = strings.TrimSpace(string(token))
	p.TLS, err = terminal.Believe(filepath.Join(folder, "service.crt"), "")
	require.NoError(t, err)
	raw, err := os.ReadFile(filepath.Join(folder, "backend.jwk"))
	require.NoError(t, err)
	key, err := auth.ParseKey(raw)
	require.NoError(t, err)

	nobody, err := net.Listen("tcp", here+":0")
	require.NoError(t, err)
	defer nobody.Close()
	go func() {
		for {
			c, err := nobody.Accept()
			if err != nil {
				return
			}
			_ = c.Close()
		}
	}()
	pairs := 1
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_PAIRS")); err == nil {
		pairs = n
	}
	const long = 3 * time.Second
	guess := func(address string) (honest []time.Duration, said string) {
		done := make(chan string, 1)
		go func() {
			out, err := elsewhere(
				[]string{"KAMERAD_GUESS=" + address, "KAMERAD_GUESS_FOR=" + (long + time.Second).String()},
				os.Args[0]+" -test.run '^TestGuesser$' -test.v",
			)
			if err != nil {
				out = err.Error() + ": " + out
			}
			done <- out
		}()
		time.Sleep(500 * time.Millisecond)
		honest = playHonestly(t, p.Client, key, long)
		return honest, <-done
	}
	var without, with []float64
	for range pairs {
		quiet, _ := guess(nobody.Addr().String())
		loud, said := guess(net.JoinHostPort(here, port))
		var tried, answered, in int
		_, err := fmt.Sscanf(
			said[strings.Index(said, "tried"):],
			"tried %d, answered %d, in %d",
			&tried,
			&answered,
			&in,
		)
		require.NoError(t, err, said)
		assert.Zero(t, in)
		t.Logf(
			"guessed %d times, %d were answered; honest, half and 99 of 100: %s, %s without, %s, %s with", tried,
			answered, quantile(quiet, 0.5), quantile(quiet, 0.99), quantile(loud, 0.5), quantile(loud, 0.99),
		)
		without = append(without, quantile(quiet, 0.5).Seconds())
		with = append(with, quantile(loud, 0.5).Seconds())
	}
	var ratios []float64
	for i := range with {
		ratios = append(ratios, with[i]/without[i])
	}
	slices.Sort(ratios)
	t.Logf("with guesses the honest wait %.2f times as long (%.2f)", ratios[len(ratios)/2], ratios)
	assert.Less(t, ratios[len(ratios)/2], 1.1)
	refused, err := refusals(t, p.Client)
	require.NoError(t, err)
	assert.Positive(t, refused, "connections were closed unread")
}

// refusals returns how many connections were refused since their address had too many.
func refusals(t *testing.T, c api.Client) (n float64, err error) {
	req, err := http.NewRequestWithContext(t.Context(), "GET", c.Service+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+c.Token)
	answer, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: c.TLS}}).Do(req)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	var text bytes.Buffer
	_, err = text.ReadFrom(answer.Body)
	for line := range strings.SplitSeq(text.String(), "\n") {
		if rest, is := strings.CutPrefix(line, `kamerad_address_refused_total{limit="connects"} `); is {
			n, err = strconv.ParseFloat(rest, 64)
		}
	}
	return n, err
}

// quantile returns the time in which a part of them is done.
func quantile(list []time.Duration, part float64) time.Duration {
	slices.Sort(list)
	if len(list) == 0 {
		return 0
	}
	return list[int(part*float64(len(list)-1))]
}

// playHonestly has some divers join, each by a ticket, and ask again and again, and returns how long each decision
// took.
func playHonestly(t *testing.T, service api.Client, key auth.Key, long time.Duration) (took []time.Duration) {
	ctx, cancel := context.WithTimeout(t.Context(), long)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	for n := range 8 {
		name := fmt.Sprintf("Diver %d", n)
		ticket, err := auth.Sign(key, auth.Ticket{
			Player:  fmt.Sprintf("diver-%d", n),
			Name:    name,
			Session: 1,
			Expires: time.Now().Add(time.Minute),
		}, time.Now())
		require.NoError(t, err)
		c, err := client.Join(t.Context(), service.Service, 1, "", "", client.Options{Ticket: ticket, TLS: service.TLS})
		require.NoError(t, err)
		all.Go(func() {
			defer c.Close()
			for ctx.Err() == nil {
				began := time.Now()
				if _, err := c.Forge(ctx, 0, "Diver.use"); err == nil {
					mu.Lock()
					took = append(took, time.Since(began))
					mu.Unlock()
				}
				select {
				case <-time.After(50 * time.Millisecond):
				case <-ctx.Done():
				}
			}
		})
	}
	all.Wait()
	return took
}

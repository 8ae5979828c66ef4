package endurance

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/client/load"
	"kamerad.example/core/wire"
)

// TestMain runs the tests or, when KAMERAD_ABUSE names one, an abuse: it has a process of its own, so that what it
// costs is not measured as the honest clients' delay.
func TestMain(m *testing.M) {
	name := os.Getenv("KAMERAD_ABUSE")
	if name == "" {
		os.Exit(m.Run())
	}
	target := target{service: os.Args[1], amount: number(os.Args[2]), session: int64(number(os.Args[3]))}
	if err := abuses[name](context.Background(), target); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

// target is what an abuse is aimed at. amount is how many of something, or how many seconds.
type target struct {
	service string
	session int64
	amount  int
}

var abuses = map[string]func(context.Context, target) error{
	"hostile": attack,
	"sink":    sink,
	"join":    joinAndLeave,
	"abrupt":  joinAbruptly,
	"slow":    slowBodies,
	"idle":    idleConnections,
}

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil {
		panic(err)
	}
	return n
}

// abuse starts an abuse in a process of its own. wait waits for its end and fails the test when it failed.
func abuse(t *testing.T, name string, at target) (cmd *exec.Cmd, wait func()) {
	cmd = exec.CommandContext(
		t.Context(), os.Args[0], at.service, strconv.Itoa(at.amount), strconv.FormatInt(at.session, 10),
	)
	cmd.Env = append(os.Environ(), "KAMERAD_ABUSE="+name)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	return cmd, sync.OnceFunc(func() { require.NoError(t, cmd.Wait(), name) })
}

// attack sends what hostile clients send, for amount seconds.
func attack(ctx context.Context, at target) error {
	_, err := load.RunHostile(ctx, load.Options{
		Service: at.service,
		Session: at.session,
		Clients: 8,
		For:     time.Duration(at.amount) * time.Second,
		Name:    "Eve",
		Seed:    uint64(time.Now().Unix()),
	})
	return err
}

// sink takes connections in the place of a service, greets as that does, and reads whatever comes. Its address is what
// follows the service's in the environment.
func sink(ctx context.Context, at target) error {
	hello, err := greeting(ctx, at)
	if err != nil {
		return err
	}
	upgrader := websocket.Upgrader{Subprotocols: []string{wire.Binary, wire.Protocol}}
	return http.ListenAndServe(
		os.Getenv("KAMERAD_SINK"), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			socket, err := upgrader.Upgrade(w, r, nil)
			if err != nil {
				return
			}
			defer socket.Close()
			if _, _, err := socket.ReadMessage(); err != nil {
				return
			}
			if socket.WriteMessage(websocket.TextMessage, hello) != nil {
				return
			}
			buffer := make([]byte, 64<<10)
			for {
				if _, err := socket.NetConn().Read(buffer); err != nil {
					return
				}
			}
		}),
	)
}

// greeting returns the first message that the service sends to who joins.
func greeting(ctx context.Context, at target) ([]byte, error) {
	socket, err := dial(ctx, at)
	if err != nil {
		return nil, err
	}
	defer socket.Close()
	if err := socket.WriteMessage(websocket.TextMessage, wire.Join{Name: "Sink"}.JSON()); err != nil {
		return nil, err
	}
	_, hello, err := socket.ReadMessage()
	return hello, err
}

func dial(ctx context.Context, at target) (*websocket.Conn, error) {
	u, err := url.Parse(at.service)
	if err != nil {
		return nil, err
	}
	dialer := websocket.Dialer{Subprotocols: []string{wire.Protocol}, HandshakeTimeout: 20 * time.Second}
	socket, _, err := dialer.DialContext(ctx, fmt.Sprintf("ws://%s/api/sessions/%d/join", u.Host, at.session), nil)
	return socket, err
}

// joinAndLeave has clients join and leave, sixteen at once, until amount have.
func joinAndLeave(ctx context.Context, at target) error {
	failed := make(chan error, 16)
	for i := range 16 {
		go func() {
			for n := range at.amount / 16 {
				c, err := client.Join(
					ctx, at.service, at.session, fmt.Sprintf("Guest %d.%d", i, n), "", client.Options{},
				)
				if err != nil {
					failed <- err
					return
				}
				c.Close()
			}
			failed <- nil
		}()
	}
	for range 16 {
		if err := <-failed; err != nil {
			return err
		}
	}
	return nil
}

// freeWithin is how long the seats of clients that vanished may be taken.
const freeWithin = 5 * time.Second

// joinAbruptly has sixteen clients take all seats of a session and vanish without a word, again and again for amount
// seconds. It fails when no seat is free within freeWithin.
func joinAbruptly(ctx context.Context, at target) error {
	until := time.Now().Add(time.Duration(at.amount) * time.Second)
	for round := 0; time.Now().Before(until); round++ {
		var sockets []*websocket.Conn
		for n := range 16 {
			socket, err := dial(ctx, at)
			if err != nil {
				return err
			}
			name := fmt.Sprintf("Gone %d.%d", round, n)
			if err := socket.WriteMessage(websocket.TextMessage, wire.Join{Name: name}.JSON()); err != nil {
				return err
			}
			if _, _, err := socket.ReadMessage(); err != nil {
				return err
			}
			sockets = append(sockets, socket)
		}
		for _, socket := range sockets {
			_ = socket.NetConn().Close()
		}
		gone := time.Now()
		for {
			c, err := client.Join(ctx, at.service, at.session, "Bo", "", client.Options{})
			if err == nil {
				c.Close()
				break
			}
			if time.Since(gone) > freeWithin {
				return fmt.Errorf("no seat was free within %s: %w", freeWithin, err)
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	return nil
}

// slowBodies sends amount requests at once whose bodies come a byte a second, until the service has ended all of them.
func slowBodies(ctx context.Context, at target) error {
	return connections(
		ctx, at,
		"POST /api/contracts HTTP/1.1\r\nHost: here\r\nContent-Type: application/json\r\nContent-Length: 100000\r\n"+
			"\r\n{",
		" ",
	)
}

// idleConnections opens amount connections that never say anything, until the service has ended all of them.
func idleConnections(ctx context.Context, at target) error { return connections(ctx, at, "", "") }

func connections(ctx context.Context, at target, first, then string) error {
	u, err := url.Parse(at.service)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	var all sync.WaitGroup
	for range at.amount {
		conn, err := net.Dial("tcp", u.Host)
		if err != nil {
			continue // it has as many as it takes
		}
		all.Go(func() {
			defer conn.Close()
			_, _ = conn.Write([]byte(first))
			ended := make(chan struct{})
			go func() {
				defer close(ended)
				for r := bufio.NewReader(conn); ; {
					if _, err := r.ReadByte(); err != nil {
						return
					}
				}
			}()
			for {
				select {
				case <-ended:
					return
				case <-ctx.Done():
					return
				case <-time.After(time.Second):
					_, _ = conn.Write([]byte(then))
				}
			}
		})
	}
	all.Wait()
	if ctx.Err() != nil {
		return fmt.Errorf("not all of %d connections were ended within two minutes", at.amount)
	}
	return nil
}

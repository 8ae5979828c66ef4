package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/client"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// waited is how long the requests of some clients took, in milliseconds: until their decision came, and until another
// client's copy had what they changed.
type waited struct {
	Decision []float64 `json:"decision"`
	Copies   []float64 `json:"copies"`
	Echo     []float64 `json:"echo"` // of a bare echo, asked by the same clients in turn
}

// part99 is the 99th percentile, as it is in the middle one of chunks of 400: a machine that is shared now and then
// stands still for longer than anything that is measured here.
func part99(list []float64) float64 {
	var chunks []float64
	for ; len(list) > 0; list = list[min(len(list), 400):] {
		chunk := slices.Sorted(slices.Values(list[:min(len(list), 400)]))
		chunks = append(chunks, chunk[min(len(chunk)-1, len(chunk)*99/100)])
	}
	if len(chunks) == 0 {
		return 0
	}
	slices.Sort(chunks)
	return chunks[(len(chunks)-1)/2]
}

// Of the clients, a few ask, at random moments; the others only take what comes. They all share the machine with the
// server.
const (
	askers        = 20
	asksPerSecond = 8
)

// serveEcho sends back what it got with its next tick: what no server that ticks can do better.
func serveEcho(rate int) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Printf("{\"address\":%q}\n", l.Addr().String())
	type message struct {
		conn  net.Conn
		bytes [8]byte
	}
	var mu sync.Mutex
	var waiting []message
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				for {
					m := message{conn: c}
					if _, err := io.ReadFull(c, m.bytes[:]); err != nil {
						return
					}
					mu.Lock()
					waiting = append(waiting, m)
					mu.Unlock()
				}
			}()
		}
	}()
	go func() {
		for range time.Tick(time.Second / time.Duration(rate)) {
			mu.Lock()
			list := waiting
			waiting = nil
			mu.Unlock()
			for _, m := range list {
				_, _ = m.conn.Write(m.bytes[:])
			}
		}
	}()
	answers(func(*usage) {})
	return nil
}

// players measures how long n clients wait for decisions, for the last one's copy, and for the echo of a plain
// connection, for as long as long says, once warm is over. bad more clients take nothing: half of them read a byte a
// second, from a buffer of 8 KiB, the others nothing at all.
func players(address, echo string, session int64, n, bad int, warm, long time.Duration) error {
	p := &waiting{
		began: map[int64]time.Time{},
		from:  time.Now().Add(warm),
		until: time.Now().Add(warm + long),
	}
	for i := range bad {
		if err := idle(address, session, i); err != nil {
			return err
		}
	}
	ctx := context.Background()
	var asks []func(mark int64) error
	for i := range n {
		o := client.Options{}
		if i == n-1 { // the one whose copy is looked at
			o.OnFrame = p.noteCopy
		}
		c, err := client.Join(ctx, "http://"+address, session, fmt.Sprint("p", i), "player", o)
		if err != nil {
			return err
		}
		asks = append(asks, func(mark int64) error {
			_, err := c.Forge(ctx, 0, "Diver.poke", json.RawMessage(fmt.Sprint(mark)))
			return err
		})
	}
	var group sync.WaitGroup
	for i, ask := range asks {
		e, err := net.Dial("tcp", echo)
		if err != nil {
			return err
		}
		group.Go(func() { p.play(i, ask, e) })
	}
	group.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	raw, err := json.Marshal(p.out)
	fmt.Println(string(raw))
	return err
}

// waiting gathers how long players waited.
type waiting struct {
	from, until time.Time // what is answered within counts

	mu    sync.Mutex // guards the rest
	out   waited
	began map[int64]time.Time // by mark: when it was asked for
}

// counts reports whether an answer at some time counts.
func (p *waiting) counts(at time.Time) bool { return at.After(p.from) && at.Before(p.until) }

// noteCopy notes how long marks took until they stood in a copy.
func (p *waiting) noteCopy(_ *wire.Frame, notices []replicate.Notice) {
	now := time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range notices {
		if x.Type == replicate.FieldChanged && x.Field.Name == "mark" {
			if at, ok := p.began[x.Field.Value.Num]; ok && p.counts(at) {
				p.out.Copies = append(p.out.Copies, now.Sub(at).Seconds()*1000)
			}
		}
	}
}

// play lets a player wait by turns for an echo of eight bytes and for the decision of a request, until the time is
// over.
func (p *waiting) play(i int, ask func(mark int64) error, echo net.Conn) {
	r := rand.New(rand.NewPCG(uint64(i), 3))
	for k := 0; ; k++ {
		time.Sleep(time.Duration(r.Float64() * 2 / asksPerSecond * float64(time.Second)))
		at := time.Now()
		if !at.Before(p.until) {
			return
		}
		to := &p.out.Echo
		if k%2 == 0 {
			word := make([]byte, 8)
			if _, err := echo.Write(word); err != nil {
				return
			}
			if _, err := io.ReadFull(echo, word); err != nil {
				return
			}
		} else {
			to = &p.out.Decision
			mark := int64(i*1000_000 + k + 1)
			p.mu.Lock()
			p.began[mark] = at
			p.mu.Unlock()
			if ask(mark) != nil {
				return
			}
		}
		if took := time.Since(at); p.counts(at) {
			p.mu.Lock()
			*to = append(*to, took.Seconds()*1000)
			p.mu.Unlock()
		}
	}
}

// idle joins a client that reads next to nothing.
func idle(address string, session int64, i int) error {
	small := net.Dialer{Control: func(_, _ string, c syscall.RawConn) error {
		var failed error
		err := c.Control(func(fd uintptr) {
			failed = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVBUF, 8<<10)
		})
		if err == nil {
			err = failed
		}
		return err
	}}
	d := websocket.Dialer{Subprotocols: []string{wire.Binary}, ReadBufferSize: 256, NetDial: small.Dial}
	c, _, err := d.Dial(fmt.Sprintf("ws://%s/api/sessions/%d/join", address, session), http.Header{})
	if err != nil {
		return err
	}
	if err := c.WriteMessage(websocket.TextMessage, wire.Join{Name: fmt.Sprint("bad", i)}.JSON()); err != nil {
		return err
	}
	_, raw, err := c.ReadMessage()
	if err != nil {
		return err
	}
	var hello wire.Hello
	if err := json.NewDecoder(bytes.NewReader(raw)).Decode(&hello); err != nil {
		return err
	}
	m := wire.FromClient{Type: wire.MessageReady}
	if err := c.WriteMessage(websocket.BinaryMessage, m.Pack(hello.Outline)); err != nil {
		return err
	}
	if i%2 == 0 {
		go func() {
			one := make([]byte, 1)
			for {
				if _, err := c.NetConn().Read(one); err != nil {
					return
				}
				time.Sleep(time.Second)
			}
		}()
	}
	return nil
}

// delays lets clients ask things of a server, and of an echo. What the server itself saw comes with it.
func delays(
	server []string, n, bad int, warm, long time.Duration,
) (w waited, server99 float64, heap uint64, err error) {
	s, err := begin(server[0], server[1:]...)
	if err != nil {
		return w, 0, 0, err
	}
	defer s.end()
	if _, err = s.ask(); err != nil {
		return w, 0, 0, err
	}
	k, err := begin("sink", s.Addr, fmt.Sprint(s.ID), fmt.Sprint(n-askers), "silent", "20")
	if err != nil {
		return w, 0, 0, err
	}
	defer k.end()
	e, err := begin("echo", "20")
	if err != nil {
		return w, 0, 0, err
	}
	defer e.end()
	p, err := begin(
		"players", s.Addr, e.Addr, fmt.Sprint(s.ID), fmt.Sprint(askers), fmt.Sprint(bad),
		fmt.Sprint(int(warm.Seconds())), fmt.Sprint(int(long.Seconds())),
	)
	if err != nil {
		return w, 0, 0, err
	}
	defer p.end()
	if err = json.Unmarshal(p.out.Bytes(), &w); err != nil { // its first line is its last
		return w, 0, 0, err
	}
	u, err := s.ask()
	return w, part99(u.Waits), u.Heap, err
}

package main

import (
	"crypto/tls"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// sink takes what a server sends to n clients, and does nothing with it but to confirm it twice a second, without which
// it would count as behind. Those with input send a place 20 times a second, which confirms as well. A floor, which
// session 0 stands for, is sent as many bytes as often.
func sink(address string, session int64, n int, input bool, rate int) error {
	s := &sinks{address: address, session: session, rate: rate}
	for i := range n {
		var err error
		if session == 0 {
			err = s.connect()
		} else {
			err = s.join(fmt.Sprint("c", i))
		}
		if err != nil {
			return err
		}
	}
	if input {
		go s.sendPlaces(n)
	} else {
		go s.confirm(n)
	}
	fmt.Println("{}")
	answers(func(u *usage) {
		u.Bytes = s.bytes.Load()
		u.Ticks = s.frames.Load()
	})
	return nil
}

// sinks are the connections of many clients that only take what they are sent.
type sinks struct {
	address string
	session int64
	rate    int // ticks a second
	bytes   atomic.Int64
	frames  atomic.Int64 // reads, each of which is taken for a frame

	outline *contract.Outline
	first   int64     // the tick of the first client's first frame
	firstAt time.Time // when that came
	sockets []*websocket.Conn
	plain   []net.Conn // of a floor
}

// take reads a connection until it ends, and counts.
func (s *sinks) take(c net.Conn) {
	buffer := make([]byte, 8192)
	for {
		n, err := c.Read(buffer)
		if err != nil {
			return
		}
		s.bytes.Add(int64(n))
		s.frames.Add(1)
	}
}

// connect opens a plain connection to a floor.
func (s *sinks) connect() error {
	c, err := net.Dial("tcp", s.address)
	if err == nil && overTLS() {
		secure := tls.Client(c, trusting)
		c = secure
		err = secure.Handshake()
	}
	if err != nil {
		return err
	}
	s.plain = append(s.plain, c)
	go s.take(c)
	return nil
}

// join joins the session as a client that is ready. The first one reads its first frame, a snapshot, for its tick.
func (s *sinks) join(name string) error {
	d := websocket.Dialer{Subprotocols: []string{wire.Binary}, ReadBufferSize: 512, WriteBufferSize: 256}
	join := wire.Join{Name: name}
	if s.outline != nil {
		join.Outline = s.outline.Fingerprint()
	}
	scheme := "ws"
	if overTLS() {
		scheme = "wss"
		d.TLSClientConfig = trusting
	}
	c, _, err := d.Dial(fmt.Sprintf("%s://%s/api/sessions/%d/join", scheme, s.address, s.session), http.Header{})
	if err != nil {
		return err
	}
	if err := c.WriteMessage(websocket.TextMessage, join.JSON()); err != nil {
		return err
	}
	_, raw, err := c.ReadMessage()
	if err != nil {
		return err
	}
	var hello wire.Hello
	if err := json.Unmarshal(raw, &hello); err != nil {
		return err
	}
	if s.outline == nil {
		s.outline = hello.Outline
	}
	m := wire.FromClient{Type: wire.MessageReady}
	_ = c.WriteMessage(websocket.BinaryMessage, m.Pack(s.outline))
	if s.first == 0 {
		_, raw, err = c.ReadMessage()
		if err != nil {
			return err
		}
		_, head := binary.Uvarint(raw)
		tick, _ := binary.Uvarint(raw[head:])
		s.first = int64(tick)
		s.firstAt = time.Now()
	}
	s.sockets = append(s.sockets, c)
	go s.take(c.NetConn())
	return nil
}

// applied returns the tick of a frame that has surely arrived by now.
func (s *sinks) applied() int64 {
	return max(s.first+int64(time.Since(s.firstAt).Seconds()*float64(s.rate))-2, 1)
}

// confirm says for each of n clients twice a second what it has, a tenth of them each time.
func (s *sinks) confirm(n int) {
	turn := 0
	for range time.Tick(time.Second / 20) {
		for i := turn; i < n; i += 10 {
			if s.session == 0 {
				_, _ = s.plain[i].Write(make([]byte, 9))
				continue
			}
			m := wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: s.applied()}}
			_ = s.sockets[i].WriteMessage(websocket.BinaryMessage, m.Pack(s.outline))
		}
		turn = (turn + 1) % 10
	}
}

// sendPlaces writes a place for each of n clients each tick, in a room of the wreck that it changes now and then.
func (s *sinks) sendPlaces(n int) {
	r := rand.New(rand.NewPCG(1, 1))
	rooms := make([][2]float64, n)
	seq := uint64(0)
	small := make([]byte, 24)
	for range time.Tick(time.Second / time.Duration(s.rate)) {
		seq++
		for i := range n {
			if s.session == 0 {
				_, _ = s.plain[i].Write(small)
				continue
			}
			if r.IntN(10*s.rate) == 0 || seq == 1 {
				rooms[i] = [2]float64{300 * float64(r.IntN(5)), 300 * float64(r.IntN(4))}
			}
			m := wire.FromClient{
				Type:     wire.MessageWrite,
				Ask:      wire.Ask{Seq: seq, Seen: s.applied()},
				Property: "Diver.pos",
				Value: fmt.Appendf(
					nil, "[%g,%g]", rooms[i][0]+float64(r.IntN(300))/100, rooms[i][1]+float64(r.IntN(300))/100,
				),
			}
			_ = s.sockets[i].WriteMessage(websocket.BinaryMessage, m.Pack(s.outline))
		}
	}
}

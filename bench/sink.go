package main

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// sink takes what a server sends to n clients, and does nothing with it but to confirm it twice a second, without which
// it would count as behind. Those with input send a place 20 times a second, which confirms as well. A floor is sent as
// many bytes as often.
func sink(address string, session int64, n int, input bool, rate int) error {
	var bytes, frames atomic.Int64
	take := func(c net.Conn) {
		buffer := make([]byte, 8192)
		for {
			n, err := c.Read(buffer)
			if err != nil {
				return
			}
			bytes.Add(int64(n))
			frames.Add(1)
		}
	}
	var outline *contract.Outline
	var first int64
	var firstAt time.Time
	var sockets []*websocket.Conn
	var plain []net.Conn
	for i := range n {
		if session == 0 {
			c, err := net.Dial("tcp", address)
			if err != nil {
				return err
			}
			plain = append(plain, c)
			go take(c)
			continue
		}
		d := websocket.Dialer{Subprotocols: []string{wire.Binary}, ReadBufferSize: 512, WriteBufferSize: 256}
		join := wire.Join{Name: fmt.Sprint("c", i)}
		if outline != nil {
			join.Outline = outline.Fingerprint()
		}
		c, _, err := d.Dial(fmt.Sprintf("ws://%s/api/sessions/%d/join", address, session), http.Header{})
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
		if outline == nil {
			outline = hello.Outline
		}
		m := wire.FromClient{Type: wire.MessageReady}
		_ = c.WriteMessage(websocket.BinaryMessage, m.Pack(outline))
		if first == 0 { // the first frame is a snapshot, which says its tick
			_, raw, err = c.ReadMessage()
			if err != nil {
				return err
			}
			_, head := binary.Uvarint(raw)
			tick, _ := binary.Uvarint(raw[head:])
			first = int64(tick)
			firstAt = time.Now()
		}
		sockets = append(sockets, c)
		go take(c.NetConn())
	}
	// applied is the tick of a frame that has surely arrived by now.
	applied := func() int64 { return first + int64(time.Since(firstAt).Seconds()*float64(rate)) - 2 }
	var mu sync.Mutex
	if !input {
		go func() {
			turn := 0
			for range time.Tick(time.Second / 20) { // a tenth of them each time
				for i := turn; i < n; i += 10 {
					if session == 0 {
						_, _ = plain[i].Write(make([]byte, 9))
						continue
					}
					m := wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: max(applied(), 1)}}
					_ = sockets[i].WriteMessage(websocket.BinaryMessage, m.Pack(outline))
				}
				turn = (turn + 1) % 10
			}
		}()
	}
	if input {
		go func() {
			r := rand.New(rand.NewPCG(1, 1))
			rooms := make([][2]float64, n)
			seq := uint64(0)
			small := make([]byte, 24)
			for range time.Tick(time.Second / time.Duration(rate)) {
				mu.Lock()
				seq++
				for i := range n {
					if session == 0 {
						_, _ = plain[i].Write(small)
						continue
					}
					if r.IntN(10*rate) == 0 || seq == 1 {
						rooms[i] = [2]float64{300 * float64(r.IntN(5)), 300 * float64(r.IntN(4))}
					}
					m := wire.FromClient{
						Type:     wire.MessageWrite,
						Ask:      wire.Ask{Seq: seq, Seen: max(applied(), 1)},
						Property: "Diver.pos",
						Value: fmt.Appendf(
							nil, "[%g,%g]", rooms[i][0]+float64(r.IntN(300))/100, rooms[i][1]+float64(r.IntN(300))/100,
						),
					}
					_ = sockets[i].WriteMessage(websocket.BinaryMessage, m.Pack(outline))
				}
				mu.Unlock()
			}
		}()
	}
	fmt.Println("{}")
	answers(func(u *usage) { u.Bytes, u.Ticks = bytes.Load(), frames.Load() })
	return nil
}

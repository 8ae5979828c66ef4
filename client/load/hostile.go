package load

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// HostileReport is what hostile clients did, and how they were met.
type HostileReport struct {
	Clients     int            `json:"clients"`
	Seconds     float64        `json:"seconds"`
	Connections int            `json:"connections"` // that were made
	Messages    int            `json:"messages"`    // whole ones, of the protocol's grammar or not
	Frames      int            `json:"frames"`      // of WebSocket, also those that are none
	Bytes       int            `json:"bytes"`
	Cut         map[string]int `json:"cut"`     // connections that the server ended, by its reason
	Refused     map[string]int `json:"refused"` // joins that were refused, by code
}

// hostile is one hostile client.
type hostile struct {
	options Options
	random  *rand.Rand
	report  *HostileReport
	mu      *sync.Mutex // of the report
	outline *contract.Outline
	seq     uint64
}

// maxFlight is how long a hostile client keeps one connection: each attack meets fresh seats as well as old ones.
const maxFlight = 5 * time.Second

// RunHostile lets clients loose on a session that may send anything: messages made from the protocol's grammar with
// extreme values, noise, frames that are none, control frames, parts without end. What they send comes from the seed,
// how far each gets from the server. Of the Options, Service, Session, Clients, For, Name and Seed count. It harms a
// service that does not hold, so it is meant for one's own.
func RunHostile(ctx context.Context, o Options) (*HostileReport, error) {
	if o.Clients < 1 || o.Clients > MaxClients || o.For <= 0 {
		return nil, fmt.Errorf(
			"attack session %d with %d clients for %s: from 1 to %d clients, for some time", o.Session, o.Clients,
			o.For, MaxClients,
		)
	}
	report := &HostileReport{Clients: o.Clients, Cut: map[string]int{}, Refused: map[string]int{}}
	timed, cancel := context.WithTimeout(ctx, o.For)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	began := time.Now()
	for i := range o.Clients {
		h := &hostile{
			options: o,
			random:  rand.New(rand.NewPCG(o.Seed, uint64(i))),
			report:  report,
			mu:      &mu,
		}
		all.Go(func() {
			for n := 0; timed.Err() == nil; n++ {
				h.attack(timed, fmt.Sprintf("%s %d.%d", o.Name, i+1, n))
			}
		})
	}
	all.Wait()
	report.Seconds = time.Since(began).Seconds()
	if report.Connections == 0 {
		return report, fmt.Errorf("attack session %d: no connection could be made: %v", o.Session, report.Refused)
	}
	return report, ctx.Err()
}

// count changes the report, which all hostile clients share.
func (h *hostile) count(f func(r *HostileReport)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	f(h.report)
}

// attack makes one connection and attacks over it until it is cut.
func (h *hostile) attack(ctx context.Context, name string) {
	socket := h.join(ctx, name)
	if socket == nil {
		return
	}
	defer socket.Close()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		h.hear(socket)
	}()
	conn := socket.NetConn()
	until := time.Now().Add(time.Duration(h.random.Int64N(int64(maxFlight))))
	for ctx.Err() == nil && time.Now().Before(until) {
		select {
		case <-ended:
			return
		default:
		}
		raw, messages, frames := h.burst()
		_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
		n, err := conn.Write(raw)
		h.count(func(r *HostileReport) {
			r.Bytes += n
			r.Messages += messages
			r.Frames += frames
		})
		if err != nil { // when it took too long, half a frame is out: nothing that follows it means anything
			break
		}
	}
	if h.random.IntN(2) == 0 {
		conn.Close()
	}
	socket.Close()
	<-ended
}

// join asks for a seat, now and then by something that is no join. It returns nil when it gets none.
func (h *hostile) join(ctx context.Context, name string) *websocket.Conn {
	u, err := url.Parse(h.options.Service)
	if err != nil {
		return nil
	}
	protocol := []string{wire.Binary, wire.Protocol}[h.random.IntN(2)]
	address := fmt.Sprintf("ws://%s/api/sessions/%d/join", u.Host, h.options.Session)
	dialer := websocket.Dialer{Subprotocols: []string{protocol}, HandshakeTimeout: 5 * time.Second}
	socket, answer, err := dialer.DialContext(ctx, address, http.Header{})
	if err != nil {
		if answer != nil {
			h.count(func(r *HostileReport) { r.Refused[fmt.Sprint("status ", answer.StatusCode)]++ })
		}
		h.pause(ctx, 50*time.Millisecond)
		return nil
	}
	join := wire.Join{Name: name}.JSON()
	switch h.random.IntN(20) {
	case 0:
		join = []byte(h.json(4))
	case 1:
		join = noise(h.random, h.random.IntN(5000))
	}
	h.count(func(r *HostileReport) {
		r.Messages++
		r.Frames++
		r.Bytes += len(join)
	})
	if err := socket.WriteMessage(websocket.TextMessage, join); err != nil {
		socket.Close()
		return nil
	}
	_, first, err := socket.ReadMessage()
	if err != nil {
		socket.Close()
		return nil
	}
	var hello wire.Hello
	if json.Unmarshal(first, &hello) != nil || hello.Type != wire.MessageHello {
		var bye wire.Bye
		_ = json.Unmarshal(first, &bye)
		h.count(func(r *HostileReport) { r.Refused[bye.Code]++ })
		h.pause(ctx, 100*time.Millisecond)
		socket.Close()
		return nil
	}
	h.outline = hello.Outline
	h.seq = 0
	h.count(func(r *HostileReport) { r.Connections++ })
	return socket
}

// hear reads what a connection is sent until it ends: that says why it is cut.
func (h *hostile) hear(socket *websocket.Conn) {
	for {
		_, raw, err := socket.ReadMessage()
		if err != nil {
			return
		}
		var bye wire.Bye
		isText := len(raw) > 0 && raw[0] == '{'
		if isText && json.Unmarshal(raw, &bye) == nil && bye.Type == wire.MessageBye {
			h.count(func(r *HostileReport) { r.Cut[sort(bye.Reason)]++ })
		}
	}
}

// sort returns what reasons of one sort have in common: a reason quotes what was sent.
func sort(reason string) string {
	if at := strings.IndexAny(reason, "0123456789\"'"); at > 0 {
		reason = reason[:at] + "…"
	}
	if i := strings.Index(reason, ": "); i > 0 {
		reason = reason[:i]
	}
	return reason
}

// pause waits, or returns when ctx ends.
func (h *hostile) pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// burst makes some bytes of an attack, and tells how many whole messages and frames are in them.
func (h *hostile) burst() (raw []byte, messages, frames int) {
	const (
		text, binaryMessage, more, ping, pong, end = 1, 2, 0, 9, 10, 8
		fin                                        = 0x80
	)
	r := h.random
	add := func(first byte, payload []byte) {
		raw = append(raw, masked(r, first, payload)...)
		frames++
	}
	switch r.IntN(12) {
	case 0, 1, 2, 3, 4, 5: // the grammar, with any values
		for range 1 + r.IntN(40) {
			if payload := h.packed(); payload[0] == '{' {
				add(fin|text, payload)
			} else {
				add(fin|binaryMessage, payload)
			}
			messages++
		}
	case 6: // the grammar, with some bits turned
		payload := h.packed()
		for range 1 + r.IntN(4) {
			payload[r.IntN(len(payload))] ^= 1 << r.IntN(8)
		}
		add(fin|[]byte{text, binaryMessage}[r.IntN(2)], payload)
		messages++
	case 7: // any JSON
		add(fin|text, []byte(h.json(4)))
		messages++
	case 8: // noise in a frame
		add(fin|[]byte{text, binaryMessage}[r.IntN(2)], noise(r, r.IntN(20_000)))
		messages++
	case 9: // control frames
		for range 1 + r.IntN(200) {
			add(fin|[]byte{ping, pong}[r.IntN(2)], noise(r, r.IntN(126)))
		}
	case 10: // parts without end
		add(text, []byte("{"))
		for range r.IntN(200) {
			add(more, noise(r, r.IntN(3)))
		}
	default: // what is no frame
		switch r.IntN(4) {
		case 0:
			raw = noise(r, r.IntN(300))
		case 1:
			raw = append([]byte{fin | binaryMessage, 0xff}, noise(r, 12)...) // a length of up to 64 bits
		case 2:
			add(0x70|fin|binaryMessage, nil)
		default:
			add(fin|end, noise(r, r.IntN(10)))
		}
		frames++
	}
	return raw, messages, frames
}

// numbers are those at which something may break.
var numbers = []uint64{
	0, 1, 2, 63, 64, 65, 127, 128, 20_000, 1<<31 - 1, 1 << 31, 1<<32 - 1, 1 << 32, 1<<53 - 1, 1 << 53, 1<<63 - 1,
	1 << 63, math.MaxUint64,
}

// number returns a number that is hard on who reads it: one of the edges, or any.
func (h *hostile) number() uint64 {
	if h.random.IntN(3) == 0 {
		return h.random.Uint64() >> h.random.IntN(64)
	}
	return numbers[h.random.IntN(len(numbers))]
}

// message makes one of the protocol's messages with any values; half of them count on, so that they are met.
func (h *hostile) message() wire.FromClient {
	r := h.random
	var m wire.FromClient
	m.Type = []wire.MessageType{
		wire.MessageReady, wire.MessageSeen, wire.MessageDiffers, wire.MessageAsk, wire.MessageAsk, wire.MessageAsk,
		wire.MessageWrite, wire.MessagePress, wire.MessageRelease,
	}[r.IntN(9)]
	h.seq++
	m.Seq = h.seq
	m.Press = h.seq
	if r.IntN(8) == 0 {
		m.Seq, m.Press = h.number(), h.number()
	}
	m.Seen = int64(h.number() >> 1)
	if r.IntN(2) == 0 {
		m.Entity = uint32(h.number())
	}
	k := &h.outline.Kinds[r.IntN(len(h.outline.Kinds))]
	m.Request = k.Name + ".none"
	m.Property = k.Name + ".none"
	if len(k.Properties) > 0 {
		m.Property = k.Name + "." + k.Properties[r.IntN(len(k.Properties))].Name
	}
	count := r.IntN(4)
	if len(k.Requests) > 0 {
		q := &k.Requests[r.IntN(len(k.Requests))]
		m.Request = k.Name + "." + q.Name
		count = len(q.Params)
	}
	for range count {
		m.Args = append(m.Args, json.RawMessage(h.json(2)))
	}
	m.Value = json.RawMessage(h.json(2))
	return m
}

// packed makes the bytes of a message: as the library would, or by hand where its values are no JSON.
func (h *hostile) packed() []byte {
	m := h.message()
	if payload := m.Pack(h.outline); len(payload) > 0 {
		return payload
	}
	return fmt.Appendf(
		nil, `{"type":%q,"seq":%d,"request":%q,"property":%q,"args":[%s],"value":%s}`, m.Type, m.Seq, m.Request,
		m.Property, h.json(3), m.Value,
	)
}

// json makes what is mostly JSON, of some depth at most.
func (h *hostile) json(depth int) string {
	r := h.random
	switch n := r.IntN(9); {
	case n == 0:
		return fmt.Sprint(h.number())
	case n == 1:
		return "-" + fmt.Sprint(h.number())
	case n == 2:
		return []string{"1e308", "-1e-320", "0.1", "1E400", "-0"}[r.IntN(5)]
	case n == 3:
		return []string{"null", "true", "false"}[r.IntN(3)]
	case n == 4:
		raw, _ := json.Marshal(strings.Repeat(string(rune(r.IntN(0x10000))), r.IntN(200)))
		return string(raw)
	case n == 5 || depth == 0:
		return []string{`"flare"`, `"\u0000"`, `"\ud800"`, `"\u202e"`, `""`}[r.IntN(5)]
	case n == 6:
		return strings.Repeat("[", 1+r.IntN(500)) + strings.Repeat("]", r.IntN(500))
	case n == 7:
		var parts []string
		for range r.IntN(4) {
			parts = append(
				parts, fmt.Sprintf("%q:%s", []string{"type", "seq", "seen", "args", "x"}[r.IntN(5)], h.json(depth-1)),
			)
		}
		return "{" + strings.Join(parts, ",") + "}"
	}
	var parts []string
	for range r.IntN(5) {
		parts = append(parts, h.json(depth-1))
	}
	return "[" + strings.Join(parts, ",") + "]"
}

// noise returns n bytes of noise.
func noise(r *rand.Rand, n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return out
}

// masked frames a payload as a client does (RFC 6455, 5.2).
func masked(r *rand.Rand, first byte, payload []byte) []byte {
	out := []byte{first}
	switch n := len(payload); {
	case n < 126:
		out = append(out, 0x80|byte(n))
	case n < 1<<16:
		out = binary.BigEndian.AppendUint16(append(out, 0x80|126), uint16(n))
	default:
		out = binary.BigEndian.AppendUint64(append(out, 0x80|127), uint64(n))
	}
	mask := noise(r, 4)
	out = append(out, mask...)
	for i, b := range payload {
		out = append(out, b^mask[i%4])
	}
	return out
}

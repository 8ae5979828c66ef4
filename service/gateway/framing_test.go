package gateway

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"testing"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
)

// bytesConn is a connection that gives bytes in pieces of random size.
type bytesConn struct {
	net.Conn
	rest []byte
	r    *rand.Rand
}

func (c *bytesConn) Read(to []byte) (int, error) {
	if len(c.rest) == 0 {
		return 0, io.EOF
	}
	n := copy(to[:min(len(to), 1+c.r.IntN(700))], c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// said frames a message as a client does.
func said(first byte, payload []byte) []byte {
	out := []byte{first}
	switch n := len(payload); {
	case n < 126:
		out = append(out, masked|byte(n))
	case n < 1<<16:
		out = binary.BigEndian.AppendUint16(append(out, masked|126), uint16(n))
	default:
		out = binary.BigEndian.AppendUint64(append(out, masked|127), uint64(n))
	}
	mask := []byte{7, 0, 255, 64}
	out = append(out, mask...)
	for i, b := range payload {
		out = append(out, b^mask[i%4])
	}
	return out
}

func TestMessagesAreReadFromFrames(t *testing.T) {
	long := bytes.Repeat([]byte("wreck"), 900)
	for name, test := range map[string]struct {
		raw   [][]byte
		want  []string
		pings string
		err   string
	}{
		"whole messages": {
			raw:  [][]byte{said(final|opBin, []byte("a")), said(final|opText, nil), said(final|opBin, long)},
			want: []string{"a", "", string(long)},
			err:  "EOF",
		},
		"a message in parts": {
			raw: [][]byte{
				said(opText, []byte("on")), said(final|opPing, []byte("!")), said(opMore, []byte("e ")),
				said(final|opMore, []byte("two")),
			},
			want:  []string{"one two"},
			pings: "!",
			err:   "EOF",
		},
		"a pong is no message": {
			raw:  [][]byte{said(final|opPong, nil), said(final|opBin, []byte("a"))},
			want: []string{"a"},
			err:  "EOF",
		},
		"a close with its code": {raw: [][]byte{said(final|opClose, []byte{3, 232, 'o', 'k'})}, err: "1000"},
		"a close without":       {raw: [][]byte{said(final|opClose, nil)}, err: "1005"},
		"an end in a frame":     {raw: [][]byte{said(final|opBin, long)[:99]}, err: "unexpected EOF"},
		"no mask":               {raw: [][]byte{{final | opBin, 1, 'a'}}, err: "not masked"},
		"unknown bits":          {raw: [][]byte{said(final|0x40|opBin, nil)}, err: "no extension"},
		"an unknown opcode":     {raw: [][]byte{said(final|3, nil)}, err: "unknown opcode 3"},
		"too long": {
			raw: [][]byte{said(final|opBin, make([]byte, wire.MaxMessage+1))},
			err: "longer than 16384",
		},
		"far too long": {
			raw: [][]byte{{final | opBin, masked | 127, 255, 255, 255, 255, 255, 255, 255, 255, 0, 0, 0, 0}},
			err: "longer than 16384",
		},
		"too long in parts": {
			raw: [][]byte{said(opBin, make([]byte, wire.MaxMessage)), said(final|opMore, []byte("a"))},
			err: "longer than 16384",
		},
		"a part without beginning": {raw: [][]byte{said(final|opMore, nil)}, err: "without its beginning"},
		"two beginnings": {
			raw: [][]byte{said(opBin, nil), said(final|opBin, nil)},
			err: "before the last one had ended",
		},
		"a long ping":     {raw: [][]byte{said(final|opPing, make([]byte, 126))}, err: "control frame"},
		"a ping in parts": {raw: [][]byte{said(opPing, nil)}, err: "control frame"},
	} {
		t.Run(name, func(t *testing.T) {
			for seed := range uint64(20) {
				pings := ""
				in := frameReader{
					conn:   &bytesConn{rest: bytes.Join(test.raw, nil), r: rand.New(rand.NewPCG(seed, 1))},
					onPing: func(data []byte) { pings += string(data) },
				}
				var got []string
				_, message, err := in.next()
				for ; err == nil; _, message, err = in.next() {
					got = append(got, string(message))
				}
				assert.Equal(t, test.want, got)
				assert.Equal(t, test.pings, pings)
				require.ErrorContains(t, err, test.err)
				var broken errBroken
				gone := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
					websocket.IsCloseError(err, 1000, 1005)
				require.NotEqual(t, gone, errors.As(err, &broken), "broken or gone, not both: %v", err)
			}
		})
	}
}

// The head in front of a frame that stands in its memory is that of one that is put together anew, of each length that
// is framed differently.
func TestTheHeadIsPutBeforeTheFrame(t *testing.T) {
	for _, n := range []int{0, 1, 125, 126, 65535, 65536} {
		payload := bytes.Repeat([]byte{'a'}, n)
		whole := append(make([]byte, Headroom), payload...)
		assert.Equal(t, appendWebSocket(nil, opBin, payload), putHeader(opBin, whole), "%d bytes", n)
	}
}

func FuzzFraming(f *testing.F) {
	f.Add(said(final|opBin, []byte("a")))
	f.Add(append(said(opText, []byte("on")), said(final|opMore, []byte("e"))...))
	f.Fuzz(func(t *testing.T, raw []byte) {
		in := frameReader{conn: &bytesConn{rest: raw, r: rand.New(rand.NewPCG(1, 1))}, onPing: func([]byte) {}}
		for n := 0; ; n++ {
			op, message, err := in.next()
			if err != nil {
				return
			}
			if op != opText && op != opBin || len(message) > wire.MaxMessage || n > len(raw) {
				t.Fatalf("message %d: opcode %d, %d bytes", n, op, len(message))
			}
		}
	})
}

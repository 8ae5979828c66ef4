package gateway

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/gorilla/websocket"

	"kamerad.example/core/wire"
)

// Opcodes of RFC 6455, 5.2.
const (
	opMore  = 0x0
	opText  = 0x1
	opBin   = 0x2
	opClose = 0x8
	opPing  = 0x9
	opPong  = 0xa
	final   = 0x80 // the frame ends its message
	masked  = 0x80
)

// appendWebSocket appends a message as a WebSocket frame of a server (RFC 6455, 5.2): never masked, never in parts.
func appendWebSocket(dst []byte, op byte, message []byte) []byte {
	switch n := len(message); {
	case n < 126:
		dst = append(dst, final|op, byte(n))
	case n < 1<<16:
		dst = binary.BigEndian.AppendUint16(append(dst, final|op, 126), uint16(n))
	default:
		dst = binary.BigEndian.AppendUint64(append(dst, final|op, 127), uint64(n))
	}
	return append(dst, message...)
}

// appendMessage appends a message as a frame: text when it is JSON, else binary.
func appendMessage(dst, message []byte) []byte {
	if len(message) > 0 && message[0] == '{' {
		return appendWebSocket(dst, opText, message)
	}
	return appendWebSocket(dst, opBin, message)
}

// asIs leaves a message as it is, for a pipe.
func asIs(dst, message []byte) []byte { return append(dst, message...) }

// Headroom is what the frame of RFC 6455 may need before a message.
const Headroom = 10

// putHeader puts the beginning of a server's frame right before a message, which has Headroom bytes of room before it,
// and returns the whole.
func putHeader(op byte, whole []byte) []byte {
	switch n := len(whole) - Headroom; {
	case n < 126:
		whole = whole[Headroom-2:]
		whole[0], whole[1] = final|op, byte(n)
	case n < 1<<16:
		whole = whole[Headroom-4:]
		whole[0], whole[1] = final|op, 126
		binary.BigEndian.PutUint16(whole[2:], uint16(n))
	default:
		whole[0], whole[1] = final|op, 127
		binary.BigEndian.PutUint64(whole[2:], uint64(n))
	}
	return whole
}

// frameReader reads the messages of a client from its socket. A client that breaks RFC 6455 is broken as one whose
// message is.
type frameReader struct {
	conn   io.Reader
	onPing func(data []byte)
	// called with each frame that is read; its error stops the reading, which may go on later
	onFrame    func(bytes int, message bool) error
	maxMessage int    // bytes of a message; 0 for wire.MaxMessage
	buf        []byte // what was read; what is not used yet is from at on
	at         int
	partial    []byte // the frames so far of a message that comes in several
	op         byte   // of that message; 0 for none
}

// errBroken says that what a client sent is no WebSocket frame, or more than a message may be.
type errBroken string

// Error says what is broken.
func (e errBroken) Error() string { return string(e) }

// closing is how a client closed the connection; errors.As finds it.
func closing(data []byte) error {
	if len(data) < 2 {
		return &websocket.CloseError{Code: websocket.CloseNoStatusReceived}
	}
	return &websocket.CloseError{Code: int(binary.BigEndian.Uint16(data)), Text: string(data[2:])}
}

// next returns the next message. Its bytes hold until the one after.
func (r *frameReader) next() (op byte, message []byte, err error) {
	for {
		op, fin, data, err := r.frame()
		if err != nil {
			return 0, nil, err
		}
		whole := fin && (op == opText || op == opBin || op == opMore)
		if op == opPing {
			r.onPing(data)
		}
		if r.onFrame != nil {
			err = r.onFrame(len(data), whole)
		}
		switch op {
		case opPing, opPong:
			if err != nil {
				return 0, nil, err
			}
			continue
		case opClose:
			return 0, nil, closing(data)
		case opText, opBin:
			if r.op != 0 {
				return 0, nil, errBroken("a message began before the last one had ended")
			}
			if fin {
				return op, data, nil
			}
			r.op = op
			r.partial = append(r.partial[:0], data...)
			if err != nil {
				return 0, nil, err
			}
		case opMore:
			if r.op == 0 {
				return 0, nil, errBroken("a part of a message came without its beginning")
			}
			if len(r.partial)+len(data) > r.limit() {
				return 0, nil, r.tooLong()
			}
			r.partial = append(r.partial, data...)
			if fin {
				op, r.op = r.op, 0
				return op, r.partial, nil
			}
			if err != nil {
				return 0, nil, err
			}
		default:
			return 0, nil, errBroken(fmt.Sprintf("a frame has the unknown opcode %d", op))
		}
	}
}

// limit returns how many bytes a message may have.
func (r *frameReader) limit() int {
	if r.maxMessage > 0 {
		return r.maxMessage
	}
	return wire.MaxMessage
}

// tooLong returns the error of a message that is longer than it may be.
func (r *frameReader) tooLong() error {
	return errBroken(fmt.Sprintf("a message was longer than %d bytes", r.limit()))
}

// frame reads one frame; its bytes hold until the next one.
func (r *frameReader) frame() (op byte, fin bool, data []byte, err error) {
	if err := r.need(2); err != nil {
		return 0, false, nil, err
	}
	first := r.buf[r.at]
	second := r.buf[r.at+1]
	op = first & 0xf
	fin = first&final != 0
	switch {
	case first&0x70 != 0:
		return 0, false, nil, errBroken("a frame has bits that no extension was agreed for")
	case second&masked == 0:
		return 0, false, nil, errBroken("a frame is not masked, as those of clients have to be")
	}
	n := uint64(second & 0x7f)
	from := 2
	switch n {
	case 126:
		from = 4
	case 127:
		from = 10
	}
	if err := r.need(from + 4); err != nil {
		return 0, false, nil, err
	}
	switch n {
	case 126:
		n = uint64(binary.BigEndian.Uint16(r.buf[r.at+2:]))
	case 127:
		n = binary.BigEndian.Uint64(r.buf[r.at+2:])
	}
	switch {
	case op >= opClose && (n > 125 || !fin):
		return 0, false, nil, errBroken("a control frame is too long or in parts")
	case n > uint64(r.limit()):
		return 0, false, nil, r.tooLong()
	}
	if err := r.need(from + 4 + int(n)); err != nil {
		return 0, false, nil, err
	}
	mask := [4]byte(r.buf[r.at+from:])
	data = r.buf[r.at+from+4 : r.at+from+4+int(n)]
	for i := range data {
		data[i] ^= mask[i&3]
	}
	r.at += from + 4 + int(n)
	return op, fin, data, nil
}

// need reads until there are n bytes.
func (r *frameReader) need(n int) error {
	for len(r.buf)-r.at < n {
		if r.at > 0 && (r.at == len(r.buf) || r.at+n > cap(r.buf)) {
			r.buf = r.buf[:copy(r.buf, r.buf[r.at:])]
			r.at = 0
		}
		if r.at+n > cap(r.buf) {
			r.buf = append(make([]byte, 0, max(readBuffer, n)), r.buf...)
		}
		got, err := r.conn.Read(r.buf[len(r.buf):cap(r.buf)])
		r.buf = r.buf[:len(r.buf)+got]
		if got == 0 && err != nil {
			if errors.Is(err, io.EOF) && len(r.buf) > r.at {
				return io.ErrUnexpectedEOF
			}
			return err
		}
	}
	return nil
}

const readBuffer = 512

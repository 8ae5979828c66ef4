package record

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
)

// Head says what a recording is of: the first line of an export.
type Head struct {
	Recording string                     `json:"recording"` // always "kamerad"
	Engine    int                        `json:"engine"`    // Revision
	Wire      int                        `json:"wire"`
	Contract  string                     `json:"contract"`
	Version   int                        `json:"version"`
	Source    string                     `json:"source"`          // the contract's text
	Files     map[string]string          `json:"files,omitempty"` // what it includes
	Settings  map[string]json.RawMessage `json:"settings,omitempty"`
	Memory    int64                      `json:"memory,omitempty"`
	World     *session.World             `json:"world,omitempty"`
	Key       []byte                     `json:"key"` // the session's: whoever has it can tell every roll
}

// line is a call in an export.
type line struct {
	Call     string          `json:"call"`
	Client   int             `json:"client,omitempty"`
	Tick     int64           `json:"tick,omitempty"`
	Player   string          `json:"player,omitempty"`
	Name     string          `json:"name,omitempty"`
	Role     string          `json:"role,omitempty"`
	Ask      *wire.Ask       `json:"ask,omitempty"`
	Message  string          `json:"message,omitempty"`
	Move     *wire.Move      `json:"move,omitempty"`
	Entity   uint32          `json:"entity,omitempty"`
	Property string          `json:"property,omitempty"`
	Value    json.RawMessage `json:"value,omitempty"`
	Kept     *session.Kept   `json:"kept,omitempty"`
	Frames   uint32          `json:"frames,omitempty"`
}

// Export writes a recording as lines of JSON (NDJSON): the head, and then each call up to a tick, less than 0 for its
// end. It has all that it takes to play the session elsewhere, and its key.
func Export(ctx context.Context, w io.Writer, head Head, source Source, to int64) error {
	out := bufio.NewWriter(w)
	lines := json.NewEncoder(out)
	lines.SetEscapeHTML(false)
	head.Recording = "kamerad"
	if err := lines.Encode(head); err != nil {
		return fmt.Errorf("export a recording: %w", err)
	}
	err := eachUpTo(ctx, source, to, func(c *session.Call) error { return lines.Encode(lineOf(c)) })
	if err != nil {
		return fmt.Errorf("export a recording: %w", err)
	}
	return out.Flush()
}

// eachUpTo goes through the calls of a recording up to a tick, less than 0 for its end.
func eachUpTo(ctx context.Context, source Source, to int64, visit func(*session.Call) error) error {
	last := int64(0)
	return EachCall(ctx, source, func(c *session.Call) (bool, error) {
		if to >= 0 && last >= to {
			return false, nil
		}
		if c.Type == session.CallTick {
			last = c.Tick
		}
		return true, visit(c)
	})
}

// EachCall goes through the calls of a recording from its beginning, until visit returns false or an error. A call
// holds until visit returns.
func EachCall(ctx context.Context, source Source, visit func(*session.Call) (more bool, err error)) error {
	for number := int64(1); ; number++ {
		batch, err := source.Batch(ctx, number)
		if batch == nil || err != nil {
			return err
		}
		calls, err := decompress(batch.Data)
		if err != nil {
			return fmt.Errorf("read a recording: batch %d: %w", number, err)
		}
		d := decoder{in: calls, tick: batch.After}
		for {
			c, err := d.next()
			if err != nil {
				return err
			}
			if c == nil {
				break
			}
			more, err := visit(c)
			if !more || err != nil {
				return err
			}
		}
	}
}

// lineOf returns a call as a line.
func lineOf(c *session.Call) line {
	return line{
		Call:     c.Type.String(),
		Client:   c.Client,
		Tick:     c.Tick,
		Player:   c.Player,
		Name:     c.Name,
		Role:     c.Role,
		Ask:      c.Ask,
		Message:  string(c.Message),
		Move:     c.Move,
		Entity:   c.Entity,
		Property: c.Property,
		Value:    c.Value,
		Kept:     c.Kept,
		Frames:   c.Frames,
	}
}

// batchSize is how large the batches of an import are, in bytes before they are compressed.
const batchSize = 1 << 20

// maxLine bounds a line of an export, in bytes.
const maxLine = 64 << 20

// Import reads an export, of either form. The recording has no checkpoints: it is played from its beginning. The error
// says what is wrong with which line; whatever is in the bytes, nothing else comes of them.
func Import(r io.Reader) (Head, *Recording, error) {
	in := bufio.NewReader(r)
	next := jsonLines(in)
	if first, _ := in.Peek(len(columns[0])); string(first) == columns[0] {
		next = tableLines(in)
	}
	var head Head
	if raw, err := next.head(); err != nil || json.Unmarshal(raw, &head) != nil || head.Recording != "kamerad" {
		return head, nil, errors.New("read a recording: its first line is not the head of one")
	}
	if head.Engine != Revision {
		return head, nil, fmt.Errorf(
			"read a recording: it is of engine %d, and this program has %d: they do not compute the same", head.Engine,
			Revision,
		)
	}
	types := map[string]session.CallType{}
	for _, t := range session.CallTypes() {
		types[t.String()] = t
	}
	out := &Recording{}
	w := NewWriter(0, 1)
	for n := 2; ; n++ {
		var l line
		err := next.line(&l)
		if errors.Is(err, io.EOF) {
			break
		}
		var c *session.Call
		if err == nil {
			c, err = l.call(types)
		}
		if err != nil {
			return head, nil, fmt.Errorf("read a recording: line %d: %w", n, err)
		}
		w.Record(c)
		if c.Type == session.CallTick && w.Size() > batchSize {
			out.take(w)
		}
	}
	out.take(w)
	return head, out, nil
}

// lineReader reads an export line by line.
type lineReader struct {
	head func() ([]byte, error)
	line func(*line) error // io.EOF at the end
}

// jsonLines reads lines of JSON.
func jsonLines(r io.Reader) lineReader {
	in := bufio.NewScanner(r)
	in.Buffer(nil, maxLine)
	next := func() ([]byte, error) {
		if in.Scan() {
			return in.Bytes(), nil
		}
		if err := in.Err(); err != nil {
			return nil, err
		}
		return nil, io.EOF
	}
	return lineReader{head: next, line: func(l *line) error {
		raw, err := next()
		if err != nil {
			return err
		}
		return json.Unmarshal(raw, l)
	}}
}

// take adds what a writer has.
func (r *Recording) take(w *Writer) {
	if batch, ok := w.Take(); ok {
		batch.Data = Compress(batch.Data)
		r.Batches = append(r.Batches, batch)
	}
}

// maxTick bounds the tick with which a session goes on: no service has run for so long.
const maxTick = 1 << 50

// call returns the call of a line.
func (l *line) call(types map[string]session.CallType) (*session.Call, error) {
	t, known := types[l.Call]
	switch {
	case !known:
		return nil, fmt.Errorf("there is no call %.40q, only: %v", l.Call, slices.Sorted(maps.Keys(types)))
	case t == session.CallAsk && l.Ask == nil, t == session.CallSteer && l.Move == nil,
		t == session.CallLoadKept && l.Kept == nil:
		return nil, fmt.Errorf("the call %s does not say with what", l.Call)
	case l.Move != nil && (l.Move.Wide < 0 || l.Move.Wide > len(l.Move.Numbers)):
		return nil, fmt.Errorf("a value has %d numbers", l.Move.Wide)
	case l.Client < 0:
		return nil, fmt.Errorf("a client has the number %d", l.Client)
	case t == session.CallRecover && (l.Tick < 0 || l.Tick > maxTick):
		return nil, fmt.Errorf("a session goes on with tick %d", l.Tick)
	}
	return &session.Call{
		Type:     t,
		Client:   l.Client,
		Tick:     l.Tick,
		Player:   l.Player,
		Name:     l.Name,
		Role:     l.Role,
		Ask:      l.Ask,
		Message:  wire.MessageType(l.Message),
		Move:     l.Move,
		Entity:   l.Entity,
		Property: l.Property,
		Value:    l.Value,
		Kept:     l.Kept,
		Frames:   l.Frames,
	}, nil
}

// Load returns the contract and the options of the session that a head is of.
func (h *Head) Load() (*contract.Contract, session.Options, error) {
	o := session.Options{Settings: h.Settings, Memory: h.Memory, Trace: true} // so that Why tells what checks saw
	if len(h.Key) != len(o.Key) {
		return nil, o, fmt.Errorf("read a recording: its key has %d bytes, not %d", len(h.Key), len(o.Key))
	}
	copy(o.Key[:], h.Key)
	if h.World != nil {
		o.World = *h.World
	}
	c, mistakes := compile.LoadWith(h.Contract+".kam", h.Source, contract.Files(h.Files).Open)
	if c == nil {
		return nil, o, fmt.Errorf("read a recording: the text of its contract does not fit this program: %w", mistakes)
	}
	return c, o, nil
}

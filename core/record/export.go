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
	Key       []byte                     `json:"key"` // the session's: whoever has it can tell every roll
}

// line is a call in an export.
type line struct {
	Call     string          `json:"call"`
	Client   int             `json:"client,omitempty"`
	Tick     int64           `json:"tick,omitempty"`
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
	head.Recording = "kamerad"
	out := bufio.NewWriter(w)
	lines := json.NewEncoder(out)
	lines.SetEscapeHTML(false)
	if err := lines.Encode(head); err != nil {
		return fmt.Errorf("export a recording: %w", err)
	}
	last := int64(0)
	err := EachCall(ctx, source, func(c *session.Call) (bool, error) {
		if to >= 0 && last >= to {
			return false, nil
		}
		if c.Type == session.CallTick {
			last = c.Tick
		}
		if err := lines.Encode(lineOf(c)); err != nil {
			return false, fmt.Errorf("export a recording: %w", err)
		}
		return true, nil
	})
	if err != nil {
		return err
	}
	return out.Flush()
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

// Import reads an export. The recording has no checkpoints: it is played from its beginning. The error says what is
// wrong with which line; whatever is in the bytes, nothing else comes of them.
func Import(r io.Reader) (Head, *Recording, error) {
	var head Head
	in := bufio.NewScanner(r)
	in.Buffer(nil, maxLine)
	if !in.Scan() || json.Unmarshal(in.Bytes(), &head) != nil || head.Recording != "kamerad" {
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
	for n := 2; in.Scan(); n++ {
		var l line
		if err := json.Unmarshal(in.Bytes(), &l); err != nil {
			return head, nil, fmt.Errorf("read a recording: line %d: %w", n, err)
		}
		c, err := l.call(types)
		if err != nil {
			return head, nil, fmt.Errorf("read a recording: line %d: %w", n, err)
		}
		w.Record(c)
		if c.Type == session.CallTick && w.Size() > batchSize {
			out.take(w)
		}
	}
	if err := in.Err(); err != nil {
		return head, nil, fmt.Errorf("read a recording: %w", err)
	}
	out.take(w)
	return head, out, nil
}

// take adds what a writer has.
func (r *Recording) take(w *Writer) {
	if batch, ok := w.Take(); ok {
		batch.Data = Compress(batch.Data)
		r.Batches = append(r.Batches, batch)
	}
}

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
	}
	return &session.Call{
		Type:     t,
		Client:   l.Client,
		Tick:     l.Tick,
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
	o := session.Options{Settings: h.Settings, Memory: h.Memory}
	if len(h.Key) != len(o.Key) {
		return nil, o, fmt.Errorf("read a recording: its key has %d bytes, not %d", len(h.Key), len(o.Key))
	}
	copy(o.Key[:], h.Key)
	c, mistakes := compile.LoadWith(h.Contract+".kam", h.Source, contract.Files(h.Files).Open)
	if c == nil {
		return nil, o, fmt.Errorf("read a recording: the text of its contract does not fit this program: %w", mistakes)
	}
	return c, o, nil
}

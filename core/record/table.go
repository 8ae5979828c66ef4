package record

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strconv"

	"kamerad.example/core/session"
)

// columns are those of a table of calls. The row behind them is the head, as JSON under `value`.
var columns = []string{
	"call", "client", "tick", "name", "role", "ask", "message", "move", "entity", "property", "value", "kept", "frames",
	"player",
}

// oldColumns is how many columns a table has that was written before players had identities.
const oldColumns = 13

// headRow is what stands under `call` in the row of the head.
const headRow = "Recording"

// ExportTable writes a recording as a table (CSV, RFC 4180), as Export does as lines of JSON: with a row for each call,
// in which values stand as JSON.
func ExportTable(ctx context.Context, w io.Writer, head Head, source Source, to int64) error {
	head.Recording = "kamerad"
	raw, err := json.Marshal(head)
	if err != nil {
		return fmt.Errorf("export a recording: %w", err)
	}
	out := csv.NewWriter(w)
	err = out.Write(columns)
	if err == nil {
		err = out.Write([]string{headRow, "", "", "", "", "", "", "", "", "", string(raw), "", "", ""})
	}
	if err == nil {
		err = eachUpTo(ctx, source, to, func(c *session.Call) error {
			l := lineOf(c)
			return out.Write(l.cells())
		})
	}
	if err != nil {
		return fmt.Errorf("export a recording: %w", err)
	}
	out.Flush()
	return out.Error()
}

// cells returns the line as a row of a table.
func (l *line) cells() []string {
	number := func(n int64) string {
		if n == 0 {
			return ""
		}
		return strconv.FormatInt(n, 10)
	}
	value := func(v any, is bool) string {
		if !is {
			return ""
		}
		raw, _ := json.Marshal(v) // what was read of JSON can be written
		return string(raw)
	}
	return []string{
		l.Call, number(int64(l.Client)), number(l.Tick), l.Name, l.Role, value(l.Ask, l.Ask != nil), l.Message,
		value(l.Move, l.Move != nil), number(int64(l.Entity)), l.Property, string(l.Value),
		value(l.Kept, l.Kept != nil), number(int64(l.Frames)), l.Player,
	}
}

// tableLines reads a table.
func tableLines(r io.Reader) lineReader {
	in := csv.NewReader(r)
	in.ReuseRecord = true
	head := func() ([]byte, error) {
		names, err := in.Read() // of the columns, of which each row has as many
		if err != nil {
			return nil, err
		}
		if n := len(names); n != len(columns) && n != oldColumns {
			return nil, fmt.Errorf("a table of calls has %d columns, not %d", len(columns), n)
		}
		row, err := in.Read()
		if err != nil || row[0] != headRow {
			return nil, err
		}
		return []byte(row[10]), nil
	}
	return lineReader{head: head, line: func(l *line) error {
		row, err := in.Read()
		if err != nil {
			return err
		}
		return l.fill(row)
	}}
}

// fill reads a row of a table.
func (l *line) fill(row []string) (err error) {
	number := func(cell string, bits int) int64 {
		if cell == "" || err != nil {
			return 0
		}
		n, wrong := strconv.ParseInt(cell, 10, bits)
		err = wrong
		return n
	}
	value := func(cell string, to any) {
		if cell != "" && err == nil {
			err = json.Unmarshal([]byte(cell), to)
		}
	}
	*l = line{Call: row[0], Name: row[3], Role: row[4], Message: row[6], Property: row[9]}
	l.Client = int(number(row[1], 32))
	l.Tick = number(row[2], 64)
	value(row[5], &l.Ask)
	value(row[7], &l.Move)
	entity := number(row[8], 64)
	if err == nil && (entity < 0 || entity > math.MaxUint32) {
		err = fmt.Errorf("an entity has the number %d", entity)
	}
	l.Entity = uint32(entity)
	if row[10] != "" {
		l.Value = json.RawMessage(row[10])
	}
	value(row[11], &l.Kept)
	l.Frames = uint32(number(row[12], 64))
	if len(row) > oldColumns {
		l.Player = row[oldColumns]
	}
	return err
}

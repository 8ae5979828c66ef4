package record_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/record"
)

// What is exported is played elsewhere, to the byte; what is no export is an error that says where.
func TestAnExportIsPlayedElsewhere(t *testing.T) {
	s := newStory(t, storyText)
	s.join("ana")
	s.join("bo")
	s.ticks(3)
	s.ask(1, "Diver.hit", "30")
	s.ticks(30)
	s.why("hull") // which hands over what waits
	head := record.Head{
		Engine:   record.Revision,
		Contract: "story",
		Version:  1,
		Source:   storyText,
		Key:      s.options.Key[:],
	}
	var raw bytes.Buffer
	require.NoError(t, record.Export(t.Context(), &raw, head, &s.Recording, -1))
	assert.Contains(t, raw.String(), `{"call":"Ask","client":1,"ask":{"seq":1,"request":"Diver.hit","args":[30]}}`)
	var table bytes.Buffer
	require.NoError(t, record.ExportTable(t.Context(), &table, head, &s.Recording, -1))
	assert.Contains(
		t,
		table.String(),
		"\nAsk,1,,,,\"{\"\"seq\"\":1,\"\"request\"\":\"\"Diver.hit\"\",\"\"args\"\":[30]}\"",
	)
	for _, form := range []bytes.Buffer{raw, table} {
		read, recording, err := record.Import(bytes.NewReader(form.Bytes()))
		require.NoError(t, err)
		c, options, err := read.Load()
		require.NoError(t, err)
		p := record.NewPlayer(c, options, recording)
		require.NoError(t, p.Seek(t.Context(), 1000))
		assert.Equal(t, s.session.Now(), p.Session().Now())
		assert.Equal(t, string(s.session.State().JSON()), string(p.Session().State().JSON()))
	}

	lines := strings.Split(raw.String(), "\n")
	for _, x := range []struct{ line, want string }{
		{`{"call":"Jump"}`, "line 2: there is no call"},
		{`{"call":"Ask","client":1}`, "line 2: the call Ask does not say with what"},
		{`{"call":"Steer","move":{"Wide":9}}`, "line 2: a value has 9 numbers"},
		{`{"call":`, "line 2: unexpected end"},
	} {
		_, _, err := record.Import(strings.NewReader(lines[0] + "\n" + x.line + "\n"))
		require.ErrorContains(t, err, x.want)
	}
	rows := strings.SplitAfter(table.String(), "\n")
	for _, x := range []struct{ row, want string }{
		{"Tick,,x,,,,,,,,,,,\n", "line 2: strconv.ParseInt"},
		{"Tick,,1\n", "line 2: record on line 3: wrong number of fields"},
		{"Set,1,,,,,,,99999999999,,,,,\n", "line 2: an entity has the number 99999999999"},
	} {
		_, _, err := record.Import(strings.NewReader(rows[0] + rows[1] + x.row))
		require.ErrorContains(t, err, x.want)
	}
	var older strings.Builder // a table from before players had identities
	for _, row := range rows[:3] {
		cells := strings.TrimRight(row, "\n")
		older.WriteString(cells[:strings.LastIndexByte(cells, ',')] + "\n")
	}
	_, _, err := record.Import(strings.NewReader(older.String()))
	require.NoError(t, err)
	_, _, err = record.Import(strings.NewReader("a,b\n"))
	require.ErrorContains(t, err, "not the head")
	_, _, err = record.Import(strings.NewReader("{}"))
	require.ErrorContains(t, err, "its first line is not the head")
	_, _, err = record.Import(strings.NewReader(strings.Replace(lines[0], `"engine":2`, `"engine":1`, 1)))
	require.ErrorContains(t, err, "it is of engine 1, and this program has 2")
}

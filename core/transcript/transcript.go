// Package transcript notes what the clients of a session do, and writes a drill of it that does the same again. It
// plays no drill; that is up to package drill.
//
// Who runs the session tells it what came in, and what each tick did; it copies what it keeps.
package transcript

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// Bounds of a transcript and of the drill that comes of it.
const (
	MaxLines    = 15_000 // lines; what comes after them is not kept
	maxExpected = 400    // values that are expected at the end
)

// Transcript notes what the clients of a session do, so that a drill can do it again. It has to be told of everything
// before the tick that meets it, and of each tick. It is for the one who runs the session.
type Transcript struct {
	session  *session.Session
	seed     uint64
	from     string // the file of the recording from which the drill begins; empty for a new session
	began    int64  // the tick from which it begins
	settings map[string]json.RawMessage
	lines    []noted
	names    map[int]string // of clients that are in, or wait to come back
	cut      map[int]bool   // whose connection is
	used     names
	newest   map[int]uint64    // of requests and writes, by client
	numbered map[int]uint64    // the same, of what the drill says
	presses  map[string]uint64 // by client and property
	open     map[[2]uint64]int // requests without a decision: places of their lines
	left     int               // what could not be put into a drill
	full     bool
	end      int64 // the last tick that is kept
}

// noted is a line of the drill to be, and the tick after which it stands.
type noted struct {
	after int64
	text  string
	next  int64 // of a restart: the tick with which the session goes on; else 0
}

// New begins a transcript of a session that has not had a tick and whose key is that of the seed.
func New(s *session.Session, seed uint64, settings map[string]json.RawMessage) *Transcript {
	return &Transcript{
		session:  s,
		seed:     seed,
		settings: settings,
		names:    map[int]string{},
		cut:      map[int]bool{},
		newest:   map[int]uint64{},
		numbered: map[int]uint64{},
		presses:  map[string]uint64{},
		open:     map[[2]uint64]int{},
	}
}

// Stretch returns the transcript of some ticks of a recording: those after from, up to to. The drill begins from a
// recording in a file beside it, which has to hold all up to from. The player is somewhere else afterwards.
func Stretch(ctx context.Context, p *record.Player, from, to int64, file string) (*Transcript, error) {
	var progress Progress
	p.FromStart = true
	p.Check = false
	if err := p.Seek(ctx, 0); err != nil {
		return nil, err
	}
	s := p.Session()
	p.Called = progress.Called
	defer func() { p.Called = nil }()
	err := p.Each(ctx, from, func(step *session.Step) { progress.Ticked(s, step) })
	if err != nil {
		return nil, err
	}
	if s.Now() != from {
		return nil, fmt.Errorf("write a drill of a recording: it has no tick %d; it ends with %d", from, s.Now())
	}
	t := after(s, &progress, file)
	p.Called = t.called
	err = p.Each(ctx, to, func(step *session.Step) {
		t.Ticked(step)
		for _, cut := range step.Cuts {
			t.Out(cut.Client)
		}
	})
	return t, err
}

// after begins a transcript of a recorded session that is played again.
func after(s *session.Session, p *Progress, file string) *Transcript {
	t := New(s, 0, nil)
	t.from = file
	t.began = s.Now()
	t.end = s.Now()
	t.used = maps.Clone(p.names)
	for _, x := range p.Clients {
		t.names[x.Number] = x.Name
		t.cut[x.Number] = x.Lost
		t.newest[x.Number] = x.Seq
		t.numbered[x.Number] = x.Seq
		for _, m := range x.Holds {
			t.presses[t.holdOf(x.Number, &m)] = m.Press
		}
	}
	return t
}

// holdOf returns under what the press of a hold is noted.
func (t *Transcript) holdOf(client int, m *wire.Move) string {
	kind, short, _ := strings.Cut(m.Property, ".")
	if k := t.kind(kind); k != nil {
		target, _ := t.target(k, client, m.Entity)
		return fmt.Sprint(client, target+"."+short)
	}
	return ""
}

// called adds a call of a session that is played again, before it is made.
func (t *Transcript) called(c *session.Call) {
	switch c.Type {
	case session.CallJoin:
		t.Joined(wire.Client{Number: c.Client, Name: c.Name, Role: c.Role})
	case session.CallLeave:
		t.Moved(syntax.MoveLeave, c.Client)
	case session.CallLost:
		t.Moved(syntax.MoveCut, c.Client)
	case session.CallBack:
		t.Moved(syntax.MoveBack, c.Client)
	case session.CallAsk:
		t.Sent(c.Client, &wire.FromClient{Type: wire.MessageAsk, Ask: *c.Ask})
	case session.CallSteer:
		m := &wire.FromClient{Type: c.Message, Property: c.Move.Property, Press: c.Move.Press, Value: c.Move.Value}
		m.Seq = c.Move.Seq
		m.Entity = c.Move.Entity
		m.Seen = c.Move.Seen
		m.Numbers = c.Move.Numbers
		m.Wide = c.Move.Wide
		t.Sent(c.Client, m)
	case session.CallSet:
		t.set(c)
	case session.CallHand:
		t.hand(c)
	case session.CallLoadKept:
		t.keeps(c)
	case session.CallRecover:
		t.note("restart at %d", c.Tick)
		if !t.full {
			t.lines[len(t.lines)-1].next = c.Tick
		}
		for _, number := range slices.Sorted(maps.Keys(t.names)) {
			t.cut[number] = true
			t.note("cut %s", t.names[number])
		}
	}
}

// keeps adds, before the line in which a client joins, what it has from earlier sessions.
func (t *Transcript) keeps(c *session.Call) {
	if t.full {
		return
	}
	join := t.lines[len(t.lines)-1]
	t.lines = t.lines[:len(t.lines)-1]
	name := t.names[c.Client]
	for _, full := range slices.Sorted(maps.Keys(c.Kept.Values)) {
		kind, short, _ := strings.Cut(full, ".")
		var p *contract.Property
		if k := t.kind(kind); k != nil {
			p = k.Property(short)
		}
		if p == nil {
			continue // a property that the contract no longer has
		}
		value, err := p.Type.ParseJSON(c.Kept.Values[full])
		words, ok := "", false
		if err == nil {
			words, ok = t.literal(p.Type, value)
		}
		if !ok {
			t.omit("%s keeps a value of %s that no drill can say", name, full)
			continue
		}
		t.note("%s keeps %s = %s", name, full, words)
	}
	t.lines = append(t.lines, join)
}

// set adds that somebody set a property from outside.
func (t *Transcript) set(c *session.Call) {
	of, kind, ok := t.entity(c.Entity)
	if !ok {
		return
	}
	p := t.kind(kind).Property(c.Property)
	if p == nil {
		return
	}
	value, err := p.Type.ParseJSON(c.Value)
	words := ""
	if err == nil {
		words, ok = t.literal(p.Type, value)
	}
	if err != nil || !ok {
		t.omit("%s.%s was set to a value that no drill can say", of, c.Property)
		return
	}
	t.note("set %s.%s = %s", of, c.Property, words)
}

// hand adds that somebody gave an entity to a client from outside.
func (t *Transcript) hand(c *session.Call) {
	of, _, ok := t.entity(c.Entity)
	to, in := t.names[c.Client]
	if !ok || !in {
		t.omit("an entity was given away that no drill can name")
		return
	}
	t.note("give %s to %s", of, to)
}

// note adds a line to the drill, while it is not full.
func (t *Transcript) note(format string, args ...any) {
	t.full = t.full || len(t.lines) >= MaxLines
	if !t.full {
		t.lines = append(t.lines, noted{after: t.session.Now(), text: fmt.Sprintf(format, args...)})
	}
}

// omit notes something that no line of a drill can say.
func (t *Transcript) omit(format string, args ...any) {
	t.left++
	t.note("// left out: "+format, args...)
}

// Joined notes that a client joins.
func (t *Transcript) Joined(c wire.Client) {
	name := t.used.of(c.Name)
	t.names[c.Number] = name
	t.note("join %s as %s meanwhile", name, c.Role)
}

// Moved notes that a client leaves, or that its connection is lost or made again: verb is leave, cut or back.
func (t *Transcript) Moved(verb syntax.DrillMoveVerb, client int) {
	name, in := t.names[client]
	if !in || verb == syntax.MoveCut && t.cut[client] {
		return
	}
	if verb != syntax.MoveBack { // it does not hear what becomes of what it has just sent
		for at, line := range t.open {
			if at[0] == uint64(client) && line < len(t.lines) && t.lines[line].after == t.session.Now() {
				delete(t.open, at)
			}
		}
	}
	switch verb {
	case syntax.MoveLeave:
		delete(t.names, client)
	case syntax.MoveBack:
		if !t.cut[client] { // another connection took the seat
			t.note("cut %s", name)
		}
	}
	t.cut[client] = verb == syntax.MoveCut
	t.note("%s %s", verb, name)
}

// Out notes that the session itself put a client out.
func (t *Transcript) Out(client int) { delete(t.names, client) }

// Sent adds what a client sent. What no drill can say is left out and counted.
func (t *Transcript) Sent(client int, m *wire.FromClient) {
	name, in := t.names[client]
	if !in {
		return
	}
	if m.Type == wire.MessageAsk || m.Type == wire.MessageWrite {
		if m.Seq <= t.newest[client] {
			t.omit("%s sent number %d again", name, m.Seq)
			return
		}
		t.newest[client] = m.Seq
	}
	full := m.Request + m.Property
	kind, short, _ := strings.Cut(full, ".")
	k := t.kind(kind)
	if k == nil {
		t.omit("%s sent `%.60s`, which the contract lacks", name, full)
		return
	}
	target, ok := t.target(k, client, m.Entity)
	if !ok {
		t.omit("%s sent %s of something that was not there", name, full)
		return
	}
	target += "." + short
	switch m.Type {
	case wire.MessageAsk:
		text, ok := t.asks(k, short, name, target, m.Args)
		if !ok {
			t.omit("%s sent %s with values that no drill can say", name, full)
			return
		}
		t.skip(client, m.Seq)
		t.open[[2]uint64{uint64(client), m.Seq}] = len(t.lines)
		t.note("%s", text)
	case wire.MessageWrite:
		t.write(client, m, k.Property(short), target)
	case wire.MessagePress:
		if p := k.Property(short); p == nil || p.Hold == nil {
			t.omit("%s pressed `%.60s`, which the contract lacks", name, full)
			return
		}
		at := fmt.Sprint(client, target)
		if m.Press > t.presses[at] || t.presses[at] == math.MaxUint64 {
			t.presses[at] = m.Press
			t.note("%s presses %s", name, target)
		} else if m.Press == t.presses[at] {
			t.note("%s renews %s", name, target)
		}
	case wire.MessageRelease:
		at := fmt.Sprint(client, target)
		if t.presses[at] == m.Press && m.Press > 0 {
			t.presses[at] = math.MaxUint64 // until another press
			t.note("%s releases %s", name, target)
		}
	}
}

// write adds a write of a property, which is nil when the kind does not have it.
func (t *Transcript) write(client int, m *wire.FromClient, p *contract.Property, target string) {
	name := t.names[client]
	if p == nil {
		t.omit("%s wrote `%.60s`, which the contract lacks", name, m.Property)
		return
	}
	raw := m.Value
	if m.Wide > 0 {
		moved := m.Move()
		raw = p.Type.AppendJSON(nil, p.Type.FromSlots(moved.Numbers[:moved.Wide], nil))
	}
	value, err := p.Type.ParseJSON(raw)
	words, ok := "", false
	if err == nil {
		words, ok = t.literal(p.Type, value)
	}
	if !ok {
		t.omit("%s wrote a value of %s that no drill can say", name, m.Property)
		return
	}
	t.skip(client, m.Seq)
	t.note("%s writes %s = %s", name, target, words)
}

// skip makes the drill's client number its next message as it was: what a request rolls depends on that.
func (t *Transcript) skip(client int, seq uint64) {
	if n := seq - t.numbered[client] - 1; n > 0 {
		t.note("%s skips %d", t.names[client], n)
	}
	t.numbered[client] = seq
}

// kind returns the kind of a name, or nil.
func (t *Transcript) kind(name string) *contract.Kind {
	for _, k := range t.session.Contract().Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// target names the entity that something is sent of.
func (t *Transcript) target(k *contract.Kind, client int, number uint32) (string, bool) {
	if number == 0 {
		return k.Name, k.Shared || k.Per >= 0
	}
	words, of, ok := t.entity(number)
	if of == k.Name && words == t.names[client]+"."+k.Name {
		words = k.Name
	}
	return words, ok && of == k.Name
}

// entity names an entity that is there.
func (t *Transcript) entity(number uint32) (words, kind string, ok bool) {
	kind, serial, owner, ok := t.session.Named(number)
	if !ok {
		return "", "", false
	}
	k := t.kind(kind)
	name, in := t.names[owner]
	switch {
	case k.Shared:
		return kind, kind, true
	case k.Per >= 0 && in:
		return name + "." + kind, kind, true
	}
	return fmt.Sprintf("%s[%d]", kind, serial), kind, true
}

// asks writes a request: as one that fits the contract, or as a forged one.
func (t *Transcript) asks(k *contract.Kind, short, name, target string, args []json.RawMessage) (string, bool) {
	i := slices.IndexFunc(k.Requests, func(r *contract.Request) bool { return r.Name == short })
	var list []string
	if i >= 0 && len(k.Requests[i].Params) == len(args) {
		for j, p := range k.Requests[i].Params {
			v, err := p.Type.ParseJSON(args[j])
			if err != nil {
				break
			}
			words, ok := t.literal(p.Type, v)
			if !ok {
				return "", false
			}
			list = append(list, words)
		}
		if len(list) == len(args) {
			return fmt.Sprintf("%s asks %s(%s)", name, target, strings.Join(list, ", ")), true
		}
	}
	list = nil
	for _, raw := range args {
		words, ok := loosely(raw)
		if !ok {
			return "", false
		}
		list = append(list, words)
	}
	return fmt.Sprintf("%s forges %s(%s)", name, target, strings.Join(list, ", ")), true
}

// quoted writes a text as drills do; ok is false for what they cannot say.
func quoted(s string) (string, bool) {
	if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == '"' || r == '\\' || r == 0xFFFD }) {
		return "", false
	}
	return `"` + s + `"`, true
}

// loosely writes any JSON that is a number, a text, a truth, or a list of them.
func loosely(raw json.RawMessage) (string, bool) {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return "", false
	}
	return loosened(v, 0)
}

// deepest is how deep lists stand in each other at most that are put into a drill.
const deepest = 8

// loosened writes a value of JSON that is of no known type; ok is false for one that a drill cannot say.
func loosened(v any, depth int) (string, bool) {
	switch x := v.(type) {
	case bool:
		return strconv.FormatBool(x), true
	case string:
		return quoted(x)
	case float64:
		if math.Abs(x) > 1<<53 {
			return "", false
		}
		return shortest(x), true
	case []any:
		if depth == deepest {
			return "", false
		}
		var list []string
		for _, y := range x {
			words, ok := loosened(y, depth+1)
			if !ok {
				return "", false
			}
			list = append(list, words)
		}
		return "[" + strings.Join(list, ", ") + "]", true
	}
	return "", false
}

// literal writes a value, whose refs are by the numbers that clients know, as drills do.
func (t *Transcript) literal(typ *contract.Type, v contract.Value) (string, bool) {
	switch typ.Form {
	case contract.FormBool:
		return strconv.FormatBool(v.Num != 0), true
	case contract.FormInt, contract.FormInstant:
		return strconv.FormatInt(v.Num, 10), true
	case contract.FormTime:
		return contract.TimeText(v.Num), true
	case contract.FormReal:
		return shortest(typ.Real(v.Num)), true
	case contract.FormText:
		return quoted(v.Text)
	case contract.FormEnum:
		return typ.Enum.Name + "." + typ.Enum.Values[v.Num], true
	case contract.FormKind:
		return typ.Names[v.Num], true
	case contract.FormDirection:
		x, y := typ.Vector(v.Num)
		if n, ok := typ.Angle(x, y); !ok || n != v.Num {
			return "", false
		}
		return "vec(" + shortest(x) + ", " + shortest(y) + ")", true
	case contract.FormEntity:
		if v.Num == 0 {
			return "nothing", true
		}
		words, _, ok := t.entity(uint32(v.Num))
		return words, ok
	case contract.FormClient:
		if v.Num == contract.Nothing {
			return "nothing", true
		}
		name, ok := t.names[int(v.Num)]
		return name, ok
	}
	return t.compound(typ, v)
}

// compound writes a value that has parts.
func (t *Transcript) compound(typ *contract.Type, v contract.Value) (string, bool) {
	var list []string
	switch typ.Form {
	case contract.FormVec2, contract.FormVec3:
		for _, p := range v.Parts {
			list = append(list, shortest(typ.Real(p.Num)))
		}
		return "vec(" + strings.Join(list, ", ") + ")", true
	case contract.FormRecord:
		for i, p := range typ.Parts {
			words, ok := t.literal(p.Type, v.Parts[i])
			if !ok {
				return "", false
			}
			list = append(list, p.Name+" = "+words)
		}
		return typ.Name + "(" + strings.Join(list, ", ") + ")", true
	case contract.FormList:
		for _, p := range v.Parts {
			words, ok := t.literal(typ.Of, p)
			if !ok {
				return "", false
			}
			list = append(list, words)
		}
	case contract.FormStacks:
		for _, p := range v.Parts {
			if p.Parts[1].Num == 0 {
				list = append(list, "[]")
				continue
			}
			list = append(
				list, fmt.Sprintf("[%s.%s, %d]", typ.Enum.Name, typ.Enum.Values[p.Parts[0].Num], p.Parts[1].Num),
			)
		}
	default:
		return "", false // a map or a rotation has no words in drills
	}
	return "[" + strings.Join(list, ", ") + "]", true
}

// shortest writes a number as the shortest text that is read as the same number.
func shortest(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }

// Ticked adds what came of a tick.
func (t *Transcript) Ticked(step *session.Step) {
	if t.full {
		return
	}
	t.end = step.Tick
	for i := range step.Decisions {
		d := &step.Decisions[i]
		at := [2]uint64{uint64(d.Client.Number), d.Ask.Seq}
		line, ok := t.open[at]
		if !ok {
			continue
		}
		delete(t.open, at)
		if line < len(t.lines) {
			t.lines[line].text += " -> " + string(d.Outcome)
			if words, ok := quoted(d.Reason); ok && d.Reason != "" && d.Outcome != wire.Faulted {
				t.lines[line].text += " " + words
			}
		}
	}
}

// Expect adds that a client sees, as things stand now, what it was sent of a property last, or that it does not see
// the property; client 0 is the server. It returns the line that the drill gets. The error says why no drill can
// expect that.
func (t *Transcript) Expect(client int, entity uint32, property string) (line string, err error) {
	if t.full {
		return "", fmt.Errorf("expect something: the drill has %d lines already, and can have no more", MaxLines)
	}
	who := "server"
	var block *wire.Block
	if client == 0 {
		block = t.session.State()
	} else {
		var in bool
		who, in = t.names[client]
		if !in {
			return "", fmt.Errorf("expect something: the session has no client %d", client)
		}
		if t.cut[client] {
			return "", fmt.Errorf("expect something of %s: its connection is cut", who)
		}
		block, _ = t.session.ClientState(client)
	}
	of, kind, ok := t.entity(entity)
	if !ok {
		return "", fmt.Errorf("expect something: there is no entity %d", entity)
	}
	if k := t.kind(kind); k.Property(property) == nil {
		return "", fmt.Errorf("expect something: %s has no property %.60q", kind, property)
	}
	field := fieldOf(block, entity, property)
	if field == nil {
		line = fmt.Sprintf("expect %s does not see %s.%s", who, of, property)
		t.note("%s", line)
		return line, nil
	}
	value := field.Value
	if field.Motion != nil {
		value = field.Motion.Value(field.Type, t.session.Now())
	}
	words, ok := t.literal(field.Type, value)
	if !ok {
		return "", fmt.Errorf("expect %s.%s: no drill can say the value that it has", of, property)
	}
	line = fmt.Sprintf("expect %s sees %s.%s == %s", who, of, property, words)
	t.note("%s", line)
	return line, nil
}

// fieldOf returns a property of an entity in what somebody holds, or nil.
func fieldOf(block *wire.Block, entity uint32, property string) *wire.Field {
	if block == nil {
		return nil
	}
	for i := range block.Spawned {
		if block.Spawned[i].Entity != entity {
			continue
		}
		for j := range block.Spawned[i].Fields {
			if block.Spawned[i].Fields[j].Name == property {
				return &block.Spawned[i].Fields[j]
			}
		}
	}
	return nil
}

// setting writes the value that a setting of the session was given, as its type wants it in a drill.
func (t *Transcript) setting(name string) (words string, ok bool) {
	for _, s := range t.session.Contract().Settings {
		if s.Name != name {
			continue
		}
		value, err := s.Type.ParseJSON(t.settings[name])
		if err != nil {
			return "", false
		}
		return t.literal(s.Type, value)
	}
	return "", false
}

// Drill writes the drill: it does what the clients did, in the same ticks, and expects the same decisions, and at the
// end what the server holds now of what is shared and of each player's own. left is how much of what was sent no drill
// can say; it stands as comments.
func (t *Transcript) Drill(name, file string) (text string, left int, err error) {
	words, ok := quoted(name)
	if !ok {
		return "", 0, fmt.Errorf("write a drill: the name %q cannot stand in one", name)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "drill %s\nuse \"%s\"", words, file)
	if t.from != "" {
		fmt.Fprintf(&b, " from \"%s\" at %d", t.from, t.began)
	} else {
		fmt.Fprintf(&b, " seed %d", t.seed)
	}
	if len(t.settings) > 0 {
		var list []string
		for _, name := range slices.Sorted(maps.Keys(t.settings)) {
			value, ok := t.setting(name)
			if !ok {
				return "", 0, fmt.Errorf("write a drill: the setting %s has a value that no drill can say", name)
			}
			list = append(list, name+" = "+value)
		}
		fmt.Fprintf(&b, " with %s", strings.Join(list, ", "))
	}
	b.WriteString("\n\n")
	at := t.began
	wait := func(until int64) {
		if n := until - at; n == 1 {
			b.WriteString("wait 1 tick\n")
		} else if n > 1 {
			fmt.Fprintf(&b, "wait %d ticks\n", n)
		}
		at = max(at, until)
	}
	for _, l := range t.lines {
		if l.after > t.end {
			break
		}
		wait(l.after)
		b.WriteString(l.text + "\n")
		if l.next > 0 {
			at = l.next - 1
		}
	}
	if t.full {
		fmt.Fprintf(&b, "// more than %d lines: what came after tick %d was not kept\n", MaxLines, t.end)
	}
	wait(t.end)
	b.WriteString("\n")
	if !t.full {
		t.expect(&b)
	}
	b.WriteString("settle\n")
	connected := func(client int) bool { return !t.cut[client] }
	// Of a transcript that is full it is not known who was there when it ended.
	if !t.full && slices.ContainsFunc(slices.Collect(maps.Keys(t.names)), connected) {
		b.WriteString("expect everyone in step\n")
	}
	return b.String(), t.left, nil
}

// expect writes what the server holds now.
func (t *Transcript) expect(b *strings.Builder) {
	n := 0
	for _, s := range t.session.State().Spawned {
		k := t.kind(s.Kind)
		if _, in := t.names[s.Owner]; !k.Shared && (k.Per < 0 || !in) {
			continue
		}
		of, _, ok := t.entity(s.Entity)
		if !ok {
			continue
		}
		for _, f := range s.Fields {
			words, ok := t.literal(f.Type, f.Value)
			if !ok || n >= maxExpected {
				continue
			}
			n++
			fmt.Fprintf(b, "expect server sees %s.%s == %s\n", of, f.Name, words)
		}
	}
}

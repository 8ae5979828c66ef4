package session

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
	"kamerad.example/internal/tests/wild"
)

// twin is one of two sessions with the same inputs. Nothing but what its client may not see differs in the other.
type twin struct {
	*Session
	viewer  int
	readers map[int]*wire.Reader
	copy    replicate.Copy
	varying bool // how many crates there are may be a secret
}

// variant is a contract in which rolls that go to hidden properties come out otherwise.
type variant struct {
	*contract.Contract
	hidden map[string]bool // the properties that get them
}

var (
	rolled = regexp.MustCompile(`((?:\w+\.)*)(\w+) = roll\((\d+)\.\.(\d+)\)`)
	kinds  = regexp.MustCompile(`\b(?:shared|entity|part) (\w+)`)
	spawns = regexp.MustCompile(`spawn (\w+) \{[^}]*$`)
)

// rolledProperties returns the properties that a roll in the text may go to, as "Diver.air".
func rolledProperties(c *contract.Contract, at []int) (out []string) {
	text := c.Source.Text
	of := strings.TrimSuffix(text[at[2]:at[3]], ".")
	name := text[at[4]:at[5]]
	if i := strings.LastIndexByte(of, '.'); i >= 0 {
		of = of[i+1:]
	}
	if of == "" || of == "self" {
		of = ""
		if m := spawns.FindStringSubmatch(text[:at[0]]); m != nil {
			of = m[1]
		} else if before := kinds.FindAllStringSubmatch(text[:at[0]], -1); before != nil {
			of = before[len(before)-1][1]
		}
	}
	known := slices.ContainsFunc(c.Kinds, func(k *contract.Kind) bool { return k.Name == of })
	for _, k := range c.Kinds {
		if k.Property(name) != nil && (k.Name == of || !known) {
			out = append(out, k.Name+"."+name)
		}
	}
	return out
}

// variants returns a contract itself and, where rolls go to what not everyone may see, contracts with other rolls: of
// all such properties, and of those of each name alone.
func variants(t testing.TB, c *contract.Contract) []variant {
	out := []variant{{c, nil}}
	open := map[string]bool{}
	for _, k := range c.Kinds {
		for _, p := range k.Properties {
			open[k.Name+"."+p.Name] = p.To == contract.Everyone && k.To == contract.Everyone
		}
	}
	found := map[string]bool{}
	sets := map[string]map[string]bool{}
	places := rolled.FindAllStringSubmatchIndex(c.Source.Text, -1)
	hides := func(at []int) []string {
		all := rolledProperties(c, at)
		if slices.ContainsFunc(all, func(name string) bool { return open[name] }) {
			return nil
		}
		return all
	}
	for _, at := range places {
		for _, name := range hides(at) {
			found[name] = true
			short := name[strings.IndexByte(name, '.'):]
			if sets[short] == nil {
				sets[short] = map[string]bool{}
			}
			sets[short][name] = true
		}
	}
	list := []map[string]bool{}
	for _, short := range slices.Sorted(mapKeys(sets)) {
		list = append(list, sets[short])
	}
	if len(list) > 1 {
		list = append(list, found)
	}
	for _, hidden := range list {
		// The other way round, the least and the most; a roll stays in its place, so that all others come out the same.
		for _, way := range []string{
			"$1$2 = $3 + $4 - roll($3..$4)", "$1$2 = $3 + 0 * roll($3..$4)", "$1$2 = $4 + 0 * roll($3..$4)",
		} {
			text := ""
			last := 0
			for _, at := range places {
				if all := hides(at); len(all) > 0 && hidden[all[0]] {
					text += c.Source.Text[last:at[0]] + rolled.ReplaceAllString(c.Source.Text[at[0]:at[1]], way)
					last = at[1]
				}
			}
			other, problems := compile.Load(c.Source.Name, text+c.Source.Text[last:])
			require.NotNil(t, other, problems)
			out = append(out, variant{other, hidden})
		}
	}
	return out
}

// newTwin opens a session with two players and a referee.
func newTwin(t testing.TB, c *contract.Contract, viewer int) *twin {
	s, err := New(c, Options{Key: [32]byte{7}})
	require.NoError(t, err)
	for i, name := range []string{"Ana", "Bo", "Cleo"} {
		n, err := s.Join(name, c.Roles[min(i/2, len(c.Roles)-1)])
		require.NoError(t, err)
		s.Ready(n)
	}
	return &twin{Session: s, viewer: viewer, readers: map[int]*wire.Reader{}}
}

// input is what clients do in one tick, as a function of the tick and a seed alone.
func (w *twin) input(seed uint64, tick int) {
	r := rand.New(rand.NewPCG(seed, uint64(tick)))
	seq := uint64(tick * 10)
	switch tick {
	case 14:
		n, err := w.Join("Dov", w.contract.Roles[0])
		if err == nil {
			w.Ready(n)
		}
	case 33:
		w.Leave(2)
		return
	}
	for range 2 + r.IntN(3) {
		seq++
		client := w.viewer
		if r.IntN(2) == 0 && seed%2 == 0 { // else all others are silent: their decisions end the comparison
			client = 1 + r.IntN(4)
		}
		if len(w.contract.Requests) == 0 {
			break
		}
		ask := wire.Ask{Seq: seq, Seen: int64(tick - 1)}
		q := w.contract.Requests[r.IntN(len(w.contract.Requests))]
		ask.Request = q.FullName()
		for _, p := range q.Params {
			raw := plainArgument(p.Type)
			if p.Type.Form == contract.FormInt {
				raw = strconv.FormatInt(p.Type.Low+r.Int64N(p.Type.High-p.Type.Low+1), 10)
			}
			if p.Type.Form == contract.FormEntity && r.IntN(5) > 0 {
				raw = fmt.Sprint(w.view.Number(&world.Entity{Kind: p.Type.Kinds[0], Serial: 1 + r.Int64N(3)}))
			}
			ask.Args = append(ask.Args, json.RawMessage(raw))
		}
		serial := 1 + r.Int64N(3)
		if q.Kind.Free() { // what came later, and may belong to somebody, is asked for too
			serial = 1 + r.Int64N(3+int64(tick)/4)
		}
		if !q.Kind.Shared && (q.Kind.Per < 0 || r.IntN(2) == 0) {
			ask.Entity = w.view.Number(&world.Entity{Kind: q.Kind, Serial: serial})
		}
		w.Ask(client, w.ReadRequest(ask))
	}
	for _, name := range slices.Sorted(mapKeys(w.steerable)) {
		p := w.steerable[name]
		if r.IntN(3) > 0 {
			continue
		}
		seq++
		move := wire.Move{
			Seq:      seq,
			Property: name,
			Press:    seq,
			Seen:     int64(tick - 1),
		}
		what := wire.MessagePress
		if p.Hold == nil {
			what = wire.MessageWrite
			move.Value = json.RawMessage(strconv.Itoa(r.IntN(10)))
		} else if r.IntN(3) == 0 {
			what = wire.MessageRelease
		}
		client := w.viewer
		if seed%2 == 0 {
			client = 1 + r.IntN(2)
		}
		w.Steer(client, w.ReadSteering(what, move))
	}
}

func mapKeys[V any](m map[string]V) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// between returns a number of a type, each as likely as any other.
func between(r *rand.Rand, t *contract.Type) int64 {
	return t.Low + int64(r.Uint64N(uint64(t.High)-uint64(t.Low)+1))
}

// poke returns something that the viewer may not see another value, mostly of one property. It tells what.
func (w *twin) poke(r *rand.Rand, focus *contract.Property) string {
	all := slices.Clone(w.world.Entities())
	for range 20 {
		e := all[r.IntN(len(all))]
		sees := w.machine.Sees(e, w.viewer)
		// What comes and goes by what everyone knows is there in both.
		if !sees && e.Kind.Free() && r.IntN(4) == 0 && w.varying {
			w.world.Despawn(e)
			w.endTransaction(nil)
			return "the end of a " + e.Kind.Name
		}
		if len(e.Kind.Properties) == 0 {
			continue
		}
		p := e.Kind.Properties[r.IntN(len(e.Kind.Properties))]
		if r.IntN(8) > 0 && slices.Contains(e.Kind.Properties, focus) {
			p = focus
		}
		if p.Follows != nil || p.Computed || sees && w.machine.Gets(e, p, w.viewer) {
			continue
		}
		if p.Hold != nil && e.Owner == w.viewer {
			continue // it is what its owner has pressed itself, also when it is not told of it
		}
		slots := make([]int64, p.Type.Width())
		switch p.Type.Form {
		case contract.FormBool:
			slots[0] = r.Int64N(2)
		case contract.FormInt, contract.FormReal:
			slots[0] = between(r, p.Type)
			if r.IntN(2) == 0 {
				slots[0] = []int64{p.Type.Low, p.Type.High}[r.IntN(2)]
			}
		case contract.FormVec2, contract.FormVec3:
			for i := range slots {
				slots[i] = between(r, p.Type) * r.Int64N(2)
			}
		case contract.FormEnum:
			slots[0] = r.Int64N(int64(len(p.Type.Enum.Values)))
		case contract.FormEntity:
			if of := w.world.OfKind(p.Type.Kinds[0].Index); len(of) > 0 && r.IntN(3) > 0 {
				slots[0] = int64(of[r.IntN(len(of))].ID)
			}
		case contract.FormClient:
			slots[0] = 1 + r.Int64N(3)
		case contract.FormList:
			if p.Type.Of.Form != contract.FormInt {
				value := play.NewActor(nil, r).Value(&replicate.Copy{Clients: w.Clients()}, p.Type)
				slots = p.Type.AppendSlots(nil, value, w.world.Intern)
				break
			}
			slots[0] = r.Int64N(int64(p.Type.Max) + 1)
			for i := range slots[0] {
				slots[1+i] = between(r, p.Type.Of)
			}
		case contract.FormStacks:
			at := 0
			if p.Type.Slotted {
				at = 2 * r.IntN(p.Type.Max)
			}
			if r.IntN(2) == 1 {
				slots[at] = r.Int64N(int64(len(p.Type.Enum.Values)))
				slots[at+1] = 1 + r.Int64N(p.Type.Each)
			}
		default:
			value := play.NewActor(nil, r).Value(&replicate.Copy{Clients: w.Clients()}, p.Type)
			slots = p.Type.AppendSlots(nil, value, w.world.Intern)
		}
		if slices.Equal(slots, e.Nums[p.Slot:p.Slot+len(slots)]) {
			continue
		}
		w.world.Set(e, p, slots)
		if p.Hold != nil {
			w.world.WriteHidden(e, p.Hold.Slot, w.tick+p.Hold.Lease)
		}
		w.setCause('p', e.Key(), int64(p.Index))
		w.endHandler("a poke", e, w.machine.Settle())
		return fmt.Sprintf("%s.%s of #%d = %v", e.Kind.Name, p.Name, e.Serial, slots[:min(len(slots), 6)])
	}
	return ""
}

// got is all that a client gets in a tick.
type got struct {
	frame     *wire.Frame
	raw       string // its JSON form
	bytes     []byte
	decisions string // of all others
}

func (w *twin) step() got {
	var out got
	step := w.Tick()
	for _, f := range step.Frames {
		if w.readers[f.Client] == nil {
			w.readers[f.Client] = wire.NewReader(w.view.Layout())
		}
		frame, err := w.readers[f.Client].Read(f.Bytes)
		if err != nil {
			panic(err) // the reader is at fault
		}
		if f.Client == w.viewer {
			out.frame, out.raw, out.bytes = frame, string(frame.AppendJSON(nil)), f.Bytes
			continue
		}
		for _, d := range frame.Decisions {
			out.decisions += fmt.Sprint(f.Client, d.Seq, d.Outcome, d.Stage, d.Reason, ";")
		}
	}
	for _, c := range step.Cuts {
		out.raw += fmt.Sprint(" cut ", c)
	}
	return out
}

// parts returns what stands in a frame; apart are the values that the client may have from now on: what is hidden from
// some and what the copy did not have before, and what was rolled otherwise.
func (w *twin) parts(f *wire.Frame, rolled map[string]bool) (old []string, fresh map[string]string) {
	c := &w.copy
	fresh = map[string]string{}
	if f == nil {
		return nil, fresh
	}
	field := func(entity uint32, kind string, x wire.Field) {
		raw := string(x.Type.AppendJSON(nil, x.Value))
		had := false
		if t := c.Entity(entity); t != nil {
			kind = t.Kind
			_, had = t.Value(x.Name)
		}
		turned := rolled[kind+"."+x.Name]
		if !w.open(kind, x.Name) && w.throttled(kind, x.Name) {
			// it was last changed while the client might not have it, and is sent when its time has come
			fresh["ends"] = ""
		} else if !turned && (had || w.open(kind, x.Name)) {
			old = append(old, fmt.Sprint(entity, x.Name, "=", raw))
			return
		}
		if turned {
			fresh["ends"] = "" // the client may have what differs from here on
		}
		fresh[fmt.Sprint(entity, ".", x.Name)] = raw
	}
	for _, b := range f.Blocks {
		old = append(old, fmt.Sprint(b.Joined, b.Owned, b.Gone, b.Left))
		for _, s := range b.Spawned {
			old = append(old, fmt.Sprint("spawn ", s.Entity, s.Kind, s.Owner))
			for _, x := range s.Fields {
				field(s.Entity, s.Kind, x)
			}
		}
		for _, u := range b.Values {
			old = append(old, fmt.Sprint("values ", u.Entity, u.Withdrawn))
			for _, x := range u.Fields {
				field(u.Entity, "", x)
			}
		}
	}
	for _, e := range f.Events {
		old = append(old, string(e.JSON()))
	}
	return append(old, fmt.Sprint(f.Tick, f.Snapshot, f.Decisions, f.Logs)), fresh
}

// open reports whether everyone may always see a property.
func (w *twin) open(kind, name string) bool {
	return slices.ContainsFunc(w.contract.Kinds, func(k *contract.Kind) bool {
		return k.Name == kind && k.To == contract.Everyone &&
			slices.ContainsFunc(k.Properties, func(p *contract.Property) bool {
				return p.Name == name && p.To == contract.Everyone
			})
	})
}

// throttled reports whether a property is sent only so often.
func (w *twin) throttled(kind, name string) bool {
	return slices.ContainsFunc(w.contract.Kinds, func(k *contract.Kind) bool {
		return k.Name == kind &&
			slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return p.Name == name && p.AtMost > 0 })
	})
}

// twins runs two sessions with the same inputs; in the second one hidden values are rolled otherwise and changed now
// and then. It tells the first thing that their viewer gets in one and not in the other, other than values that it may
// have from now on.
func twins(
	t testing.TB, c *contract.Contract, other variant, varying bool, viewer int, seed uint64, ticks int, about []string,
) string {
	a := newTwin(t, c, viewer)
	b := newTwin(t, other.Contract, viewer)
	b.varying = varying
	r := rand.New(rand.NewPCG(seed, 99))
	poked := []string{}
	var all []*contract.Property
	for _, k := range c.Kinds {
		for _, p := range k.Properties {
			if p.To != contract.Everyone || k.To != contract.Everyone {
				all = append(all, p)
			}
		}
	}
	if len(all) == 0 {
		return "" // there is nothing to hide
	}
	focus := all[r.IntN(len(all))]
	if len(about) > 0 && r.IntN(4) > 0 { // what a finding speaks of
		name := about[r.IntN(len(about))]
		for _, k := range c.Kinds {
			for _, p := range k.Properties {
				if k.Name+"."+p.Name == name {
					focus = p
				}
			}
		}
	}
	for tick := 1; tick <= ticks; tick++ {
		a.input(seed, tick)
		b.input(seed, tick)
		if tick > 2 && r.IntN(2) == 0 && b.seats[viewer] != nil && b.seats[viewer].joined {
			if what := b.poke(r, focus); what != "" {
				poked = append(poked, fmt.Sprintf("tick %d: %s", tick, what))
			}
		}
		one := a.step()
		two := b.step()
		if one.decisions != two.decisions {
			return "" // somebody else, who sees what differs, would have asked otherwise
		}
		if one.raw != two.raw || !bytes.Equal(one.bytes, two.bytes) {
			oldA, freshA := a.parts(one.frame, other.hidden)
			oldB, freshB := b.parts(two.frame, other.hidden)
			_, endsA := freshA["ends"]
			_, endsB := freshB["ends"]
			same := slices.Equal(oldA, oldB) && len(freshA) == len(freshB)
			for name := range freshA {
				_, both := freshB[name]
				same = same && both
			}
			if same || endsA || endsB {
				return "" // what differs are values that the client now may have
			}
			return fmt.Sprintf(
				"tick %d, client %d, seed %d, after\n%s\n%s\n%s\n%x\n%x", tick, viewer, seed,
				strings.Join(append(poked, fmt.Sprint("with other rolls for ", other.hidden)), "\n"), one.raw, two.raw,
				one.bytes, two.bytes,
			)
		}
		if one.frame != nil {
			a.copy.Apply(one.frame)
			b.copy.Apply(two.frame)
		}
	}
	return ""
}

// differs runs twins of a contract again and again; an empty answer means that none differed.
func differs(t testing.TB, c *contract.Contract, seed uint64, runs int, about ...string) string {
	others := variants(t, c)
	varying := strings.Contains(c.Source.Text, "despawn") && counted(t, c)
	for run := range runs {
		if d := twins(t, c, others[run%7%len(others)], varying, 1+run/2%4, seed*1000+uint64(run), 60, about); d != "" {
			return d
		}
	}
	return ""
}

// counted reports whether it is called a leak to tell everyone how many there are of each kind.
func counted(t testing.TB, c *contract.Contract) bool {
	text := c.Source.Text
	for _, k := range c.Kinds {
		if k.Free() {
			text += fmt.Sprintf("\nshared Counts%s {\n  every 1s { log everyone \"{count(%s)}\" }\n}\n", k.Name, k.Name)
		}
	}
	with, problems := compile.Load(c.Source.Name, text)
	require.NotNil(t, with, problems)
	return slices.ContainsFunc(problems, func(p syntax.Problem) bool {
		return p.Code == "leak" && p.Line > strings.Count(c.Source.Text, "\n")
	})
}

func leaks(problems syntax.Problems) string {
	for _, p := range problems {
		if p.Code == "leak" {
			return p.Text(nil)
		}
	}
	return ""
}

// secrets returns what the leaks that are told speak of.
func secrets(problems syntax.Problems) (out []string) {
	for _, p := range problems {
		if p.Code == "leak" {
			for _, m := range named.FindAllStringSubmatch(p.Message, -1) {
				out = append(out, m[1])
			}
		}
	}
	return out
}

var named = regexp.MustCompile("`([A-Z]\\w*\\.\\w+)`")

// No contract that is called clean lets a client tell hidden values apart, and few that are not clean look as if they
// were. KAMERAD_TWINS says how many random contracts are tried, KAMERAD_PATIENCE how often one that is not clean is, to
// tell false alarms from leaks that are hard to see.
func TestCleanContractsTellNothing(t *testing.T) {
	contracts := 60
	patience := 10
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_TWINS")); err == nil {
		contracts = n
		patience = 120
	}
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_PATIENCE")); err == nil {
		patience = n
	}
	first := uint64(1)
	if n, err := strconv.ParseUint(os.Getenv("KAMERAD_SEED"), 10, 64); err == nil {
		first = n
	}
	right := 0
	clean := 0
	agree := 0
	alarms := 0
	var quiet []string
	for i := 0; right < contracts; i++ {
		seed := first + uint64(i)
		text := wild.Contract(rand.New(rand.NewPCG(seed, 1)))
		isMetered := seed%3 == 0
		if isMetered {
			text = withByteLimit(text, 600)
		}
		c, problems := compile.Load("wild.kam", text)
		if c == nil {
			continue
		}
		right++
		found := leaks(problems)
		runs := 8
		if found != "" {
			runs = patience // to tell false alarms from leaks that are hard to see
		}
		difference := differs(t, c, seed, runs, secrets(problems)...)
		if found == "" {
			clean++
			require.Empty(t, difference, "contract %d is called clean:\n%s", seed, text)
		}
		if difference == "" && !isMetered { // where much waits, a leak is late or comes to nothing
			agree++
			if found != "" {
				alarms++
				quiet = append(quiet, fmt.Sprintf("contract %d: %s", seed, found))
			}
		}
	}
	t.Logf(
		"%d contracts from seed %d, %d clean, none of them unsound; the twins of %d agree, of which %d (%.1f %%) "+
			"are false alarms",
		contracts, first, clean, agree, alarms, 100*float64(alarms)/float64(agree),
	)
	if os.Getenv("KAMERAD_SHOW") != "" {
		t.Log(strings.Join(quiet, "\n"))
	}
	if patience > 100 { // fewer runs see fewer of the leaks that are there
		assert.Less(t, float64(alarms), 0.2*float64(agree), "false alarms")
	}
}

// The leaks that are planted in the corpus of findings are all told, and the twins see most of them; of the contracts
// beside them that are clean, no twin sees anything.
func TestPlantedLeaks(t *testing.T) {
	files, err := filepath.Glob("../compile/testdata/danger/leak-*.kam")
	require.NoError(t, err)
	planted := 0
	seen := 0
	clean := 0
	for i, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		c, problems := compile.Load(file, string(raw))
		require.NotNil(t, c)
		near := strings.Contains(file, "leak-near-")
		if near && strings.Contains(string(raw), "reveal(") {
			continue // what is revealed may differ
		}
		difference := differs(t, c, uint64(1000+i), 40)
		if near {
			require.Empty(t, leaks(problems), file)
			require.Empty(t, difference, file)
			clean++
			continue
		}
		require.NotEmpty(t, leaks(problems), file)
		planted++
		if difference != "" {
			seen++
		} else {
			t.Logf("the twins see nothing of %s", filepath.Base(file))
		}
	}
	t.Logf("%d planted leaks are all told, the twins see %d of them; %d clean ones show nothing", planted, seen, clean)
	assert.GreaterOrEqual(t, planted, 15)
	assert.GreaterOrEqual(t, seen, planted*2/3)
}

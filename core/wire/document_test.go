package wire

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const documentsReader = "../../docs/reader.py"

// vectorFiles returns the committed vectors, and how to call Python; a machine without it skips the test.
func vectorFiles(t *testing.T) (python string, files []string) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("there is no Python here")
	}
	files, err = filepath.Glob("testdata/vectors/*.json")
	require.NoError(t, err)
	return python, files
}

// The reader of the documents, which is another implementation in another language, comes to the same: what the
// protocol's document says is enough.
func TestTheDocumentsReader(t *testing.T) {
	python, files := vectorFiles(t)
	out, err := exec.Command(python, append([]string{documentsReader}, files...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Regexp(
		t,
		`^[1-9]\d+ frames, [1-9]\d+ digests, [1-9]\d+ messages, [1-9]\d+ numbers, [1-9]\d+ values, [1-9]\d+ differences, [1-9]\d+ places, [1-9]\d+ samples of motions, [1-9]\d+ moves along walls, [1-9]\d+ numbers sown, 10000 layouts agree\n$`,
		string(out),
	)
}

// breaks are small mistakes that somebody may make who writes a reader: what stands in the document's reader, and what
// in its place.
var breaks = [][2]string{
	// what is sown
	{"v ^ v >> 30", "v ^ v >> 31"},
	{"(place + 1) * 0x9E", "place * 0x9E"},
	{"low + (v * (high - low + 1) >> 64)", "low + (v * (high - low) >> 64)"},
	{"finalize(finalize(seed & MASK)", "finalize((seed & MASK)"},
	// along walls
	{"min(max(dot(minus(p, a), d) / square, 0), 1)", "dot(minus(p, a), d) / square"},
	{"max((-b - math.sqrt(under)) / a, 0)", "max((-b + math.sqrt(under)) / a, 0)"},
	{"if a == 0 or b >= 0:", "if a == 0:"},
	{"reach = radius + wide", "reach = radius"},
	{"min(meets_circle(a, p, by, reach), meets_circle(b, p, by, reach))", "meets_circle(a, p, by, reach)"},
	{"height, fall = -height, -fall", "height = -height"},
	{"if t < best and t <= 1:", "if t <= 1:"},
	{"radius, p = max(radius, 0.001), start", "radius, p = radius, start"},
	{"if depth > deepest and distance > 0:", "if depth > 9 and distance > 0:"},
	{"for _ in range(5):", "for _ in range(1):"},
	{"rest = plus(rest, -dot(normal, rest) / square, normal)", "rest = plus(rest, 0, normal)"},
	{"if dot(rest, whole) <= 0:", "if dot(rest, whole) <= 9:"},
	// numbers
	{"self.raw[self.at // 8] >> (self.at % 8) & 1) << i", "self.raw[self.at // 8] >> (7 - self.at % 8) & 1) << i"},
	{"& 1) << i", "& 1) << (n - 1 - i)"},
	{"(1 << (n - 1) | self.bits(n - 1)) - 1", "(1 << (n - 1) | self.bits(n - 1))"},
	{"short = 2 ** (k + 1) - n", "short = 2 ** k"},
	{"v if v < short else", "v if v <= short else"},
	{"(v << 1 | self.bits(1)) - short", "(v << 1 | self.bits(1))"},
	{"q = self.ones(20)", "q = self.ones(21)"},
	{"self.bits(self.bits(7)) if q == 20", "self.bits(self.bits(6)) if q == 20"},
	{"if q == 20 else q << k", "if q == 19 else q << k"},
	{"q << k | self.bits(k)", "q << k | self.bits(k + 1)"},
	{"shift += 7", "shift += 8"},
	{"return zigzag >> 1 ^ -(zigzag & 1)", "return -(zigzag >> 1) if zigzag & 1 else zigzag >> 1"},
	// values
	{"return low(t) + r.bits", "return r.bits"},
	{"(high(t) - low(t)).bit_length())", "high(t).bit_length())"},
	{"return [number(r, t) for _ in range(PARTS[form])]", "return [number(r, t) for _ in range(PARTS[form])][::-1]"},
	{"return r.bits(32) if r.bits(1) else 0", "return r.bits(32)"},
	{"return r.gamma() - 1\n", "return r.gamma()\n"},
	{"return signed(r.gamma())", "return r.gamma()"},
	{"n = r.below(t[\"max\"] + 1)", "n = r.below(t[\"max\"])"},
	{"1 + r.below(t[\"each\"])", "r.below(t[\"each\"])"},
	{"t.get(\"slotted\") and not", "not"},
	{"t.get(\"slotted\") and not r.bits(1)", "False"},
	{"n] if n else None", "n]"},
	{"[[value(r, t[\"key\"]), value(r, t[\"of\"])] for", "[[value(r, t[\"of\"]), value(r, t[\"key\"])] for"},
	{"for _ in range(self.gamma())).decode()", "for _ in range(self.gamma())).decode(\"latin-1\")"},
	// which slots
	{"count = r.below(n) + 1", "count = r.below(n)"},
	{"(n - count) // (count + 1)) * 2 // 3 + 1", "(n - count) // (count + 1)) * 2 // 3"},
	{"* 2 // 3 + 1).bit_length() - 1", "* 2 // 3 + 1).bit_length()"},
	{"(n - count) // (count + 1)", "n // (count + 1)"},
	{"last += r.rice(k) + 1", "last += r.rice(k)"},
	{"if 2 * count <= n:", "if 2 * count < n:"},
	// differences
	{"max(2, min(span // 64, 2 ** 30))", "max(1, min(span // 64, 2 ** 30))"},
	{"span // 64", "span // 32"},
	{"0 if t.get(\"small\") else high(t) - low(t)", "high(t) - low(t)"},
	{"if by > turn // 2:", "if by > turn:"},
	{"elif by <= -((turn + 1) // 2):", "elif by < -turn:"},
	{"by = shortest(t, now - old)", "by = now - old"},
	{"                now = brought(t, now)", "                pass"},
	{"2 ** 30)), 1]", "2 ** 30)), 2]"},
	{"while size[1] << k < size[0]:", "while size[1] << k <= size[0]:"},
	{"q = r.ones(12)", "q = r.ones(13)"},
	{"if q == 12:", "if q == 11:"},
	{"now = wrapped(old + signed(d + least))", "now = old + signed(d + least)"},
	{"signed(d + least)", "signed(d)"},
	{"-2 * by - 1) - least", "-2 * by) - least"},
	{"size[0] += min(d, 2 ** 32)", "size[0] += d"},
	{"if size[1] == 32:", "if size[1] == 64:"},
	{"size[0] // 2, 16", "size[0] // 2, 32"},
	{"return 1 - old", "return r.bits(1)"},
	{"r.below(len(names(t)) - 1)", "r.below(len(names(t)))"},
	{"return now + (now >= old)", "return now + (now > old)"},
	{"step(o, 0, size)", "step(o, 1, size)"},
	{"return step(old, 1, sizes[0])", "return step(old, 0, sizes[0])"},
	// frames
	{"if head & 1:", "if head & 1 and not self.tick:"},
	{"self.tables = {0: Table(self.kinds, lanes, True)}", "self.tables.setdefault(0, Table(self.kinds, lanes, True))"},
	{
		"for i in range(count):\n                self.block(c, i == count - 1)",
		"for i in range(count):\n                self.block(c, False)",
	},
	{"int.from_bytes(c.take(4), \"little\")", "int.from_bytes(c.take(4), \"big\")"},
	{"self.settled = self.tick - c.uvarint()", "self.settled = c.uvarint()"},
	{"del self.clients[r.gamma()]", "r.gamma()"},
	{"elif bit == 7:", "elif bit == 6:"},
	{"if t[\"whole\"] > 0", "if t[\"whole\"] >= 0"},
	{"del thing[\"held\"][p], thing[\"fields\"][p]", "del thing[\"held\"][p]"},
	// groups
	{"whole = r.bits(1)\n", "whole = True\n"},
	{"mask >> p & 1]", "mask >> (len(properties) - 1 - p) & 1]"},
	{"self.tick - r.gamma(), t, rate)", "r.gamma(), t, rate)"},
	{"if r.bits(1) else None\n            thing", "\n            thing"},
	{"key=lambda e: e[0][\"number\"]", "key=lambda e: -e[0][\"number\"]"},
	{"            t.anew()\n        for", "        for"},
	{"slots[slots.index(None)] = e", "slots.append(e)"},
	{"t.slots[lane][at][0][\"owner\"] = r.gamma()", "r.gamma()"},
	{"self.leaving += [t.slots[lane][at] for lane, at in gone]", "pass"},
	{"self.leaving.append([e[0], 0, e[2] - now])", "pass"},
	{"for p in sorted(now - e[2]):", "for p in sorted(now):"},
	{"e[2] = now", "pass"},
	{"t.slots[lane][at] = None", "pass"},
	{"slots.pop()", "break"},
	{"at += r.gamma() + 1", "at += r.gamma()"},
	{"t.order = changed + [c for c in t.order if c not in changed]", "pass"},
	{"changed + [c for c in t.order if c not in changed]", "[c for c in t.order if c not in changed] + changed"},
	// digests
	{"[1, n, role]", "[1, role, n]"},
	{"if self.kinds[thing[\"kind\"]][\"properties\"][p].get(\"loose\"):", "if False:"},
	{"mixed([4, n, p, f[3]]", "mixed([3, n, p, f[3]]"},
	{"words(f[4], f[1]) + words(f[5], f[2])", "words(f[5], f[2]) + words(f[4], f[1])"},
	{"return [len(raw), *raw]", "return [*raw]"},
	{"words(t[\"of\"], x) + words(t[\"key\"], key)", "words(t[\"key\"], key) + words(t[\"of\"], x)"},
	{"h ^ h >> 31", "h ^ h >> 30"},
	// events, decisions, messages
	{
		"if r.bits(1):\n                out[\"entity\"] = r.bits(32)",
		"if True:\n                out[\"entity\"] = r.bits(32)",
	},
	{"[\"seq\", \"press\", \"release\", \"?\"]", "[\"seq\", \"release\", \"press\", \"?\"]"},
	{"\"check\": r.gamma() - 1", "\"check\": r.gamma()"},
	{"\"outcome\": (OUTCOMES + [\"unknown\"] * 10)[r.bits(4)]", "\"outcome\": OUTCOMES[r.below(len(OUTCOMES))]"},
	{"stage = (STAGES + [\"\"] * 8)[r.bits(4)]", "stage = STAGES[r.bits(3)]"},
	{"if first & 64 else 0", "if first & 32 else 0"},
	{"drawn = signed(c.uvarint())", "drawn = c.uvarint()"},
	{"return str(v)", "return v"},
	// motion
	{"real(t, a) + real(rate, b) * seconds", "real(t, a) + real(t, b) * seconds"},
	{"round(x * t[\"per\"]", "int(x * t[\"per\"]"},
	{"return min(max(n, low(t)), high(t))", "return n"},
	{"(n - low(t)) % (high(t) - low(t) + 1)", "(n - low(t)) % (high(t) - low(t))"},
}

// The vectors notice each of many small mistakes in a reader.
func TestTheVectorsNoticeMistakes(t *testing.T) {
	python, files := vectorFiles(t)
	text, err := os.ReadFile(documentsReader)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(breaks), 60)
	folder := t.TempDir()
	var all sync.WaitGroup
	turns := make(chan struct{}, 2)
	for i, b := range breaks {
		require.Equal(t, 1, strings.Count(string(text), b[0]), "%q stands there once", b[0])
		all.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			file := filepath.Join(folder, strings.Repeat("x", i+1)+".py")
			broken := bytes.Replace(text, []byte(b[0]), []byte(b[1]), 1)
			if !assert.NoError(t, os.WriteFile(file, broken, 0o600)) {
				return
			}
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second) // some never end
			defer cancel()
			out, err := exec.CommandContext(ctx, python, append([]string{file}, files...)...).CombinedOutput()
			assert.Error(t, err, "%q in place of %q goes unnoticed: %s", b[1], b[0], out)
			assert.NotContains(t, string(out), "SyntaxError", b[1])
		})
	}
	all.Wait()
}

// The document numbers the messages of clients as the table does.
func TestTheDocumentNumbersEveryMessage(t *testing.T) {
	var list []string
	for n, m := range clientMessages {
		if n > 0 {
			list = append(list, fmt.Sprintf("%d %s", n, m.typ))
		}
	}
	raw, err := os.ReadFile("../../docs/protocol.md")
	require.NoError(t, err)
	text := strings.Join(strings.Fields(string(raw)), " ")
	require.True(t, strings.Contains(text, strings.Join(list, ", ")), "it says: %s", strings.Join(list, ", "))
}

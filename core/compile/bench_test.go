package compile_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"kamerad.example/core/compile"
	"kamerad.example/internal/tests/contracts"
)

func BenchmarkLoadTidewreck(b *testing.B) {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		c, problems := compile.LoadWith("tidewreck.kam", string(raw), contracts.Beside("../../demo/tidewreck.kam"))
		if c == nil {
			b.Fatal(problems)
		}
	}
}

// generated makes a right contract of about so many lines.
func generated(lines int) string {
	var b strings.Builder
	b.WriteString("contract big language 1\nenum Item { flare, patch }\n")
	for k := 0; k < lines/50; k++ {
		fmt.Fprintf(&b, "shared Kind%d {\n  i: stacks<Item> max 2 each 3\n  event said(n: int 0..99)\n", k)
		for i := range 9 {
			fmt.Fprintf(&b, "  p%d: int 0..99 = %d clamped\n", i, i)
		}
		for i := range 4 {
			fmt.Fprintf(
				&b,
				"  request r%d(a: int 0..99, item: Item) from everyone\n    limit 2 per second\n"+
					"    check p%d + a * 2 <= 90 and i.has(item) else deny \"too much\"\n  {\n",
				i, i,
			)
			fmt.Fprintf(
				&b,
				"    let x = a + p%d\n    if x > 10 { p%d += 1 } else { p%d = x }\n    i.take(item)\n"+
					"    tell everyone said(x %% 99)\n  }\n",
				i+1, i+2, i+3,
			)
		}
		b.WriteString("}\n")
	}
	return b.String()
}

func BenchmarkLoadLines(b *testing.B) {
	for _, lines := range []int{5_000, 10_000} {
		text := generated(lines)
		b.Run(fmt.Sprint(strings.Count(text, "\n")), func(b *testing.B) {
			for b.Loop() {
				if c, problems := compile.Load("big.kam", text); c == nil {
					b.Fatal(problems[0].Text(nil))
				}
			}
		})
	}
}

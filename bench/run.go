package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
)

// figure is one line of the table.
type figure struct {
	Name   string             `json:"name"`
	Value  float64            `json:"value"`
	Unit   string             `json:"unit"`           // "ratio" when it is beside a floor
	Floor  float64            `json:"floor"`          // what it is measured against, in its own unit; 0 for none
	Ours   float64            `json:"ours"`           // in the same unit
	Most   float64            `json:"most,omitempty"` // the figure to reach
	Good   bool               `json:"good"`
	Detail map[string]float64 `json:"detail,omitempty"`
	says   string
}

// report is what --json writes.
type report struct {
	At      time.Time         `json:"at"`
	Machine string            `json:"machine"`
	Quick   bool              `json:"quick"`
	Figures map[string]figure `json:"figures"`
}

// run measures what the arguments name, and prints it.
func run(args []string) error {
	app := &cli.Command{
		Name:  "bench",
		Usage: "measure how fast Kamerad is, each figure beside its floor",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quick", Usage: "in under three minutes, less exactly"},
			&cli.StringFlag{Name: "json", Usage: "write the figures to a `FILE` as well"},
			&cli.StringFlag{Name: "only", Usage: "those whose names match a `PATTERN`"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			only, err := regexp.Compile(c.String("only"))
			if err != nil {
				return fmt.Errorf("read --only: %w", err)
			}
			return all(c.Bool("quick"), c.String("json"), only)
		},
	}
	return app.Run(context.Background(), append([]string{"bench"}, args...))
}

// all measures everything, one after the other.
func all(quick bool, file string, only *regexp.Regexp) error {
	long := map[bool]time.Duration{true: 4 * time.Second, false: 10 * time.Second}[quick]
	var list []figure
	add := func(f figure) {
		f.Good = f.Most == 0 || f.Value <= f.Most
		list = append(list, f)
		fmt.Fprintf(os.Stderr, "%s %.3g\n", f.Name, f.Value)
	}
	steps := []struct {
		name string
		do   func() error
	}{
		{"", func() error { return tickFigures(quick, only, add) }},
		{"tick.encode_growth", func() error { return growth(add) }},
		{"tick.heap_allocs", func() error { return allocs(quick, add) }},
		{"bytes", func() error { return byteFigures(quick, add) }},
		{"delay", func() error { return delayFigures(long, add) }},
		{"slow.others", func() error { return slowFigures(long, add) }},
		{"core", func() error { return coreFigures(add) }},
	}
	for _, s := range steps {
		if s.name != "" && !only.MatchString(s.name) {
			continue
		}
		if err := s.do(); err != nil {
			return fmt.Errorf("measure %s: %w", s.name, err)
		}
	}
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.SetStyle(table.StyleLight)
	t.AppendHeader(table.Row{"Figure", "Value", "To reach", "", "How it came about"})
	for _, f := range list {
		sign := ""
		most := ""
		if f.Most > 0 {
			most = "≤ " + strconv.FormatFloat(f.Most, 'g', 4, 64)
			sign = "✓"
			if !f.Good {
				sign = "✕"
			}
		}
		t.AppendRow(table.Row{f.Name, strconv.FormatFloat(f.Value, 'g', 3, 64), most, sign, f.says})
	}
	t.Render()
	if file == "" {
		return nil
	}
	r := report{
		time.Now().UTC(), fmt.Sprintf("%s, %d cores, %s", runtime.GOARCH, runtime.NumCPU(), runtime.Version()), quick,
		map[string]figure{},
	}
	for _, f := range list {
		r.Figures[f.Name] = f
	}
	raw, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(raw, '\n'), 0o644)
}

// tickFigures measures those of its figures that are wanted.
func tickFigures(quick bool, only *regexp.Regexp, add func(figure)) error {
	sizes := []int{100, 500, 1000}
	rounds := 11
	long := 2 * time.Second
	if quick {
		sizes = sizes[2:]
		rounds = 3
		long = 1500 * time.Millisecond
	}
	for _, input := range []bool{false, true} {
		name := "tick.cpu_over_floor.write_only"
		most := 1.25
		if input {
			name = "tick.cpu_over_floor.with_input"
			most = 1.4
		}
		for _, n := range sizes {
			this := fmt.Sprintf("%s.%d", name, n)
			if !only.MatchString(this) {
				continue
			}
			rounds := rounds
			if n < 1000 {
				rounds = (rounds + 1) / 3
			}
			k, f, err := cpuOverFloor(n, input, rounds, long)
			if err != nil {
				return err
			}
			x := figure{
				Name:   this,
				Unit:   "ratio",
				Value:  float64(k.cpu) / float64(f.cpu),
				Ours:   k.cpu.Seconds() * 1000,
				Floor:  f.cpu.Seconds() * 1000,
				Detail: map[string]float64{"bytes": k.bytes, "allocations": k.mallocs},
			}
			if n == 1000 {
				x.Most = most
			}
			x.says = fmt.Sprintf("%.1f ms of CPU a tick, floor %.1f ms, %.0f bytes a client", x.Ours, x.Floor, k.bytes)
			add(x)
		}
	}
	return tlsFigure(rounds, long, only, add)
}

// tlsFigure measures the same over TLS, which no system call reads or writes by itself.
func tlsFigure(rounds int, long time.Duration, only *regexp.Regexp, add func(figure)) error {
	const n = 500
	const name = "tick.cpu_over_tls_floor.write_only.500"
	if !only.MatchString(name) {
		return nil
	}
	if err := os.Setenv(tlsVariable, "yes"); err != nil {
		return err
	}
	defer func() { _ = os.Unsetenv(tlsVariable) }()
	k, f, err := cpuOverFloor(n, false, (rounds+1)/3, long)
	if err != nil {
		return err
	}
	add(figure{
		Name:   name,
		Unit:   "ratio",
		Value:  float64(k.cpu) / float64(f.cpu),
		Ours:   k.cpu.Seconds() * 1000,
		Floor:  f.cpu.Seconds() * 1000,
		Detail: map[string]float64{"bytes": k.bytes, "allocations": k.mallocs},
		says: fmt.Sprintf(
			"%.1f ms of CPU a tick, a bare loop of TLS %.1f ms, %.0f bytes a client", k.cpu.Seconds()*1000,
			f.cpu.Seconds()*1000, k.bytes,
		),
	})
	return nil
}

// allocs counts what the whole process allocates in steady ticks: 200 clients, and nobody moves.
func allocs(quick bool, add func(figure)) error {
	rate := 50
	ticks := 1000
	if quick {
		ticks = 300
	}
	p, err := couple([]string{"kamerad", fmt.Sprint(rate), "input", "0"}, 200, false, rate)
	if err != nil {
		return err
	}
	defer p.end()
	k, err := p.measure(3*time.Second, time.Duration(ticks)*time.Second/time.Duration(rate))
	if err != nil {
		return err
	}
	add(figure{
		Name:  "tick.heap_allocs",
		Value: k.mallocs,
		Ours:  k.mallocs,
		Unit:  "allocations a tick",
		Most:  1,
		says:  fmt.Sprintf("of the whole process, over %d ticks with 200 sockets", ticks),
	})
	return nil
}

// byteFigures adds the figures of bytes on the wire.
func byteFigures(quick bool, add func(figure)) error {
	minutes := 5.0
	if quick {
		minutes = 1
	}
	b, err := bytesOf(minutes)
	if err != nil {
		return err
	}
	says := fmt.Sprintf("20 divers for %g minutes, %.1f bytes a client and tick", minutes, b.PerClientTick)
	add(figure{
		Name:  "bytes.over_json",
		Unit:  "ratio",
		Value: b.JSON,
		Most:  1.0 / 8,
		says:  says,
	})
	add(figure{
		Name:  "bytes.over_zstd",
		Unit:  "ratio",
		Value: b.Zstd,
		Most:  0.5,
		says:  "the same JSON through zstd, with a dictionary of another dive",
	})
	add(figure{
		Name:  "bytes.over_entropy",
		Unit:  "ratio",
		Value: b.Entropy,
		Most:  1.6,
		says:  "frames that hold nothing but changes, against what they tell",
	})
	return nil
}

// delayFigures adds the figures of how long a decision takes.
func delayFigures(long time.Duration, add func(figure)) error {
	w, server, _, err := delays([]string{"lean"}, 200, 0, 3*time.Second, long)
	if err != nil {
		return err
	}
	floor := part99(w.Echo)
	add(figure{
		Name:  "delay.decision",
		Value: server,
		Ours:  server,
		Floor: 50,
		Most:  52,
		Unit:  "ms",
		says:  "99 of 100 decisions, from read to written, at 20 ticks a second",
	})
	add(figure{
		Name:  "delay.decision.over_echo",
		Value: part99(w.Decision) - floor,
		Ours:  part99(w.Decision),
		Floor: floor,
		Most:  3,
		Unit:  "ms",
		says: fmt.Sprintf(
			"99 of 100 took %.1f ms from asking to hearing, of a bare echo %.1f ms", part99(w.Decision), floor,
		),
	})
	add(figure{
		Name:  "delay.copies",
		Value: part99(w.Copies) - floor,
		Ours:  part99(w.Copies),
		Floor: floor,
		Most:  3,
		Unit:  "ms",
		says:  fmt.Sprintf("99 of 100 took %.1f ms from asking to another's copy", part99(w.Copies)),
	})
	return nil
}

// slowFigures adds the figures of what clients that take nothing cost the others.
func slowFigures(long time.Duration, add func(figure)) error {
	long = max(min(long, 8*time.Second), 6*time.Second) // before those who take nothing are cut
	without, _, before, err := delays([]string{"kamerad", "20", "input", "8192"}, 160, 0, 4*time.Second, long)
	if err != nil {
		return err
	}
	with, _, after, err := delays([]string{"kamerad", "20", "input", "8192"}, 160, 40, 4*time.Second, long)
	if err != nil {
		return err
	}
	a := part99(with.Decision)
	b := part99(without.Decision)
	add(figure{
		Name:   "slow.others",
		Unit:   "ratio",
		Value:  a / b,
		Ours:   a,
		Floor:  b,
		Most:   1.1,
		Detail: map[string]float64{"heap_mb": float64(after) / 1e6, "heap_mb_without": float64(before) / 1e6},
		says: fmt.Sprintf(
			"160 others: 99 of 100 in %.1f ms, without the slow ones %.1f ms; memory %.0f MB against %.0f", a, b,
			float64(after)/1e6, float64(before)/1e6,
		),
	})
	return nil
}

var benched = regexp.MustCompile(`(?m)^Benchmark(\w+)(?:/(\w+))?-?\d*\s+\d+\s+([\d.]+) ns/op`)

// goBench runs Go benchmarks and returns their nanoseconds, by name.
func goBench(folder, pattern string, times int) (map[string]float64, error) {
	raw, err := exec.Command(
		"go", "test", "-run", "^$", "-bench", pattern, "-benchtime", "1s", "-count", strconv.Itoa(times), folder,
	).CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, raw)
	}
	out := map[string]float64{}
	for _, m := range benched.FindAllStringSubmatch(string(raw), -1) {
		name := m[1]
		ns := 0.0
		if m[2] != "" {
			name += "/" + m[2]
		}
		ns, err = strconv.ParseFloat(m[3], 64)
		if err == nil && (out[name] == 0 || ns < out[name]) {
			out[name] = ns
		}
	}
	return out, nil
}

// growth adds the figures of how a tick's cost grows with what does not change.
func growth(add func(figure)) error {
	b := map[string]float64{}
	for range 4 { // one after the other, again and again: what else the machine does meets both
		once, err := goBench("./core/replicate", "^BenchmarkEncode$", 1)
		if err != nil {
			return err
		}
		for name, ns := range once {
			if b[name] == 0 || ns < b[name] {
				b[name] = ns
			}
		}
	}
	few := b["Encode/100"]
	many := b["Encode/1000"]
	add(figure{
		Name:  "tick.encode_growth",
		Unit:  "ratio",
		Value: many / few,
		Ours:  many / 1000,
		Floor: few / 1000,
		Most:  1.2,
		says: fmt.Sprintf(
			"a tick's blocks in %.0f µs for 1,000 clients in one audience, %.0f µs for 100", many/1000, few/1000,
		),
	})
	return nil
}

// coreFigures adds the figures of deciding, beside the same written by hand.
func coreFigures(add func(figure)) error {
	d, err := goBench("./core/session", "^BenchmarkDecide(ByHand)?$", 3)
	if err != nil {
		return err
	}
	r, err := goBench("./core/rules", "^Benchmark(Rules|ByHand)$", 3)
	if err != nil {
		return err
	}
	one := func(name string, ours, hand, most float64, what string) {
		add(figure{
			Name:  name,
			Unit:  "ratio",
			Value: ours / hand,
			Ours:  ours,
			Floor: hand,
			Most:  most,
			says:  fmt.Sprintf("%s: %.0f ns, by hand %.0f ns", what, ours, hand),
		})
	}
	one("core.requests", d["Decide"], d["DecideByHand"], 5, "a request, from bounds to decision")
	one("core.checks", r["Rules"], r["ByHand"], 2.5, "three checks and three stores")
	return nearFigures(add)
}

// nearFigures adds the figures of looking for what is near, beside the same by hand, and of how they grow with what is
// far away.
func nearFigures(add func(figure)) error {
	n, err := goBench("./core/rules", "^Benchmark(Within|Nearest|Count)(Each|ByHand)?$", 3)
	if err != nil {
		return err
	}
	ratio := func(name string, ours, beside, most float64, words string) {
		add(figure{
			Name:  name,
			Unit:  "ratio",
			Value: ours / beside,
			Ours:  ours / 1000,
			Floor: beside / 1000,
			Most:  most,
			says:  fmt.Sprintf(words, ours/1000, beside/1000),
		})
	}
	const hand = "100 times among 10,000 things: %.1f µs, by hand %.1f µs"
	const growth = "100 times among 10,000 things: %.1f µs, among 1,000 %.1f µs"
	ratio("core.within", n["Within/10000"], n["WithinByHand/10000"], 2.5, hand)
	ratio("core.within_each", n["WithinEach/10000"], n["WithinByHand/10000"], 5, "to go over what is found, "+hand)
	ratio("core.within_growth", n["Within/10000"], n["Within/1000"], 1.3, growth)
	ratio("core.nearest", n["Nearest/10000"], n["NearestByHand/10000"], 2.5, hand)
	ratio("core.nearest_growth", n["Nearest/10000"], n["Nearest/1000"], 1.3, growth)
	const count = "100 times of 10,000 things: %.1f µs, of 10 %.1f µs"
	ratio("core.count_growth", n["Count/10000"], n["Count/10"], 1.3, count)
	return nil
}

package rules

import (
	"testing"

	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/world"
)

const benchText = `contract bench language 1
enum Item { flare, patch }
shared Dive { phase: int 0..3 = 1 }
entity Diver per player {
  hull: int 0..100 = 50 clamped
  x: int -1000..1000 = 3
  y: int -1000..1000 = 4
  ammo: int 0..1000000000 = 1000000000
  score: int 0..1000000000 = 0
  request launch(ax: int -1000..1000, ay: int -1000..1000)
    check Dive.phase == 1 else deny "not in the water"
    check ammo > 0 else deny "no flare"
    check (ax - x) * (ax - x) + (ay - y) * (ay - y) <= 100 else deny "too far"
  { ammo -= 1; score += 1; hull = ax }
}`

func BenchmarkRules(b *testing.B) {
	c, problems := compile.Load("bench.kam", benchText)
	if c == nil {
		b.Fatal(problems)
	}
	w := world.New(c, nil)
	e := w.Spawn(c.Kinds[1], 1)
	w.Commit()
	p, err := codegen.Generate(c)
	if err != nil {
		b.Fatal(err)
	}
	m := NewMachine(p, w, [32]byte{})
	args := []int64{5, 6}
	b.ReportAllocs()
	for b.Loop() {
		if out := m.Ask(c.Requests[0], e, 1, args); out != nil {
			b.Fatal(out)
		}
		w.Commit()
	}
}

// launchByHand does what the contract's request does, on the same rows and with the same guarantees: arithmetic that
// cannot wrap, ranges that hold, and a transaction.
//
//go:noinline
func launchByHand(w *world.World, dive, e *world.Entity, s *slots, ax, ay int64) (check int, ok bool) {
	row := e.Nums
	if dive.Nums[s.phase] != 1 {
		return 0, false
	}
	if row[s.ammo] <= 0 {
		return 1, false
	}
	dx, ok1 := minus(ax, row[s.x])
	dy, ok2 := minus(ay, row[s.y])
	if !ok1 || !ok2 || !fits(dx, dx) || !fits(dy, dy) {
		return -1, false
	}
	sum := dx*dx + dy*dy
	if sum < 0 {
		return -1, false
	}
	if sum > 100 {
		return 2, false
	}
	ammo := row[s.ammo] - 1
	score := row[s.score] + 1
	if ammo < 0 || ammo > 1000000000 || score < 0 || score > 1000000000 {
		return -1, false
	}
	w.Write(e, s.ammo, s.ammo, ammo)
	w.Write(e, s.score, s.score, score)
	w.Write(e, s.hull, s.hull, min(max(ax, 0), 100))
	return 0, true
}

func minus(p, q int64) (int64, bool) {
	r := p - q
	return r, (p^q)&(p^r) >= 0
}

type slots struct{ phase, hull, x, y, ammo, score int }

func BenchmarkByHand(b *testing.B) {
	c, _ := compile.Load("bench.kam", benchText)
	w := world.New(c, nil)
	e := w.Spawn(c.Kinds[1], 1)
	w.Commit()
	slot := func(name string) int { return c.Kinds[1].Property(name).Slot }
	s := &slots{0, slot("hull"), slot("x"), slot("y"), slot("ammo"), slot("score")}
	dive := w.Shared(0)
	b.ReportAllocs()
	for b.Loop() {
		if _, ok := launchByHand(w, dive, e, s, 5, 6); !ok {
			b.Fatal("it failed")
		}
		w.Commit()
	}
}

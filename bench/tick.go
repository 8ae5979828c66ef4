package main

import (
	"cmp"
	"fmt"
	"slices"
	"syscall"
	"time"
)

const tickRate = 20

// perTick is the CPU time of a tick and the bytes that each client got in it.
type perTick struct {
	cpu     time.Duration
	bytes   float64
	mallocs float64
}

// pair is a server and the clients that take what it sends.
type pair struct {
	server, sink *child
	clients      int
}

// couple starts a server and n silent or writing clients.
func couple(server []string, n int, input bool, rate int) (p pair, err error) {
	p.server, err = begin(server[0], server[1:]...)
	if err != nil {
		return p, err
	}
	p.clients = n
	p.sink, err = begin("sink", p.server.Addr, fmt.Sprint(p.server.ID), fmt.Sprint(n), said(input), fmt.Sprint(rate))
	if err != nil {
		p.server.end()
	}
	return p, err
}

func said(input bool) string { return map[bool]string{true: "input", false: "silent"}[input] }

// end ends both processes.
func (p pair) end() {
	p.rouse(true)
	p.sink.end()
	p.server.end()
}

// rouse lets both go on, or stand still.
func (p pair) rouse(on bool) {
	list := []*child{p.server, p.sink}
	signal := syscall.SIGSTOP
	if on {
		list = []*child{p.sink, p.server}
		signal = syscall.SIGCONT
	}
	for _, c := range list {
		_ = c.cmd.Process.Signal(signal)
	}
}

// measure waits until the pair runs steadily, and then counts what the server uses for so long.
func (p pair) measure(warm, long time.Duration) (out perTick, err error) {
	time.Sleep(warm)
	var before, after, got, gets usage
	before, err = p.server.ask()
	if err != nil {
		return out, err
	}
	got, err = p.sink.ask()
	if err != nil {
		return out, err
	}
	time.Sleep(long)
	after, err = p.server.ask()
	if err != nil {
		return out, err
	}
	gets, err = p.sink.ask()
	if err != nil {
		return out, err
	}
	ticks := float64(after.Ticks - before.Ticks)
	if ticks == 0 {
		return out, fmt.Errorf("no tick came in %s", long)
	}
	out.cpu = time.Duration(float64(after.CPU-before.CPU) / ticks)
	out.bytes = float64(gets.Bytes-got.Bytes) / ticks / float64(p.clients)
	out.mallocs = float64(after.Mallocs-before.Mallocs) / ticks
	return out, nil
}

// cpuOverFloor compares a tick of Kamerad with the shortest loops that write the same bytes. They take turns, while the
// others stand still: what else the machine does meets all of them. Kamerad's turn comes before each of the two loops,
// so that all three follow what is of another kind than themselves: whatever follows its like is a few hundredths
// cheaper. The floor is the loop that was the cheaper one over all rounds; what comes out is of the round whose ratio
// is the middle one.
func cpuOverFloor(n int, input bool, rounds int, long time.Duration) (kamerad, floor perTick, err error) {
	ours, err := couple([]string{"kamerad", fmt.Sprint(tickRate), said(input), "0"}, n, input, tickRate)
	if err != nil {
		return
	}
	defer ours.end()
	once, err := ours.measure(3*time.Second, time.Second)
	if err != nil {
		return
	}
	ours.rouse(false)
	var turns []pair
	ways := []string{"bare", "plain"}
	if overTLS() {
		ways = []string{"plain", "plain"}
	}
	for _, way := range ways {
		p, err := couple(
			[]string{"floor", fmt.Sprint(int(once.bytes + 0.5)), fmt.Sprint(tickRate), way}, n, input, tickRate,
		)
		if err != nil {
			return kamerad, floor, err
		}
		defer p.end()
		p.rouse(false)
		turns = append(turns, ours, p)
	}
	all := make([][]perTick, rounds)
	for i := range all {
		for _, p := range turns {
			p.rouse(true)
			got, err := p.measure(500*time.Millisecond, long)
			if err != nil {
				return kamerad, floor, err
			}
			all[i] = append(all[i], got)
			p.rouse(false)
		}
	}
	kamerad, floor = compare(all)
	return kamerad, floor, nil
}

// compare returns the round whose ratio is the middle one. Of each there are Kamerad, a loop, Kamerad, and another
// loop.
func compare(all [][]perTick) (kamerad, floor perTick) {
	// middle returns the round in which something is the middle one of all rounds.
	middle := func(of func([]perTick) float64) []perTick {
		list := slices.SortedFunc(slices.Values(all), func(a, b []perTick) int { return cmp.Compare(of(a), of(b)) })
		return list[(len(list)-1)/2]
	}
	loop := 1
	if middle(func(
		x []perTick,
	) float64 {
		return float64(x[3].cpu)
	})[3].cpu < middle(func(x []perTick) float64 { return float64(x[1].cpu) })[1].cpu {
		loop = 3
	}
	both := func(x []perTick) perTick {
		return perTick{(x[0].cpu + x[2].cpu) / 2, (x[0].bytes + x[2].bytes) / 2, (x[0].mallocs + x[2].mallocs) / 2}
	}
	x := middle(func(x []perTick) float64 { return float64(both(x).cpu) / float64(x[loop].cpu) })
	return both(x), x[loop]
}

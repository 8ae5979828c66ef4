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
	if p.server, err = begin(server[0], server[1:]...); err != nil {
		return p, err
	}
	p.clients = n
	if p.sink, err = begin("sink", p.server.Addr, fmt.Sprint(p.server.ID), fmt.Sprint(n), said(input), fmt.Sprint(rate)); err != nil {
		p.server.end()
	}
	return p, err
}

func said(input bool) string { return map[bool]string{true: "input", false: "silent"}[input] }

func (p pair) end() {
	p.rouse(true)
	p.sink.end()
	p.server.end()
}

// rouse lets both go on, or stand still.
func (p pair) rouse(on bool) {
	list, signal := []*child{p.server, p.sink}, syscall.SIGSTOP
	if on {
		list, signal = []*child{p.sink, p.server}, syscall.SIGCONT
	}
	for _, c := range list {
		_ = c.cmd.Process.Signal(signal)
	}
}

// measure waits until the pair runs steadily, and then counts what the server uses for so long.
func (p pair) measure(warm, long time.Duration) (out perTick, err error) {
	time.Sleep(warm)
	var before, after, got, gets usage
	if before, err = p.server.ask(); err != nil {
		return out, err
	}
	if got, err = p.sink.ask(); err != nil {
		return out, err
	}
	time.Sleep(long)
	if after, err = p.server.ask(); err != nil {
		return out, err
	}
	if gets, err = p.sink.ask(); err != nil {
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

// cpuOverFloor compares a tick of Kamerad with the shortest loops that write the same bytes. They take turns, while the others stand still:
// what else the machine does meets all of them. The floor is the loop that was the cheaper one over all rounds; what comes out is of the
// round whose ratio is the middle one.
func cpuOverFloor(n int, input bool, rounds int, long time.Duration) (kamerad, floor perTick, err error) {
	first, err := couple([]string{"kamerad", fmt.Sprint(tickRate), said(input), "0"}, n, input, tickRate)
	if err != nil {
		return
	}
	defer first.end()
	once, err := first.measure(3*time.Second, time.Second)
	if err != nil {
		return
	}
	first.rouse(false)
	turns := []pair{first}
	for _, way := range []string{"bare", "plain"} {
		p, err := couple([]string{"floor", fmt.Sprint(int(once.bytes + 0.5)), fmt.Sprint(tickRate), said(input), way}, n, input, tickRate)
		if err != nil {
			return kamerad, floor, err
		}
		defer p.end()
		p.rouse(false)
		turns = append(turns, p)
	}
	var all [][3]perTick
	for range rounds {
		var got [3]perTick
		for i, p := range turns {
			p.rouse(true)
			if got[i], err = p.measure(500*time.Millisecond, long); err != nil {
				return
			}
			p.rouse(false)
		}
		all = append(all, got)
	}
	// middle gives the round in which something is the middle one of all rounds.
	middle := func(of func([3]perTick) float64) [3]perTick {
		slices.SortFunc(all, func(a, b [3]perTick) int { return cmp.Compare(of(a), of(b)) })
		return all[(len(all)-1)/2]
	}
	way := 1
	if middle(func(x [3]perTick) float64 { return float64(x[2].cpu) })[2].cpu < middle(func(x [3]perTick) float64 { return float64(x[1].cpu) })[1].cpu {
		way = 2
	}
	x := middle(func(x [3]perTick) float64 { return float64(x[0].cpu) / float64(x[way].cpu) })
	return x[0], x[way], nil
}

package main

import (
	"fmt"
	"time"
)

const tickRate = 20

// perTick is the CPU time of a tick and the bytes that each client got in it.
type perTick struct {
	cpu     time.Duration
	bytes   float64
	mallocs float64
}

// measure lets a server run against n silent or writing clients.
func measure(server []string, n int, input bool, rate int, warm, long time.Duration) (out perTick, err error) {
	how := map[bool]string{true: "input", false: "silent"}[input]
	s, err := begin(server[0], server[1:]...)
	if err != nil {
		return out, err
	}
	defer s.end()
	k, err := begin("sink", s.Addr, fmt.Sprint(s.ID), fmt.Sprint(n), how, fmt.Sprint(rate))
	if err != nil {
		return out, err
	}
	defer k.end()
	time.Sleep(warm)
	var before, after, got, gets usage
	if before, err = s.ask(); err != nil {
		return out, err
	}
	if got, err = k.ask(); err != nil {
		return out, err
	}
	time.Sleep(long)
	if after, err = s.ask(); err != nil {
		return out, err
	}
	if gets, err = k.ask(); err != nil {
		return out, err
	}
	ticks := float64(after.Ticks - before.Ticks)
	if ticks == 0 {
		return out, fmt.Errorf("no tick came in %s", long)
	}
	out.cpu = time.Duration(float64(after.CPU-before.CPU) / ticks)
	out.bytes = float64(gets.Bytes-got.Bytes) / ticks / float64(n)
	out.mallocs = float64(after.Mallocs-before.Mallocs) / ticks
	return out, nil
}

// cpuOverFloor compares a tick of Kamerad with the shortest loops that write the same bytes, one after the other.
func cpuOverFloor(n int, input bool, long time.Duration) (kamerad, floor perTick, err error) {
	how := map[bool]string{true: "input", false: "silent"}[input]
	if kamerad, err = measure([]string{"kamerad", fmt.Sprint(tickRate), how, "0"}, n, input, tickRate, 3*time.Second, long); err != nil {
		return
	}
	for _, bare := range []string{"bare", "plain"} {
		f, err := measure([]string{"floor", fmt.Sprint(int(kamerad.bytes + 0.5)), fmt.Sprint(tickRate), how, bare}, n, input, tickRate, time.Second, long)
		if err != nil {
			return kamerad, floor, err
		}
		if floor.cpu == 0 || f.cpu < floor.cpu {
			floor = f
		}
	}
	return
}

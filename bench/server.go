package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"runtime"
	"runtime/pprof"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"testing/fstest"
	"time"

	"kamerad.example/api"
	"kamerad.example/service"
	"kamerad.example/store"
)

// usage is what a process has used until now.
type usage struct {
	At      time.Duration `json:"at"`
	CPU     time.Duration `json:"cpu"`
	Mallocs uint64        `json:"mallocs"`
	Heap    uint64        `json:"heap"`
	Ticks   int64         `json:"ticks"`
	Bytes   int64         `json:"bytes"` // written by a floor
	Waits   []float64     `json:"waits,omitempty"`
}

var began = time.Now()

// used returns what this process has used of the machine.
func used() usage {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return usage{
		At:      time.Since(began),
		CPU:     time.Duration(u.Utime.Nano() + u.Stime.Nano()),
		Mallocs: m.Mallocs,
		Heap:    m.HeapInuse,
	}
}

// answers prints a line of JSON for each line that comes, until there are no more.
func answers(f func(u *usage)) {
	in := bufio.NewScanner(os.Stdin)
	// what f itself uses does not count between the first and the second time
	for first := true; in.Scan(); first = false {
		var u usage
		if first {
			f(&u)
		}
		now := used()
		now.Ticks = u.Ticks
		now.Bytes = u.Bytes
		now.Waits = u.Waits
		u = now
		if !first {
			f(&u)
		}
		raw, _ := json.Marshal(u)
		fmt.Println(string(raw))
	}
}

// serveKamerad runs a service with one session and prints its address and the session's number as JSON. It answers
// questions about what it used until its input ends.
func serveKamerad(text string, driven bool, buffer int) error {
	memory := &store.Memory{}
	var mu sync.Mutex // guards waits
	var waits []float64
	options := service.Options{
		Records:    memory,
		Recorder:   memory,
		Console:    fstest.MapFS{},
		SendBuffer: buffer,
		Decided: func(took time.Duration) {
			mu.Lock()
			defer mu.Unlock()
			waits = append(waits, took.Seconds()*1000)
		},
	}
	if overTLS() {
		options.Certificate = certificate
	}
	v, err := service.New(context.Background(), options)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() { _ = v.Serve(ctx, l) }()
	admin := v.Admin("bench")
	if _, err := admin.Publish(ctx, "bench.kam", text, nil); err != nil {
		return err
	}
	name := "population"
	if list, err := admin.Contracts(ctx); err == nil && len(list) > 0 {
		name = list[0].Contract
	}
	o := api.OpenSession{Contract: name}
	if driven && name == "population" {
		o.Settings = map[string]json.RawMessage{"driven": json.RawMessage("true")}
	}
	s, err := admin.Open(ctx, o)
	if err != nil {
		return err
	}
	fmt.Printf("{\"address\":%q,\"session\":%d}\n", l.Addr().String(), s.ID)
	if file := os.Getenv("BENCH_PROFILE"); file != "" {
		defer profile(file)()
	}
	answers(func(u *usage) {
		if s, err := admin.Session(ctx, s.ID); err == nil {
			u.Ticks = s.Tick
		}
		mu.Lock()
		u.Waits = waits
		waits = nil
		mu.Unlock()
	})
	return nil
}

// profile writes where the processor's time goes to a file, from five seconds on, when all have joined. The function
// that it returns ends that, and writes beside it where memory was allocated.
func profile(file string) (end func()) {
	f, err := os.Create(file)
	if err != nil {
		return func() {}
	}
	time.AfterFunc(5*time.Second, func() {
		runtime.SetCPUProfileRate(487) // in step with no tick; the next line complains and keeps it
		_ = pprof.StartCPUProfile(f)
	})
	return func() {
		pprof.StopCPUProfile()
		if f, err := os.Create(file + ".allocs"); err == nil {
			_ = pprof.Lookup("allocs").WriteTo(f, 0)
		}
	}
}

// serveFloor writes as many bytes to as many connections as often, by the shortest loop that there is: of net.Conn, or
// of bare system calls; over TLS, of what the standard library makes of a connection. It reads what comes and drops it.
func serveFloor(size, rate int, bare bool) error {
	l, err := listen()
	if err != nil {
		return err
	}
	fmt.Printf("{\"address\":%q}\n", l.Addr().String())
	var mu sync.Mutex
	var conns []net.Conn
	var raws []syscall.RawConn
	var ticks, written, read atomic.Int64
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			conns = append(conns, c)
			if bare {
				raw, _ := c.(*net.TCPConn).SyscallConn()
				raws = append(raws, raw)
			}
			mu.Unlock()
			go func() {
				buffer := make([]byte, 1024)
				for {
					n, err := c.Read(buffer)
					if err != nil {
						return
					}
					read.Add(int64(n))
				}
			}()
		}
	}()
	go func() {
		payload := make([]byte, size)
		write := func(fd uintptr) bool { _, _ = syscall.Write(int(fd), payload); return true }
		for range time.Tick(time.Second / time.Duration(rate)) {
			mu.Lock()
			list := slices.Clone(conns)
			bares := slices.Clone(raws)
			mu.Unlock()
			for i, c := range list {
				if bare {
					_ = bares[i].Write(write)
				} else {
					_, _ = c.Write(payload)
				}
				written.Add(int64(size))
			}
			ticks.Add(1)
		}
	}()
	answers(func(u *usage) { u.Ticks, u.Bytes = ticks.Load(), written.Load() })
	return nil
}

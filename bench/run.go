package main

import (
	"fmt"
	"os"
	"time"
)

func run(args []string) error {
	for _, input := range []bool{false, true} {
		for _, n := range []int{100, 500, 1000} {
			if only := os.Getenv("BENCH_ONLY"); only != "" && only != fmt.Sprintf("%d%v", n, input) {
				continue
			}
			k, f, err := cpuOverFloor(n, input, 4*time.Second)
			if err != nil {
				return err
			}
			fmt.Printf("%d input %v: kamerad %v floor %v ratio %.2f  %.0f bytes (floor %.0f) mallocs %.0f\n", n, input, k.cpu, f.cpu, float64(k.cpu)/float64(f.cpu), k.bytes, f.bytes, k.mallocs)
		}
	}
	return nil
}

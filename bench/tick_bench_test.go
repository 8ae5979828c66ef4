package main

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/session"
)

// BenchmarkTick is a tick of the population of 1,000, without a service around it.
func BenchmarkTick(b *testing.B) {
	c, problems := compile.Load("population.kam", population(20))
	require.NotNil(b, c, problems.Error())
	s, err := session.New(c, session.Options{Key: [32]byte{1}, Trace: true, Headroom: 10})
	require.NoError(b, err)
	s.SetWatched(false)
	for n := range 1000 {
		_, err := s.Join(fmt.Sprint("c", n), "player")
		require.NoError(b, err)
		s.Ready(n + 1)
	}
	for range 40 {
		s.Tick()
	}
	b.ResetTimer()
	b.ReportAllocs()
	for range b.N {
		s.Tick()
	}
}

package session

import (
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/wild"
)

// restored returns a crowd whose session is made of a checkpoint of another crowd's, and which goes on as that one
// does.
func (w *crowd) restored(t *testing.T, source *rand.PCG) *crowd {
	data, _, err := w.Checkpoint()
	require.NoError(t, err)
	c, problems := compile.Load("carried.kam", w.contract.Source.Text) // anew, as another process does
	require.NotNil(t, c, problems)
	s, err := Restore(c, Options{Key: [32]byte{3}}, data)
	require.NoError(t, err)
	again := *w
	again.Session = s
	state, err := source.MarshalBinary()
	require.NoError(t, err)
	var same rand.PCG
	require.NoError(t, same.UnmarshalBinary(state))
	again.r = rand.New(&same)
	again.lost = map[int]bool{}
	for n := range w.lost {
		again.lost[n] = true
	}
	again.quiet = true
	again.copies = map[int]*replicate.Copy{}
	again.readers = map[int]*wire.Reader{}
	for n := range w.readers {
		again.readers[n] = s.Reader(n)
	}
	return &again
}

// Random contracts with all classes of audiences, limits of bytes and motion, with clients that come, go, and lose
// their connections: what a checkpoint is read into goes on with the same frames, byte for byte. KAMERAD_RUNS says how
// many contracts are tried.
func TestASessionGoesOnFromACheckpoint(t *testing.T) {
	runs := 20
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_RUNS")); err == nil {
		runs = n
	}
	frames := 0
	bytes := 0
	right := 0
	for seed := uint64(1); right < runs; seed++ {
		text := wild.Carried(rand.New(rand.NewPCG(seed, 1)))
		if seed%3 == 0 {
			text = withByteLimit(text, 2000)
		}
		c, _ := compile.Load("carried.kam", text)
		if c == nil {
			continue
		}
		right++
		source := rand.NewPCG(seed, 7)
		w := newCrowd(t, c, seed)
		w.r = rand.New(source)
		w.quiet = true
		for range 3 {
			w.join(c.Roles[w.r.IntN(3)])
		}
		n, size := w.goesOnAlike(t, source)
		frames += n
		bytes += size
	}
	t.Logf("%d runs, %d frames alike, %d bytes each checkpoint", runs, frames, bytes/runs)
	require.Greater(t, frames, 50*runs)
}

// act does in a tick what follows from the crowd's random numbers, and returns the frames.
func (w *crowd) act() (frames []ClientFrame) {
	for range w.r.IntN(2) {
		w.input()
	}
	for range w.r.IntN(7) {
		w.change()
	}
	w.took = func(list []ClientFrame) { frames = list }
	w.step()
	return frames
}

// goesOnAlike runs a crowd, and from time to time another one that was made of a checkpoint of it, beside it.
func (w *crowd) goesOnAlike(t *testing.T, source *rand.PCG) (frames, size int) {
	for range 4 {
		for range w.r.IntN(10) {
			w.act()
		}
		again := w.restored(t, source)
		for range 10 {
			own := w.act()
			other := again.act()
			require.Len(t, other, len(own), "tick %d", w.tick)
			for i := range own {
				require.Equal(t, own[i].Client, other[i].Client)
				require.Equal(t, own[i].Bytes, other[i].Bytes, "client %d at tick %d", own[i].Client, w.tick)
				frames++
			}
		}
	}
	data, _, err := w.Checkpoint()
	require.NoError(t, err)
	return frames, len(data)
}

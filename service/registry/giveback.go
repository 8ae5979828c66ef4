package registry

import (
	"log/slog"
	"runtime"
	"runtime/debug"
	"sync/atomic"
	"time"
)

// Go's runtime gives memory back over minutes. After sessions that took much have ended, the service does not wait for
// that.
const (
	giveBackOver  = 64 << 20        // bytes that stand free in the heap; fewer are left to the runtime
	giveBackAfter = 3 * time.Second // a session has ended: those that end with it are dealt with together
)

// returnMemory returns the memory that ended sessions have left to the system, a little later. pending says that this
// is to come.
func returnMemory(pending *atomic.Bool) {
	if !pending.CompareAndSwap(false, true) {
		return
	}
	time.AfterFunc(giveBackAfter, func() {
		pending.Store(false)
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		if free := m.HeapIdle - m.HeapReleased; free > giveBackOver {
			debug.FreeOSMemory()
			slog.Info("memory that sessions have left was given back", "mb", free>>20)
		}
	})
}

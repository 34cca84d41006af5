// Package memory measures how much memory something takes, for tests that bound it.
package memory

import (
	"runtime"
	"runtime/debug"
	"time"
)

// Peak runs fn and tells how much memory was in use at most meanwhile, beyond what was before, in bytes. It has garbage
// collected early: when that would happen by itself hangs on what else the process holds, and so on the order of tests.
func Peak(fn func()) uint64 {
	defer debug.SetGCPercent(debug.SetGCPercent(20))
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	stop, most := make(chan struct{}), make(chan uint64)
	go func() {
		peak := uint64(0)
		for {
			var now runtime.MemStats
			if runtime.ReadMemStats(&now); now.HeapAlloc > before.HeapAlloc {
				peak = max(peak, now.HeapAlloc-before.HeapAlloc)
			}
			select {
			case <-stop:
				most <- peak
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}()
	fn()
	close(stop)
	return <-most
}

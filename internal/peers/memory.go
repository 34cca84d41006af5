package peers

import (
	"runtime"
	"time"
)

// Peak runs fn and tells how much memory was in use at most meanwhile, beyond what was before, in bytes.
func Peak(fn func()) uint64 {
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

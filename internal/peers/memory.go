package peers

import (
	"net"
	"runtime"
	"runtime/debug"
	"testing"
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

// FreePort gives a port of this machine's that nobody listens at.
func FreePort(t testing.TB) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

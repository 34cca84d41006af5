package peers

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"

	toxiproxy "github.com/Shopify/toxiproxy/v2"
	"github.com/Shopify/toxiproxy/v2/stream"
	"github.com/Shopify/toxiproxy/v2/toxics"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/rs/zerolog"
	"github.com/stretchr/testify/require"
)

// Line is a line to a service that can be made bad.
type Line struct {
	Address string
	proxy   *toxiproxy.Proxy
}

// NewLine lays a line to an address.
func NewLine(t testing.TB, upstream string) *Line {
	t.Helper()
	zerolog.SetGlobalLevel(zerolog.Disabled)
	toxics.Register("stall", new(stall))
	server := toxiproxy.NewServer(toxiproxy.NewMetricsContainer(prometheus.NewRegistry()), zerolog.Nop())
	p := toxiproxy.NewProxy(server, "line", "127.0.0.1:0", upstream)
	require.NoError(t, p.Start())
	t.Cleanup(p.Stop)
	return &Line{Address: p.Listen, proxy: p}
}

// The ways in which a line can be bad.
const (
	Slow    = `{"type":"latency","attributes":{"latency":150,"jitter":100}}`
	Thin    = `{"type":"bandwidth","attributes":{"rate":40}}`
	Silent  = `{"type":"timeout","attributes":{"timeout":0}}`                                        // not a byte comes, and nothing ends
	Lingers = `{"type":"slow_close","attributes":{"delay":60000}}`                                   // what the other side ends stays open
	Trickle = `{"type":"slicer","attributes":{"average_size":2,"size_variation":1,"delay":1000000}}` // two bytes a second
)

// Cut ends every connection after so many bytes, as if the other side had ended in the middle.
func Cut(bytes int) string {
	return fmt.Sprintf(`{"type":"limit_data","attributes":{"bytes":%d}}`, bytes)
}

// Reset breaks every connection off after so many milliseconds.
func Reset(ms int) string {
	return fmt.Sprintf(`{"type":"reset_peer","attributes":{"timeout":%d}}`, ms)
}

// Spoil makes the line bad in one way; the way before is mended.
func (l *Line) Spoil(t testing.TB, how string) {
	t.Helper()
	l.Mend()
	_, err := l.proxy.Toxics.AddToxicJson(strings.NewReader(how))
	require.NoError(t, err)
}

// Mend makes the line good again.
func (l *Line) Mend() { l.proxy.Toxics.ResetToxics(context.Background()) }

// Stall has the other side fall silent after so many bytes of what it says: nothing more comes, and nothing ends.
func Stall(bytes int) string {
	return fmt.Sprintf(`{"type":"stall","attributes":{"bytes":%d}}`, bytes)
}

// stall is a toxic that passes on so many bytes, and holds the rest for as long as it is there.
type stall struct {
	Bytes int `json:"bytes"`
}

// stalled is how much a connection has passed on.
type stalled struct{ passed int }

// NewState makes what is known of one connection.
func (s *stall) NewState() any { return new(stalled) }

// Pipe passes on what comes until its bytes are used up.
func (s *stall) Pipe(stub *toxics.ToxicStub) {
	state := stub.State.(*stalled)
	for {
		input := stub.Input
		if state.passed >= s.Bytes {
			input = nil
		}
		select {
		case <-stub.Interrupt:
			return
		case c := <-input:
			if c == nil {
				stub.Close()
				return
			}
			n := min(len(c.Data), s.Bytes-state.passed)
			stub.Output <- &stream.StreamChunk{Timestamp: c.Timestamp, Data: c.Data[:n]}
			state.passed += n
		}
	}
}

// Phases gives where each phase of a conversation begins: how many bytes the other side had said each time that it waited for an answer
// of this side, from 0, before it has said anything. talk holds the conversation with what answers at the address it is given.
func Phases(t testing.TB, upstream string, talk func(address string)) []int {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var mu sync.Mutex
	var at []int
	var copying sync.WaitGroup
	pass := func(from, to net.Conn, heard func(n int)) {
		defer to.Close()
		block := make([]byte, 32<<10)
		for {
			n, err := from.Read(block)
			if n > 0 {
				heard(n)
				if _, err := to.Write(block[:n]); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}
	copying.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			side, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", upstream)
			if err != nil {
				_ = c.Close()
				continue
			}
			said := 0 // by the other side, on this connection
			copying.Go(func() {
				pass(c, side, func(int) { mu.Lock(); at = append(at, said); mu.Unlock() })
			})
			copying.Go(func() {
				pass(side, c, func(n int) { mu.Lock(); said += n; mu.Unlock() })
			})
		}
	})
	talk(l.Addr().String())
	_ = l.Close()
	mu.Lock()
	defer mu.Unlock()
	at = append(at, 0)
	slices.Sort(at)
	return slices.Compact(at)
}

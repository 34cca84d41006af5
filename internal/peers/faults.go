package peers

import (
	"context"
	"fmt"
	"strings"
	"testing"

	toxiproxy "github.com/Shopify/toxiproxy/v2"
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
	server := toxiproxy.NewServer(toxiproxy.NewMetricsContainer(prometheus.NewRegistry()), zerolog.Nop())
	p := toxiproxy.NewProxy(server, "line", "127.0.0.1:0", upstream)
	require.NoError(t, p.Start())
	t.Cleanup(p.Stop)
	return &Line{Address: p.Listen, proxy: p}
}

// The ways in which a line can be bad.
const (
	Slow = `{"type":"latency","attributes":{"latency":150,"jitter":100}}`
	Thin = `{"type":"bandwidth","attributes":{"rate":40}}`
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

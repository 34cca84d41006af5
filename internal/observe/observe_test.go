package observe

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel"
)

// Traces go where the standard's variable says, and nowhere without it.
func TestTraces(t *testing.T) {
	paths := make(chan string, 10)
	collector := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if assert.Contains(t, string(raw), "a span of ours") {
			paths <- r.URL.Path
		}
	}))
	defer collector.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", "")
	end, err := Trace(t.Context(), "test")
	require.NoError(t, err)
	_, span := otel.Tracer("test").Start(t.Context(), "nobody's")
	assert.False(t, span.IsRecording())
	require.NoError(t, end(t.Context()))

	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", collector.URL)
	end, err = Trace(t.Context(), "test")
	require.NoError(t, err)
	_, span = otel.Tracer("test").Start(t.Context(), "a span of ours")
	span.End()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	require.NoError(t, end(ctx))
	select {
	case path := <-paths:
		assert.Equal(t, "/v1/traces", path)
	default:
		assert.Fail(t, "nothing was sent")
	}
}

func TestMeters(t *testing.T) {
	var none *Meters
	none.Arrived(1, 1) // counts nothing, and does no harm
	none.Posted("square", Taken, 200, time.Second)
	m := NewMeters(nil, nil)
	m.Arrived(3, 1)
	m.Decided(map[string]int{"told": 2}, time.Millisecond)
	m.Posted("talk", Taken, 0, time.Millisecond)
	m.Posted("square", Again, 429, time.Millisecond)
	m.Answered("GET", "/api/posts/{id}", 200, time.Millisecond)
	m.Stepped("add", "done")
	m.Told(time.Second)
	w := httptest.NewRecorder()
	m.Handler().ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/metrics", nil))
	for _, line := range []string{
		`dorfbote_arrivals_total{known="no"} 3`, `dorfbote_verdicts_total{verdict="told"} 2`, `dorfbote_post_attempts_total{answer="none",connection="talk",outcome="taken"} 1`, `dorfbote_post_attempts_total{answer="4xx",connection="square",outcome="again"} 1`,
		`dorfbote_http_requests_total{method="GET",route="/api/posts/{id}",status="200"} 1`, `dorfbote_step_attempts_total{kind="add",outcome="done"} 1`, `dorfbote_arrival_to_post_seconds_count 1`,
	} {
		assert.Contains(t, w.Body.String(), line)
	}
}

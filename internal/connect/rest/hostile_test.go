package rest_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/rest"
	"dorfbote/internal/core/value"
	"dorfbote/internal/memory"
	"dorfbote/internal/testdb"
)

// Answers that unpack to very much, or nest very deeply, are refused with words and take bounded memory.
func TestAnswersThatUnpackToTooMuch(t *testing.T) {
	for name, body := range map[string]string{
		"64 MiB of empty objects":  "[" + strings.Repeat("{},", 22_000_000) + "{}]",
		"64 MiB of one text":       `[{"id":"1","text":"` + strings.Repeat("a", 64<<20) + `"}]`,
		"a million deep":           strings.Repeat("[", 1_000_000),
		"a million fields":         `[{"id":"1"` + strings.Repeat(`,"a":1`, 1_000_000) + "}]",
		"two million short values": "[" + strings.Repeat(`[1],`, 2_000_000) + "1]",
	} {
		t.Run(name, func(t *testing.T) {
			var packed bytes.Buffer
			z := gzip.NewWriter(&packed)
			_, _ = z.Write([]byte(body))
			_ = z.Close()
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "application/json")
				w.Header().Set("Content-Encoding", "gzip")
				_, _ = w.Write(packed.Bytes())
			}))
			defer server.Close()
			conn, err := rest.Kind().Open(connect.Config{Settings: map[string]string{"address": server.URL}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
			require.NoError(t, err)
			peak := memory.Peak(func() {
				_, err = conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Settings: map[string]string{"path": "/x"}, Key: "id"}, nil, func(connect.Item) error { return nil })
			})
			require.Error(t, err)
			assert.Less(t, peak, uint64(320<<20))
			t.Logf("%d kB packed: %d MiB in use at most: %.120s", packed.Len()>>10, peak>>20, err)
		})
	}
}

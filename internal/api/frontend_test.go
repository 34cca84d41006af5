package api

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
)

// A file goes out as the build has compressed it, to whoever takes that, and plain to everyone else.
func TestFilesGoOutCompressed(t *testing.T) {
	s := &Server{o: Options{Web: fstest.MapFS{
		"index.html":       {Data: []byte("<meta content=NONCE>")},
		"assets/a.js":      {Data: []byte("plain")},
		"assets/a.js.br":   {Data: []byte("brotli")},
		"assets/a.js.gz":   {Data: []byte("gzip")},
		"assets/font.woff": {Data: []byte("font")},
	}}}
	h := s.frontend()
	for _, c := range []struct{ path, accepts, encoding, body string }{
		{"/assets/a.js", "gzip, deflate, br", "br", "brotli"},
		{"/assets/a.js", "gzip", "gzip", "gzip"},
		{"/assets/a.js", "br;q=0, gzip;q=0.5", "gzip", "gzip"},
		{"/assets/a.js", "BR; q=0.1", "br", "brotli"},
		{"/assets/a.js", "", "", "plain"},
		{"/assets/a.js", "identity", "", "plain"},
		{"/assets/a.js", "brotli, xgzip", "", "plain"},
		{"/assets/font.woff", "br", "", "font"},
	} {
		r := httptest.NewRequest(http.MethodGet, c.path, nil)
		r.Header.Set("Accept-Encoding", c.accepts)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		assert.Equal(t, 200, w.Code)
		assert.Equal(t, c.encoding, w.Header().Get("Content-Encoding"), "%s for %q", c.path, c.accepts)
		assert.Equal(t, c.body, w.Body.String())
		assert.Contains(t, w.Header().Get("Cache-Control"), "immutable")
		if c.path == "/assets/a.js" {
			assert.Contains(t, w.Header().Get("Content-Type"), "javascript", "of the file, not of its compressed form")
			assert.Equal(t, "Accept-Encoding", w.Header().Get("Vary"), "caches keep them apart")
		}
	}
}

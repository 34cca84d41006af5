package api

import (
	"bytes"
	"net/http"
	"strconv"
	"strings"

	"dorfbote/internal/engine/links"
)

// redacting cuts the signed parts of links out of everything that the API answers, whoever asks: what was sent, what came back, what
// somebody read in a room. Only whom a link was sent to may use it.
func redacting(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		held := &heldAnswer{ResponseWriter: w}
		next.ServeHTTP(held, r)
		held.finish()
	})
}

// heldAnswer holds an answer back until it is whole. Streams, which are no single value, go as they come.
type heldAnswer struct {
	http.ResponseWriter
	body   bytes.Buffer
	status int
	whole  bool // it is held back
	decid  bool
}

func (h *heldAnswer) decide() {
	if h.decid {
		return
	}
	h.decid = true
	media, _, _ := strings.Cut(h.Header().Get("Content-Type"), ";")
	h.whole = media == "application/json" || strings.HasSuffix(media, "+json") || strings.HasPrefix(media, "text/csv")
}

// WriteHeader notes the status.
func (h *heldAnswer) WriteHeader(status int) {
	if h.decide(); !h.whole {
		h.ResponseWriter.WriteHeader(status)
		return
	}
	if h.status == 0 {
		h.status = status
	}
}

// Write holds back, or passes on.
func (h *heldAnswer) Write(b []byte) (int, error) {
	if h.decide(); !h.whole {
		return h.ResponseWriter.Write(b)
	}
	return h.body.Write(b)
}

// Unwrap gives what answers, to whoever streams.
func (h *heldAnswer) Unwrap() http.ResponseWriter { return h.ResponseWriter }

// Flush passes on what is not held back.
func (h *heldAnswer) Flush() {
	if h.decide(); !h.whole {
		_ = http.NewResponseController(h.ResponseWriter).Flush()
	}
}

func (h *heldAnswer) finish() {
	if !h.whole {
		return
	}
	raw := links.RedactJSON(h.body.Bytes())
	if h.Header().Get("Content-Length") != "" {
		h.Header().Set("Content-Length", strconv.Itoa(len(raw)))
	}
	if h.status == 0 {
		h.status = http.StatusOK
	}
	h.ResponseWriter.WriteHeader(h.status)
	_, _ = h.ResponseWriter.Write(raw)
}

package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"
)

// stream tells the browser what has changed (server-sent events).
func (s *Server) stream(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	events, cancel := s.Hub.Subscribe()
	defer cancel()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	_, _ = fmt.Fprint(w, ": here\n\n")
	_ = rc.Flush()
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case ev := <-events:
			raw, _ := json.Marshal(ev)
			_, _ = fmt.Fprintf(w, "data: %s\n\n", raw)
		case <-beat.C:
			_, _ = fmt.Fprint(w, ": beat\n\n")
		}
		if rc.Flush() != nil {
			return
		}
	}
}

func urlQuery(s string) string { return url.QueryEscape(s) }

func plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

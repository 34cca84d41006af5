package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"dorfbote/internal/api/kit"
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
	look := time.NewTicker(sessionLook)
	defer look.Stop()
	who := s.Person(r.Context())
	for {
		select {
		case <-r.Context().Done():
			return
		case <-look.C:
			if !s.stillHere(r.Context(), who) {
				return
			}
			continue
		case ev := <-events:
			if ev.Topic == topicPeople {
				if !s.stillHere(r.Context(), who) {
					return
				}
				continue
			}
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

// topicPeople is told where sessions end or roles change.
const topicPeople = "people"

// sessionLook is how often a stream looks whether its session still holds, should it not have been told.
const sessionLook = 30 * time.Second

// stillHere tells whether a session still holds. Where that cannot be found out it counts as holding.
func (s *Server) stillHere(ctx context.Context, who *kit.Person) bool {
	if who == nil {
		return false
	}
	p, _, err := s.Store.SignedIn(ctx, who.SignIn)
	return err != nil || p != nil
}

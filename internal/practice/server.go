// Package practice holds the stand-ins for business apps and for team chat that ship with Dorfbote:
// small services with data of their own that are spoken to over HTTP and nothing else.
package practice

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"dorfbote/internal/practice/world"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"gorm.io/gorm"
)

// Options set the practice services' limits.
type Options struct {
	PostsPerSecond float64 // how fast one sender may post in the square
	Burst          int
}

// DefaultOptions are those of the demo.
func DefaultOptions() Options { return Options{PostsPerSecond: 30, Burst: 90} }

// Server serves the practice apps and the square. It has tables of its own and knows nothing of
// Dorfbote beyond the addresses its hooks send to.
type Server struct {
	db     *gorm.DB
	kinds  []*world.RecordKind
	hooks  *sender
	events *broadcast
	limits *limits
}

// New makes the practice services; their senders work until ctx ends.
func New(ctx context.Context, db *gorm.DB, o Options) (*Server, error) {
	kinds, err := world.Kinds()
	if err != nil {
		return nil, err
	}
	s := &Server{db: db, kinds: kinds, hooks: newSender(ctx, db), events: newBroadcast(), limits: newLimits(o.PostsPerSecond, o.Burst)}
	go s.keepReporting(ctx)
	return s, nil
}

// Handler is the services' HTTP interface.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer)
	s.appRoutes(r)
	s.squareRoutes(r)
	s.pageRoutes(r)
	s.noticeRoutes(r)
	s.letterRoutes(r)
	s.phoneRoutes(r)
	r.Get("/events", s.stream)
	guard := http.NewCrossOriginProtection()
	return guard.Handler(r)
}

// liveEvent tells pages that something has changed.
type liveEvent struct {
	Topic   string `json:"topic"` // records, posts, channels, letters, texts
	App     string `json:"app,omitempty"`
	Kind    string `json:"kind,omitempty"`
	Key     string `json:"key,omitempty"`
	Channel string `json:"channel,omitempty"`
}

type broadcast struct {
	mu   sync.Mutex
	subs map[chan liveEvent]struct{}
}

func newBroadcast() *broadcast { return &broadcast{subs: map[chan liveEvent]struct{}{}} }

func (b *broadcast) tell(e liveEvent) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for ch := range b.subs {
		select {
		case ch <- e:
		default:
		}
	}
}

// listen gives what is told from now on, until end is called.
func (b *broadcast) listen() (ch chan liveEvent, end func()) {
	ch = make(chan liveEvent, 64)
	b.mu.Lock()
	b.subs[ch] = struct{}{}
	b.mu.Unlock()
	return ch, func() {
		b.mu.Lock()
		delete(b.subs, ch)
		b.mu.Unlock()
	}
}

// stream sends live events to a page (server-sent events).
func (s *Server) stream(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	ch, end := s.events.listen()
	defer end()
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
		case e := <-ch:
			raw, _ := json.Marshal(e)
			_, _ = fmt.Fprintf(w, "data: %s\n\n", raw)
		case <-beat.C:
			_, _ = fmt.Fprint(w, ": beat\n\n")
		}
		if rc.Flush() != nil {
			return
		}
	}
}

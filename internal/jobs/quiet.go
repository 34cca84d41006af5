package jobs

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// quiet keeps the job library's own messages out of the log below warnings, and says the same thing once in a while
// rather than ten times a second when the database is away.
func quiet(log *slog.Logger) *slog.Logger {
	return slog.New(quietHandler{log.Handler(), &heard{at: map[string]time.Time{}}})
}

// againAfter is how often the same message is let through.
const againAfter = 10 * time.Second

// heard remembers when messages were let through.
type heard struct {
	mu sync.Mutex
	at map[string]time.Time
}

// lately tells whether a message was let through a moment ago.
func (h *heard) lately(msg string, now time.Time) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if now.Sub(h.at[msg]) < againAfter {
		return true
	}
	if len(h.at) > 1000 {
		clear(h.at)
	}
	h.at[msg] = now
	return false
}

type quietHandler struct {
	slog.Handler
	heard *heard
}

func (h quietHandler) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && h.Handler.Enabled(ctx, l)
}

func (h quietHandler) Handle(ctx context.Context, r slog.Record) error {
	if h.heard.lately(r.Message, r.Time) {
		return nil
	}
	return h.Handler.Handle(ctx, r)
}

func (h quietHandler) WithAttrs(a []slog.Attr) slog.Handler {
	return quietHandler{h.Handler.WithAttrs(a), h.heard}
}

func (h quietHandler) WithGroup(n string) slog.Handler {
	return quietHandler{h.Handler.WithGroup(n), h.heard}
}

package engine

import (
	"cmp"
	"context"
	"sync"
	"time"

	"dorfbote/internal/store"
)

// RetainEvery is how often a process looks for what is old, where [Engine.KeepEvery] says nothing.
const RetainEvery = 10 * time.Minute

// retention lets go of old arrivals from time to time.
type retention struct {
	mu   sync.Mutex
	last time.Time
}

// retain sees to it that there is room for arrivals, and lets go of old ones every now and then.
func (e *Engine) retain(ctx context.Context) error {
	if err := e.Store.Room(ctx); err != nil {
		return err
	}
	r := &e.retention
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.Keep == (store.Keep{}) || time.Since(r.last) < cmp.Or(e.KeepEvery, RetainEvery) {
		return nil
	}
	r.last = time.Now()
	gone, err := e.Store.Retain(ctx, e.Keep, e.Now())
	if gone != (store.Retained{}) {
		e.Log.Info("let go of what is older than it is kept", "partitions", gone.Partitions, "arrivals", gone.Arrivals, "posts", gone.Posts)
	}
	return err
}

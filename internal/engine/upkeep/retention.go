package upkeep

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

// Retain sees to it that there is room for arrivals, and lets go of old ones every now and then.
func (u *Upkeep) Retain(ctx context.Context) error {
	if err := u.Store.Room(ctx); err != nil {
		return err
	}
	r := &u.retention
	r.mu.Lock()
	defer r.mu.Unlock()
	if u.Keep == (store.Keep{}) || time.Since(r.last) < cmp.Or(u.Every, RetainEvery) {
		return nil
	}
	r.last = time.Now()
	gone, err := u.Store.Retain(ctx, u.Keep, u.Now())
	if gone != (store.Retained{}) {
		u.Log.Info("let go of what is older than it is kept", "partitions", gone.Partitions, "arrivals", gone.Arrivals, "posts", gone.Posts)
	}
	return err
}

// Package outbox sends posts: it puts them out in the order of commits, and drains each destination by one process at a
// time, in order, within its rate, each post under a key of its own.
package outbox

import (
	"sync"

	"golang.org/x/sync/semaphore"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// New makes an outbox.
func New(h *host.Host, s *sources.Sources, l *links.Links) *Outbox {
	return &Outbox{Host: h, Sources: s, Links: l, drains: h.Store.NewLocks(store.LockDrain), room: semaphore.NewWeighted(atHand)}
}

// Outbox is where posts wait. Make it with New. It is safe for use by many goroutines.
type Outbox struct {
	*host.Host
	Sources *sources.Sources
	Links   *links.Links

	lines  lines
	berths berths
	shown  shown
	room   *semaphore.Weighted // for what goes with posts
	drains *store.Locks        // of the destinations that this process sends to
	asking sync.Mutex          // while connections are asked what became of posts
}

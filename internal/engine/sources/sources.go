// Package sources opens connections and knows their sources: the fields of their records, what drifts in them, which channels
// take posts, and what a sheet may look up or ask outside.
package sources

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/script"
)

// Sources is what a process knows of its connections and their sources. It is safe for use by many goroutines.
type Sources struct {
	*host.Host
	Scripts script.Runner // closed by whoever made this

	learnt   *expirable.LRU[string, learnt]
	learning sync.Mutex // while one is compared and put in the place of another
	lookups  *lookups
	around   around
}

// New begins to know sources.
func New(h *host.Host) *Sources {
	return &Sources{Host: h, learnt: expirable.NewLRU[string, learnt](learntSources, nil, 0), lookups: expirable.NewLRU[string, lookedUp](lookupSources, nil, lookupHolds)}
}

// Package sources opens connections and knows their sources: the fields of their records, what drifts in them, which channels
// take posts, and what a sheet may look up or ask outside.
package sources

import (
	"github.com/hashicorp/golang-lru/v2/expirable"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/script"
)

// Sources is what a process knows of its connections and their sources. It is safe for use by many goroutines.
type Sources struct {
	*host.Host
	Scripts script.Runner // closed by whoever made this

	learnt  learnt
	lookups *lookups
}

// New begins to know sources.
func New(h *host.Host) *Sources {
	return &Sources{Host: h, lookups: expirable.NewLRU[string, []map[string]any](lookupSources, nil, lookupHolds)}
}

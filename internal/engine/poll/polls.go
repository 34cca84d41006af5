// Package poll asks sources that are due, listens to those that say when something is new, and makes arrivals of what has
// changed since the last time.
package poll

import (
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/engine/sources"
)

// Polls asks sources. It is safe for use by many goroutines.
type Polls struct {
	*host.Host
	Sources *sources.Sources
	Writer  *intake.Writer

	now chan struct{} // wakes the pollers of this process
}

// New asks nobody until Start.
func New(h *host.Host, s *sources.Sources, w *intake.Writer) *Polls {
	return &Polls{Host: h, Sources: s, Writer: w, now: make(chan struct{}, 1)}
}

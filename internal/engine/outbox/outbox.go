// Package outbox sends posts: it puts them out in the order of commits, and drains each destination by one process at a
// time, in order, within its rate, each post under a key of its own.
package outbox

import (
	"sync"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/sources"
)

// Outbox is where posts wait. It is safe for use by many goroutines.
type Outbox struct {
	*host.Host
	Sources *sources.Sources
	Links   *links.Links

	lines  lines
	asking sync.Mutex // while connections are asked what became of posts
}

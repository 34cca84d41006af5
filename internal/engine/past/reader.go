// Package past reads what came in over a stretch of time, for rehearsals and trails.
package past

import (
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/sources"
)

// Reader reads the past.
type Reader struct {
	*host.Host
	Sources *sources.Sources
}

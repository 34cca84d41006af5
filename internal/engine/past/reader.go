// Package past reads what came in over a stretch of time, for rehearsals and trails.
package past

import "dorfbote/internal/engine/host"

// Reader reads the past.
type Reader struct{ *host.Host }

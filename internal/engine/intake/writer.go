// Package intake takes in what comes: it writes arrivals and the latest record of each key, and tells the deciders. Whatever
// it has written lies beyond its source's mark, and so is decided, whatever happens to a process afterwards.
package intake

import "dorfbote/internal/engine/host"

// Writer writes arrivals. It is safe for use by many goroutines.
type Writer struct{ *host.Host }

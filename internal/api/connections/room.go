// Package connections makes, proves, changes and moves connections.
package connections

import (
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/sources"
)

// Connections is the room of connections.
type Connections struct {
	*kit.Kit
	Sources *sources.Sources
}

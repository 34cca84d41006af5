// Package sources shows and changes what is read from connections: sources, their fields and records, and how records refer
// to each other.
package sources

import (
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/shown"
)

// Sources is the room of sources.
type Sources struct {
	*kit.Kit
	Shown *shown.Shown
}

// Package proof shows what a sheet would do: with one record, line by line; with the last arrivals; with a stretch of the
// past. It runs the same code as the live loop, and keeps and sends nothing.
package proof

import (
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/shown"
)

// Proof proves and rehearses sheets.
type Proof struct {
	*kit.Kit
	Shown *shown.Shown

	trails trailCache
}

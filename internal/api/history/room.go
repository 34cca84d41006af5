// Package history shows what came in, what was made of it and who was told: arrivals, runs, the outbox, today.
package history

import (
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/api/shown"
)

// History is the room of what has happened.
type History struct {
	*kit.Kit
	Shown *shown.Shown
	Proof *proof.Proof

	few fewNeed
}

// Package workflows lists, makes, changes and starts workflows.
package workflows

import (
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
)

// Workflows is the room of workflows.
type Workflows struct {
	*kit.Kit
	Proof *proof.Proof
}

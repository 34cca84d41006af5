// Package decider decides arrivals: each source strictly in the order of its numbers, in one process at a time, many sources
// at once. Verdicts, posts, steps, timers and how far the source is decided are one transaction.
package decider

import (
	"context"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/engine/timing"
	"dorfbote/internal/engine/workflows"
)

// Decider decides. It is safe for use by many goroutines.
type Decider struct {
	*host.Host
	Sources   *sources.Sources
	Workflows *workflows.Workflows
	Writer    *intake.Writer // for history
	Timing    *timing.Timing
	Outbox    *outbox.Outbox
	// Missed is called when what processes tell each other may have been missed, beside looking for what is to be decided.
	Missed func(ctx context.Context) error

	answering few
}

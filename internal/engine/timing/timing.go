// Package timing starts workflows by the clock: due moments, states that last, silence, schedules. Timers are kept right by
// reading arrivals strictly in order; a timer that has come due becomes an arrival, which is decided in its turn.
package timing

import (
	"context"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/workflows"
)

// Timing sets and fires timers. It is safe for use by many goroutines.
type Timing struct {
	*host.Host
	Workflows *workflows.Workflows
	// Due is what else comes due by the clock; each tells whether more has.
	Due []func(ctx context.Context) (more bool, err error)
}

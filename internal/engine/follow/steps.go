// Package follow does what follows once a run's posts are delivered: records are added or changed, workflows are called.
// Steps are journalled with the verdict, done in order, each under a key of its own.
package follow

import (
	"context"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/engine/workflows"
)

// Follow does steps. It is safe for use by many goroutines.
type Follow struct {
	*host.Host
	Sources   *sources.Sources
	Workflows *workflows.Workflows
	Writer    *intake.Writer
	Outbox    *outbox.Outbox
	// Followed is told once a run's steps are done, or one has failed.
	Followed func(ctx context.Context, arrival, workflow int64) error
}

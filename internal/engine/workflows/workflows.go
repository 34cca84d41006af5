// Package workflows keeps workflows ready to run: compiled versions, what is on for a source, what a sheet is checked
// against, and switching on and off.
package workflows

import (
	"context"

	"github.com/hashicorp/golang-lru/v2/expirable"
	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// Workflows keeps the workflows of a process ready to run. It is safe for use by many goroutines.
type Workflows struct {
	*host.Host
	Sources *sources.Sources
	// Arm sets what a workflow that is being switched on waits for, in the transaction that does so. It is set before
	// anything is switched on, as is CheckNow.
	Arm func(ctx context.Context, tx *gorm.DB, w *store.Workflow, plan *sheet.Plan, trigger string) error
	// CheckNow has a source asked at once.
	CheckNow func(ctx context.Context, source string) error

	plans *plans
	sets  *expirable.LRU[string, liveSet] // by source
}

// New has nothing ready yet.
func New(h *host.Host, s *sources.Sources) *Workflows {
	w := &Workflows{Host: h, Sources: s, sets: expirable.NewLRU[string, liveSet](maxPlans, nil, 0)}
	w.plans = newPlans(w)
	return w
}

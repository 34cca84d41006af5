// Package upkeep does what is done from time to time: it wakes what waits though nothing is on its way for it, keeps what
// depends on the day right, and lets go of what is old.
package upkeep

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dorfbote/internal/engine/host"
	"dorfbote/internal/store"
)

// Task is one thing that is done at every sweep. It finds out by itself whether there is anything to do.
type Task struct {
	Name string // what it does, for the log
	Do   func(ctx context.Context) error
}

// Upkeep does tasks.
type Upkeep struct {
	*host.Host
	Tasks []Task
	Keep  store.Keep    // how long arrivals are kept; the zero value is for ever
	Every time.Duration // how often old ones are looked for; 0 is every ten minutes

	retention retention
}

// Sweep does every task in turn. One that fails does not keep the others from being done.
func (u *Upkeep) Sweep(ctx context.Context) error {
	var failed []error
	for _, t := range u.Tasks {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := t.Do(ctx); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", t.Name, err))
		}
	}
	return errors.Join(failed...)
}

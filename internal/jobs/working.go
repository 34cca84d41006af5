package jobs

import (
	"context"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"dorfbote/internal/store"
)

const (
	rescueAfter  = Timeout + 30*time.Second
	sweepEvery   = 15 * time.Second
	stopPatience = 2 * time.Second // how long jobs that are under way may take to end when the process is to stop
)

// posting is how many destinations are sent to at once. Whoever waits for another's answer holds nothing but memory; how many of them are
// of one connection is bounded by the outbox.
const posting = 1000

// Do is how each job is done.
type Do struct {
	Drain  func(context.Context, Drain) error
	Follow func(context.Context, Follow) error
	Said   func(context.Context, Said) error
	Sweep  func(context.Context, Sweep) error
}

// Working is a process at work.
type Working struct {
	client *river.Client[pgx.Tx]
	alive  *alive
}

// Work does jobs until Stop. Their states are written over the connections of s, whose commits need not wait for the disk.
func Work(ctx context.Context, s *store.Store, log *slog.Logger, do Do) (*Working, error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Drain]) error { return do.Drain(ctx, j.Args) }))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Follow]) error { return do.Follow(ctx, j.Args) }))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Said]) error { return do.Said(ctx, j.Args) }))
	river.AddWorker(workers, river.WorkFunc(func(ctx context.Context, j *river.Job[Sweep]) error { return do.Sweep(ctx, j.Args) }))
	name := uuid.Must(uuid.NewV7()).String()
	client, err := river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID: name,
		Queues: map[string]river.QueueConfig{
			queuePost:          {MaxWorkers: posting},
			queueFollow:        {MaxWorkers: 6},
			river.QueueDefault: {MaxWorkers: 2},
		},
		Workers:                     workers,
		FetchCooldown:               fetchCooldown,
		FetchPollInterval:           fetchPoll,
		JobTimeout:                  Timeout,
		RescueStuckJobsAfter:        rescueAfter,
		CompletedJobRetentionPeriod: 2 * time.Minute,
		Logger:                      quiet(log),
		PeriodicJobs: []*river.PeriodicJob{
			river.NewPeriodicJob(river.PeriodicInterval(sweepEvery), func() (river.JobArgs, *river.InsertOpts) { return Sweep{}, nil },
				&river.PeriodicJobOpts{RunOnStart: true}),
		},
	})
	if err != nil {
		return nil, err
	}
	w := &Working{client: client}
	if w.alive, err = showAlive(ctx, s, log, name); err != nil {
		return nil, err
	}
	return w, client.Start(ctx)
}

// Stop lets running jobs end, and ends them after a few seconds.
func (w *Working) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), stopPatience)
	defer cancel()
	if err := w.client.Stop(ctx); err != nil {
		hard, cancel := context.WithTimeout(context.Background(), stopPatience)
		defer cancel()
		_ = w.client.StopAndCancel(hard)
	}
	w.alive.end() // last, since the others take over the jobs of a process whose lock is gone
}

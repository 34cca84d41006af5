// Package engine is the live loop: take in, decide, post. Its work is spread over processes by jobs in
// PostgreSQL, so that any number of servers and workers share one database.
package engine

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/observe"
	"dorfbote/internal/script"
	"dorfbote/internal/seal"
	"dorfbote/internal/store"
)

// How quickly jobs are noticed. The defaults of the job library would add most of a second, on the
// inserting side as well, since that limits how often it tells others.
const (
	fetchCooldown = time.Millisecond
	fetchPoll     = 100 * time.Millisecond
	jobTimeout    = 30 * time.Second
	rescueAfter   = time.Minute
	sweepEvery    = 15 * time.Second
)

// The queues of jobs.
const (
	queuePost   = "post"
	queueFollow = "follow"
)

// Engine holds what the live loop needs. Make it with New.
type Engine struct {
	Store     *store.Store
	Workspace value.Workspace
	Log       *slog.Logger
	Env       connect.Env      // what connections reach the outside by
	Box       *seal.Box        // for secrets
	Meters    *observe.Meters  // nil counts nothing
	KeepEvery time.Duration    // how often old ones are looked for; 0 is every ten minutes
	Clock     func() time.Time // this process's own clock; nil is the machine's
	Keep      store.Keep       // how long arrivals are kept; the zero value is for ever

	plans     *plans
	lookups   lookups
	sets      sets
	inserts   *river.Client[*sql.Tx] // adds jobs in GORM's transactions
	work      workClient
	clockOf   databaseClock
	process   string // as people are told of it
	decider   *decider
	pollers   *pollers
	clock     *clock
	alive     *alive
	stop      context.CancelFunc // ends pollers and clock
	pollNow   chan struct{}      // wakes the pollers of this process
	scripts   script.Runner
	retention retention
	lazy      *store.Store // connections whose commits do not wait for the disk, see durable
}

// New makes an engine that can take in. Work starts with Start. Its secrets are sealed by a key that is kept nowhere,
// and it calls no private addresses, until Box and Env are set.
func New(s *store.Store, ws value.Workspace, log *slog.Logger) (*Engine, error) {
	e := &Engine{
		Store: s, Workspace: ws, Log: log,
		Box: seal.Ephemeral(), process: processName(), pollNow: make(chan struct{}, 1),
	}
	env, err := connect.NewEnv(ws, "")
	if err != nil {
		return nil, err
	}
	e.Env = env
	e.plans = newPlans(e)
	sqlDB, err := s.DB.DB()
	if err != nil {
		return nil, err
	}
	e.inserts, err = river.NewClient(riverdatabasesql.New(sqlDB), &river.Config{
		FetchCooldown: fetchCooldown, FetchPollInterval: fetchPoll, Logger: quiet(log),
	})
	if err != nil {
		return nil, err
	}
	if e.lazy, err = s.Lazy(context.Background()); err != nil {
		return nil, err
	}
	s.OnClose(e.lazy.Close)
	s.OnClose(e.scripts.Close)
	// A database that is away now is asked again by and by.
	_ = e.measureClock(context.Background())
	watch, cancel := context.WithCancel(context.Background())
	s.OnClose(cancel)
	go e.watchClock(watch)
	return e, nil
}

// durable returns when everything that has been committed so far is on the disk, lazily or not: a commit
// that waits takes all earlier ones with it. Nothing is told to the outside, be it 202 to a sender or a
// post to a channel, before what it rests on is durable; so waiting is done once for many.
func (e *Engine) durable(ctx context.Context) error {
	_, err := e.Store.Pool.Exec(ctx, "SELECT pg_logical_emit_message(true, 'dorfbote', '')")
	return err
}

// addJob adds a job, in the transaction that the context's statements join, if any.
func (e *Engine) addJob(ctx context.Context, args river.JobArgs, o *river.InsertOpts) error {
	var err error
	if tx := store.Current(ctx); tx != nil {
		_, err = e.inserts.InsertTx(ctx, tx, args, o)
	} else {
		_, err = e.inserts.Insert(ctx, args, o)
	}
	return err
}

// Start begins to work on jobs until Stop.
func (e *Engine) Start(ctx context.Context) error {
	workers := river.NewWorkers()
	river.AddWorker(workers, &drainWorker{engine: e})
	river.AddWorker(workers, &sweepWorker{engine: e})
	river.AddWorker(workers, &followWorker{engine: e})
	name := uuid.Must(uuid.NewV7()).String()
	client, err := river.NewClient(riverpgxv5.New(e.lazy.Pool), &river.Config{
		ID: name,
		Queues: map[string]river.QueueConfig{
			queuePost:          {MaxWorkers: 16},
			queueFollow:        {MaxWorkers: 6},
			river.QueueDefault: {MaxWorkers: 2},
		},
		Workers:                     workers,
		FetchCooldown:               fetchCooldown,
		FetchPollInterval:           fetchPoll,
		JobTimeout:                  jobTimeout,
		RescueStuckJobsAfter:        rescueAfter,
		CompletedJobRetentionPeriod: 2 * time.Minute,
		Logger:                      quiet(e.Log),
		PeriodicJobs: []*river.PeriodicJob{
			river.NewPeriodicJob(river.PeriodicInterval(sweepEvery), func() (river.JobArgs, *river.InsertOpts) { return SweepArgs{}, nil },
				&river.PeriodicJobOpts{RunOnStart: true}),
		},
	})
	if err != nil {
		return err
	}
	if err := e.Unsealed(ctx); err != nil {
		return fmt.Errorf("sealing secrets: %w", err)
	}
	if err := e.measureClock(ctx); err != nil {
		return fmt.Errorf("asking the database for the time: %w", err)
	}
	if e.alive, err = e.showAlive(ctx, name); err != nil {
		return err
	}
	e.work = client
	if err := client.Start(ctx); err != nil {
		return err
	}
	ctx, e.stop = context.WithCancel(ctx)
	e.decider, e.pollers, e.clock = e.startDecider(ctx), e.startPollers(ctx), e.startClock(ctx)
	return nil
}

// Stop lets running jobs end, and ends them after a few seconds.
func (e *Engine) Stop() {
	if e.work == nil {
		return
	}
	if e.pollers != nil {
		e.stop()
		e.pollers.wait()
		e.clock.wait()
		e.decider.wait()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.work.Stop(ctx); err != nil {
		hard, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_ = e.work.StopAndCancel(hard)
	}
	e.alive.end() // last, since the others take over the jobs of a process whose lock is gone
}

type workClient interface {
	Stop(context.Context) error
	StopAndCancel(context.Context) error
}

// quiet keeps the job library's own messages out of the log below warnings, and says the same thing once in a while
// rather than ten times a second when the database is away.
func quiet(log *slog.Logger) *slog.Logger {
	return slog.New(levelHandler{log.Handler(), slog.LevelWarn, &said{at: map[string]time.Time{}}})
}

// saidEvery is how often the same message is let through.
const saidEvery = 10 * time.Second

type said struct {
	mu sync.Mutex
	at map[string]time.Time
}

// lately tells whether a message was let through a moment ago.
func (s *said) lately(msg string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now.Sub(s.at[msg]) < saidEvery {
		return true
	}
	if len(s.at) > 1000 {
		clear(s.at)
	}
	s.at[msg] = now
	return false
}

type levelHandler struct {
	slog.Handler
	min  slog.Level
	said *said
}

func (h levelHandler) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= h.min && h.Handler.Enabled(ctx, l)
}

func (h levelHandler) Handle(ctx context.Context, r slog.Record) error {
	if h.said.lately(r.Message, r.Time) {
		return nil
	}
	return h.Handler.Handle(ctx, r)
}

func (h levelHandler) WithAttrs(a []slog.Attr) slog.Handler {
	return levelHandler{h.Handler.WithAttrs(a), h.min, h.said}
}

func (h levelHandler) WithGroup(n string) slog.Handler {
	return levelHandler{h.Handler.WithGroup(n), h.min, h.said}
}

// Package jobs is the work that processes hand to each other through PostgreSQL: what can be asked for, in which queue it
// waits, how it is asked for in a transaction, and what becomes of it when a process dies. It knows nothing of how the
// work is done; the workers are in internal/engine.
package jobs

import (
	"context"
	"database/sql"
	"log/slog"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"

	"dorfbote/internal/store"
)

// How quickly jobs are noticed. The defaults of the job library would add most of a second, on the
// inserting side as well, since that limits how often it tells others.
const (
	fetchCooldown = time.Millisecond
	fetchPoll     = 100 * time.Millisecond
)

// Timeout is how long one job may take. Whatever a job waits for has a limit of its own below that.
const Timeout = 60 * time.Second

// The queues, by what waits in them.
const (
	queuePost   = "post"
	queueFollow = "follow"
)

// Drain asks for a destination's waiting posts to be sent.
type Drain struct {
	Destination string `json:"destination"`
}

// Kind names the job.
func (Drain) Kind() string { return "drain" }

// InsertOpts puts the job into its queue. A drain that is lost is made good by the next one, or by the
// sweep, so it is not tried again by itself.
func (Drain) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queuePost, MaxAttempts: 1}
}

// Follow asks for what follows on a run's posts to be done. It names the run.
type Follow struct {
	Arrival  int64 `json:"arrival"`
	Workflow int64 `json:"workflow"`
}

// Kind names the job.
func (Follow) Kind() string { return "follow" }

// InsertOpts puts the job into its queue. One that is lost is made good by the sweep.
func (Follow) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueFollow, MaxAttempts: 1}
}

// Said asks for what somebody said in a room to be taken as the answer to a question.
type Said struct {
	Arrival int64  `json:"arrival"` // the message
	Ask     int64  `json:"ask"`
	Place   string `json:"place"` // in whose stead it answers
	By      string `json:"by"`
	Choice  string `json:"choice"`
	Comment string `json:"comment"`
}

// Kind names the job.
func (Said) Kind() string { return "said" }

// InsertOpts puts the job into its queue. An answer is not to be lost: it is tried again for some minutes.
func (Said) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueFollow, MaxAttempts: 6}
}

// Sweep asks for a look at what waits, and for what is done from time to time.
type Sweep struct{}

// Kind names the job.
func (Sweep) Kind() string { return "sweep" }

// Queue takes jobs. It is safe for use by many goroutines.
type Queue struct{ client *river.Client[*sql.Tx] }

// NewQueue gives the queue of a database.
func NewQueue(db *sql.DB, log *slog.Logger) (*Queue, error) {
	client, err := river.NewClient(riverdatabasesql.New(db), &river.Config{
		FetchCooldown: fetchCooldown, FetchPollInterval: fetchPoll, Logger: quiet(log),
	})
	return &Queue{client}, err
}

// Add asks for a job, in the transaction that the context's statements join, if any.
func (q *Queue) Add(ctx context.Context, args river.JobArgs) error { return q.add(ctx, args, nil) }

// AddIn asks for a job in a transaction.
func (q *Queue) AddIn(ctx context.Context, tx *sql.Tx, args river.JobArgs) error {
	_, err := q.client.InsertTx(ctx, tx, args, nil)
	return err
}

// AddAt asks for a job at a time. Jobs that are put on are looked at every few seconds only.
func (q *Queue) AddAt(ctx context.Context, args river.JobArgs, at time.Time) error {
	return q.add(ctx, args, &river.InsertOpts{ScheduledAt: at})
}

func (q *Queue) add(ctx context.Context, args river.JobArgs, o *river.InsertOpts) error {
	var err error
	if tx := store.Current(ctx); tx != nil {
		_, err = q.client.InsertTx(ctx, tx, args, o)
	} else {
		_, err = q.client.Insert(ctx, args, o)
	}
	return err
}

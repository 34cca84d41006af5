package follow

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// How often a step that may yet heal is tried, and how long one try may take.
const (
	stepAttempts = 30
	stepTimeout  = 15 * time.Second
	// longestChain is how many workflows may call one another in a row.
	longestChain = 10
)

// Journal writes down what follows on what a workflow told about an arrival.
func Journal(ctx context.Context, tx *sql.Tx, l store.Live, seq int64, steps []decide.Step) error {
	for _, s := range steps {
		if err := JournalOne(ctx, tx, l, seq, s, fmt.Sprintf("w%d-%s-s%d", l.ID, outbox.Cause(seq), s.N)); err != nil {
			return err
		}
	}
	return nil
}

// JournalOne writes down one step under a key, by which it is known if it is written again.
func JournalOne(ctx context.Context, tx *sql.Tx, l store.Live, seq int64, s decide.Step, key string) error {
	var fallback any
	if len(s.Tell) > 0 {
		raw, _ := json.Marshal(s.Tell)
		fallback = string(raw)
	}
	var many any
	if len(s.Many) > 0 {
		list := make([]any, len(s.Many))
		for i, set := range s.Many {
			list[i] = set
		}
		many = string(value.AppendJSON(nil, list))
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO steps (workflow, version, arrival, n, name, kind, target, record_key, body, if_fails, fallback, key, broken, many, calls)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, (SELECT id FROM workflows WHERE $6 = 'call' AND name = $7)) ON CONFLICT (key) DO NOTHING`,
		l.ID, l.Version, seq, s.N, s.Name, s.How, s.Target, s.Key, string(value.AppendJSON(nil, s.Set)), s.Fails, fallback, key, s.Error, many)
	if err != nil {
		return fmt.Errorf("writing what follows: %w", err)
	}
	return nil
}

// Follow asks for what follows on a run's posts to be done now.
func (f *Follow) Follow(ctx context.Context, arrival, workflow int64) error {
	return f.Jobs.Add(ctx, jobs.Follow{Arrival: arrival, Workflow: workflow})
}

// Do does a run's steps in their order, each once the one before is done. One process at a time does so for a run.
func (f *Follow) Do(ctx context.Context, run jobs.Follow) error {
	_, err := f.Store.Hold(ctx, store.LockRun, fmt.Sprintf("%d of workflow %d", run.Arrival, run.Workflow), func() error { return f.followRun(ctx, run) })
	return err
}

func (f *Follow) followRun(ctx context.Context, run jobs.Follow) error {
	ready, none, err := f.postsDone(ctx, run)
	if err != nil || !ready {
		return err
	}
	did := false
	for {
		s, err := f.nextStep(ctx, run)
		if err != nil {
			return err
		}
		if s == nil {
			if did && f.Followed != nil {
				return f.Followed(ctx, run.Arrival, run.Workflow)
			}
			return nil
		}
		did = true
		if none {
			return f.skipRest(ctx, run, "nobody was told, so nothing follows")
		}
		if s.NotBefore != nil && f.Now().Before(*s.NotBefore) {
			return f.followLater(ctx, run, *s.NotBefore)
		}
		if err := f.Store.Durable(ctx); err != nil {
			return err
		}
		goOn, err := f.doStep(ctx, s)
		if err != nil {
			return err
		}
		if !goOn {
			if s.State == store.Failed && f.Followed != nil {
				return f.Followed(ctx, run.Arrival, run.Workflow)
			}
			return nil
		}
	}
}

// postsDone tells whether all of a run's posts are where they will stay, and whether none of them was delivered.
func (f *Follow) postsDone(ctx context.Context, run jobs.Follow) (ready, none bool, err error) {
	var row struct {
		Open, Sent, All int
		Held            bool
	}
	err = f.Store.DB.WithContext(ctx).Raw(`SELECT count(*) FILTER (WHERE state IN ('waiting', 'refused', 'held')) AS open, count(*) FILTER (WHERE state = 'sent') AS sent, count(*) AS all,
			EXISTS (SELECT 1 FROM verdicts WHERE arrival = @a AND workflow = @w AND verdict = 'held' AND later = '') AS held
		FROM posts WHERE arrival = @a AND workflow = @w`, sql.Named("a", run.Arrival), sql.Named("w", run.Workflow)).Scan(&row).Error
	return row.Open == 0 && !row.Held, row.Sent == 0 && row.All > 0, err
}

func (f *Follow) nextStep(ctx context.Context, run jobs.Follow) (*store.Step, error) {
	var s store.Step
	err := f.Store.DB.WithContext(ctx).Raw("SELECT * FROM steps WHERE arrival = ? AND workflow = ? AND state = 'waiting' ORDER BY n LIMIT 1", run.Arrival, run.Workflow).Scan(&s).Error
	if s.ID == 0 {
		return nil, err
	}
	return &s, err
}

// doStep does one step and writes down what came of it. It gives false where the rest must wait, or does not follow.
func (f *Follow) doStep(ctx context.Context, s *store.Step) (bool, error) {
	began := time.Now()
	var out connect.Written
	var err error
	switch {
	case s.Broken != "":
		out, err = connect.Written{Final: true}, errors.New(s.Broken)
	case s.Kind == sheet.FollowCall:
		out, err = f.callWorkflow(ctx, s)
	case s.Many != nil:
		out, err = f.writeMany(ctx, s)
	default:
		out, err = f.writeRecord(ctx, s)
	}
	if ctx.Err() != nil {
		return false, ctx.Err() // what became of it is not known; the key makes trying again safe
	}
	s.Attempts++
	s.Status, s.Answer = out.Status, connect.Storable(out.Answer)
	took := time.Since(began)
	tried := store.Attempt{At: f.Now().Add(-took), TookMs: int(took.Milliseconds()), Status: out.Status, Address: out.Address, Sent: connect.Storable(out.Sent), Answer: s.Answer}
	if err == nil {
		s.State = store.Done
		f.Meters.Stepped(s.Kind, "done")
		return true, f.settleStep(ctx, s, tried, nil)
	}
	s.Answer = connect.Storable(err.Error())
	if tried.Answer == "" {
		tried.Answer = s.Answer
	}
	f.Log.Warn("step failed", "arrival", s.Arrival, "workflow", s.Workflow, "step", s.Name, "attempts", s.Attempts, "error", err)
	if !out.Final && s.Attempts < stepAttempts {
		f.Meters.Stepped(s.Kind, "again")
		at := f.Now().Add(max(out.Wait, host.Backoff(s.Attempts)))
		if err := f.settleStep(ctx, s, tried, &at); err != nil {
			return false, err
		}
		return false, f.followLater(ctx, jobs.Follow{Arrival: s.Arrival, Workflow: s.Workflow}, at)
	}
	f.Meters.Stepped(s.Kind, "failed")
	s.State = store.Failed
	if err := f.settleStep(ctx, s, tried, nil); err != nil {
		return false, err
	}
	return f.stepFailed(ctx, s)
}

// settleStep writes down what came of trying a step. It waits for the disk: a step that is done again may not be known as
// the same everywhere.
func (f *Follow) settleStep(ctx context.Context, s *store.Step, tried store.Attempt, notBefore *time.Time) error {
	var done *time.Time
	if s.State != store.Waiting {
		now := f.Now()
		done = &now
	}
	return f.Store.DB.WithContext(ctx).Exec(`WITH s AS (UPDATE steps SET state = @state, attempts = @attempts, status = @status, answer = @answer, not_before = CAST(@later AS timestamptz), done_at = CAST(@done AS timestamptz) WHERE id = @id RETURNING 1),
		a AS (INSERT INTO attempts (step, at, took_ms, status, address, sent, answer) VALUES (@id, @at, @took, @status, @address, @sent, @raw) RETURNING 1)
		SELECT pg_notify('`+notify.Channel+`', @event), (SELECT count(*) FROM s), (SELECT count(*) FROM a)`,
		sql.Named("state", s.State), sql.Named("attempts", s.Attempts), sql.Named("status", s.Status), sql.Named("answer", s.Answer), sql.Named("later", notBefore), sql.Named("done", done), sql.Named("id", s.ID),
		sql.Named("at", tried.At), sql.Named("took", tried.TookMs), sql.Named("address", tried.Address), sql.Named("sent", tried.Sent), sql.Named("raw", tried.Answer), sql.Named("event", notify.Message{Topic: notify.Steps, Seq: s.Arrival}.Text())).Error
}

// stepFailed goes the way that the sheet gives for a failure.
func (f *Follow) stepFailed(ctx context.Context, s *store.Step) (goOn bool, err error) {
	run := jobs.Follow{Arrival: s.Arrival, Workflow: s.Workflow}
	switch s.IfFails {
	case sheet.FailGoOn:
		return true, nil
	case sheet.FailTell:
		if s.Fallback != nil {
			var posts []decide.Post
			if err := json.Unmarshal([]byte(*s.Fallback), &posts); err != nil {
				return false, err
			}
			for i := range posts {
				posts[i].Ref = fmt.Sprintf("%s-s%d-f%d-%d", outbox.Cause(s.Arrival), s.N, i, f.Now().UnixMilli()) // it may be tried again, and fail again
			}
			err := f.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
				return f.Outbox.Put(ctx, tx, outbox.Rows(s.Workflow, s.Arrival, f.Now(), posts), true)
			})
			if err != nil {
				return false, err
			}
		}
	default:
		var w store.Workflow
		if err := f.Store.DB.WithContext(ctx).First(&w, s.Workflow).Error; err != nil {
			return false, err
		}
		f.Notice(ctx, store.Notice{What: "could not " + s.Name, Words: s.Answer, Go: fmt.Sprintf("/runs/%d/%d", s.Arrival, s.Workflow), About: w.Name, Owner: w.Owner})
	}
	return false, f.skipRest(ctx, run, "an earlier step failed")
}

// skipRest gives up on the steps of a run that are not done.
func (f *Follow) skipRest(ctx context.Context, run jobs.Follow, why string) error {
	err := f.Store.DB.WithContext(ctx).Exec("UPDATE steps SET state = ?, answer = ?, done_at = now() WHERE arrival = ? AND workflow = ? AND state = 'waiting'",
		store.Skipped, why, run.Arrival, run.Workflow).Error
	f.Tell(ctx, notify.Message{Topic: notify.Steps, Seq: run.Arrival})
	return err
}

func (f *Follow) followLater(ctx context.Context, run jobs.Follow, at time.Time) error {
	if wait := f.Until(at); wait < time.Minute {
		time.AfterFunc(wait, func() {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			_ = f.Follow(ctx, run.Arrival, run.Workflow) // if this fails, the job is there
		})
	}
	return f.Jobs.AddAt(ctx, run, at)
}

// writing is one call that adds or changes a record of a source.
type writing func(ctx context.Context, w connect.Write) (connect.Written, error)

// writer opens what a step writes to.
func (f *Follow) writer(ctx context.Context, s *store.Step) (write writing, connection string, out connect.Written, err error) {
	final := connect.Written{Final: true}
	var k store.Source
	db := f.Store.DB.WithContext(ctx)
	if err := db.First(&k, "name = ?", s.Target).Error; err != nil {
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil, "", final, fmt.Errorf("there is no source %s any more", s.Target)
		}
		return nil, "", connect.Written{}, err
	}
	var c store.Connection
	if err := db.First(&c, "id = ?", k.Connection).Error; err != nil {
		return nil, "", connect.Written{}, err
	}
	kind := kinds.Named(c.Kind)
	if kind == nil || kind.Write == nil {
		return nil, "", final, fmt.Errorf("records of %s cannot be added or changed: a connection of the kind %s is only read", s.Target, c.Kind)
	}
	if c.Paused {
		return nil, "", connect.Written{}, fmt.Errorf("the connection %s is paused", c.ID)
	}
	config, err := f.Sources.Config(&c)
	if err != nil {
		return nil, "", final, err
	}
	came, err := f.Store.ArrivalsBySeq(ctx, []int64{s.Arrival})
	if err != nil {
		return nil, "", connect.Written{}, err
	}
	through := ""
	if len(came) > 0 {
		through = came[0].Through
	}
	through = store.Through(through, s.Workflow)
	return func(ctx context.Context, w connect.Write) (connect.Written, error) {
		w.Through = through
		ctx, cancel := context.WithTimeout(ctx, stepTimeout)
		defer cancel()
		return kind.Write(ctx, config, connect.SourceConfig{Name: s.Target, Settings: k.Settings, Key: k.KeyField}, w)
	}, c.ID, final, nil
}

// writeRecord adds or changes a record through its connection.
func (f *Follow) writeRecord(ctx context.Context, s *store.Step) (connect.Written, error) {
	write, connection, out, err := f.writer(ctx, s)
	if err != nil {
		return out, err
	}
	v, err := value.ReadJSON(s.Body)
	if err != nil {
		return out, err
	}
	set, _ := v.(map[string]any)
	out, err = write(ctx, connect.Write{Change: s.Kind == sheet.FollowChange, Key: s.RecordKey, Set: set, Once: s.Key, Again: s.Attempts > 0})
	if !out.Final {
		f.Sources.NoteHealth(ctx, connection, err)
	}
	return out, err
}

// WakeAll wakes runs whose steps wait though nothing is on its way for them any more.
func (f *Follow) WakeAll(ctx context.Context) error {
	var runs []jobs.Follow
	err := f.Store.DB.WithContext(ctx).Raw(`SELECT DISTINCT s.arrival, s.workflow AS workflow FROM steps s
		WHERE s.state = 'waiting' AND (s.not_before IS NULL OR s.not_before < now()) AND s.created_at < now() - interval '10 seconds'
			AND NOT EXISTS (SELECT 1 FROM posts p WHERE p.arrival = s.arrival AND p.workflow = s.workflow AND p.state IN ('waiting', 'refused', 'held')) LIMIT 500`).Scan(&runs).Error
	for _, r := range runs {
		if err := f.Follow(ctx, r.Arrival, r.Workflow); err != nil {
			return err
		}
	}
	return err
}

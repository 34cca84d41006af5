package decider

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// writeEscalations has the steps of an alert wait that tell others where it is not taken care of. They begin to count when the
// first of its posts is delivered, or the last given up: the outbox sets their moments as it settles posts.
func writeEscalations(ctx context.Context, tx *sql.Tx, d *decided) error {
	for _, n := range d.plan.Escalations() {
		f := &d.plan.Follow[n]
		err := store.PutEscalation(ctx, tx, store.Escalation{Workflow: d.live.ID, Arrival: d.seq, Step: n, Version: d.live.Version, Name: f.Name, WithinMs: f.Within.Milliseconds(), Now: d.Unreached()})
		if err != nil {
			return err
		}
	}
	return nil
}

// escalatedAtOnce is how many are looked at in one transaction.
const escalatedAtOnce = 100

// EscalateDue looks at the alerts whose moment has come, and tells others where nobody took care of them.
func (de *Decider) EscalateDue(ctx context.Context) (more bool, err error) {
	list, err := de.Store.EscalationsDue(ctx)
	if err != nil {
		return false, err
	}
	var failed []error
	for _, l := range list {
		all, err := de.escalate(ctx, l, escalatedAtOnce)
		if err != nil && ctx.Err() == nil { // one that fails holds up no other
			err = de.escalateEach(ctx, l)
		}
		if err != nil {
			failed = append(failed, fmt.Errorf("following up alerts of workflow %d: %w", l.ID, err))
		}
		more = more || all
	}
	return more, errors.Join(failed...)
}

// escalateEach does one by one what could not be done in one go, and puts off what cannot be done at all.
func (de *Decider) escalateEach(ctx context.Context, l store.Live) error {
	var failed []error
	for range escalatedAtOnce {
		more, err := de.escalate(ctx, l, 1)
		if err != nil {
			failed = append(failed, err)
			if err := de.Store.PutOffEscalation(ctx, l.ID, soon); err != nil {
				return err
			}
		} else if !more {
			break
		}
	}
	return errors.Join(failed...)
}

// escalate tells others of some alerts that nobody took care of. more is true where there may be others.
func (de *Decider) escalate(ctx context.Context, l store.Live, atOnce int) (more bool, err error) {
	err = de.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := paceLock(ctx, tx, l.ID); err != nil {
			return err
		}
		due, err := store.TakeEscalations(ctx, tx, l.ID, atOnce)
		if err != nil {
			return err
		}
		more = len(due) == atOnce
		mem := &memory{ctx: ctx, tx: tx, workflow: l.ID}
		var rows []outbox.Row
		for i := range due {
			posts, err := de.escalateOne(ctx, tx, mem, l, &due[i])
			if err != nil {
				return err
			}
			rows = outbox.Append(rows, outbox.Rows(l.ID, due[i].Arrival, de.Now().UTC(), posts))
		}
		if mem.err != nil {
			return mem.err
		}
		return de.Outbox.Put(ctx, tx, rows, true)
	})
	return more, err
}

// escalateOne gives what is told at an alert's moment.
func (de *Decider) escalateOne(ctx context.Context, tx *sql.Tx, mem *memory, l store.Live, e *store.Escalation) ([]decide.Post, error) {
	if !e.IsOn {
		return nil, nil
	}
	l.Version = e.Version
	plan, err := de.Workflows.PlanOf(ctx, l)
	broken := &workflows.BrokenSheet{}
	if errors.As(err, &broken) {
		return nil, nil // it is told where it decides
	}
	if err != nil {
		return nil, err
	}
	sc, row, err := de.scopeOf(ctx, e.Arrival)
	gone := &ErrAsked{}
	if errors.As(err, &gone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	removed := false
	if row.Subject != "" {
		records, err := intake.RecordsOf(ctx, tx, row.Source, []string{row.Subject})
		if err != nil {
			return nil, err
		}
		if now, ok := records[row.Subject]; ok {
			sc.Record = now
		} else if strings.Contains(row.Source, "/") && plan.HasRecord() {
			removed = true
			last, err := intake.LastRecord(ctx, tx, row.Source, row.Subject)
			if err != nil {
				return nil, err
			}
			if last != nil {
				sc.Record = last
			}
		}
	}
	sc.SetNow(e.DueAt.UTC())
	sc.Claimed, sc.Replied = e.ClaimedBy != "", e.RepliedBy != ""
	if len(e.Posts) > 0 {
		return tellAgain(ctx, tx, mem, e, plan, sc, removed)
	}
	out, needed := decide.Escalate(plan, e.Step, sc, e.Answers)
	if !needed {
		return nil, nil
	}
	out = decide.Quieted(plan, mem, outbox.Cause(e.Arrival), fmt.Sprintf("f%d", e.Step), sc.Now, out)
	words := out.Error
	if out.Verdict != decide.Failed {
		var to []string
		for _, p := range out.Posts {
			if p.Under < 0 {
				to = append(to, p.To)
			}
		}
		if words = "told " + strings.Join(to, ", "); out.Verdict == decide.Held {
			words = "waits for the opening hours"
		}
	}
	if out.Verdict == decide.Failed {
		de.Notice(ctx, store.Notice{What: "could not follow up", Words: out.Error, Go: fmt.Sprintf("/runs/%d/%d", e.Arrival, l.ID), About: l.Name})
	}
	err = store.AddAct(ctx, tx, store.Deed{Workflow: l.ID, Arrival: e.Arrival, What: store.ActFollowed, Name: e.Name, Words: words})
	if err != nil {
		return nil, err
	}
	return out.Posts, notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: e.Arrival})
}

// tellAgain tells an alert once more, where nobody took it meanwhile.
func tellAgain(ctx context.Context, tx *sql.Tx, mem *memory, e *store.Escalation, plan *sheet.Plan, sc *formula.Scope, removed bool) ([]decide.Post, error) {
	var list []store.AgainPost
	if err := json.Unmarshal(e.Posts, &list); err != nil {
		return nil, err
	}
	var posts []decide.Post
	under := -1
	for _, p := range list {
		doc, err := message.Stored(p.Body)
		if err != nil {
			return nil, err
		}
		posts = append(posts, decide.Post{To: p.To, Cc: p.Cc, Bcc: p.Bcc, Message: p.Message, Doc: doc, Under: -1})
		if last := len(posts) - 1; p.Thread {
			posts[last].Under = under
		} else {
			under = last
		}
	}
	posts = decide.Again(plan, posts, e.Name, sc, removed)
	if len(posts) == 0 {
		return nil, nil
	}
	out := decide.Quieted(plan, mem, outbox.Cause(e.Arrival), fmt.Sprintf("again%d-%d", e.Step, e.DueAt.UnixMilli()), sc.Now, decide.Outcome{Verdict: decide.Told, Posts: posts})
	return out.Posts, store.AddAct(ctx, tx, store.Deed{Workflow: e.Workflow, Arrival: e.Arrival, What: store.ActFollowed, Name: e.Name, Words: "told again, since nobody had taken it"})
}

package outbox

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// How often connections are asked what became of the posts that they took, and how long one may take.
const (
	askReportsEvery = 20 * time.Second
	askingReports   = 90 * time.Second
)

// AskReports asks the connections that can be asked what became of posts that they took: mails that came back. One process does so
// for a connection at a time; the sweep that calls does not wait for the answers.
func (o *Outbox) AskReports(ctx context.Context) error {
	can := kinds.That(func(k *connect.Kind) bool { return k.Reports })
	var due []store.Connection
	err := o.Store.DB.WithContext(ctx).Where("kind IN ? AND NOT paused", can).Order("id").Find(&due).Error
	if err != nil || len(due) == 0 || !o.asking.TryLock() {
		return err
	}
	go func() {
		defer o.asking.Unlock()
		for i := range due {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), askingReports)
			_, err := o.Store.Hold(ctx, store.LockReports, due[i].ID, func() error { return o.askReports(ctx, &due[i]) })
			cancel()
			if err != nil {
				o.Log.Info("asking what became of posts failed", "connection", due[i].ID, "error", err)
			}
		}
	}()
	return nil
}

// readTo is how far the reports of a connection have been read.
type readTo struct {
	Cursor json.RawMessage `json:"cursor"`
	At     time.Time       `json:"at"`
}

func (o *Outbox) askReports(ctx context.Context, c *store.Connection) error {
	name := "reports of " + c.ID
	var last readTo
	if err := o.Store.Choice(ctx, name, &last); err != nil || o.Now().Sub(last.At) < askReportsEvery {
		return err
	}
	conn, err := o.Sources.OpenConn(c)
	if err != nil {
		return err
	}
	defer conn.Close()
	r, ok := conn.(connect.Reporter)
	if !ok {
		return nil
	}
	last.At = o.Now()
	cursor, err := r.Reports(ctx, last.Cursor, func(r connect.Report) error { return o.Reported(ctx, c.ID, r) })
	if len(cursor) > 0 {
		last.Cursor = cursor
	}
	if keep := o.Store.Choose(ctx, name, last); keep != nil {
		return keep
	}
	return err
}

// Reported notes what became of a post that a connection took. A failed one counts as refused, until somebody sees to it, and its
// workflow's owner is told; what is reported of no post of ours is passed over.
func (o *Outbox) Reported(ctx context.Context, connection string, r connect.Report) error {
	p, fresh, err := o.Store.ReportPost(ctx, connection, connect.Storable(r.Of), r.State, connect.Storable(r.Words))
	if err != nil || p == nil || !fresh {
		return err
	}
	o.Tell(ctx, notify.Message{Topic: notify.Posts, ID: p.ID})
	if r.State != connect.ReportFailed || p.Trial {
		return nil
	}
	var w store.Workflow
	if err := o.Store.DB.WithContext(ctx).First(&w, p.Workflow).Error; err != nil {
		return err
	}
	words := fmt.Sprintf("%s told %s about %q, and it did not get there: %s", w.Name, p.Destination, p.Title, r.Words)
	o.Notice(ctx, store.Notice{What: "was not reached", Words: words, Go: fmt.Sprintf("/outbox?post=%d", p.ID), About: p.Destination, Owner: w.Owner})
	return nil
}

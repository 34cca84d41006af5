package outbox

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/trace"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/observe"
	"dorfbote/internal/store"
)

// maxAttempts is how often a post that might yet heal is tried; with the longest wait of ten minutes
// that is most of two days.
const maxAttempts = 250

// Drain sends what waits for one destination, in order. Only one process at a time does so for a
// destination. Whoever finds it taken may leave: the holder looks once more after letting go, and so
// sees everything that was there before.
func (o *Outbox) Drain(ctx context.Context, job jobs.Drain) error {
	name := job.Destination
	for {
		again := false
		mine, err := o.Store.Hold(ctx, store.LockDrain, name, func() error {
			var err error
			again, err = o.drain(ctx, name)
			return err
		})
		if err != nil || !mine || !again {
			return err
		}
		left, err := o.Async.NextPosts(ctx, name, 1)
		if err != nil || len(left) == 0 {
			return err
		}
	}
}

// draining is for how long one job sends to a destination; then it makes room for others, and goes on in the next.
const draining = jobs.Timeout / 2

// longestPause is how long a drain waits for the next post's time; for longer, another is put on for then.
const longestPause = 4 * time.Second

// readHolds is how long what was read of the outbox holds, before it is looked at once more.
const readHolds = 250 * time.Millisecond

// drain sends posts until none waits or the destination must be left alone. again is false in the
// latter case.
func (o *Outbox) drain(ctx context.Context, name string) (again bool, err error) {
	d, err := o.Store.Destination(ctx, name)
	if err != nil {
		return false, fmt.Errorf("destination %s: %w", name, err)
	}
	if d.Paused {
		return false, nil
	}
	pace := newPosting(d, o.Now())
	if wait := pace.wait(o.Now()); wait > longestPause {
		return false, o.later(ctx, name, *d.NotBefore)
	}
	var c store.Connection
	if err := o.Store.DB.WithContext(ctx).First(&c, "id = ?", d.Connection).Error; err != nil {
		return false, err
	}
	if c.Paused {
		return false, nil
	}
	conn, letGo, err := o.line(&c)
	if err != nil {
		return false, err
	}
	defer letGo()
	sender, ok := conn.(connect.Sender)
	if !ok {
		return false, fmt.Errorf("nothing can be sent over %s, which is of the kind %s", c.ID, c.Kind)
	}
	if p, ok := conn.(connect.Pacer); ok {
		pace.most = p.PerMinute()
	}
	began := time.Now()
	for {
		posts, err := o.Async.NextPosts(ctx, name, 20)
		if err != nil || len(posts) == 0 {
			return true, err
		}
		read := time.Now()
		if err := o.Store.Durable(ctx); err != nil {
			return false, err
		}
		for i := range posts {
			if time.Since(began) > draining {
				return false, o.Wake(ctx, name)
			}
			if i > 0 && time.Since(read) > readHolds {
				break // a person may have held or dropped what comes next, or paused the destination
			}
			goOn, err := o.sendOne(ctx, &c, sender, d, pace, &posts[i])
			if err != nil || !goOn {
				return false, err
			}
		}
		// A person may have paused the destination meanwhile, or set another rate.
		fresh, err := o.Store.Destination(ctx, name)
		if err != nil {
			return false, err
		}
		if fresh.Paused {
			return false, nil
		}
		d.PerMinute, d.SpacingMs, d.SpacedAt = fresh.PerMinute, fresh.SpacingMs, fresh.SpacedAt
	}
}

// sendOne sends one post and writes down what came back. It gives false where the destination must be
// left alone for now.
func (o *Outbox) sendOne(ctx context.Context, c *store.Connection, sender connect.Sender, d *store.Destination, pace *posting, p *store.Post) (bool, error) {
	doc, err := message.Stored(p.Body)
	if err != nil {
		return false, fmt.Errorf("post %d: %w", p.ID, err)
	}
	if doc, err = o.drawn(ctx, p, doc); err != nil {
		return false, err
	}
	if doc, err = o.shared(ctx, p, doc); err != nil {
		return false, err
	}
	if doc, err = o.carried(ctx, c, p, doc); err != nil {
		return false, err
	}
	doc, buttons, err := o.pressable(ctx, c, p, doc)
	if err != nil {
		return false, err
	}
	doc, why, err := o.why(ctx, c, p, doc)
	if err != nil {
		return false, err
	}
	place := placeOf(d.Name)
	out := sending{Post: connect.Post{Buttons: buttons, Why: why, Place: place, Cc: placeOf(p.Cc), Bcc: placeOf(p.Bcc), Doc: doc, Key: p.Key, Digest: p.Message == decide.DigestMessage}}
	if p.ExpiresAt != nil && o.Now().After(*p.ExpiresAt) {
		p.State, p.Answer = store.Expired, "it waited for longer than the sheet calls useful"
		if _, err := o.settle(ctx, p, d, settling{}); err != nil {
			return false, err
		}
		return true, o.expired(ctx, p)
	}
	if wait := pace.wait(o.Now()); wait > 0 {
		if wait > longestPause {
			return false, o.leave(ctx, d, o.Now().Add(wait))
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return false, ctx.Err()
		}
	}
	if p.Updates != nil {
		remote, err := o.Async.RemoteID(ctx, *p.Updates)
		if err != nil {
			return false, err
		}
		out.replaces = remote // where the earlier post never got there, this one is a new one
	}
	out.under = p.UnderRemote
	if p.Under != nil {
		remote, err := o.Async.RemoteID(ctx, *p.Under)
		if err != nil {
			return false, err
		}
		out.under = remote
	}
	began := time.Now()
	call, span := otel.Tracer("dorfbote/engine").Start(ctx, "post", trace.WithAttributes(attribute.Int64("post", p.ID), attribute.Int64("arrival", p.Arrival), attribute.String("destination", d.Name)))
	r := out.by(call, sender)
	if r.Instead != "" {
		if r.Instead == connect.InsteadReply {
			out.under = out.replaces
		}
		out.replaces, out.Key = "", p.Key+"-instead"
		o.Log.Info("an edit was refused; it is told anew", "post", p.ID, "destination", d.Name, "status", r.Status)
		if err := o.attempted(ctx, p, began, r); err != nil {
			span.End()
			return false, err
		}
		began = time.Now()
		r = out.by(call, sender)
	}
	span.SetAttributes(attribute.Int("http.response.status_code", r.Status))
	span.End()
	if ctx.Err() != nil {
		return false, ctx.Err() // what became of the call is not known; the key makes trying again safe
	}
	now, took := o.Now(), time.Since(began)
	outcome := observe.Again
	switch {
	case r.Taken:
		outcome = observe.Taken
	case r.Final:
		outcome = observe.Refused
	}
	o.Meters.Posted(d.Connection, outcome, r.Status, took)
	p.Attempts++
	p.Status, p.Answer = r.Status, r.Answer
	done := settling{tried: &store.Attempt{At: now.Add(-took), TookMs: int(took.Milliseconds()), Status: r.Status, Address: r.Address, Sent: r.Sent, Answer: r.Raw}}
	switch {
	case r.Taken:
		p.State, p.RemoteID, p.Link, p.SentAt = store.Sent, r.ID, r.Link, &now
		done.notBefore = pace.sent(d, now)
		o.Meters.Told(now.Sub(p.CreatedAt))
		follows, err := o.settle(ctx, p, d, done)
		if err == nil && follows {
			err = o.Jobs.Add(ctx, jobs.Follow{Arrival: p.Arrival, Workflow: p.Workflow})
		}
		return err == nil, err
	case r.Final && p.Trial: // whoever tries sees it at once, and the channel is not theirs to stop
		p.State = store.GivenUp
		_, err := o.settle(ctx, p, d, done)
		return true, err
	case r.Final:
		p.State, done.reason = store.Refused, r.Answer
		o.Log.Warn("post refused", "post", p.ID, "arrival", p.Arrival, "destination", d.Name, "status", r.Status)
		if _, err := o.settle(ctx, p, d, done); err != nil {
			return false, err
		}
		return false, o.tellOwner(ctx, p, d)
	case p.Attempts >= maxAttempts:
		p.State = store.GivenUp
		_, err := o.settle(ctx, p, d, done)
		return true, err
	}
	wait := max(r.Wait, host.Backoff(d.Failures))
	if r.Status == 429 && r.Wait > 0 {
		wait = r.Wait
		pace.refused(d, now, wait)
	}
	at := now.Add(wait)
	done.notBefore = &at
	if _, err := o.settle(ctx, p, d, done); err != nil {
		return false, err
	}
	return false, o.later(ctx, d.Name, at)
}

// placeOf is a destination without its connection.
func placeOf(name string) string {
	_, place, _ := strings.Cut(name, "/")
	return place
}

// sending is a post on its way: a new one, one in the place of another, or one in another's thread.
type sending struct {
	connect.Post
	replaces, under string // what the other side calls them
}

// by sends it, as far as the sender can: what cannot be edited is told anew, what has no threads in the place itself. What came of
// it can be written down, whatever the other side has answered: else the post would be sent again and again.
func (s sending) by(ctx context.Context, sender connect.Sender) connect.Delivery {
	return s.over(ctx, sender).Storable()
}

func (s sending) over(ctx context.Context, sender connect.Sender) connect.Delivery {
	if s.replaces != "" {
		if e, ok := sender.(connect.Editor); ok {
			return e.Edit(ctx, s.replaces, s.Post)
		}
		s.under = s.replaces
	}
	if s.under != "" {
		if r, ok := sender.(connect.Replier); ok {
			return r.Reply(ctx, s.under, s.Post)
		}
	}
	return sender.Send(ctx, s.Post)
}

// expired notes with an arrival that what it told has expired, once none of its posts is left that went or may go.
func (o *Outbox) expired(ctx context.Context, p *store.Post) error {
	return o.Async.DB.WithContext(ctx).Exec(`UPDATE verdicts SET later = ?, later_at = now() WHERE arrival = ? AND workflow = ?
		AND NOT EXISTS (SELECT 1 FROM posts o WHERE o.arrival = ? AND o.workflow = ? AND o.state <> 'expired')`,
		string(decide.Expired), p.Arrival, p.Workflow, p.Arrival, p.Workflow).Error
}

// attempted keeps a try that another followed at once.
func (o *Outbox) attempted(ctx context.Context, p *store.Post, at time.Time, r connect.Delivery) error {
	return o.Async.DB.WithContext(ctx).Create(&store.Attempt{Post: &p.ID, At: o.Now(), TookMs: int(time.Since(at).Milliseconds()), Status: r.Status, Address: r.Address, Sent: r.Sent, Answer: r.Raw}).Error
}

// leave lets a destination be until a time.
func (o *Outbox) leave(ctx context.Context, d *store.Destination, at time.Time) error {
	if err := o.Store.DB.WithContext(ctx).Exec("UPDATE destinations SET not_before = ? WHERE name = ?", at, d.Name).Error; err != nil {
		return err
	}
	return o.later(ctx, d.Name, at)
}

// settling is what became of trying to send a post, besides the post's own state.
type settling struct {
	tried     *store.Attempt // nil where no call was made
	notBefore *time.Time     // until when the destination is left alone
	reason    string         // why it is paused until a person has seen to it; "" lets it go on
}

// settle writes a post's and its destination's state, and what was tried, in one statement. What a person has decided of
// the post meanwhile stays, unless it has been sent. It tells whether something
// follows on the post. The commit does not wait for the disk: where a crash of the machine undoes it, the post is sent
// again under the same key, as it would be had the machine crashed a moment earlier.
func (o *Outbox) settle(ctx context.Context, p *store.Post, d *store.Destination, done settling) (follows bool, err error) {
	if d.Failures++; p.State == store.Sent || p.State == store.Expired {
		d.Failures = 0
	}
	var quietBefore any
	if done.notBefore != nil {
		quietBefore = *done.notBefore
	}
	tried := done.tried
	if tried == nil {
		tried = &store.Attempt{}
	}
	var row struct{ Follows bool }
	others := ""
	if p.Message == decide.DigestMessage { // it tells of other alerts, too
		others = `f AS (
			UPDATE escalations SET due_at = now() + within_ms * interval '1 millisecond' WHERE @state = 'sent' AND workflow = @workflow AND @key = ANY (with_posts) AND due_at IS NULL RETURNING 1),`
	}
	err = o.Async.DB.WithContext(ctx).Raw(`WITH p AS (
			UPDATE posts SET state = CASE WHEN state = 'waiting' OR @state = 'sent' THEN @state ELSE state END, attempts = @attempts, status = @status, answer = @answer, remote_id = @remote, link = @link, sent_at = CAST(@sent AS timestamptz)
			WHERE id = @id RETURNING 1),
		d AS (
			UPDATE destinations SET failures = @failures, not_before = CAST(@later AS timestamptz), paused = paused OR @reason <> '', reason = CASE WHEN @reason <> '' THEN @reason ELSE reason END,
				held_by = CASE WHEN @reason <> '' THEN '' ELSE held_by END, spacing_ms = @spacing, spaced_at = CAST(@spaced AS timestamptz)
			WHERE name = @name AND (failures <> @failures OR not_before IS DISTINCT FROM CAST(@later AS timestamptz) OR @reason <> '' OR spacing_ms <> @spacing) RETURNING 1),
		h AS (
			INSERT INTO hours (what, name, hour, n) SELECT 'posts', @name, date_trunc('hour', now()), 1 WHERE @state = 'sent'
			ON CONFLICT (what, name, hour) DO UPDATE SET n = hours.n + 1 RETURNING 1),
		c AS (
			UPDATE connections SET last_ok = now(), failing_since = NULL, last_error = '' WHERE @state = 'sent' AND id = split_part(@name, '/', 1)
				AND (last_ok IS NULL OR last_ok < now() - interval '1 minute' OR failing_since IS NOT NULL) RETURNING 1),
		e AS (
			UPDATE escalations SET due_at = now() + within_ms * interval '1 millisecond' WHERE workflow = @workflow AND arrival = @arrival AND due_at IS NULL AND NOT @trial
				AND (@state = 'sent' OR @state IN ('refused', 'given up', 'expired') AND NOT EXISTS (
					SELECT 1 FROM posts o WHERE o.workflow = @workflow AND o.arrival = @arrival AND o.id <> @id AND o.state IN ('waiting', 'held', 'sent'))) RETURNING 1),
		`+others+`
		a AS (
			INSERT INTO attempts (post, at, took_ms, status, address, sent, answer) SELECT @id, @at, @took, @status, @address, @body, @raw WHERE @tried RETURNING 1)
		SELECT pg_notify('`+notify.Channel+`', @event), (SELECT count(*) FROM p), (SELECT count(*) FROM d), (SELECT count(*) FROM a), (SELECT count(*) FROM h), (SELECT count(*) FROM c), (SELECT count(*) FROM e),
			EXISTS (SELECT 1 FROM steps s WHERE s.arrival = @arrival AND s.workflow = @workflow AND s.state = 'waiting') AS follows`,
		sql.Named("arrival", p.Arrival), sql.Named("workflow", p.Workflow), sql.Named("state", p.State), sql.Named("attempts", p.Attempts), sql.Named("status", p.Status), sql.Named("answer", p.Answer),
		sql.Named("remote", p.RemoteID), sql.Named("link", p.Link), sql.Named("sent", p.SentAt), sql.Named("id", p.ID), sql.Named("failures", d.Failures),
		sql.Named("later", quietBefore), sql.Named("reason", done.reason), sql.Named("name", d.Name), sql.Named("event", notify.Message{Topic: notify.Posts, ID: p.ID}.Text()),
		sql.Named("spacing", d.SpacingMs), sql.Named("spaced", d.SpacedAt), sql.Named("trial", p.Trial), sql.Named("key", p.Key), sql.Named("tried", done.tried != nil), sql.Named("at", tried.At), sql.Named("took", tried.TookMs),
		sql.Named("address", tried.Address), sql.Named("body", tried.Sent), sql.Named("raw", tried.Answer)).Scan(&row).Error
	return row.Follows, err
}

// later asks for a drain at a time, unless one is put on for no later. The job is what holds whatever happens to this
// process, but jobs are put on at their time only every few seconds; a timer of this process is exact.
func (o *Outbox) later(ctx context.Context, name string, at time.Time) error {
	var there bool
	err := o.Store.DB.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM river_job WHERE kind = 'drain' AND state = 'scheduled' AND args->>'destination' = ? AND scheduled_at <= ?)`,
		name, at.Add(time.Second)).Scan(&there).Error
	if err != nil || there {
		return err
	}
	if wait := o.Until(at); wait < time.Minute {
		time.AfterFunc(wait, func() {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			_ = o.Wake(ctx, name) // if this fails, the job is there
		})
	}
	return o.Jobs.AddAt(ctx, jobs.Drain{Destination: name}, at)
}

// Wake asks for a destination's posts to be sent now.
func (o *Outbox) Wake(ctx context.Context, name string) error {
	return o.Jobs.Add(ctx, jobs.Drain{Destination: name})
}

// WakeAll wakes every destination and every run that has something to do.
func (o *Outbox) WakeAll(ctx context.Context) error {
	names, err := o.Store.WaitingDestinations(ctx)
	if err != nil {
		return err
	}
	for _, n := range names {
		if err := o.Wake(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

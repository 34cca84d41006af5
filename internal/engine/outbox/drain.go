package outbox

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/trace"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/jobs"
	"dorfbote/internal/observe"
	"dorfbote/internal/store"
)

// maxAttempts is how often a post that might yet heal is tried; with the longest wait of ten minutes
// that is most of two days.
const maxAttempts = 250

// Drain sends what waits for one destination, in order. Only one process at a time does so for a
// destination. Whoever finds it taken may leave: the holder looks once more after letting go, and so
// sees everything that was there before. Where all berths of its connection are taken, it is called again once one is free.
func (o *Outbox) Drain(ctx context.Context, job jobs.Drain) error {
	name := job.Destination
	connection, _, _ := strings.Cut(name, "/")
	if !o.berths.enter(connection, name, time.Now()) {
		return nil
	}
	err := o.drainAll(ctx, name)
	if next := o.berths.leave(connection, name, time.Now()); next != "" {
		wake, cancel := context.WithTimeout(context.WithoutCancel(ctx), settling)
		defer cancel()
		err = errors.Join(err, o.Wake(wake, next))
	}
	return err
}

func (o *Outbox) drainAll(ctx context.Context, name string) error {
	for {
		mine, err := o.drains.Try(ctx, name)
		if err != nil || !mine {
			return err
		}
		again, err := o.drain(ctx, name)
		o.drains.Free(name)
		if err != nil || !again {
			return err
		}
		left, err := o.Async.NextPosts(ctx, name, 1)
		if err != nil || len(left) == 0 {
			return err
		}
	}
}

// draining is for how long one job sends to a destination; then it makes room for others, and goes on in the next. No one call takes
// longer than what is left of the job's time after that; each kind has limits of its own for the phases of its calls, which are shorter.
const (
	draining = 15 * time.Second
	calling  = jobs.Timeout - draining - settling
)

// longestPause is how long a drain waits for the next post's time; for longer, another is put on for then.
const longestPause = 4 * time.Second

// readHolds is how long what was read of the outbox holds, before it is looked at once more.
const readHolds = 250 * time.Millisecond

// settling is how long writing down what came of a call may take once the job's own time is up.
const settling = 5 * time.Second

// draught is one turn of sending to a destination.
type draught struct {
	*store.Destination
	connection *store.Connection
	sender     connect.Sender
	pace       *posting
}

// drain sends posts until none waits or the destination must be left alone. again is false in the
// latter case.
func (o *Outbox) drain(ctx context.Context, name string) (again bool, err error) {
	d, letGo, err := o.begin(ctx, name)
	if err != nil || d == nil {
		return false, err
	}
	defer letGo()
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
		goOn, err := o.sendAll(ctx, d, posts, began.Add(draining), read.Add(readHolds))
		if err != nil || !goOn {
			return false, err
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

// sendAll sends posts that were read, in order. goOn is false where the destination must be left alone, or has had its turn. What was read
// holds until a moment only: a person may have held or dropped what comes next, or paused the destination.
func (o *Outbox) sendAll(ctx context.Context, d *draught, posts []store.Post, turn, holds time.Time) (goOn bool, err error) {
	ready := o.prepareAll(ctx, d.connection, posts)
	defer ready.end()
	for i := range posts {
		switch now := time.Now(); {
		case now.After(turn):
			return false, o.Wake(ctx, d.Name)
		case i > 0 && now.After(holds):
			return true, nil
		case !o.drains.Holds(d.Name):
			return false, errLockLost
		}
		goOn, err := o.sendOne(ctx, d, &posts[i], func() (*connect.Post, error) { return ready.take(i) })
		ready.gone(i)
		if err != nil || !goOn {
			return false, err
		}
	}
	return true, nil
}

// errLockLost ends a drain whose lock went with its connection to the database: somebody else may be sending by now.
var errLockLost = errors.New("the lock of the destination was lost")

// cutOffWords are the answer of a try of which nobody knows what came.
const cutOffWords = "it was cut off before an answer came"

// begin makes ready to send to a destination; d is nil where it must be left alone.
func (o *Outbox) begin(ctx context.Context, name string) (d *draught, letGo func(), err error) {
	to, err := o.Store.Destination(ctx, name)
	if err != nil {
		return nil, nil, fmt.Errorf("destination %s: %w", name, err)
	}
	if to.Paused {
		return nil, nil, nil
	}
	// A try that a process did not live to settle counts as one that failed: whatever ended the process may end the next as well.
	if cut, err := o.Async.CutOff(ctx, name, cutOffWords); err != nil {
		return nil, nil, err
	} else if cut > 0 {
		to.Failures++
		at := o.Now().Add(host.Backoff(to.Failures))
		if err := o.Async.DB.WithContext(ctx).Exec("UPDATE destinations SET failures = ?, not_before = greatest(not_before, ?) WHERE name = ?", to.Failures, at, name).Error; err != nil {
			return nil, nil, err
		}
		return nil, nil, o.later(ctx, name, at)
	}
	pace := newPosting(to, o.Now())
	if wait := pace.wait(o.Now()); wait > longestPause {
		return nil, nil, o.later(ctx, name, *to.NotBefore)
	}
	var c store.Connection
	if err := o.Store.DB.WithContext(ctx).First(&c, "id = ?", to.Connection).Error; err != nil || c.Paused {
		return nil, nil, err
	}
	conn, letGo, err := o.line(&c)
	if err != nil {
		return nil, nil, err
	}
	sender, ok := conn.(connect.Sender)
	if !ok {
		letGo()
		return nil, nil, fmt.Errorf("nothing can be sent over %s, which is of the kind %s", c.ID, c.Kind)
	}
	if p, ok := conn.(connect.Pacer); ok {
		pace.most = p.PerMinute()
	}
	return &draught{Destination: to, connection: &c, sender: sender, pace: pace}, letGo, nil
}

// sendOne sends one post and writes down what came back. It gives false where the destination must be
// left alone for now.
func (o *Outbox) sendOne(ctx context.Context, d *draught, p *store.Post, ready func() (*connect.Post, error)) (bool, error) {
	if p.ExpiresAt != nil && o.Now().After(*p.ExpiresAt) {
		p.State, p.Answer = store.Expired, "it waited for longer than the sheet calls useful"
		if _, err := o.settle(ctx, p, d.Destination, settled{}); err != nil {
			return false, err
		}
		return true, o.expired(ctx, p)
	}
	if wait := d.pace.wait(o.Now()); wait > longestPause {
		return false, o.leave(ctx, d.Destination, o.Now().Add(wait))
	} else if wait > 0 {
		host.Wait(ctx, wait)
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
	}
	post, err := ready()
	if err != nil {
		return false, err
	}
	post.Place = d.To()
	out := sending{Post: *post, under: p.UnderRemote}
	if p.Updates != nil { // where the earlier post never got there, this one is a new one
		if out.replaces, err = o.Async.RemoteID(ctx, *p.Updates); err != nil {
			return false, err
		}
	}
	if p.Under != nil {
		if out.under, err = o.Async.RemoteID(ctx, *p.Under); err != nil {
			return false, err
		}
	}
	try, err := o.try(ctx, p, d, out)
	if err != nil {
		return false, err
	}
	if try.Instead != "" {
		if try.Instead == connect.InsteadReply {
			out.under = out.replaces
		}
		out.replaces, out.Key = "", p.Key+"-instead"
		o.Log.Info("an edit was refused; it is told anew", "post", p.ID, "destination", d.Name, "status", try.Status)
		if err := o.Async.EndTry(ctx, try.attempt()); err != nil {
			return false, err
		}
		if try, err = o.try(ctx, p, d, out); err != nil {
			return false, err
		}
	}
	return o.judge(ctx, p, d, try)
}

// tried is one try of a post and what came of it.
type tried struct {
	connect.Delivery
	id   int64 // of the attempt
	at   time.Time
	took time.Duration
	cut  bool // the job ended before the answer came
}

func (t *tried) attempt() store.Attempt {
	return store.Attempt{ID: t.id, At: t.at, TookMs: int(t.took.Milliseconds()), Status: t.Status, Address: links.Redact(t.Address), Sent: links.Redact(t.Sent), Answer: links.Redact(t.Raw)}
}

// try sends a post once. That it is tried is written down while the call is on its way: one that is cut off is known of.
func (o *Outbox) try(ctx context.Context, p *store.Post, d *draught, out sending) (*tried, error) {
	began := time.Now()
	t := &tried{at: o.Now()}
	written := make(chan error, 1)
	go func() {
		var err error
		t.id, err = o.Async.BeganTry(ctx, p.ID, t.at)
		written <- err
	}()
	call, span := otel.Tracer("dorfbote/engine").Start(ctx, "post", trace.WithAttributes(attribute.Int64("post", p.ID), attribute.Int64("arrival", p.Arrival), attribute.String("destination", d.Name)))
	call, cancel := context.WithTimeout(call, calling)
	t.Delivery = out.by(call, d.sender)
	cancel()
	span.SetAttributes(attribute.Int("http.response.status_code", t.Status))
	span.End()
	t.took = time.Since(began)
	o.berths.took(d.Connection, t.took, t.Status != 0 || t.Taken, time.Now())
	if err := <-written; err != nil {
		return nil, err // what became of the call is not known; the key makes trying again safe
	}
	p.Attempts++
	if ctx.Err() != nil && !t.Taken {
		t.cut, t.Final, t.Answer, t.Raw = true, false, cutOffWords, cutOffWords
	}
	return t, nil
}

// judge writes down what came of a try, and has done what follows from it. It gives false where the destination must be left alone
// for now.
func (o *Outbox) judge(ctx context.Context, p *store.Post, d *draught, t *tried) (bool, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), settling)
	defer cancel()
	now := o.Now()
	outcome := observe.Again
	switch {
	case t.Taken:
		outcome = observe.Taken
	case t.Final:
		outcome = observe.Refused
	}
	o.Meters.Posted(d.Connection, outcome, t.Status, t.took)
	p.Status, p.Answer = t.Status, links.Redact(t.Answer)
	attempt := t.attempt()
	done := settled{tried: &attempt}
	switch {
	case t.Taken:
		p.State, p.RemoteID, p.Link, p.SentAt = store.Sent, t.ID, t.Link, &now
		done.notBefore = d.pace.sent(d.Destination, now)
		o.Meters.Told(now.Sub(p.CreatedAt))
		came, err := o.settle(ctx, p, d.Destination, done)
		if err == nil && came.Follows {
			err = o.Jobs.Add(ctx, jobs.Follow{Arrival: p.Arrival, Workflow: p.Workflow})
		}
		return err == nil, err
	case t.Final && p.Trial: // whoever tries sees it at once, and the channel is not theirs to stop
		p.State = store.GivenUp
		_, err := o.settle(ctx, p, d.Destination, done)
		return true, err
	case t.Final:
		p.State, p.Aside = store.Refused, !t.Place
		if t.Place {
			done.reason = t.Answer
		} else {
			done.aside = asideWords(t.Answer)
		}
		came, err := o.settle(ctx, p, d.Destination, done)
		o.Log.Warn("post refused", "post", p.ID, "arrival", p.Arrival, "destination", d.Name, "status", t.Status, "paused", came.Paused)
		if err != nil {
			return false, err
		}
		return !came.Paused, o.tellOwner(ctx, p, d.Destination)
	case p.Attempts >= maxAttempts:
		p.State = store.GivenUp
		_, err := o.settle(ctx, p, d.Destination, done)
		return true, err
	}
	wait := max(t.Wait, host.Backoff(d.Failures))
	if t.Status == http.StatusTooManyRequests && t.Wait > 0 {
		wait = t.Wait
		d.pace.refused(d.Destination, now, wait)
	}
	at := now.Add(wait)
	done.notBefore = &at
	if _, err := o.settle(ctx, p, d.Destination, done); err != nil {
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

// leave lets a destination be until a time.
func (o *Outbox) leave(ctx context.Context, d *store.Destination, at time.Time) error {
	if err := o.Store.DB.WithContext(ctx).Exec("UPDATE destinations SET not_before = ? WHERE name = ?", at, d.Name).Error; err != nil {
		return err
	}
	return o.later(ctx, d.Name, at)
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

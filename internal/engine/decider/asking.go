package decider

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// questions names the posts of a question, and has them wait where it comes outside the opening hours.
func (de *Decider) questions(d *decided) {
	d.asking = &decide.Asking{Name: d.Ask, Known: d.Answers}
	withChoices(d.plan, d.Ask, d.Posts)
	for i := range d.Posts {
		d.asking.Asked = append(d.asking.Asked, d.Posts[i].To)
	}
	askRefs(d.seq, d.Ask, "p", d.Posts)
	d.first = d.Posts
	if _, waits := decide.Waits(d.plan, d.Posts, d.sc.Now); waits {
		d.Verdict, d.Posts = decide.Held, nil
		return
	}
	d.asking.Went = de.Now().UTC()
}

// DoesAnswer is what a button does that answers a question.
const DoesAnswer = "answer"

// withChoices gives the posts of a question a button for each of its choices.
func withChoices(p *sheet.Plan, name string, posts []decide.Post) {
	q := decide.PlanAskNamed(p, name)
	if q == nil {
		return
	}
	for i := range posts {
		doc := *posts[i].Doc
		for _, c := range q.Choices {
			doc.Buttons = append(slices.Clip(doc.Buttons), message.Button{Text: c.Text, Does: DoesAnswer, Ask: name, Choice: c.Name, Comment: c.Comment, Otherwise: c.Name == q.Otherwise})
		}
		posts[i].Doc = &doc
	}
}

func askRefs(seq int64, name, round string, posts []decide.Post) {
	for i := range posts {
		posts[i].Ref = fmt.Sprintf("%s-ask-%s-%s%d", outbox.Cause(seq), name, round, i)
	}
}

// writeAsk writes down a question that has been put.
func (de *Decider) writeAsk(ctx context.Context, tx *sql.Tx, d *decided) error {
	a := store.Ask{Workflow: d.live.ID, Arrival: d.seq, Version: d.live.Version, Name: d.Ask, PutAt: de.Now().UTC(), Asking: *d.asking}
	if all := decide.Gathered(d.plan, d.sc); all != nil {
		a.Recall = value.AppendJSON(nil, all)
	}
	if len(d.first) > 0 {
		a.Title = d.first[0].Doc.Title
	}
	if d.asking.Went.IsZero() {
		until, _ := decide.Waits(d.plan, d.first, d.sc.Now)
		a.DueAt = &until
	} else {
		dueNext(&a, decide.PlanAskNamed(d.plan, d.Ask))
	}
	entitled, err := de.entitled(ctx, a.Asking.Asked...)
	if err != nil {
		return err
	}
	return store.PutAsk(ctx, tx, &a, entitled)
}

// dueNext sets when a question that has gone is reminded of, or ends.
func dueNext(a *store.Ask, q *sheet.PlanAsk) {
	ends := a.Asking.Went.Add(q.Within)
	due := ends
	if a.EndsAt = &ends; a.Reminded < len(q.Remind) {
		if at := a.Asking.Went.Add(q.Remind[a.Reminded]); at.Before(ends) {
			due = at
		}
	}
	a.DueAt = &due
}

// ErrAsked is why an answer does not count, in words for who gave it.
type ErrAsked struct{ Words string }

func (e *ErrAsked) Error() string { return e.Words }

// AskDue puts questions that waited for opening hours, reminds of others, and ends those whose time is over.
func (de *Decider) AskDue(ctx context.Context) (more bool, err error) {
	list, err := de.Store.DueAsks(ctx, askedAtOnce)
	if err != nil {
		return false, err
	}
	of := map[int64][]int64{}
	for _, a := range list {
		of[a.Workflow] = append(of[a.Workflow], a.ID)
	}
	var failed []error
	for _, workflow := range slices.Sorted(maps.Keys(of)) {
		ids := of[workflow]
		err := de.asksDue(ctx, workflow, ids)
		if err != nil && ctx.Err() == nil { // one that fails holds up no other
			err = de.asksEach(ctx, workflow, ids)
		}
		failed = append(failed, err)
	}
	return len(list) == askedAtOnce, errors.Join(failed...)
}

// asksEach does one by one what could not be done in one go, and puts off what cannot be done at all.
func (de *Decider) asksEach(ctx context.Context, workflow int64, ids []int64) error {
	var failed []error
	for _, id := range ids {
		err := de.asksDue(ctx, workflow, []int64{id})
		if err == nil {
			continue
		}
		failed = append(failed, fmt.Errorf("question %d: %w", id, err))
		err = de.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error { return store.PutOffAsk(ctx, tx, id, soon) })
		if err != nil {
			return err
		}
	}
	return errors.Join(failed...)
}

// askedAtOnce is how many due questions are seen to in one go, and notYet after which time one is looked at again that cannot be
// gone on with, such as one of a sheet that cannot be run any more; soon where it failed.
const (
	askedAtOnce = 100
	notYet      = time.Hour
	soon        = time.Minute
)

// asksDue does what is due with some questions of a workflow, in one transaction. As with all that goes by the clock, nobody waits
// for the disk: what is lost with a crash is due again.
func (de *Decider) asksDue(ctx context.Context, workflow int64, ids []int64) error {
	return de.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := paceLock(ctx, tx, workflow); err != nil {
			return err
		}
		for _, id := range ids {
			err := de.openAsk(ctx, tx, id, func(c *asked) error { return de.askDue(ctx, tx, c) })
			if errors.As(err, new(*ErrAsked)) {
				err = store.PutOffAsk(ctx, tx, id, notYet)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Answer takes an answer to a question. The error is an [*ErrAsked] where it cannot count.
func (de *Decider) Answer(ctx context.Context, id int64, g decide.Given) error {
	return de.withAsk(ctx, id, func(tx *sql.Tx, c *asked) error {
		g.At = de.Now().UTC()
		answer, err := c.Asking.Take(c.question, g)
		if err != nil {
			return &ErrAsked{err.Error()}
		}
		words := g.Choice
		if choice := c.question.Choice(g.Choice); choice != nil {
			words = choice.Text
		}
		if g.Comment != "" {
			words += ": " + g.Comment
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: c.Workflow, Arrival: c.Arrival, What: store.ActAnswered, Name: c.Name, By: g.By, Words: words}); err != nil {
			return err
		}
		if err := store.GivenBy(ctx, tx, c.ID, g.Place); err != nil {
			return err
		}
		if answer == nil {
			return store.SetAsk(ctx, tx, &c.Ask)
		}
		return de.resume(ctx, tx, c, *answer)
	})
}

// HandOver has somebody else asked in the place of one who was. The question goes to them at once.
func (de *Decider) HandOver(ctx context.Context, id int64, from, to, by string) error {
	return de.withAsk(ctx, id, func(tx *sql.Tx, c *asked) error {
		if err := c.Asking.Exchange(from, to); err != nil {
			return &ErrAsked{err.Error()}
		}
		entitled, err := de.entitled(ctx, to)
		if err != nil {
			return err
		}
		if err := store.HandAsked(ctx, tx, c.ID, from, to, append([]string{}, entitled[to]...)); err != nil {
			return err
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: c.Workflow, Arrival: c.Arrival, What: store.ActHanded, Name: c.Name, By: by, Words: "from " + from + " to " + to}); err != nil {
			return err
		}
		if !c.Asking.Went.IsZero() {
			only := c.Asking
			only.Asked, only.Given = []string{to}, nil
			out := decide.Questions(c.plan, &only, c.sc)
			if len(out.Posts) == 0 {
				return &ErrAsked{out.Error}
			}
			withChoices(c.plan, c.Name, out.Posts)
			askRefs(c.Arrival, c.Name, fmt.Sprintf("h%d-", de.Now().UnixMilli()), out.Posts)
			if err := de.Outbox.Put(ctx, tx, outbox.Rows(c.Workflow, c.Arrival, de.Now().UTC(), out.Posts), true); err != nil {
				return err
			}
		}
		return store.SetAsk(ctx, tx, &c.Ask)
	})
}

// Withdraw takes a question back. Nothing is told of its arrival any more.
func (de *Decider) Withdraw(ctx context.Context, id int64, by string) error {
	return de.withAsk(ctx, id, func(tx *sql.Tx, c *asked) error {
		c.State, c.DueAt = store.AskWithdrawn, nil
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: c.Workflow, Arrival: c.Arrival, What: store.ActWithdrawn, Name: c.Name, By: by}); err != nil {
			return err
		}
		d := decided{seq: c.Arrival, live: c.live, Outcome: decide.Outcome{Verdict: decide.Dropped, DecidedBy: c.question.Path, Ask: c.Name}}
		if err := changeVerdict(ctx, tx, &d); err != nil {
			return err
		}
		return store.SetAsk(ctx, tx, &c.Ask)
	})
}

// asked is a question with all that deciding it needs.
type asked struct {
	store.Ask
	live     store.Live
	plan     *sheet.Plan
	question *sheet.PlanAsk
	arrival  *store.Arrival
	sc       *formula.Scope
}

// answeringMost is how many people's answers a process takes at the same time.
const answeringMost = 4

// few lets [answeringMost] in at a time.
type few struct {
	once   sync.Once
	places chan struct{}
}

func (f *few) enter(ctx context.Context) (leave func(), err error) {
	f.once.Do(func() { f.places = make(chan struct{}, answeringMost) })
	select {
	case f.places <- struct{}{}:
		return func() { <-f.places }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// withAsk does something with an open question, alone, in one transaction.
func (de *Decider) withAsk(ctx context.Context, id int64, do func(tx *sql.Tx, c *asked) error) error {
	workflow, err := de.Store.AskWorkflow(ctx, id)
	if err != nil {
		return err
	}
	// Whoever waits for the workflow's lock holds a connection. So what is read on the way is read over the same one, and few wait at
	// a time: were there as many as there are connections, the one who has the lock could not go on.
	leave, err := de.answering.enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	return de.Store.Within(ctx, func(ctx context.Context) error {
		tx := store.Current(ctx)
		if err := paceLock(ctx, tx, workflow); err != nil {
			return err
		}
		return de.openAsk(ctx, tx, id, func(c *asked) error { return do(tx, c) })
	})
}

// openAsk does something with an open question, in a transaction that has the lock of its workflow. What it is refused for, by an
// [*ErrAsked], it is before anything is written, as far as nobody answers.
func (de *Decider) openAsk(ctx context.Context, tx *sql.Tx, id int64, do func(c *asked) error) error {
	a, err := store.OpenAsk(ctx, tx, id)
	if err != nil {
		return err
	}
	if a.State != store.AskOpen {
		return &ErrAsked{a.Ended()}
	}
	c := &asked{Ask: *a}
	if err := de.readAsked(ctx, c); err != nil {
		return err
	}
	if err := do(c); err != nil {
		return err
	}
	return notify.In(ctx, tx, notify.Message{Topic: notify.Decided, Seq: c.Arrival})
}

func (de *Decider) readAsked(ctx context.Context, c *asked) error {
	w, err := de.Store.Workflow(ctx, c.Workflow)
	if err != nil {
		return err
	}
	c.live = store.Live{ID: w.ID, Name: w.Name, Version: c.Version, Source: w.Source, Form: w.Form}
	if c.plan, err = de.Workflows.PlanOf(ctx, c.live); err != nil {
		broken := &workflows.BrokenSheet{}
		if errors.As(err, &broken) {
			return &ErrAsked{"the sheet that asked this cannot be run any more: " + broken.Error()}
		}
		return err
	}
	if c.question = decide.PlanAskNamed(c.plan, c.Name); c.question == nil {
		return &ErrAsked{"the sheet has no such question any more"}
	}
	c.sc, c.arrival, err = de.scopeOf(ctx, c.Arrival)
	if err != nil {
		return err
	}
	if len(c.Recall) == 0 {
		return nil
	}
	v, err := value.ReadJSON(c.Recall)
	c.sc.Recall, _ = v.(map[string]any)
	return err
}

// scopeOf is what a sheet saw of an arrival.
func (de *Decider) scopeOf(ctx context.Context, seq int64) (*formula.Scope, *store.Arrival, error) {
	rows, err := de.Store.ArrivalsBySeq(ctx, []int64{seq})
	if err != nil {
		return nil, nil, err
	}
	if len(rows) == 0 {
		return nil, nil, &ErrAsked{"its arrival is not kept any more"}
	}
	a, err := rows[0].Core()
	if err != nil {
		return nil, nil, err
	}
	sc := decide.NewScope(a)
	sc.Reach = de.Sources.Reach(ctx, sources.AskAll)
	return sc, &rows[0], nil
}

// resume goes on with an arrival whose question has come to an answer, in the transaction that ends the question.
func (de *Decider) resume(ctx context.Context, tx *sql.Tx, c *asked, answer decide.Answered) error {
	c.State, c.DueAt, c.Answer = store.AskDecided, nil, &answer
	now := de.Now().UTC()
	c.DecidedAt = &now
	if err := store.SetAsk(ctx, tx, &c.Ask); err != nil {
		return err
	}
	d := decided{seq: c.Arrival, at: now, live: c.live, plan: c.plan, sc: c.sc, resumed: true}
	d.Outcome = decide.Resume(c.plan, c.sc, c.Asking.With(answer), now)
	return de.keepIn(ctx, tx, []decided{d}, true)
}

// askDue does what is due with a question.
func (de *Decider) askDue(ctx context.Context, tx *sql.Tx, c *asked) error {
	now := de.Now().UTC()
	if c.DueAt == nil || c.DueAt.After(now) {
		return nil
	}
	if c.EndsAt != nil && !now.Before(*c.EndsAt) {
		return de.resume(ctx, tx, c, c.Asking.Over(c.question))
	}
	out := decide.Questions(c.plan, &c.Asking, c.sc)
	if until, waits := decide.Waits(c.plan, out.Posts, now); waits {
		if c.EndsAt != nil && c.EndsAt.Before(until) { // only what is said waits for the hours
			until = *c.EndsAt
		}
		c.DueAt = &until
		return store.SetAsk(ctx, tx, &c.Ask)
	}
	round := "p"
	if c.Asking.Went.IsZero() {
		c.Asking.Went = now
		d := decided{seq: c.Arrival, live: c.live, Outcome: decide.Outcome{Verdict: decide.Asked, Ask: c.Name, Answers: c.Asking.Known}}
		if err := changeVerdict(ctx, tx, &d); err != nil {
			return err
		}
		if len(out.Posts) > 0 {
			c.Title = out.Posts[0].Doc.Title
		}
	} else {
		c.Reminded++
		round = fmt.Sprintf("r%d-", c.Reminded)
	}
	dueNext(&c.Ask, c.question)
	withChoices(c.plan, c.Name, out.Posts)
	askRefs(c.Arrival, c.Name, round, out.Posts)
	if err := de.Outbox.Put(ctx, tx, outbox.Rows(c.Workflow, c.Arrival, now, out.Posts), true); err != nil {
		return err
	}
	return store.SetAsk(ctx, tx, &c.Ask)
}

package rehearse

import (
	"fmt"
	"slices"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
)

// alert is an arrival of which something was told, or asked, as long as anything may still come of it.
type alert struct {
	line    Line // what its lines are called
	cause   string
	arrival *arrival.Arrival
	record  map[string]any // as it is by the clock
	removed bool
	posts   []decide.Post // as they were made
	told    bool
	late    bool   // told for new items of a list, beside posts that are kept up: nothing follows on that
	claimed string // by whom
	replied bool
	pressed map[string]string // buttons that can be pressed once, by their words and their place: by whom
	known   map[string]decide.Answered
	asking  *asking
	open    int // how many timers wait for it
}

// asking is a question of an alert.
type asking struct {
	decide.Asking
	recall map[string]any
}

func (al *alert) key() string { return al.arrival.Subject }

// name is what answers call the alert.
func (al *alert) name() string { return al.line.Arrival }

// scope is what an alert's sheet sees at a moment: the record as it is then, or as it was decided about.
func (m *Machine) scope(al *alert, record map[string]any, now time.Time) *formula.Scope {
	a := *al.arrival
	a.Record = record
	sc := decide.NewScope(&a)
	sc.Now, sc.Reach = now, m.reach()
	sc.Claimed, sc.Replied = al.claimed != "", al.replied
	return sc
}

// remember keeps an alert for as long as something waits for it, or an answer names it.
func (m *Machine) remember(al *alert) {
	if al.open == 0 && al.asking == nil && !m.named[al.name()] && m.waits[al.cause] != al {
		m.forget(al)
		return
	}
	m.alerts[al.name()], m.causes[al.cause] = al, al
	if k := al.key(); k != "" {
		if m.byKey[k] == nil {
			m.byKey[k] = map[*alert]bool{}
		}
		m.byKey[k][al] = true
	}
}

func (m *Machine) forget(al *alert) {
	delete(m.causes, al.cause)
	if m.alerts[al.name()] == al {
		delete(m.alerts, al.name())
	}
	if list := m.byKey[al.key()]; list != nil {
		if delete(list, al); len(list) == 0 {
			delete(m.byKey, al.key())
		}
	}
}

// see has an arrival change the records of the alerts that it belongs to.
func (m *Machine) see(a *arrival.Arrival) {
	if a.Source != m.plan.Source || a.Kind() == "tick" || a.Kind() == "start" {
		return
	}
	for al := range m.byKey[a.Subject] {
		if al.removed = a.Kind() == "removed"; a.Record != nil {
			al.record = a.Record
		}
	}
}

// at has something done for an alert at a moment.
func (m *Machine) at(al *alert, when time.Time, do func() error) {
	key := al.key()
	if key == "" {
		key = al.name()
	}
	al.open++
	when = when.UTC()
	m.push(&pending{Timer: decide.Timer{Key: key, At: when}, do: func() error {
		al.open--
		err := do()
		m.remember(al)
		return err
	}})
}

// conclude makes of an outcome what keeping up, the pace and questions make of it, and has what follows wait. following is true where an
// earlier post follows the record still.
func (m *Machine) conclude(al *alert, following bool, sc *formula.Scope, out decide.Outcome) decide.Outcome {
	made := out
	out, kept := decide.Conclude(m.plan, m.recall, following, al.cause, al.key(), sc, out)
	switch out.Verdict {
	case decide.Asked:
		m.put(al, sc, &out)
	case decide.Failed:
		if made.Unreached() { // an alert that nobody could be sent is escalated, too
			al.known = made.Answers
			m.count(al, sc.Now)
		}
	case decide.Told, decide.Held:
		al.known, al.posts = made.Answers, made.Posts
		m.keep(kept, sc.Record, al.line.Tick != "")
		m.begun(al, out, sc.Now)
	}
	m.remember(al)
	return out
}

// begun has what follows on an alert count from when the first of its posts went.
func (m *Machine) begun(al *alert, out decide.Outcome, now time.Time) {
	if len(m.steps) == 0 && !m.named[al.name()] {
		return
	}
	if len(out.Posts) == 0 {
		if out.Verdict == decide.Held {
			m.waits[al.cause] = al
		}
		return
	}
	m.count(al, now)
}

// count has what follows on an alert count from a moment.
func (m *Machine) count(al *alert, now time.Time) {
	if al.told = true; al.late {
		return
	}
	for _, n := range m.steps {
		due := now.Add(m.plan.Follow[n].Within).UTC()
		m.at(al, due, func() error { return m.escalate(al, n, due) })
	}
}

func (m *Machine) escalate(al *alert, n int, now time.Time) error {
	sc := m.scope(al, al.record, now)
	out, needed := decide.Escalate(m.plan, n, sc, al.known)
	if !needed {
		return nil
	}
	return m.quieted(al, fmt.Sprintf("f%d", n), now, out)
}

// quieted tells what obeys the hours and nothing else of the pace.
func (m *Machine) quieted(al *alert, name string, now time.Time, out decide.Outcome) error {
	held := m.recall.Ever()
	out = decide.Quieted(m.plan, m.recall, al.cause, name, now, out)
	if m.recall.Ever() > held && al.line.Tick != "" {
		m.ticks[al.cause] = al.line
	}
	line := al.line
	line.At, line.Outcome = now, out
	return m.emit(line)
}

// keep has posts follow their record.
func (m *Machine) keep(kept []decide.Kept, record map[string]any, tick bool) {
	for _, k := range kept {
		if tick {
			k.At = k.At.UTC()
		}
		m.kept[k.Key] = append(m.kept[k.Key], k)
		m.last[k.Key] = record
	}
}

// follow makes what is kept up of a record anew, after something has come of it.
func (m *Machine) follow(a *arrival.Arrival, kept []decide.Kept) decide.Followed {
	own := *a
	removed := a.Kind() == "removed"
	if own.Record == nil {
		if own.Record = a.Before; own.Record == nil {
			own.Record = m.last[a.Subject]
		}
	}
	sc := decide.NewScope(&own)
	sc.Reach = m.reach()
	var mem decide.Memory
	if m.plan.Pace != nil {
		mem = m.recall
	}
	out := decide.Follow(m.plan, mem, kept, a.ID, sc, removed)
	if left := slices.Concat(out.Left, m.kept[a.Subject]); len(left) == 0 {
		delete(m.last, a.Subject)
	} else {
		m.kept[a.Subject], m.last[a.Subject] = left, own.Record
	}
	return out
}

// fresh has people do something with what is told for new items of a list, while it is told of the others already.
func (m *Machine) fresh(al *alert, followed decide.Followed) {
	if len(followed.Fresh) == 0 {
		return
	}
	al.late = true
	al.posts = followed.Fresh
	if al.told = slices.ContainsFunc(followed.Posts, func(p decide.Post) bool { return p.Edits.IsZero() && p.UnderRef == "" }); !al.told {
		m.waits[al.cause] = al
	}
	m.remember(al)
}

// went notes how posts went that were held: a repetition may have changed them where they waited.
func (al *alert) went(posts []decide.Post) {
	al.posts = slices.Clone(al.posts)
	for i := range al.posts {
		if n := slices.IndexFunc(posts, func(p decide.Post) bool { return p.Ref == al.posts[i].Ref }); n >= 0 {
			al.posts[i].Doc = posts[n].Doc
		}
	}
}

// let notes of what is told at a moment of its own what it means for alerts, and for what is kept up.
func (m *Machine) let(later decide.Later) {
	if later.Step == "" {
		for _, cause := range later.Causes {
			if al := m.causes[cause]; al != nil {
				al.went(later.Posts)
			}
			if al := m.waits[cause]; al != nil {
				delete(m.waits, cause)
				m.begun(al, later.Outcome, later.At)
				m.remember(al)
			}
		}
	}
	if !m.keeps {
		return
	}
	gone := map[string]bool{}
	for _, ref := range later.Gone {
		gone[ref] = true
	}
	moved := map[string]bool{}
	for _, p := range later.Posts {
		moved[p.Ref] = true
	}
	for key, list := range m.kept {
		left := list[:0]
		for _, k := range list {
			if moved[k.Ref] {
				k.At = later.At.UTC()
			}
			if !gone[k.Ref] {
				left = append(left, k)
			}
		}
		if m.kept[key] = left; len(left) == 0 {
			delete(m.kept, key)
		}
	}
}

// put puts a question; outside the opening hours it waits for them.
func (m *Machine) put(al *alert, sc *formula.Scope, out *decide.Outcome) {
	q := &asking{recall: decide.Gathered(m.plan, sc)}
	q.Name, q.Known = out.Ask, out.Answers
	for _, p := range out.Posts {
		q.Asked = append(q.Asked, p.To)
	}
	al.asking = q
	if until, waits := decide.Waits(m.plan, out.Posts, sc.Now); waits {
		out.Verdict, out.Posts = decide.Held, nil
		m.at(al, until, func() error { return m.goes(al, q, until, decide.Released) })
		return
	}
	m.went(al, q, sc.Now)
}

// went has a question wait for its answers.
func (m *Machine) went(al *alert, q *asking, now time.Time) {
	q.Went = now
	plan := decide.PlanAskNamed(m.plan, q.Name)
	for _, d := range plan.Remind {
		if at := now.Add(d).UTC(); d < plan.Within {
			m.at(al, at, func() error { return m.goes(al, q, at, decide.Asked) })
		}
	}
	end := now.Add(plan.Within).UTC()
	m.at(al, end, func() error {
		if al.asking != q {
			return nil
		}
		return m.decided(al, q, q.Over(plan), end)
	})
}

// goes tells a question that had to wait, or a reminder of one.
func (m *Machine) goes(al *alert, q *asking, now time.Time, as decide.Verdict) error {
	if al.asking != q {
		return nil
	}
	out := decide.Questions(m.plan, &q.Asking, m.asked(al, q))
	if until, waits := decide.Waits(m.plan, out.Posts, now); waits {
		m.at(al, until, func() error { return m.goes(al, q, until, as) })
		return nil
	}
	if out.Verdict == decide.Asked {
		out.Verdict = as
	}
	if q.Went.IsZero() {
		m.went(al, q, now)
	}
	line := al.line
	line.At, line.Outcome = now, out
	return m.emit(line)
}

// asked is the scope of what was asked about, as it was then.
func (m *Machine) asked(al *alert, q *asking) *formula.Scope {
	sc := m.scope(al, al.arrival.Record, al.arrival.Time)
	sc.Recall = q.recall
	return sc
}

// decided goes on with an alert whose question has come to an answer.
func (m *Machine) decided(al *alert, q *asking, answer decide.Answered, now time.Time) error {
	al.asking = nil
	sc := m.asked(al, q)
	out := m.conclude(al, decide.Following(m.kept[al.key()], now), sc, decide.Resume(m.plan, sc, q.With(answer), now))
	if err := m.emitLater(out.Releases); err != nil {
		return err
	}
	line := al.line
	line.At, line.Outcome = now, out
	return m.emit(line)
}

// later tells posts of an alert again, if nobody took it meanwhile.
func (m *Machine) later(al *alert, posts []decide.Post, b message.Button, now time.Time) error {
	sc := m.scope(al, al.record, now)
	posts = decide.Again(m.plan, posts, b.Text, sc, al.removed)
	if len(posts) == 0 {
		return nil
	}
	delete(al.pressed, pressing(b, posts[0].To)) // on what is told now it can be pressed again
	return m.quieted(al, fmt.Sprintf("later%d", now.UnixMilli()), now, decide.Outcome{Verdict: decide.Told, Posts: posts})
}

package rehearse

import (
	"container/heap"
	"maps"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Machine runs one plan over arrivals, given in the order of time, with a virtual clock. Between arrivals it lets
// the timers fire that have come due. Its memory is that of the open timers and their records.
type Machine struct {
	plan   *sheet.Plan
	skip   decide.Skip
	given  decide.Skip               // the days that are left out whatever comes
	events map[string]map[string]any // of the source whose days are left out
	emit   func(Line) error
	timers map[string]*pending
	queue  queue
	began  bool
	states *States
	out    formula.Outside
	people *people.Book
	counts *decide.Counts
	recall *decide.Recall
	pasts  *pasts
	ticks  map[string]Line // of ticks whose posts are held: what their lines are called
	order  int             // of timers, so that those of one moment and key come as they were set

	// What comes after an alert. Of all of it, only what something waits for, or an answer names, is kept.
	steps   []int // the entries of Follow that tell where nothing was done in time
	keeps   bool  // posts follow their records
	alerts  map[string]*alert
	byKey   map[string]map[*alert]bool
	waits   map[string]*alert // by causes: nothing has gone yet
	causes  map[string]*alert // by causes
	kept    map[string][]decide.Kept
	last    map[string]map[string]any // records of what is kept up
	answers []Answer
	named   map[string]bool // by answers
	refused func(Answer, error)
}

// pending is an open or spent timer with its record as it last was.
type pending struct {
	decide.Timer
	record map[string]any
	index  int // in the queue; -1 where it is not
	order  int
	do     func() error // what is done for an alert at this moment; nil for what starts the workflow
}

// NewMachine makes a machine whose clock has not begun. skip leaves days out of a schedule, and may be nil.
func NewMachine(p *sheet.Plan, skip decide.Skip, emit func(Line) error) *Machine {
	return &Machine{plan: p, skip: skip, given: skip, emit: emit, timers: map[string]*pending{}, states: NewStates(p.Lookups()), recall: decide.NewRecall(), pasts: newPasts(p), ticks: map[string]Line{},
		steps: p.Escalations(), keeps: p.KeepsUp(), alerts: map[string]*alert{}, byKey: map[string]map[*alert]bool{}, waits: map[string]*alert{}, causes: map[string]*alert{},
		kept: map[string][]decide.Kept{}, last: map[string]map[string]any{}, named: map[string]bool{}}
}

// Leave hands in the calendar events, by their keys, of the source whose days a schedule leaves out; its arrivals change them.
func (m *Machine) Leave(events map[string]map[string]any) {
	m.events = maps.Clone(events)
	m.leftOut()
}

// leaves notes a calendar event that came: its days are left out from now on, or no longer.
func (m *Machine) leaves(a *arrival.Arrival) {
	if m.plan.Trigger.Except == "" || a.Source != m.plan.Trigger.Except || a.Subject == "" {
		return
	}
	if m.events == nil {
		m.events = map[string]map[string]any{}
	}
	if delete(m.events, a.Subject); a.Kind() != "removed" && a.Record != nil {
		m.events[a.Subject] = a.Record
	}
	m.leftOut()
	m.change(decide.NextMoment(m.plan, a.Time, m.skip), nil) // the next one may be left out now, or one before it no longer
}

func (m *Machine) leftOut() {
	list := make([]map[string]any, 0, len(m.events))
	for _, e := range m.events {
		list = append(list, e)
	}
	own, given := decide.DaysOff(list, m.plan.Terms.Workspace.Location()), m.given
	m.skip = func(day time.Time) bool { return own != nil && own(day) || given != nil && given(day) }
}

// Before hands in what gives the past of records, for a clock that begins in the middle of it.
func (m *Machine) Before(e Earlier) { m.pasts.earlier = e }

// Past hands in what knows the past of records, in the place of what the clock has seen.
func (m *Machine) Past(took func(formula.Arrival, time.Time, string, value.Type, value.Workspace) ([]formula.Took, error)) {
	m.pasts.fields, m.pasts.known = nil, took
}

// Know hands in what is known of other records before the clock begins; the arrivals of their sources change it.
func (m *Machine) Know(s *States) { m.states = s }

// Outside hands in what runs scripts and asks services.
func (m *Machine) Outside(out formula.Outside) { m.out = out }

// People hands in the people book.
func (m *Machine) People(book *people.Book) { m.people = book }

// Count has the machine count what each line of the sheet lets through.
func (m *Machine) Count(c *decide.Counts) { m.counts = c }

// Begin starts the clock, from which on silence counts and the calendar is looked at.
func (m *Machine) Begin(at time.Time) {
	if m.began {
		return
	}
	m.began = true
	switch m.plan.Trigger.Form {
	case sheet.Silent:
		m.change(decide.Listen(m.plan, at), nil)
	case sheet.Schedule:
		m.change(decide.NextMoment(m.plan, at.Add(-time.Nanosecond), m.skip), nil)
	}
}

// Take hands in the next arrival. What comes due before it, fires before it; what comes due at its very moment,
// fires after it, since the record is as it is when the moment comes.
func (m *Machine) Take(a *arrival.Arrival) error {
	m.Begin(a.Time)
	if err := m.Advance(a.Time.Add(-time.Nanosecond)); err != nil {
		return err
	}
	if err := m.letGo(a.Time); err != nil {
		return err
	}
	m.states.See(a)
	if err := m.pasts.see(a); err != nil {
		return err
	}
	m.leaves(a)
	m.see(a)
	if m.plan.Timed() && a.Source == m.plan.Source {
		key := a.Subject
		if m.plan.Trigger.Form == sheet.Silent {
			key = ""
		}
		held := m.timers[key]
		var before *decide.Timer
		if held != nil {
			before = &held.Timer
			held.record = a.Record
		}
		m.change(decide.Seen(m.plan, a, before, time.Time{}), a.Record)
	}
	line := m.one(a, Line{Arrival: a.ID})
	if err := m.emitLater(line.Releases); err != nil {
		return err
	}
	return m.emit(line)
}

// one decides one arrival, and has the pace say what becomes of it. name is what its line is called.
func (m *Machine) one(a *arrival.Arrival, name Line) Line {
	sc := decide.NewScope(a)
	sc.Reach = m.reach()
	out := decide.Decide(m.plan, sc)
	if m.counts != nil {
		m.counts.See(m.plan, sc)
	}
	kept := m.kept[a.Subject]
	delete(m.kept, a.Subject) // they come back as far as they are left, before what is kept up from now on
	following := decide.Following(kept, a.Time)
	line := name
	line.At = a.Time
	al := &alert{line: name, cause: a.ID, arrival: a, record: a.Record}
	if line.Outcome = out; out.Verdict == decide.Told || out.Verdict == decide.Asked {
		line.Outcome = m.conclude(al, following, sc, out)
	}
	if len(kept) > 0 && a.Subject != "" {
		followed := m.follow(a, kept)
		line.Posts = followed.After(line.Posts)
		line.Failures = append(line.Failures, followed.Failures...)
		m.fresh(al, followed)
	}
	return line
}

// reach is what sheets get at beyond the arrival.
func (m *Machine) reach() formula.Reach {
	return formula.Reach{Find: m.states.Find, Outside: m.out, People: m.people, Took: m.pasts.took}
}

// Advance moves the clock on, one moment after the other, up to one: what was held goes, people do what they do, and timers fire, each
// at its moment. At one and the same moment it is in this order.
func (m *Machine) Advance(to time.Time) error {
	for {
		at := to
		var next func() error
		if len(m.queue) > 0 && !m.queue[0].At.After(at) {
			at, next = m.queue[0].At, func() error { return m.fire(m.queue[0]) }
		}
		if len(m.answers) > 0 && !m.answers[0].At.After(at) {
			at, next = m.answers[0].At, m.takeNext
		}
		if due, held := m.recall.NextDue(); held && !due.After(at) {
			next = func() error { return m.letGo(due) }
		}
		if next == nil {
			return nil
		}
		if err := next(); err != nil {
			return err
		}
	}
}

// takeNext takes what somebody does next.
func (m *Machine) takeNext() error {
	a := m.answers[0]
	m.answers = m.answers[1:]
	return m.take(a)
}

// letGo tells what has been held for long enough.
func (m *Machine) letGo(upTo time.Time) error {
	if m.plan.Pace == nil {
		return nil
	}
	return m.emitLater(decide.LetGo(m.plan, m.recall, upTo))
}

// emitLater hands on what is told at a moment of its own.
func (m *Machine) emitLater(list []decide.Later) error {
	for _, later := range list {
		m.let(later)
		line := Line{At: later.At, Arrivals: later.Causes, Arrival: later.Causes[0], Outcome: later.Outcome, Later: true}
		if t, ok := m.ticks[line.Arrival]; ok {
			line.Arrival, line.Tick = t.Arrival, t.Tick
		}
		for _, cause := range later.Causes {
			delete(m.ticks, cause)
		}
		if err := m.emit(line); err != nil {
			return err
		}
	}
	return nil
}

// Finish lets fire what waits for single records, however far ahead. The calendar, and silence, would go on for
// ever; they end with the last arrival.
func (m *Machine) Finish() error {
	switch m.plan.Trigger.Form {
	case sheet.Silent, sheet.Schedule:
		for _, t := range m.timers {
			if t.index >= 0 {
				heap.Remove(&m.queue, t.index)
			}
		}
	}
	for {
		at, due := m.recall.NextDue()
		if len(m.queue) > 0 && (!due || m.queue[0].At.Before(at)) {
			at, due = m.queue[0].At, true
		}
		if len(m.answers) > 0 && (!due || m.answers[0].At.Before(at)) {
			at, due = m.answers[0].At, true
		}
		if !due {
			return nil
		}
		if err := m.Advance(at); err != nil {
			return err
		}
	}
}

func (m *Machine) fire(t *pending) error {
	if t.do != nil {
		heap.Pop(&m.queue)
		return t.do()
	}
	tick, change := decide.Fire(m.plan, t.Timer, t.record, m.skip)
	m.change(change, t.record)
	if tick == nil {
		return nil
	}
	held := m.recall.Ever()
	line := m.one(tick, Line{Arrival: t.Key, Tick: decide.Tick(m.plan)})
	if m.recall.Ever() > held {
		m.ticks[tick.ID] = Line{Arrival: line.Arrival, Tick: line.Tick}
	}
	if err := m.emitLater(line.Releases); err != nil {
		return err
	}
	return m.emit(line)
}

func (m *Machine) change(c *decide.TimerChange, record map[string]any) {
	if c == nil {
		return
	}
	t := m.timers[c.Key]
	if t == nil {
		t = &pending{index: -1}
	}
	if t.index >= 0 {
		heap.Remove(&m.queue, t.index)
	}
	if c.Gone {
		delete(m.timers, c.Key)
		return
	}
	t.Timer, t.record = c.Timer, record
	m.timers[c.Key] = t
	if !c.Spent {
		m.push(t)
	}
}

func (m *Machine) push(t *pending) {
	m.order++
	t.order = m.order
	heap.Push(&m.queue, t)
}

// queue orders open timers by their moments, and those of one moment by their keys.
type queue []*pending

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	if !q[i].At.Equal(q[j].At) {
		return q[i].At.Before(q[j].At)
	}
	if q[i].Key != q[j].Key {
		return q[i].Key < q[j].Key
	}
	return q[i].order < q[j].order
}
func (q queue) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].index, q[j].index = i, j
}
func (q *queue) Push(x any) {
	t := x.(*pending)
	t.index = len(*q)
	*q = append(*q, t)
}
func (q *queue) Pop() any {
	old := *q
	t := old[len(old)-1]
	*q = old[:len(old)-1]
	t.index = -1
	return t
}

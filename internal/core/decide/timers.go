package decide

import (
	"fmt"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Timer is a moment at which a workflow will start: for one record, or, with an empty key, for itself. A spent
// timer has started what it was for and stands only so that the same stretch does not start it again.
type Timer struct {
	Key   string
	At    time.Time
	Spent bool
}

// TimerChange sets a timer, or takes it away where Gone is true.
type TimerChange struct {
	Timer
	Gone bool
}

// Seen tells what an arrival of the workflow's source does to its timers. held is the timer of the arrival's
// record as it stands, nil where there is none; of a silence, it is the one timer there is. What had passed before
// since, when the workflow was switched on, sets none.
func Seen(p *sheet.Plan, a *arrival.Arrival, held *Timer, since time.Time) *TimerChange {
	if !p.Timed() || a.Source != p.Source || a.Kind() == "tick" || a.Kind() == "start" {
		return nil
	}
	t := &p.Trigger
	gone := &TimerChange{Timer: Timer{Key: a.Subject}, Gone: true}
	if held == nil {
		gone = nil
	}
	switch t.Form {
	case sheet.Silent:
		return Listen(p, a.Time)
	case sheet.Due:
		if a.Kind() == "removed" {
			return gone
		}
		at, end, ok := moment(p, a.Record)
		switch {
		case !ok:
			return gone
		case held != nil && held.At.Equal(at):
			return nil
		case !at.Before(a.Time):
			return &TimerChange{Timer: Timer{Key: a.Subject, At: at}}
		case knew(p, a, at, held):
			return nil
		case missed(p, a, at, end, since) != "":
			return gone
		}
		return &TimerChange{Timer: Timer{Key: a.Subject, At: a.Time}} // at once
	case sheet.Lasts:
		if a.Kind() == "removed" || t.That.Eval(NewScope(a)) != cond.True {
			return gone
		}
		if held == nil {
			return &TimerChange{Timer: Timer{Key: a.Subject, At: a.Time.Add(t.For)}}
		}
	}
	return nil
}

// knew tells whether a moment that has passed was known before the arrival, and so had its turn.
func knew(p *sheet.Plan, a *arrival.Arrival, at time.Time, held *Timer) bool {
	if a.Before != nil {
		was, _, ok := moment(p, a.Before)
		return ok && was.Equal(at)
	}
	return held != nil && held.Spent && !held.At.Before(at)
}

// missed says why a moment that has passed starts nothing; nothing where it does start, at once.
func missed(p *sheet.Plan, a *arrival.Arrival, at, end, since time.Time) string {
	switch when := momentWords(p, at); {
	case end.Before(since):
		return fmt.Sprintf("its moment, %s, had passed before the workflow was switched on", when)
	case a.Time.After(end.Add(p.Trigger.Late)):
		return fmt.Sprintf("its moment, %s, had passed by more than %s when it became known", when, value.Words(p.Trigger.Late))
	}
	return ""
}

// momentWords writes a moment for a person.
func momentWords(p *sheet.Plan, at time.Time) string {
	return at.In(p.Terms.Workspace.Location()).Format("2 Jan 2006 15:04 MST")
}

// WaitsFor says what an arrival does to the timers of a workflow that it does not start itself: for a person who asks why.
func WaitsFor(p *sheet.Plan, a *arrival.Arrival, since time.Time) string {
	if p.Trigger.Form != sheet.Due || a.Kind() == "removed" {
		return "it is started by a timer, which arrivals only set"
	}
	at, end, ok := moment(p, a.Record)
	words := momentWords(p, at)
	switch {
	case !ok:
		return fmt.Sprintf("the record has no moment in %s, so there is nothing to wait for", p.Trigger.Field)
	case !at.Before(a.Time):
		return "it starts when its moment comes, " + words
	case knew(p, a, at, nil):
		return fmt.Sprintf("its moment, %s, had passed and was known before", words)
	}
	if why := missed(p, a, at, end, since); why != "" {
		return why
	}
	return fmt.Sprintf("its moment, %s, had just passed, so it starts at once", words)
}

// moment is when a record's field falls due, with the offset, and when that has passed: at once, but a day without a
// time only when it ends.
func moment(p *sheet.Plan, record map[string]any) (at, end time.Time, ok bool) {
	t, zone := &p.Trigger, p.Terms.Workspace.Location()
	v, _ := t.Field.Get(record)
	text, _ := v.(string)
	at, day, ok := value.ReadMoment(text, zone)
	if !ok {
		return at, at, false
	}
	at = at.Truncate(time.Microsecond) // as finely as timers are kept
	const whole = 24 * time.Hour
	offset := t.Offset
	if day || t.Day { // "three days before" a day means midnight, whatever the clocks did meanwhile
		at, offset = days(at, zone, int(offset/whole)), offset%whole
	}
	end = at
	if day {
		end = days(at, zone, 1)
	}
	return at.Add(offset), end.Add(offset), true
}

// days moves a moment by days of the calendar.
func days(at time.Time, zone *time.Location, n int) time.Time {
	return calendar.InZone(calendar.Wall(at.In(zone)).AddDate(0, 0, n), zone)
}

// Listen begins to wait for a silence, from a moment at which something was heard, or waiting began.
func Listen(p *sheet.Plan, from time.Time) *TimerChange {
	at, ok := p.Trigger.Open.After(from, p.Trigger.For)
	return &TimerChange{Timer: Timer{At: at}, Gone: !ok}
}

// Skip tells which days of a calendar are left out of a schedule; nil leaves out none.
type Skip func(day time.Time) bool

// NextMoment gives the timer for a schedule's first moment after another. It is gone where there is none.
func NextMoment(p *sheet.Plan, after time.Time, skip Skip) *TimerChange {
	at, err := p.Trigger.Moments.Next(after, skip)
	return &TimerChange{Timer: Timer{At: at}, Gone: err != nil}
}

// Fire gives the tick that a timer causes when its moment has come, and what becomes of the timer. record is the
// timer's record as it is now, nil where it is gone. The tick is nil where the record does not call for it.
func Fire(p *sheet.Plan, t Timer, record map[string]any, skip Skip) (*arrival.Arrival, *TimerChange) {
	tick := &arrival.Arrival{
		ID: fmt.Sprintf("%s-%s-%d", p.Trigger.Form, t.Key, t.At.UnixMilli()), Source: p.TickSource(), Type: arrival.Tick,
		Time: t.At, Subject: t.Key, Record: record, Before: record,
	}
	gone := &TimerChange{Timer: Timer{Key: t.Key}, Gone: true}
	spent := &TimerChange{Timer: Timer{Key: t.Key, At: t.At, Spent: true}}
	switch p.Trigger.Form {
	case sheet.Schedule:
		return tick, NextMoment(p, t.At, skip)
	case sheet.Silent:
		return tick, spent
	case sheet.Lasts:
		if record == nil || p.Trigger.That.Eval(NewScope(tick)) != cond.True {
			return nil, gone
		}
		return tick, spent
	}
	at, end, ok := moment(p, record)
	if record == nil || !ok || at.After(t.At) || at.Before(t.At) && t.At.After(end.Add(p.Trigger.Late)) {
		return nil, gone
	}
	return tick, spent
}

// Tick names what a timer of the plan is caused by: due, lasts, silent or schedule.
func Tick(p *sheet.Plan) string {
	if p.Timed() {
		return p.Trigger.Form
	}
	return ""
}

// Occasion makes of an arrival of the source what would start the workflow with that arrival's record: the arrival
// itself, the tick of a timer, or a start by hand without answers. Where the workflow is started without a record,
// the arrival may be nil, and now is the moment. It is what the proof of such a sheet looks at.
func Occasion(p *sheet.Plan, a *arrival.Arrival, now time.Time) *arrival.Arrival {
	form := p.Trigger.Form
	if form == "" || a != nil && (a.Kind() == "tick" || a.Kind() == "start") {
		return a
	}
	out := &arrival.Arrival{ID: "proof", Source: p.TickSource(), Type: arrival.Tick, Time: now}
	if a != nil {
		out.ID, out.Source, out.Subject, out.Record, out.Before, out.Time = a.ID, a.Source, a.Subject, a.Record, a.Record, a.Time
	}
	switch form {
	case sheet.Due:
		if at, _, ok := moment(p, out.Record); ok {
			out.Time = at
		}
	case sheet.Lasts:
		out.Time = out.Time.Add(p.Trigger.For)
	case sheet.Silent:
		out.Subject, out.Record, out.Before = "", nil, nil
		if c := Listen(p, out.Time); !c.Gone {
			out.Time = c.At
		}
	case sheet.Schedule:
		out = &arrival.Arrival{ID: "proof", Source: p.TickSource(), Type: arrival.Tick, Time: now}
		if last, ok := p.Trigger.Moments.Last(now, nil); ok {
			out.Time = last
		}
	case sheet.Start, sheet.Called:
		out.Type, out.Answers, out.By = arrival.Start, sampleAnswers(p), "(whoever starts it)"
		if p.Source == "" {
			out.Source = "dorfbote/" + form
		}
	}
	return out
}

// sampleAnswers answers every question with something of its type, for the proof.
func sampleAnswers(p *sheet.Plan) map[string]any {
	out := map[string]any{}
	for _, q := range p.Trigger.Ask {
		switch q.Type {
		case value.Num, value.Money, sheet.WholeNumber:
			out[q.Name] = 1.0
		case value.YesNo:
			out[q.Name] = true
		case value.Date:
			out[q.Name] = "2026-11-20"
		case value.Moment:
			out[q.Name] = "2026-11-20T07:00:00Z"
		case value.Span:
			out[q.Name] = "1h"
		case value.Choice:
			out[q.Name] = q.Options[0]
		case value.Choices:
			out[q.Name] = []any{q.Options[0]}
		default:
			out[q.Name] = "(" + q.Label + ")"
		}
	}
	return out
}

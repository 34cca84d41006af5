package sheet

import (
	"fmt"
	"slices"
	"time"

	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Trigger is a form of Watch other than a change, made ready to run.
type Trigger struct {
	Form    string
	Field   value.Path    // due
	Offset  time.Duration // due
	Late    time.Duration // due: by how much a moment may have passed when it becomes known, and still starts
	Day     bool          // due: the field holds days, so whole days of the offset are days of the calendar
	That    cond.Node     // lasts
	For     time.Duration // lasts, silent
	Open    calendar.Hours
	Moments *calendar.Schedule
	Except  string // schedule: the source whose days are left out
	Missed  string // schedule: once or skip
	Ask     []Question
	Confirm string
}

// Timed tells whether the workflow is started by a timer, so that arrivals only set or stop timers.
func (p *Plan) Timed() bool {
	switch p.Trigger.Form {
	case Due, Lasts, Silent, Schedule:
		return true
	}
	return false
}

// AsksFor tells whether the workflow is started by a person or by a call.
func (p *Plan) AsksFor() bool { return p.Trigger.Form == Start || p.Trigger.Form == Called }

// trigger compiles what starts the workflow, and sets the words that the rest of the sheet may use.
func (s *Sheet) trigger(p *Plan, known Known, problems *report.List) {
	w, t := &s.Watch, &p.Trigger
	t.Form, t.Offset, t.For, t.Ask, t.Confirm = w.Form, w.Offset, w.For, w.Ask, w.Confirm
	if t.Late = w.Late; t.Late == 0 {
		t.Late = 24 * time.Hour
	}
	t.Open = calendar.Hours{Zone: known.Workspace.Location(), Spans: w.Open}
	switch w.Form {
	case Due:
		t.Field = value.ParsePath(w.Field.S)
		f, many, ok := p.Terms.Schema.Find(t.Field)
		switch {
		case w.Field.S == "":
		case !ok && p.Terms.Schema != nil:
			knows(problems, p.Terms.Schema, w.Field, w.Field.S, "", "watch.due.field")
		case many:
			problems.Add(w.Field.At, "watch.due.field", "", "%s goes through a list, so there is no one moment", w.Field.S)
		case ok && f.Type != value.Any && !f.Type.IsTime():
			problems.Add(w.Field.At, "watch.due.field", "", "%s is a %s field; due needs a date or a moment", w.Field.S, f.Type)
		}
		t.Day = f.Type == value.Date
	case Lasts:
		if w.That != nil {
			t.That = cond.Compile(w.That, p.Terms, "watch.lasts.that", problems)
		}
	case Silent:
		if _, ok := t.Open.NextOpen(time.Unix(0, 0)); !ok {
			problems.Add(w.At, "watch.silent.open", "", "these hours never open, so no silence would ever be noticed")
		}
	case Schedule:
		s.moments(p, known, problems)
	case Start, Called:
		p.Terms.Answers = answerFields(w.Ask)
		p.Terms.AnswersKnown = true
	}
	if k := p.Terms.Schema; w.Command != "" && k != nil {
		own := *k
		own.Fields = append(slices.Clip(own.Fields), value.Field{Name: "words", Label: "Words behind the command", Type: value.List})
		p.Terms.Schema = &own
	}
	switch w.Form {
	case Silent, Schedule, Called:
		p.Terms.Schema = &value.Schema{Title: "nothing"} // there is no record
	case Start:
		if p.Source == "" {
			p.Terms.Schema = &value.Schema{Title: "nothing"}
		}
	}
}

func answerFields(ask []Question) []value.Field {
	out := make([]value.Field, len(ask))
	for i, q := range ask {
		out[i] = value.Field{Name: q.Name, Label: q.Label, Type: q.Type, Options: q.Options}
		if q.Type == WholeNumber {
			out[i].Type, out[i].Whole = value.Num, true
		}
	}
	return out
}

// moments compiles a schedule.
func (s *Sheet) moments(p *Plan, known Known, problems *report.List) {
	spec, t := &s.Watch.Schedule, &p.Trigger
	t.Except, t.Missed = spec.Except.S, spec.Missed
	if known.Sources != nil && t.Except != "" {
		mustKnow(problems, spec.Except, "watch.schedule.except", known.Sources(), "there is no source %s")
	}
	moments, where, err := spec.Compile(known.Workspace.Location())
	if err != nil {
		problems.Add(where.At, "watch.schedule", suggestPart(err), "%s", fault.Plainly(err))
		return
	}
	t.Moments = moments
}

// Compile makes a schedule ready to use; where there is no zone, home is taken. The error comes with the text
// that is wrong.
func (s *ScheduleSpec) Compile(home *time.Location) (*calendar.Schedule, report.Text, error) {
	zone := home
	if s.Zone.S != "" {
		z, err := time.LoadLocation(s.Zone.S)
		if err != nil || s.Zone.S == "Local" {
			return nil, s.Zone, fmt.Errorf("%q is not a time zone; write an IANA name such as Europe/Zurich", s.Zone.S)
		}
		zone = z
	}
	if s.Cron.S != "" {
		m, err := calendar.ByCron(s.Cron.S, zone)
		return m, s.Cron, err
	}
	if s.Rule.S == "" || s.Start.S == "" {
		return nil, s.Rule, nil // said while reading
	}
	wall, ok := wallTime(s.Start.S, zone)
	if !ok {
		return nil, s.Start, fmt.Errorf("%q is not a point in time; write it like 2026-11-03T07:00", s.Start.S)
	}
	m, err := calendar.ByRule(wall, s.Rule.S, zone)
	return m, s.Rule, err
}

// wallTime reads what the clock of a zone shows, as if it were UTC. A time that the zone's clock never shows stays as it
// is written: it is the rule's, for all its moments.
func wallTime(text string, zone *time.Location) (time.Time, bool) {
	for _, form := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", "2006-01-02 15:04", "2006-01-02 15:04:05", time.DateOnly} {
		if wall, err := time.Parse(form, text); err == nil {
			return wall, true
		}
	}
	at, _, ok := value.ReadMoment(text, zone)
	return calendar.Wall(at.In(zone)), ok
}

func suggestPart(err error) string {
	if e, ok := fault.Of(err); ok {
		if near := value.Nearest(e.Place, calendar.RuleParts()); near != e.Place {
			return near
		}
	}
	return ""
}

// TickSource is the source of the ticks that the plan's timers cause: that of the records, or the calendar.
func (p *Plan) TickSource() string {
	if p.Source == "" {
		return "dorfbote/calendar"
	}
	return p.Source
}

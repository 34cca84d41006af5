package sentence

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/core/value"
)

// inValue tells whether some tokens are part of a text that a field of the records can have: that is meant before a word
// of the grammar.
func (r *reader) inValue(from, to int) bool {
	for _, f := range r.from.Fields {
		for _, v := range append(append([]string{}, f.Options...), f.Values...) {
			n := len(strings.Fields(v))
			for at := max(0, to-n); at <= from && at+n <= len(r.tokens); at++ {
				if r.phrase(at, at+n) == value.Fold(v) {
					return true
				}
			}
		}
	}
	return false
}

// new reads that only records that are new are meant.
func (r *reader) new(from, to int) {
	for i := from; i+1 < to; i++ {
		if contains(r.g.New, r.tokens[i].low) && r.free(i, i+1) && r.tokens[i+1].as == AsSource {
			r.mark(i, i+1, AsOperator, "a record that is new")
			r.draft.created = true
		}
	}
	if r.says(from, to, r.g.Arrives...) {
		r.draft.created = true
	}
}

// due reads "due", "past due", "overdue" and "past" a field of time. What is a value of the records is left to the
// conditions.
func (r *reader) due(from, to int) {
	for i := from; i < to; i++ {
		for _, p := range r.g.DueWays {
			n := len(strings.Fields(p))
			if i+n > to || !r.free(i, i+n) || r.phrase(i, i+n) != p || r.inValue(i, i+n) || r.draft.due != nil {
				continue
			}
			if contains(r.g.Past, p) {
				if field, skip, w := r.timeField(i+1, to); field != "" {
					r.draft.due = &dueAt{field, r.passed(field)}
					r.mark(i, i+1, AsTime, "when "+field+" has passed")
					r.mark(i+1+skip, i+1+skip+w, AsField, field)
				}
				continue
			}
			field := r.dueField(i, i+n)
			if field == "" {
				continue
			}
			offset := ""
			if !contains(r.g.Due, p) {
				offset = r.passed(field)
			}
			r.draft.due = &dueAt{field, offset}
			r.mark(i, i+n, AsTime, "when "+field+" has come")
			if !contains(r.g.Due, p) {
				r.draft.overdue = true
				r.mark(i, i+n, AsTime, "when "+field+" has passed")
			}
		}
	}
}

// passed is how long after its beginning a field of time has passed: a date is its whole day.
func (r *reader) passed(field string) string {
	for _, f := range r.from.Fields {
		if f.Name == field && f.Type == value.Date {
			return "1d"
		}
	}
	return ""
}

// dueField is the field that says when a record is due: one that is called so, or the only one of time. Otherwise it is
// asked for, in the place of the words that spoke of it.
func (r *reader) dueField(from, to int) string {
	var times []string
	only := ""
	for _, f := range r.from.Fields {
		if !f.Type.IsTime() || f.Hidden {
			continue
		}
		if slices.ContainsFunc(r.g.DueField, func(w string) bool { return strings.Contains(value.Fold(f.Name+" "+f.Label), w) }) {
			return f.Name
		}
		times, only = append(times, f.Label), f.Name
	}
	if len(times) == 1 {
		return only
	}
	about := r.text(from, to)
	r.mark(from, to, AsWord, "")
	var choices []string
	for _, t := range times {
		choices = append(choices, "past "+t)
	}
	ask := fmt.Sprintf("Which date says when it is %s?", about)
	if len(times) == 0 {
		ask = fmt.Sprintf("Its records have no date, so when is one %s?", about)
	}
	r.doubts = append(r.doubts, Doubt{About: about, Ask: ask, Choices: choices, Waives: true})
	return ""
}

// schedule is at which moments something is told.
type schedule struct {
	days  []time.Weekday // none is every day
	weeks int            // every so many weeks
	at    string         // 07:00
}

var weekdays = []time.Weekday{time.Monday, time.Tuesday, time.Wednesday, time.Thursday, time.Friday}

// schedule reads "every weekday at 7", "each Monday and Thursday", "every second Tuesday at 7:30".
func (r *reader) schedule(from, to int) {
	for i := from; i+1 < to; i++ {
		if !r.free(i, i+1) || !contains(r.g.Every, r.tokens[i].low) && !contains(r.g.On, r.tokens[i].low) {
			continue
		}
		s, at := schedule{weeks: 1, at: "07:00"}, i+1
		if n := r.g.Ordinals[r.tokens[at].low]; n > 0 && !contains(r.g.On, r.tokens[i].low) {
			s.weeks = n
			at++
		}
		for at < to && r.free(at, at+1) {
			day, width := r.days(at, to)
			if width == 0 {
				break
			}
			s.days = append(s.days, day...)
			at += width
			if at+1 < to && contains(r.g.OrAnd, r.tokens[at].low) {
				if _, next := r.days(at+1, to); next > 0 {
					at++
				}
			}
		}
		if len(s.days) == 0 || contains(r.g.On, r.tokens[i].low) && s.weeks == 1 && r.g.singular(r.tokens[at-1].low) == r.tokens[at-1].low {
			continue
		}
		if contains(r.g.On, r.tokens[i].low) && r.happens(from, to) {
			about := r.text(i, at)
			r.mark(i, at, AsTime, s.words())
			r.doubts = append(r.doubts, Doubt{About: about, Ask: fmt.Sprintf("Is it told as it happens, and held outside of %q, or as a list at a set time?", about), Choices: []string{"in office hours", "every " + strings.TrimSuffix(strings.TrimPrefix(about, "on "), "s") + " at 7"}})
			return
		}
		if at < to && r.free(at, at+1) && contains(r.g.Morning, r.g.singular(r.tokens[at].low)) {
			at++
		}
		r.draft.every = &s
		r.mark(i, at, AsTime, s.words())
		r.clock(at, to)
		return
	}
}

// happens tells whether a clause says what starts it, so that a day in it is no rhythm.
func (r *reader) happens(from, to int) bool {
	for i := from; i < to; i++ {
		if r.tokens[i].as == "" && contains(r.g.When, r.tokens[i].low) {
			return true
		}
	}
	return false
}

// clock reads "at 7", "at 07:30", "at 7 pm".
func (r *reader) clock(from, to int) {
	for i := from; i+1 < to; i++ {
		if !contains(r.g.At, r.tokens[i].low) || !r.free(i, i+2) {
			continue
		}
		hour, minute, _ := strings.Cut(strings.TrimSuffix(strings.TrimSuffix(r.tokens[i+1].low, "am"), "pm"), ":")
		h, err := strconv.Atoi(hour)
		m, minuteErr := strconv.Atoi("0" + minute)
		if err != nil || minuteErr != nil || h > 24 || m > 59 {
			continue
		}
		end := i + 2
		half := r.tokens[i+1].low[len(strings.TrimRight(r.tokens[i+1].low, "apm")):]
		if end < to && r.free(end, end+1) && contains(r.g.Hours, r.tokens[end].low) {
			half = r.tokens[end].low
			end++
		}
		if half == "pm" && h < 12 {
			h += 12
		}
		r.draft.every.at = fmt.Sprintf("%02d:%02d", h%24, m)
		r.mark(i, end, AsTime, "at "+r.draft.every.at)
		return
	}
}

// days reads one name of days.
func (r *reader) days(at, to int) ([]time.Weekday, int) {
	if at >= to {
		return nil, 0
	}
	word := r.g.singular(r.tokens[at].low)
	switch {
	case contains(r.g.Workday, word):
		return weekdays, 1
	case at+1 < to && contains(r.g.Workday, r.tokens[at].low+" "+r.g.singular(r.tokens[at+1].low)):
		return weekdays, 2
	case contains(r.g.Weekend, word):
		return []time.Weekday{time.Saturday, time.Sunday}, 1
	}
	for d, name := range r.g.Days {
		if word == name || r.tokens[at].low == name[:3] {
			return []time.Weekday{time.Weekday(d)}, 1
		}
	}
	return nil, 0
}

func (s *schedule) words() string {
	if len(s.days) == 5 {
		return "Monday to Friday"
	}
	names := make([]string, len(s.days))
	for i, d := range s.days {
		names[i] = d.String()
	}
	out := strings.Join(names, " and ")
	switch s.weeks {
	case 1:
		return out
	case 2:
		return "every second " + out
	}
	return fmt.Sprintf("%s, every %d weeks", out, s.weeks)
}

// watch is the schedule as a sheet has it, beginning with the next moment after now.
func (s *schedule) watch(now time.Time) map[string]any {
	hour, minute, _ := strings.Cut(s.at, ":")
	if s.weeks == 1 {
		days := make([]string, len(s.days))
		for i, d := range s.days {
			days[i] = strconv.Itoa(int(d))
		}
		list := strings.Join(days, ",")
		if len(s.days) == 5 && slices.Equal(s.days, weekdays) {
			list = "1-5"
		}
		h, _ := strconv.Atoi(hour)
		m, _ := strconv.Atoi(minute)
		return map[string]any{"schedule": map[string]any{"cron": fmt.Sprintf("%d %d * * %s", m, h, list)}}
	}
	if now.IsZero() {
		now = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	first := now
	for !slices.Contains(s.days, first.Weekday()) || first.Format("15:04") >= s.at && first.YearDay() == now.YearDay() && first.Year() == now.Year() {
		first = first.AddDate(0, 0, 1)
	}
	names := make([]string, len(s.days))
	for i, d := range s.days {
		names[i] = strings.ToUpper(d.String()[:2])
	}
	return map[string]any{"schedule": map[string]any{
		"start": first.Format("2006-01-02") + "T" + s.at, "rule": fmt.Sprintf("FREQ=WEEKLY;INTERVAL=%d;BYDAY=%s", s.weeks, strings.Join(names, ",")),
	}}
}

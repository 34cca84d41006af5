package calendar

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/core/fault"

	"github.com/robfig/cron/v3"
	"github.com/teambition/rrule-go"
)

// Schedule is a recurrence made ready to use. It may be used by many goroutines at once.
type Schedule struct {
	zone  *time.Location
	start time.Time // wall time; zero for cron
	rule  *rrule.ROption
	last  time.Time // the moment that UNTIL names in UTC; zero where there is none
	cron  cron.Schedule
	text  string
}

var ruleParts = []string{"FREQ", "UNTIL", "COUNT", "INTERVAL", "BYSECOND", "BYMINUTE", "BYHOUR", "BYDAY", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYMONTH", "BYSETPOS", "WKST"}

// RuleParts are the parts a recurrence rule may have.
func RuleParts() []string { return ruleParts }

// ByRule makes a schedule of an RFC 5545 recurrence rule. start is the first moment, as the clock in the zone
// shows it; where the rule does not fit it, the first moment is the first one after it that does.
func ByRule(start time.Time, rule string, zone *time.Location) (*Schedule, error) {
	text := strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(rule)), "RRULE:")
	if text == "" {
		return nil, &fault.Fault{Said: "the rule is empty; write it like FREQ=WEEKLY;BYDAY=TU"}
	}
	seen := map[string]string{}
	for p := range strings.SplitSeq(text, ";") {
		name, v, ok := strings.Cut(p, "=")
		known := false
		for _, k := range ruleParts {
			known = known || k == name
		}
		switch {
		case !ok || v == "":
			return nil, &fault.Fault{Place: name, Said: fmt.Sprintf("%q is no part of a recurrence rule; parts are written like BYDAY=TU and joined by semicolons", p)}
		case !known:
			return nil, &fault.Fault{Place: name, Said: "a recurrence rule has no part " + name}
		case seen[name] != "":
			return nil, &fault.Fault{Place: name, Said: name + " stands twice"}
		}
		seen[name] = v
	}
	if seen["FREQ"] == "" {
		return nil, &fault.Fault{Place: "FREQ", Said: "the rule has no FREQ, such as FREQ=DAILY"}
	}
	if seen["UNTIL"] != "" && seen["COUNT"] != "" {
		return nil, &fault.Fault{Place: "UNTIL", Said: "a rule ends by UNTIL or by COUNT, not by both"}
	}
	opt, err := rrule.StrToROption(withoutUntil(text))
	if err != nil {
		return nil, &fault.Fault{Said: "the rule cannot be read: " + err.Error()}
	}
	if opt.Freq == rrule.SECONDLY {
		return nil, &fault.Fault{Place: "FREQ", Said: "a schedule runs once a minute at most; FREQ=SECONDLY is too quick"}
	}
	if opt.Count > maxCount {
		return nil, &fault.Fault{Place: "COUNT", Said: fmt.Sprintf("a rule counts to %d at most; end it by UNTIL", maxCount)}
	}
	s := &Schedule{zone: zone, start: Wall(start), text: text, rule: opt}
	opt.Dtstart = s.start
	if u := seen["UNTIL"]; u != "" {
		if opt.Until, s.last, err = until(u, zone); err != nil {
			return nil, err
		}
	}
	if err := fitting(opt, seen); err != nil {
		return nil, err
	}
	if _, err := rrule.NewRRule(*opt); err != nil {
		return nil, &fault.Fault{Said: "the rule cannot be used: " + err.Error()}
	}
	if never(opt) {
		return nil, &fault.Fault{Said: "the rule has no moment at all: its parts never come together"}
	}
	if _, ok := s.from(s.start.Add(-time.Second))(); !ok {
		return nil, &fault.Fault{Said: "the rule has no moment at all: its parts never come together, or it ends before it begins"}
	}
	return s, nil
}

func withoutUntil(text string) string {
	var kept []string
	for p := range strings.SplitSeq(text, ";") {
		if !strings.HasPrefix(p, "UNTIL=") {
			kept = append(kept, p)
		}
	}
	return strings.Join(kept, ";")
}

// until reads the last moment: as wall time, of which a day counts whole; or, in UTC, as the moment that it is, beside a
// wall time that no clock change brings it past.
func until(text string, zone *time.Location) (wall, moment time.Time, err error) {
	if t, err := time.Parse("20060102T150405Z", text); err == nil {
		return Wall(t.In(zone)).Add(24 * time.Hour), t, nil
	}
	if t, err := time.Parse("20060102T150405", text); err == nil {
		return t, time.Time{}, nil
	}
	if t, err := time.Parse("20060102", text); err == nil {
		return t.Add(24*time.Hour - time.Second), time.Time{}, nil
	}
	return time.Time{}, time.Time{}, &fault.Fault{Place: "UNTIL", Said: fmt.Sprintf("UNTIL=%s is not a time; write it like 20261224T170000Z", text)}
}

var cronParser = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

var spaces = regexp.MustCompile(`\s+`)

// ByCron makes a schedule of five fields: minute, hour, day of the month, month, day of the week.
func ByCron(text string, zone *time.Location) (*Schedule, error) {
	text = spaces.ReplaceAllString(strings.TrimSpace(text), " ")
	if n := len(strings.Fields(text)); n != 5 {
		return nil, &fault.Fault{Said: fmt.Sprintf("cron has five fields (minute, hour, day of month, month, day of week), such as 0 7 * * 1-5; this has %d", n)}
	}
	fields := strings.Fields(text)
	if strings.HasPrefix(text, "TZ=") || strings.HasPrefix(text, "CRON_TZ=") {
		return nil, &fault.Fault{Said: "the zone of a schedule is given by zone, not within cron"}
	}
	fields[4] = sundays(fields[4])
	c, err := cronParser.Parse(strings.Join(fields, " "))
	if err != nil {
		return nil, &fault.Fault{Said: "cron cannot be read: " + err.Error()}
	}
	if c.Next(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return nil, &fault.Fault{Said: "this cron has no moment at all: its day of the month never comes in its month"}
	}
	return &Schedule{zone: zone, cron: c, text: text}, nil
}

// sundays writes a field of days of the week without 7, which is Sunday as 0 is: in lists, in ranges, and with steps.
func sundays(field string) string {
	parts := strings.Split(field, ",")
	for i, p := range parts {
		span, step, stepped := strings.Cut(p, "/")
		from, to, ranged := strings.Cut(span, "-")
		if !ranged {
			if from == "7" {
				parts[i] = "0" + p[1:]
			}
			continue
		}
		a, okA := weekday(from)
		b, okB := weekday(to)
		if b == 0 && a > 0 { // as in FRI-SUN
			b = 7
		}
		n, err := strconv.Atoi(step)
		if !stepped {
			n, err = 1, nil
		}
		if !okA || !okB || err != nil || n < 1 || a > b || b < 7 {
			continue // it says the same without, or is wrong, which is said by whoever reads it
		}
		var days []string
		for d := a; d <= b; d += n {
			days = append(days, strconv.Itoa(d%7))
		}
		parts[i] = strings.Join(days, ",")
	}
	return strings.Join(parts, ",")
}

func weekday(text string) (int, bool) {
	if n := slices.Index([]string{"SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT"}, strings.ToUpper(text)); n >= 0 {
		return n, true
	}
	n, err := strconv.Atoi(text)
	return n, err == nil && n >= 0 && n <= 7
}

// Zone is where the schedule's clock hangs.
func (s *Schedule) Zone() *time.Location { return s.zone }

// Start is the moment from which the rule counts; the zero time for cron.
func (s *Schedule) Start() time.Time {
	if s.rule == nil {
		return time.Time{}
	}
	return InZone(s.start, s.zone)
}

// Between lists the moments from one on and up to another, in order, so many at most. It goes through them once.
func (s *Schedule) Between(from, to time.Time, most int) []time.Time {
	end := Wall(to.In(s.zone)).Add(4 * time.Hour)
	next := s.until(Wall(from.In(s.zone)).Add(-4*time.Hour), end)
	var out []time.Time
	for len(out) < most {
		wall, ok := next()
		if !ok || wall.After(end) {
			break
		}
		if at := InZone(wall, s.zone); !at.Before(from) && !at.After(to) && !s.ended(at) {
			out = append(out, at)
		}
	}
	slices.SortFunc(out, time.Time.Compare) // a clock change may put one before another
	return slices.CompactFunc(out, time.Time.Equal)
}

// maxCount is the most moments a rule may count.
const maxCount = 100_000

// horizon is how far ahead a moment is looked for. Every rule that ever fires does so within it: 29 February falls on each
// weekday every 28 years, or 40 where a century has no leap year.
func (s *Schedule) horizon() int {
	if s.rule.Freq == rrule.MINUTELY {
		return 12
	}
	return 120
}

// maxSteps bounds how many moments are passed over in search of one that a caller does not leave out.
const maxSteps = 5000

// ErrNever means that a schedule has no further moment.
var ErrNever = errors.New("the schedule has no further moment")

// Next gives the first moment after another. skip, where not nil, leaves out days, given as wall time.
func (s *Schedule) Next(after time.Time, skip func(day time.Time) bool) (time.Time, error) {
	// A clock change may bring a moment up to some hours past where its wall time is looked for.
	from := Wall(after.In(s.zone)).Add(-4 * time.Hour)
	next := s.from(from)
	for range maxSteps {
		wall, ok := next()
		if !ok {
			return time.Time{}, ErrNever
		}
		if at := InZone(wall, s.zone); at.After(after) && !s.ended(at) && (skip == nil || !skip(wall)) {
			return s.earliest(at, after, next, skip), nil
		}
	}
	return time.Time{}, ErrNever
}

// earliest looks past a moment that a clock change may have moved on, for one that comes before it though its wall time
// is later.
func (s *Schedule) earliest(at, after time.Time, next func() (time.Time, bool), skip func(day time.Time) bool) time.Time {
	for shown := Wall(at.In(s.zone)); ; {
		wall, ok := next()
		if !ok || !wall.Before(shown) {
			return at
		}
		if other := InZone(wall, s.zone); other.After(after) && other.Before(at) && !s.ended(other) && (skip == nil || !skip(wall)) {
			at = other
		}
	}
}

// ended tells whether a moment lies past the one that UNTIL names.
func (s *Schedule) ended(at time.Time) bool { return !s.last.IsZero() && at.After(s.last) }

// Upcoming lists the next so many moments after another.
func (s *Schedule) Upcoming(after time.Time, n int, skip func(day time.Time) bool) []time.Time {
	var out []time.Time
	for len(out) < n {
		at, err := s.Next(after, skip)
		if err != nil {
			break
		}
		out = append(out, at)
		after = at
	}
	return out
}

// Last gives the last moment that is not after another, looking back a year at most.
func (s *Schedule) Last(until time.Time, skip func(day time.Time) bool) (time.Time, bool) {
	for _, back := range []time.Duration{48 * time.Hour, 40 * 24 * time.Hour, 366 * 24 * time.Hour} {
		last, ok := time.Time{}, false
		for at := until.Add(-back); ; {
			next, err := s.Next(at, skip)
			if err != nil || next.After(until) {
				break
			}
			at, last, ok = next, next, true
		}
		if ok {
			return last, true
		}
	}
	return time.Time{}, false
}

// from walks through the wall times after one, in order.
func (s *Schedule) from(after time.Time) func() (time.Time, bool) {
	if s.cron != nil {
		at := after
		return func() (time.Time, bool) {
			at = s.cron.Next(at)
			return at, !at.IsZero()
		}
	}
	return s.until(after, after.AddDate(s.horizon(), 0, 0))
}

// until walks through the wall times after one and up to another, in order.
func (s *Schedule) until(after, end time.Time) func() (time.Time, bool) {
	if s.cron != nil {
		return s.from(after)
	}
	opt := *s.rule
	var passed int
	if opt.Dtstart, passed = s.forward(after); opt.Count > 0 {
		if opt.Count -= passed; opt.Count <= 0 {
			return func() (time.Time, bool) { return time.Time{}, false }
		}
	}
	if end = latest(end, s.start.AddDate(1, 0, 0)); opt.Until.IsZero() || opt.Until.After(end) {
		opt.Until = end
	}
	r, err := rrule.NewRRule(opt)
	if err != nil {
		return func() (time.Time, bool) { return time.Time{}, false }
	}
	next := r.Iterator()
	return func() (time.Time, bool) {
		for {
			wall, ok := next()
			if !ok || wall.After(after) {
				return wall, ok
			}
		}
	}
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// forward moves the start on by whole intervals, so that an old schedule is not walked through from its beginning, and says
// how many. A rule whose intervals have no fixed length is left as it is, and so is one that counts only some of them.
func (s *Schedule) forward(to time.Time) (start time.Time, passed int) {
	var unit time.Duration
	switch s.rule.Freq {
	case rrule.MINUTELY:
		unit = time.Minute
	case rrule.HOURLY:
		unit = time.Hour
	case rrule.DAILY:
		unit = 24 * time.Hour
	case rrule.WEEKLY:
		unit = 7 * 24 * time.Hour
	}
	step := unit * time.Duration(max(1, s.rule.Interval))
	gap := to.Sub(s.start)
	if unit == 0 || s.rule.Count > 0 && s.narrowed() || gap < 2*step {
		return s.start, 0
	}
	passed = int(gap/step) - 1
	return s.start.Add(step * time.Duration(passed)), passed
}

// narrowed tells whether parts of the rule leave moments out, or add some.
func (s *Schedule) narrowed() bool {
	r := s.rule
	return len(r.Bysetpos)+len(r.Bymonth)+len(r.Bymonthday)+len(r.Byyearday)+len(r.Byweekno)+len(r.Byweekday)+len(r.Byhour)+len(r.Byminute)+len(r.Bysecond)+len(r.Byeaster) > 0
}

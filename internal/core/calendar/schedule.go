package calendar

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
	"github.com/teambition/rrule-go"
)

// Schedule is a recurrence made ready to use. It may be used by many goroutines at once.
type Schedule struct {
	zone  *time.Location
	start time.Time // wall time; zero for cron
	rule  *rrule.ROption
	cron  cron.Schedule
	text  string
}

// ErrRule says what is wrong with a rule; Part is the part of the rule meant, such as BYDAY, where it is known.
type ErrRule struct {
	Part    string
	Problem string
}

func (e *ErrRule) Error() string { return e.Problem }

var ruleParts = []string{"FREQ", "UNTIL", "COUNT", "INTERVAL", "BYSECOND", "BYMINUTE", "BYHOUR", "BYDAY", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYMONTH", "BYSETPOS", "WKST"}

// RuleParts are the parts a recurrence rule may have.
func RuleParts() []string { return ruleParts }

// ByRule makes a schedule of an RFC 5545 recurrence rule. start is the first moment, as the clock in the zone
// shows it; where the rule does not fit it, the first moment is the first one after it that does.
func ByRule(start time.Time, rule string, zone *time.Location) (*Schedule, error) {
	text := strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(rule)), "RRULE:")
	if text == "" {
		return nil, &ErrRule{Problem: "the rule is empty; write it like FREQ=WEEKLY;BYDAY=TU"}
	}
	seen := map[string]string{}
	for _, p := range strings.Split(text, ";") {
		name, v, ok := strings.Cut(p, "=")
		known := false
		for _, k := range ruleParts {
			known = known || k == name
		}
		switch {
		case !ok || v == "":
			return nil, &ErrRule{Part: name, Problem: fmt.Sprintf("%q is no part of a recurrence rule; parts are written like BYDAY=TU and joined by semicolons", p)}
		case !known:
			return nil, &ErrRule{Part: name, Problem: fmt.Sprintf("a recurrence rule has no part %s", name)}
		case seen[name] != "":
			return nil, &ErrRule{Part: name, Problem: name + " stands twice"}
		}
		seen[name] = v
	}
	if seen["FREQ"] == "" {
		return nil, &ErrRule{Part: "FREQ", Problem: "the rule has no FREQ, such as FREQ=DAILY"}
	}
	if seen["UNTIL"] != "" && seen["COUNT"] != "" {
		return nil, &ErrRule{Part: "UNTIL", Problem: "a rule ends by UNTIL or by COUNT, not by both"}
	}
	opt, err := rrule.StrToROption(withoutUntil(text))
	if err != nil {
		return nil, &ErrRule{Problem: "the rule cannot be read: " + err.Error()}
	}
	if opt.Freq == rrule.SECONDLY {
		return nil, &ErrRule{Part: "FREQ", Problem: "a schedule runs once a minute at most; FREQ=SECONDLY is too quick"}
	}
	s := &Schedule{zone: zone, start: Wall(start), text: text, rule: opt}
	opt.Dtstart = s.start
	if u := seen["UNTIL"]; u != "" {
		if opt.Until, err = until(u, zone); err != nil {
			return nil, err
		}
	}
	if _, err := rrule.NewRRule(*opt); err != nil {
		return nil, &ErrRule{Problem: "the rule cannot be used: " + err.Error()}
	}
	return s, nil
}

func withoutUntil(text string) string {
	var kept []string
	for _, p := range strings.Split(text, ";") {
		if !strings.HasPrefix(p, "UNTIL=") {
			kept = append(kept, p)
		}
	}
	return strings.Join(kept, ";")
}

// until reads the last moment as wall time. One in UTC is turned into the zone's; a day counts whole.
func until(text string, zone *time.Location) (time.Time, error) {
	if t, err := time.Parse("20060102T150405Z", text); err == nil {
		return Wall(t.In(zone)), nil
	}
	if t, err := time.Parse("20060102T150405", text); err == nil {
		return t, nil
	}
	if t, err := time.Parse("20060102", text); err == nil {
		return t.Add(24*time.Hour - time.Second), nil
	}
	return time.Time{}, &ErrRule{Part: "UNTIL", Problem: fmt.Sprintf("UNTIL=%s is not a time; write it like 20261224T170000Z", text)}
}

var cronParser = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

var spaces = regexp.MustCompile(`\s+`)

// ByCron makes a schedule of five fields: minute, hour, day of the month, month, day of the week.
func ByCron(text string, zone *time.Location) (*Schedule, error) {
	text = spaces.ReplaceAllString(strings.TrimSpace(text), " ")
	if n := len(strings.Fields(text)); n != 5 {
		return nil, &ErrRule{Problem: fmt.Sprintf("cron has five fields (minute, hour, day of month, month, day of week), such as 0 7 * * 1-5; this has %d", n)}
	}
	fields := strings.Fields(text)
	if fields[4] = sunday7.ReplaceAllStringFunc(fields[4], func(s string) string { return s[:len(s)-1] + "0" }); strings.HasPrefix(text, "TZ=") {
		return nil, &ErrRule{Problem: "the zone of a schedule is given by zone, not within cron"}
	}
	c, err := cronParser.Parse(strings.Join(fields, " "))
	if err != nil {
		return nil, &ErrRule{Problem: "cron cannot be read: " + err.Error()}
	}
	return &Schedule{zone: zone, cron: c, text: text}, nil
}

// sunday7 finds a 7 that stands by itself, as many write Sunday.
var sunday7 = regexp.MustCompile(`(^|,)7$|^7(,|$)`)

// Zone is where the schedule's clock hangs.
func (s *Schedule) Zone() *time.Location { return s.zone }

// Start is the moment from which the rule counts; the zero time for cron.
func (s *Schedule) Start() time.Time {
	if s.rule == nil {
		return time.Time{}
	}
	return InZone(s.start, s.zone)
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
		if at := InZone(wall, s.zone); at.After(after) && (skip == nil || !skip(wall)) {
			return at, nil
		}
	}
	return time.Time{}, ErrNever
}

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
	opt := *s.rule
	opt.Dtstart = s.forward(after)
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

// forward moves the start on by whole intervals, so that an old schedule is not walked through from its
// beginning. A rule that counts, or whose intervals have no fixed length, is left as it is.
func (s *Schedule) forward(to time.Time) time.Time {
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
	if unit == 0 || s.rule.Count > 0 || gap < 2*step {
		return s.start
	}
	return s.start.Add(step * (gap/step - 1))
}

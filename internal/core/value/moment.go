package value

import (
	"fmt"
	"strings"
	"time"
)

var momentLayouts = []string{
	"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02T15:04Z07:00",
	"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05Z07",
}

var localLayouts = []string{
	"2006-01-02T15:04:05.999999999", "2006-01-02T15:04", "2006-01-02 15:04:05.999999999", "2006-01-02 15:04",
}

// ReadMoment reads an ISO 8601 / RFC 3339 date or date-time. A date begins at midnight, and a time
// without an offset is taken, in the workspace's zone. dateOnly tells which it was.
func ReadMoment(text string, zone *time.Location) (at time.Time, dateOnly, ok bool) {
	if len(text) < 10 || text[4] != '-' {
		trimmed := strings.TrimSpace(text)
		if trimmed == text || len(trimmed) < 10 {
			return time.Time{}, false, false
		}
		text = trimmed
	}
	if len(text) == 10 {
		t, err := time.ParseInLocation("2006-01-02", text, zone)
		return t, true, err == nil
	}
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		return t, false, true
	}
	for _, layout := range momentLayouts {
		if t, err := time.Parse(layout, text); err == nil {
			return t, false, true
		}
	}
	for _, layout := range localLayouts {
		if t, err := time.ParseInLocation(layout, text, zone); err == nil {
			return t, false, true
		}
	}
	if trimmed := strings.TrimSpace(text); trimmed != text {
		return ReadMoment(trimmed, zone)
	}
	return time.Time{}, false, false
}

// Instant is a point in time as a sheet writes it: fixed, or counted from now or from today.
type Instant struct {
	fixed  time.Time
	anchor string        // "", "now", "today"
	shift  time.Duration // from now
	days   int           // from today, whole calendar days
}

// ParseInstant reads "now", "now+2h", "today", "today-3d", a date or a date-time.
func ParseInstant(text string, zone *time.Location) (Instant, error) {
	s := strings.TrimSpace(text)
	for _, anchor := range []string{"now", "today"} {
		rest, ok := strings.CutPrefix(strings.ToLower(s), anchor)
		if !ok {
			continue
		}
		rest = strings.ReplaceAll(rest, " ", "")
		in := Instant{anchor: anchor}
		if rest == "" {
			return in, nil
		}
		if rest[0] != '+' && rest[0] != '-' {
			break
		}
		d, err := ParseSpan(rest)
		if err != nil {
			return Instant{}, fmt.Errorf("%q: after %s comes + or - and a span such as 2h or 3d", text, anchor)
		}
		in.shift = d
		if anchor == "today" {
			in.days = int(d / (24 * time.Hour))
			in.shift = d % (24 * time.Hour)
		}
		return in, nil
	}
	at, _, ok := ReadMoment(s, zone)
	if !ok {
		return Instant{}, fmt.Errorf("%q is not a point in time; write a date (2026-11-20), a date-time (2026-11-20T06:41:07Z), now, now+2h, today or today-3d", text)
	}
	return Instant{fixed: at}, nil
}

// At resolves the instant for one moment. Days from today are calendar days in the zone.
func (in Instant) At(now time.Time, zone *time.Location) time.Time {
	switch in.anchor {
	case "now":
		return now.Add(in.shift)
	case "today":
		y, m, d := now.In(zone).Date()
		return time.Date(y, m, d+in.days, 0, 0, 0, 0, zone).Add(in.shift)
	}
	return in.fixed
}

// Moves tells whether the instant depends on now.
func (in Instant) Moves() bool { return in.anchor != "" }

// Fixed is an instant that does not move.
func Fixed(t time.Time) Instant { return Instant{fixed: t} }

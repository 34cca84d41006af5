package calendar

import (
	"fmt"
	"strings"
	"time"
)

// Hours are opening hours of a week. No opening at all means: always open.
type Hours struct {
	Zone  *time.Location
	Spans []Opening
}

// Opening is one span of hours on some days of the week. One that ends at or before its beginning ends on the
// next day.
type Opening struct {
	Days     [7]bool // by time.Weekday
	From, To int     // minutes from midnight; To may be 24:00
}

// ReadClock reads "05:00" … "24:00" as minutes from midnight.
func ReadClock(text string) (int, error) {
	var h, m int
	if n, err := fmt.Sscanf(strings.TrimSpace(text), "%d:%d", &h, &m); n != 2 || err != nil || h < 0 || m < 0 || m > 59 || h*60+m > 24*60 || !strings.Contains(text, ":") {
		return 0, fmt.Errorf("%q is not a time of day; write it like 05:00", text)
	}
	return h*60 + m, nil
}

// Always tells that nothing is ever closed.
func (h Hours) Always() bool { return len(h.Spans) == 0 }

// window is a span of open time.
type window struct{ from, to time.Time }

// windows lists the open spans that touch a day, and the day before it, in order of their beginnings.
func (h Hours) windows(day time.Time) []window {
	var out []window
	local := day.In(h.Zone)
	for back := -1; back <= 0; back++ {
		d := time.Date(local.Year(), local.Month(), local.Day()+back, 0, 0, 0, 0, time.UTC)
		for _, o := range h.Spans {
			if !o.Days[d.Weekday()] {
				continue
			}
			to := o.To
			if to <= o.From {
				to += 24 * 60
			}
			out = append(out, window{InZone(d.Add(time.Duration(o.From)*time.Minute), h.Zone), InZone(d.Add(time.Duration(to)*time.Minute), h.Zone)})
		}
	}
	for i := 1; i < len(out); i++ {
		for j := i; j > 0 && out[j].from.Before(out[j-1].from); j-- {
			out[j], out[j-1] = out[j-1], out[j]
		}
	}
	return out
}

// Open tells whether a moment lies in the opening hours. Their end is not part of them.
func (h Hours) Open(at time.Time) bool {
	if h.Always() {
		return true
	}
	for _, w := range h.windows(at) {
		if !at.Before(w.from) && at.Before(w.to) {
			return true
		}
	}
	return false
}

// NextOpen gives the moment itself where it is open, and else the next one that is. ok is false where nothing
// ever opens.
func (h Hours) NextOpen(at time.Time) (open time.Time, ok bool) {
	return h.After(at, 0)
}

// After gives the moment by which so much open time has gone by since another. ok is false where nothing ever
// opens.
func (h Hours) After(at time.Time, d time.Duration) (then time.Time, ok bool) {
	if h.Always() {
		return at.Add(d), true
	}
	upTo := at // open time before this has been counted
	for day := range 366 * 2 {
		for _, w := range h.windows(at.AddDate(0, 0, day)) {
			from := w.from
			if from.Before(upTo) {
				from = upTo
			}
			open := w.to.Sub(from)
			if open <= 0 {
				continue
			}
			if d < open || d == open && d > 0 {
				return from.Add(d), true
			}
			d -= open
			upTo = w.to
		}
		if day == 14 && d > 0 && upTo.Equal(at) {
			return time.Time{}, false // two weeks without an opening
		}
	}
	return time.Time{}, false
}

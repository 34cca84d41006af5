package calendar

import (
	"slices"
	"time"

	"github.com/teambition/rrule-go"
)

// never tells whether a rule can have no moment at all, by its parts. What walks through a rule would go on to the end of
// time for such a one, or for ever.
func never(r *rrule.ROption) bool {
	return !reachesATime(r) || !reachesADay(r)
}

// reachesATime tells whether steps of hours or minutes ever come to an hour and a minute that the rule names.
func reachesATime(r *rrule.ROption) bool {
	const day = 24 * 60
	step := max(1, r.Interval)
	var at int
	switch r.Freq {
	case rrule.HOURLY:
		step, at = step*60, r.Dtstart.Hour()*60
	case rrule.MINUTELY:
		at = r.Dtstart.Hour()*60 + r.Dtstart.Minute()
	default:
		return true
	}
	for range day {
		hour, minute := at/60, at%60
		if (len(r.Byhour) == 0 || slices.Contains(r.Byhour, hour)) && (r.Freq == rrule.HOURLY || len(r.Byminute) == 0 || slices.Contains(r.Byminute, minute)) {
			return true
		}
		at = (at + step) % day
	}
	return false
}

// reachesADay tells whether there is a day that fits the parts that narrow days, where the rule goes by days or by less.
func reachesADay(r *rrule.ROption) bool {
	if r.Freq <= rrule.WEEKLY || len(r.Bymonth)+len(r.Bymonthday)+len(r.Byyearday)+len(r.Byweekday) == 0 {
		return true
	}
	d := time.Date(r.Dtstart.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
	for end := d.AddDate(41, 0, 0); d.Before(end); d = d.AddDate(0, 0, 1) {
		if dayFits(r, d) {
			return true
		}
	}
	return false
}

func dayFits(r *rrule.ROption, d time.Time) bool {
	month := time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
	year := time.Date(d.Year(), 12, 31, 0, 0, 0, 0, time.UTC).YearDay()
	among := func(list []int, n, of int) bool {
		return len(list) == 0 || slices.Contains(list, n) || slices.Contains(list, n-of-1)
	}
	if len(r.Bymonth) > 0 && !slices.Contains(r.Bymonth, int(d.Month())) || !among(r.Bymonthday, d.Day(), month) || !among(r.Byyearday, d.YearDay(), year) {
		return false
	}
	return len(r.Byweekday) == 0 || slices.ContainsFunc(r.Byweekday, func(w rrule.Weekday) bool { return (w.Day()+1)%7 == int(d.Weekday()) })
}

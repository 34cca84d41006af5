package decide

import (
	"time"

	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/value"
)

// DaysOff makes of calendar events the days that a schedule leaves out: every day that an event which lasts all
// day covers. Events are records with start and end, as a calendar connection gives them; the end of an event
// that lasts all day is the day after its last (RFC 5545).
func DaysOff(events []map[string]any, zone *time.Location) Skip {
	off := map[time.Time]bool{}
	for _, e := range events {
		start, ok := e["start"].(string)
		from, day, read := value.ReadMoment(start, zone)
		if !ok || !read || !day && e["all_day"] != true {
			continue
		}
		first := midnight(calendar.Wall(from.In(zone)))
		end, _ := e["end"].(string)
		to, _, read := value.ReadMoment(end, zone)
		last := first.AddDate(0, 0, 1)
		if read && to.After(from) {
			last = calendar.Wall(to.In(zone))
		}
		for d := first; d.Before(last) && d.Sub(first) < 366*24*time.Hour; d = d.AddDate(0, 0, 1) {
			off[d] = true
		}
	}
	if len(off) == 0 {
		return nil
	}
	return func(day time.Time) bool { return off[midnight(day)] }
}

func midnight(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
}

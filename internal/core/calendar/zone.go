// Package calendar computes moments: recurrences (RFC 5545, five-field cron) in a zone with its clock
// changes, and opening hours. It reads no clock; every function is given its moment.
package calendar

import "time"

// InZone finds the moment at which clocks in a zone show a wall time, given as if it were UTC. A time that a
// clock change skips is moved on by the gap; one that it repeats is taken the first time.
func InZone(wall time.Time, zone *time.Location) time.Time {
	wall = time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), wall.Nanosecond(), time.UTC)
	_, before := wall.Add(-13 * time.Hour).In(zone).Zone()
	_, after := wall.Add(13 * time.Hour).In(zone).Zone()
	early := wall.Add(-time.Duration(before) * time.Second).In(zone)
	late := wall.Add(-time.Duration(after) * time.Second).In(zone)
	if late.Before(early) {
		early, late = late, early
	}
	for _, t := range []time.Time{early, late} {
		if Wall(t).Equal(wall) {
			return t
		}
	}
	// Skipped: by the offset before the change, the clock would show it; after the change it shows it moved on.
	return wall.Add(-time.Duration(before) * time.Second).In(zone)
}

// Wall is what the clock of the moment's own zone shows, as if it were UTC.
func Wall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

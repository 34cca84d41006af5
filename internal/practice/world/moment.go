package world

import (
	"fmt"
	"maps"
	"math"
	"time"
)

// Shifted is the change as it would be if everything happened later by so much: its moment, and every date and moment in its
// record. So the world can stand at a moment of its own, such as a Sunday or the last day of a year, while it is another here.
func (c Change) Shifted(by time.Duration, zone *time.Location) Change {
	if by == 0 {
		return c
	}
	c.At = c.At.Add(by)
	c.Record, c.Before, c.Fields = shifted(c.Record, by, zone), shifted(c.Before, by, zone), shifted(c.Fields, by, zone)
	return c
}

func shifted(fields map[string]any, by time.Duration, zone *time.Location) map[string]any {
	if fields == nil {
		return nil
	}
	out := maps.Clone(fields)
	for name, v := range out {
		text, ok := v.(string)
		if !ok {
			continue
		}
		if at, err := time.Parse(time.RFC3339, text); err == nil {
			out[name] = stamp(at.Add(by).In(zone))
		} else if day, err := time.ParseInLocation(time.DateOnly, text, zone); err == nil {
			days := int(math.Round(by.Hours() / 24))
			out[name] = day.AddDate(0, 0, days).Format(time.DateOnly)
		}
	}
	return out
}

// later is something that is already certain to happen on the next day.
type later struct {
	at      time.Time
	key, by string
	fields  map[string]any
}

// relay is the milk that is taken from farm to dairy round the clock, a collection every other hour: so that whenever
// somebody looks, by night or on a Sunday, some are planned or on the way. It needs no chance, so that the rest of the world
// is the same with and without it.
func (w *World) relay() {
	carried := w.later
	w.later = nil
	for _, l := range carried {
		w.put(l.at, "tours", "collections", l.key, l.by, l.fields)
	}
	midnight := w.at(24, 0)
	tell := func(at time.Time, key, by string, fields map[string]any) {
		if at.Before(midnight) {
			w.put(at, "tours", "collections", key, by, fields)
			return
		}
		w.later = append(w.later, later{at, key, by, fields})
	}
	for h := 0; h < 24; h += 2 {
		n := (w.n*24 + h) / 2
		f := w.farms[(n*7+w.n)%len(w.farms)]
		key, driver := fmt.Sprintf("COL-%d", 8001+n), drivers[n%len(drivers)]
		due := w.at(h+4, 30)
		w.put(w.at(h, 30), "tours", "collections", key, "planner", map[string]any{
			"id": key, "farm": float64(f.number), "farm_name": f.name, "tour": "Relay", "driver": driver, "due": stamp(due),
			"litres": round(f.litres*(0.9+float64(n%5)/20), 0), "temperature": round(3.6+float64(n%12)/10, 1), "status": "planned", "valley": f.valley, "price": 0.79,
		})
		tell(due.Add(-40*time.Minute), key, driver, map[string]any{"status": "on the way"})
		tell(due.Add(time.Duration(4+n%17)*time.Minute), key, driver, map[string]any{"status": "collected"})
	}
}

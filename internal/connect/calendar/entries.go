package calendar

import (
	"fmt"
	"strings"
	"time"

	"github.com/emersion/go-ical"

	"dorfbote/internal/connect"
	corecal "dorfbote/internal/core/calendar"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// window is the span of time within which recurring entries are told out.
type window struct {
	from, to time.Time
	zone     *time.Location
}

// How many times of one entry are told out, how many records a calendar may make altogether, and how long that may take.
const (
	maxTimes   = 5000
	maxRecords = 20_000
	maxReading = 10 * time.Second
)

func entries(cal *ical.Calendar) []*ical.Component {
	var out []*ical.Component
	for _, c := range cal.Children {
		if c.Name == ical.CompEvent || c.Name == ical.CompToDo {
			out = append(out, c)
		}
	}
	return out
}

// past tells of a record that its time lies before the window: it is out of sight, and not cancelled.
func (w *window) past(record map[string]any) bool {
	for _, name := range []string{"end", "start"} {
		if text, ok := record[name].(string); ok {
			at, _, ok := value.ReadMoment(text, w.zone)
			return ok && at.Before(w.from.Add(24*time.Hour))
		}
	}
	return false
}

// items makes records of a calendar's entries. A calendar that would make too many is refused.
func (w *window) items(cal *ical.Calendar) ([]connect.Item, error) {
	var out []connect.Item
	began := time.Now()
	moved := map[string]map[int64]bool{} // by UID: the times that have an entry of their own
	for _, e := range entries(cal) {
		if at, ok := w.when(e, ical.PropRecurrenceID); ok {
			uid := text(e, ical.PropUID)
			if moved[uid] == nil {
				moved[uid] = map[int64]bool{}
			}
			moved[uid][at.at.Unix()] = true
		}
	}
	for _, e := range entries(cal) {
		if len(out) > maxRecords || time.Since(began) > maxReading {
			return nil, &fault.Fault{Tried: "telling out the calendar's entries", Said: fmt.Sprintf("there are more than %d times of them within the stretch that is looked at, or they take too long", maxRecords), Do: "look less far ahead, or leave out entries that recur every few minutes"}
		}
		uid := text(e, ical.PropUID)
		if uid == "" {
			uid = text(e, ical.PropSummary)
		}
		if uid == "" {
			continue
		}
		start, hasStart := w.when(e, ical.PropDateTimeStart)
		own, isMoved := w.when(e, ical.PropRecurrenceID)
		switch {
		case isMoved:
			out = append(out, w.item(e, uid+"@"+stamp(own.at), start, hasStart))
		case hasStart && (e.Props.Get(ical.PropRecurrenceRule) != nil || e.Props.Get(ical.PropRecurrenceDates) != nil):
			for _, at := range w.times(e, start) {
				if moved[uid][at.at.Unix()] {
					continue
				}
				out = append(out, w.item(e, uid+"@"+stamp(at.at), at, true))
			}
		default:
			if hasStart && e.Name == ical.CompEvent && (start.at.Before(w.from) && w.end(e, start).Before(w.from)) {
				continue
			}
			out = append(out, w.item(e, uid, start, hasStart))
		}
	}
	return out, nil
}

func stamp(t time.Time) string { return t.UTC().Format("20060102T150405Z") }

// moment is a point in time as an entry gives it: a day, or a time with the zone it was written in.
type moment struct {
	at  time.Time
	day bool
}

func (m moment) text() string {
	if m.day {
		return m.at.Format("2006-01-02")
	}
	return m.at.Format(time.RFC3339)
}

func (w *window) when(e *ical.Component, name string) (moment, bool) {
	p := e.Props.Get(name)
	if p == nil {
		return moment{}, false
	}
	return w.read(p, p.Value)
}

func (w *window) read(p *ical.Prop, text string) (moment, bool) {
	text = strings.TrimSpace(text)
	zone := w.zoneOf(p.Params.Get(ical.PropTimezoneID))
	if t, err := time.Parse("20060102T150405Z", text); err == nil {
		return moment{at: t.In(w.zone)}, true
	}
	if t, err := time.Parse("20060102T150405", text); err == nil {
		return moment{at: corecal.InZone(t, zone)}, true
	}
	if t, err := time.Parse("20060102", text); err == nil {
		return moment{at: corecal.InZone(t, w.zone), day: true}, true
	}
	return moment{}, false
}

// zoneOf finds a zone by the name that a calendar gives it, which is the IANA name, often behind a prefix; or the
// name of another system's. A zone that is not known is the workspace's.
func (w *window) zoneOf(name string) *time.Location {
	name = strings.Trim(name, `"/ `)
	if name == "" {
		return w.zone
	}
	if iana := otherNames[name]; iana != "" {
		name = iana
	}
	parts := strings.Split(name, "/")
	for i := range parts {
		if z, err := time.LoadLocation(strings.Join(parts[i:], "/")); err == nil && parts[i] != "" && parts[i] != "Local" {
			return z
		}
	}
	return w.zone
}

// otherNames are the commonest names of zones that are not the IANA ones (from Unicode CLDR's windowsZones).
var otherNames = map[string]string{
	"W. Europe Standard Time": "Europe/Berlin", "Central Europe Standard Time": "Europe/Budapest", "Central European Standard Time": "Europe/Warsaw",
	"Romance Standard Time": "Europe/Paris", "GMT Standard Time": "Europe/London", "Greenwich Standard Time": "Atlantic/Reykjavik",
	"E. Europe Standard Time": "Europe/Chisinau", "FLE Standard Time": "Europe/Kiev", "GTB Standard Time": "Europe/Bucharest",
	"Eastern Standard Time": "America/New_York", "Central Standard Time": "America/Chicago", "Mountain Standard Time": "America/Denver",
	"Pacific Standard Time": "America/Los_Angeles", "Tokyo Standard Time": "Asia/Tokyo", "China Standard Time": "Asia/Shanghai",
	"India Standard Time": "Asia/Calcutta", "AUS Eastern Standard Time": "Australia/Sydney", "New Zealand Standard Time": "Pacific/Auckland",
	"Russian Standard Time": "Europe/Moscow", "Turkey Standard Time": "Europe/Istanbul", "E. South America Standard Time": "America/Sao_Paulo", "UTC": "UTC",
}

// times tells out a recurring entry within the window.
func (w *window) times(e *ical.Component, start moment) []moment {
	skip := map[int64]bool{}
	for _, p := range e.Props.Values(ical.PropExceptionDates) {
		for one := range strings.SplitSeq(p.Value, ",") {
			if m, ok := w.read(&p, one); ok {
				skip[m.at.Unix()] = true
			}
		}
	}
	length := w.end(e, start).Sub(start.at)
	seen := map[int64]bool{}
	var out []moment
	add := func(m moment) {
		if !skip[m.at.Unix()] && !seen[m.at.Unix()] && m.at.Add(length).After(w.from) && m.at.Before(w.to) && len(out) < maxTimes {
			seen[m.at.Unix()] = true
			out = append(out, m)
		}
	}
	if p := e.Props.Get(ical.PropRecurrenceRule); p != nil {
		s, err := corecal.ByRule(start.at, p.Value, start.at.Location())
		if err != nil { // the first time at least is certain
			add(start)
		} else {
			for _, at := range s.Between(w.from.Add(-length), w.to, maxTimes) {
				add(moment{at, start.day})
			}
		}
	}
	add(start) // DTSTART counts as the first, whether or not the rule fits it
	for _, p := range e.Props.Values(ical.PropRecurrenceDates) {
		for one := range strings.SplitSeq(p.Value, ",") {
			one, _, _ = strings.Cut(one, "/")
			if m, ok := w.read(&p, one); ok {
				add(m)
			}
		}
	}
	return out
}

// end is when an entry ends that begins at start.
func (w *window) end(e *ical.Component, start moment) time.Time {
	first, _ := w.when(e, ical.PropDateTimeStart)
	if end, ok := w.when(e, ical.PropDateTimeEnd); ok && end.at.After(first.at) {
		if start.day {
			days := int(corecal.Wall(end.at).Sub(corecal.Wall(first.at)).Hours() / 24)
			return corecal.InZone(corecal.Wall(start.at).AddDate(0, 0, days), start.at.Location())
		}
		return start.at.Add(end.at.Sub(first.at))
	}
	if p := e.Props.Get(ical.PropDuration); p != nil {
		if d, err := p.Duration(); err == nil && d > 0 {
			return start.at.Add(d)
		}
	}
	if start.day {
		return corecal.InZone(corecal.Wall(start.at).AddDate(0, 0, 1), start.at.Location())
	}
	return start.at
}

func text(e *ical.Component, name string) string {
	p := e.Props.Get(name)
	if p == nil {
		return ""
	}
	s, err := p.Text()
	if err != nil {
		s = p.Value
	}
	return strings.ReplaceAll(strings.ToValidUTF8(strings.TrimSpace(s), "\uFFFD"), "\x00", "\uFFFD")
}

// item makes the record of one time of an entry.
func (w *window) item(e *ical.Component, key string, start moment, hasStart bool) connect.Item {
	r := map[string]any{"id": key, "kind": "event"}
	if e.Name == ical.CompToDo {
		r["kind"] = "to-do"
	}
	for _, f := range []struct{ name, prop string }{
		{"title", ical.PropSummary}, {"text", ical.PropDescription}, {"place", ical.PropLocation}, {"link", ical.PropURL},
	} {
		if s := text(e, f.prop); s != "" {
			r[f.name] = s
		}
	}
	if s := strings.ToLower(text(e, ical.PropStatus)); s != "" {
		r["status"] = s
	}
	if hasStart {
		r["start"], r["all_day"] = start.text(), start.day
		if e.Name == ical.CompEvent {
			r["end"] = moment{w.end(e, start), start.day}.text()
		}
	}
	for name, prop := range map[string]string{"due": ical.PropDue, "completed": ical.PropCompleted, "changed": ical.PropLastModified} {
		if m, ok := w.when(e, prop); ok {
			if first, has := w.when(e, ical.PropDateTimeStart); prop == ical.PropDue && has && hasStart {
				m.at = start.at.Add(m.at.Sub(first.at)) // each time has its own
			}
			r[name] = m.text()
		}
	}
	if p := e.Props.Get(ical.PropPriority); p != nil {
		if n, err := p.Int(); err == nil && n > 0 {
			r["priority"] = float64(n)
		}
	}
	if p := e.Props.Get(ical.PropPercentComplete); p != nil {
		if n, err := p.Int(); err == nil {
			r["percent"] = float64(n)
		}
	}
	var tags []any
	for _, p := range e.Props.Values(ical.PropCategories) {
		list, err := p.TextList()
		if err != nil {
			continue
		}
		for _, s := range list {
			tags = append(tags, strings.ToValidUTF8(s, "\uFFFD"))
		}
	}
	if tags != nil {
		r["categories"] = tags
	}
	if p := e.Props.Get(ical.PropOrganizer); p != nil {
		r["organizer"] = person(p)
	}
	var invited []any
	for _, p := range e.Props.Values(ical.PropAttendee) {
		invited = append(invited, person(&p))
	}
	if invited != nil {
		r["attendees"] = invited
	}
	it := connect.Item{Key: key, Record: r}
	if m, ok := w.when(e, ical.PropLastModified); ok {
		it.At = m.at
	}
	return it
}

func person(p *ical.Prop) string {
	if n := p.Params.Get(ical.ParamCommonName); n != "" {
		return strings.ToValidUTF8(n, "\uFFFD")
	}
	return strings.ToValidUTF8(strings.TrimPrefix(strings.TrimPrefix(p.Value, "mailto:"), "MAILTO:"), "\uFFFD")
}

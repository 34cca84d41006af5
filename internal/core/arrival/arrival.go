// Package arrival reads and writes arrivals: CloudEvents 1.0 in JSON, as formats.md describes them.
package arrival

import (
	"net/url"
	"strings"
	"time"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Arrival is one thing that came in. It is never changed.
type Arrival struct {
	ID      string
	Source  string // connection/kind
	Type    string // dorfbote.record.created, …
	Time    time.Time
	Subject string // the record's key
	Record  map[string]any
	Before  map[string]any // nil where the record was not there before
	By      string
	Answers map[string]any
}

// The types of arrivals.
const (
	Created = "dorfbote.record.created"
	Updated = "dorfbote.record.updated"
	Removed = "dorfbote.record.removed"
	Start   = "dorfbote.start"
	Tick    = "dorfbote.tick"
	// Post is a post that another Dorfbote tells of: what it carries is the record itself.
	Post = "dorfbote.post"
)

// Kind is the type in one word: created, updated, removed, start or tick. A foreign type ends in
// such a word, or counts as updated.
func (a *Arrival) Kind() string {
	if a.Type == Post {
		return "created"
	}
	last := a.Type[strings.LastIndexByte(a.Type, '.')+1:]
	switch last {
	case "created", "updated", "removed", "start", "tick":
		return last
	case "deleted":
		return "removed"
	case "added", "inserted", "new":
		return "created"
	}
	return "updated"
}

func wrong(field, format string, args ...any) error {
	return fault.At(field, format, args...)
}

// Read reads one event in the JSON format of CloudEvents 1.0. Errors are a [*value.JSONError] or a
// [*fault.Fault].
func Read(data []byte) (*Arrival, error) {
	v, err := value.ReadJSON(data)
	if err != nil {
		return nil, err
	}
	return FromEvent(v)
}

// ReadBy reads one event with a reader that has read others.
func ReadBy(r *value.Reader, data []byte) (*Arrival, error) {
	v, err := r.Read(data)
	if err != nil {
		return nil, err
	}
	return FromEvent(v)
}

// FromEvent makes an arrival of a CloudEvent that has been read as JSON.
func FromEvent(v any) (*Arrival, error) {
	m, ok := v.(map[string]any)
	if !ok {
		return nil, wrong("(event)", "a CloudEvent is a JSON object, not %s", value.Describe(v))
	}
	a := &Arrival{}
	texts := [...]struct {
		name string
		into *string
	}{{"id", &a.ID}, {"source", &a.Source}, {"type", &a.Type}, {"subject", &a.Subject}}
	for _, name := range [...]string{"specversion", "id", "source", "type"} {
		if value.Empty(m[name]) {
			return nil, wrong(name, "is missing; CloudEvents 1.0 requires it")
		}
	}
	if m["specversion"] != "1.0" {
		return nil, wrong("specversion", "is %v; this reads 1.0", value.Describe(m["specversion"])+" "+string(value.AppendJSON(nil, m["specversion"])))
	}
	for _, t := range texts {
		switch x := m[t.name].(type) {
		case nil:
		case string:
			*t.into = x
		default:
			return nil, wrong(t.name, "is %s where text was expected", value.Describe(x))
		}
	}
	if !plainSource(a.Source) {
		if _, err := url.Parse(a.Source); err != nil {
			return nil, wrong("source", "is not a URI reference")
		}
	}
	if m["data_base64"] != nil {
		return nil, wrong("data_base64", "is not read; send the record as JSON in data")
	}
	if t, ok := m["time"]; ok && t != nil {
		text, _ := t.(string)
		at, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return nil, wrong("time", "%q is not an RFC 3339 time such as 2026-11-20T06:41:07Z", text)
		}
		a.Time = at
	}
	return a, a.data(m["data"])
}

// plainSource tells at once that a source is a URI reference.
func plainSource(s string) bool {
	for i := range len(s) {
		if c := s[i]; c != '/' && c != '-' && c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return false
		}
	}
	return true
}

// data reads what the event carries: {record, before, by, answers}, or the record itself.
func (a *Arrival) data(v any) error {
	d, ok := v.(map[string]any)
	if !ok {
		if v == nil && (a.Type == Tick || a.Type == Start || a.Kind() == "removed") {
			return nil
		}
		return wrong("data", "is %s where an object with a record was expected", value.Describe(v))
	}
	_, wrapped := d["record"].(map[string]any)
	if !wrapped && (a.Type == Post || !strings.HasPrefix(a.Type, "dorfbote.")) {
		a.Record = d
		return nil
	}
	parts := [...]struct {
		name string
		into *map[string]any
	}{{"record", &a.Record}, {"before", &a.Before}, {"answers", &a.Answers}}
	for _, p := range parts {
		switch x := d[p.name].(type) {
		case nil:
		case map[string]any:
			*p.into = x
		default:
			return wrong("data."+p.name, "is %s where an object was expected", value.Describe(x))
		}
	}
	a.By, _ = d["by"].(string)
	if a.Record == nil && a.Before != nil {
		a.Record = a.Before // a removed record is judged as it last was
	}
	if a.Record == nil && a.Type != Tick && a.Type != Start && a.Kind() != "removed" {
		return wrong("data.record", "is missing")
	}
	return nil
}

// AppendJSON writes the arrival as a CloudEvent on one line.
func (a *Arrival) AppendJSON(b []byte) []byte {
	m := map[string]any{
		"specversion": "1.0", "id": a.ID, "source": a.Source, "type": a.Type,
		"time": a.Time.Format(time.RFC3339Nano), "data": a.Data(),
	}
	if a.Subject != "" {
		m["subject"] = a.Subject
	}
	return value.AppendJSON(b, m)
}

// Carry takes in what an event that has been checked carries: what Data gave.
func (a *Arrival) Carry(d map[string]any) {
	a.Record, _ = d["record"].(map[string]any)
	a.Before, _ = d["before"].(map[string]any)
	a.Answers, _ = d["answers"].(map[string]any)
	a.By, _ = d["by"].(string)
}

// Data is what the event carries.
func (a *Arrival) Data() map[string]any {
	d := map[string]any{}
	if a.Record != nil {
		d["record"] = a.Record
	}
	if a.Before != nil {
		d["before"] = a.Before
	}
	if a.By != "" {
		d["by"] = a.By
	}
	if a.Answers != nil {
		d["answers"] = a.Answers
	}
	return d
}

// Package value holds what Dorfbote knows about single values: their types, how they are read from
// JSON, compared, counted as empty, looked up by path, learnt from samples and shown to a person.
//
// A value is plain Go data as [ReadJSON] makes it: nil, bool, float64, string, []any and
// map[string]any. There is no second, typed form of a record: the type of a field (see [Kind]) says
// how its raw value is to be read, and the reading happens where the value is used. So a record is
// kept as it came, and a corrected type holds for old records as well.
package value

import "time"

// Workspace is what reading and showing depend on besides the value itself.
type Workspace struct {
	// Zone is where a date without a time begins at midnight.
	Zone *time.Location
	// Locale is a BCP 47 tag; it says how numbers in text are written. Empty means "en".
	Locale string
}

// DefaultWorkspace is UTC and English.
func DefaultWorkspace() Workspace { return Workspace{Zone: time.UTC, Locale: "en"} }

// Location returns the zone, and UTC where none is set.
func (w Workspace) Location() *time.Location {
	if w.Zone == nil {
		return time.UTC
	}
	return w.Zone
}

// Empty tells whether v counts as empty: missing, null, "" or a list without elements.
func Empty(v any) bool {
	switch x := v.(type) {
	case nil:
		return true
	case string:
		return x == ""
	case []any:
		return len(x) == 0
	}
	return false
}

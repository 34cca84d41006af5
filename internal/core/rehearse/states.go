package rehearse

import (
	"sort"

	"dorfbote/internal/core/arrival"
)

// States are the records that look-ups may find, as they are by the virtual clock. Only those of the sources that the
// plan looks up are kept.
type States struct {
	bySource map[string]*state
	fixed    func(source string) []map[string]any
}

type state struct {
	records map[string]map[string]any
	sorted  []map[string]any // in the order of the keys; nil after a change
}

// NewStates makes room for the records of some sources.
func NewStates(sources []string) *States {
	s := &States{bySource: map[string]*state{}}
	for _, name := range sources {
		s.bySource[name] = &state{records: map[string]map[string]any{}}
	}
	return s
}

// Fixed is what is known elsewhere, and does not change with the arrivals.
func Fixed(find func(source string) []map[string]any) *States { return &States{fixed: find} }

// Put sets a record.
func (s *States) Put(source, key string, record map[string]any) {
	if st := s.bySource[source]; st != nil {
		st.records[key], st.sorted = record, nil
	}
}

// See has an arrival change what is known.
func (s *States) See(a *arrival.Arrival) {
	st := s.bySource[a.Source]
	if st == nil || a.Subject == "" || a.Kind() == "tick" || a.Kind() == "start" {
		return
	}
	if st.sorted = nil; a.Kind() == "removed" {
		delete(st.records, a.Subject)
	} else if a.Record != nil {
		st.records[a.Subject] = a.Record
	}
}

// Find gives a source's records in the order of their keys.
func (s *States) Find(source string) []map[string]any {
	if s.fixed != nil {
		return s.fixed(source)
	}
	st := s.bySource[source]
	if st == nil {
		return nil
	}
	if st.sorted == nil {
		keys := make([]string, 0, len(st.records))
		for k := range st.records {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		st.sorted = make([]map[string]any, len(keys))
		for i, k := range keys {
			st.sorted[i] = st.records[k]
		}
	}
	return st.sorted
}

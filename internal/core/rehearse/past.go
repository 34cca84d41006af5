package rehearse

import (
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Earlier gives what came in of a record before the clock begins, in its order.
type Earlier func(key string) ([]*arrival.Arrival, error)

// pasts keep when the fields whose past a plan asks for took each of their values, as far as the clock has come.
type pasts struct {
	plan    *sheet.Plan
	fields  []string
	byKey   map[string]*Past
	earlier Earlier
	known   func(formula.Arrival, time.Time, string, value.Type, value.Workspace) ([]formula.Took, error) // nil: what the clock has seen
}

func newPasts(p *sheet.Plan) *pasts {
	out := &pasts{plan: p, byKey: map[string]*Past{}}
	seen := map[string]bool{}
	for _, f := range p.Terms.Sources.Became {
		if !seen[f] {
			seen[f] = true
			out.fields = append(out.fields, f)
		}
	}
	return out
}

// see takes in what comes of a record of the plan's source.
func (p *pasts) see(a *arrival.Arrival) error {
	if len(p.fields) == 0 || a.Source != p.plan.Source || a.Subject == "" || !ofARecord(a) {
		return nil
	}
	past := p.byKey[a.Subject]
	if past == nil {
		past = &Past{}
		if p.earlier != nil {
			list, err := p.earlier(a.Subject)
			if err != nil {
				return err
			}
			for _, e := range list {
				p.add(past, e)
			}
		}
		p.byKey[a.Subject] = past
	}
	p.add(past, a)
	return nil
}

func (p *pasts) add(past *Past, a *arrival.Arrival) {
	for _, f := range p.fields {
		t := value.Any
		if known, _, ok := p.plan.Terms.Schema.Find(value.ParsePath(f)); ok {
			t = known.Type
		}
		past.Add(a, f, t, p.plan.Terms.Workspace)
	}
}

// took is [formula.Reach.Took].
func (p *pasts) took(a formula.Arrival, now time.Time, field string, t value.Type, ws value.Workspace) ([]formula.Took, error) {
	if p.known != nil {
		return p.known(a, now, field, t, ws)
	}
	if past := p.byKey[a.Subject]; past != nil && a.Source == p.plan.Source {
		return past.Took(field), nil
	}
	return nil, nil
}

// Past is when fields of a record took each of their values. Its memory is that of the values.
type Past struct{ fields map[string]*fieldPast }

type fieldPast struct {
	last any
	took []formula.Took
}

// Add takes in what came of the record, after what was added before, for one field of the type.
func (p *Past) Add(a *arrival.Arrival, field string, t value.Type, ws value.Workspace) {
	if !ofARecord(a) {
		return
	}
	path := value.ParsePath(field)
	f := p.fields[field]
	if f == nil {
		if p.fields == nil {
			p.fields = map[string]*fieldPast{}
		}
		f = &fieldPast{}
		f.last, _ = path.Get(a.Before)
		p.fields[field] = f
	}
	if a.Kind() == "removed" {
		f.last = nil // where it comes again, its fields take their values anew
		return
	}
	is, _ := path.Get(a.Record)
	f.took = formula.TookNow(f.took, f.last, is, a.Time, t, ws)
	f.last = is
}

// Took gives when a field last took each of its values.
func (p *Past) Took(field string) []formula.Took {
	if f := p.fields[field]; f != nil {
		return f.took
	}
	return nil
}

func ofARecord(a *arrival.Arrival) bool {
	switch a.Kind() {
	case "created", "updated", "removed":
		return true
	}
	return false
}

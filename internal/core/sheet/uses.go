package sheet

import (
	"regexp"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

var recordField = regexp.MustCompile(`\b(?:record|before)(?:\??\.([\pL_][\pL\pN_]*)|\[["']([^"']+)["']\])`)

// Fields lists the top-level fields of the watched records that the sheet speaks of: in conditions, in formulas and in
// messages.
func (s *Sheet) Fields() []string {
	found := map[string]bool{}
	s.speaks(func(name string) {
		name, _, _ = strings.Cut(name, ".")
		found[name] = true
	}, func(t string) {
		for _, m := range recordField.FindAllStringSubmatch(t, -1) {
			found[m[1]+m[2]] = true
		}
	})
	return value.SortedKeys(found)
}

// speaks hands on what the sheet says of the watched records: the fields that it names as they are, and its texts with formulas.
func (s *Sheet) speaks(field, text func(string)) {
	var conds func(c *cond.Spec)
	conds = func(c *cond.Spec) {
		if c == nil {
			return
		}
		if c.Field.S != "" {
			field(c.Field.S)
		}
		if c.Formula != nil {
			text(c.Formula.S)
		}
		text(string(value.AppendJSON(nil, c.Value)))
		for _, sub := range c.Subs {
			conds(sub)
		}
	}
	conds(s.Watch.When)
	conds(s.Watch.That)
	conds(s.Keep)
	for _, g := range s.Gather {
		if g.Value != nil {
			text(g.Value.S)
		}
		g.texts(func(t report.Text) { text(t.S) })
		if g.Summary != nil {
			for _, t := range g.Summary.Of {
				if name := strings.TrimPrefix(strings.TrimSpace(t.S), "record."); !strings.ContainsAny(name, "$ ") {
					field(name)
				}
			}
		}
		if g.Find != nil && g.Find.Where != nil { // its fields are another source's; its formulas speak of this one
			text(string(value.AppendJSON(nil, values(g.Find.Where))))
		}
	}
	for _, row := range s.Route.Rows {
		conds(row.When)
	}
	for _, a := range s.Asks {
		conds(a.When)
		for _, t := range a.Of {
			text(t.S)
		}
	}
	if f := s.Watch.Field.S; f != "" {
		field(f)
	}
	if s.Pace != nil && s.Pace.Repeat != nil {
		text(s.Pace.Repeat.Key.S)
	}
	for _, m := range s.Messages {
		m.Texts(func(t *report.Text) { text(t.S) })
	}
	for _, b := range s.branches() {
		for i := range b.Tell {
			b.Tell[i].texts(text)
			if k := b.Tell[i].KeepUp; k != nil {
				conds(k.Until)
			}
		}
	}
	for _, f := range s.Follow {
		conds(f.When)
		conds(f.Unless)
		text(f.Key.S)
		if f.Each != nil {
			text(f.Each.S)
		}
		f.Set.texts(func(t report.Text) { text(t.S) })
	}
}

// Names lists the sources and destinations that the sheet names, each with its place.
func (s *Sheet) Names() (sources, destinations []report.Text) {
	named := []report.Text{s.Watch.Source, s.Watch.Schedule.Except}
	for _, g := range s.Gather {
		if g.Find != nil {
			named = append(named, g.Find.Source)
		}
	}
	for _, f := range s.Follow {
		named = append(named, f.Source)
	}
	for _, t := range named {
		if t.S != "" {
			sources = append(sources, t)
		}
	}
	for _, b := range s.branches() {
		for _, t := range b.Tell {
			destinations = append(destinations, t.To)
		}
	}
	for _, a := range s.Asks {
		destinations = append(destinations, a.Of...)
	}
	return sources, destinations
}

// branches are all that tell somebody: rows, what goes otherwise, and what tells of failures.
func (s *Sheet) branches() []Branch {
	branches := make([]Branch, 0, len(s.Route.Rows)+1)
	for _, r := range s.Route.Rows {
		branches = append(branches, r.Branch)
	}
	if s.Route.Otherwise != nil {
		branches = append(branches, *s.Route.Otherwise)
	}
	for _, g := range s.Gather {
		if g.Fails != nil {
			branches = append(branches, g.Fails.Tell)
		}
	}
	for _, f := range s.Follow {
		if f.Fails != nil {
			branches = append(branches, f.Fails.Tell)
		}
		if len(f.Tell) > 0 {
			branches = append(branches, Branch{At: f.At, Tell: f.Tell})
		}
	}
	return branches
}

// texts hands on the texts of whom is told in which formulas may stand.
func (t *Tell) texts(each func(string)) {
	each(t.To.S)
	for _, x := range []*report.Text{t.Cc, t.Bcc} {
		if x != nil {
			each(x.S)
		}
	}
	if t.Each != nil {
		each(t.Each.S)
	}
}

// values lists the values in a condition, in which formulas may stand.
func values(c *cond.Spec) []any {
	out := []any{c.Value}
	if c.Formula != nil {
		out = append(out, c.Formula.S)
	}
	for _, sub := range c.Subs {
		out = append(out, values(sub)...)
	}
	return out
}

// texts hands on the texts of what is gathered in which formulas or names of fields may stand.
func (g *Gather) texts(each func(report.Text)) {
	if g.Script != nil {
		each(*g.Script)
	}
	if g.HTTP != nil {
		each(g.HTTP.URL)
		for _, h := range g.HTTP.Headers {
			each(h.Value)
		}
		g.HTTP.Body.texts(each)
	}
	if g.Summary != nil {
		for _, t := range g.Summary.Of {
			each(t)
		}
	}
}

func (b *HTTPBody) texts(each func(report.Text)) {
	if b == nil {
		return
	}
	if b.Text != nil {
		each(*b.Text)
	}
	for _, e := range b.List {
		e.texts(each)
	}
	for _, e := range b.Map {
		e.Value.texts(each)
	}
}

package route

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Look looks into a sheet that has been made ready, and says what it finds.
func Look(p *sheet.Plan, now time.Time) Analysis {
	t := Table{Base: []cond.Node{p.When, p.Keep, p.Trigger.That}, Every: p.Every, Otherwise: p.Else != nil, Answers: p.Answer != nil, Now: now}
	t.Created = p.Timed() || p.AsksFor() || p.StartsOn("created")
	t.Updated = !p.Timed() && !p.AsksFor() && (p.StartsOn("updated") || p.StartsOn("removed"))
	names := make([]string, len(p.Rows))
	for i := range p.Rows {
		t.Rows = append(t.Rows, p.Rows[i].When)
		names[i] = fmt.Sprintf("row %d (%s)", i+1, p.Rows[i].Name)
	}
	a := Analyse(t)
	for i := range a.Findings {
		a.Findings[i].Words = a.Findings[i].words(names, p.Every, p.Terms.Workspace)
	}
	return a
}

func (f *Finding) words(names []string, every bool, ws value.Workspace) string {
	var said string
	switch f.Kind {
	case Unreachable:
		switch {
		case f.Row < 0:
			return "Otherwise is never needed: the rows take everything."
		case len(f.By) > 0:
			verb := "takes"
			if len(f.By) > 1 {
				verb = "together take"
			}
			by := list(f.By, names)
			said = fmt.Sprintf("%s is never taken: %s %s everything it would.", value.Capital(names[f.Row]), by, verb)
		default:
			return value.Capital(names[f.Row]) + " is never taken: nothing that comes this far can hold there."
		}
	case Overlap:
		said = fmt.Sprintf("%s also holds for some of what %s takes, which goes first.", value.Capital(names[f.Row]), names[f.By[0]])
		if every {
			said = fmt.Sprintf("%s and %s can both hold, and then both tell.", value.Capital(names[f.By[0]]), names[f.Row])
		}
	case Gap:
		said = "Something can come in that no row takes, and nobody is told: there is no otherwise."
	case Never:
		return "This can never hold."
	case Always:
		return "This always holds, so it keeps nothing back."
	}
	if f.Example != nil {
		said += " For example: " + f.Example.Words(ws) + "."
	}
	return said
}

func list(rows []int, names []string) string {
	parts := make([]string, len(rows))
	for i, r := range rows {
		parts[i] = names[r]
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// Words says an example in words.
func (e *Example) Words(ws value.Workspace) string {
	var parts []string
	if e.New {
		parts = append(parts, "a new record")
	}
	flat := map[string]any{}
	flatten(flat, "", e.Record)
	flatten(flat, "", e.Gathered)
	before := map[string]any{}
	flatten(before, "", e.Before)
	for name := range before {
		if _, ok := flat[name]; !ok {
			flat[name] = nil
		}
	}
	for _, name := range value.SortedKeys(flat) {
		said := name + " is " + show(flat[name], ws)
		if was, ok := before[name]; ok {
			said += " and was " + show(was, ws)
		}
		parts = append(parts, said)
	}
	if len(flat) == 0 {
		parts = append(parts, "a record whose fields named here are all empty")
	}
	given := make([]string, 0, len(e.Given))
	for name, holds := range e.Given {
		word := " holds"
		if !holds {
			word = " does not hold"
		}
		given = append(given, name+word)
	}
	sort.Strings(given)
	out := strings.Join(parts, ", ")
	switch {
	case len(given) > 0:
		out += ", if " + strings.Join(given, " and ")
	case !e.Sure:
		out += ", if there is such a text"
	}
	return out
}

func show(v any, ws value.Workspace) string {
	if value.Empty(v) {
		return "empty"
	}
	if s, ok := v.(string); ok {
		if at, _, isTime := value.ReadMoment(s, ws.Location()); isTime && strings.Contains(s, "T") {
			return at.In(ws.Location()).Format("2006-01-02 15:04:05")
		}
		return fmt.Sprintf("%q", s)
	}
	return formula.Show(v, ws)
}

func flatten(into map[string]any, prefix string, m map[string]any) {
	for k, v := range m {
		if sub, ok := v.(map[string]any); ok {
			flatten(into, prefix+k+".", sub)
			continue
		}
		into[prefix+k] = v
	}
}

// Problems are the findings that are worth a warning where they stand on the sheet: what can never hold, and what is
// never taken. The rest may well be meant.
func (a *Analysis) Problems(s *sheet.Sheet, all bool) []report.Problem {
	at := map[string]*cond.Spec{}
	s.Conditions(func(c *cond.Spec, path string) { at[path] = c })
	var out report.List
	for _, f := range a.Findings {
		switch {
		case (f.Kind == Never || all && f.Kind == Always) && at[f.Path] != nil:
			c := at[f.Path]
			out.Warn(c.At, f.Path, "", "%s", lower(f.Words))
			if f.Kind == Never && c.Group == "all" && sameField(c.Subs) {
				out.Mend("Have one of them be enough", f.Path, (&cond.Spec{Group: "any", Subs: c.Subs}).JSON())
			}
		case f.Kind == Unreachable && f.Row >= 0:
			out.Warn(s.Route.Rows[f.Row].At, fmt.Sprintf("route.rows[%d]", f.Row), "", "%s", lower(f.Words))
		case f.Kind == Unreachable && all:
			out.Warn(s.Route.Otherwise.At, "route.otherwise", "", "%s", lower(f.Words))
		case f.Kind == Gap && all:
			out.Warn(s.Route.At, "route", "", "%s", lower(f.Words))
		}
	}
	return out.Problems
}

func lower(s string) string {
	return strings.ToLower(s[:1]) + strings.TrimSuffix(s[1:], ".")
}

func sameField(list []*cond.Spec) bool {
	for _, c := range list {
		if c.Group != "" || c.Formula != nil || value.Fold(c.Field.S) != value.Fold(list[0].Field.S) {
			return false
		}
	}
	return len(list) > 1
}

package sheet

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Gather is one thing that the message or the route needs and the record lacks. Its name is known below it.
type Gather struct {
	Name  report.Text
	Find  *Find
	Value *report.Text // a formula
}

// Find looks up records.
type Find struct {
	At     report.Pos
	Source report.Text
	Where  *cond.Spec
	All    bool // a list, instead of one record
	Sort   report.Text
	Limit  int
}

// gatherLater are the ways to gather that this version reads over with a plain refusal.
var gatherLater = map[string]bool{"script": true, "http": true, "summary": true}

// reserved are the names that formulas know already.
var reserved = []string{"record", "before", "changed", "arrival", "answers", "now", "it"}

func (r *reader) gather(n *yaml.Node, s *Sheet) {
	seen := map[string]bool{}
	for i, item := range r.list(n, "gather", "gather") {
		path := fmt.Sprintf("gather[%d]", i)
		g := Gather{}
		for _, e := range r.parts(item, path, "an entry of gather", []string{"name"}, "name", "find", "value", "script", "http", "summary") {
			switch {
			case e.name == "name":
				g.Name = r.text(e.node, path+".name", "the name")
			case gatherLater[e.name]:
				r.problems.Add(at(e.key), path, "", "gathering by %s is part of the format but cannot be run by this version yet", e.name)
			case g.Find != nil || g.Value != nil:
				r.problems.Add(at(e.key), path, "", "an entry gathers in one way; %s comes second", e.name)
			case e.name == "find":
				g.Find = r.find(e.node, path+".find")
			case e.name == "value":
				t := r.text(e.node, path+".value", "a formula")
				if src, ok := cutMarkers(t.S); ok {
					within, skip := t.Within, strings.Index(t.S, "${")+2
					t.S, t.Within = src, func(o int) report.Pos { return within(o + skip) }
				}
				g.Value = &t
			}
		}
		switch name := g.Name.S; {
		case name == "":
		case !isName(name):
			r.problems.Add(g.Name.At, path+".name", "", "%q cannot be a name; use letters, digits and _", name)
		case contains(reserved, name):
			r.problems.Add(g.Name.At, path+".name", "", "%s has a meaning of its own in formulas; choose another name", name)
		case seen[name]:
			r.problems.Add(g.Name.At, path+".name", "", "two things are called %s", name)
		}
		seen[g.Name.S] = true
		s.Gather = append(s.Gather, g)
	}
}

func (r *reader) find(n *yaml.Node, path string) *Find {
	f := &Find{At: at(n)}
	for _, e := range r.parts(n, path, "find", []string{"source"}, "source", "where", "take", "sort", "limit") {
		switch e.name {
		case "source":
			f.Source = r.source(e.node, path+".source")
		case "where":
			f.Where = r.cond(e.node, path+".where")
		case "take":
			t := r.text(e.node, path+".take", "take")
			if f.All = t.S == "all"; t.S != "all" && t.S != "one" {
				r.problems.Add(t.At, path+".take", value.Nearest(t.S, []string{"one", "all"}), "take is one or all, not %q", t.S)
			}
		case "sort":
			f.Sort = r.text(e.node, path+".sort", "the field to sort by")
		case "limit":
			t := r.text(e.node, path+".limit", "the limit")
			if n, err := fmt.Sscanf(t.S, "%d", &f.Limit); n != 1 || err != nil || f.Limit < 1 {
				r.problems.Add(t.At, path+".limit", "", "limit is a whole number of at least 1, not %q", t.S)
			}
		}
	}
	return f
}

// PlanGather is one thing that is gathered, made ready.
type PlanGather struct {
	Name  string
	Path  string
	Value *formula.Formula
	Find  *PlanFind
}

// PlanFind is a look-up made ready.
type PlanFind struct {
	Source     string
	Where      cond.Node // nil: every record
	Words      *formula.Words
	All        bool
	Sort       value.Path
	Descending bool
	Limit      int
}

// Lookups lists the sources whose records the plan looks up.
func (p *Plan) Lookups() []string {
	var out []string
	for _, g := range p.Gather {
		if g.Find != nil && !contains(out, g.Find.Source) {
			out = append(out, g.Find.Source)
		}
	}
	return out
}

// gatherAll compiles what is gathered, in order; each name is known to what comes after it.
func (s *Sheet) gatherAll(p *Plan, known Known, problems *report.List) {
	for i, g := range s.Gather {
		path := fmt.Sprintf("gather[%d]", i)
		pg := PlanGather{Name: g.Name.S, Path: path}
		name := formula.Name{Name: g.Name.S}
		switch {
		case g.Value != nil:
			f, err := formula.Compile(g.Value.S, p.Terms)
			if err != nil {
				fe := err.(*formula.Error)
				problems.Add(g.Value.In(fe.Offset), path+".value", fe.Suggestion, "%s", fe.Message)
			}
			pg.Value = f
		case g.Find != nil:
			pg.Find = g.Find.compile(p, known, path+".find", problems)
			name.Kind, name.Many = pg.Find.Words.Kind, g.Find.All
		default:
			if g.Name.At.Line > 0 {
				problems.Add(g.Name.At, path, "", "%s gathers nothing; give it find or value", g.Name.S)
			}
			continue
		}
		p.Gather = append(p.Gather, pg)
		p.Terms.Gathered = append(p.Terms.Gathered, name)
	}
}

func (f *Find) compile(p *Plan, known Known, path string, problems *report.List) *PlanFind {
	out := &PlanFind{Source: f.Source.S, All: f.All, Limit: f.Limit}
	out.Words = &formula.Words{Workspace: known.Workspace}
	if known.Kind != nil {
		out.Words.Kind = known.Kind(f.Source.S)
	}
	if known.Sources != nil {
		mustKnow(problems, f.Source, path+".source", known.Sources(), "there is no source %s")
	}
	if f.Where != nil {
		out.Where = cond.CompileFor(f.Where, out.Words, p.Terms, path+".where", problems)
	}
	if f.Sort.S != "" {
		name := strings.TrimSpace(f.Sort.S)
		if rest, ok := strings.CutPrefix(name, "-"); ok {
			name, out.Descending = rest, true
		} else if rest, ok := strings.CutSuffix(name, " desc"); ok {
			name, out.Descending = strings.TrimSpace(rest), true
		}
		out.Sort = value.ParsePath(name)
		if k := out.Words.Kind; k != nil && !k.Learnt {
			if _, _, ok := k.Find(out.Sort); !ok {
				near := value.Nearest(name, k.Names())
				if !k.Open || near != "" {
					problems.Add(f.Sort.At, path+".sort", near, "the records of %s have no field %s", f.Source.S, name)
				}
			}
		}
	}
	return out
}

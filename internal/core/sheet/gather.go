package sheet

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Gather is one thing that the message or the route needs and the record lacks. Its name is known below it.
type Gather struct {
	Name    report.Text
	Find    *Find
	Value   *report.Text // a formula
	Script  *report.Text // Starlark; what it sets as result
	HTTP    *HTTP
	Summary *Summary
	Fails   *Fails // nil: the arrival fails
	LeftOut bool   // see [CompilePartly]
}

func (g *Gather) way() bool {
	return !g.LeftOut && (g.Find != nil || g.Value != nil || g.Script != nil || g.HTTP != nil || g.Summary != nil)
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

// reserved are the names that formulas know already.
var reserved = []string{"record", "before", "changed", "arrival", "answers", "now", "it"}

func (r *reader) gather(n *yaml.Node, s *Sheet) {
	for i, item := range r.list(n, "gather", "gather") {
		path := fmt.Sprintf("gather[%d]", i)
		g := Gather{}
		for _, e := range r.parts(item, path, "an entry of gather", []string{"name"}, "name", "find", "value", "script", "http", "summary", "if_fails") {
			switch {
			case e.name == "name":
				g.Name = r.text(e.node, path+".name", "the name")
			case e.name == "if_fails":
				g.Fails = r.fails(e.node, path+".if_fails")
			case g.way():
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
			case e.name == "script":
				g.Script = r.script(e.node, path+".script")
			case e.name == "http":
				g.HTTP = r.http(e.node, path+".http")
			case e.name == "summary":
				g.Summary = r.summary(e.node, path+".summary")
			}
		}
		r.named(g.Name, path)
		s.Gather = append(s.Gather, g)
	}
}

// named refuses what cannot be a name in formulas.
func (r *reader) named(name report.Text, path string) {
	switch {
	case name.S == "":
	case !isName(name.S):
		r.problems.Add(name.At, path+".name", "", "%q cannot be a name; use letters, digits and _", name.S)
	case contains(reserved, name.S):
		r.problems.Add(name.At, path+".name", "", "%s has a meaning of its own in formulas; choose another name", name.S)
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
			f.Limit = r.whole(r.text(e.node, path+".limit", "the limit"), path, "limit", 0)
		}
	}
	return f
}

// PlanGather is one thing that is gathered, made ready.
type PlanGather struct {
	Name    string
	Path    string
	Value   *formula.Formula
	Find    *PlanFind
	Script  string
	HTTP    *PlanHTTP
	Summary *PlanSummary
	Fails   string      // what a failure leads to
	Tell    *PlanBranch // where it is another branch
}

// Asks tells whether it asks services or runs scripts, which may be slow.
func (p *Plan) Asks() bool {
	return slices.ContainsFunc(p.Gather, func(g PlanGather) bool { return g.HTTP != nil || g.Script != "" })
}

// Fetches says whether something is gathered from a service.
func (p *Plan) Fetches() bool {
	return slices.ContainsFunc(p.Gather, func(g PlanGather) bool { return g.HTTP != nil })
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

// Lookups lists the sources whose records the plan looks up, in Gather or by its formulas.
func (p *Plan) Lookups() []string {
	var out []string
	for _, g := range p.Gather {
		if g.Find != nil && !contains(out, g.Find.Source) {
			out = append(out, g.Find.Source)
		}
	}
	for _, name := range p.Terms.Sources.Names {
		if !contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// gatherFails compiles the branches that tell of failures, which speak of messages.
func (s *Sheet) gatherFails(p *Plan, known Known, used map[string]bool, problems *report.List) {
	n := 0
	for i, g := range s.Gather {
		if !g.way() {
			continue
		}
		if g.Fails != nil && g.Fails.How == FailTell {
			b := p.branch(g.Fails.Tell, fmt.Sprintf("gather[%d].if_fails", i), known, used, problems)
			p.Gather[n].Tell = &b
		}
		n++
	}
}

// gatherAll compiles what is gathered, in order; each name is known to what comes after it.
func (s *Sheet) gatherAll(p *Plan, known Known, problems *report.List) {
	for i, g := range s.Gather {
		if g.LeftOut {
			continue
		}
		path := fmt.Sprintf("gather[%d]", i)
		pg := PlanGather{Name: g.Name.S, Path: path, Fails: FailStop}
		if g.Fails != nil {
			pg.Fails = g.Fails.How
		}
		name := formula.Name{Name: g.Name.S}
		switch {
		case g.Value != nil:
			pg.Value = formula.Read(*g.Value, g.Value.S, 0, p.Terms, path+".value", problems)
		case g.Find != nil:
			pg.Find = g.Find.compile(p, known, path+".find", problems)
			name.Schema, name.Many = pg.Find.Words.Schema, g.Find.All
		case g.Script != nil:
			pg.Script = g.Script.S
		case g.HTTP != nil:
			pg.HTTP = g.HTTP.compile(p.Terms, path+".http", problems)
		case g.Summary != nil:
			pg.Summary = g.Summary.compile(p.Terms, path+".summary", problems)
		default:
			if g.Name.At.Line > 0 {
				problems.Add(g.Name.At, path, "", "%s gathers nothing; give it find, value, script, http or summary", g.Name.S)
			}
			continue
		}
		p.Gather = append(p.Gather, pg)
		p.Terms.Gathered = append(p.Terms.Gathered, name)
	}
}

func (f *Find) compile(p *Plan, known Known, path string, problems *report.List) *PlanFind {
	out := &PlanFind{Source: f.Source.S, All: f.All, Limit: f.Limit}
	out.Words = &formula.Words{Workspace: known.Workspace, Sources: p.Terms.Sources}
	if known.Schema != nil {
		out.Words.Schema = known.Schema(f.Source.S)
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
		knows(problems, out.Words.Schema, f.Sort, name, f.Source.S, path+".sort")
	}
	return out
}

package sheet

import (
	"fmt"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// The ways in which something follows on a post.
const (
	FollowAdd    = "add"    // a record; a row at the end of a table
	FollowChange = "change" // a record that is there
	FollowCall   = "call"   // another workflow
)

// FailGoOn has what comes after a failed step follow all the same.
const FailGoOn = "go_on"

// mostFollows bounds how much may follow on one arrival.
const mostFollows = 20

// Follow is one thing that follows once an arrival's posts are delivered.
type Follow struct {
	At     report.Pos
	Name   string
	When   *cond.Spec // nil: always
	How    string     // add, change or call
	Source report.Text
	Each   *report.Text // of add: a formula that gives a list, each of which becomes a record
	Key    report.Text  // of the record that is changed
	Called report.Text  // the name of the workflow that is called
	Set    *HTTPBody    // fields with their values, or answers to what the called workflow takes
	Fails  *Fails       // nil: what comes after it does not follow
	// Tell, Unless and Within are of what tells others where the condition does not hold in time.
	Tell   []Tell
	Unless *cond.Spec
	Within time.Duration
	// LeftOut is true of a step that is not part of the plan; see [CompilePartly].
	LeftOut bool
}

func (r *reader) follows(n *yaml.Node, s *Sheet) {
	list := r.list(n, "follow", "follow")
	for i, item := range list {
		path := fmt.Sprintf("follow[%d]", i)
		if i >= mostFollows {
			r.problems.Add(at(item), path, "", "at most %d things may follow on an arrival", mostFollows)
			return
		}
		f := Follow{At: at(item)}
		for _, e := range r.object(item, path, "an entry of follow", "name", "when", FollowAdd, FollowChange, FollowCall, "unless", FollowTell, "if_fails") {
			switch e.name {
			case "name":
				f.Name = strings.TrimSpace(r.text(e.node, path+".name", "the name").S)
			case "when":
				f.When = r.cond(e.node, path+".when")
			case "if_fails":
				f.Fails = r.followFails(e.node, path+".if_fails")
			case "unless":
				r.unless(e.node, path+".unless", &f)
			default:
				if f.How != "" {
					r.problems.Add(at(e.key), path, "", "an entry does one thing; %s comes second, after %s", e.name, f.How)
					continue
				}
				if f.How = e.name; f.How == FollowTell {
					f.Tell = r.tell(e.node, path+".tell")
					continue
				}
				r.followWay(e.node, path+"."+e.name, &f)
			}
		}
		switch {
		case f.How == "":
			r.problems.Add(at(item), path, "", "nothing follows here; give it add, change, call, or unless with tell")
			continue
		case f.How == FollowTell:
			r.escalation(item, path, &f)
		case f.Unless != nil || f.Within > 0:
			r.problems.Add(at(item), path+".unless", "", "unless goes with tell, not with %s", f.How)
		}
		s.Follow = append(s.Follow, f)
	}
}

func (r *reader) followWay(n *yaml.Node, path string, f *Follow) {
	need, names := []string{"source", "set"}, []string{"each", "source", "set"}
	switch f.How {
	case FollowChange:
		need, names = []string{"source", "key", "set"}, []string{"source", "key", "set"}
	case FollowCall:
		need, names = []string{"workflow"}, []string{"workflow", "with"}
	}
	for _, e := range r.parts(n, path, f.How, need, names...) {
		switch e.name {
		case "each":
			t := r.text(e.node, path+".each", "each")
			if _, ok := formula.IsWhole(t.S); !ok {
				r.problems.Add(t.At, path+".each", "${"+strings.Trim(t.S, "${} ")+"}", `each is a formula that gives a list, such as "${made}", not %q`, t.S)
				continue
			}
			t = bare(t)
			f.Each = &t
		case "source":
			f.Source = r.source(e.node, path+".source")
		case "key":
			f.Key = r.text(e.node, path+".key", "the record's key")
		case "workflow":
			f.Called = r.text(e.node, path+".workflow", "the workflow's name")
		case "set", "with":
			if f.Set = r.body(e.node, path+"."+e.name, 0); f.Set.Map == nil {
				r.problems.Add(at(e.node), path+"."+e.name, "", "%s is written as names with values", e.name)
			} else if len(f.Set.Map) == 0 && e.name == "set" {
				r.problems.Add(at(e.node), path+".set", "", "set names no field")
			}
		}
	}
}

func (r *reader) followFails(n *yaml.Node, path string) *Fails {
	if n.Kind == yaml.MappingNode {
		return r.fails(n, path)
	}
	t := r.text(n, path, "if_fails")
	if t.S != FailStop && t.S != FailGoOn {
		r.problems.Add(t.At, path, value.Nearest(t.S, []string{FailStop, FailGoOn}), "if_fails is stop, go_on, or tell with destinations, not %q", t.S)
	}
	return &Fails{How: t.S}
}

// PlanFollow is one thing that follows, made ready.
type PlanFollow struct {
	Name   string
	Path   string
	When   cond.Node // nil: always
	How    string
	Target string           // a source, or a workflow's name
	Each   *formula.Formula // nil: one record
	Key    *formula.Template
	Set    *PlanBody // nil: nothing is handed over
	Fails  string
	Tell   *PlanBranch
	// Unless, Within and Escalate are of what tells others where the condition does not hold in time.
	Unless   cond.Node
	Within   time.Duration
	Escalate *PlanBranch
}

// Calls lists the names of the workflows that the plan calls.
func (p *Plan) Calls() []string {
	var out []string
	for _, f := range p.Follow {
		if f.How == FollowCall && !contains(out, f.Target) {
			out = append(out, f.Target)
		}
	}
	for _, name := range p.Buttons {
		if !contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// followAll compiles what follows. Everything that was gathered is known to it.
func (s *Sheet) followAll(p *Plan, known Known, used map[string]bool, problems *report.List) {
	for i, f := range s.Follow {
		if f.LeftOut {
			continue
		}
		path := fmt.Sprintf("follow[%d]", i)
		pf := PlanFollow{Name: f.Name, Path: path, How: f.How, Target: f.Source.S, Fails: FailStop}
		if f.When != nil {
			pf.When = cond.Compile(f.When, p.Terms, path+".when", problems)
		}
		at := path + "." + f.How
		switch f.How {
		case FollowTell:
			s.followTell(&pf, f, path, p, known, used, problems)
		case FollowCall:
			s.followCall(&pf, f, at, known, problems)
		default:
			s.followRecord(&pf, f, at, p, known, problems)
		}
		if pf.Name == "" && f.How == FollowTell {
			pf.Name = "tell after " + value.Words(f.Within)
		} else if pf.Name == "" {
			pf.Name = f.How + " " + pf.Target
		}
		if f.Set != nil {
			part := ".set"
			if f.How == FollowCall {
				part = ".with"
			}
			pf.Set = f.Set.compile(p.Terms, at+part, problems)
			if f.Each == nil && pf.Set.UsesIt() {
				problems.Add(f.At, at+part, "", `it is known only where the entry has each, such as each: "${made}"`)
			}
		}
		if f.Fails != nil {
			if pf.Fails = f.Fails.How; f.Fails.How == FailTell {
				b := p.branch(f.Fails.Tell, path+".if_fails", known, used, problems)
				pf.Tell = &b
			}
		}
		p.Follow = append(p.Follow, pf)
	}
}

func (s *Sheet) followCall(pf *PlanFollow, f Follow, at string, known Known, problems *report.List) {
	pf.Target = f.Called.S
	switch {
	case strings.TrimSpace(f.Called.S) == s.Name && s.Name != "":
		problems.Add(f.Called.At, at+".workflow", "", "the workflow would call itself, without end")
	case known.Workflows != nil:
		mustKnow(problems, f.Called, at+".workflow", known.Workflows(), "there is no workflow %q that is started by a call")
	}
}

func (s *Sheet) followRecord(pf *PlanFollow, f Follow, at string, p *Plan, known Known, problems *report.List) {
	if known.Sources != nil {
		mustKnow(problems, f.Source, at+".source", known.Sources(), "there is no source %s")
	}
	if known.Unwritable != nil && f.Source.S != "" {
		if why := known.Unwritable(f.Source.S, f.How == FollowChange); why != "" {
			problems.Unfinished(f.Source.At, at+".source", "%s", why)
		}
	}
	if f.Each != nil {
		pf.Each = formula.Read(*f.Each, f.Each.S, 0, p.Terms, at+".each", problems)
	}
	if f.How == FollowChange {
		pf.Key = template(f.Key, p.Terms, at+".key", problems)
	}
	var schema *value.Schema
	if known.Schema != nil {
		schema = known.Schema(f.Source.S)
	}
	if f.Set != nil {
		for _, part := range f.Set.Map {
			if schema == nil || schema.Learnt && value.Nearest(part.Name, schema.Names()) == "" { // a step may bring a field that is new
				continue
			}
			knows(problems, schema, report.Text{S: part.Name, At: f.Source.At}, part.Name, f.Source.S, at+".set."+part.Name)
		}
	}
	if f.Source.S == s.Watch.Source.S && f.Source.S != "" && s.restarts(f) {
		problems.Warn(f.At, at, "", "what this does to %s comes in as a change there and may start this workflow again; have Watch or Keep leave it out", f.Source.S)
	}
}

// restarts tells whether what a step does may start the workflow anew: an added record where created ones are watched,
// or a change of a field that a condition of Watch looks at, or of any where it looks at none.
func (s *Sheet) restarts(f Follow) bool {
	if s.Watch.Form != "" {
		return false
	}
	if f.How == FollowAdd {
		return contains(s.Watch.On, "created")
	}
	if s.Watch.When == nil {
		return contains(s.Watch.On, "updated")
	}
	var fields []string
	var collect func(c *cond.Spec)
	collect = func(c *cond.Spec) {
		if c != nil {
			fields = append(fields, c.Field.S)
			for _, sub := range c.Subs {
				collect(sub)
			}
		}
	}
	collect(s.Watch.When)
	if f.Set != nil {
		for _, part := range f.Set.Map {
			if contains(fields, part.Name) {
				return true
			}
		}
	}
	return false
}

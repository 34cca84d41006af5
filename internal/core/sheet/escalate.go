package sheet

import (
	"fmt"
	"time"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/report"
)

// FollowTell tells others where an alert was not taken care of in time.
const FollowTell = "tell"

// unless reads until when, and by what, an alert is taken care of: exactly one condition, and within. A list of steps of
// a thousand years is a mistake of writing.
func (r *reader) unless(n *yaml.Node, path string, f *Follow) {
	n = r.follow(n)
	if n.Kind != yaml.MappingNode {
		r.problems.Add(at(n), path, "", "unless is written as a condition with within, such as {claimed: true, within: 15m}, not as %s", shape(n))
		return
	}
	rest := *n
	rest.Content = nil
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == "within" {
			f.Within = r.span(n.Content[i+1], path+".within", false)
			continue
		}
		rest.Content = append(rest.Content, n.Content[i], n.Content[i+1])
	}
	if f.Within == 0 {
		r.problems.Add(at(n), path, "", "unless has no within, such as within: 15m")
	}
	if len(rest.Content) == 0 {
		r.problems.Add(at(n), path, "", "unless has no condition; say claimed: true, answered: true, or test a field of the record")
		return
	}
	r.followed = true
	f.Unless = r.cond(&rest, path)
	r.followed = false
}

// escalation checks an entry that tells.
func (r *reader) escalation(item *yaml.Node, path string, f *Follow) {
	switch {
	case f.Unless == nil && f.Within == 0:
		r.problems.Add(at(item), path, "", "tell in follow needs unless: it tells where something has not happened in time, such as {claimed: true, within: 15m}")
	case len(f.Tell) == 0:
		r.problems.Add(at(item), path, "", "nobody is told here; give it a destination")
	}
	if f.Fails != nil || f.When != nil {
		r.problems.Add(at(item), path, "", "an entry with unless has tell, and nothing else")
	}
}

// Escalations are the places in Follow of the entries that tell where an alert was not taken care of.
func (p *Plan) Escalations() []int {
	var out []int
	for i := range p.Follow {
		if p.Follow[i].How == FollowTell {
			out = append(out, i)
		}
	}
	return out
}

func (s *Sheet) followTell(pf *PlanFollow, f Follow, path string, p *Plan, known Known, used map[string]bool, problems *report.List) {
	if f.Unless != nil {
		pf.Unless = cond.Compile(f.Unless, p.Terms, path+".unless", problems)
	}
	pf.Within = f.Within
	b := p.branch(Branch{At: f.At, Tell: f.Tell}, path, known, used, problems)
	pf.Escalate = &b
	for i, t := range f.Tell {
		if t.KeepUp != nil {
			problems.Add(t.At, fmt.Sprintf("%s.tell[%d].keep_up", path, i), "", "keep_up goes with what a row tells, not with what follows on it")
		}
	}
}

// KeepUp has a post follow its record.
type KeepUp struct {
	At    report.Pos
	Until *cond.Spec
	For   time.Duration
}

// KeptFor is how long a post follows its record where the sheet does not say.
const KeptFor = 30 * 24 * time.Hour

func (r *reader) keepUp(n *yaml.Node, path string) *KeepUp {
	k := &KeepUp{At: at(n), For: KeptFor}
	for _, e := range r.parts(n, path, "keep_up", []string{"until"}, "until", "for") {
		if e.name == "for" {
			k.For = r.span(e.node, path+".for", false)
		} else {
			k.Until = r.cond(e.node, path+".until")
		}
	}
	return k
}

// PlanKeepUp is how a post follows its record, made ready.
type PlanKeepUp struct {
	Until cond.Node
	For   time.Duration
}

func (p *Plan) keepUp(t Tell, path string, problems *report.List) *PlanKeepUp {
	if !p.HasRecord() {
		problems.Add(t.KeepUp.At, path, "", "this workflow starts without a record, so there is nothing to keep up with")
	}
	if t.KeepUp.Until == nil {
		return nil
	}
	return &PlanKeepUp{Until: cond.Compile(t.KeepUp.Until, p.Terms, path+".until", problems), For: t.KeepUp.For}
}

// HasRecord tells whether the workflow starts with a record of its source.
func (p *Plan) HasRecord() bool {
	switch p.Trigger.Form {
	case Schedule, Silent, Called:
		return false
	case Start:
		return p.Source != ""
	}
	return true
}

// KeepsUp tells whether posts of the plan follow their records.
func (p *Plan) KeepsUp() bool {
	kept := false
	p.EachTell(func(t *PlanTell) { kept = kept || t.KeepUp != nil })
	return kept
}

// EachTell hands on whom the routes tell.
func (p *Plan) EachTell(each func(*PlanTell)) {
	for i := range p.Rows {
		for j := range p.Rows[i].Tell {
			each(&p.Rows[i].Tell[j])
		}
	}
	if p.Else != nil {
		for j := range p.Else.Tell {
			each(&p.Else.Tell[j])
		}
	}
}

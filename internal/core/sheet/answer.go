package sheet

import (
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/report"
)

// Answer is what a caller is answered, who waits for it.
type Answer struct {
	At     report.Pos
	Status int
	Body   *HTTPBody // nil: none
}

// PlanAnswer is an answer made ready.
type PlanAnswer struct {
	Status int
	Body   *PlanBody // nil: none
}

// OutcomeName is what the verdict is called in an answer.
const OutcomeName = "outcome"

func (r *reader) answer(n *yaml.Node) *Answer {
	a := &Answer{At: at(n), Status: 200}
	for _, e := range r.object(n, "answer", "answer", "status", "body") {
		if e.name == "body" {
			a.Body = r.body(e.node, "answer.body", 0)
			continue
		}
		t := r.text(e.node, "answer.status", "the status")
		status, err := strconv.Atoi(strings.TrimSpace(t.S))
		if a.Status = status; err != nil || status < 200 || status > 599 {
			r.problems.Add(t.At, "answer.status", "200", "status is one of HTTP from 200 to 599, not %q", t.S)
		}
	}
	return a
}

// answered compiles what a caller is answered. It speaks of everything above it, and of the outcome.
func (s *Sheet) answered(p *Plan, problems *report.List) {
	if s.Answer == nil {
		return
	}
	if s.Watch.Form != Called {
		problems.Add(s.Answer.At, "answer", "", "only a workflow that is started by a call answers one; start it by called, or take this out")
		return
	}
	p.Answer = &PlanAnswer{Status: s.Answer.Status}
	if s.Answer.Body != nil {
		terms := *p.Terms
		terms.Gathered = append(slices.Clip(terms.Gathered), outcomeField())
		p.Answer.Body = s.Answer.Body.compile(&terms, "answer.body", problems)
	}
}

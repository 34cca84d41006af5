package rehearse

import (
	"maps"
	"slices"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Waits is how one question of the sheet would wait for answers. A rehearsal knows none unless it is handed some, so that each waits for as
// long as it may.
type Waits struct {
	Ask       string `json:"ask"`
	Put       int    `json:"put" doc:"how often it would be put"`
	Reminders int    `json:"reminders" doc:"how often those who have not answered would be reminded"`
	Open      int    `json:"open" doc:"of these, how many would still wait at the end"`
	Longest   string `json:"longest" doc:"how long one waits at the longest, in words; empty where all are open"`
	Otherwise string `json:"otherwise" doc:"what it comes to where nobody answers"`
}

// Escalations is how often one step would tell others, since nobody took care of an alert in time.
type Escalations struct {
	Step  string `json:"step" doc:"such as follow[0]"`
	Words string `json:"words" doc:"what it waits for"`
	After string `json:"after" doc:"how long it waits, in words"`
	Told  int    `json:"told"`
}

// waiting follows the questions of a rehearsal.
type waiting struct {
	asks    map[string]*Waits
	longest map[string]time.Duration
	since   map[[2]string]time.Time // of the open ones, by arrival and question
	steps   map[string]int
}

// note takes a line in.
func (w *waiting) note(p *sheet.Plan, l Line) {
	if w.asks == nil {
		w.asks, w.longest, w.since, w.steps = map[string]*Waits{}, map[string]time.Duration{}, map[[2]string]time.Time{}, map[string]int{}
	}
	if l.Verdict == decide.Escalated {
		w.steps[l.Step]++
		return
	}
	for name := range l.Answers {
		id := [2]string{l.Arrival, name}
		if put, open := w.since[id]; open {
			w.longest[name] = max(w.longest[name], l.At.Sub(put))
			delete(w.since, id)
		}
	}
	q := decide.PlanAskNamed(p, l.Ask)
	if q == nil || l.Verdict != decide.Asked && l.Verdict != decide.Held && l.Verdict != decide.Released {
		return
	}
	of := w.asks[l.Ask]
	if of == nil {
		of = &Waits{Ask: l.Ask, Otherwise: q.Otherwise}
		if c := q.Choice(q.Otherwise); c != nil {
			of.Otherwise = c.Text
		}
		w.asks[l.Ask] = of
	}
	id := [2]string{l.Arrival, l.Ask}
	switch _, open := w.since[id]; {
	case !open:
		of.Put++
		w.since[id] = l.At
	case l.Verdict == decide.Asked:
		of.Reminders++
	}
}

// sum gives what was found: questions in the order of the sheet, steps by their names.
func (w *waiting) sum(p *sheet.Plan) (asks []Waits, steps []Escalations) {
	asks, steps = []Waits{}, []Escalations{}
	for i := range p.Questions {
		of := w.asks[p.Questions[i].Name]
		if of == nil {
			continue
		}
		one := *of
		for id := range w.since {
			if id[1] == one.Ask {
				one.Open++
			}
		}
		if d := w.longest[one.Ask]; d > 0 {
			one.Longest = value.Words(d)
		}
		asks = append(asks, one)
	}
	for _, step := range slices.Sorted(maps.Keys(w.steps)) {
		e := Escalations{Step: step, Told: w.steps[step]}
		for _, n := range p.Escalations() {
			if decide.StepName(n) == step {
				e.After = value.Words(p.Follow[n].Within)
				if until := p.Follow[n].Unless; until != nil {
					until.Words(func(at, words string) {
						if at == until.Path() {
							e.Words = words
						}
					})
				}
			}
		}
		steps = append(steps, e)
	}
	return asks, steps
}

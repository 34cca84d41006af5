package decide

import (
	"fmt"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Step is one thing that follows once an arrival's posts are delivered.
type Step struct {
	N      int // its place among what follows on the sheet
	Name   string
	How    string // add, change or call
	Target string // a source, or a workflow's name
	Key    string // of the record that is changed
	Set    map[string]any
	Many   []map[string]any // of a list: what is set in each of the records that are added
	Fails  string           // stop, go_on or tell
	Tell   []Post           // where it is tell
	// Error is why it cannot be done at all: its values could not be worked out.
	Error string
}

// steps works out what follows. What cannot be worked out fails that step alone: the alert itself is not held up by it.
func steps(p *sheet.Plan, sc *formula.Scope) []Step {
	var out []Step
	for i := range p.Follow {
		f := &p.Follow[i]
		if f.How == sheet.FollowTell {
			continue // it waits beside the others
		}
		s := Step{N: i, Name: f.Name, How: f.How, Target: f.Target, Fails: f.Fails, Set: map[string]any{}}
		if f.When != nil {
			switch f.When.Eval(sc) {
			case cond.False:
				continue
			case cond.Broken:
				_, err := f.When.Decider(sc)
				s.Error = failure(f.Path, err).Error
			}
		}
		if fillStep(&s, f, p.Terms, sc); f.Each != nil && s.Error == "" && len(s.Many) == 0 {
			continue // there is nothing to add
		}
		if f.Tell != nil {
			var told Outcome
			if compose(p, &told, f.Tell.Tell, sc) {
				s.Tell = told.Posts
			}
		}
		out = append(out, s)
	}
	return out
}

func fillStep(s *Step, f *sheet.PlanFollow, words *formula.Words, sc *formula.Scope) {
	if s.Error != "" {
		return
	}
	if f.Key != nil {
		key, err := f.Key.Text(sc, words)
		switch {
		case err != nil:
			s.Error = err.Error()
			return
		case value.Empty(key):
			s.Error = "the key of the record to be changed is empty"
			return
		}
		s.Key = key
	}
	if f.Each != nil {
		fillMany(s, f, words, sc)
		return
	}
	if f.Set == nil {
		return
	}
	v, err := fillBody(f.Set, words, sc)
	if err != nil {
		s.Error = err.Error()
		return
	}
	s.Set, _ = v.(map[string]any)
}

// MostMany is how many records one step adds.
const MostMany = 1000

// fillMany works out what is set in each of the records that a list becomes.
func fillMany(s *Step, f *sheet.PlanFollow, words *formula.Words, sc *formula.Scope) {
	list, err := f.Each.List(sc)
	if err == nil && len(list) > MostMany {
		err = fmt.Errorf("%s gave %d items; one step adds %d at most", f.Each, len(list), MostMany)
	}
	if err != nil {
		s.Error = err.Error()
		return
	}
	for i, it := range list {
		v, err := fillBody(f.Set, words, words.With(sc, it))
		if err != nil {
			s.Error, s.Many = fmt.Sprintf("item %d: %v", i+1, err), nil
			return
		}
		set, _ := v.(map[string]any)
		s.Many = append(s.Many, set)
	}
}

// StepProof is what a line of Follow up makes of an arrival, whether or not it gets that far.
type StepProof struct {
	Name   string     `json:"name"`
	Path   string     `json:"path"`
	How    string     `json:"how"`
	Target string     `json:"target"`
	Key    string     `json:"key,omitempty"`
	Line   *cond.Line `json:"line,omitempty"`
	Set    []SetProof `json:"set"`
	Count  int        `json:"count,omitempty"` // of a list: how many records are added; Set is of the first
	Error  string     `json:"error,omitempty"`
	Taken  bool       `json:"taken"` // it follows on this arrival
	// Within is after how long it is looked at whether an alert was taken care of, and Of are those who are told otherwise.
	Within string      `json:"within,omitempty"`
	Of     []TellProof `json:"of,omitempty"`
}

// SetProof is one field's value as it would be set.
type SetProof struct {
	Field string `json:"field"`
	Value string `json:"value"`
}

func followProof(p *sheet.Plan, f *sheet.PlanFollow, words *formula.Words, sc *formula.Scope, holds func(*cond.Line) bool, out Outcome) StepProof {
	if f.How == sheet.FollowTell {
		line := f.Unless.Explain(sc)
		return StepProof{Name: f.Name, Path: f.Path, How: f.How, Line: &line, Set: []SetProof{}, Within: value.Words(f.Within),
			Of: explainTells(p, f.Escalate.Tell, sc), Taken: len(out.Posts) > 0 && out.Verdict == Told}
	}
	s := Step{Set: map[string]any{}}
	l := StepProof{Name: f.Name, Path: f.Path, How: f.How, Target: f.Target, Set: []SetProof{}}
	if f.When != nil {
		line := f.When.Explain(sc)
		l.Line = &line
	}
	fillStep(&s, f, words, sc)
	if l.Count = len(s.Many); l.Count > 0 {
		s.Set = s.Many[0]
	}
	l.Key, l.Error = s.Key, s.Error
	for _, name := range value.SortedKeys(s.Set) {
		l.Set = append(l.Set, SetProof{name, formula.Shorten(formula.Show(s.Set[name], words.Workspace), shownOfGathered)})
	}
	l.Taken = len(out.Posts) > 0 && out.Verdict == Told && holds(l.Line)
	return l
}

package message

import (
	"fmt"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// What a button does when it is pressed.
const (
	DoesChange = "change" // the arrival's own record
	DoesClaim  = "claim"  // whoever presses looks after it
	DoesLater  = "later"  // the same is told again after a while
	DoesCall   = "call"   // a workflow is started
)

// MostButtons is how many buttons a message may have.
const MostButtons = 8

// Button is a button of a finished message, with all that pressing it needs.
type Button struct {
	Text string `json:"text"`
	Does string `json:"does"`
	// Set is what is set in the record, or what the workflow is called with.
	Set      map[string]any `json:"set,omitempty"`
	After    string         `json:"after,omitempty"`    // of later, a span
	Workflow string         `json:"workflow,omitempty"` // that is called
	Who      string         `json:"who,omitempty"`      // team:… or a person; "" is whoever has the link
	// Ask and Choice are of an answer to a question: its name on the sheet, and the choice.
	Ask     string `json:"ask,omitempty"`
	Choice  string `json:"choice,omitempty"`
	Comment string `json:"comment,omitempty"` // none, optional or required
	// Otherwise marks the choice that counts once the time for an answer is over.
	Otherwise bool `json:"otherwise,omitempty"`
}

// ButtonSpec is a button as written.
type ButtonSpec struct {
	At       report.Pos
	Text     report.Text
	Does     string
	Set      []SetSpec // of change, and with of call
	SetAt    report.Pos
	After    time.Duration
	Workflow report.Text
	Who      *report.Text
}

// SetSpec is one field with what it is set to.
type SetSpec struct {
	Name string
	Text *report.Text // nil: Raw
	Raw  any
}

type buttonTemplate struct {
	text, who *formula.Template
	does      string
	set       []setTemplate
	after     time.Duration
	workflow  string
}

type setTemplate struct {
	name string
	text *formula.Template
	raw  any
}

func (s *PartsSpec) buttonTexts(each func(*report.Text)) {
	for i := range s.Buttons {
		b := &s.Buttons[i]
		each(&b.Text)
		if b.Who != nil {
			each(b.Who)
		}
		for j := range b.Set {
			if b.Set[j].Text != nil {
				each(b.Set[j].Text)
			}
		}
	}
}

func compileButtons(list []ButtonSpec, words *formula.Words, path string, problems *report.List) []buttonTemplate {
	var out []buttonTemplate
	for i := range list {
		b, at := &list[i], fmt.Sprintf("%s.buttons[%d]", path, i)
		t := buttonTemplate{does: b.Does, after: b.After, workflow: b.Workflow.S, text: parse(b.Text, words, at+".text", problems)}
		if b.Who != nil {
			t.who = parse(*b.Who, words, at+".who", problems)
		}
		for _, s := range b.Set {
			st := setTemplate{name: s.Name, raw: s.Raw}
			if s.Text != nil {
				st.text = parse(*s.Text, words, at+"."+b.Does+"."+s.Name, problems)
			}
			t.set = append(t.set, st)
		}
		out = append(out, t)
	}
	return out
}

func (b *buttonTemplate) templates() []*formula.Template {
	out := []*formula.Template{b.text, b.who}
	for _, s := range b.set {
		out = append(out, s.text)
	}
	return out
}

func (f *filling) button(part string, b *buttonTemplate) Button {
	out := Button{Text: f.line(part+".text", b.text), Does: b.does, Workflow: b.workflow, Who: f.line(part+".who", b.who)}
	if b.after > 0 {
		out.After = b.after.String()
	}
	if len(b.set) > 0 {
		out.Set = map[string]any{}
	}
	for _, s := range b.set {
		out.Set[s.name] = f.set(part+"."+b.does+"."+s.name, s)
	}
	if out.Text == "" {
		out.Text = value.LabelOf(b.does)
	}
	return out
}

// set is what a field is set to: a value with its type where the text is one formula, else text.
func (f *filling) set(part string, s setTemplate) any {
	if s.text == nil || f.err != nil {
		return s.raw
	}
	if one := s.text.Whole(); one != nil {
		v, err := one.Run(f.sc)
		f.fail(part, err)
		return one.Plain(v)
	}
	text, err := s.text.Text(f.sc, f.words)
	f.fail(part, err)
	return text
}

// Span is how long a button of later waits.
func (b *Button) Span() time.Duration {
	d, err := time.ParseDuration(strings.TrimSpace(b.After))
	if err != nil {
		return 0
	}
	return d
}

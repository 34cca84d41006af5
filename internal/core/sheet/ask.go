package sheet

import (
	"fmt"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Whether an answer needs a comment.
const (
	CommentNone     = "none"
	CommentOptional = "optional"
	CommentRequired = "required"
)

// AskedFor is how long an answer is waited for where the sheet does not say.
const AskedFor = 7 * 24 * time.Hour

// mostAsks bounds how many questions an arrival may have put, and mostAsked how many people one may be put to.
const (
	mostAsks  = 10
	mostAsked = 50
)

// Ask is a question to people, which a workflow waits for. Its name is known below it.
type Ask struct {
	At        report.Pos
	Name      report.Text
	When      *cond.Spec // nil: always
	Of        []report.Text
	All       bool // everybody is to agree, not whoever answers first
	Message   report.Text
	Choices   []Choice
	Within    time.Duration
	Remind    []time.Duration // from when the question went
	Otherwise report.Text     // the choice where nobody answers; "" leaves it empty
	LeftOut   bool            // see [CompilePartly]
}

// Choice is one of the answers that there are to a question.
type Choice struct {
	Name, Text string
	Comment    string // none, optional or required
	At         report.Pos
}

func (r *reader) asks(n *yaml.Node, s *Sheet) {
	for i, item := range r.list(n, "ask", "ask") {
		path := fmt.Sprintf("ask[%d]", i)
		if i >= mostAsks {
			r.problems.Add(at(item), path, "", "at most %d questions may be put about an arrival", mostAsks)
			return
		}
		s.Asks = append(s.Asks, r.ask(item, path))
	}
}

func (r *reader) ask(n *yaml.Node, path string) Ask {
	a := Ask{At: at(n), Within: AskedFor}
	for _, e := range r.parts(n, path, "a question", []string{"name", "of", "message", "choices"}, "name", "when", "of", "all", "message", "choices", "within", "remind", "otherwise") {
		at := path + "." + e.name
		switch e.name {
		case "name":
			a.Name = r.text(e.node, at, "the name")
		case "when":
			a.When = r.cond(e.node, at)
		case "of":
			a.Of = r.askedOf(e.node, at)
		case "all":
			a.All = r.yesNo(e, at)
		case "message":
			a.Message = r.text(e.node, at, "the message")
		case "choices":
			a.Choices = r.choices(e.node, at)
		case "within":
			a.Within = r.span(e.node, at, false)
		case "remind":
			for j, item := range r.oneOrMore(e.node, at) {
				p := at
				if e.node.Kind == yaml.SequenceNode {
					p = fmt.Sprintf("%s[%d]", at, j)
				}
				a.Remind = append(a.Remind, r.span(item, p, false))
			}
		case "otherwise":
			a.Otherwise = r.text(e.node, at, "otherwise")
		}
	}
	r.named(a.Name, path)
	r.askProblems(&a, path)
	return a
}

// calledTwice refuses what is gathered or asked under a name that is taken already.
func (r *reader) calledTwice(s *Sheet) {
	seen := map[string]bool{}
	one := func(name report.Text, path string) {
		if name.S != "" && seen[name.S] {
			r.problems.Add(name.At, path+".name", "", "two things are called %s", name.S)
		}
		seen[name.S] = true
	}
	for i, g := range s.Gather {
		one(g.Name, fmt.Sprintf("gather[%d]", i))
	}
	for i, a := range s.Asks {
		one(a.Name, fmt.Sprintf("ask[%d]", i))
	}
}

// oneOrMore gives a list's elements, or the one that stands there by itself.
func (r *reader) oneOrMore(n *yaml.Node, path string) []*yaml.Node {
	if r.follow(n).Kind == yaml.SequenceNode {
		return r.list(n, path, path[strings.LastIndexByte(path, '.')+1:])
	}
	return []*yaml.Node{n}
}

func (r *reader) askedOf(n *yaml.Node, path string) []report.Text {
	var out []report.Text
	many := r.follow(n).Kind == yaml.SequenceNode
	for i, item := range r.oneOrMore(n, path) {
		at := path
		if many {
			at = fmt.Sprintf("%s[%d]", path, i)
		}
		t := r.text(item, at, "whom to ask")
		r.address(&t, at, t.At)
		out = append(out, t)
	}
	if len(out) == 0 {
		r.problems.Add(at(n), path, "", "nobody is asked; name a person, or a place")
	} else if len(out) > mostAsked {
		r.problems.Add(at(n), path, "", "at most %d places may be asked", mostAsked)
	}
	return out
}

func (r *reader) choices(n *yaml.Node, path string) []Choice {
	var out []Choice
	seen := map[string]bool{}
	for i, item := range r.list(n, path, "choices") {
		at := fmt.Sprintf("%s[%d]", path, i)
		c := Choice{Comment: CommentOptional, At: report.Pos{Line: item.Line, Column: item.Column}}
		if item.Kind == yaml.ScalarNode { // the name alone
			c.Name = strings.TrimSpace(r.text(item, at, "a choice").S)
		} else {
			for _, e := range r.parts(item, at, "a choice", []string{"name"}, "name", "text", "comment") {
				switch e.name {
				case "name":
					c.Name = strings.TrimSpace(r.text(e.node, at+".name", "the name").S)
				case "text":
					c.Text = strings.TrimSpace(r.text(e.node, at+".text", "the text").S)
				case "comment":
					c.Comment = r.oneOf(e, at+".comment", CommentNone, CommentOptional, CommentRequired)
				}
			}
		}
		if c.Text == "" {
			c.Text = value.LabelOf(c.Name)
		}
		switch {
		case c.Name == "":
			r.problems.Add(c.At, at, "", "the choice has no name")
		case seen[c.Name]:
			r.problems.Add(c.At, at, "", "two choices are called %s", c.Name)
		}
		seen[c.Name] = true
		out = append(out, c)
	}
	if len(out) < 2 {
		r.problems.Add(at(n), path, "", "a question has at least two choices")
	}
	return out
}

func (r *reader) askProblems(a *Ask, path string) {
	if a.Otherwise.S != "" {
		names := make([]string, len(a.Choices))
		for i, c := range a.Choices {
			names[i] = c.Name
		}
		if !contains(names, a.Otherwise.S) {
			r.problems.Add(a.Otherwise.At, path+".otherwise", value.Nearest(a.Otherwise.S, names), "there is no choice %s", a.Otherwise.S)
		}
	}
	for _, d := range a.Remind {
		if d >= a.Within && d > 0 {
			r.problems.Warn(a.At, path+".remind", "", "a reminder after %s would come when the time for an answer, %s, is over", value.Words(d), value.Words(a.Within))
		}
	}
}

// PlanAsk is a question made ready.
type PlanAsk struct {
	Name      string
	Path      string
	When      cond.Node // nil: always
	Of        []Address
	All       bool
	Message   *message.Message
	Choices   []Choice
	Within    time.Duration
	Remind    []time.Duration
	Otherwise string
}

// Choice finds a choice by its name, compared exactly, or by its words, compared as text is; nil for none.
func (a *PlanAsk) Choice(name string) *Choice {
	for i := range a.Choices {
		if a.Choices[i].Name == name {
			return &a.Choices[i]
		}
	}
	return nil
}

// askSchema is what is known of an answer.
func askSchema(a Ask) *value.Schema {
	s := &value.Schema{}
	choices := value.Field{Name: "choice", Label: "Choice", Type: value.Choice}
	for _, c := range a.Choices {
		choices.Options = append(choices.Options, c.Name)
	}
	s.Fields = []value.Field{
		choices, {Name: "by", Label: "By", Type: value.Text}, {Name: "comment", Label: "Comment", Type: value.Text}, {Name: "at", Label: "At", Type: value.Moment},
	}
	return s
}

// askAll compiles when questions are put; each name is known to what comes after it.
func (s *Sheet) askAll(p *Plan, problems *report.List) {
	for i, a := range s.Asks {
		if a.LeftOut {
			continue
		}
		path := fmt.Sprintf("ask[%d]", i)
		pa := PlanAsk{Name: a.Name.S, Path: path, All: a.All, Choices: a.Choices, Within: a.Within, Remind: a.Remind, Otherwise: a.Otherwise.S}
		if a.When != nil {
			pa.When = cond.Compile(a.When, p.Terms, path+".when", problems)
		}
		p.Questions = append(p.Questions, pa)
		p.Terms.Gathered = append(p.Terms.Gathered, formula.Name{Name: a.Name.S, Schema: askSchema(a)})
	}
}

// askWhom compiles whom questions are put to, and by which messages.
func (s *Sheet) askWhom(p *Plan, known Known, used map[string]bool, problems *report.List) {
	n := 0
	for i, a := range s.Asks {
		if a.LeftOut {
			continue
		}
		path, pa := fmt.Sprintf("ask[%d]", i), &p.Questions[n]
		n++
		pa.Message = p.message(a.Message, path+".message", used, problems)
		for j, t := range a.Of {
			at := path + ".of"
			if len(a.Of) > 1 {
				at = fmt.Sprintf("%s[%d]", at, j)
			}
			addr := p.address(t, at, known, problems)
			if _, rest, _ := strings.Cut(addr.Fixed, "/"); strings.Contains(rest, ", ") && addr.Rule.Form == place.Mail {
				problems.Add(t.At, at, "", "each of those who are asked has one address; write the others as further ones of the list")
			}
			pa.Of = append(pa.Of, addr)
			if known.Shut != nil && addr.Fixed != "" {
				if why := known.Shut(addr.Fixed); why != "" {
					problems.Unfinished(t.At, at, "%s", why)
				}
			}
			known.warnHalted(t, at, addr.Fixed, problems)
		}
		if pa.Message != nil && pa.Message.UsesIt() {
			problems.Add(a.Message.At, path+".message", "", "the message %s speaks of it, so it cannot be a question", a.Message.S)
		}
	}
}

package sheet

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/ohler55/ojg/jp"
	"go.starlark.net/syntax"
	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// HTTP asks a service. Its answer is read as JSON where it is JSON, and as text where it is not.
type HTTP struct {
	At      report.Pos
	Method  string
	URL     report.Text
	Headers []HTTPHeader
	Body    *HTTPBody
	Pick    report.Text // a JSONPath into the answer
}

// HTTPHeader is one header of a call.
type HTTPHeader struct {
	Name  string
	Value report.Text
}

// HTTPBody is what is sent: names, lists and values, in whose texts formulas may stand. It goes out as JSON.
type HTTPBody struct {
	Text *report.Text // one value
	List []*HTTPBody
	Map  []HTTPPart
	Raw  any // a number, yes/no or nothing
}

// HTTPPart is one named part of a body.
type HTTPPart struct {
	Name  string
	Value *HTTPBody
}

// Summary shortens texts to their most telling sentences.
type Summary struct {
	At    report.Pos
	Of    []report.Text // fields, or texts with formulas
	Words int
}

// DefaultWords is how many words a summary has where the sheet does not say.
const DefaultWords = 40

// What a failure in gathering leads to.
const (
	FailStop  = "stop"  // the arrival fails, and is shown as failed
	FailEmpty = "empty" // it goes on with nothing under that name
	FailTell  = "tell"  // another branch tells of it
)

// Fails is what a failure in gathering leads to.
type Fails struct {
	How  string
	Tell Branch
}

func (r *reader) http(n *yaml.Node, path string) *HTTP {
	h := &HTTP{At: at(n), Method: "GET"}
	for _, e := range r.parts(n, path, "http", []string{"url"}, "url", "method", "headers", "body", "pick") {
		switch e.name {
		case "url":
			h.URL = r.text(e.node, path+".url", "the address")
		case "method":
			h.Method = strings.ToUpper(r.text(e.node, path+".method", "the method").S)
			if !contains([]string{"GET", "POST"}, h.Method) {
				r.problems.Add(at(e.node), path+".method", value.Nearest(h.Method, []string{"GET", "POST"}), "a service is asked by GET or POST, not by %q", h.Method)
			}
		case "headers":
			for _, x := range r.object(e.node, path+".headers", "headers") {
				h.Headers = append(h.Headers, HTTPHeader{x.name, r.text(x.node, path+".headers."+x.name, "a header")})
			}
		case "body":
			h.Body = r.body(e.node, path+".body", 0)
		case "pick":
			h.Pick = r.text(e.node, path+".pick", "a JSONPath")
			if _, err := jp.ParseString(h.Pick.S); err != nil {
				r.problems.Add(h.Pick.At, path+".pick", "", "%q is not a JSONPath: %v", h.Pick.S, err)
			}
		}
	}
	if h.Body != nil && h.Method == "GET" {
		r.problems.Add(h.At, path, "method: POST", "a GET carries no body; ask by POST")
	}
	return h
}

func (r *reader) body(n *yaml.Node, path string, depth int) *HTTPBody {
	n = r.follow(n)
	if depth > maxNesting || r.nodes > maxNodes {
		return &HTTPBody{}
	}
	switch n.Kind {
	case yaml.SequenceNode:
		b := &HTTPBody{List: []*HTTPBody{}}
		for i, c := range n.Content {
			b.List = append(b.List, r.body(c, fmt.Sprintf("%s[%d]", path, i), depth+1))
		}
		return b
	case yaml.MappingNode:
		b := &HTTPBody{Map: []HTTPPart{}}
		for _, e := range r.object(n, path, "a body") {
			b.Map = append(b.Map, HTTPPart{e.name, r.body(e.node, path+"."+e.name, depth+1)})
		}
		return b
	}
	if v, ok := scalar(n).(string); ok && n.ShortTag() == "!!str" {
		t := r.textOf(n)
		t.S = v
		return &HTTPBody{Text: &t}
	}
	return &HTTPBody{Raw: scalar(n)}
}

func (r *reader) summary(n *yaml.Node, path string) *Summary {
	s := &Summary{At: at(n), Words: DefaultWords}
	for _, e := range r.parts(n, path, "summary", []string{"of"}, "of", "words") {
		if e.name == "words" {
			t := r.text(e.node, path+".words", "words")
			if n, err := fmt.Sscanf(t.S, "%d", &s.Words); n != 1 || err != nil || s.Words < 1 || s.Words > 1000 {
				r.problems.Add(t.At, path+".words", "", "words is a whole number from 1 to 1000, not %q", t.S)
			}
			continue
		}
		list := []*yaml.Node{e.node}
		if e.node.Kind == yaml.SequenceNode {
			list = r.list(e.node, path+".of", "of")
		}
		for i, item := range list {
			s.Of = append(s.Of, r.text(item, fmt.Sprintf("%s.of[%d]", path, i), "a field"))
		}
	}
	return s
}

func (r *reader) script(n *yaml.Node, path string) *report.Text {
	t := r.text(n, path, "a script")
	if strings.TrimSpace(t.S) == "" {
		r.problems.Add(t.At, path, "", "the script is empty")
		return &t
	}
	options := &syntax.FileOptions{Set: true, While: true, TopLevelControl: true, GlobalReassign: true, Recursion: true}
	f, err := options.Parse("script", t.S, 0)
	if err != nil {
		where, msg := t.At, err.Error()
		if se, ok := errors.AsType[syntax.Error](err); ok {
			where, msg = t.In(offsetOf(t.S, int(se.Pos.Line), int(se.Pos.Col))), se.Msg
		}
		r.problems.Add(where, path, "", "the script cannot be read: %s", msg)
		return &t
	}
	if !sets(f.Stmts, "result") {
		r.problems.Add(t.At, path, "", "the script gives nothing: have it set result")
	}
	return &t
}

// sets tells whether statements give a name a value.
func sets(list []syntax.Stmt, name string) bool {
	found := false
	for _, s := range list {
		syntax.Walk(s, func(n syntax.Node) bool {
			switch x := n.(type) {
			case *syntax.AssignStmt:
				if id, ok := x.LHS.(*syntax.Ident); ok && id.Name == name {
					found = true
				}
			case *syntax.DefStmt:
				return false
			}
			return !found
		})
	}
	return found
}

func offsetOf(text string, line, column int) int {
	n := 0
	for i, l := range strings.SplitAfter(text, "\n") {
		if i+1 == line {
			return n + max(column-1, 0)
		}
		n += len([]rune(l))
	}
	return n
}

func (r *reader) fails(n *yaml.Node, path string) *Fails {
	if n.Kind == yaml.MappingNode {
		f := &Fails{How: FailTell, Tell: Branch{At: at(n)}}
		for _, e := range r.parts(n, path, "if_fails", []string{"tell"}, "tell") {
			f.Tell.Tell = r.tell(e.node, path+".tell")
		}
		if len(f.Tell.Tell) == 0 {
			r.problems.Add(at(n), path, "", "if_fails tells nobody; give it a destination")
		}
		return f
	}
	t := r.text(n, path, "if_fails")
	if t.S != FailStop && t.S != FailEmpty {
		r.problems.Add(t.At, path, value.Nearest(t.S, []string{FailStop, FailEmpty}), "if_fails is stop, empty, or tell with destinations, not %q", t.S)
	}
	return &Fails{How: t.S}
}

// PlanHTTP is a call made ready.
type PlanHTTP struct {
	Method  string
	URL     *formula.Template
	Headers []PlanHeader
	Body    *PlanBody // nil: none
	Pick    jp.Expr   // nil: the whole answer
}

// PlanHeader is a header made ready.
type PlanHeader struct {
	Name  string
	Value *formula.Template
}

// PlanBody is a body made ready.
type PlanBody struct {
	Text *formula.Template
	List []*PlanBody
	Map  []PlanPart
	Raw  any
}

// UsesIt tells whether a text of the body speaks of the element of a list.
func (b *PlanBody) UsesIt() bool {
	if b == nil {
		return false
	}
	return b.Text.UsesIt() || slices.ContainsFunc(b.List, (*PlanBody).UsesIt) || slices.ContainsFunc(b.Map, func(p PlanPart) bool { return p.Value.UsesIt() })
}

// PlanPart is a named part of a body.
type PlanPart struct {
	Name  string
	Value *PlanBody
}

// PlanSummary is a summary made ready.
type PlanSummary struct {
	Of    []*formula.Template
	Words int
}

func template(t report.Text, words *formula.Words, path string, problems *report.List) *formula.Template {
	return formula.ReadTemplate(t, words, path, problems)
}

func (h *HTTP) compile(words *formula.Words, path string, problems *report.List) *PlanHTTP {
	out := &PlanHTTP{Method: h.Method, URL: template(h.URL, words, path+".url", problems)}
	lower := strings.ToLower(h.URL.S)
	if h.URL.At.Line > 0 && !strings.HasPrefix(lower, "http://") && !strings.HasPrefix(lower, "https://") {
		problems.Add(h.URL.At, path+".url", "", "the address starts with https:// or http://, not with %q; only what comes behind may be a formula", formula.Shorten(h.URL.S, 20))
	}
	if rest := strings.TrimPrefix(strings.TrimPrefix(lower, "https://"), "http://"); h.URL.At.Line > 0 && strings.TrimSpace(rest) == "" {
		problems.Unfinished(h.URL.At, path+".url", "the address of the service is still missing")
	}
	for _, x := range h.Headers {
		out.Headers = append(out.Headers, PlanHeader{x.Name, template(x.Value, words, path+".headers."+x.Name, problems)})
	}
	if h.Body != nil {
		out.Body = h.Body.compile(words, path+".body", problems)
	}
	if h.Pick.S != "" {
		out.Pick, _ = jp.ParseString(h.Pick.S)
	}
	return out
}

func (b *HTTPBody) compile(words *formula.Words, path string, problems *report.List) *PlanBody {
	out := &PlanBody{Raw: b.Raw}
	switch {
	case b.Text != nil:
		out.Text = template(*b.Text, words, path, problems)
	case b.List != nil:
		out.List = []*PlanBody{}
		for i, e := range b.List {
			out.List = append(out.List, e.compile(words, fmt.Sprintf("%s[%d]", path, i), problems))
		}
	case b.Map != nil:
		out.Map = []PlanPart{}
		for _, e := range b.Map {
			out.Map = append(out.Map, PlanPart{e.Name, e.Value.compile(words, path+"."+e.Name, problems)})
		}
	}
	return out
}

// compile reads each entry: a text with formulas, or a field by its name.
func (s *Summary) compile(words *formula.Words, path string, problems *report.List) *PlanSummary {
	out := &PlanSummary{Words: s.Words}
	for i, t := range s.Of {
		at := fmt.Sprintf("%s.of[%d]", path, i)
		if !strings.Contains(t.S, "${") && !strings.ContainsAny(strings.TrimSpace(t.S), " \n") {
			name := strings.TrimPrefix(strings.TrimSpace(t.S), "record.")
			src := "record." + name
			for _, g := range words.Gathered {
				if head, _, _ := strings.Cut(name, "."); head == g.Name {
					src = name
				}
			}
			inner := t
			inner.S, inner.Within = "${"+src+"}", nil
			t = inner
		}
		out.Of = append(out.Of, template(t, words, at, problems))
	}
	return out
}

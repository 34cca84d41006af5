package shape

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/value"
)

// Role is what a text of an example stands for.
type Role string

// The roles.
const (
	AsItIs     Role = "as it is" // a word of the other side's own
	Title      Role = "title"
	Text       Role = "text"
	Everything Role = "everything" // title, text, facts and link in one text
	Link       Role = "link"
	Tone       Role = "tone"
	Place      Role = "place"
	FactLabel  Role = "a fact's label"
	FactValue  Role = "a fact's value"
)

// Roles lists them in the order in which they are offered.
var Roles = []Role{AsItIs, Title, Text, Everything, Link, Tone, Place, FactLabel, FactValue}

var formulas = map[Role]string{
	Title: "${post.title}", Text: "${post.text}", Link: "${post.link}", Tone: "${post.tone}", Place: "${post.place}",
	FactLabel: "${it.label}", FactValue: "${it.value}", Everything: WholeText,
}

// WholeText is a post in one text: its title, its text, its facts a line each, and its link.
const WholeText = `${join(filter([post.title, post.text, join(map(post.facts, .label + ': ' + .value), '\n'), post.link], # != ''), '\n')}`

// Leaf is a text of an example.
type Leaf struct {
	Path string `json:"path"`
	Text string `json:"text"`
	Is   Role   `json:"is"`
}

// FromExample makes a shape of an example of what the other side takes: the same structure, with the post's parts where its texts
// are. What each text stands for is guessed by its name and its look, unless chosen says so by the text's path.
func FromExample(v any, chosen map[string]Role) (shape any, leaves []Leaf) {
	e := &example{chosen: chosen, taken: map[Role]bool{}}
	for _, r := range chosen {
		e.taken[r] = true
	}
	e.walk(v, "", "", false)
	e.alone()
	return e.build(v, ""), e.leaves
}

type example struct {
	chosen map[string]Role
	taken  map[Role]bool // roles that one text alone has
	leaves []Leaf
}

// walk finds the texts, and guesses what they are. key is what a text is called; inFacts is true within a list whose elements
// are a label with a value.
func (e *example) walk(v any, path, key string, inFacts bool) {
	switch x := v.(type) {
	case map[string]any:
		for _, k := range value.SortedKeys(x) {
			e.walk(x[k], under(path, k), k, inFacts)
		}
	case []any:
		if len(x) > 0 && pairs(x) {
			e.walk(x[0], path+"[0]", key, true)
			return
		}
		for i, one := range x {
			e.walk(one, fmt.Sprintf("%s[%d]", path, i), key, inFacts)
		}
	case string:
		is, ok := e.chosen[path]
		if !ok {
			is = e.guess(key, x, inFacts)
		}
		e.leaves = append(e.leaves, Leaf{path, x, is})
	}
}

var (
	labelNames = []string{"title", "label", "name", "key", "term"}
	valueNames = []string{"value", "text", "val", "content", "definition"}
	titleNames = []string{"title", "subject", "heading", "headline", "header", "summary"}
	textNames  = []string{"text", "message", "body", "content", "description", "msg", "markdown", "html", "comment"}
	linkNames  = []string{"url", "link", "href", "uri", "target"}
	placeNames = []string{"channel", "room", "chat", "conversation"}
)

// pairs tells whether a list's elements are each a label with a value.
func pairs(list []any) bool {
	for _, one := range list {
		m, ok := one.(map[string]any)
		if !ok {
			return false
		}
		label, val := nameIn(m, labelNames), nameIn(m, valueNames)
		if label == "" || val == "" || label == val || value.Fold(label) == "title" && value.Fold(val) != "value" { // a title with a text is a message
			return false
		}
	}
	return true
}

// nameIn finds the first of some names that a text of an object has.
func nameIn(m map[string]any, names []string) string {
	for _, n := range names {
		for _, k := range value.SortedKeys(m) {
			if _, ok := m[k].(string); ok && value.Fold(k) == n {
				return k
			}
		}
	}
	return ""
}

func (e *example) guess(key, text string, inFacts bool) Role {
	name := value.Fold(key)
	address := strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://")
	switch {
	case inFacts && slices.Contains(labelNames, name):
		return FactLabel
	case inFacts && slices.Contains(valueNames, name):
		return FactValue
	case address && slices.ContainsFunc(linkNames, func(n string) bool { return strings.HasSuffix(name, n) }):
		return e.once(Link)
	case slices.Contains(titleNames, name):
		return e.once(Title)
	case slices.Contains(textNames, name):
		return e.once(Text)
	case slices.Contains(placeNames, name):
		return Place
	}
	return AsItIs
}

// once gives a role to the first text that seems to have it.
func (e *example) once(r Role) Role {
	if e.taken[r] {
		return AsItIs
	}
	e.taken[r] = true
	return r
}

// alone has a text that is the only one of a message carry all of it.
func (e *example) alone() {
	at := -1
	for i, l := range e.leaves {
		switch l.Is {
		case Title, Everything, FactLabel, FactValue:
			return
		case Text:
			at = i
		}
	}
	if at < 0 {
		return
	}
	if _, ok := e.chosen[e.leaves[at].Path]; !ok {
		e.leaves[at].Is = Everything
	}
}

func (e *example) role(path string) Role {
	for _, l := range e.leaves {
		if l.Path == path {
			return l.Is
		}
	}
	return AsItIs
}

// facts tells whether a fact's part stands anywhere within a path.
func (e *example) facts(path string) bool {
	return slices.ContainsFunc(e.leaves, func(l Leaf) bool {
		return (l.Is == FactLabel || l.Is == FactValue) && strings.HasPrefix(l.Path, path)
	})
}

func (e *example) build(v any, path string) any {
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, one := range x {
			name := k
			if strings.HasPrefix(k, "$") {
				name = "$" + k
			}
			out[name] = e.build(one, under(path, k))
		}
		return out
	case []any:
		out := []any{}
		for i, one := range x {
			at := fmt.Sprintf("%s[%d]", path, i)
			if e.facts(at) && !inner(one, at, e) {
				out = append(out, map[string]any{each: "${post.facts}", as: e.build(one, at)})
				if pairs(x) {
					break // the others are facts of the same kind
				}
				continue
			}
			out = append(out, e.build(one, at))
		}
		return out
	case string:
		if f, ok := formulas[e.role(path)]; ok {
			return f
		}
		return strings.ReplaceAll(x, "${", "$${")
	}
	return v
}

// inner tells whether the facts within an element stand in a list of its own, which is then what is repeated.
func inner(v any, path string, e *example) bool {
	switch x := v.(type) {
	case map[string]any:
		for k, one := range x {
			if inner(one, under(path, k), e) {
				return true
			}
		}
	case []any:
		for i, one := range x {
			at := fmt.Sprintf("%s[%d]", path, i)
			if e.facts(at) || inner(one, at, e) {
				return true
			}
		}
	}
	return false
}

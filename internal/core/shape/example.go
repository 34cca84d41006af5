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
	Fact       Role = "a fact" // its label and its value in one text
	Sender     Role = "the sender's name"
	Face       Role = "the sender's picture"
	Picture    Role = "picture"
	Secret     Role = "a secret"
)

// Roles lists them in the order in which they are offered.
var Roles = []Role{AsItIs, Title, Text, Everything, Link, Tone, Place, Fact, FactLabel, FactValue, Sender, Face, Picture, Secret}

var formulas = map[Role]string{
	Title: "${post.title}", Text: "${post.text}", Link: "${post.link}", Tone: "${post.tone}", Place: "${post.place}",
	FactLabel: "${it.label}", FactValue: "${it.value}", Fact: "${it.label}: ${it.value}", Everything: WholeText,
	Sender: "${post.sender.name}", Face: "${post.sender.picture}", Picture: "${post.picture}", Secret: "${post.secret}",
}

// WholeText is a post in one text: its title, its text, its facts a line each, and its link.
const WholeText = "${post.all}"

// neverEmpty are the roles of what every post has.
var neverEmpty = []Role{Tone, Place, Fact, FactValue}

// Leaf is a text of an example.
type Leaf struct {
	Path string `json:"path"`
	Text string `json:"text"`
	Is   Role   `json:"is"`
	// Always says that it is sent where it is empty, too.
	Always bool `json:"always,omitempty"`
	// Stays says that it looks like words of the example, which would stand in every post.
	Stays bool `json:"stays,omitempty"`

	listed bool // it is an element of a list, where nothing can be left out
}

// FromExample makes a shape of an example of what the other side takes: the same structure, with the post's parts where its texts
// are. What each text stands for is guessed by its name and its look, unless chosen says so by the text's path. What is empty is left
// out, but for the texts whose paths are in always, which are "" then.
func FromExample(v any, chosen map[string]Role, always []string) (shape any, leaves []Leaf) {
	e := &example{chosen: chosen, taken: map[Role]bool{}, lists: map[string]bool{}}
	for _, r := range chosen {
		e.taken[r] = true
	}
	e.walk(v, "", around{})
	e.alone()
	e.faces()
	for i := range e.leaves {
		l := &e.leaves[i]
		_, picked := chosen[l.Path]
		l.Always = slices.Contains(always, l.Path)
		l.Stays = l.Is == AsItIs && !picked && spoken(l.Text)
	}
	return e.build(v, ""), e.leaves
}

type example struct {
	chosen map[string]Role
	taken  map[Role]bool   // roles that one text alone has
	lists  map[string]bool // paths of lists whose elements are facts
	// repeating is true within what stands for each fact.
	repeating bool
	leaves    []Leaf
}

// around is what a text stands in.
type around struct {
	key, of string // what it is called, and what it stands in is
	facts   facts
	head    bool // what it stands in calls itself a heading
	list    bool // it is an element of a list
	at      int  // its place there
}

// facts is how the elements of a list are facts.
type facts int

const (
	noFacts  facts = iota
	asPairs        // an object each, with a label and a value
	asCouple       // a list of two each
	asLine         // a text each
)

// walk finds the texts, and guesses what they are.
func (e *example) walk(v any, path string, in around) {
	switch x := v.(type) {
	case map[string]any:
		head := in.head
		for _, k := range []string{"type", "kind", "style", "role"} {
			text, _ := x[k].(string)
			head = head || slices.Contains(titleNames, value.Fold(text))
		}
		for _, k := range value.SortedKeys(x) {
			e.walk(x[k], under(path, k), around{key: k, of: in.key, facts: in.facts, head: head})
		}
	case []any:
		if how := factsIn(x, in.key); how != noFacts && in.facts == noFacts {
			e.lists[path] = true
			e.walk(x[0], path+"[0]", around{key: in.key, of: in.of, facts: how, list: true})
			return
		}
		for i, one := range x {
			e.walk(one, fmt.Sprintf("%s[%d]", path, i), around{key: in.key, of: in.of, facts: in.facts, list: true, at: i})
		}
	case string:
		is, ok := e.chosen[path]
		if !ok {
			is = e.guess(x, path, in)
		}
		e.leaves = append(e.leaves, Leaf{Path: path, Text: x, Is: is, listed: in.list})
	}
}

var (
	labelNames  = []string{"title", "label", "name", "key", "term"}
	valueNames  = []string{"value", "text", "val", "content", "definition"}
	titleNames  = []string{"title", "subject", "heading", "headline", "header", "summary"}
	textNames   = []string{"text", "message", "body", "content", "description", "msg", "markdown", "html", "comment"}
	linkNames   = []string{"url", "link", "href", "uri", "target"}
	placeNames  = []string{"channel", "room", "chat", "conversation"}
	senderNames = []string{"username", "sender", "sendername", "from", "fromname", "author", "authorname", "displayname", "nickname", "postedby", "botname"}
	senderOwn   = []string{"name", "text", "title", "label"} // of what is called a sender
	faceNames   = []string{"icon", "avatar", "picture", "image", "photo", "face", "logo", "thumbnail"}
	factLists   = []string{"facts", "fields", "rows", "details", "entries", "lines", "bullets", "properties", "attributes", "pairs"}
	secretNames = []string{"token", "secret", "password", "apikey", "accesstoken", "authtoken", "accesskey", "signature", "privatekey"}
)

// factsIn tells how the elements of a list are facts, by what they are and what the list is called.
func factsIn(list []any, key string) facts {
	if len(list) == 0 {
		return noFacts
	}
	named := slices.Contains(factLists, value.Fold(key))
	if pairs(list, named && len(list) > 1) {
		return asPairs
	}
	couples, lines := true, len(list) > 1
	texts := make([]string, 0, len(list))
	for _, one := range list {
		two, _ := one.([]any)
		couples = couples && len(two) == 2 && isText(two[0]) && isText(two[1])
		text, ok := lineOf(one, list[0])
		if lines = lines && ok; ok {
			texts = append(texts, text)
		}
	}
	switch {
	case couples && (named || len(list) > 1):
		return asCouple
	case lines && (named || !slices.ContainsFunc(texts, func(s string) bool { return !strings.Contains(s, ": ") })):
		return asLine
	}
	return noFacts
}

func isText(v any) bool {
	_, ok := v.(string)
	return ok
}

// lineOf is the text of an element that is a text, or an object like another in which one text is its own.
func lineOf(v, first any) (string, bool) {
	if s, ok := v.(string); ok {
		return s, isText(first)
	}
	m, ok := v.(map[string]any)
	other, like := first.(map[string]any)
	if !ok || !like || len(m) != len(other) {
		return "", false
	}
	key := nameIn(m, textNames)
	text, _ := m[key].(string)
	for k := range m {
		if _, has := other[k]; !has || k != key && !value.Same(m[k], other[k]) {
			return "", false
		}
	}
	return text, key != ""
}

// pairs tells whether a list's elements are each a label with a value. A title with a text is a message, unless the list is called so that
// it is one of facts.
func pairs(list []any, named bool) bool {
	for _, one := range list {
		m, ok := one.(map[string]any)
		if !ok {
			return false
		}
		label, val := nameIn(m, labelNames), nameIn(m, valueNames)
		if label == "" || val == "" || label == val || !named && value.Fold(label) == "title" && value.Fold(val) != "value" {
			return false
		}
	}
	return true
}

// nameIn finds the first of some names that a text of an object has.
func nameIn(m map[string]any, names []string) string {
	for _, n := range names {
		for _, k := range value.SortedKeys(m) {
			if isText(m[k]) && value.Fold(k) == n {
				return k
			}
		}
	}
	return ""
}

func isAddress(s string) bool {
	return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")
}

func (e *example) guess(text, path string, in around) Role {
	name, bare := value.Fold(in.key), value.BareName(in.key)
	speaks := slices.Contains(textNames, name)
	switch {
	case slices.Contains(secretNames, bare) && !in.list:
		return Secret
	case in.facts == asPairs && slices.Contains(labelNames, name):
		return FactLabel
	case in.facts == asPairs && slices.Contains(valueNames, name):
		return FactValue
	case in.facts == asCouple && in.list:
		return []Role{FactLabel, FactValue}[min(in.at, 1)]
	case in.facts == asLine && (in.list || speaks):
		return Fact
	case isAddress(text) && slices.ContainsFunc(linkNames, func(n string) bool { return strings.HasSuffix(name, n) }) && !isFace(bare):
		return e.once(Link)
	case in.head && speaks:
		return e.once(Title)
	case !isAddress(text) && (slices.Contains(senderNames, bare) || slices.Contains(senderNames, value.BareName(in.of)) && slices.Contains(senderOwn, name)):
		return e.once(Sender)
	case slices.Contains(titleNames, name):
		return e.once(Title)
	case speaks && e.taken[Text] && !strings.ContainsAny(path, ".["):
		return Everything // for whoever does not show the parts beside it
	case speaks:
		return e.once(Text)
	case slices.Contains(placeNames, name):
		return Place
	}
	return AsItIs
}

func isFace(bare string) bool {
	return slices.ContainsFunc(faceNames, func(n string) bool { return strings.Contains(bare, n) })
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
		case Title, Everything, FactLabel, FactValue, Fact:
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

// faces has a picture beside who posts be that one's.
func (e *example) faces() {
	for _, who := range e.leaves {
		if who.Is != Sender {
			continue
		}
		for i := range e.leaves {
			l := &e.leaves[i]
			if _, picked := e.chosen[l.Path]; picked || l.Is != AsItIs || parent(l.Path) != parent(who.Path) || !isAddress(l.Text) {
				continue
			}
			if isFace(value.BareName(l.Path[len(parent(l.Path)):])) {
				l.Is = e.once(Face)
			}
		}
	}
}

// parent is the path of what a text stands in.
func parent(path string) string {
	return path[:max(0, strings.LastIndexByte(path, '.'))]
}

// spoken tells whether a text looks like words for people, as against a word of the other side's own.
func spoken(s string) bool {
	return !isAddress(s) && (len(strings.Fields(s)) > 1 || strings.Contains(s, ": "))
}

func (e *example) leaf(path string) Leaf {
	for _, l := range e.leaves {
		if l.Path == path {
			return l
		}
	}
	return Leaf{Is: AsItIs}
}

// hasFacts tells whether a fact's part stands anywhere within a path.
func (e *example) hasFacts(path string) bool {
	return slices.ContainsFunc(e.leaves, func(l Leaf) bool {
		return (l.Is == FactLabel || l.Is == FactValue || l.Is == Fact) && strings.HasPrefix(l.Path, path)
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
		if e.lists[path] && e.hasFacts(path+"[0]") { // the others are facts of the same kind
			e.repeating = true
			out = append(out, map[string]any{each: "${post.facts}", as: e.build(x[0], path+"[0]")})
			e.repeating = false
			return out
		}
		for i, one := range x {
			at := fmt.Sprintf("%s[%d]", path, i)
			if !e.repeating && e.hasFacts(at) && !inner(one, at, e) {
				out = append(out, map[string]any{each: "${post.facts}", as: e.build(one, at)})
				continue
			}
			out = append(out, e.build(one, at))
		}
		return out
	case string:
		return e.filled(e.leaf(path), x)
	}
	return v
}

// filled is what stands in the place of a text.
func (e *example) filled(l Leaf, text string) any {
	f, ok := formulas[l.Is]
	switch {
	case !ok:
		return strings.ReplaceAll(text, "${", "$${")
	case l.Always:
		return f + `${""}` // which makes a text of it
	case l.listed || l.Path == "" || slices.Contains(neverEmpty, l.Is):
		return f
	}
	return map[string]any{when: f, then: f}
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
			if e.hasFacts(at) || inner(one, at, e) {
				return true
			}
		}
	}
	return false
}

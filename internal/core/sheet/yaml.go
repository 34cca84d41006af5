package sheet

import (
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// maxNodes bounds what is read of one sheet, so that aliases of aliases cannot fill the memory.
const maxNodes = 20_000

// maxNesting is how deeply conditions and values may nest; an alias may hold itself.
const maxNesting = 40

// reader walks a YAML tree, noting every problem with its place.
type reader struct {
	lines    []string
	nodes    int
	followed bool // a condition is read that may ask what people did with an alert
	problems report.List
}

// parse gives the root of the text, or nil with a problem noted.
func (r *reader) parse(src []byte) *yaml.Node {
	r.lines = strings.Split(strings.ReplaceAll(string(src), "\r\n", "\n"), "\n")
	doc, err := document(src)
	switch {
	case err != nil:
		r.problems.Add(err.at, "", "", "%s", err.words)
		return nil
	case len(doc.Content) == 0:
		r.problems.Add(report.Pos{Line: 1, Column: 1}, "", "", "the sheet is empty")
		return nil
	}
	r.tags(doc.Content[0], 0)
	return doc.Content[0]
}

// plainTags are the kinds of value that a sheet may hold; what else a tag asks for would be left aside in silence.
var plainTags = []string{"!!str", "!!int", "!!float", "!!bool", "!!null", "!!map", "!!seq", "!!timestamp", "!!merge"}

func (r *reader) tags(n *yaml.Node, depth int) {
	if depth > 2*maxNesting || n.Kind == yaml.AliasNode {
		return
	}
	if !contains(plainTags, n.ShortTag()) {
		r.problems.Add(at(n), "", "", "a sheet has no use for the tag %s; leave it out", n.Tag)
	}
	for _, c := range n.Content {
		r.tags(c, depth+1)
	}
}

func at(n *yaml.Node) report.Pos { return report.Pos{Line: n.Line, Column: n.Column} }

// follow resolves aliases.
func (r *reader) follow(n *yaml.Node) *yaml.Node {
	for hops := 0; n.Kind == yaml.AliasNode && hops < 20; hops++ {
		n = n.Alias
	}
	r.nodes++
	if r.nodes == maxNodes {
		r.problems.Add(at(n), "", "", "the sheet is larger than %d parts", maxNodes)
	}
	return n
}

// entry is one name with its value in an object.
type entry struct {
	name string
	key  *yaml.Node
	node *yaml.Node
}

// object lists the entries of an object and refuses names that are not among the known ones, and
// names that stand twice. No known names means that every name is allowed.
func (r *reader) object(n *yaml.Node, path, what string, names ...string) []entry {
	n = r.follow(n)
	if r.nodes > maxNodes {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		if !isNull(n) {
			r.problems.Add(at(n), path, "", "%s is written as names with values, not as %s", what, shape(n))
		} else {
			r.problems.Add(at(n), path, "", "%s is empty", what)
		}
		return nil
	}
	var out []entry
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := r.follow(n.Content[i])
		name := key.Value
		if seen[name] {
			r.problems.Add(at(key), path, "", "%s stands twice", name)
			continue
		}
		seen[name] = true
		if len(names) > 0 && !contains(names, name) {
			r.problems.Add(at(key), path, value.Nearest(name, names), "%s has no part %q", what, name)
			continue
		}
		out = append(out, entry{name, key, r.follow(n.Content[i+1])})
	}
	return out
}

func contains(list []string, s string) bool {
	return slices.Contains(list, s)
}

func (r *reader) list(n *yaml.Node, path, what string) []*yaml.Node {
	n = r.follow(n)
	if n.Kind != yaml.SequenceNode {
		r.problems.Add(at(n), path, "", "%s is a list, not %s", what, shape(n))
		return nil
	}
	if r.nodes > maxNodes {
		return nil
	}
	out := make([]*yaml.Node, len(n.Content))
	for i, c := range n.Content {
		out[i] = r.follow(c)
	}
	return out
}

// text reads a scalar as text, whatever it would mean as a value.
func (r *reader) text(n *yaml.Node, path, what string) report.Text {
	if n.Kind != yaml.ScalarNode {
		r.problems.Add(at(n), path, "", "%s is a text, not %s", what, shape(n))
		return report.Text{At: at(n)}
	}
	if isNull(n) {
		return report.Text{At: at(n)}
	}
	return r.textOf(n)
}

func (r *reader) textOf(n *yaml.Node) report.Text {
	return report.Text{S: n.Value, At: at(n), Within: func(offset int) report.Pos { return r.within(n, offset) }}
}

// within finds the place of a character of a scalar in the source.
func (r *reader) within(n *yaml.Node, offset int) report.Pos {
	pos := at(n)
	value := []rune(n.Value)
	offset = min(offset, len(value))
	switch n.Style &^ yaml.TaggedStyle {
	case yaml.LiteralStyle:
		pos.Line++
		column := 0
		for _, c := range value[:offset] {
			if column++; c == '\n' {
				pos.Line++
				column = 0
			}
		}
		pos.Column = r.indent(n) + column + 1
	case yaml.FoldedStyle:
		pos.Line++ // lines were joined; the first is as near as can be said
		pos.Column = r.indent(n) + 1
	case yaml.DoubleQuotedStyle, yaml.SingleQuotedStyle:
		pos.Column += 1 + offset + r.escapes(n, offset)
	default:
		pos.Column += offset
	}
	return pos
}

// escapes counts the extra characters that escapes before the offset take in the source.
func (r *reader) escapes(n *yaml.Node, offset int) int {
	if n.Line < 1 || n.Line > len(r.lines) {
		return 0
	}
	src := []rune(r.lines[n.Line-1])
	extra, seen := 0, 0
	for i := n.Column; i < len(src) && seen < offset; i++ {
		if double := n.Style&yaml.DoubleQuotedStyle != 0; double && src[i] == '\\' || !double && src[i] == '\'' {
			i++
			extra++
		}
		seen++
	}
	return extra
}

// indent is how far a block of text is indented in the source.
func (r *reader) indent(n *yaml.Node) int {
	for i := n.Line; i < len(r.lines); i++ {
		if trimmed := strings.TrimLeft(r.lines[i], " "); trimmed != "" {
			return len(r.lines[i]) - len(trimmed)
		}
	}
	return 0
}

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.ShortTag() == "!!null" }

func shape(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "an object"
	case yaml.SequenceNode:
		return "a list"
	}
	if isNull(n) {
		return "nothing"
	}
	return "a value"
}

// value reads a YAML tree as plain data. Numbers keep their digits; dates stay text.
func (r *reader) value(n *yaml.Node) any { return r.nested(n, 0) }

func (r *reader) nested(n *yaml.Node, depth int) any {
	n = r.follow(n)
	if r.nodes > maxNodes || depth > maxNesting {
		return nil
	}
	switch n.Kind {
	case yaml.SequenceNode:
		list := make([]any, 0, len(n.Content))
		for _, c := range n.Content {
			list = append(list, r.nested(c, depth+1))
		}
		return list
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			m[n.Content[i].Value] = r.nested(n.Content[i+1], depth+1)
		}
		return m
	}
	return scalar(n)
}

var jsonNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

func scalar(n *yaml.Node) any {
	switch n.ShortTag() {
	case "!!null":
		return nil
	case "!!bool":
		return strings.EqualFold(n.Value, "true")
	case "!!int", "!!float":
		if jsonNumber.MatchString(n.Value) {
			return value.NumberLiteral(n.Value)
		}
		var f float64
		if n.Decode(&f) == nil && f == f && f < 1e308 && f > -1e308 {
			return f
		}
	}
	return n.Value
}

package sheet

import (
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Moved is one place of a sheet where a name was exchanged.
type Moved struct {
	Line int    `json:"line"`
	Was  string `json:"was"`
	Now  string `json:"now"`
}

// Move exchanges a connection for another in every source and destination that the sheet names, and where a formula names it:
// on_duty("rota/events"), person(x).mail. The rest of the text stays as it is, comments and all.
func Move(src []byte, from, to string) ([]byte, []Moved, error) {
	doc, bad := document(src)
	if bad != nil {
		return nil, nil, bad
	}
	lines := strings.Split(string(src), "\n")
	var moved []Moved
	inFormula := regexp.MustCompile(`(on_duty\(\s*\\?["'])` + regexp.QuoteMeta(from) + `(/)|(\bperson\([^()]*(?:\([^()]*\)[^()]*)*\)\??\.)` + regexp.QuoteMeta(from) + `\b`)
	var walk func(n *yaml.Node, name string)
	walk = func(n *yaml.Node, name string) {
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				walk(n.Content[i+1], n.Content[i].Value)
			}
		case yaml.SequenceNode, yaml.DocumentNode:
			for _, c := range n.Content {
				walk(c, name)
			}
		case yaml.ScalarNode:
			if inFormula.MatchString(n.Value) {
				moved = append(moved, moveFormulas(lines, n, inFormula, to)...)
			}
			rest, ok := strings.CutPrefix(n.Value, from+"/")
			if !ok || !contains([]string{"source", "to", "cc", "bcc", "of", "except"}, name) || n.Line > len(lines) {
				return
			}
			line := []rune(lines[n.Line-1])
			at := min(n.Column-1, len(line))
			tail := string(line[at:])
			if i := strings.Index(tail, from+"/"); i == 0 || i == 1 { // behind a quote
				lines[n.Line-1] = string(line[:at]) + tail[:i] + to + tail[i+len(from):]
				moved = append(moved, Moved{Line: n.Line, Was: n.Value, Now: to + "/" + rest})
			}
		}
	}
	walk(doc, "")
	out := []byte(strings.Join(lines, "\n"))
	if len(moved) > 1 && from != to { // several on one line: their columns have moved; go on from what is done
		more, again, err := Move(out, from, to)
		if err != nil || len(again) == 0 {
			return out, moved, err
		}
		return more, append(moved, again...), nil
	}
	return out, moved, nil
}

// moveFormulas exchanges a connection in the formulas of one text, in the lines that it stands in.
func moveFormulas(lines []string, n *yaml.Node, in *regexp.Regexp, to string) (moved []Moved) {
	last := n.Line
	if n.Style == yaml.LiteralStyle || n.Style == yaml.FoldedStyle {
		last += strings.Count(n.Value, "\n") + 1
	}
	for i := n.Line - 1; i < min(last, len(lines)); i++ {
		for _, was := range in.FindAllString(lines[i], -1) {
			now := in.ReplaceAllString(was, "${1}${3}"+to+"${2}")
			moved = append(moved, Moved{Line: i + 1, Was: was, Now: now})
		}
		lines[i] = in.ReplaceAllString(lines[i], "${1}${3}"+to+"${2}")
	}
	return moved
}

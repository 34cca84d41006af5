package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/value"
)

// order is how the parts of a sheet are written down.
var order = func() map[string]int {
	ranks := map[string]int{}
	for i, name := range strings.Fields("dorfbote name note look watch source on when command due lasts silent schedule start called that offset late for open days from cron zone rule except missed ask takes confirm tables keep gather name find value script http summary url method headers body pick of words if_fails source where take sort limit ask of all message choices within remind otherwise comment messages title body facts list of each most when_empty empty label value tone link links text to from sender picture chart table mention attach table columns format buttons claim later who route take rows otherwise tell cc bcc each most if_empty message reply keep_up until for answer status pace repeat quiet limit digest useful_for follow unless claimed answered add change call workflow set with key within then urgent posts per every at all any none field formula") {
		ranks[name] = i + 1
	}
	return ranks
}()

// Format writes a sheet, given as YAML or JSON, in the one form that Dorfbote writes: the parts in
// their order, two spaces of indent, short conditions on a line of their own. Formatting what is so
// formatted changes nothing.
func Format(src []byte) ([]byte, error) {
	doc, bad := document(src)
	if bad != nil {
		return nil, bad
	}
	if len(doc.Content) == 0 {
		return nil, errors.New("the sheet is empty")
	}
	arrange(doc.Content[0], "")
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := enc.Encode(doc); err != nil {
		return nil, err
	}
	return out.Bytes(), enc.Close()
}

func arrange(n *yaml.Node, parent string) {
	switch n.Kind {
	case yaml.MappingNode:
		n.Style = 0
		if parent != "messages" {
			sortPairs(n)
		}
		short := true
		for i := 0; i+1 < len(n.Content); i += 2 {
			n.Content[i].Style = 0
			arrange(n.Content[i+1], n.Content[i].Value)
			short = short && n.Content[i+1].Kind != yaml.MappingNode && len(n.Content[i+1].Value) < 60 && !strings.Contains(n.Content[i+1].Value, "\n")
			short = short && (n.Content[i+1].Kind != yaml.SequenceNode || n.Content[i+1].Style&yaml.FlowStyle != 0)
		}
		if short && len(n.Content) > 0 && inFlow(n, parent) {
			n.Style = yaml.FlowStyle
		}
	case yaml.SequenceNode:
		n.Style = 0
		plain := true
		for _, c := range n.Content {
			arrange(c, "[]")
			plain = plain && c.Kind == yaml.ScalarNode
		}
		if plain {
			n.Style = yaml.FlowStyle
		}
	case yaml.ScalarNode:
		if n.ShortTag() == "!!str" {
			n.Style = 0
			if strings.Contains(n.Value, "\n") {
				n.Style = yaml.LiteralStyle
			} else if strings.Contains(n.Value, "${") || strings.ContainsAny(n.Value, "#{}[],&*?|<>=!%@`") {
				n.Style = yaml.DoubleQuotedStyle
			}
		} else {
			n.Style = 0
		}
	}
}

// inFlow tells whether an object is written on one line: tests, facts, destinations and looks.
func inFlow(n *yaml.Node, parent string) bool {
	if parent == "look" || parent == "link" {
		return true
	}
	first := n.Content[0].Value
	return first == "field" || first == "days" || parent == "repeat" || parent == "limit" || parent == "digest" || first == "label" || first == "to" || first == "formula" && len(n.Content) == 2 || first == "message"
}

func sortPairs(n *yaml.Node) {
	type pair struct{ k, v *yaml.Node }
	pairs := make([]pair, 0, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		pairs = append(pairs, pair{n.Content[i], n.Content[i+1]})
	}
	rank := func(p pair) int {
		if p.k.Value == "field" {
			return 0 // before its operator
		}
		if r := order[p.k.Value]; r > 0 {
			return r
		}
		return 1000
	}
	for i := 1; i < len(pairs); i++ { // stable, and short
		for j := i; j > 0 && rank(pairs[j]) < rank(pairs[j-1]); j-- {
			pairs[j], pairs[j-1] = pairs[j-1], pairs[j]
		}
	}
	for i, p := range pairs {
		n.Content[2*i], n.Content[2*i+1] = p.k, p.v
	}
}

// JSON writes a sheet's text as JSON with the same values in the same order.
func JSON(src []byte) ([]byte, error) {
	r := &reader{}
	root := r.parse(src)
	if root == nil {
		return nil, fmt.Errorf("%s", r.problems.Problems[0].Message)
	}
	out := r.json(nil, root, 0)
	if r.nodes > maxNodes {
		return nil, fmt.Errorf("the sheet is larger than %d parts", maxNodes)
	}
	return out, nil
}

func (r *reader) json(b []byte, n *yaml.Node, depth int) []byte {
	n = r.follow(n)
	if r.nodes > maxNodes || depth > 2*maxNesting+10 {
		return append(b, "null"...)
	}
	switch n.Kind {
	case yaml.MappingNode:
		b = append(b, '{')
		for i := 0; i+1 < len(n.Content); i += 2 {
			if i > 0 {
				b = append(b, ',')
			}
			b = value.AppendJSON(b, n.Content[i].Value)
			b = append(b, ':')
			b = r.json(b, n.Content[i+1], depth+1)
		}
		return append(b, '}')
	case yaml.SequenceNode:
		b = append(b, '[')
		for i, c := range n.Content {
			if i > 0 {
				b = append(b, ',')
			}
			b = r.json(b, c, depth+1)
		}
		return append(b, ']')
	}
	return value.AppendJSON(b, scalar(n))
}

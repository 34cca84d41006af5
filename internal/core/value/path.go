package value

import (
	"sort"
	"strings"
)

// Unseen begins the names of what goes along with a record and is no field of it; no record has a field that begins so.
const Unseen = "\x00"

// SortedKeys returns the names of an object in byte order.
func SortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		if !strings.HasPrefix(k, Unseen) {
			keys = append(keys, k)
		}
	}
	sort.Strings(keys)
	return keys
}

// Path is a field's place by name: "farm.name". A path that meets a list goes into every element.
type Path struct {
	text  string
	steps []string
}

// ParsePath reads a dotted path. It never fails: a path that leads nowhere finds nothing.
func ParsePath(text string) Path {
	return Path{text: text, steps: strings.Split(text, ".")}
}

func (p Path) String() string { return p.text }

// Steps returns the names the path is made of.
func (p Path) Steps() []string { return p.steps }

// Beside is the path of another field of the same object.
func (p Path) Beside(name string) Path {
	steps := append(append([]string{}, p.steps[:max(len(p.steps)-1, 0)]...), name)
	return Path{text: strings.Join(steps, "."), steps: steps}
}

// Get returns what stands at the path in the record. many is true when the path went through a
// list; the value is then the list of everything found, in order.
func (p Path) Get(record map[string]any) (v any, many bool) {
	if v, ok := record[p.text]; ok { // the usual case, and names that hold a dot themselves
		return v, false
	}
	if len(p.steps) == 1 {
		return nil, false
	}
	return walk(record, p.steps)
}

func walk(v any, steps []string) (any, bool) {
	for i, step := range steps {
		switch x := v.(type) {
		case map[string]any:
			v = x[step]
		case []any:
			if m, ok := Pairs(x); ok {
				if named, there := m[step]; there {
					v = named
					continue
				}
			}
			found := make([]any, 0, len(x))
			for _, e := range x {
				sub, many := walk(e, steps[i:])
				if list, ok := sub.([]any); ok && many {
					found = append(found, list...)
				} else if !Empty(sub) {
					found = append(found, sub)
				}
			}
			return found, true
		default:
			return nil, false
		}
	}
	return v, false
}

package value

// pairNames are what apps call the two halves of a name-value pair.
var pairNames = [][2]string{{"name", "value"}, {"key", "value"}, {"label", "value"}, {"title", "value"}, {"field", "value"}, {"question", "answer"}}

// maxPairs bounds how long a list is looked at as pairs.
const maxPairs = 500

// Pairs reads a list of name-value pairs, as many apps write fields that their users have added, as an object by
// name. ok is false for any other list. Of a name that stands twice, the first counts.
func Pairs(list []any) (object map[string]any, ok bool) {
	if len(list) == 0 || len(list) > maxPairs {
		return nil, false
	}
	first, isObject := list[0].(map[string]any)
	if !isObject {
		return nil, false
	}
	for _, p := range pairNames {
		_, hasName := first[p[0]].(string)
		_, hasValue := first[p[1]]
		if hasName && hasValue {
			return pairs(list, p[0], p[1])
		}
	}
	return nil, false
}

func pairs(list []any, name, val string) (map[string]any, bool) {
	out := make(map[string]any, len(list))
	for _, e := range list {
		m, isObject := e.(map[string]any)
		n, named := m[name].(string)
		if !isObject || !named || n == "" {
			return nil, false
		}
		if _, there := out[n]; !there {
			out[n] = m[val]
		}
	}
	return out, true
}

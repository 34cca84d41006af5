package value

import "sort"

// Same tells whether two raw values are the same, for change detection: exactly, without folding,
// but with empty values alike.
func Same(a, b any) bool {
	if Empty(a) || Empty(b) {
		return Empty(a) && Empty(b)
	}
	switch x := a.(type) {
	case []any:
		y, ok := b.([]any)
		if !ok || len(x) != len(y) {
			return false
		}
		for i := range x {
			if !Same(x[i], y[i]) {
				return false
			}
		}
		return true
	case map[string]any:
		y, ok := b.(map[string]any)
		if !ok {
			return false
		}
		for k := range x {
			if !Same(x[k], y[k]) {
				return false
			}
		}
		for k := range y {
			if _, ok := x[k]; !ok && !Empty(y[k]) {
				return false
			}
		}
		return true
	}
	switch b.(type) {
	case []any, map[string]any:
		return false
	}
	return a == b
}

// Changed lists the names of the top-level fields that differ, in byte order. Where before is nil
// (a created record) it is every field that is not empty.
func Changed(before, after map[string]any) []string {
	var names []string
	for _, k := range SortedKeys(after) {
		if !Same(before[k], after[k]) {
			names = append(names, k)
		}
	}
	for _, k := range SortedKeys(before) {
		if _, ok := after[k]; !ok && !Empty(before[k]) {
			names = append(names, k)
		}
	}
	sort.Strings(names)
	return names
}

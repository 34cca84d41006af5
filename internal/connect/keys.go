package connect

import (
	"slices"
	"sort"
	"strings"

	"dorfbote/internal/core/value"
)

// keyNames are what fields that name a record are often called, the likeliest first.
var keyNames = []string{"id", "key", "uuid", "guid", "number", "no", "nr", "ref", "reference", "code", "name"}

// WorstKeyRank is the rank of a name that only ends like that of a key.
var WorstKeyRank = len(keyNames)

// KeyRank says how likely a field names a record by what it is called: 0 is the likeliest; beyond [WorstKeyRank] nothing
// speaks for it.
func KeyRank(name string) int {
	n := strings.TrimSuffix(strings.ToLower(name), ".")
	if i := slices.Index(keyNames, n); i >= 0 {
		return i
	}
	for _, end := range []string{"_id", "-id", "_key", "_no", "_number"} {
		if strings.HasSuffix(n, end) {
			return WorstKeyRank
		}
	}
	if strings.HasSuffix(name, "Id") || strings.HasSuffix(name, "ID") {
		return WorstKeyRank
	}
	return WorstKeyRank + 1
}

// LikelyKey gives the name that most likely names a record, "" where nothing speaks for any.
func LikelyKey(names []string) string {
	best, rank := "", WorstKeyRank+1
	for _, n := range names {
		if r := KeyRank(n); r < rank {
			best, rank = n, r
		}
	}
	return best
}

// mostKeys is how many likely keys are offered.
const mostKeys = 6

// LikelyKeys finds the fields that may name the records, the likeliest first: each has a value in every record, and no two
// records have the same. One inside an object is given by its path.
func LikelyKeys(records []map[string]any) []string {
	type candidate struct {
		path string
		rank int
	}
	var found []candidate
	if len(records) == 0 {
		return []string{}
	}
	consider := func(path, name string, depth int) {
		if strings.Contains(name, ".") {
			return
		}
		seen := map[string]bool{}
		for _, r := range records {
			k := KeyOf(r, path)
			if k == "" || len(k) > 200 || seen[k] {
				return
			}
			seen[k] = true
		}
		rank := KeyRank(name)
		if rank > WorstKeyRank && (depth > 0 || len(records) < 2) {
			return
		}
		found = append(found, candidate{path, rank*2 + depth})
	}
	for _, name := range value.SortedKeys(records[0]) {
		switch v := records[0][name].(type) {
		case string, float64:
			consider(name, name, 0)
		case map[string]any:
			for _, inner := range value.SortedKeys(v) {
				consider(name+"."+inner, inner, 1)
			}
		}
	}
	sort.SliceStable(found, func(i, j int) bool { return found[i].rank < found[j].rank })
	out := []string{}
	for _, c := range found[:min(len(found), mostKeys)] {
		out = append(out, c.path)
	}
	return out
}

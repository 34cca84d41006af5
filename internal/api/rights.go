package api

import (
	"encoding/json"
	"slices"
	"strings"

	"dorfbote/internal/api/kit"
)

// needWords are the rights as the file of rights says them.
var needWords = map[kit.Need]string{kit.Anyone: "anyone signed in", kit.Editors: "editor", kit.Administrators: "administrator", kit.BookKeepers: "keeper of the people book"}

// Rights lists every operation with the right that it needs, and whose team must have whoever calls it in it: a line each, headed, its
// cells apart by tabs.
func Rights() []string {
	s := described()
	var doc struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	raw, err := s.API.OpenAPI().MarshalJSON()
	if err != nil || json.Unmarshal(raw, &doc) != nil {
		return nil
	}
	var out []string
	for path, ops := range doc.Paths {
		for method, o := range ops {
			if o.OperationID == "" {
				continue
			}
			need, known := s.Needs[o.OperationID]
			words := "nobody"
			if known {
				words = needWords[need]
			}
			owner := ""
			if need == kit.Editors {
				if a, changes := s.Changing[o.OperationID]; changes && a.Owned() && !s.Making[o.OperationID] {
					owner = a.What
				}
			}
			out = append(out, strings.Join([]string{o.OperationID, strings.ToUpper(method), path, words, owner}, "\t"))
		}
	}
	slices.Sort(out)
	return append([]string{"operation\tmethod\tpath\twho\towned by the team of"}, out...)
}

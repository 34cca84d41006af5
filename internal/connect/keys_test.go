package connect

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLikelyKeys(t *testing.T) {
	type r = map[string]any
	for _, c := range []struct {
		records []map[string]any
		want    []string
	}{
		{nil, []string{}},
		{[]map[string]any{{"id": 1.0, "title": "x"}}, []string{"id"}},
		{[]map[string]any{{"number": 4.0, "title": "x", "state": "open"}, {"number": 5.0, "title": "y", "state": "open"}}, []string{"number", "title"}},
		{[]map[string]any{{"node": r{"id": "a"}, "n": 1.0}, {"node": r{"id": "b"}, "n": 1.0}}, []string{"node.id"}},
		{[]map[string]any{{"id": "same"}, {"id": "same"}}, []string{}},
		{[]map[string]any{{"id": "a"}, {"title": "none"}}, []string{}},
		{[]map[string]any{{"ticket_id": "a", "key": "K"}}, []string{"key", "ticket_id"}},
	} {
		assert.Equal(t, c.want, LikelyKeys(c.records), "%v", c.records)
	}
}

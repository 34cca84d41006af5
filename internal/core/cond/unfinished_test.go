package cond

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// A test whose value has not been filled in is said to be unfinished, and holds for nothing but what asks for emptiness.
func TestUnfinishedTests(t *testing.T) {
	words := &formula.Words{Workspace: value.DefaultWorkspace(), Schema: &value.Schema{Fields: []value.Field{
		{Name: "n", Type: value.Num}, {Name: "s", Type: value.Text}, {Name: "at", Type: value.Moment}, {Name: "l", Type: value.List, Of: value.Text},
	}}}
	for _, c := range []struct {
		field, op string
		v         any
		holds     bool
	}{
		{"n", "above", "", false}, {"n", "at_most", nil, false}, {"n", "rose_by", "", false}, {"n", "is", "", false}, {"n", "is_not", "", true},
		{"s", "contains", "", false}, {"s", "starts_with", "", false}, {"s", "became", "", false}, {"s", "one_of", []any{}, false}, {"s", "one_of", []any{"x", ""}, false},
		{"at", "before", "", false}, {"at", "within_next", "", false}, {"l", "contains", "", false}, {"l", "has_any", []any{}, false},
	} {
		var problems report.List
		n := Compile(&Spec{Field: report.Text{S: c.field}, Op: report.Text{S: c.op}, Value: c.v}, words, "keep", &problems)
		require.False(t, problems.Failed(), "%s %s: %v", c.field, c.op, problems.Problems)
		require.NotEmpty(t, problems.Problems, "%s %s", c.field, c.op)
		assert.True(t, problems.Problems[0].Unfinished, "%s %s: %v", c.field, c.op, problems.Problems)
		sc := &formula.Scope{Record: map[string]any{"n": 5.0, "s": "late", "at": "2026-11-20T00:00:00Z", "l": []any{"a"}}, Before: map[string]any{}, Now: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)}
		assert.Equal(t, c.holds, n.Eval(sc) == True, "%s %s %v", c.field, c.op, c.v)
	}
}

package formula

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

// Records stand in groups by the value of a field, in order of first appearance.
func TestGroup(t *testing.T) {
	one := func(pairs ...any) map[string]any {
		m := map[string]any{}
		for i := 0; i < len(pairs); i += 2 {
			m[pairs[i].(string)] = pairs[i+1]
		}
		return m
	}
	a, b, c, d := one("v", "Upper", "tags", []any{"x", "y", "x"}), one("v", "Mill", "tags", []any{}), one("v", "Upper", "n", 1.0), one("n", "1", "at", one("name", "Upper"))
	w := words("en")
	run := func(src string, list any) (any, error) {
		own := *w
		own.Gathered = []Name{{Name: "open"}}
		f, err := Compile(src, &own)
		require.NoError(t, err, src)
		sc := scope()
		sc.Gather("open", list, list)
		return f.Run(sc)
	}
	list := []any{a, b, c, d}
	group := func(key any, records ...any) any { return map[string]any{"key": key, "records": records} }
	for src, want := range map[string]any{
		`group(open, "v")`:                        []any{group("Upper", a, c), group("Mill", b), group(nil, d)},
		`group(open, "tags")`:                     []any{group("x", a), group("y", a), group(nil, b, c, d)},
		`group(open, "n")`:                        []any{group(nil, a, b), group(1.0, c, d)}, // 1 and "1" are one value
		`group(open, "at.name")`:                  []any{group(nil, a, b, c), group("Upper", d)},
		`group(open, "no" + "ne")`:                []any{group(nil, a, b, c, d)},
		`map(group(open, "v"), len(.records))`:    []any{2, 1, 1},
		`bullets(group(open, "v"), "${it.key}.")`: "• Upper.\n• Mill.\n• .",
	} {
		got, err := run(src, list)
		require.NoError(t, err, src)
		if rich, ok := got.(Rich); ok {
			got = rich.Plain()
		}
		assert.Equal(t, want, got, src)
	}
	got, err := run(`group(open, "v")`, nil)
	require.NoError(t, err)
	assert.Empty(t, got)
	for src, list := range map[string]any{`group(open, "v")`: "many", `group(open, 4)`: list, `group(open, "x")`: []any{1.0}} {
		_, err := run(src, list)
		require.ErrorContains(t, err, "group() takes a", src)
	}

	// A field that the records have not is said where it stands.
	known := *w
	known.Gathered = []Name{{Name: "open", Many: true, Schema: &value.Schema{Fields: []value.Field{{Name: "valley"}}}}}
	_, err = Compile(`group(open, "vally")`, &known)
	assert.Equal(t, &Error{Offset: 13, Message: "there is no field vally in open", Suggestion: "valley"}, err)
	_, err = Compile(`group(open, "valley")`, &known)
	require.NoError(t, err)
	known.Gathered[0].Schema.Learnt = true
	f, err := Compile(`group(open, "vally")`, &known)
	require.NoError(t, err)
	assert.Equal(t, []*Error{{Offset: 13, Length: 5, Message: "no record seen so far has a field vally", Suggestion: "valley"}}, f.doubts)
	assert.Equal(t, "open", GroupedBy(` group( open, "valley")`))
	assert.Empty(t, GroupedBy(`filter(group(open, "valley"), true)`))
}

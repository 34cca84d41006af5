package script

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestScripts(t *testing.T) {
	r := &Runner{}
	defer r.Close()
	names := map[string]any{"record": map[string]any{"litres": 12.0, "id": "COL-1", "tags": []any{"a", "b"}}, "before": nil}
	for _, c := range []struct {
		name, src string
		want      any
		wrong     string
	}{
		{"a value", "result = record['litres'] * 2", 24.0, ""},
		{"a list", "result = [t.upper() for t in record['tags']]", []any{"A", "B"}, ""},
		{"an object", "def f(r):\n  return {'key': r['id'], 'had': before != None}\nresult = f(record)", map[string]any{"key": "COL-1", "had": false}, ""},
		{"nothing", "result = None", nil, ""},
		{"no result", "x = 1", nil, "sets nothing called result"},
		{"a slip", "y = 1\nresult = recrd", nil, "line 2"},
		{"a fault at its line", "x = 1\n\nresult = record['none']", nil, "line 3"},
		{"too many steps", "x = 0\nwhile True:\n  x += 1", nil, "more than 2000000 steps"},
		{"too long", "s = 'a'\nfor i in range(25):\n  s += s\nfor i in range(1000):\n  s.count('b')\nresult = 1", nil, "longer than"},
		{"too much memory", "s = 'a' * 1000000\nl = []\nfor i in range(100000):\n  l.append(s + str(i))\nresult = 1", nil, "of memory"},
		{"no files", "result = open('/etc/passwd')", nil, "undefined: open"},
		{"no loading", "load('x', 'y')\nresult = 1", nil, "load"},
		{"and goes on after all that", "result = len(record)", 3.0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			v, err := r.Run(c.src, names)
			if c.wrong != "" {
				require.Error(t, err)
				assert.Contains(t, err.Error(), c.wrong)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, v)
		})
	}
}

package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const manyParts = `dorfbote: 1
name: Parts
watch: {source: tours/collections, when: {field: status, became: late}}
keep: {field: litres, above: 500}
gather:
  - {name: one, value: record.litres * 2}
  - {name: two, value: one + 1}
  - {name: other, value: record.id}
messages:
  a: {title: "${record.id} ${two}"}
  b: {title: "${record.id} ${other}"}
route:
  take: every
  rows:
    - {name: A, when: {field: litres, above: 900}, tell: [{to: "square/#tours", message: a}]}
    - {name: B, when: {formula: two > 5}, tell: [{to: "square/#tours", message: b}]}
  otherwise: {tell: [{to: "square/#board", message: b}]}
pace: {repeat: {key: "${record.id}", within: 2h}}
follow:
  - {change: {source: tours/collections, key: "${record.id}", set: {status: late}}}
  - {add: {source: workshop/jobs, set: {id: "${other}"}}}
`

// An error freezes what it stands in and what depends on it, and nothing else.
func TestAnErrorFreezesWhatDependsOnIt(t *testing.T) {
	for _, c := range []struct {
		name, old, new string
		frozen         []string // nil: nothing can be proved
	}{
		{"nothing is wrong", "", "", []string{}},
		{"a message", "${record.id} ${other}", "${record.idd} ${other}", []string{"messages.b"}},
		{"a row", "{field: litres, above: 900}", "{field: litrs, above: 900}", []string{"route.rows[0].when"}},
		{"Keep", "above: 500", "abov: 500", []string{"keep"}},
		{"Watch's condition", "became: late", "became: 5, was: 3", []string{"watch.when"}},
		{"something gathered, and what is made of it", "record.litres * 2", "record.litrs * 2", []string{"gather[0]", "gather[1]", "messages.a", "route.rows[1].when"}},
		{"something gathered last", "value: record.id}", "value: record.idd}", []string{"follow[1]", "gather[2]", "messages.b"}},
		{"a destination that there is not", "square/#board", "square/#bord", []string{"route.otherwise.tell"}},
		{"a channel that is not chosen", `to: "square/#board"`, `to: ""`, []string{"route.otherwise.tell"}},
		{"a message that there is not", "message: a}", "message: x}", []string{"route.rows[0].tell"}},
		{"pace", "within: 2h", "within: 2x", []string{"pace"}},
		{"what follows", "set: {status: late}", "set: {statu: late}", []string{"follow[0]"}},
		{"two at once", "above: 500}\ngather:\n  - {name: one, value: record.litres * 2}", "abov: 500}\ngather:\n  - {name: one, value: record.}", []string{"gather[0]", "gather[1]", "keep", "messages.a", "route.rows[1].when"}},
		{"what starts it", "source: tours/collections,", "source: tours/nothing,", nil},
		{"no YAML", "keep:", "keep: [", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			src := []byte(strings.Replace(manyParts, c.old, c.new, 1))
			p, frozen, _, problems := CompilePartly(src, known)
			if c.frozen == nil {
				require.Nil(t, p)
				return
			}
			require.NotNil(t, p, "%v", problems)
			assert.ElementsMatch(t, c.frozen, frozen)
			_, _, whole := Compile(src, known)
			assert.Equal(t, whole, problems, "what is said to be wrong is the same")
		})
	}
}

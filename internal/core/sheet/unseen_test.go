package sheet

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Where the fields are known from records alone, a name that none of them had is doubted wherever it stands, and nothing
// is refused.
func TestFieldsThatWereNeverSeenAreDoubted(t *testing.T) {
	learner := value.NewLearner()
	learner.See(map[string]any{"id": "C-1", "status": "late", "litres": 3.0, "user": map[string]any{"login": "ada"}})
	known := Known{Workspace: value.DefaultWorkspace(), Schema: func(string) *value.Schema { return learner.Schema() }}
	const text = `dorfbote: 1
name: Unseen
watch: {source: app/things, on: [created, updated], when: {field: %[1]s, is: x}}
keep: {all: [{field: %[2]s, above: 3}, {formula: "record.%[3]s > 2"}, {field: litres, above: "${record.%[4]s}"}]}
gather:
  - {name: one, find: {source: app/others, where: {field: %[5]s, is: "${record.%[6]s}"}, sort: -%[7]s}}
  - {name: sum, value: "record.%[8]s"}
  - {name: talk, http: {url: "https://x.example/${record.%[9]s}"}}
route:
  take: first
  rows:
    - {name: a, when: {any: [{field: one.%[10]s, is: x}, {formula: 'one.%[11]s == "x"'}]}, tell: [{to: "a/b", message: m}]}
  otherwise: {tell: [{to: "a/b", message: m}]}
messages:
  m:
    title: "Say ${upper(record.%[12]s)} ${record.user.%[13]s}"
    body: 'Was ${before.%[14]s}, ${"%[15]s" in changed}'
pace: {repeat: {key: "${record.%[16]s}", within: 2h}}
follow:
  - {change: {source: app/things, key: "${record.%[17]s}", set: {%[18]s: "${record.%[19]s}"}}}
`
	right := []any{"status", "litres", "litres", "litres", "id", "id", "litres", "litres", "id", "status", "status", "status", "login", "status", "status", "id", "id", "status", "id"}
	compile := func(names []any) []report.Problem {
		p, _, problems := Compile([]byte(fmt.Sprintf(text, names...)), known)
		require.NotNil(t, p, "%v", problems)
		var out []report.Problem
		for _, e := range problems {
			if strings.Contains(e.Message, "comes in as a change there") {
				continue
			}
			out = append(out, e)
		}
		return out
	}
	require.Empty(t, compile(right))
	wrong := map[string]string{"status": "statsu", "litres": "litrs", "id": "idd", "login": "lgin"}
	for i := range right {
		names := append([]any(nil), right...)
		names[i] = wrong[right[i].(string)]
		problems := compile(names)
		if !assert.Len(t, problems, 1, "place %d", i+1) {
			continue
		}
		e := problems[0]
		assert.True(t, e.Warning)
		assert.Contains(t, e.Message, "no record seen so far has a field", "place %d", i+1)
		assert.Contains(t, e.Message, names[i])
		assert.Contains(t, e.Suggestion, right[i], "place %d", i+1)
	}
	// One that is like no other is doubted as well.
	names := append([]any(nil), right...)
	names[11] = "weather"
	problems := compile(names)
	require.Len(t, problems, 1)
	assert.Equal(t, "no record seen so far has a field weather", problems[0].Message)

	// A text is mended where the slip stands.
	names[11] = "statsu"
	mend := compile(names)[0].Mend
	require.NotNil(t, mend)
	assert.Equal(t, "Say ${upper(record.status)} ${record.user.login}", mend.Put)

	// Of a source that has sent nothing yet, nothing is doubted.
	learner = value.NewLearner()
	problems = compile(names)
	require.Len(t, problems, 1)
	assert.True(t, problems[0].Unfinished)
	assert.Contains(t, problems[0].Message, "app/things has no record yet")
}

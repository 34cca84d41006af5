package decide

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Answers that are missing or not of their question's type are a failure of their own, whoever sent them.
func TestAnswersOfTheWrongTypeAreRefused(t *testing.T) {
	p, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: T
watch: {start: {ask: [{name: n, type: whole number, required: true}, {name: ok, type: yes/no}]}}
messages: {m: {title: "${answers.n * 2}"}}
route: {take: first, otherwise: {tell: [{to: s/c, message: m}]}}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, p, "%v", problems)
	for given, where := range map[string]string{
		`{"n":3}`: "", `{"n":"3"}`: "", `{"n":3,"ok":true}`: "",
		`{"n":2.5}`: "watch.start.ask[0]", `{"n":"many"}`: "watch.start.ask[0]", `{}`: "watch.start.ask[0]", `{"n":3,"ok":"perhaps"}`: "watch.start.ask[1]",
	} {
		answers, err := value.ReadJSON([]byte(given))
		require.NoError(t, err)
		o := Decide(p, &formula.Scope{Arrival: formula.Arrival{ID: "a", Kind: "start", Source: "dorfbote/start"}, Now: time.Now(), Answers: answers.(map[string]any)})
		if where == "" {
			assert.Equal(t, Told, o.Verdict, "%s %s", given, o.Error)
			continue
		}
		assert.Equal(t, Failed, o.Verdict, given)
		assert.Equal(t, where, o.Where, given)
		assert.Contains(t, o.Error, "the question")
	}
}

// Who is replaced as the one to answer is told so, and may be asked again.
func TestWhoIsReplaced(t *testing.T) {
	p, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: T
watch: {source: a/b}
ask: [{name: v, of: [s/x, s/y], message: q, choices: [up, down]}]
messages: {m: {title: "${record.id}"}, q: {title: "${record.id}?"}}
route: {rows: [{name: R, when: {field: v.choice, is: up}, tell: [{to: s/c, message: m}]}]}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, p, "%v", problems)
	q := &p.Questions[0]
	at := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	a := &Asking{Name: "v", Asked: []string{"s/x", "s/y"}, Went: at}
	require.NoError(t, a.Exchange("s/x", "s/z"))
	_, err := a.Take(q, Given{Place: "s/x", Choice: "up", At: at})
	require.ErrorContains(t, err, "somebody else is asked in the place of s/x now")
	_, err = a.Take(q, Given{Place: "s/w", Choice: "up", At: at})
	require.ErrorContains(t, err, "s/w was not asked")
	require.NoError(t, a.Exchange("s/z", "s/x"))
	assert.Equal(t, []string{"s/z"}, a.Replaced)
	given, err := a.Take(q, Given{Place: "s/x", By: "Ann", Choice: "up", At: at})
	require.NoError(t, err)
	require.NotNil(t, given)
	assert.Equal(t, "up", given.Choice)
	for from, to := range map[string]string{"s/w": "s/q", "s/y": "s/x"} {
		assert.Error(t, a.Exchange(from, to), from)
	}
}

// An answer counts until its question ends, to the moment, and not before it was asked.
func TestWhenAnswersCount(t *testing.T) {
	p, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: T
watch: {source: a/b}
ask: [{name: v, of: [s/x], message: q, choices: [up, down], within: 2h}]
messages: {m: {title: "${record.id}"}, q: {title: "${record.id}?"}}
route: {rows: [{name: R, when: {field: v.choice, is: up}, tell: [{to: s/c, message: m}]}]}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, p, "%v", problems)
	went := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	for after, refused := range map[time.Duration]string{
		-time.Second:         "it was not asked yet",
		0:                    "",
		2 * time.Hour:        "",
		2*time.Hour + 1:      "it is too late: an answer was waited for until 2026-11-30T11:00:00Z",
		3 * time.Hour:        "it is too late",
		400 * 24 * time.Hour: "it is too late",
	} {
		a := &Asking{Name: "v", Asked: []string{"s/x"}, Went: went}
		given, err := a.Take(&p.Questions[0], Given{Place: "s/x", Choice: "up", At: went.Add(after)})
		if refused == "" {
			require.NoError(t, err, after)
			assert.Equal(t, "up", given.Choice, after)
			continue
		}
		require.ErrorContains(t, err, refused, after)
		assert.Nil(t, given, after)
		assert.Empty(t, a.Given, after)
	}
	_, err := (&Asking{Name: "v", Asked: []string{"s/x"}}).Take(&p.Questions[0], Given{Place: "s/x", Choice: "up", At: went})
	require.ErrorContains(t, err, "it was not asked yet", "it waits for opening hours")
}

// Two messages of one row to one place are two posts; one message of two rows to it is one.
func TestMessagesToOnePlace(t *testing.T) {
	p, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: T
watch: {source: a/b}
messages: {m: {title: "one"}, n: {title: "two"}}
route:
  take: every
  rows:
    - {name: R, when: {field: id, is: "1"}, tell: [{to: s/c, message: m}, {to: s/c, message: n}]}
    - {name: S, when: {field: id, is: "1"}, tell: [{to: s/c, message: n}, {to: s/d, message: m}]}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, p, "%v", problems)
	o := Decide(p, scopeOf(map[string]any{"id": "1"}))
	var told []string
	for _, post := range o.Posts {
		told = append(told, post.To+" "+post.Doc.Title)
	}
	assert.Equal(t, []string{"s/c one", "s/c two", "s/d one"}, told)
}

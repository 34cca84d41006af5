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

// A message that is told for each of a list is shown as it goes for the first of it, in the proof and in a trial.
func TestTheProofOfEach(t *testing.T) {
	p, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: T
watch: {source: a/b}
gather: [{name: open, value: "record.open"}]
messages: {m: {title: "${it.key}: ${len(it.records)}"}}
route: {otherwise: {tell: [{to: c/d, message: m, each: '${group(open, "v")}'}]}}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, p, "%v", problems)
	scope := func(open ...any) *formula.Scope {
		return &formula.Scope{Record: map[string]any{"id": "1", "open": open}, Now: time.Now(), Arrival: formula.Arrival{Kind: "created", Source: "a/b", Subject: "1"}}
	}
	upper := map[string]any{"v": "Upper"}
	shown := Explain(p, scope(upper, upper, map[string]any{"v": "Mill"}), nil).Messages["m"]
	assert.Empty(t, shown.Error)
	assert.Equal(t, "Upper: 2", shown.Doc.Title)
	assert.True(t, Explain(p, scope(), nil).Messages["m"].Skipped)
	posts, err := Trial(p, scope(upper), "m")
	require.NoError(t, err)
	assert.Equal(t, "Upper: 1", posts[0].Doc.Title)
	_, err = Trial(p, scope(), "m")
	require.ErrorContains(t, err, "nothing to send")
}

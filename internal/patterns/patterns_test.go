package patterns

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/route"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/practice/world"
)

type demoKinds map[string]*world.RecordKind

func (k demoKinds) Fields(source string) ([]value.Field, string) {
	if k[source] == nil { // a room, of which nothing is known before it is read
		return nil, ""
	}
	return k[source].Fields.Fields, k[source].Key
}

// offered are all patterns, and the kinds of record that the demo world has for them.
func offered(t *testing.T) ([]Pattern, demoKinds) {
	t.Helper()
	all, err := All()
	require.NoError(t, err)
	list, err := world.Kinds()
	require.NoError(t, err)
	kinds := demoKinds{}
	for _, k := range list {
		kinds[k.Source()] = k
	}
	return all, kinds
}

// filled is a pattern with what suits the demo world, as a sheet's text, and what it was filled with.
func (k demoKinds) filled(t *testing.T, p Pattern) (text []byte, blanks map[string]string) {
	t.Helper()
	blanks = map[string]string{}
	for _, b := range p.Blanks {
		blanks[b.Name] = b.Default
	}
	made, err := p.Fill(blanks, k)
	require.NoError(t, err)
	raw, err := json.Marshal(made)
	require.NoError(t, err)
	text, err = sheet.Format(raw)
	require.NoError(t, err)
	return text, blanks
}

// known is what is known of the demo world's sources.
func (k demoKinds) known() sheet.Known {
	return sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(s string) *value.Schema {
		if k, ok := k[s]; ok {
			return k.Fields
		}
		return nil
	}}
}

// Every pattern, filled with what suits the demo world, is a sheet that runs, without a warning.
func TestEveryPatternRuns(t *testing.T) {
	all, kinds := offered(t)
	assert.GreaterOrEqual(t, len(all), 15)
	for _, p := range all {
		t.Run(p.Name, func(t *testing.T) {
			assert.Contains(t, Groups, p.Group)
			text, blanks := kinds.filled(t, p)
			plan, sh, problems := sheet.Compile(text, kinds.known())
			require.NotNil(t, plan, "%v\n%s", problems, text)
			assert.Empty(t, problems, string(text))
			table := route.Look(plan, time.Now())
			assert.Empty(t, table.Problems(sh, false))
			assert.NotContains(t, string(text), "<<")
			delete(blanks, p.Blanks[0].Name)
			_, err := p.Fill(blanks, kinds)
			assert.ErrorContains(t, err, "fill in: "+p.Blanks[0].Label)
		})
	}
}

// A command without the name of a record is answered with why nothing was done; it is no failure of the workflow.
func TestABareCommand(t *testing.T) {
	all, kinds := offered(t)
	i := slices.IndexFunc(all, func(p Pattern) bool { return p.Name == "command-done" })
	text, _ := kinds.filled(t, all[i])
	plan, _, problems := sheet.Compile(text, sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	for said, want := range map[string]string{"done": "Vera says done nothing", "done COL-12": "Vera says done COL-12"} {
		a := &arrival.Arrival{ID: "m", Source: "talk/tours", Type: arrival.Created, Time: time.Now(), Subject: "1", Record: map[string]any{"id": "1", "author": "Vera", "text": said}}
		out := decide.Decide(plan, decide.NewScope(a))
		require.Equal(t, decide.Told, out.Verdict, "%s %s", said, out.Error)
		assert.Equal(t, want, out.Posts[0].Doc.Title)
		require.Len(t, out.Steps, 1)
		assert.Empty(t, out.Steps[0].Error, said)
	}
}

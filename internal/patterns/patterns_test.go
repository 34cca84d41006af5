package patterns

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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

// Every pattern, filled with what suits the demo world, is a sheet that runs, without a warning.
func TestEveryPatternRuns(t *testing.T) {
	all, err := All()
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(all), 15)
	kinds := demoKinds{}
	list, err := world.Kinds()
	require.NoError(t, err)
	for _, k := range list {
		kinds[k.Source()] = k
	}
	for _, p := range all {
		t.Run(p.Name, func(t *testing.T) {
			blanks := map[string]string{}
			for _, b := range p.Blanks {
				blanks[b.Name] = b.Default
			}
			filled, err := p.Fill(blanks, kinds)
			require.NoError(t, err)
			raw, err := json.Marshal(filled)
			require.NoError(t, err)
			text, err := sheet.Format(raw)
			require.NoError(t, err)
			plan, sh, problems := sheet.Compile(text, sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(s string) *value.Schema {
				if k, ok := kinds[s]; ok {
					return k.Fields
				}
				return nil
			}})
			require.NotNil(t, plan, "%v\n%s", problems, text)
			assert.Empty(t, problems, string(text))
			table := route.Look(plan, time.Now())
			assert.Empty(t, table.Problems(sh, false))
			assert.NotContains(t, string(text), "<<")
			delete(blanks, p.Blanks[0].Name)
			_, err = p.Fill(blanks, kinds)
			assert.ErrorContains(t, err, "fill in: "+p.Blanks[0].Label)
		})
	}
}

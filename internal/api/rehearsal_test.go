package api_test

import (
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A draft is rehearsed over what came in, compared with the version that is on; every outcome can be had as a file.
func TestRehearsal(t *testing.T) {
	c := start(t)
	c.signIn()
	made, _ := c.call("POST", "/api/connections", `{"id":"till","title":"Till"}`)
	require.Equal(t, 200, made)
	status, _ := c.call("POST", "/in/till/receipts", `[{"id":"R1","total":50},{"id":"R2","total":150},{"id":"R3","total":250},{"id":"=R4","total":20}]`)
	require.Equal(t, 202, status)
	const sheet = "dorfbote: 1\nname: Big\nwatch: {source: till/receipts}\nkeep: {field: total, above: 100}\nmessages: {m: {title: \"${record.id}\", body: \"${record.total}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
	_, w := c.call("POST", "/api/workflows", sheetBody(sheet))
	id := w["id"].(float64)
	status, _ = c.call("POST", "/api/workflows/"+strings.TrimSuffix(jsonText(id), ".0")+"/on", "")
	require.Equal(t, 200, status)
	ask := func(sheet, as string) string {
		raw, _ := json.Marshal(map[string]any{"text": sheet, "workflow": id, "as": as})
		status, out := c.raw("POST", "/api/rehearsals", string(raw))
		require.Equal(t, 200, status, "%s", out)
		return string(out)
	}
	lines := strings.Split(strings.TrimSpace(ask(strings.Replace(sheet, "100", "200", 1), "sums")), "\n")
	var last struct {
		Done bool
		Of   int
		Sums struct {
			Posts, Was, Differ int
			Differs            []struct{ Kind, Key string }
			Unheard            []struct{ Verdict string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &last))
	assert.True(t, last.Done)
	assert.Equal(t, 4, last.Of)
	assert.Equal(t, []int{1, 2, 1}, []int{last.Sums.Posts, last.Sums.Was, last.Sums.Differ})
	assert.Equal(t, "gone", last.Sums.Differs[0].Kind)
	assert.Equal(t, "R2", last.Sums.Differs[0].Key)

	rows, err := csv.NewReader(strings.NewReader(ask(sheet, "csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 5)
	assert.Equal(t, "'=R4", rows[4][2], "no program for tables takes it for a formula")
	assert.Equal(t, []string{"R2", "told", "square/#tours", "150"}, []string{rows[2][2], rows[2][4], rows[2][7], rows[2][11]})
	outcomes := strings.Split(strings.TrimSpace(ask(sheet, "jsonl")), "\n")
	require.Len(t, outcomes, 4)
	for _, o := range outcomes {
		assert.True(t, json.Valid([]byte(o)), o)
	}
	status, _ = c.call("POST", "/api/rehearsals", sheetBody(strings.Replace(sheet, "field: total, above", "field: totl, abov", 1)))
	assert.Equal(t, 422, status)
	_, posts := c.call("GET", "/api/posts", "")
	items, _ := posts["items"].([]any)
	assert.Empty(t, items, "a rehearsal sends nothing")
}

func jsonText(v any) string {
	raw, _ := json.Marshal(v)
	return string(raw)
}

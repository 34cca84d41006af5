package api_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand"
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

// Whatever a record holds is read back from the database as it came in: backslashes, quotes, line ends, what looks like an escape, signs
// of any plane. One such arrival ends no rehearsal.
func TestRehearsingOddTexts(t *testing.T) {
	c := start(t)
	c.signIn()
	made, _ := c.call("POST", "/api/connections", `{"id":"till","title":"Till"}`)
	require.Equal(t, 200, made)
	texts := []string{`C:\temp\new`, `\`, `\\`, `\x41`, `\101`, `\u0041`, `a"b`, `a'b`, "a\nb\r\n\tc", "{}", `{"a":1}`, "NULL", "\\N", "a\u2028b\ufeff", "\u0001\u001f\u007f", "🧀 ü \U0010FFFF", strings.Repeat(`\"`, 3000), "\u202eabc"}
	random := rand.New(rand.NewSource(1))
	for range 60 {
		var b strings.Builder
		for range 1 + random.Intn(12) {
			b.WriteRune([]rune("\\\"'nux0{}[],:\n\t \u0007äß🧀")[random.Intn(19)])
		}
		texts = append(texts, b.String())
	}
	var list []map[string]any
	want := map[string]string{}
	for i, text := range texts {
		key := fmt.Sprintf("K%d", i)
		list = append(list, map[string]any{"id": key, "note": text})
		want[key] = text
		if i < 15 && strings.TrimSpace(text) != "" && len(text) < 50 { // a key may be odd, too
			list = append(list, map[string]any{"id": text, "note": "odd key"})
			want[text] = "odd key"
		}
	}
	raw, err := json.Marshal(list)
	require.NoError(t, err)
	status, answer := c.raw("POST", "/in/till/notes", string(raw))
	require.Equal(t, 202, status, "%s", answer)
	sheet := "dorfbote: 1\nname: Odd\nwatch: {source: till/notes}\nmessages: {m: {title: t, facts: [{label: Key, value: \"${record.id}\"}, {label: Note, value: \"${record.note}\"}]}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
	body, _ := json.Marshal(map[string]any{"text": sheet, "as": "jsonl"})
	status, out := c.raw("POST", "/api/rehearsals", string(body))
	require.Equal(t, 200, status, "%s", out)
	got := map[string]string{}
	for line := range strings.SplitSeq(strings.TrimSpace(string(out)), "\n") {
		var o struct {
			Posts []struct {
				Facts [][]string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(line), &o), line)
		require.Len(t, o.Posts, 1, line)
		got[strings.TrimSpace(o.Posts[0].Facts[0][1])] = o.Posts[0].Facts[1][1]
	}
	assert.Len(t, got, len(want))
	for key, text := range want {
		assert.Equal(t, strings.TrimSpace(text), got[strings.TrimSpace(key)], "%q", key)
	}
}

package api_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
)

const till = "dorfbote: 1\nname: Till\nwatch: {source: till/receipts}\nkeep: {field: shop, is: Upper}\nmessages: {m: {title: \"${record.id}\"}, d: {title: \"more\"}}\n" +
	"route: {rows: [{name: Big, when: {field: total, at_least: 100}, tell: [{to: \"square/#tours\", message: m, reply: d}]}, {name: Bigger, when: {field: total, at_least: 500}, tell: [{to: \"square/#tours\", message: m}]}]}\n"

func withTill(t *testing.T) *client {
	c := start(t)
	c.signIn()
	status, _ := c.call("POST", "/api/connections", `{"id":"till","title":"Till"}`)
	require.Equal(t, 200, status)
	status, _ = c.call("POST", "/in/till/receipts", `[{"id":"R1","total":50,"shop":"Upper"},{"id":"R2","total":150,"shop":"Upper"},{"id":"R3","total":250,"shop":"Mill"}]`)
	require.Equal(t, 202, status)
	return c
}

// The proof says what each line lets through, which values a field had, what the table was found to be, and what the
// version that is on makes of each arrival.
func TestWhatTheProofKnows(t *testing.T) {
	c := withTill(t)
	_, w := c.call("POST", "/api/workflows", sheetBody(till))
	id := fmt.Sprint(w["id"])
	status, _ := c.call("POST", "/api/workflows/"+id+"/on", "")
	require.Equal(t, 200, status)
	prove := func(sheet string) (p struct {
		Problems []struct {
			Path, Message, Suggestion string
			Mend                      *struct {
				Path string
				Put  any
			}
		}
		Trail []struct {
			Key, Verdict, Row, Was string
		}
		Counts map[string]struct{ Yes, Of int }
		Seen   map[string][]struct {
			Value string
			Count int
		}
		Table struct {
			Findings []struct {
				Kind  string
				Row   int
				By    []int
				Words string
			}
		}
	}) {
		raw, _ := json.Marshal(map[string]any{"text": sheet, "workflow": w["id"]})
		status, out := c.raw("POST", "/api/proof", string(raw))
		require.Equal(t, 200, status, "%s", out)
		require.NoError(t, json.Unmarshal(out, &p))
		return p
	}
	p := prove(till)
	assert.Equal(t, "unreachable", p.Table.Findings[0].Kind)
	assert.Equal(t, []int{0}, p.Table.Findings[0].By)
	assert.Contains(t, p.Table.Findings[0].Words, "row 1 (Big) takes everything it would")
	assert.Equal(t, "Upper", p.Seen["shop"][0].Value)
	assert.Equal(t, 2, p.Seen["shop"][0].Count)
	assert.Equal(t, []int{2, 3}, []int{p.Counts["keep"].Yes, p.Counts["keep"].Of})
	assert.Equal(t, []int{1, 2}, []int{p.Counts["route.rows[0].when"].Yes, p.Counts["route.rows[0].when"].Of})
	assert.Empty(t, p.Trail[1].Was)

	p = prove(strings.Replace(till, "is: Upper", "is: uper", 1))
	var mend any
	for _, problem := range p.Problems {
		if problem.Path == "keep" && problem.Mend != nil {
			mend = problem.Mend.Put
		}
	}
	assert.Equal(t, map[string]any{"field": "shop", "is": "Upper"}, mend)
	assert.Equal(t, "told (Big)", p.Trail[1].Was)
	assert.Equal(t, "dropped", p.Trail[1].Verdict)
}

// A draft is tried in one channel: marked, once for each message, with its thread, whatever it would go to.
func TestTryingADraft(t *testing.T) {
	c := withTill(t)
	_, w := c.call("POST", "/api/workflows", sheetBody(till))
	try := func(seq int, message, to string) (int, map[string]any) {
		raw, _ := json.Marshal(map[string]any{"text": till, "arrival": seq, "message": message, "to": to})
		return c.call("POST", fmt.Sprintf("/api/workflows/%v/try", w["id"]), string(raw))
	}
	_, list := c.call("GET", "/api/arrivals", "")
	seq := map[string]int{}
	for _, it := range list["items"].([]any) {
		m := it.(map[string]any)
		seq[m["key"].(string)] = int(m["seq"].(float64))
	}
	status, out := try(seq["R2"], "m", "square/#tours")
	require.Equal(t, 200, status, out)
	assert.EqualValues(t, 2, out["posts"])
	status, out = try(seq["R3"], "d", "square/#tours") // it would not be told, so the message that is shown is sent
	require.Equal(t, 200, status, out)
	assert.EqualValues(t, 1, out["posts"])
	status, _ = try(seq["R3"], "none", "square/#tours")
	assert.Equal(t, 422, status)
	status, _ = try(seq["R2"], "m", "square/#nowhere")
	assert.Equal(t, 422, status)
	require.Eventually(t, func() bool {
		_, posts := c.call("GET", "/api/posts", "")
		items, _ := posts["items"].([]any)
		var titles []string
		for _, p := range items {
			titles = append(titles, p.(map[string]any)["title"].(string))
		}
		return strings.Join(titles, ", ") == "Trial: more, more, Trial: R2"
	}, 5*time.Second, 20*time.Millisecond)
}

// Versions say what each changed; sentences and patterns give sheets that can be made.
func TestVersionsSentencesAndPatterns(t *testing.T) {
	c := withTill(t)
	_, w := c.call("POST", "/api/workflows", sheetBody(till))
	path := fmt.Sprintf("/api/workflows/%v", w["id"])
	for _, total := range []string{"100", "120"} {
		_, _ = c.call("PUT", path+"/draft", sheetBody(strings.Replace(till, "at_least: 100", "at_least: "+total, 1)))
		status, _ := c.call("POST", path+"/on", `{"note":"from `+total+`"}`)
		require.Equal(t, 200, status)
	}
	_, now := c.call("PUT", path+"/draft", sheetBody(strings.Replace(till, "is: Upper", "is: Mill", 1)))
	changes := now["changes"].([]any)
	require.Len(t, changes, 2)
	assert.Equal(t, map[string]any{"band": "Keep", "what": "", "kind": "changed", "was": "shop is Upper", "now": "shop is Mill"}, changes[0])
	_, versions := c.call("GET", path+"/versions", "")
	latest := versions["items"].([]any)[0].(map[string]any)
	assert.Equal(t, "from 120", latest["note"])
	assert.Equal(t, "total is at least 120", latest["changes"].([]any)[0].(map[string]any)["now"])

	_, reading := c.call("POST", "/api/sentence", `{"text":"tell #tours when a receipt has a total over 100"}`)
	assert.Empty(t, reading["questions"])
	assert.Equal(t, "till/receipts", reading["sheet"].(map[string]any)["watch"].(map[string]any)["source"])
	status, _ := c.call("POST", "/api/workflows", jsonText(map[string]any{"sheet": reading["sheet"]}))
	assert.Equal(t, 200, status)

	// Whom to mail is asked while nothing sends mail, and drafted once something does.
	said := `{"text":"mail vera@lindental.example when a receipt has a total over 100"}`
	_, reading = c.call("POST", "/api/sentence", said)
	assert.Nil(t, reading["sheet"])
	assert.Contains(t, jsonText(reading), "Nothing that sends mail is connected")
	require.NoError(t, c.st.DB.Create(&store.Connection{ID: "office", Kind: "mail", Title: "Office", Settings: store.Texts{"smtp": "mail.example:25", "from": "desk@lindental.example"}, CreatedAt: time.Now()}).Error)
	require.Eventually(t, func() bool {
		_, reading = c.call("POST", "/api/sentence", said)
		return reading["sheet"] != nil
	}, 5*time.Second, 100*time.Millisecond)
	assert.Contains(t, jsonText(reading["sheet"]), `"office/vera@lindental.example"`)

	_, patterns := c.call("GET", "/api/patterns", "")
	assert.GreaterOrEqual(t, len(patterns["items"].([]any)), 15)
	status, filled := c.call("POST", "/api/patterns/becomes", `{"blanks":{"source":"till/receipts","field":"shop","value":"Upper","channel":"square/#tours"}}`)
	require.Equal(t, 200, status)
	status, _ = c.call("POST", "/api/workflows", jsonText(filled))
	assert.Equal(t, 200, status)
	status, missing := c.call("POST", "/api/patterns/becomes", `{"blanks":{"source":"till/receipts"}}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, jsonText(missing), "fill in: Field, Value, Channel")
}

// What somebody else has written meanwhile is not written over.
func TestADraftOfTwo(t *testing.T) {
	c := withTill(t)
	_, w := c.call("POST", "/api/workflows", sheetBody(till))
	path := fmt.Sprintf("/api/workflows/%v/draft", w["id"])
	save := func(seen any) int {
		status, _ := c.call("PUT", path, jsonText(map[string]any{"text": till, "seen": seen}))
		return status
	}
	assert.Equal(t, 200, save(w["mark"]))
	other := "UPDATE workflows SET updated_by = 'Jonas', updated_at = now()"
	require.NoError(t, c.st.DB.Exec(other).Error)
	assert.Equal(t, 200, save(w["mark"]), "he has switched it, and left the draft as it was")
	require.NoError(t, c.st.DB.Exec(other+", draft = draft || '# his'").Error)
	assert.Equal(t, 409, save(w["mark"]))
	_, now := c.call("GET", strings.TrimSuffix(path, "/draft"), "")
	assert.Contains(t, now["text"], "# his")
	assert.Equal(t, 200, save(now["mark"]))
}

// A key of a table that came only once is not doubted, however many others came more often.
func TestARareKeyOfATableIsNotDoubted(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"till","title":"Till"}`)
	list := []map[string]any{{"id": "once", "room": "hall-7"}}
	for i := range 140 {
		list = append(list, map[string]any{"id": fmt.Sprint("n", i), "room": fmt.Sprintf("hall-%d", 10+i%70)})
	}
	raw, err := json.Marshal(list)
	require.NoError(t, err)
	status, answer := c.raw("POST", "/in/till/notes", string(raw))
	require.Equal(t, 202, status, "%s", answer)
	doubts := func(key string) string {
		_, p := c.call("POST", "/api/proof", sheetBody(fmt.Sprintf("dorfbote: 1\nname: Halls\nwatch: {source: till/notes}\ntables: {halls: [{from: %s, to: \"#tours\"}]}\nmessages: {m: {title: t}}\nroute: {otherwise: {tell: [{to: \"square/${halls[record.room].to}\", message: m}]}}\n", key)))
		return fmt.Sprint(p["problems"])
	}
	assert.NotContains(t, doubts("hall-7"), "no recent record")
	assert.Contains(t, doubts("hall-0"), `no recent record has room "hall-0", by which halls is looked up in`)
	assert.Contains(t, doubts("hall-7@rooms.example"), "1 have", "the same room, by its whole address")
}

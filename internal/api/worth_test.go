package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
)

// Today names a workflow that few need; a proposal keeps what was of use, which the rehearsal shows, and so does that of a bound
// which is set too high.
func TestWhatFewNeedIsNamedWithAProposal(t *testing.T) {
	c := start(t)
	c.signIn()
	square := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusCreated)
		_, _ = w.Write([]byte(`{"id":7}`))
	}))
	t.Cleanup(square.Close)
	require.NoError(t, c.st.DB.Exec(`UPDATE connections SET settings = jsonb_build_object('address', ?::text)`, square.URL).Error)
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	c.ok("POST", "/in/shop/orders", `[{"id":"first","state":"new","total":1}]`)
	id := c.turnedOn(strings.Replace(text, `, when: {field: state, became: late}`, "", 1))
	var records []string
	for i := range 16 {
		records = append(records, fmt.Sprintf(`{"id":"O%d","state":"new","total":%d}`, i, 100*(i+1)))
	}
	c.ok("POST", "/in/shop/orders", "["+strings.Join(records, ",")+"]")
	var posts []store.Post
	require.Eventually(t, func() bool {
		require.NoError(t, c.st.DB.Where("state = 'sent'").Order("id").Find(&posts).Error)
		return len(posts) == 16
	}, 10*time.Second, 20*time.Millisecond)
	named := func() bool { return c.needs()["Few need Late"] != nil }
	assert.False(t, named(), "where nobody says anything, nothing is known")
	for i := range posts {
		what := store.ActNotForMe
		if i >= 12 {
			what = store.ActUseful
		}
		require.NoError(t, c.st.SayWorth(t.Context(), &posts[i], "B", what))
	}
	require.True(t, named())
	assert.Contains(t, c.needs()["Few need Late"]["words"], "16 posts; 4 led to something. Words about it: 12 not for me, 4 useful.")
	out := c.ok("GET", id+"/proposals", "")
	assert.Equal(t, []any{16.0, 4.0}, []any{out["alerts"], out["led"]})
	first := out["items"].([]any)[0].(map[string]any)
	assert.Equal(t, "Total is at least 1300, not above 5", first["words"])

	rehearsed := func(sheet any) map[string]any {
		raw, err := json.Marshal(map[string]any{"sheet": sheet, "workflow": json.Number(id[strings.LastIndex(id, "/")+1:])})
		require.NoError(t, err)
		status, lines := c.raw("POST", "/api/rehearsals", string(raw))
		require.Equal(t, 200, status)
		parts := bytes.Split(bytes.TrimSpace(lines), []byte("\n"))
		var last struct{ Sums map[string]any }
		require.NoError(t, json.Unmarshal(parts[len(parts)-1], &last))
		return last.Sums
	}
	sums := rehearsed(first["sheet"])
	assert.Equal(t, []any{16.0, 4.0, 4.0, 0.0}, []any{sums["was"], sums["posts"], sums["needed"], sums["missed"]})
	first["sheet"].(map[string]any)["keep"] = map[string]any{"field": "total", "above": 1400}
	sums = rehearsed(first["sheet"])
	assert.Equal(t, []any{4.0, 2.0, "O13"}, []any{sums["needed"], sums["missed"], sums["misses"].([]any)[0].(map[string]any)["key"]})

	before := c.audited()
	c.ok("POST", id+"/left", "")
	assert.Equal(t, before+1, c.audited())
	assert.False(t, named(), "it is left as it is")
	require.NoError(t, c.st.DB.Exec("UPDATE workflows SET left_at = now() - interval '31 days'").Error)
	assert.True(t, named(), "but not for ever")
	status, _ := c.as("V", "viewer").call("POST", id+"/left", "")
	assert.Equal(t, http.StatusForbidden, status)

	// What another version told does not count against the one that is on.
	c.ok("PUT", id+"/draft", sheetBody(strings.Replace(text, "above: 5", "above: 1299", 1)))
	c.ok("POST", id+"/on", "")
	assert.False(t, named())
	assert.Empty(t, c.ok("GET", id+"/proposals", "")["items"])
}

package api_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// needs gives what Today tells of, by what it is about.
func (c *client) needs() map[string]map[string]any {
	c.t.Helper()
	out := map[string]map[string]any{}
	list, _ := c.ok("GET", "/api/today", "")["needs"].([]any)
	for _, n := range list {
		n := n.(map[string]any)
		out[n["what"].(string)] = n
	}
	return out
}

// Whatever keeps somebody from being told stands on Today, with where to go.
func TestWhatNeedsAPerson(t *testing.T) {
	c := start(t)
	c.signIn()
	assert.Empty(t, c.needs())
	c.ok("POST", "/api/workflows", sheetBody(text))
	do := func(query string, args ...any) {
		t.Helper()
		require.NoError(t, c.st.DB.Exec(query, args...).Error)
	}
	for _, name := range []string{"#held", "#shut", "#no", "#away"} {
		do("INSERT INTO destinations (name, connection, title) VALUES (?, 'square', ?)", "square/"+name, name)
	}
	post := func(to, state string, n int) {
		for i := range n {
			do("INSERT INTO posts (workflow, arrival, destination, message, body, key, state, created_at) VALUES (1, 1, ?, 'm', '{}', ?, ?, now() - interval '1 hour')", "square/"+to, fmt.Sprint(to, state, i), state)
		}
	}
	do("UPDATE destinations SET paused = true, held_by = 'Marit', reason = 'a storm' WHERE name = 'square/#held'")
	post("#held", "waiting", 1)
	do("UPDATE destinations SET paused = true, reason = 'the channel is closed' WHERE name = 'square/#shut'")
	post("#shut", "waiting", 2)
	post("#no", "refused", 3)
	do("UPDATE destinations SET failures = 9 WHERE name = 'square/#away'")
	post("#away", "waiting", 2)
	do("UPDATE connections SET secret_expires = ? WHERE id = 'square'", time.Now().AddDate(0, 0, 5))

	needs := c.needs()
	for what, words := range map[string]string{
		"square/#held is paused by Marit": "a storm. 1 post waits.",
		"square/#shut is paused":          "It answered: the channel is closed. 2 posts wait.",
		"square/#no has refused 3 posts":  "send them again, or drop them.",
		"square/#away does not answer":    "it is tried again and again.",
		"Square: secret expires":          "put a new one in before that.",
	} {
		if assert.Contains(t, needs, what) {
			assert.Contains(t, needs[what]["words"], words)
			assert.True(t, strings.HasPrefix(needs[what]["go"].(string), "/"), what)
		}
	}
	do("UPDATE connections SET secret_expires = ? WHERE id = 'square'", time.Now().AddDate(0, 0, -1))
	assert.Contains(t, c.needs()["Square: secret expires"]["words"], "Its secret ended on")
	do("UPDATE connections SET secret_expires = NULL")
	do("UPDATE destinations SET paused = false, held_by = '', reason = '', failures = 0")
	do("UPDATE posts SET state = 'sent'")
	assert.Empty(t, c.needs(), "what is mended is told of no more")
}

// A source from which much came at this hour for weeks, and nothing does, is silent.
func TestASourceThatFellSilent(t *testing.T) {
	c := start(t)
	c.signIn()
	now := time.Now().UTC().Truncate(time.Hour)
	for day := 1; day <= 35; day++ {
		for hour := range 24 {
			at := now.AddDate(0, 0, -day).Add(-time.Duration(hour) * time.Hour)
			if now.Sub(at) < 20*time.Hour {
				continue
			}
			require.NoError(t, c.st.DB.Exec("INSERT INTO hours (what, name, hour, n) VALUES ('arrivals', 'tours/vats', ?, 40) ON CONFLICT DO NOTHING", at).Error)
		}
	}
	needs := c.needs()
	if assert.Contains(t, needs, "tours/vats is silent") {
		assert.Contains(t, needs["tours/vats is silent"]["words"], "Nothing has come since")
		assert.Equal(t, "/sources/tours/vats", needs["tours/vats is silent"]["go"])
	}
}

// A workflow that fails is told of, with the error, and so is what is next on the calendar.
func TestFailuresAndWhatIsNext(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"till","title":"Till"}`)
	status, _ := c.call("POST", "/in/till/receipts", `{"id":"7"}`)
	require.Equal(t, 202, status)
	w := c.ok("POST", "/api/workflows", sheetBody("dorfbote: 1\nname: Fails\nwatch: {source: till/receipts}\nkeep: {formula: \"int(record.id) > 3\"}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"))
	c.ok("POST", fmt.Sprintf("/api/workflows/%v/on", w["id"]), "")
	status, _ = c.call("POST", "/in/till/receipts", `{"id":"R-1"}`)
	require.Equal(t, 202, status)
	assert.Eventually(t, func() bool {
		n, ok := c.needs()["Fails failed on 1 arrival"]
		return ok && strings.Contains(n["words"].(string), "R-1")
	}, 10*time.Second, 50*time.Millisecond)
	w = c.ok("POST", "/api/workflows", sheetBody("dorfbote: 1\nname: Every morning\nwatch: {schedule: {cron: \"0 7 * * *\", zone: UTC}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"))
	c.ok("POST", fmt.Sprintf("/api/workflows/%v/on", w["id"]), "")
	next, _ := c.ok("GET", "/api/today", "")["next"].([]any)
	require.Len(t, next, 1)
	first := next[0].(map[string]any)
	assert.Equal(t, []any{"Every morning", "schedule"}, []any{first["name"], first["form"]})
	at, err := time.Parse(time.RFC3339, first["at"].(string))
	require.NoError(t, err)
	assert.Equal(t, "07:00", at.UTC().Format("15:04"))
	assert.True(t, at.After(time.Now()))
}

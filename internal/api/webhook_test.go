package api_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An alert reaches a side that nobody knew before: its address is pasted, proved, told by a sheet, and what was sent stands in the
// outbox without the address.
func TestTellingAWebhook(t *testing.T) {
	var mu sync.Mutex
	var bodies []string
	side := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if r.Method != http.MethodPost || r.URL.Path != "/in/secret-7" {
			http.NotFound(w, r)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		bodies = append(bodies, string(raw))
		_, _ = w.Write([]byte(`{"ok":true,"id":7}`))
	}))
	defer side.Close()
	c := start(t)
	c.signIn()
	status, out := c.call("POST", "/api/connections", `{"id":"desk","kind":"webhook","title":"Desk","settings":{"places":"tours"}}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, fmt.Sprint(out), "body.settings.places")
	assert.Contains(t, fmt.Sprint(out), "line 1 has no address")
	settings := fmt.Sprintf(`{"places":"tours %s/in/secret-7\nboard %s/in/gone","shape":"my own","body":"{\"t\":\"${post.title}\",\"f\":[{\"$each\":\"${post.facts}\",\"$as\":\"${it.value}\"}]}","accepted":"$.ok","id":"$.id"}`, side.URL, side.URL)
	proof := c.ok("POST", "/api/connections/prove", `{"kind":"webhook","settings":`+settings+`}`)
	assert.Equal(t, true, proof["ok"], "%v", proof)
	assert.Empty(t, bodies, "a proof posts nothing")
	made := c.ok("POST", "/api/connections", `{"id":"desk","kind":"webhook","title":"Desk","settings":`+settings+`}`)
	assert.NotContains(t, fmt.Sprint(made), "secret-7", "addresses are kept like secrets")
	_, list := c.call("GET", "/api/destinations", "")
	var names []string
	for _, d := range items(list) {
		names = append(names, d["name"].(string))
	}
	assert.Subset(t, names, []string{"desk/tours", "desk/board"})

	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	status, _ = c.call("POST", "/in/shop/orders", `{"id":"A","total":1}`)
	require.Equal(t, 202, status)
	c.turnedOn("dorfbote: 1\nname: Told\nwatch: {source: shop/orders}\nmessages: {m: {title: \"${record.id} \\\"now\\\"\", facts: [{label: Total, value: \"${record.total}\"}]}}\nroute: {otherwise: {tell: [{to: desk/tours, message: m}, {to: desk/board, message: m}]}}\n")
	status, _ = c.call("POST", "/in/shop/orders", `{"id":"B","total":2}`)
	require.Equal(t, 202, status)
	require.Eventually(t, func() bool {
		_, posts := c.call("GET", "/api/posts", "")
		states := map[string]string{}
		for _, p := range items(posts) {
			states[p["destination"].(string)] = p["state"].(string)
		}
		return states["desk/tours"] == "sent" && states["desk/board"] == "refused"
	}, 10*time.Second, 20*time.Millisecond)
	mu.Lock()
	assert.Equal(t, []string{`{"f":["2"],"t":"B \"now\""}`}, bodies)
	mu.Unlock()
	_, posts := c.call("GET", "/api/posts?destination=desk/tours", "")
	require.Len(t, items(posts), 1)
	_, raw := c.raw("GET", fmt.Sprintf("/api/posts/%v", items(posts)[0]["id"]), "")
	assert.Contains(t, string(raw), "the address of tours")
	assert.NotContains(t, string(raw), "secret-7")

	// A place that is added is one to tell at once; settings that are wrong change nothing.
	status, out = c.call("PATCH", "/api/connections/desk", `{"settings":{"body":"{\"t\":\"${post.titel}\"}"}}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, fmt.Sprint(out), "there is no field titel")
	c.ok("PATCH", "/api/connections/desk", fmt.Sprintf(`{"settings":{"places":"tours %s/in/secret-7\nnew %s/in/secret-7"}}`, side.URL, side.URL))
	_, list = c.call("GET", "/api/destinations", "")
	names = nil
	for _, d := range items(list) {
		names = append(names, d["name"].(string))
	}
	assert.Contains(t, names, "desk/new")
}

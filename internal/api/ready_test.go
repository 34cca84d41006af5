package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const readySheet = `dorfbote: 1
name: Ready
watch: {source: shop/orders}
keep: {field: status, is: "%s"}
messages: {m: {title: "${record.id}"}}
route: {otherwise: {tell: [{to: "talk/%s", message: m}]}}
%s`

// What is still missing is said at its place before a workflow is switched on, and keeps it from being so.
func TestWhatIsUnfinishedCannotBeSwitchedOn(t *testing.T) {
	var letIn atomic.Bool
	chat := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = json.NewEncoder(w).Encode([]map[string]any{{"name": "#tours"}, {"name": "#board", "private": true, "let_in": letIn.Load()}})
	}))
	defer chat.Close()
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","kind":"hook","title":"Shop"}`)
	c.ok("POST", "/in/shop/orders", `{"id":"O-1","status":"new"}`)
	c.ok("POST", "/api/connections", `{"id":"talk","kind":"chat","title":"Talk","settings":{"address":"`+chat.URL+`","token":"t"}}`)
	c.ok("POST", "/api/connections", `{"id":"silence","kind":"hook","title":"Silence"}`)
	c.ok("POST", "/api/connections/silence/sources", `{"kind":"things"}`)

	made := c.ok("POST", "/api/workflows", sheetBody(fmt.Sprintf(readySheet, "new", "#tours", "")))
	at := fmt.Sprint("/api/workflows/", made["id"])
	draft := func(text string) {
		t.Helper()
		c.ok("PUT", at+"/draft", sheetBody(text))
	}
	missing := func() (out []string) {
		t.Helper()
		status, ready := c.call("POST", at+"/on/ready", "")
		require.Equal(t, 200, status, ready)
		for _, p := range items(ready) {
			out = append(out, fmt.Sprintf("%s: %s", p["path"], p["message"]))
		}
		status, on := c.call("POST", at+"/on", "{}")
		if len(out) == 0 {
			assert.Equal(t, 200, status, on)
			return nil
		}
		assert.Equal(t, 422, status, "it cannot be switched on")
		assert.Len(t, on["errors"], len(out))
		status, proof := c.call("POST", "/api/proof", sheetBody(c.ok("GET", at, "")["text"].(string)))
		require.Equal(t, 200, status)
		assert.NotNil(t, proof["table"], "but it can be run for proof")
		return out
	}
	assert.Empty(t, missing())

	draft(fmt.Sprintf(readySheet, "", "#tours", ""))
	assert.Equal(t, []string{"keep: status has no value to compare with yet; fill it in, or ask whether the field is empty"}, missing())

	draft(fmt.Sprintf(readySheet, "new", "#board", ""))
	assert.Equal(t, []string{"route.otherwise.tell[0]: #board is private, and Dorfbote has not been let in; have a member of it let Dorfbote in"}, missing())
	letIn.Store(true)
	assert.Empty(t, missing(), "the other side is asked again")

	draft(fmt.Sprintf(readySheet, "new", "#tours", `follow: [{add: {source: silence/things, set: {id: "${record.id}"}}}]`))
	assert.Equal(t, []string{"follow[0].add.source: the records of silence/things cannot be written: it is not known where this app's records can be changed; give the address of its records in the settings of the connection silence"}, missing())

	draft("dorfbote: 1\nname: Ready\nwatch: {source: silence/things}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"talk/#tours\", message: m}]}}\n")
	assert.Equal(t, []string{"watch.source: silence/things has no record yet, so its fields are not known; have it send one, or enter one, first"}, missing())

	draft(fmt.Sprintf(readySheet, "new", "#tours", ""))
	c.ok("POST", "/api/destinations/pause", `{"name":"talk/#tours"}`)
	assert.Empty(t, missing(), "what is told waits, which keeps nothing from being switched on")
	c.ok("POST", "/api/destinations/resume", `{"name":"talk/#tours"}`)
	assert.Empty(t, missing())
}

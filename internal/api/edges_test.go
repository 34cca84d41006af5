package api_test

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// titles gives the titles of all posts, oldest first.
func (c *client) titles() (out []string) {
	_, posts := c.call("GET", "/api/posts?limit=100", "")
	list := items(posts)
	for i := range list {
		out = append(out, fmt.Sprint(list[len(list)-1-i]["title"]))
	}
	return out
}

func (c *client) eventuallyTold(titles ...string) {
	c.t.Helper()
	require.Eventually(c.t, func() bool { return len(c.titles()) >= len(titles) }, 10*time.Second, 20*time.Millisecond)
	assert.ElementsMatch(c.t, titles, c.titles())
}

// turnedOn makes a workflow and switches it on.
func (c *client) turnedOn(sheet string) string {
	c.t.Helper()
	id := fmt.Sprint("/api/workflows/", c.ok("POST", "/api/workflows", sheetBody(sheet))["id"])
	c.ok("POST", id+"/on", "")
	return id
}

// A call may be a form, may name records, and may bear a key of any length.
func TestWaysToCall(t *testing.T) {
	c := start(t)
	c.signIn()
	id := c.turnedOn("dorfbote: 1\nname: Called\nwatch: {called: {takes: [{name: text}, {name: many, type: choices, options: [a, b]}]}}\nmessages: {m: {title: \"${or(answers.text, 'nothing')} ${answers.many}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n")
	bearer := fmt.Sprint("Bearer ", c.ok("POST", id+"/call-token", "")["token"])
	path := strings.Replace(id, "/api/workflows", "/call", 1)
	status, _ := c.call("POST", path, url.Values{"text": {"by form"}, "many": {"a", "b"}}.Encode(), "Authorization", bearer, "Content-Type", "application/x-www-form-urlencoded")
	assert.Equal(t, 202, status)
	status, _ = c.call("POST", path, "", "Authorization", bearer)
	assert.Equal(t, 202, status, "a workflow that needs nothing is called with nothing")
	for range 2 {
		status, _ = c.call("POST", path, `{"text":"once"}`, "Authorization", bearer, "Idempotency-Key", strings.Repeat("k", 300))
		assert.Equal(t, 202, status)
	}
	status, _ = c.call("POST", path, "text=%zz", "Authorization", bearer, "Content-Type", "application/x-www-form-urlencoded")
	assert.Equal(t, 400, status)
	status, out := c.call("POST", path, `{"text":"`+strings.Repeat("x", 1<<20)+`"}`, "Authorization", bearer)
	assert.Equal(t, 400, status)
	assert.Contains(t, out["detail"], "1 MiB")
	c.eventuallyTold("by form a, b", "nothing", "once")
	c.ok("POST", id+"/off", "")
	status, _ = c.call("POST", path, `{}`, "Authorization", bearer)
	assert.Equal(t, 409, status, "what is off is not started")
	status, _ = c.call("POST", "/call/999", `{}`, "Authorization", bearer)
	assert.Equal(t, 401, status)
}

// What is started by hand on records may be started by whoever may edit, for records that there are.
func TestStartingByHand(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	status, _ := c.call("POST", "/in/shop/orders", `[{"id":"A","total":1},{"id":"B","total":2}]`)
	require.Equal(t, 202, status)
	id := c.turnedOn("dorfbote: 1\nname: By hand\nwatch: {start: {source: shop/orders, ask: [{name: why, required: true}]}}\nmessages: {m: {title: \"${record.id} ${answers.why}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n")
	for body, wrong := range map[string]string{
		`{"records":["A"],"answers":{}}`:              "body.answers.why",
		`{"records":["Z"],"answers":{"why":"x"}}`:     "body.records",
		`{"records":["A","A"],"answers":{"why":"x"}}`: "body.records",
		`{"records":[],"answers":{"why":"x"}}`:        "body.records",
	} {
		status, out := c.call("POST", id+"/start", body)
		assert.Equal(t, 422, status, body)
		assert.Contains(t, fmt.Sprint(out), wrong, body)
	}
	status, _ = c.as("Vera", "viewer").call("POST", id+"/start", `{"records":["A"],"answers":{"why":"x"}}`)
	assert.Equal(t, 403, status)
	made := c.ok("POST", id+"/start", `{"records":["A","B"],"answers":{"why":"late"}}`)
	assert.Len(t, made["arrivals"], 2)
	c.eventuallyTold("A late", "B late")
}

// A draft is rehearsed over a past that came in out of order, with what it looks up as that was at the time.
func TestRehearsingAnUnorderedPast(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	send := func(kind, id, at, record string) {
		t.Helper()
		status, out := c.call("POST", "/in/shop/"+kind, fmt.Sprintf(`{"specversion":"1.0","id":%q,"source":"shop/%s","type":"dorfbote.record.updated","time":%q,"subject":%q,"data":{"record":%s}}`, id, kind, at, id[:1], record), "Content-Type", "application/cloudevents+json")
		require.Equal(t, 202, status, out)
	}
	send("people", "p0", "2026-11-01T06:00:00Z", `{"id":"p","phone":"1"}`)
	send("orders", "c1", "2026-11-20T09:00:00Z", `{"id":"c","by":"p"}`)
	send("orders", "a1", "2026-11-20T07:00:00Z", `{"id":"a","by":"p"}`)
	send("people", "p1", "2026-11-20T08:00:00Z", `{"id":"p","phone":"2"}`)
	send("orders", "b1", "2026-11-20T08:30:00Z", `{"id":"b","by":"p"}`)
	send("orders", "d1", "2026-11-21T08:30:00Z", `{"id":"d","by":"p"}`)
	const sheet = "dorfbote: 1\nname: Orders\nwatch: {source: shop/orders}\ngather: [{name: who, find: {source: shop/people, where: {field: id, is: \"${record.by}\"}, take: one}}]\nmessages: {m: {title: \"${record.id} ${who.phone}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
	status, raw := c.raw("POST", "/api/rehearsals", fmt.Sprintf(`{"text":%s,"as":"jsonl","from":"2026-11-20T00:00:00Z","to":"2026-11-20T23:00:00Z"}`, quoted(sheet)))
	require.Equal(t, 200, status, "%s", raw)
	var titles []string
	for line := range strings.SplitSeq(strings.TrimSpace(string(raw)), "\n") {
		if _, after, told := strings.Cut(line, `"title":"`); told {
			titles = append(titles, after[:3])
		}
	}
	assert.Equal(t, []string{"a 1", "b 2", "c 2"}, titles)
}

// An event that comes twice in one batch is one arrival, as one that had come before is; one of another source with its id is another.
func TestAnEventTwiceInABatch(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	event := func(source, id, state string) string {
		return fmt.Sprintf(`{"specversion":"1.0","id":%q,"source":"shop/%s","type":"dorfbote.record.updated","time":"2026-11-20T07:00:00Z","subject":"A","data":{"record":{"id":"A","state":%q}}}`, id, source, state)
	}
	known := func(events ...string) (known []bool) {
		status, out := c.call("POST", "/in/shop", "["+strings.Join(events, ",")+"]", "Content-Type", "application/cloudevents-batch+json")
		require.Equal(t, 202, status, out)
		for _, a := range out["arrivals"].([]any) {
			known = append(known, a.(map[string]any)["known"] == true)
		}
		return known
	}
	assert.Equal(t, []bool{false, true, false}, known(event("orders", "e1", "new"), event("orders", "e1", "other"), event("orders", "e2", "paid")))
	assert.Equal(t, []bool{true, false}, known(event("orders", "e1", "third"), event("bills", "e1", "new")))
	var states []string
	require.NoError(t, c.st.DB.Raw("SELECT source || ' ' || (data->'record'->>'state') FROM arrivals WHERE source LIKE 'shop/%' ORDER BY seq").Scan(&states).Error)
	assert.Equal(t, []string{"shop/orders new", "shop/orders paid", "shop/bills new"}, states)
}

// A connection that is paused takes nothing in and loses nothing by it; going on wakes what waited.
func TestPausingAConnection(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	c.ok("PATCH", "/api/connections/shop", `{"paused":true}`)
	status, out := c.call("POST", "/in/shop/orders", `{"id":"A"}`)
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Contains(t, out["detail"], "paused")
	c.ok("PATCH", "/api/connections/shop", `{"paused":false}`)
	status, _ = c.call("POST", "/in/shop/orders", `{"id":"A"}`)
	assert.Equal(t, 202, status)
	c.ok("PATCH", "/api/connections/shop", `{"secret_expires":"2027-01-01T00:00:00Z"}`)
	assert.Contains(t, c.ok("GET", "/api/connections/shop", "")["secret_expires"], "2027")
	c.ok("PATCH", "/api/connections/shop", `{"secret_expires":"0001-01-01T00:00:00Z"}`)
	assert.Nil(t, c.ok("GET", "/api/connections/shop", "")["secret_expires"])
	c.ok("PATCH", "/api/connections/square", `{"paused":true}`)
	c.ok("PATCH", "/api/connections/square", `{"paused":false}`)
}

// What is used is not taken away under the workflows that use it, and what stands in the way is named.
func TestWhatIsUsedStays(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	status, _ := c.call("POST", "/in/shop/orders", `{"id":"A","state":"new","total":9}`)
	require.Equal(t, 202, status)
	id := c.turnedOn(text)
	for _, path := range []string{"/api/sources/shop/orders", "/api/connections/shop", "/api/connections/square"} {
		status, out := c.call("DELETE", path, "")
		assert.Equal(t, 409, status, path)
		assert.Contains(t, fmt.Sprint(out), "Late", path)
	}
	status, out := c.call("POST", "/api/sources/shop/orders/check", "")
	assert.Equal(t, 409, status)
	assert.Contains(t, out["detail"], "comes by itself")
	c.ok("POST", id+"/off", "")
	status, _ = c.call("DELETE", id, "")
	assert.Less(t, status, 300)
	for _, path := range []string{"/api/sources/shop/orders", "/api/connections/shop"} {
		status, _ := c.call("DELETE", path, "")
		assert.Less(t, status, 300, path)
	}
	for _, path := range []string{id, "/api/sources/shop/orders/fields", "/api/connections/shop"} {
		status, _ := c.call("GET", path, "")
		assert.Equal(t, 404, status, path)
	}
}

// Workflows that would call one another for ever cannot be switched on, and are named.
func TestCircles(t *testing.T) {
	c := start(t)
	c.signIn()
	sheet := func(name, calls string) string {
		return fmt.Sprintf("dorfbote: 1\nname: %s\nwatch: {called: {takes: [{name: text}]}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\nfollow: [{call: {workflow: %s, with: {text: x}}}]\n", name, calls)
	}
	last := c.turnedOn(strings.Split(sheet("Third", "x"), "follow:")[0])
	c.turnedOn(sheet("Second", "Third"))
	c.turnedOn(sheet("First", "Second"))
	c.ok("PUT", last+"/draft", sheetBody(sheet("Third", "First")))
	status, out := c.call("POST", last+"/on", "")
	assert.Equal(t, 422, status)
	assert.Contains(t, out["detail"], "would call one another without end")
	for _, name := range []string{"First", "Second", "Third"} {
		assert.Contains(t, out["detail"], name)
	}
}

// What is asked for wrongly is refused with its place, and what is not there is not found; nothing is a fault of the server.
func TestRefusals(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	c.ok("POST", "/api/connections", `{"id":"cellar","title":"Cellar","kind":"table","settings":{"where":"at an address","address":"http://127.0.0.1:1/t.csv"}}`)
	status, _ := c.call("POST", "/in/shop/orders", `{"id":"A","state":"new","total":9}`)
	require.Equal(t, 202, status)
	w := fmt.Sprint("/api/workflows/", c.ok("POST", "/api/workflows", sheetBody(text))["id"])
	for _, call := range []struct {
		method, path, body string
		status             int
		words              string
	}{
		{"POST", "/api/workflows", sheetBody("watch: {source: a/b}\n"), 422, "the sheet has no name"},
		{"POST", "/api/workflows", sheetBody("["), 422, ""},
		{"GET", "/api/workflows/999", "", 404, ""},
		{"POST", "/api/workflows/999/on", "", 404, ""},
		{"DELETE", "/api/workflows/999", "", 404, ""},
		{"PUT", w + "/draft", sheetBody(""), 422, ""},
		{"POST", w + "/on", `{"begin":{"how":"from"}}`, 422, ""},
		{"POST", w + "/on/preview", `{"how":"from"}`, 422, "name the arrival to begin with"},
		{"POST", w + "/on/preview", `{"how":"sometime"}`, 422, ""},
		{"PATCH", w + "/team", `{"team":999}`, 0, ""},
		{"POST", "/api/connections", `{"id":"shop","title":"Again"}`, 409, ""},
		{"POST", "/api/connections", `{"id":"A B","title":"Name"}`, 422, ""},
		{"POST", "/api/connections", `{"id":"x","kind":"telegraph","title":"X"}`, 422, ""},
		{"PATCH", "/api/connections/none", `{"paused":true}`, 404, ""},
		{"POST", "/api/connections/none/prove", "", 404, ""},
		{"POST", "/api/connections/none/browse", "", 404, ""},
		{"POST", "/api/connections/none/sources", `{"kind":"x"}`, 404, ""},
		{"POST", "/api/connections/square/sources", `{"kind":"x"}`, 409, "come by themselves"},
		{"POST", "/api/connections/cellar/sources", `{"kind":"a/b"}`, 422, "may hold letters"},
		{"PATCH", "/api/sources/shop/none", `{"title":"X"}`, 404, ""},
		{"GET", "/api/sources/shop/none/fields", "", 404, ""},
		{"GET", "/api/arrivals/999", "", 404, ""},
		{"GET", "/api/arrivals?limit=0", "", 422, ""},
		{"GET", "/api/arrivals?since=yesterday", "", 422, ""},
		{"GET", "/api/posts?state=lost", "", 422, ""},
		{"POST", "/api/posts/again", `{"ids":[999]}`, 0, ""},
		{"GET", "/api/runs/1/999", "", 404, ""},
		{"POST", "/api/proof", sheetBody(""), 0, ""},
		{"GET", "/api/nothing", "", 404, "there is nothing at /api/nothing"},
		{"DELETE", "/workflows", "", 404, "there is nothing at /workflows"},
		{"POST", "/in/none/orders", `{"id":"A"}`, 404, "there is no hook none here"},
		{"POST", "/in/cellar/orders", `{"id":"A"}`, 404, "there is no hook cellar here"},
	} {
		status, out := c.call(call.method, call.path, call.body)
		at := call.method + " " + call.path + " " + call.body
		assert.Less(t, status, 500, "%s: %v", at, out)
		if call.status == 0 {
			continue
		}
		assert.Equal(t, call.status, status, "%s: %v", at, out)
		assert.Contains(t, fmt.Sprint(out), call.words, at)
		assert.NotEmpty(t, out["title"], at)
	}
}

// The page that describes the API names every operation, and needs nothing from elsewhere.
func TestThePageOfTheAPI(t *testing.T) {
	c := start(t)
	res, err := http.Get(c.base + "/api/docs")
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
	_, page := c.raw("GET", "/api/docs", "")
	for _, part := range []string{"/api/workflows/{id}/on", "/api/sign-in", "query limit", "Connections"} {
		assert.Contains(t, string(page), part)
	}
	assert.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'none'")
	assert.NotContains(t, string(page), "http://")
}

package api_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIntakeRefusesWhatItMust(t *testing.T) {
	c := start(t)
	c.signIn()
	_, _ = c.call("POST", "/api/connections", `{"id":"shop","title":"Shop","signed":true}`)
	status, p := c.call("POST", "/in/shop/orders", `{"id":"A"}`)
	assert.Equal(t, 401, status)
	assert.Contains(t, p["detail"], "signature")
	status, _ = c.call("POST", "/in/none/orders", `{"id":"A"}`)
	assert.Equal(t, 404, status)
	_, _ = c.call("POST", "/api/connections", `{"id":"open","title":"Open"}`)
	status, _ = c.call("POST", "/in/open/orders", `{"id":"A","x":"`+strings.Repeat("x", 1<<20)+`"}`)
	assert.Equal(t, 413, status)
	status, _ = c.call("POST", "/in/open/orders", strings.Repeat("[", 100_000))
	assert.Equal(t, 400, status)
	status, _ = c.call("POST", "/in/open/"+strings.Repeat("k", 200), `{"id":"A"}`)
	assert.Equal(t, 400, status)
	status, _ = c.call("POST", "/in/open/orders", `{"id":"A","nul":"\u0000","big":1e999,"deep":{"a":[{}]}}`)
	assert.Equal(t, 202, status)
}

// A call from outside starts a workflow with its token, once for each key.
func TestCalls(t *testing.T) {
	c := start(t)
	c.signIn()
	sheet := "dorfbote: 1\nname: Called\nwatch: {called: {takes: [{name: text, required: true}, {name: n, type: number}]}}\nmessages: {m: {title: \"${answers.text} ${answers.n}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
	_, w := c.call("POST", "/api/workflows", sheetBody(sheet))
	id := fmt.Sprint(w["id"])
	status, _ := c.call("POST", "/api/workflows/"+id+"/call-token", "")
	assert.Equal(t, 409, status, "what is off cannot be called")
	status, _ = c.call("POST", "/api/workflows/"+id+"/on", "")
	require.Equal(t, 200, status)
	_, token := c.call("POST", "/api/workflows/"+id+"/call-token", "")
	bearer := fmt.Sprint("Bearer ", token["token"])
	for _, bad := range [][]string{{"401", `{"text":"x"}`, "Bearer no"}, {"422", `{}`, bearer}, {"422", `{"text":"x","n":"many"}`, bearer}, {"422", `{"text":"x","txt":1}`, bearer}, {"400", `[]`, bearer}, {"400", `{`, bearer}} {
		status, _ := c.call("POST", "/call/"+id, bad[1], "Authorization", bad[2])
		assert.Equal(t, bad[0], fmt.Sprint(status), bad[1])
	}
	for range 2 {
		status, _ = c.call("POST", "/call/"+id, `{"text":"Milk","n":5}`, "Authorization", bearer, "Idempotency-Key", "k-1")
		require.Equal(t, 202, status)
	}
	require.Eventually(t, func() bool {
		_, posts := c.call("GET", "/api/posts", "")
		items, _ := posts["items"].([]any)
		return len(items) == 1 && items[0].(map[string]any)["title"] == "Milk 5"
	}, 10*time.Second, 20*time.Millisecond)
	_, proof := c.call("POST", "/api/proof", sheetBody(sheet))
	assert.Equal(t, "told", proof["proof"].(map[string]any)["verdict"], "a sheet without records is proved as well")
}

// A caller that waits is answered by the workflow: at once, after people have answered, or later at its own address.
func TestACallerWaitsForTheAnswer(t *testing.T) {
	c := start(t)
	c.signIn()
	on := func(sheet string) (id, bearer string) {
		_, w := c.call("POST", "/api/workflows", sheetBody(sheet))
		id = fmt.Sprint(w["id"])
		status, p := c.call("POST", "/api/workflows/"+id+"/on", "")
		require.Equal(t, 200, status, "%v", p)
		_, token := c.call("POST", "/api/workflows/"+id+"/call-token", "")
		return id, fmt.Sprint("Bearer ", token["token"])
	}
	const limit = "dorfbote: 1\nname: Limit\nwatch: {called: {takes: [{name: amount, type: number, required: true}]}}\nanswer: {status: 203, body: {allowed: \"${answers.amount < 500}\", outcome: \"${outcome}\"}}\n"
	id, bearer := on(limit)
	status, got := c.call("POST", "/call/"+id+"?wait=10s", `{"amount":30}`, "Authorization", bearer)
	assert.Equal(t, 203, status)
	assert.Equal(t, map[string]any{"allowed": true, "outcome": "unrouted"}, got)
	status, _ = c.call("POST", "/call/"+id+"?wait=2m", `{"amount":30}`, "Authorization", bearer)
	assert.Equal(t, 400, status)
	status, got = c.call("POST", "/call/"+id, `{"amount":900}`, "Authorization", bearer)
	require.Equal(t, 202, status)
	seq := fmt.Sprint(got["arrivals"].([]any)[0].(map[string]any)["seq"])
	status, _ = c.call("GET", "/call/"+id+"/"+seq, "")
	assert.Equal(t, 401, status)
	status, got = c.call("GET", "/call/"+id+"/"+seq+"?wait=5s", "", "Authorization", bearer)
	assert.Equal(t, []any{203, false}, []any{status, got["allowed"]})
	status, _ = c.call("GET", "/call/"+id+"/99999", "", "Authorization", bearer)
	assert.Equal(t, 404, status)

	const asks = "dorfbote: 1\nname: Board\nwatch: {called: {takes: [{name: amount, type: number, required: true}]}}\nask: [{name: v, of: \"square/#tours\", message: q, choices: [{name: \"yes\"}, {name: \"no\", comment: required}]}]\n" +
		"messages: {q: {title: \"May it be ${answers.amount}?\"}}\nanswer: {body: {said: \"${v.choice}\", by: \"${v.by}\"}}\n"
	id, bearer = on(asks)
	type reply struct {
		status int
		body   map[string]any
	}
	replies := make(chan reply, 1)
	go func() {
		status, body := c.call("POST", "/call/"+id+"?wait=30s", `{"amount":7}`, "Authorization", bearer)
		replies <- reply{status, body}
	}()
	var ask map[string]any
	require.Eventually(t, func() bool {
		_, list := c.call("GET", "/api/asks?of=all", "")
		items, _ := list["items"].([]any)
		if len(items) == 1 {
			ask = items[0].(map[string]any)
		}
		return len(items) == 1
	}, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, "May it be 7?", ask["title"])
	at := fmt.Sprintf("/api/asks/%v", ask["id"])
	status, p := c.call("POST", at+"/answer", `{"choice":"no"}`)
	assert.Equal(t, 409, status)
	assert.Contains(t, p["detail"], "needs a comment")
	status, _ = c.call("POST", at+"/answer", `{"choice":"no","place":"square/#other"}`)
	assert.Equal(t, 403, status)
	status, got = c.call("POST", at+"/answer", `{"choice":"no","comment":"not this month"}`)
	require.Equal(t, 200, status, "%v", got)
	assert.Equal(t, "decided", got["state"])
	r := <-replies
	assert.Equal(t, reply{200, map[string]any{"said": "no", "by": "A"}}, r)
	status, p = c.call("POST", at+"/answer", `{"choice":"yes"}`)
	assert.Equal(t, 409, status)
	assert.Contains(t, p["detail"], "you have answered already: no")
}

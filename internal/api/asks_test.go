package api_test

import (
	"dorfbote/internal/api"
	"dorfbote/internal/core/message"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const askedText = `dorfbote: 1
name: Asked
watch: {source: shop/orders}
ask: [{name: v, of: ["mail/a@x.example", "mail/b@x.example"], message: q, choices: [{name: "yes", text: Approve}, {name: "no", comment: required}], within: 1d}]
messages: {q: {title: "may ${record.id}?"}, m: {title: "${record.id} ${v.choice} by ${v.by}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
`

// Questions over the API: who they are put to, who may answer, how they are handed over and taken back, and what each says once it is
// over.
func TestQuestionsOverTheAPI(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	c.ok("POST", "/api/connections", `{"id":"mail","kind":"mail","title":"Mail","settings":{"smtp":"127.0.0.1:1","from":"desk@x.example"}}`)
	c.ok("POST", "/in/shop/orders", `[{"id":"first","total":1}]`)
	c.turnedOn(askedText)
	c.ok("POST", "/in/shop/orders", `[{"id":"A","total":1},{"id":"B","total":1},{"id":"C","total":1}]`)
	list := func(c *client, query string) (out []map[string]any, body map[string]any) {
		_, body = c.call("GET", "/api/asks"+query, "")
		for _, it := range body["items"].([]any) {
			out = append(out, it.(map[string]any))
		}
		return out, body
	}
	require.Eventually(t, func() bool { l, _ := list(c, ""); return len(l) == 3 }, 10*time.Second, 20*time.Millisecond)
	asks, body := list(c, "")
	assert.EqualValues(t, 3, body["yours"])
	ids := map[string]string{}
	for _, a := range asks {
		ids[fmt.Sprint(a["key"])] = fmt.Sprintf("/api/asks/%v", a["id"])
		assert.Equal(t, []any{"mail/a@x.example"}, a["yours"])
	}
	page, body := list(c, "?limit=2")
	require.Len(t, page, 2)
	rest, body := list(c, fmt.Sprintf("?limit=2&before=%v", body["next"]))
	assert.Len(t, rest, 1)
	assert.EqualValues(t, 0, body["next"])

	// Who was not asked may look, and nothing else; who may not edit neither hands over nor takes back.
	v := c.as("v", "viewer")
	mine, _ := list(v, "")
	assert.Empty(t, mine)
	all, _ := list(v, "?of=all")
	assert.Len(t, all, 3)
	for _, call := range []struct {
		c            *client
		path, body   string
		status       int
		said         string
		method, what string
	}{
		{v, ids["A"] + "/answer", `{"choice":"yes"}`, 403, "was not put to you", "POST", "answering for others"},
		{v, ids["A"] + "/withdraw", `{}`, 403, "", "POST", "taking back as a viewer"},
		{v, ids["A"] + "/hand-over", `{"from":"mail/b@x.example","to":"mail/c@x.example"}`, 403, "", "POST", "handing over as a viewer"},
		{c, ids["A"] + "/answer", `{"choice":"no"}`, 409, "needs a comment", "POST", "no reason"},
		{c, ids["A"] + "/answer", `{"choice":"maybe"}`, 409, "maybe", "POST", "no such choice"},
		{c, ids["A"] + "/answer", `{"choice":"yes","place":"mail/b@x.example"}`, 403, "not yours to answer for", "POST", "another's place"},
		{c, ids["A"] + "/hand-over", `{"from":"mail/z@x.example","to":"mail/c@x.example"}`, 409, "z@x.example", "POST", "from nobody"},
		{c, ids["A"] + "/hand-over", `{"from":"mail/b@x.example","to":"nowhere/x"}`, 422, "nowhere", "POST", "to nowhere"},
		{c, "/api/asks/999/answer", `{"choice":"yes"}`, 404, "", "POST", "no such question"},
	} {
		status, out := call.c.call(call.method, call.path, call.body)
		assert.Equal(t, call.status, status, "%s: %v", call.what, out)
		assert.Contains(t, fmt.Sprint(out), call.said, call.what)
	}
	before := c.audited()
	out := c.ok("POST", ids["A"]+"/answer", `{"choice":"no","comment":"too dear"}`)
	assert.Equal(t, []any{"decided", "no", "A", "too dear"}, []any{out["state"], out["answer"].(map[string]any)["choice"], out["answer"].(map[string]any)["by"], out["answer"].(map[string]any)["comment"]})
	status, out := c.call("POST", ids["A"]+"/answer", `{"choice":"yes"}`)
	assert.Equal(t, 409, status)
	assert.Contains(t, fmt.Sprint(out), "you have answered already: no")

	out = c.ok("POST", ids["B"]+"/hand-over", `{"from":"mail/a@x.example","to":"mail/v@x.example"}`)
	assert.Equal(t, []any{"mail/v@x.example", "mail/b@x.example"}, out["asked"])
	status, _ = c.call("POST", ids["B"]+"/answer", `{"choice":"yes"}`)
	assert.Equal(t, 403, status, "it is not theirs any more")
	out = v.ok("POST", ids["B"]+"/answer", `{"choice":"yes"}`)
	assert.Equal(t, "v", out["answer"].(map[string]any)["by"], "who is asked may answer, whatever they may edit")

	out = c.ok("POST", ids["C"]+"/withdraw", `{}`)
	assert.Equal(t, []any{"withdrawn", nil}, []any{out["state"], out["answer"]})
	status, out = c.call("POST", ids["C"]+"/answer", `{"choice":"yes"}`)
	assert.Equal(t, 409, status)
	assert.Contains(t, fmt.Sprint(out), "withdrawn")
	assert.Equal(t, before+4, c.audited(), "each of these is in the log")

	require.Eventually(t, func() bool {
		var titles []string
		require.NoError(t, c.st.DB.Raw("SELECT title FROM posts WHERE message = 'm' ORDER BY id").Scan(&titles).Error)
		return strings.Join(titles, ", ") == "A no by A, B yes by v"
	}, 10*time.Second, 20*time.Millisecond, "what was taken back is told nobody")
	open, body := list(c, "?of=all")
	assert.Empty(t, open)
	assert.EqualValues(t, 0, body["yours"])
	every, _ := list(c, "?of=all&state=any")
	assert.Len(t, every, 3)
}

// A page for people without an account shows the chosen fields and nothing else; it is listed, counts who opens it, and is ended by
// an editor for good.
func TestSharedPagesOverTheAPI(t *testing.T) {
	c := startWith(t, func(o *api.Options) { o.Engine.Env.Base = "https://dorfbote.example" })
	c.signIn()
	links := make(chan string, 4)
	square := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var p struct{ Links []struct{ To string } }
		_ = json.NewDecoder(r.Body).Decode(&p)
		for _, l := range p.Links {
			links <- l.To
		}
		w.WriteHeader(http.StatusCreated)
		_, _ = w.Write([]byte(`{"id":7}`))
	}))
	t.Cleanup(square.Close)
	require.NoError(t, c.st.DB.Exec(`UPDATE connections SET settings = jsonb_build_object('address', ?::text)`, square.URL).Error)
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	c.ok("POST", "/in/shop/orders", `[{"id":"first","total":1,"secret":"x"}]`)
	workflow := c.turnedOn("dorfbote: 1\nname: Shared\nwatch: {source: shop/orders}\nmessages: {m: {title: \"${record.id}\", links: [{text: See it, share: [total]}]}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n")
	c.ok("POST", "/in/shop/orders", `[{"id":"A","total":4711,"secret":"not for you <script>"}]`)
	var page string
	select {
	case link := <-links:
		u, err := url.Parse(link)
		require.NoError(t, err)
		page = u.Path
	case <-time.After(10 * time.Second):
		require.Fail(t, "nothing was told")
	}
	status, body := c.stranger().raw("GET", page, "")
	require.Equal(t, 200, status)
	assert.Contains(t, string(body), "4711")
	assert.NotContains(t, string(body), "not for you")
	for _, widened := range []string{page + "?fields=secret", page + "x", strings.Replace(page, "/", "//", 1)} {
		_, body := c.stranger().raw("GET", widened, "")
		assert.NotContains(t, string(body), "not for you", widened)
	}
	id := workflow[strings.LastIndex(workflow, "/")+1:]
	shares := func() []map[string]any {
		_, out := c.call("GET", "/api/shares?workflow="+id, "")
		return items(out)
	}
	list := shares()
	require.Len(t, list, 1)
	assert.GreaterOrEqual(t, list[0]["opened"], 1.0)
	assert.Nil(t, list[0]["ended_at"])
	moment := func(name string) time.Time {
		at, err := time.Parse(time.RFC3339Nano, list[0][name].(string))
		require.NoError(t, err)
		return at
	}
	assert.InDelta(t, message.SharedFor, moment("ends_at").Sub(moment("made_at")), float64(time.Minute), "as long as is usual")
	until := func(end string) string {
		require.NoError(t, c.st.DB.Exec("UPDATE shares SET ends_at = now() + ?::interval", end).Error)
		_, body := c.stranger().raw("GET", page, "")
		return string(body)
	}
	assert.NotContains(t, until("-1 second"), "4711", "its time is over")
	assert.Contains(t, until("1 hour"), "4711")
	at := fmt.Sprintf("/api/posts/%v/shares/%v", list[0]["post"], list[0]["n"])
	status, _ = c.as("v", "viewer").call("DELETE", at, "")
	assert.Equal(t, 403, status)
	c.ok("DELETE", at, "")
	assert.Equal(t, "A", shares()[0]["ended_by"])
	_, body = c.stranger().raw("GET", page, "")
	assert.NotContains(t, string(body), "4711", "it is over")
}

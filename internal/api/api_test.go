package api_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

type client struct {
	t    *testing.T
	http *http.Client
	base string
	st   *store.Store
	// folder is the one that the server may use.
	folder string
}

func start(t *testing.T) *client { return startWith(t, func(*api.Options) {}) }

func startWith(t *testing.T, set func(*api.Options)) *client {
	t.Helper()
	st := testdb.New(t)
	e, err := engine.New(st, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	e.Env = testdb.Loopback(t, e.Workspace)
	ctx, cancel := context.WithCancel(context.Background())
	o := api.Options{
		Engine: e, Intake: intake.New(ctx, e.Writer), Hub: notify.NewHub(ctx, e.Store.Pool, e.Log), Log: e.Log,
		Web: fstest.MapFS{"index.html": {Data: []byte(`<meta content="NONCE">`)}},
	}
	set(&o)
	s, err := api.New(o)
	require.NoError(t, err)
	require.NoError(t, e.Start(ctx))
	server := httptest.NewServer(s.Handler())
	t.Cleanup(func() { server.Close(); e.Stop(); cancel() })
	require.NoError(t, st.DB.Create(&store.Person{Email: "a@x.example", Name: "A", Role: "editor", KeepsBook: true, PasswordHash: auth.HashPassword("secret-1"), CreatedAt: time.Now()}).Error)
	require.NoError(t, st.DB.Create(&store.Connection{ID: "square", Kind: "chat", Title: "Square", Settings: store.Texts{"address": "http://127.0.0.1:1"}, CreatedAt: time.Now()}).Error)
	require.NoError(t, st.DB.Create(&store.Destination{Name: "square/#tours", Connection: "square", Title: "#tours"}).Error)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &client{t, &http.Client{Jar: jar}, server.URL, st, e.Env.Folder}
}

func (c *client) call(method, path, body string, headers ...string) (int, map[string]any) {
	c.t.Helper()
	status, raw := c.raw(method, path, body, headers...)
	var out map[string]any
	_ = json.Unmarshal(raw, &out)
	return status, out
}

func (c *client) raw(method, path, body string, headers ...string) (int, []byte) {
	c.t.Helper()
	req, err := http.NewRequest(method, c.base+path, strings.NewReader(body))
	require.NoError(c.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := c.http.Do(req)
	require.NoError(c.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return res.StatusCode, raw
}

func (c *client) signIn() {
	status, _ := c.call("POST", "/api/sign-in", `{"email":"A@x.example","password":"secret-1"}`)
	require.Equal(c.t, 200, status)
}

const text = "dorfbote: 1\nname: Late\nwatch: {source: shop/orders, when: {field: state, became: late}}\nkeep: {field: total, above: 5}\n" +
	"messages: {m: {title: \"${record.id} was ${before.state}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"

func sheetBody(s string) string {
	raw, _ := json.Marshal(map[string]string{"text": s})
	return string(raw)
}

func TestSignInIsSlowedAgainstGuessing(t *testing.T) {
	c := start(t)
	last := 0
	for range 12 {
		last, _ = c.call("POST", "/api/sign-in", `{"email":"a@x.example","password":"wrong"}`)
	}
	assert.Equal(t, http.StatusTooManyRequests, last)
}

func TestOtherSitesCannotAct(t *testing.T) {
	c := start(t)
	c.signIn()
	status, _ := c.call("POST", "/api/workflows", sheetBody(text), "Sec-Fetch-Site", "cross-site", "Origin", "https://evil.example")
	assert.Equal(t, http.StatusForbidden, status)
}

func TestAWorkflowsLife(t *testing.T) {
	c := start(t)
	c.signIn()
	status, _ := c.call("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	require.Equal(t, 200, status)
	status, made := c.call("POST", "/in/shop/orders", `[{"id":"A","state":"new","total":9},{"id":"B","state":"new","total":1}]`)
	require.Equal(t, 202, status)
	assert.EqualValues(t, 2, made["accepted"])

	status, w := c.call("POST", "/api/workflows", sheetBody(strings.Replace(text, "total, above", "totl, above", 1)))
	require.Equal(t, 200, status)
	id := fmt.Sprintf("/api/workflows/%v", w["id"])
	status, _ = c.call("POST", "/api/workflows", sheetBody(text))
	assert.Equal(t, 409, status, "a name is there once")
	status, _ = c.call("PUT", id+"/draft", sheetBody(strings.Replace(text, "square/#tours", "square/#tuors", 1)))
	require.Equal(t, 200, status, "a draft may be wrong")
	status, p := c.call("POST", id+"/on", "")
	assert.Equal(t, 422, status)
	assert.Contains(t, fmt.Sprint(p["errors"]), "did you mean square/#tours?")

	status, w = c.call("PUT", id+"/draft", sheetBody(text))
	require.Equal(t, 200, status)
	asObject, _ := json.Marshal(map[string]any{"sheet": w["sheet"], "arrival": 0})
	status, proof := c.call("POST", "/api/proof", string(asObject))
	require.Equal(t, 200, status)
	assert.Equal(t, "ignored", proof["proof"].(map[string]any)["verdict"])
	assert.Len(t, proof["trail"], 2)

	status, w = c.call("POST", id+"/on", `{"note":"first"}`)
	require.Equal(t, 200, status)
	assert.EqualValues(t, 1, w["version"])
	status, _ = c.call("DELETE", id, "")
	assert.Equal(t, 409, status, "what is on is not deleted")

	_, _ = c.call("POST", "/in/shop/orders", `[{"id":"A","state":"late","total":9},{"id":"B","state":"late","total":1}]`)
	require.Eventually(t, func() bool {
		_, list := c.call("GET", "/api/arrivals?source=shop/orders&verdict=told", "")
		items, _ := list["items"].([]any)
		return len(items) == 1
	}, 10*time.Second, 20*time.Millisecond)
	_, list := c.call("GET", "/api/arrivals?verdict=dropped&limit=1", "")
	item := list["items"].([]any)[0].(map[string]any)
	assert.Equal(t, "total is above 5", item["verdicts"].([]any)[0].(map[string]any)["because"])
	_, one := c.call("GET", fmt.Sprintf("/api/arrivals/%v", item["seq"]), "")
	assert.Len(t, one["why"], 1)
	_, posts := c.call("GET", "/api/posts?state=waiting", "")
	require.Len(t, posts["items"], 1)
	assert.Equal(t, "A was new", posts["items"].([]any)[0].(map[string]any)["title"])

	status, _ = c.call("POST", id+"/off", "")
	require.Equal(t, 200, status)
	status, _ = c.call("DELETE", id, "")
	assert.Less(t, status, 300)
}

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

func TestTheDatabaseIsAwayIsSaidAtOnce(t *testing.T) {
	c := start(t)
	c.signIn()
	_, _ = c.call("POST", "/api/connections", `{"id":"open","title":"Open"}`)
	status, _ := c.call("POST", "/in/open/orders", `{"id":"A"}`)
	require.Equal(t, 202, status)
	require.NoError(t, c.st.DB.Exec("ALTER TABLE arrivals RENAME TO away").Error)
	status, p := c.call("POST", "/in/open/orders", `{"id":"A"}`)
	assert.Equal(t, 503, status)
	assert.Contains(t, p["detail"], "send them again")
	require.NoError(t, c.st.DB.Exec("ALTER TABLE away RENAME TO arrivals").Error)
	status, _ = c.call("POST", "/in/open/orders", `{"id":"A"}`)
	assert.Equal(t, 202, status)
}

// The file that the front end's types are made from is the API's own description.
func TestDescriptionIsCurrent(t *testing.T) {
	kept, err := os.ReadFile("openapi.json")
	require.NoError(t, err)
	now, err := api.Describe()
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(string(kept)), string(now), "run 'make types'")
}

func TestThePageIsGuarded(t *testing.T) {
	c := start(t)
	res, err := http.Get(c.base + "/workflows/1")
	require.NoError(t, err)
	defer res.Body.Close()
	raw, _ := io.ReadAll(res.Body)
	policy := res.Header.Get("Content-Security-Policy")
	assert.Contains(t, policy, "default-src 'none'")
	assert.NotContains(t, policy, "unsafe")
	assert.NotContains(t, string(raw), "NONCE")
}

// Secrets lie sealed, and are neither shown, exported nor found in any answer.
func TestSecretsStaySealed(t *testing.T) {
	c := start(t)
	c.signIn()
	status, made := c.call("POST", "/api/connections", `{"id":"farm","kind":"rest","title":"Farm","settings":{"address":"http://127.0.0.1:1/x?api_key=hush-hush-1","auth":"bearer token","token":"hush-hush-2"}}`)
	require.Equal(t, 200, status)
	assert.Equal(t, []any{"token"}, made["secrets"])
	_, proof := c.call("POST", "/api/connections/farm/prove", "")
	assert.Contains(t, fmt.Sprint(proof["steps"]), "no answer")
	assert.NotContains(t, fmt.Sprint(proof), "hush-hush-2")
	for _, path := range []string{"/api/connections", "/api/connections/farm", "/api/today"} {
		_, got := c.call("GET", path, "")
		assert.NotContains(t, fmt.Sprint(got), "hush-hush-2", path)
	}
	var dump string
	require.NoError(t, c.st.DB.Raw("SELECT string_agg(c::text, '') FROM connections c").Scan(&dump).Error)
	assert.NotContains(t, dump, "hush-hush-2")
	status, _ = c.call("PATCH", "/api/connections/farm", `{"settings":{"address":"http://127.0.0.1:1/other"}}`)
	require.Equal(t, 200, status)
	_, got := c.call("GET", "/api/connections/farm", "")
	assert.Equal(t, []any{"token"}, got["secrets"], "what is not named stays as it is")

	// A secret is not sent to another place than it was given for.
	seen := ""
	thief := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { seen = r.Header.Get("Authorization") }))
	defer thief.Close()
	status, _ = c.call("POST", "/api/connections/prove", fmt.Sprintf(`{"kind":"rest","id":"farm","settings":{"address":%q,"auth":"bearer token"}}`, thief.URL))
	assert.Equal(t, 422, status)
	assert.Empty(t, seen)
	elsewhere := fmt.Sprintf(`"address":%q`, thief.URL)
	status, no := c.call("PATCH", "/api/connections/farm", `{"settings":{`+elsewhere+`}}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, fmt.Sprint(no), "must be given again")
	status, _ = c.call("PATCH", "/api/connections/farm", `{"settings":{`+elsewhere+`,"token":"new-1"}}`)
	require.Equal(t, 200, status)
	_, _ = c.call("POST", "/api/connections/farm/prove", "")
	assert.Equal(t, "Bearer new-1", seen)

	// What cannot be unsealed is not lost by a change of something else.
	require.NoError(t, c.st.DB.Exec("UPDATE connections SET sealed = 'sealed by another key' WHERE id = 'farm'").Error)
	status, _ = c.call("PATCH", "/api/connections/farm", `{"title":"Farms","paused":true}`)
	require.Equal(t, 200, status)
	var sealed string
	require.NoError(t, c.st.DB.Raw("SELECT convert_from(sealed, 'UTF8') FROM connections WHERE id = 'farm'").Scan(&sealed).Error)
	assert.Equal(t, "sealed by another key", sealed)
	for body, want := range map[string]string{
		`{"id":"x","kind":"nothing","title":"X"}`:                                            "there is no kind of connection",
		`{"id":"x","kind":"rest","title":"X"}`:                                               "Address is missing",
		`{"id":"x","kind":"rest","title":"X","settings":{"address":"http://a","adress":""}}`: "has no setting adress",
		`{"id":"X y","kind":"hook","title":"X"}`:                                             "short name",
	} {
		status, p := c.call("POST", "/api/connections", body)
		assert.Equal(t, 422, status, body)
		assert.Contains(t, p["detail"], want)
	}
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

// Switching on says what it would send, and begins where it is told to.
func TestWhereAWorkflowBegins(t *testing.T) {
	c := start(t)
	c.signIn()
	_, _ = c.call("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	_, _ = c.call("POST", "/in/shop/orders", `[{"id":"A","state":"new","total":9},{"id":"B","state":"new","total":9},{"id":"A","state":"late","total":9}]`)
	_, _ = c.call("POST", "/in/shop/orders", `[{"id":"B","state":"late","total":9}]`)
	_, w := c.call("POST", "/api/workflows", sheetBody(text))
	id := fmt.Sprintf("/api/workflows/%v", w["id"])
	_, b := c.call("POST", id+"/on/preview", `{"how":"everything"}`)
	assert.EqualValues(t, 4, b["arrivals"])
	assert.EqualValues(t, 2, b["posts"])
	_, b = c.call("POST", id+"/on/preview", `{"how":"now"}`)
	assert.EqualValues(t, 0, b["posts"])
	_, list := c.call("GET", "/api/arrivals?key=B", "")
	last := list["items"].([]any)[0].(map[string]any)["seq"]
	status, _ := c.call("POST", id+"/on", fmt.Sprintf(`{"begin":{"how":"from","arrival":%v}}`, last))
	require.Equal(t, 200, status)
	require.Eventually(t, func() bool {
		_, posts := c.call("GET", "/api/posts", "")
		items, _ := posts["items"].([]any)
		return len(items) == 1 && items[0].(map[string]any)["title"] == "B was new"
	}, 10*time.Second, 20*time.Millisecond)
}

// Moving shows what would change, and does it for all or none.
func TestMovingToAnotherConnection(t *testing.T) {
	c := start(t)
	c.signIn()
	_, _ = c.call("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	_, _ = c.call("POST", "/api/connections", `{"id":"store","title":"Store"}`)
	_, _ = c.call("POST", "/in/shop/orders", `[{"id":"A","state":"new","total":9}]`)
	commented := "# kept as it is\n" + text
	_, w := c.call("POST", "/api/workflows", sheetBody(commented))
	id := fmt.Sprintf("/api/workflows/%v", w["id"])
	status, _ := c.call("POST", id+"/on", "")
	require.Equal(t, 200, status)
	status, _ = c.call("DELETE", "/api/connections/shop", "")
	assert.Equal(t, 409, status, "what is used is not deleted")
	require.NoError(t, c.st.PutPersons(t.Context(), []store.BookPerson{
		{Key: "ann", ID: "ann", Prefers: "shop", Addresses: store.Texts{"shop": "1", "mail": "a@b.example"}, ChangedAt: time.Now()},
		{Key: "bo", ID: "bo", Addresses: store.Texts{"shop": "2", "store": "3"}, ChangedAt: time.Now()},
	}, false))
	_, plan := c.call("POST", "/api/connections/shop/move", `{"to":"store"}`)
	assert.EqualValues(t, 2, plan["persons"])
	assert.Equal(t, []any{"store/orders"}, plan["missing"])
	status, _ = c.call("POST", "/api/connections/shop/move", `{"to":"store","apply":true}`)
	assert.Equal(t, 409, status, "it could not run after the move")
	_, _ = c.call("POST", "/in/store/orders", `[{"id":"A","state":"new","total":9}]`)
	status, done := c.call("POST", "/api/connections/shop/move", `{"to":"store","apply":true}`)
	require.Equal(t, 200, status)
	assert.Equal(t, true, done["applied"])
	_, w = c.call("GET", id, "")
	assert.Equal(t, strings.ReplaceAll(commented, "shop/orders", "store/orders"), w["text"])
	assert.EqualValues(t, 2, w["version"])
	book, err := c.st.WholeBook(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []people.Person{
		{ID: "ann", Prefers: "store", Addresses: []people.Address{{Connection: "mail", Address: "a@b.example"}, {Connection: "store", Address: "1"}}},
		{ID: "bo", Addresses: []people.Address{{Connection: "store", Address: "3"}}},
	}, book, "the people book moves along")
	status, _ = c.call("DELETE", "/api/connections/shop", "")
	assert.Less(t, status, 300)
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

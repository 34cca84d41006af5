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
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

type client struct {
	t    *testing.T
	http *http.Client
	base string
	st   *store.Store
}

func start(t *testing.T) *client {
	t.Helper()
	st := testdb.New(t)
	e, err := engine.New(st, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	e.Env = testdb.Loopback(t, e.Workspace)
	ctx, cancel := context.WithCancel(context.Background())
	s, err := api.New(api.Options{
		Engine: e, Intake: engine.NewIntake(ctx, e), Hub: engine.NewHub(ctx, e), Log: e.Log,
		Web: fstest.MapFS{"index.html": {Data: []byte(`<meta content="NONCE">`)}},
	})
	require.NoError(t, err)
	require.NoError(t, e.Start(ctx))
	server := httptest.NewServer(s.Handler())
	t.Cleanup(func() { server.Close(); e.Stop(); cancel() })
	require.NoError(t, st.DB.Create(&store.Person{Email: "a@x.example", Name: "A", Role: "editor", PasswordHash: api.HashPassword("secret-1"), CreatedAt: time.Now()}).Error)
	require.NoError(t, st.DB.Create(&store.Connection{ID: "square", Kind: "chat", Title: "Square", Settings: store.Texts{"address": "http://127.0.0.1:1"}, CreatedAt: time.Now()}).Error)
	require.NoError(t, st.DB.Create(&store.Destination{Name: "square/#tours", Connection: "square", Title: "#tours"}).Error)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &client{t, &http.Client{Jar: jar}, server.URL, st}
}

func (c *client) call(method, path, body string, headers ...string) (int, map[string]any) {
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
	var out map[string]any
	_ = json.Unmarshal(raw, &out)
	return res.StatusCode, out
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
	assert.True(t, strings.TrimSpace(string(kept)) == string(now), "run 'make types'")
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

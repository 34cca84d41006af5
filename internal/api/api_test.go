package api_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/core/people"
	"dorfbote/internal/store"
)

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

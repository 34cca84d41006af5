package api_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func items(of map[string]any) []map[string]any {
	var out []map[string]any
	list, _ := of["items"].([]any)
	for _, it := range list {
		out = append(out, it.(map[string]any))
	}
	return out
}

// A source is looked at before it is read, begun where it is said, corrected, searched, and asked again.
func TestASourcesLife(t *testing.T) {
	var body atomic.Value
	body.Store("Tank;Litres;Where;Page\r\nT1;1.240,5;Sonnleiten;https://tanks.example/T1\r\nT2;900;Mill;https://tanks.example/T2\r\n")
	file := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(body.Load().(string))) }))
	defer file.Close()
	c := start(t)
	c.signIn()
	status, made := c.call("POST", "/api/connections", `{"id":"cellar","title":"Cellar","kind":"table","settings":{"where":"at an address"}}`)
	assert.Equal(t, 422, status, "what is needed is asked for")
	assert.Contains(t, made["detail"].(string)+fmt.Sprint(made["errors"]), "Address")
	status, made = c.call("POST", "/api/connections", `{"id":"cellar","title":"Cellar","kind":"table","settings":{"where":"at an address","address":"`+file.URL+`/t.csv"}}`)
	require.Equal(t, 200, status, made)

	source := `{"kind":"tanks","key_field":"Tank","begin":{"how":"from","key":"T2"}}`
	status, look := c.call("POST", "/api/connections/cellar/sources/preview", source)
	require.Equal(t, 200, status, look)
	assert.Len(t, look["records"], 2)
	status, _ = c.call("GET", "/api/sources/cellar/tanks/records", "")
	assert.Equal(t, 404, status, "looking adds nothing")
	status, made = c.call("POST", "/api/connections/cellar/sources", source)
	require.Less(t, status, 300, made)
	at := "/api/sources/cellar/tanks"
	polled := func() (poll map[string]any) {
		_, list := c.call("GET", "/api/sources", "")
		for _, s := range items(list) {
			if s["source"] == "cellar/tanks" {
				return s["poll"].(map[string]any)
			}
		}
		return nil
	}
	check := func() {
		before := polled()["last_at"]
		status, _ := c.call("POST", at+"/check", "")
		require.Equal(t, 200, status)
		require.Eventually(t, func() bool { p := polled(); return p["last_at"] != before && p["asking"] == false }, 20*time.Second, 20*time.Millisecond)
	}
	require.Eventually(t, func() bool { return polled()["begun"] == true }, 20*time.Second, 20*time.Millisecond, "it is asked at once")
	_, list := c.call("GET", "/api/arrivals?source=cellar/tanks", "")
	require.Len(t, items(list), 1, "it begins with T2")
	assert.Equal(t, "T2", items(list)[0]["key"])

	// Its fields are corrected, and corrections taken back.
	status, _ = c.call("PATCH", at, `{"link_field":"Page","title_field":"Where","fields":{"Litres":{"label":"In the tank","type":"text"},"Where":{"hidden":true}}}`)
	require.Equal(t, 200, status)
	field := func(name string) map[string]any {
		_, fields := c.call("GET", at+"/fields", "")
		for _, f := range items(fields) {
			if f["name"] == name {
				return f
			}
		}
		t.Fatalf("there is no field %s", name)
		return nil
	}
	assert.Equal(t, []any{"In the tank", "text", true}, []any{field("Litres")["label"], field("Litres")["type"], field("Litres")["corrected"]})
	assert.Equal(t, true, field("Where")["hidden"])
	status, _ = c.call("PATCH", at, `{"fields":{"Litres":{}}}`)
	require.Equal(t, 200, status)
	assert.Equal(t, "number", field("Litres")["type"])
	status, _ = c.call("PATCH", at, `{"fields":{"Litres":{"type":"colour"}}}`)
	assert.Equal(t, 422, status, "there is no such type")

	// Its records, by a value, with title and link; the fields that a value stands in.
	_, found := c.call("GET", at+"/records?q=sonnleiten", "")
	require.Len(t, items(found), 1)
	assert.Equal(t, []any{"T1", "Sonnleiten", "https://tanks.example/T1"}, []any{items(found)[0]["key"], items(found)[0]["title"], items(found)[0]["link"]})
	_, found = c.call("GET", at+"/find?q=Sonnleiten", "")
	require.Len(t, items(found), 1)
	_, page := c.call("GET", at+"/records?limit=1&offset=1", "")
	assert.Len(t, items(page), 1)

	// Asked again: a changed row is an update with what was before; one that cannot be read changes nothing.
	body.Store("Tank;Litres;Where;Page\r\nT1;1.240,5;Sonnleiten;https://tanks.example/T1\r\nT2;950;Mill;https://tanks.example/T2\r\n")
	check()
	_, list = c.call("GET", "/api/arrivals?source=cellar/tanks", "")
	require.Len(t, items(list), 2)
	body.Store("<html>We are being repaired</html>")
	check()
	assert.NotEmpty(t, polled()["last_error"])
	_, list = c.call("GET", "/api/arrivals?source=cellar/tanks", "")
	assert.Len(t, items(list), 2)
	status, _ = c.call("DELETE", at, "")
	assert.Less(t, status, 300)
	assert.Nil(t, polled(), "it is read no more")
	status, _ = c.call("GET", at+"/records", "")
	assert.Equal(t, 404, status)
}

// A record that lies inside what an app sends is found in the first requests, offered, and read from then on. The
// settings can be changed later, with the last requests shown as they would be read.
func TestAHookWhoseRecordsLieInsideWhatIsSent(t *testing.T) {
	c := start(t)
	c.signIn()
	status, made := c.call("POST", "/api/connections", `{"id":"watch","title":"Watch","kind":"hook"}`)
	require.Less(t, status, 300, made)
	status, _ = c.call("POST", "/in/watch/incidents", `{"event":"incident.opened","incident":{"id":"I-1","title":"No water","open":true}}`)
	assert.Equal(t, 400, status)
	status, read := c.call("POST", "/api/connections/watch/reading", `{"kind":"incidents"}`)
	require.Equal(t, 200, status, read)
	require.Len(t, items(read), 1)
	assert.Contains(t, items(read)[0]["problem"], `its field "id" is missing`)
	offer := read["offers"].([]any)[0].(map[string]any)
	assert.Equal(t, map[string]any{"record": "incident", "key": "id", "fits": 1.0}, offer)
	_, read = c.call("POST", "/api/connections/watch/reading", `{"kind":"incidents","record":"incident","key_field":"id"}`)
	assert.Empty(t, items(read)[0]["problem"])
	assert.Equal(t, "I-1", items(read)[0]["records"].([]any)[0].(map[string]any)["key"])

	status, made = c.call("POST", "/api/connections/watch/sources", `{"kind":"incidents","settings":{"record":"incident"},"key_field":"id"}`)
	require.Less(t, status, 300, made)
	status, taken := c.call("POST", "/in/watch/incidents", `{"event":"incident.opened","incident":{"id":"I-2","title":"No light","open":true}}`)
	require.Equal(t, 202, status, taken)
	_, list := c.call("GET", "/api/sources/watch/incidents/records", "")
	keys := []any{}
	for _, it := range items(list) {
		keys = append(keys, it["key"])
	}
	assert.ElementsMatch(t, []any{"I-1", "I-2"}, keys, "what was refused before is taken in, now that it can be read")
	_, changed := c.call("PATCH", "/api/sources/watch/incidents", `{"key_field":"id"}`)
	require.NotNil(t, changed)
	_, list = c.call("GET", "/api/arrivals?source=watch/incidents", "")
	assert.Len(t, items(list), 2, "once")

	// Later the app sends it otherwise.
	status, made = c.call("PATCH", "/api/sources/watch/incidents", `{"settings":{"record":"data.incident"},"key_field":"no"}`)
	require.Equal(t, 200, status, made)
	status, _ = c.call("POST", "/in/watch/incidents", `{"incident":{"id":"I-3"}}`)
	assert.Equal(t, 400, status)
	status, _ = c.call("POST", "/in/watch/incidents", `{"data":{"incident":{"no":4}}}`)
	assert.Equal(t, 202, status)
	_, read = c.call("POST", "/api/connections/watch/reading", `{"kind":"incidents","record":"data.incident","key_field":"no"}`)
	var problems []string
	for _, it := range items(read) {
		problems = append(problems, it["problem"].(string))
	}
	assert.Equal(t, []string{"", "there is nothing at data.incident, where the record is said to lie", "there is nothing at data.incident, where the record is said to lie", "there is nothing at data.incident, where the record is said to lie"}, problems)

	// The hook's own settings hold for kinds that are new.
	status, made = c.call("PATCH", "/api/connections/watch", `{"settings":{"record":"body","key_field":"ref"}}`)
	require.Equal(t, 200, status, made)
	assert.Equal(t, "ref", made["key_field"])
	status, _ = c.call("POST", "/in/watch/others", `{"body":{"ref":"O-1"}}`)
	assert.Equal(t, 202, status)
	_, sources := c.call("GET", "/api/sources", "")
	for _, s := range items(sources) {
		if s["source"] == "watch/others" {
			assert.Equal(t, []any{"ref", map[string]any{"record": "body"}}, []any{s["key_field"], s["settings"]})
		}
	}
}

// Of a JSON API whose beginning answers nothing, the records at a path are looked at without their key being known; what
// may name them, the fields inside objects and the links are found.
func TestAListWhoseKeyIsNotKnown(t *testing.T) {
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/v1/issues" {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(`[{"number":7,"title":"No water","user":{"login":"ada"},"html_url":"https://issues.example/7"},{"number":8,"title":"No light","user":{"login":"jon"},"html_url":"https://issues.example/8"}]`))
	}))
	defer api.Close()
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"issues","title":"Issues","kind":"rest","settings":{"address":"`+api.URL+`/v1"}}`)
	status, proof := c.call("POST", "/api/connections/issues/prove", "")
	require.Equal(t, 200, status)
	assert.Equal(t, true, proof["ok"], "%v", proof)
	status, choices := c.call("POST", "/api/connections/issues/browse", "")
	require.Equal(t, 200, status)
	assert.Empty(t, items(choices))

	status, look := c.call("POST", "/api/connections/issues/sources/preview", `{"kind":"issues","settings":{"path":"/issues"}}`)
	require.Equal(t, 200, status)
	assert.Equal(t, []any{"", 2.0, 2.0, []any{"number", "html_url", "title"}}, []any{look["problem"], look["rows"], look["keyless"], look["keys"]})
	types := map[string]any{}
	for _, f := range look["fields"].([]any) {
		f := f.(map[string]any)
		types[f["name"].(string)] = f["type"]
		if f["name"] == "user" {
			assert.Equal(t, "login", f["fields"].([]any)[0].(map[string]any)["name"])
		}
	}
	assert.Equal(t, map[string]any{"number": "number", "title": "text", "user": "object", "html_url": "link"}, types)
	_, look = c.call("POST", "/api/connections/issues/sources/preview", `{"kind":"issues","key_field":"number","settings":{"path":"/issues"}}`)
	assert.Equal(t, 0.0, look["keyless"])

	// One that does not answer at all is an error all the same.
	status, proof = c.call("POST", "/api/connections/prove", `{"kind":"rest","settings":{"address":"http://127.0.0.1:1/v1"}}`)
	require.Equal(t, 200, status, proof)
	assert.Equal(t, false, proof["ok"])
}

// Which fields of a source name records of another is found from their values: the one that is the key there before others,
// and numbers only where they are.
func TestFieldsThatNameRecordsElsewhere(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop","kind":"hook"}`)
	send := func(kind, body string) {
		t.Helper()
		status, out := c.call("POST", "/in/shop/"+kind, body)
		require.Equal(t, 202, status, out)
	}
	send("customers", `[{"id":"K-1","name":"Dorfladen","city":"Mill","no":1},{"id":"K-2","name":"Hotel","city":"Mill","no":2},{"id":"K-3","name":"Gasthof","city":"Upper","no":3}]`)
	send("people", `[{"id":7,"name":"Ana","desk":1},{"id":8,"name":"Jon","desk":2}]`)
	send("orders", `[{"id":"O-1","customer":"Dorfladen","by":7,"count":1,"buyer":"K-1"},{"id":"O-2","customer":"Hotel","by":8,"count":2,"buyer":"K-3"},{"id":"O-3","customer":"Hotel","by":7,"count":3,"buyer":"K-2"}]`)
	_, list := c.call("GET", "/api/sources/shop/orders/relations", "")
	var got []string
	for _, it := range items(list) {
		got = append(got, fmt.Sprint(it["field"], " is ", it["of"], " of ", it["source"]))
	}
	assert.ElementsMatch(t, []string{"customer is name of shop/customers", "buyer is id of shop/customers", "by is id of shop/people"}, got)
}

package api_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A book is entered, imported, looked through and taken away; a wrong address is refused with its place.
func TestThePeopleBook(t *testing.T) {
	c := start(t)
	c.signIn()
	one := c.ok("PUT", "/api/people-book/ja", `{"name":" Jonas  Käser ","prefers":"square","addresses":{"square":"#tours"}}`)
	assert.Equal(t, "Jonas Käser", one["name"])
	for body, place := range map[string]string{
		`{"name":"X","addresses":{"square":"#nowhere"}}`: "body.addresses.square", `{"name":"X","addresses":{"fax":"1"}}`: "body.addresses.fax", `{"name":"X","prefers":"square"}`: "body.prefers",
	} {
		status, out := c.call("PUT", "/api/people-book/xx", body)
		assert.Equal(t, http.StatusUnprocessableEntity, status, body)
		assert.Contains(t, fmt.Sprint(out["errors"]), place)
	}
	table := "id,name,prefers,square,mail\nJA,Jonas,square,#tours,\nle,Lea,mail,,lea@x.example\n"
	body := func(as, text, more string) string { return `{"as":"` + as + `","text":` + quoted(text) + more + `}` }
	out := c.ok("POST", "/api/people-book/look", body("csv", table, ""))
	assert.Equal(t, []any{2.0, 1.0, false}, []any{out["persons"], out["new"], out["done"]})
	assert.Contains(t, fmt.Sprint(out["items"]), "there is no connection mail that posts can go over", "it is said before")
	assert.Len(t, c.ok("GET", "/api/people-book", "")["items"], 1, "looking changes nothing")
	c.ok("POST", "/api/people-book/import", body("csv", table, ""))
	for q, want := range map[string]int{"": 2, "lea": 1, "lea@x": 1, "%": 0} {
		assert.Len(t, c.ok("GET", "/api/people-book?q="+strings.ReplaceAll(q, "%", "%25"), "")["items"], want, q)
	}
	page := c.ok("GET", "/api/people-book?limit=1", "")
	assert.Equal(t, 1.0, page["next"])
	assert.Len(t, c.ok("GET", "/api/people-book?limit=1&from=1", "")["items"], 1)
	_, raw := c.raw("GET", "/api/people-book.csv", "")
	assert.Equal(t, "id,name,prefers,mail,square\nJA,Jonas,square,,#tours\nle,Lea,mail,lea@x.example,\n", string(raw))
	status, wrong := c.call("POST", "/api/people-book/import", body("csv", "id,name\nx,y,z\n", ""))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, fmt.Sprint(wrong["detail"]), "line 2")
	out = c.ok("POST", "/api/people-book/import", body("vcard", "BEGIN:VCARD\nVERSION:4.0\nFN:Nora\nEMAIL:nora@x.example\nEND:VCARD\n", `,"mail":"mail","whole":true`))
	assert.Equal(t, []any{1.0, 1.0, 2.0, true}, []any{out["persons"], out["new"], out["gone"], out["done"]})
	c.ok("DELETE", "/api/people-book/NORA@x.example", "")
	status, _ = c.call("DELETE", "/api/people-book/nora@x.example", "")
	assert.Equal(t, http.StatusNotFound, status)
}

// Whom a record names is told where the people book says; what cannot be told fails alone and is shown with the arrival and today.
func TestTellingWhomARecordNames(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	c.ok("POST", "/in/shop/staff", `[{"id":"ja","called":"Jonas","room":"#tours"},{"id":"le","called":"Lea"}]`)
	chosen := c.ok("PUT", "/api/people-book/source", `{"source":"shop/staff","id":"","name":"called","prefers":"","addresses":{"square":"room"}}`)
	assert.EqualValues(t, 2, chosen["persons"])
	status, _ := c.call("PUT", "/api/people-book/x", `{"name":"X"}`)
	assert.Equal(t, http.StatusUnprocessableEntity, status, "the source is the book")
	sheet := "dorfbote: 1\nname: Whom\nwatch: {source: shop/orders, on: [created]}\nmessages: {m: {title: \"${record.id} for ${person(record.owner).name}\"}}\n" +
		"route: {otherwise: {tell: [{to: \"person/${record.owner}\", message: m}, {to: \"square/${record.room}\", message: m}]}}\n"
	c.ok("POST", "/in/shop/orders", `{"id":"O-0","owner":"ja","room":"#tours"}`)
	w := c.ok("POST", "/api/workflows", sheetBody(sheet))
	id := fmt.Sprintf("/api/workflows/%v", w["id"])
	proof := c.ok("POST", "/api/proof", `{"text":`+quoted(sheet)+`}`)
	tell := proof["proof"].(map[string]any)["else"].([]any)
	assert.Equal(t, []any{"square/#tours", "Jonas"}, []any{tell[0].(map[string]any)["to"], tell[0].(map[string]any)["who"]}, "the proof says the address, and who that is")
	c.ok("POST", id+"/on", "")
	c.ok("POST", "/in/shop/orders", `[{"id":"O-1","owner":"Jonas","room":""},{"id":"O-2","owner":"Zed","room":"#nowhere"}]`)
	var items []any
	require.Eventually(t, func() bool {
		items = c.ok("GET", "/api/arrivals?verdict=failed", "")["items"].([]any)
		return len(items) == 2
	}, 20*time.Second, 50*time.Millisecond, "what was told in part is among what failed")
	verdict := func(i int) map[string]any { return items[i].(map[string]any)["verdicts"].([]any)[0].(map[string]any) }
	assert.Equal(t, "failed", verdict(0)["verdict"])
	assert.Equal(t, `nobody in the people book is called "Zed"`, verdict(0)["error"])
	assert.Equal(t, "told", verdict(1)["verdict"])
	assert.Equal(t, []any{map[string]any{"where": "route.otherwise.tell[1].to", "error": "the address is empty"}}, verdict(1)["failures"])
	posts := c.ok("GET", "/api/posts", "")["items"].([]any)
	require.Len(t, posts, 1)
	assert.Equal(t, []any{"square/#tours", "O-1 for Jonas"}, []any{posts[0].(map[string]any)["destination"], posts[0].(map[string]any)["title"]})
	needs := fmt.Sprint(c.ok("GET", "/api/today", "")["needs"])
	assert.Contains(t, needs, "Whom failed on 2 arrivals")
	tried := c.ok("POST", id+"/try", `{"text":`+quoted(sheet)+`,"message":"m","record":"O-1","to":"person/ja"}`)
	assert.Equal(t, "square/#tours", tried["to"])
	status, out := c.call("POST", id+"/try", `{"text":`+quoted(sheet)+`,"message":"m","record":"O-1","to":"me/"}`)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, fmt.Sprint(out["detail"]), "you are not in the people book, and no mailbox is connected")
}

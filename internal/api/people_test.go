package api_test

import (
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api/auth"
	"dorfbote/internal/store"
)

// as gives another browser, signed in as somebody of a role.
func (c *client) as(name, role string) *client {
	c.t.Helper()
	p := store.Person{Email: name + "@x.example", Name: name, Role: role, PasswordHash: auth.HashPassword("secret-" + name), CreatedAt: time.Now()}
	require.NoError(c.t, c.st.DB.Create(&p).Error)
	other := c.stranger()
	status, _ := other.call("POST", "/api/sign-in", fmt.Sprintf(`{"email":%q,"password":"secret-%s"}`, p.Email, name))
	require.Equal(c.t, 200, status)
	return other
}

// stranger gives another browser, not signed in.
func (c *client) stranger() *client {
	jar, err := cookiejar.New(nil)
	require.NoError(c.t, err)
	return &client{c.t, &http.Client{Jar: jar}, c.base, c.st, c.folder}
}

func (c *client) ok(method, path, body string) map[string]any {
	c.t.Helper()
	status, out := c.call(method, path, body)
	require.Less(c.t, status, 300, "%s %s: %v", method, path, out)
	return out
}

func TestPeopleAndTeams(t *testing.T) {
	ed := start(t)
	ed.signIn()
	admin, viewer := ed.as("mo", "administrator"), ed.as("vi", "viewer")

	// What each may do.
	for _, c := range []struct {
		who                *client
		method, path, body string
		status             int
	}{
		{ed, "POST", "/api/invitations", `{"email":"n@x.example","role":"editor"}`, 403},
		{ed, "PATCH", "/api/people/1", `{"role":"administrator"}`, 403},
		{ed, "POST", "/api/teams", `{"name":"T"}`, 403},
		{viewer, "POST", "/api/workflows", sheetBody(text), 403},
		{viewer, "POST", "/api/outbox/many", `{"do":"drop","state":"waiting"}`, 403},
		{viewer, "GET", "/api/people", "", 200},
		{ed, "GET", "/api/sign-ins?person=2", "", 403},
		{ed.stranger(), "GET", "/api/people", "", 401},
		{ed.stranger(), "GET", "/api/audit", "", 401},
	} {
		status, out := c.who.call(c.method, c.path, c.body)
		assert.Equal(t, c.status, status, "%s %s: %v", c.method, c.path, out)
	}

	// A workflow that belongs to a team is changed by its people and administrators only.
	team := admin.ok("POST", "/api/teams", `{"name":"Tour desk"}`)["id"]
	w := ed.ok("POST", "/api/workflows", sheetBody(text))
	path := fmt.Sprintf("/api/workflows/%v", w["id"])
	admin.ok("PATCH", path, fmt.Sprintf(`{"team":%v}`, team))
	status, out := ed.call("PUT", path+"/draft", sheetBody(strings.Replace(text, "above: 5", "above: 6", 1)))
	assert.Equal(t, 403, status)
	assert.Contains(t, out["detail"], "Tour desk")
	for _, act := range []string{"/on", "/off"} {
		status, _ = ed.call("POST", path+act, "")
		assert.Equal(t, 403, status, act)
	}
	admin.ok("PATCH", "/api/people/1", fmt.Sprintf(`{"teams":[%v]}`, team))
	ed.ok("PUT", path+"/draft", sheetBody(strings.Replace(text, "above: 5", "above: 7", 1)))
	ed.ok("PUT", path+"/draft", sheetBody(strings.Replace(text, "above: 5", "above: 8", 1)))

	// Every change is written down with before and after; a run of edits of one draft is one entry.
	log := items(admin.ok("GET", fmt.Sprintf("/api/audit?what=workflow&about=%v", w["id"]), ""))
	require.Len(t, log, 3)
	assert.Equal(t, "save-draft", log[0]["did"])
	assert.Equal(t, "A", log[0]["name"])
	change := log[0]["fields"].([]any)[0].(map[string]any)
	assert.Contains(t, change["was"], "above: 5")
	assert.Contains(t, change["now"], "above: 8")
	assert.Nil(t, log[2]["before"], "it was made")
	for _, e := range items(admin.ok("GET", "/api/audit", "")) {
		assert.NotContains(t, fmt.Sprint(e), "argon2id", "no secret is written down")
	}

	// An invitation lets one person in, once.
	link := admin.ok("POST", "/api/invitations", fmt.Sprintf(`{"email":"Nina <n@x.example>","role":"editor","team":%v}`, team))["link"].(string)
	token := link[strings.LastIndex(link, "/")+1:]
	nina := ed.stranger()
	assert.Equal(t, "n@x.example", nina.ok("GET", "/api/welcome/"+token, "")["email"])
	status, _ = nina.call("POST", "/api/welcome/"+token, `{"name":"Nina","password":"short"}`)
	assert.Equal(t, 422, status)
	nina.ok("POST", "/api/welcome/"+token, `{"name":"Nina","password":"long enough 1"}`)
	assert.Equal(t, "Nina", nina.ok("GET", "/api/me", "")["name"])
	status, _ = ed.stranger().call("POST", "/api/welcome/"+token, `{"name":"Other","password":"long enough 1"}`)
	assert.Equal(t, 404, status)
	nina.ok("PUT", path+"/draft", sheetBody(text)) // she is in the team

	// Whoever is let go is out at once, and the last administrator stays.
	people := items(admin.ok("GET", "/api/people", ""))
	for _, p := range people {
		if p["name"] == "Nina" {
			admin.ok("PATCH", fmt.Sprintf("/api/people/%v", p["id"]), `{"gone":true}`)
		}
	}
	status, _ = nina.call("GET", "/api/me", "")
	assert.Equal(t, 401, status)
	status, _ = admin.call("PATCH", "/api/people/2", `{"role":"viewer"}`)
	assert.Equal(t, 409, status)
}

func TestSessionsCanBeEnded(t *testing.T) {
	c := start(t)
	c.signIn()
	second := c.stranger()
	second.signIn()
	other := c.as("vi", "viewer")
	list := items(c.ok("GET", "/api/sign-ins", ""))
	require.Len(t, list, 2)
	for _, s := range list {
		if s["current"] != true {
			status, _ := other.call("POST", fmt.Sprintf("/api/sign-ins/%v/end", s["id"]), "")
			assert.Equal(t, 404, status, "somebody else's cannot be ended")
			c.ok("POST", fmt.Sprintf("/api/sign-ins/%v/end", s["id"]), "")
		}
	}
	status, _ := second.call("GET", "/api/me", "")
	assert.Equal(t, 401, status)
	second.signIn()
	status, _ = c.call("POST", "/api/me/password", `{"current":"wrong","new":"another secret"}`)
	assert.Equal(t, 422, status)
	c.ok("POST", "/api/me/password", `{"current":"secret-1","new":"another secret"}`)
	c.ok("GET", "/api/me", "")
	status, _ = second.call("GET", "/api/me", "")
	assert.Equal(t, 401, status, "a new password ends the other sessions")
	c.ok("POST", "/api/sign-out", "")
	status, _ = c.call("GET", "/api/me", "")
	assert.Equal(t, 401, status)
}

// The outbox: what waits is held, dropped, sent again, one by one and many at once, in its order.
func TestOutboxActs(t *testing.T) {
	c := start(t)
	c.signIn()
	w := c.ok("POST", "/api/workflows", sheetBody(text))
	c.ok("POST", "/api/destinations/pause", `{"name":"square/#tours","reason":"the channel is being moved"}`)
	require.NoError(t, c.st.DB.Exec(`INSERT INTO posts (workflow, arrival, destination, message, body, title, key)
		SELECT ?, n, 'square/#tours', 'm', '{"title":"x","tone":"plain"}', 'post ' || n, 'k' || n FROM generate_series(1, 6) n`, w["id"]).Error)
	state := func() string {
		var list []string
		require.NoError(t, c.st.DB.Raw("SELECT left(state, 1) FROM posts ORDER BY id").Scan(&list).Error)
		return strings.Join(list, "")
	}
	d := items(c.ok("GET", "/api/destinations", ""))[0]
	assert.Equal(t, "A", d["held_by"])
	assert.EqualValues(t, 6, d["waiting"])
	c.ok("POST", "/api/posts/1/hold", "")
	c.ok("POST", "/api/posts/2/drop", "")
	assert.Equal(t, "hdwwww", state())
	status, out := c.call("POST", "/api/posts/2/hold", "")
	assert.Equal(t, 409, status)
	assert.Contains(t, out["detail"], "dropped")
	many := c.ok("POST", "/api/outbox/many", `{"do":"hold","ids":[2,3,4]}`)
	assert.EqualValues(t, 2, many["done"])
	assert.EqualValues(t, 1, many["passed"])
	assert.Equal(t, "hdhhww", state())
	c.ok("POST", "/api/outbox/many", `{"do":"release","destination":"square/#tours","state":"held"}`)
	assert.Equal(t, "wdwwww", state())
	status, _ = c.call("POST", "/api/outbox/many", `{"do":"drop"}`)
	assert.Equal(t, 422, status, "nothing is done with everything by mistake")
	c.ok("POST", "/api/destinations/rate", `{"name":"square/#tours","per_minute":30}`)
	c.ok("POST", "/api/destinations/resume", `{"name":"square/#tours","only":[3,5]}`)
	assert.Equal(t, "ddwdwd", state())
	d = items(c.ok("GET", "/api/destinations", ""))[0]
	assert.Equal(t, false, d["paused"])
	assert.EqualValues(t, 30, d["per_minute"])
	log := items(c.ok("GET", "/api/audit?what=destination", ""))
	assert.Len(t, log, 3)
	for _, missing := range []string{"/api/posts/999/drop", "/api/posts/999/again"} {
		status, _ = c.call("POST", missing, "")
		assert.Equal(t, 404, status)
	}
}

// The operator's pages say how things stand, and no secret.
func TestHealthAndMetrics(t *testing.T) {
	c := start(t)
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/metrics": "dorfbote_posts_waiting{destination=\"square/#tours\"} 0"} {
		status, raw := c.raw("GET", path, "")
		assert.Equal(t, 200, status, path)
		assert.Contains(t, string(raw), want)
	}
	status, _ := c.raw("GET", "/metrics", "", "X-Forwarded-For", "192.0.2.7")
	assert.Equal(t, 401, status, "from elsewhere a token is needed")
}

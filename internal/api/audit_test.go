package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/people"
	"dorfbote/internal/store"
)

// changesNothing are the operations other than GET that only look.
var changesNothing = map[string]bool{
	"prove": true, "rehearse": true, "read-sentence": true, "fill-pattern": true, "read-schedule": true, "preview-on": true, "preview-source": true, "read-requests": true, "ready-on": true, "ask-destination": true,
	"prove-settings": true, "prove-connection": true, "shape-of-example": true, "browse-connection": true, "decide-again": true, "look-at-people-book": true, "try-marks": true, "draft-post": true,
	"draw":    true,                                                 // a picture of what is handed over
	"take-in": true, "take-in-records": true, "call-workflow": true, // they are arrivals
	"sign-in": true, "sign-out": true, // they are in the list of sessions
}

func (c *client) audited() (n int64) {
	require.NoError(c.t, c.st.DB.Raw("SELECT count(*) FROM audit").Scan(&n).Error)
	return n
}

// Every operation that is not known to change nothing leaves an entry in the audit log.
func TestEveryChangeIsInTheAuditLog(t *testing.T) {
	c := start(t)
	c.signIn()
	admin := c.as("mo", "administrator")
	table := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("No,Price\n1,2\n")) }))
	defer table.Close()
	db := c.st.DB
	require.NoError(t, db.Exec("INSERT INTO notices (what, words, go, about) VALUES ('is late', 'x', '', 'y')").Error)
	admin.ok("POST", "/api/connections", `{"id":"shop","kind":"hook","title":"Shop"}`)
	admin.ok("POST", "/in/shop/orders", `{"id":"O-1","amount":7}`)
	admin.ok("POST", "/api/connections", `{"id":"visits","kind":"form","title":"Visits"}`)
	admin.ok("POST", "/api/connections/visits/sources", `{"kind":"answers","title":"Visits","settings":{"title":"Visit","fields":"[{\"name\":\"who\",\"label\":\"Who?\",\"type\":\"text\"}]"}}`)
	post := func(state string) string {
		var id int64
		require.NoError(t, db.Raw("INSERT INTO posts (workflow, arrival, destination, message, body, key, state) SELECT id, 1, 'square/#tours', 'm', '{}', ?, ? FROM workflows LIMIT 1 RETURNING id", fmt.Sprint(time.Now().UnixNano()), state).Scan(&id).Error)
		return fmt.Sprint(id)
	}
	asks := ""
	question := func(key string) string {
		if asks == "" {
			require.NoError(t, db.Create(&store.Destination{Name: "square/#other", Connection: "square", Title: "#other"}).Error)
			text := "dorfbote: 1\nname: Asks\nwatch: {start: {ask: []}}\nask: [{name: v, of: \"square/#tours\", message: m, choices: [up, down]}]\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
			asks = fmt.Sprint(admin.ok("POST", "/api/workflows", sheetBody(text))["id"])
			admin.ok("POST", "/api/workflows/"+asks+"/on", "")
		}
		admin.ok("POST", "/api/workflows/"+asks+"/start", `{}`)
		var id int64
		require.Eventually(t, func() bool {
			db.Raw("SELECT coalesce(max(id), 0) FROM asks WHERE state = 'open' AND title = 'x' AND NOT EXISTS (SELECT 1 FROM audit WHERE what = 'question' AND about = asks.id::text)").Scan(&id)
			return id > 0
		}, 10*time.Second, 10*time.Millisecond, key)
		return fmt.Sprint(id)
	}
	var workflow, started, invitation, team, person, token string
	steps := []struct {
		op, method string
		path, body func() string
		after      func(out map[string]any)
	}{
		{op: "create-workflow", method: "POST", path: say("/api/workflows"), body: say(sheetBody(text)), after: func(o map[string]any) { workflow = fmt.Sprint(o["id"]) }},
		{op: "save-draft", method: "PUT", path: func() string { return "/api/workflows/" + workflow + "/draft" }, body: say(sheetBody(strings.Replace(text, "above: 5", "above: 6", 1)))},
		{op: "make-answers-table", method: "POST", path: say("/api/sources/visits/answers/table"), body: say(`{"channel":"square/#tours"}`)},
		{op: "create-team", method: "POST", path: say("/api/teams"), body: say(`{"name":"T"}`), after: func(o map[string]any) { team = fmt.Sprint(o["id"]) }},
		{op: "change-team", method: "PATCH", path: func() string { return "/api/teams/" + team }, body: say(`{"name":"U"}`)},
		{op: "hand-over", method: "PATCH", path: func() string { return "/api/workflows/" + workflow }, body: func() string { return `{"team":` + team + `}` }},
		{op: "switch-on", method: "POST", path: func() string { return "/api/workflows/" + workflow + "/on" }},
		{op: "switch-off", method: "POST", path: func() string { return "/api/workflows/" + workflow + "/off" }},
		{op: "apply-sheets", method: "POST", path: say("/api/apply"), body: func() string {
			return `{"on":false,"sheets":[{"text":` + quoted(strings.Replace(text, "name: Late", "name: Applied", 1)) + `,"from":"a.yaml"}]}`
		}},
		{op: "make-call-token", method: "POST", path: func() string { return "/api/workflows/" + started + "/call-token" }},
		{op: "start-workflow", method: "POST", path: func() string { return "/api/workflows/" + started + "/start" }, body: say(`{}`)},
		{op: "try-sheet", method: "POST", path: func() string { return "/api/workflows/" + started + "/try" }, body: func() string { return `{"to":"square/#tours","message":"m","arrival":1,"text":` + quoted(text) + `}` }},
		{op: "send-again", method: "POST", path: func() string { return "/api/posts/" + post("refused") + "/again" }},
		{op: "make-anew", method: "POST", path: func() string {
			var id int64
			require.Eventually(t, func() bool {
				db.Raw("UPDATE posts SET state = 'refused' WHERE id = (SELECT max(id) FROM posts WHERE workflow = ? AND NOT trial) AND state IN ('sent', 'waiting') RETURNING id", started).Scan(&id)
				return id > 0
			}, 10*time.Second, 20*time.Millisecond)
			return fmt.Sprintf("/api/posts/%d/anew", id)
		}},
		{op: "end-links", method: "DELETE", path: func() string { return "/api/posts/" + post("sent") + "/links" }},
		{op: "drop-post", method: "POST", path: func() string { return "/api/posts/" + post("waiting") + "/drop" }},
		{op: "hold-post", method: "POST", path: func() string { return "/api/posts/" + post("waiting") + "/hold" }},
		{op: "release-post", method: "POST", path: func() string { return "/api/posts/" + post("held") + "/release" }},
		{op: "act-on-posts", method: "POST", path: say("/api/outbox/many"), body: say(`{"do":"drop","state":"waiting"}`)},
		{op: "pause-destination", method: "POST", path: say("/api/destinations/pause"), body: say(`{"name":"square/#tours"}`)},
		{op: "resume-destination", method: "POST", path: say("/api/destinations/resume"), body: say(`{"name":"square/#tours"}`)},
		{op: "pace-destination", method: "POST", path: say("/api/destinations/rate"), body: say(`{"name":"square/#tours","per_minute":7}`)},
		{op: "go-on", method: "POST", path: func() string {
			require.NoError(t, db.Exec("INSERT INTO verdicts (arrival, workflow, version, verdict, at) VALUES (1, ?, 1, 'told', now()) ON CONFLICT DO NOTHING", workflow).Error)
			require.NoError(t, db.Exec("INSERT INTO steps (workflow, version, arrival, n, name, kind, target, body, key, state) VALUES (?, 1, 1, 0, 's', 'add', 'x/y', '{}', 'k1', 'failed')", workflow).Error)
			return "/api/runs/1/" + workflow + "/go-on"
		}},
		{op: "leave-worth", method: "POST", path: func() string { return "/api/workflows/" + workflow + "/left" }},
		{op: "claim-alert", method: "POST", path: func() string { return "/api/runs/1/" + workflow + "/claim" }},
		{op: "let-go-alert", method: "DELETE", path: func() string { return "/api/runs/1/" + workflow + "/claim" }},
		{op: "hand-over-ask", method: "POST", path: func() string { return "/api/asks/" + question("a") + "/hand-over" }, body: say(`{"from":"square/#tours","to":"square/#other"}`)},
		{op: "answer-ask", method: "POST", path: func() string { return "/api/asks/" + question("b") + "/answer" }, body: say(`{"choice":"up"}`)},
		{op: "withdraw-ask", method: "POST", path: func() string { return "/api/asks/" + question("c") + "/withdraw" }},
		{op: "end-share", method: "DELETE", path: func() string {
			id := post("sent")
			require.NoError(t, db.Exec("INSERT INTO shares (post, n, workflow, arrival, text, title, fields, ends_at) SELECT id, 0, workflow, 1, 'x', 'x', '[]', now() + interval '1 hour' FROM posts WHERE id = ?", id).Error)
			return "/api/posts/" + id + "/shares/0"
		}},
		{op: "delete-workflow", method: "DELETE", path: func() string { return "/api/workflows/" + workflow }},
		{op: "create-connection", method: "POST", path: say("/api/connections"), body: func() string {
			return fmt.Sprintf(`{"id":"prices","kind":"table","title":"P","settings":{"where":"at an address","address":%q}}`, table.URL)
		}},
		{op: "change-connection", method: "PATCH", path: say("/api/connections/prices"), body: say(`{"title":"Prices"}`)},
		{op: "create-source", method: "POST", path: say("/api/connections/prices/sources"), body: say(`{"kind":"rows","key_field":"No","begin":{"how":"now"}}`)},
		{op: "change-source", method: "PATCH", path: say("/api/sources/prices/rows"), body: say(`{"title":"Milk prices"}`)},
		{op: "check-now", method: "POST", path: say("/api/sources/prices/rows/check")},
		{op: "delete-source", method: "DELETE", path: say("/api/sources/prices/rows")},
		{op: "move-uses", method: "POST", path: say("/api/connections/shop/move"), body: func() string {
			require.NoError(t, db.Create(&store.Connection{ID: "shop2", Kind: "hook", Title: "Shop 2", KeyField: "id", CreatedAt: time.Now()}).Error)
			return `{"to":"shop2","apply":true}`
		}},
		{op: "try-connection", method: "POST", path: func() string {
			require.NoError(t, db.Create(&store.Connection{ID: "news", Kind: "push", Title: "News", CreatedAt: time.Now()}).Error)
			time.Sleep(1100 * time.Millisecond) // what there is to post to is asked for once a second
			return "/api/connections/news/trial"
		}, body: say(`{"place":"board"}`)},
		{op: "delete-connection", method: "DELETE", path: say("/api/connections/prices")},
		{op: "invite", method: "POST", path: say("/api/invitations"), body: say(`{"email":"n@x.example","role":"editor"}`), after: func(o map[string]any) { invitation = fmt.Sprint(o["id"]) }},
		{op: "withdraw-invitation", method: "DELETE", path: func() string { return "/api/invitations/" + invitation }},
		{op: "accept-invitation", method: "POST", path: func() string {
			out := admin.ok("POST", "/api/invitations", `{"email":"o@x.example","role":"editor"}`)
			link := fmt.Sprint(out["link"])
			token = link[strings.LastIndex(link, "/")+1:]
			return "/api/welcome/" + token
		}, body: say(`{"name":"Ona","password":"a-long-password"}`), after: func(o map[string]any) { person = fmt.Sprint(o["id"]) }},
		{op: "change-person", method: "PATCH", path: func() string { return "/api/people/" + person }, body: say(`{"role":"viewer"}`)},
		{op: "change-password", method: "POST", path: say("/api/me/password"), body: say(`{"current":"secret-mo","new":"another-long-one"}`)},
		{op: "end-sign-in", method: "POST", path: func() string {
			var id int64
			require.NoError(t, db.Raw("SELECT max(id) FROM sign_ins WHERE person = ?", person).Scan(&id).Error)
			return fmt.Sprintf("/api/sign-ins/%d/end", id)
		}},
		{op: "end-other-sign-ins", method: "POST", path: func() string {
			require.NoError(t, db.Exec("INSERT INTO sign_ins (person) SELECT id FROM people WHERE email LIKE 'mo@%'").Error)
			return "/api/sign-ins/end-others"
		}},
		{op: "put-person", method: "PUT", path: say("/api/people-book/ja"), body: say(`{"name":"Jonas"}`)},
		{op: "remove-person", method: "DELETE", path: say("/api/people-book/JA")},
		{op: "import-people-book", method: "POST", path: say("/api/people-book/import"), body: say(`{"as":"csv","text":"id,name\nle,Lea\n"}`)},
		{op: "choose-people-book", method: "PUT", path: say("/api/people-book/source"), body: say(`{"source":"shop/orders","name":"id"}`)},
		{op: "dismiss-notice", method: "POST", path: say("/api/notices/1/done")},
		{op: "delete-team", method: "DELETE", path: func() string { return "/api/teams/" + team }},
	}
	covered := map[string]bool{}
	for _, s := range steps {
		if s.op == "make-call-token" {
			byCall := "dorfbote: 1\nname: By call\nwatch: {called: {takes: [{name: text, type: text}]}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
			started = fmt.Sprint(admin.ok("POST", "/api/workflows", sheetBody(byCall))["id"])
			admin.ok("POST", "/api/workflows/"+started+"/on", "")
		}
		if s.op == "start-workflow" {
			byHand := "dorfbote: 1\nname: By hand\nwatch: {start: {ask: []}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
			started = fmt.Sprint(admin.ok("POST", "/api/workflows", sheetBody(byHand))["id"])
			admin.ok("POST", "/api/workflows/"+started+"/on", "")
		}
		path, body := s.path(), ""
		if s.body != nil {
			body = s.body()
		}
		before := c.audited()
		status, out := admin.call(s.method, path, body)
		require.Less(t, status, 300, "%s: %v", s.op, out)
		assert.Greater(t, c.audited(), before, "%s leaves no entry", s.op)
		var did string
		require.NoError(t, db.Raw("SELECT did FROM audit ORDER BY id DESC LIMIT 1").Scan(&did).Error)
		assert.Equal(t, s.op, did)
		covered[s.op] = true
		if s.after != nil {
			s.after(out)
		}
		if s.op == "accept-invitation" { // whoever accepts is signed in as themselves
			admin = c.as("mo2", "administrator")
			require.NoError(t, db.Exec("UPDATE people SET email = 'mo@y.example' WHERE name = 'mo'").Error)
			require.NoError(t, db.Exec("UPDATE people SET email = 'mo@x.example', password_hash = ? WHERE name = 'mo2'", auth.HashPassword("secret-mo")).Error)
		}
	}
	raw, err := api.Describe()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	for path, ops := range doc.Paths {
		for method, o := range ops {
			if method == "get" || o.OperationID == "" || changesNothing[o.OperationID] {
				continue
			}
			assert.True(t, covered[o.OperationID], "%s %s (%s) is neither known to change nothing nor shown to leave an entry", method, path, o.OperationID)
		}
	}
}

func say(text string) func() string { return func() string { return text } }

func quoted(s string) string {
	raw, _ := json.Marshal(s)
	return string(raw)
}

// Of a secret, the log shows that it is another, and nothing of it. A change that is refused leaves no entry, and one whose
// entry cannot be written is not made.
func TestSecretsInTheAuditLog(t *testing.T) {
	c := start(t)
	c.signIn()
	admin := c.as("mo", "administrator")
	out := admin.ok("POST", "/api/connections", `{"id":"signed","kind":"hook","title":"Signed","signed":true}`)
	first := fmt.Sprint(out["secret"])
	second := fmt.Sprint(admin.ok("PATCH", "/api/connections/signed", `{"renew":true}`)["secret"])
	require.NotEqual(t, first, second)
	log := admin.ok("GET", "/api/audit?what=connection&about=signed", "")
	items := log["items"].([]any)
	require.Len(t, items, 2, "renewing a secret leaves an entry")
	raw, _ := json.Marshal(items)
	assert.NotContains(t, string(raw), strings.TrimPrefix(second, "whsec_"))
	assert.Contains(t, string(raw), "(another)")

	before := c.audited()
	status, _ := admin.call("PATCH", "/api/connections/nothing", `{"title":"x"}`)
	assert.Equal(t, 404, status)
	assert.Equal(t, before, c.audited())

	require.NoError(t, c.st.DB.Exec("ALTER TABLE audit ADD CONSTRAINT none CHECK (did <> 'create-team')").Error)
	status, _ = admin.call("POST", "/api/teams", `{"name":"Unseen"}`)
	assert.Equal(t, 500, status)
	var teams int64
	require.NoError(t, c.st.DB.Raw("SELECT count(*) FROM teams WHERE name = 'Unseen'").Scan(&teams).Error)
	assert.Zero(t, teams, "what is not in the log has not happened")
}

// The command line's changes of people are in the log, and only roles that there are can be given.
func TestPeopleByTheCommandLine(t *testing.T) {
	c := start(t)
	c.signIn()
	admin := c.as("mo", "administrator")
	require.NoError(t, people.SetPerson(t.Context(), c.st, store.Person{Email: "Cli@x.example", Name: "Cli", Role: "viewer"}, "a-long-password"))
	items := admin.ok("GET", "/api/audit?what=person", "")["items"].([]any)
	newest := items[0].(map[string]any)
	assert.Equal(t, "the command line", newest["name"])
	assert.Equal(t, "cli@x.example", newest["after"].(map[string]any)["email"])
	assert.Error(t, people.SetPerson(t.Context(), c.st, store.Person{Email: "k@x.example", Name: "K", Role: "superking"}, "a-long-password"))
}

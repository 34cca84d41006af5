package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/store"
)

// rightsFile says of every operation who may call it, and of which thing the team must have them in it. It is read by people: whoever adds an
// operation adds its line there.
const rightsFile = "testdata/rights.tsv"

// The file of rights names every operation, as it is registered.
func TestRightsAreWrittenDown(t *testing.T) {
	want, err := os.ReadFile(rightsFile)
	require.NoError(t, err)
	got := strings.Join(api.Rights(), "\n") + "\n"
	if os.Getenv("DORFBOTE_UPDATE") != "" {
		require.NoError(t, os.WriteFile(rightsFile, []byte(got), 0o644))
	}
	assert.Equal(t, string(want), got, "DORFBOTE_UPDATE=1 writes the file anew; read what has changed")
}

// What the file says holds for nobody, a viewer, an editor, an editor of another team and an administrator.
func TestRightsHold(t *testing.T) {
	c := start(t)
	c.signIn()
	admin := c.as("ada", "administrator")
	people := map[string]*client{"viewer": c.as("vic", "viewer"), "editor": c.as("ed", "editor"), "of another team": c.as("otto", "editor"), "administrator": admin}
	db := c.st.DB
	require.NoError(t, db.Exec("INSERT INTO teams (name) VALUES ('Tours'), ('Lab')").Error)
	require.NoError(t, db.Exec("INSERT INTO team_people (team, person) SELECT t.id, p.id FROM teams t, people p WHERE (t.name, p.name) IN (('Tours', 'ed'), ('Lab', 'otto'))").Error)
	admin.ok("POST", "/api/connections", `{"id":"shop","kind":"hook","title":"Shop"}`)
	admin.ok("POST", "/in/shop/orders", `{"id":"O-1","total":7,"state":"late"}`)
	flow := func(name string) string {
		text := strings.Replace(strings.Replace(text, "name: Late", "name: "+name, 1), "keep:", "ask: [{name: v, of: \"square/#tours\", message: m, choices: [up, down]}]\nkeep:", 1)
		id := fmt.Sprint(admin.ok("POST", "/api/workflows", sheetBody(text))["id"])
		require.NoError(t, db.Exec("UPDATE workflows SET team = (SELECT id FROM teams WHERE name = 'Tours') WHERE id = ?", id).Error)
		return id
	}
	n := 0
	posts := func(workflow, state string) string {
		n++
		var id int64
		require.NoError(t, db.Raw("INSERT INTO posts (workflow, arrival, destination, message, body, key, state) VALUES (?, 1, 'square/#tours', 'm', '{}', ?, ?) RETURNING id", workflow, fmt.Sprint("k", n), state).Scan(&id).Error)
		return fmt.Sprint(id)
	}
	question := func(workflow string) string {
		n++
		var id int64
		require.NoError(t, db.Raw(`INSERT INTO asks (workflow, arrival, version, name, body, put_at) VALUES (?, ?, 1, 'v', '{"asked":["square/#tours"]}', now()) RETURNING id`, workflow, n).Scan(&id).Error)
		return fmt.Sprint(id)
	}
	// What each operation that belongs to somebody is called with, on a thing of the team Tours.
	owned := map[string]func(flow string) (path, body string){
		"save-draft":      func(f string) (string, string) { return "/api/workflows/" + f + "/draft", sheetBody(text) },
		"hand-over":       func(f string) (string, string) { return "/api/workflows/" + f, `{"team":null}` },
		"switch-on":       func(f string) (string, string) { return "/api/workflows/" + f + "/on", "" },
		"switch-off":      func(f string) (string, string) { return "/api/workflows/" + f + "/off", "" },
		"delete-workflow": func(f string) (string, string) { return "/api/workflows/" + f, "" },
		"try-sheet": func(f string) (string, string) {
			return "/api/workflows/" + f + "/try", `{"to":"square/#tours","message":"m","text":""}`
		},
		"start-workflow":  func(f string) (string, string) { return "/api/workflows/" + f + "/start", `{}` },
		"make-call-token": func(f string) (string, string) { return "/api/workflows/" + f + "/call-token", "" },
		"leave-worth":     func(f string) (string, string) { return "/api/workflows/" + f + "/left", "" },
		"go-on":           func(f string) (string, string) { return "/api/runs/1/" + f + "/go-on", "" },
		"send-again":      func(f string) (string, string) { return "/api/posts/" + posts(f, "refused") + "/again", "" },
		"make-anew":       func(f string) (string, string) { return "/api/posts/" + posts(f, "refused") + "/anew", "" },
		"drop-post":       func(f string) (string, string) { return "/api/posts/" + posts(f, "held") + "/drop", "" },
		"hold-post":       func(f string) (string, string) { return "/api/posts/" + posts(f, "refused") + "/hold", "" },
		"release-post":    func(f string) (string, string) { return "/api/posts/" + posts(f, "held") + "/release", "" },
		"end-share":       func(f string) (string, string) { return "/api/posts/" + posts(f, "sent") + "/shares/0", "" },
		"end-links":       func(f string) (string, string) { return "/api/posts/" + posts(f, "sent") + "/links", "" },
		"act-on-posts": func(f string) (string, string) {
			return "/api/outbox/many", `{"do":"drop","ids":[` + posts(f, "held") + `]}`
		},
		"pause-destination": func(f string) (string, string) {
			posts(f, "held")
			return "/api/destinations/pause", `{"name":"square/#tours"}`
		},
		"resume-destination": func(f string) (string, string) {
			posts(f, "held")
			return "/api/destinations/resume", `{"name":"square/#tours","only":[]}`
		},
		"pace-destination": func(f string) (string, string) {
			posts(f, "held")
			return "/api/destinations/rate", `{"name":"square/#tours","per_minute":60}`
		},
		"hand-over-ask": func(f string) (string, string) {
			return "/api/asks/" + question(f) + "/hand-over", `{"from":"square/#tours","to":"square/#tours"}`
		},
		"withdraw-ask": func(f string) (string, string) { return "/api/asks/" + question(f) + "/withdraw", "" },
	}
	raw, err := os.ReadFile(rightsFile)
	require.NoError(t, err)
	for i, line := range strings.Split(strings.TrimRight(string(raw), "\n"), "\n")[1:] {
		cell := strings.Split(line, "\t")
		require.Len(t, cell, 5, line)
		op, method, path, need, owner := cell[0], cell[1], cell[2], cell[3], cell[4]
		t.Run(op, func(t *testing.T) {
			fill := strings.NewReplacer("{id}", "1", "{arrival}", "1", "{workflow}", "1", "{post}", "1", "{n}", "0", "{connection}", "shop", "{kind}", "orders", "{token}", "x", "{destination}", "x")
			at := fill.Replace(path)
			if need != "nobody" {
				status, _ := c.stranger().call(method, at, "")
				assert.Equal(t, http.StatusUnauthorized, status, "nobody")
			}
			if need == "editor" || need == "keeper of the people book" || need == "administrator" {
				status, _ := people["viewer"].call(method, at, "")
				assert.Equal(t, http.StatusForbidden, status, "a viewer")
			}
			if need == "administrator" || need == "keeper of the people book" {
				status, _ := people["editor"].call(method, at, "")
				assert.Equal(t, http.StatusForbidden, status, "an editor")
			}
			if owner == "" {
				assert.NotContains(t, owned, op, "it says whose it is in the file")
				return
			}
			require.Contains(t, owned, op, "what it is called with, here")
			for _, who := range []string{"of another team", "editor", "administrator"} {
				require.NoError(t, db.Exec("DELETE FROM posts").Error)
				path, body := owned[op](flow(fmt.Sprintf("F%d %s", i, who)))
				status, out := people[who].call(method, path, body)
				if who == "of another team" {
					assert.Equal(t, http.StatusForbidden, status, "%s: %v", who, out)
					continue
				}
				assert.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, status, "%s: %v", who, out)
			}
		})
	}
	for op := range owned {
		assert.True(t, slices.ContainsFunc(strings.Split(string(raw), "\n"), func(l string) bool { return strings.HasPrefix(l, op+"\t") }), op)
	}
}

// A viewer does not read what went to one person, unless a team of theirs has the workflow; nobody at all reads links by which others act.
func TestWhatViewersDoNotRead(t *testing.T) {
	c := start(t)
	c.signIn()
	db := c.st.DB
	viewer, team := c.as("vic", "viewer"), c.as("tess", "viewer")
	require.NoError(t, db.Exec("INSERT INTO teams (name) VALUES ('Tours')").Error)
	require.NoError(t, db.Exec("INSERT INTO team_people (team, person) SELECT t.id, p.id FROM teams t, people p WHERE p.name = 'tess'").Error)
	require.NoError(t, db.Create(&store.Connection{ID: "mail", Kind: "mail", Title: "Mail", Settings: store.Texts{"smtp": "127.0.0.1:1"}, CreatedAt: time.Now()}).Error)
	require.NoError(t, db.Create(&store.Destination{Name: "mail/m@x.example", Connection: "mail", Title: "m"}).Error)
	flow := c.ok("POST", "/api/workflows", sheetBody(text))["id"]
	require.NoError(t, db.Exec("UPDATE workflows SET team = (SELECT id FROM teams)").Error)
	doc, _ := json.Marshal(map[string]any{"title": "Your salary", "tone": "plain"})
	var id int64
	require.NoError(t, db.Raw("INSERT INTO posts (workflow, arrival, destination, message, body, title, key, state) VALUES (?, 1, 'mail/m@x.example', 'm', ?, 'Your salary', 'k', 'sent') RETURNING id", flow, string(doc)).Scan(&id).Error)
	link := "http://d.example/act/b.7.0.l.1799999999.abcdefghijklmnopqrstuvwx"
	require.NoError(t, db.Exec("INSERT INTO attempts (post, at, took_ms, status, address, sent, answer) VALUES (?, now(), 1, 250, 'SMTP', ?, 'ok')", id, "Your salary: press "+link+" or =\r\n"+link[:40]+"=\r\n"+link[40:]).Error)
	at := fmt.Sprintf("/api/posts/%d", id)
	_, raw := viewer.raw("GET", at, "")
	assert.NotContains(t, string(raw), "salary")
	assert.Contains(t, string(raw), `"private":true`)
	_, raw = viewer.raw("GET", "/api/posts", "")
	assert.NotContains(t, string(raw), "salary")
	status, _ := viewer.raw("GET", at+"/files/0", "")
	assert.Equal(t, http.StatusForbidden, status)
	for name, who := range map[string]*client{"of the team": team, "editor": c, "administrator": c.as("ada", "administrator")} {
		_, raw := who.raw("GET", at, "")
		assert.Contains(t, string(raw), "Your salary", name)
		assert.Contains(t, string(raw), "/act/▒▒▒", name)
		assert.NotContains(t, string(raw), "qrstuvwx", name)
	}
	status, _ = viewer.raw("GET", "/api/people-book.csv", "")
	assert.Equal(t, http.StatusForbidden, status)
}

// withAlert is a house in which an alert was told, and where it is claimed.
func withAlert(t *testing.T) (c *client, claim string) {
	t.Helper()
	c = start(t)
	c.signIn()
	flow := c.ok("POST", "/api/workflows", sheetBody(text))["id"]
	require.NoError(t, c.st.DB.Exec("INSERT INTO verdicts (arrival, workflow, version, verdict, at) VALUES (1, ?, 1, 'told', now())", flow).Error)
	return c, fmt.Sprintf("/api/runs/1/%v/claim", flow)
}

// A viewer ends nobody else's claim, and their own at any time.
func TestEndingAClaim(t *testing.T) {
	c, at := withAlert(t)
	vera, vic := c.as("vera", "viewer"), c.as("vic", "viewer")
	vera.ok("POST", at, "")
	status, out := vic.call("DELETE", at, "")
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, out["detail"], "vera looks after this")
	vera.ok("DELETE", at, "")
	vera.ok("POST", at, "")
	c.ok("DELETE", at, "")
}

// Two who are called the same are told apart by their addresses wherever it is said who did something.
func TestNamesakesAreToldApart(t *testing.T) {
	c, at := withAlert(t)
	claimedBy := func(who *client) (by string) {
		who.ok("POST", at, "")
		require.NoError(t, c.st.DB.Raw("SELECT claimed_by FROM alerts").Scan(&by).Error)
		who.ok("DELETE", at, "")
		return by
	}
	vera, other := c.as("vera", "editor"), c.as("veronica", "viewer")
	assert.Equal(t, "vera", claimedBy(vera))
	require.NoError(t, c.st.DB.Exec("UPDATE people SET name = 'VERA' WHERE name = 'veronica'").Error)
	one, two := claimedBy(vera), claimedBy(other)
	assert.Regexp(t, `^vera \(.+@.+\)$`, one)
	assert.Regexp(t, `^VERA \(.+@.+\)$`, two)
	require.NoError(t, c.st.DB.Exec("UPDATE people SET gone_at = now() WHERE name = 'VERA'").Error)
	assert.Equal(t, "vera", claimedBy(vera), "who is gone is mixed up with nobody")
	c.ok("PUT", "/api/people-book/x", `{"name":"Vera","addresses":{"square":"#tours"}}`)
	assert.Regexp(t, `^vera \(`, claimedBy(vera), "somebody of the people book is called so")
}

// Whoever is let keep the people book changes it, and whoever is in it and can sign in hears of what others changed.
func TestKeepingThePeopleBook(t *testing.T) {
	c := start(t)
	c.signIn()
	admin, keeper, vera := c.as("ada", "administrator"), c.as("kim", "editor"), c.as("vera", "viewer")
	var id int64
	var mail string
	require.NoError(t, c.st.DB.Raw("SELECT id FROM people WHERE name = 'kim'").Scan(&id).Error)
	require.NoError(t, c.st.DB.Raw("SELECT email FROM people WHERE name = 'vera'").Scan(&mail).Error)
	require.NoError(t, c.st.DB.Create(&store.Connection{ID: "mail", Kind: "mail", Title: "Mail", Settings: store.Texts{"smtp": "127.0.0.1:1", "from": "d@x.example"}, CreatedAt: time.Now()}).Error)
	put := func(who *client, name string) int {
		status, _ := who.call("PUT", "/api/people-book/v", fmt.Sprintf(`{"name":%q,"addresses":{"mail":%q}}`, name, mail))
		return status
	}
	told := func(who *client) (n int) {
		for what := range who.needs() {
			if strings.Contains(what, "people book") {
				n++
			}
		}
		return n
	}
	assert.Equal(t, http.StatusForbidden, put(keeper, "Vera"))
	admin.ok("PATCH", fmt.Sprintf("/api/people/%d", id), `{"keeps_book":true}`)
	assert.Equal(t, http.StatusOK, put(keeper, "Vera"))
	assert.Equal(t, []int{1, 0}, []int{told(vera), told(keeper)})
	require.NoError(t, c.st.DB.Exec("UPDATE notices SET done_at = now()").Error)
	assert.Equal(t, http.StatusOK, put(keeper, "Vera"))
	assert.Zero(t, told(vera), "nothing was changed")
	assert.Equal(t, http.StatusOK, put(keeper, "Vera Kolb"))
	assert.Equal(t, 1, told(vera))
	require.NoError(t, c.st.DB.Exec("UPDATE notices SET done_at = now()").Error)
	keeper.ok("POST", "/api/people-book/import", `{"as":"csv","text":"id,name\nw,Walter\n","whole":true}`)
	assert.Equal(t, 1, told(vera), "the entry was taken out")
	var after string
	require.NoError(t, c.st.DB.Raw("SELECT before::text || after::text FROM audit ORDER BY id DESC LIMIT 1").Scan(&after).Error)
	assert.Contains(t, after, "Vera Kolb")
	assert.Contains(t, after, "Walter")
	admin.ok("PATCH", fmt.Sprintf("/api/people/%d", id), `{"keeps_book":false}`)
	assert.Equal(t, http.StatusForbidden, put(keeper, "Vera"))
}

// Package e2e tests the whole of Dorfbote through its real interface: a browser, the server, the
// workers, the practice services and PostgreSQL.
package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/browser"
	"dorfbote/internal/core/value"
	"dorfbote/internal/demo"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/practice"
	"dorfbote/internal/testdb"
	"dorfbote/web"
)

// house is a Dorfbote on ports of its own, in which nothing is yet.
type house struct {
	t       *testing.T
	address string
	engine  *engine.Engine
	ctx     context.Context // ends with the test
	server  *httptest.Server
	dist    fs.FS
}

func newHouse(t *testing.T, ws value.Workspace) *house {
	t.Helper()
	dist, err := fs.Sub(web.Dist, "dist")
	require.NoError(t, err)
	if _, err := fs.Stat(dist, "index.html"); err != nil {
		t.Skip("the front end is not built; 'make build' builds it")
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	e, err := engine.New(testdb.New(t), ws, log)
	require.NoError(t, err)
	e.Env = testdb.Loopback(t, e.Workspace)
	ctx, cancel := context.WithCancel(context.Background())
	server := httptest.NewUnstartedServer(nil)
	t.Cleanup(server.Close) // waits for streams, which end with ctx
	t.Cleanup(cancel)
	return &house{t: t, address: "http://" + server.Listener.Addr().String(), engine: e, ctx: ctx, server: server, dist: dist}
}

// open has it serve and work, until the test ends.
func (h *house) open(o api.Options) {
	h.t.Helper()
	e := h.engine
	o.Engine, o.Intake, o.Hub, o.Log, o.Web, o.PublicURL = e, intake.New(h.ctx, e.Writer), notify.NewHub(h.ctx, e.Store.Pool, e.Log), e.Log, h.dist, h.address
	s, err := api.New(o)
	require.NoError(h.t, err)
	h.server.Config.Handler = s.Handler()
	h.server.Start()
	require.NoError(h.t, e.Start(h.ctx))
	h.t.Cleanup(func() {
		h.server.CloseClientConnections()
		e.Stop()
	})
}

// start brings up everything the demo has, on ports of its own.
func start(t *testing.T) (address string) {
	t.Helper()
	zone, err := time.LoadLocation(demo.Zone)
	require.NoError(t, err)
	h := newHouse(t, value.Workspace{Zone: zone, Locale: "en"})
	folders.Store(t.Name(), h.engine.Env.Folder)
	stand, err := practice.New(h.ctx, h.engine.Store.DB, practice.DefaultOptions())
	require.NoError(t, err)
	apps := httptest.NewServer(stand.Handler())
	t.Cleanup(func() {
		apps.CloseClientConnections()
		apps.Close()
	})
	moment, err := demo.Moment(os.Getenv("DORFBOTE_MOMENT"))
	require.NoError(t, err)
	require.NoError(t, demo.Fill(h.ctx, h.engine, stand, demo.Addresses{Server: h.address, Practice: apps.URL, Mail: h.letters(stand)}, moment, t.Logf))
	h.open(api.Options{Practice: apps.URL})
	return h.address
}

// letters has the stand-in mailbox take mail, and gives its address.
func (h *house) letters(stand *practice.Server) string {
	h.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(h.t, err)
	go func() { _ = stand.ServeMail(h.ctx, l) }()
	return l.Addr().String()
}

// folders are those that each test's server may read.
var folders sync.Map

func folderOf(t *testing.T) string {
	t.Helper()
	f, ok := folders.Load(t.Name())
	require.True(t, ok)
	return f.(string)
}

func open(t *testing.T, address string) *browser.Page {
	t.Helper()
	p, err := browser.Open(context.Background(), address)
	if errors.Is(err, browser.ErrMissing) {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(p.Close)
	return p
}

// person presses and fills in as a person does, and counts it.
type person struct {
	t *testing.T
	*browser.Page
	did int
}

func (p *person) press(selector, text string) {
	p.t.Helper()
	p.did++
	require.NoError(p.t, p.ClickText(selector, text))
}

func (p *person) fill(selector, text string) {
	p.t.Helper()
	p.did++
	require.NoError(p.t, p.Fill(selector, text))
}

func (p *person) sees(selector, text string) {
	p.t.Helper()
	require.NoError(p.t, p.UntilText(selector, text))
}

// enter starts everything and signs in.
func enter(t *testing.T) (p *browser.Page, address string) {
	t.Helper()
	address = start(t)
	p = open(t, address)
	require.NoError(t, p.SignIn(demo.People[0].Email, demo.Password))
	return p, address
}

// records asks a practice app for records, to find one that fits the test.
func records(t *testing.T, p *browser.Page, fits func(map[string]any) bool) string {
	t.Helper()
	raw, err := browser.Eval[string](p, `fetch('/api/practice/apps/tours/collections?limit=400').then(r => r.text())`)
	require.NoError(t, err)
	var list struct{ Items []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(raw), &list))
	for _, r := range list.Items {
		if fits(r) {
			return r["id"].(string)
		}
	}
	require.Fail(t, "no record fits")
	return ""
}

// The whole first job: a collection becomes late, and the alert stands in the square; with a higher
// threshold it does not, and Arrivals says why.
func TestLateCollectionReachesTheSquare(t *testing.T) {
	p, _ := enter(t)

	// Start from a workflow that is off.
	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("a", "Late collections"))
	require.NoError(t, p.UntilText(".sheetstate", "version 1 is on"))
	require.NoError(t, p.ClickText("button", "Switch off"))
	require.NoError(t, p.UntilText(".sheetstate", "off (was version 1)"))

	// The proof says what each line makes of the chosen arrival.
	require.NoError(t, p.UntilText(`section[aria-label="Watch"] .proof`, "late"))
	require.NoError(t, p.UntilText(`section[aria-label="Keep"] .proof`, "yes"))
	require.NoError(t, p.UntilText(`[data-testid="preview"] .post-title`, "is waiting"))
	require.NoError(t, p.UntilText(`[data-testid="verdict"]`, "told"))

	require.NoError(t, p.ClickText("button", "Switch on"))
	require.NoError(t, p.UntilText(".ant-modal", "Nothing is sent for what has come already"))
	require.NoError(t, p.ClickText(".ant-modal button", "Switch on"))
	require.NoError(t, p.UntilText(".sheetstate", "version 1 is on"))

	// Change a record in Tours and see the post in the square.
	milk := func(least, most float64) func(map[string]any) bool {
		return func(r map[string]any) bool {
			l, _ := r["litres"].(float64)
			return r["status"] != "late" && l > least && l < most
		}
	}
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.Until(`document.querySelector('table.records tbody tr')`))
	first := records(t, p, milk(600, 1500))
	makeLate(t, p, first)
	require.NoError(t, p.UntilText(".squarepost .post-title", first+":"))

	// Much milk goes to the board instead.
	much := records(t, p, milk(2000, 1e9))
	makeLate(t, p, much)
	require.NoError(t, p.ClickText(".channel", "#board private"))
	require.NoError(t, p.UntilText(".squarepost .post-title", much+":"))

	// Raise the threshold.
	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("a", "Late collections"))
	require.NoError(t, p.Fill(`input[aria-label="Value of condition 1 of Keep"]`, "5000"))
	require.NoError(t, p.UntilText(`[data-testid="verdict"]`, "dropped"))
	require.NoError(t, p.ClickText("button", "Switch on as version 2"))
	require.NoError(t, p.ClickText(".ant-modal button", "Switch on"))
	require.NoError(t, p.UntilText(".sheetstate", "version 2 is on"))

	// Now nothing is told, and Arrivals says why.
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.Until(`document.querySelector('table.records tbody tr')`))
	second := records(t, p, milk(600, 1500))
	makeLate(t, p, second)
	require.NoError(t, p.Go("/arrivals?source=tours/collections&q="+second))
	require.NoError(t, p.UntilText("table.arrivals", "litres is above 5000"))
	require.NoError(t, p.Click("table.arrivals tbody tr:first-child a"))
	require.NoError(t, p.UntilText(".is-decider", "litres is above 5000"))
	require.NoError(t, p.UntilText(".is-decider", "this decided"))
	// Other workflows may tell of it; this one does not.
	told, err := browser.Eval[int](p, `fetch('/api/posts?arrival=' + location.pathname.split('/').pop()).then(r => r.json()).then(b => b.items.filter(i => i.workflow === 'Late collections').length)`)
	require.NoError(t, err)
	assert.Zero(t, told, "nothing was told about the second")

	assert.Empty(t, p.Troubles())
}

func makeLate(t *testing.T, p *browser.Page, key string) {
	t.Helper()
	require.NoError(t, p.Fill(`input[aria-label="Search records"]`, key))
	require.NoError(t, p.Keys("\r"))
	require.NoError(t, p.Until(fmt.Sprintf(`document.querySelectorAll('table.records tbody tr').length === 1 && document.querySelector('tr[data-key=%q]')`, key)))
	require.NoError(t, p.Choose("Status of "+key, "late"))
	// The page may be left only when the app has answered: leaving sooner takes the change back.
	saved, err := browser.Eval[bool](p, fmt.Sprintf(`(async () => {
		for (let i = 0; i < 200; i++) {
			const r = await (await fetch('/api/practice/apps/tours/collections?q=' + %[1]q)).json()
			if (r.items.some(e => e.id === %[1]q && e.status === 'late')) return true
			await new Promise(go => setTimeout(go, 50))
		}
		return false
	})()`, key))
	require.NoError(t, err)
	require.True(t, saved, "the app has the record as late")
}

// What keeps a post from its channel is said in the other side's words, and mended there.
func TestRefusedPostWaitsForAPerson(t *testing.T) {
	p, _ := enter(t)
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".channel", "#board private"))
	require.NoError(t, p.ClickText("button", "Put it out"))
	require.NoError(t, p.ClickText("button", "Let it in")) // the button has turned
	require.NoError(t, p.ClickText("button", "Put it out"))
	require.NoError(t, p.UntilText(".square", "Dorfbote is not in"))
	key := records(t, p, func(r map[string]any) bool {
		l, _ := r["litres"].(float64)
		return l >= 2000 && r["status"] != "late"
	})
	makeLate(t, p, key)

	require.NoError(t, p.Go("/today"))
	require.NoError(t, p.UntilText("main", "square/#board is paused"))
	require.NoError(t, p.Go("/outbox"))
	require.NoError(t, p.UntilText(".paused", "a member must let it in first"))
	require.NoError(t, p.UntilText("table", "refused"))

	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".channel", "#board private"))
	require.NoError(t, p.ClickText("button", "Let it in"))
	require.NoError(t, p.Until(`[...document.querySelectorAll('button')].some(b => b.innerText === 'Put it out')`))
	require.NoError(t, p.Go("/outbox"))
	require.NoError(t, p.ClickText("button", "Send what waited"))
	require.NoError(t, p.Until(`!document.querySelector('.paused')`))
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".channel", "#board private"))
	require.NoError(t, p.UntilText(".squarepost .post-title", key+":"))
}

// No screen has anything that axe finds.
func TestAccessibility(t *testing.T) {
	address := start(t)
	p := open(t, address)
	check := axeOn(t, p)
	require.NoError(t, p.Until(`document.querySelector('#email')`))
	check("sign-in")
	require.NoError(t, p.SignIn(demo.People[0].Email, demo.Password))
	for place, there := range map[string]string{
		"/today": "table", "/workflows": "table tbody tr", "/workflows/5": ".trail svg g", "/arrivals": "table tbody tr", "/arrivals/20000": ".why",
		"/outbox": "table tbody tr", "/connections": "table tbody tr", "/practice": ".squarepost",
		"/connections/new": "table tbody tr", "/connections/tours": ".bandbody", "/connections/prices": ".bandbody .ledger", "/connections/gate": ".bandbody", "/sources/tours/collections": ".fieldtable tbody tr", "/sources/gate/answers": ".designer",
		"/people": ".ledger tbody tr", "/you": ".ledger tbody tr",
		"/workflows/new": ".pattern", "/workflows/8/rehearsal": ".rehearsal .ant-table-row",
		"/workflows/1": ".questions", "/workflows/9": ".readback", "/workflows/8": ".sheetband", "/workflows/10": ".sheetband",
	} {
		require.NoError(t, p.Go(place))
		require.NoError(t, p.Until(fmt.Sprintf("document.querySelector(%q)", there)))
		check(place)
	}
	run, err := browser.Eval[string](p, `fetch('/api/arrivals?verdict=told&workflow=13&limit=1').then(r => r.json()).then(b => '/runs/' + b.items[0].seq + '/13')`)
	require.NoError(t, err)
	require.NoError(t, p.Go(run))
	require.NoError(t, p.Until("document.querySelector('.times') && document.querySelector('.run .sheetband')"))
	check("a run")
	require.NoError(t, p.Go("/outbox"))
	require.NoError(t, p.Click(".outbox .rowbutton"))
	require.NoError(t, p.Until("document.querySelector('.opened-post')"))
	check("an opened post")
	require.NoError(t, p.Go("/connections/new"))
	require.NoError(t, p.ClickText(".kinds button", "Webhook"))
	require.NoError(t, p.Fill("#connect-title", "Desk"))
	require.NoError(t, choose(p, "#set-shape", "my own"))
	require.NoError(t, p.Fill(`[aria-label="An example of the body"]`, `{"subject":"x","rows":[{"name":"a","value":"b"}]}`))
	require.NoError(t, p.Until(`document.querySelector('[aria-label="What subject stands for"]')`))
	check("a webhook made of an example")
}

// axeOn gives a check that axe finds nothing on a page as it stands.
func axeOn(t *testing.T, p *browser.Page) func(place string) {
	t.Helper()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Skip("axe-core is not installed; 'make build' installs it")
	}
	return func(place string) {
		t.Helper()
		_, err := browser.Eval[bool](p, string(axe)+";true")
		require.NoError(t, err)
		found, err := browser.Eval[string](p, `axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.map(v => v.id + ': ' + v.help + ' ' + v.nodes.map(n => n.html.slice(0, 160)).slice(0, 3).join(' | ')).join('\n'))`)
		require.NoError(t, err)
		assert.Empty(t, found, place)
	}
}

// A viewer looks and changes nothing, by screen or by call; nobody else gets in.
func TestWhoMayWhat(t *testing.T) {
	address := start(t)
	for _, path := range []string{"/api/workflows", "/api/arrivals", "/api/posts", "/api/practice/apps", "/api/events", "/api/today"} {
		res, err := http.Get(address + path)
		require.NoError(t, err)
		_ = res.Body.Close()
		assert.Equal(t, http.StatusUnauthorized, res.StatusCode, path)
	}
	p := open(t, address)
	require.NoError(t, p.SignIn(demo.People[2].Email, demo.Password))
	for _, call := range []string{
		`fetch('/api/workflows/1/off', {method: 'POST'})`,
		`fetch('/api/workflows/1', {method: 'DELETE'})`,
		`fetch('/api/practice/apps/tours/collections/COL-2001', {method: 'PATCH', body: '{"status":"late"}'})`,
	} {
		status, err := browser.Eval[int](p, call+".then(r => r.status)")
		require.NoError(t, err)
		assert.Equal(t, http.StatusForbidden, status, call)
	}
	require.NoError(t, p.Go("/workflows/1"))
	require.NoError(t, p.UntilText(".sheetstate", "is on"))
	buttons, err := browser.Eval[string](p, `[...document.querySelectorAll('button')].map(b => b.innerText).join(' ')`)
	require.NoError(t, err)
	assert.NotContains(t, buttons, "Switch off")
}

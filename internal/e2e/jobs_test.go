package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// switchOn presses Switch on, and again where it is asked.
func switchOn(t *testing.T, p *browser.Page) {
	t.Helper()
	require.NoError(t, p.ClickText("button", "Switch on"))
	require.NoError(t, p.ClickText(".ant-modal button", "Switch on"))
	require.NoError(t, p.UntilText(".sheetstate", "is on"))
}

// A foreign system's event wraps its record: what could not be read shows where the record lies, and with one press it is
// read so; its nested fields are there to pick, and the run can be read.
func TestABreakdownInsideAnEvent(t *testing.T) {
	p, address := enter(t)
	report := func(id string) int {
		return send(t, address+"/in/breakdowns/reports", `{"event":"breakdown.reported","incident":{"id":"`+id+`","what":"Cooling fails","where":{"valley":"Upper","road":"Alpweg"}}}`)
	}
	require.NoError(t, p.Go("/connections/new"))
	require.NoError(t, p.ClickText(".kinds button", "Hook"))
	require.NoError(t, p.Fill("#connect-title", "Breakdowns"))
	require.NoError(t, p.ClickText("button", "Connect"))
	require.NoError(t, p.UntilText(".connection", "/in/breakdowns/KIND"))
	assert.Equal(t, 400, report("B-1"))
	require.NoError(t, p.Go("/connections/breakdowns"))
	require.NoError(t, p.UntilText(".hookreading", "could not be read"))
	require.NoError(t, p.UntilText(".hookreading", `"what":"Cooling fails"`))
	require.NoError(t, p.ClickText("button", "Read it so"))
	require.NoError(t, p.UntilText(".ant-message", "From now on it is read so"))
	require.NoError(t, p.UntilText(".connection", "taken in once its reading was mended"))
	assert.Equal(t, 202, report("B-2"))

	require.NoError(t, p.Go("/sources/breakdowns/reports"))
	require.NoError(t, p.ClickText("button", "New workflow on these"))
	require.NoError(t, p.UntilText("div.chosen", "B-2"))
	require.NoError(t, p.Choose("Insert a field", "What"))
	require.NoError(t, p.Choose("Add a fact from a field", "Where › Road"))
	require.NoError(t, p.UntilText(`[data-testid="preview"]`, "B-2 Cooling fails"))
	require.NoError(t, p.UntilText(`[data-testid="preview"]`, "Alpweg"))
	// What is half filled is said at its place, and again where it is switched on.
	require.NoError(t, p.ClickText("button", "+ row"))
	require.NoError(t, p.UntilText(`section[aria-label="Route"]`, "Not finished: "))
	require.NoError(t, p.ClickText("button", "Switch on"))
	require.NoError(t, p.UntilText(".ant-modal", "It cannot be switched on yet"))
	require.NoError(t, p.ClickText(".ant-modal button", "Cancel"))
	require.NoError(t, p.Click(`[aria-label="Remove Row 1"]`))
	require.NoError(t, p.Until(`!document.querySelector('section[aria-label="Route"]').innerText.includes('Not finished')`))
	require.NoError(t, p.Until(`![...document.querySelectorAll('.ant-modal')].some(e => e.offsetParent)`))
	switchOn(t, p)
	assert.Equal(t, 202, report("B-3"))

	require.NoError(t, p.Go("/arrivals?source=breakdowns/reports"))
	require.NoError(t, p.UntilText("table.arrivals", "told"))
	require.NoError(t, p.ClickText("table.arrivals a", "New in Reports"))
	require.NoError(t, p.UntilText("h1", "on B-3"))
	require.NoError(t, p.UntilText(".run", "B-3 Cooling fails"))
	require.NoError(t, p.Click(".asitcame summary"))
	require.NoError(t, p.UntilText(".asitcame", `"dorfbote.record.created"`))
	assert.Empty(t, p.Troubles())
}

// New entries of a list behind a JSON API: what there is to read is taken, its key guessed, nested fields and links are
// there to pick.
func TestAnIssueListBehindAnAPI(t *testing.T) {
	var mu sync.Mutex
	var issues []map[string]any
	add := func(number int, title string) {
		mu.Lock()
		defer mu.Unlock()
		issues = append(issues, map[string]any{"number": number, "title": title, "user": map[string]any{"login": "ada"}, "html_url": "https://issues.example/1"})
	}
	add(41, "Tap drips")
	add(42, "Light is out")
	list := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_ = json.NewEncoder(w).Encode(issues)
	}))
	defer list.Close()
	p, _ := enter(t)
	require.NoError(t, p.Go("/connections/new"))
	require.NoError(t, p.ClickText(".kinds button", "JSON API"))
	require.NoError(t, p.Fill("#connect-title", "Issue list"))
	require.NoError(t, p.Fill("#set-address", list.URL+"/issues"))
	require.NoError(t, p.ClickText("button", "Connect"))
	require.NoError(t, p.UntilText(".addsource", "2 records looked at"))
	require.NoError(t, p.UntilText(".addsource", "user.login"))
	require.NoError(t, p.Until(`document.querySelector('#add-key').value === 'number'`))
	require.NoError(t, p.ClickText("button", "Begin to read it"))
	require.NoError(t, p.UntilText(".fieldtable", "link"))
	require.NoError(t, p.ClickText("button", "New workflow on these"))
	require.NoError(t, p.UntilText("div.chosen", "created"))
	require.NoError(t, p.Choose("Add a fact from a field", "Title"))
	require.NoError(t, p.Choose("Add a fact from a field", "User › Login"))
	require.NoError(t, p.UntilText(`[data-testid="preview"]`, "ada"))
	switchOn(t, p)
	add(43, "Bridge is icy")
	// It is asked by itself within half a minute; here it is asked at once.
	require.Eventually(t, func() bool {
		status, err := browser.Eval[int](p, `fetch('/api/sources/issue-list/issues/check', {method: 'POST'}).then(r => r.status)`)
		return err == nil && status == 200
	}, 10*time.Second, 100*time.Millisecond)
	require.NoError(t, p.Go("/arrivals?source=issue-list/issues"))
	require.NoError(t, p.UntilText("table.arrivals", "43"))
	require.NoError(t, p.UntilText("table.arrivals", "told"))
	assert.Empty(t, p.Troubles())
}

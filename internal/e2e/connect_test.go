package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

func send(t *testing.T, address, body string) int {
	t.Helper()
	res, err := http.Post(address, "application/json", strings.NewReader(body))
	require.NoError(t, err)
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.StatusCode
}

// A hook and a table are connected, proved and looked at; what is learnt of their fields is corrected; and a sheet is
// proved on a record that has just come.
func TestConnectingAHookAndATable(t *testing.T) {
	p, address := enter(t)

	// The hook: its address, a first event, one that is refused, and why.
	require.NoError(t, p.Go("/connections"))
	require.NoError(t, p.ClickText("button", "Connect something"))
	require.NoError(t, p.ClickText(".kinds button", "Hook"))
	require.NoError(t, p.Fill("#connect-title", "Till"))
	require.NoError(t, p.ClickText("button", "Connect"))
	require.NoError(t, p.UntilText(".connection", "/in/till/KIND"))
	require.NoError(t, p.UntilText(".connection", "curl -H"))
	assert.Equal(t, 202, send(t, address+"/in/till/receipts", `{"id":"R-1","sum":"12.50","paid":"2026-11-20T08:00:00Z","shop":"Mill","custom":[{"name":"Cash desk","value":3}]}`))
	require.NoError(t, p.UntilText(".requests", "202")) // by itself
	assert.Equal(t, 400, send(t, address+"/in/till/receipts", `{"sum":1}`))
	require.NoError(t, p.UntilText(".requests", "400"))
	require.NoError(t, p.ClickText("button", "Prove it"))
	require.NoError(t, p.UntilText(".steps", "has no key"))
	require.NoError(t, p.UntilText(".requests", "400"))
	assert.Equal(t, 202, send(t, address+"/in/till/receipts", `{"id":"R-2","sum":"7.10","paid":"2026-11-20T09:00:00Z","shop":"Upper"}`))
	require.NoError(t, p.ClickText("button", "Prove it"))
	require.NoError(t, p.UntilText(".steps", "taken in"))

	// Its fields, by name and with values; one that was learnt wrongly is corrected.
	require.NoError(t, p.Go("/sources/till/receipts"))
	require.NoError(t, p.UntilText(".fieldtable", "12.50"))
	require.NoError(t, p.Choose("Type of sum", "number"))
	require.NoError(t, p.UntilText(".fieldtable", "corrected; take back"))
	require.NoError(t, p.Fill(`input[aria-label="Search the records"]`, "Upper"))
	require.NoError(t, p.UntilText(".foundfield", "shop"))
	require.NoError(t, p.Click(".recordhead .plainbutton"))
	require.NoError(t, p.UntilText(".recordview", "7.1"))

	// The table, picked from what lies in the folder.
	folder := folderOf(t)
	file := filepath.Join(folder, "tanks.csv")
	old := time.Now().Add(-time.Minute)
	require.NoError(t, os.WriteFile(file, []byte("Tank;Litres;Cleaned\r\nT1;1.240,5;20.11.2026\r\nT2;900;19.11.2026\r\n"), 0o644))
	require.NoError(t, os.Chtimes(file, old, old))
	require.NoError(t, p.Go("/connections/new"))
	require.NoError(t, p.ClickText(".kinds button", "Table"))
	require.NoError(t, p.Fill("#connect-title", "Tanks"))
	require.NoError(t, choose(p, "#set-where", "in a folder"))
	require.NoError(t, p.ClickText("button", "Prove it"))
	require.NoError(t, p.UntilText(".steps", "tables"))
	require.NoError(t, p.ClickText("button", "Connect"))
	require.NoError(t, choose(p, "#add-choice", "tanks.csv"))
	require.NoError(t, p.ClickText("button", "Look at its records"))
	require.NoError(t, p.UntilText(".addsource", "1240.5"))
	require.NoError(t, p.UntilText(".addsource", "20 Nov 2026"))
	require.NoError(t, p.UntilText(".beginwith", "This makes no arrivals at once"))
	require.NoError(t, p.ClickText(".beginwith label", "Everything that is there"))
	require.NoError(t, p.UntilText(".beginwith", "This makes 2 arrivals at once"))
	require.NoError(t, p.ClickText("button", "Begin to read it"))
	require.NoError(t, p.UntilText("h1", "tanks.csv"))
	require.NoError(t, p.UntilText(".recordlist", "T2"))
	require.NoError(t, p.Go("/arrivals?source=tanks/tanks"))
	require.NoError(t, p.Until("document.querySelectorAll('table.arrivals tbody tr').length === 2"))

	// A sheet on the hook's source, proved on a record that comes while one waits.
	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("button", "New workflow"))
	require.NoError(t, p.Choose("Source", "till/receipts"))
	require.NoError(t, p.UntilText("div.chosen", "R-2"))
	require.NoError(t, p.ClickText("div.chosen button", "Records"))
	require.NoError(t, p.ClickText("button", "Wait for the next one"))
	require.NoError(t, p.UntilText(".ant-drawer", "Waiting for the next one"))
	assert.Equal(t, 202, send(t, address+"/in/till/receipts", `{"id":"R-3","sum":"99","shop":"Upper"}`))
	require.NoError(t, p.UntilText("div.chosen", "R-3"))
	require.NoError(t, p.UntilText(".sheetstate", "draft saved"))

	// What a connection is needed for is shown, and moved to another of its kind.
	require.NoError(t, p.Go("/connections/till"))
	require.NoError(t, p.UntilText(".connection", "till/receipts"))
	require.NoError(t, p.Choose("The connection to move to", "Lab (lab)"))
	require.NoError(t, p.ClickText("button", "Show what would change"))
	require.NoError(t, p.UntilText(".moveplan", "lab/receipts"))
	require.NoError(t, p.UntilText(".moveplan", "Not there yet: lab/receipts"))
	assert.Empty(t, p.Troubles())

	// From now on only signed events; the call that the page offers is one.
	require.NoError(t, p.Go("/connections/till"))
	require.NoError(t, p.ClickText("button", "Take in only signed events"))
	require.NoError(t, p.ClickText(".ant-modal button", "Make the secret"))
	require.NoError(t, p.UntilText(".trycall", "printf %s 'whsec_"))
	signed, err := browser.Eval[string](p, "document.querySelector('.trycall .mono').textContent")
	require.NoError(t, err)
	said, err := exec.Command("bash", "-c", signed).CombinedOutput()
	require.NoError(t, err, string(said))
	require.NoError(t, p.ClickText("button", "Prove it"))
	require.NoError(t, p.UntilText(".requests", "/in/till/orders"))
	answer, err := browser.Eval[string](p, "document.querySelector('.requests tbody tr').textContent")
	require.NoError(t, err)
	assert.Contains(t, answer, "✓ 202", "the call that the page offers is taken in")
	assert.Equal(t, 401, send(t, address+"/in/till/receipts", `{"id":"R-3"}`), "unsigned ones are not any more")
}

func choose(p *browser.Page, id, option string) error {
	if err := p.Click(".ant-select:has(" + id + ")"); err != nil {
		return err
	}
	js := fmt.Sprintf("[...document.querySelectorAll('.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option')].find(e => e.innerText.trim().startsWith(%q))", option)
	if err := p.Until(js); err != nil {
		return err
	}
	_, err := browser.Eval[bool](p, js+".click() ?? true")
	return err
}

// putAway has what a select offers go away, so that it lies over nothing that is pressed next.
func putAway(p *browser.Page) error {
	if err := p.Click(".ant-modal-title"); err != nil {
		return err
	}
	return p.Until(`![...document.querySelectorAll('.ant-select-dropdown')].some(d => d.offsetParent && !d.classList.contains('ant-select-dropdown-hidden'))`)
}

// started holds once a workflow has been started by hand: the dialog closes when the server has answered. What the page says of it
// goes by itself, and may have gone on a slow machine.
const started = `![...document.querySelectorAll('.ant-modal button')].some(b => b.innerText.trim() === 'Yes, start it' && b.offsetParent)`

// A schedule is built by choosing and read back; a workflow is started by hand, with its questions; a hosted form is
// filled in and mended without script.
func TestSchedulesStartsAndForms(t *testing.T) {
	p, address := enter(t)

	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("button", "New workflow"))
	require.NoError(t, p.Choose("What starts it", "the calendar says so"))
	require.NoError(t, p.UntilText(".readback", "every weekday at 07:00"))
	require.NoError(t, p.Choose("How it recurs", "on the first, second … last"))
	require.NoError(t, p.UntilText(".readback", "every month on the last workday at 07:00"))
	require.NoError(t, p.Choose("Which day", "Tue"))
	require.NoError(t, p.UntilText(".readback", "every month on the last Tuesday at 07:00"))
	require.NoError(t, p.Choose("How it recurs", "on days of the week"))
	require.NoError(t, p.Fill(`input[aria-label="Every so many weeks"]`, "2"))
	require.NoError(t, p.UntilText(".readback", "every second week on weekdays"))
	moments, err := browser.Eval[int](p, "document.querySelectorAll('.readback li').length")
	require.NoError(t, err)
	assert.Equal(t, 10, moments)
	require.NoError(t, p.UntilText(`[data-testid="preview"]`, "New workflow"))

	// What it tells is gathered: a line for each of some records, and nothing at all when there is none.
	require.NoError(t, p.ClickText("button", "+ gather"))
	require.NoError(t, p.ClickText(".ant-dropdown-menu-item", "A list of records"))
	require.NoError(t, p.Choose("Source of list", "workshop/jobs"))
	require.NoError(t, p.UntilText(`section[aria-label="Gather"]`, "10 records"))
	require.NoError(t, p.ClickText("button", "+ a line for each of list"))
	require.NoError(t, p.Fill("#msg-title", "${len(list)} jobs"))
	require.NoError(t, p.Fill("#msg-body", "In the workshop:"))
	require.NoError(t, p.Fill("#msg-each", "${it.id} on ${it.vehicle}"))
	require.NoError(t, p.Fill(`input[aria-label="At most so many lines"]`, "3"))
	require.NoError(t, p.UntilText(`[data-testid="preview"]`, "10 jobs"))
	require.NoError(t, p.Until(`document.querySelectorAll('[data-testid="preview"] li').length >= 3 && /JOB-\d+ on /.test(document.querySelector('[data-testid="preview"] li').innerText)`))

	// Started by hand.
	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("button", "Start…"))
	require.NoError(t, p.UntilText(".ant-modal", "Tell the board?"))
	key, err := browser.Eval[string](p, `fetch('/api/sources/counter/orders/records?limit=1').then(r => r.json()).then(l => l.items[0].key)`)
	require.NoError(t, err)
	require.NoError(t, choose(p, "#start-records", key))
	require.NoError(t, putAway(p))
	require.NoError(t, p.Until(`[...document.querySelectorAll('.ant-modal button')].find(b => b.innerText === 'Yes, start it').disabled`))
	require.NoError(t, p.Fill("#answer-reason", "Too dear"))
	require.NoError(t, p.ClickText(".ant-modal button", "Yes, start it"))
	require.NoError(t, p.Until(started)) // leaving the page before would take the request back
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".channel", "#board private"))
	require.NoError(t, p.UntilText(".squarepost .post-title", ": Too dear"))

	// The form, as anyone outside sees it.
	res, err := http.Get(address + "/form/gate")
	require.NoError(t, err)
	page, _ := io.ReadAll(res.Body)
	res.Body.Close()
	assert.NotContains(t, string(page), "<script")
	answers := url.Values{"visitor": {"<b>Class 3</b>"}, "email": {"a@x.example"}, "day": {"2026-12-01"}, "people": {"21"}, "place": {"The cellar"}}
	post := func(path string, v url.Values) (int, string) {
		res, err := http.PostForm(address+path, v)
		require.NoError(t, err)
		defer res.Body.Close()
		raw, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(raw)
	}
	status, text := post("/form/gate", url.Values{"visitor": {"Class 3"}, "place": {"The moon"}})
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "Please choose from the list.")
	assert.Contains(t, text, `value="Class 3"`, "what was answered is kept")
	status, text = post("/form/gate", answers)
	require.Equal(t, 200, status)
	_, rest, ok := strings.Cut(text, `href="`)
	require.True(t, ok)
	link, _, _ := strings.Cut(rest, `"`)
	answers.Set("people", "22")
	status, _ = post(link, answers)
	require.Equal(t, 200, status)
	answers.Set("web_site", "http://spam.example")
	status, _ = post("/form/gate", answers)
	assert.Equal(t, 200, status)
	require.NoError(t, p.Go("/arrivals?source=gate/answers"))
	require.NoError(t, p.Until("document.querySelectorAll('table.arrivals tbody tr').length === 2"))
	require.NoError(t, p.UntilText("table.arrivals", "22"))
	assert.Empty(t, p.Troubles())
}

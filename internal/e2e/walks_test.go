package e2e

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// Which alerts does nobody need? Today names one; its proposal is proven over the last month, and becomes the draft.
func TestWhatFewNeed(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/today"))
	p.press(".place a", "Few need Warm milk")
	p.sees(".proposal", "not above 6")
	p.sees(`.proposal [data-testid="needed"]`, "each would still be told")
	axeOn(t, page)("proposals")
	p.press(".proposal button", "Make it the draft")
	require.NoError(t, p.Until(`document.querySelector("main").innerText.includes("is at least\n6.6")`))
	t.Logf("%d presses, of 4 (6 at most)", p.did)
	assert.Empty(t, p.Troubles())
}

// The Counter asks before it confirms an order, and does what it is answered: from a pattern to a refusal that it shows.
func TestTheCounterAsksAWorkflow(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	for id, amount := range map[string]int{"ORD-SMALL": 40, "ORD-LARGE": 9000} {
		status, err := browser.Eval[int](page, fmt.Sprintf(`fetch('/api/practice/apps/counter/orders', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({id: %q, customer: 'Gasthof', amount: %d, currency: 'CHF', status: 'new'})}).then(r => r.status)`, id, amount))
		require.NoError(t, err)
		require.Less(t, status, 300)
	}
	require.NoError(t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ An app asks first, and waits")
	p.fill(`.pattern [aria-label="Limit"]`, "500")
	p.press(".pattern button", "Draft the sheet")
	p.sees(`[data-testid="answer"]`, "allowed")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	p.press("button", "Start…")
	p.press(".ant-modal button", "Make a token for calls")
	p.sees(".ant-modal", "Bearer")
	given, err := browser.Eval[string](page, `document.querySelector('.ant-modal').innerText`)
	require.NoError(t, err)
	address, token := regexp.MustCompile(`https?://\S+/call/\d+`).FindString(given), regexp.MustCompile(`Bearer (\S+)`).FindStringSubmatch(given)
	require.NotEmpty(t, address, given)
	require.Len(t, token, 2, given)
	require.NoError(t, p.Go("/practice"))
	p.press(`[aria-label="App"] label, .ant-segmented-item`, "Orders")
	p.press("summary", "It confirms orders without asking anybody.")
	p.fill(`[aria-label="Address that is called"]`, address)
	p.fill(`[aria-label="Token of the workflow"]`, strings.Trim(token[1], `'"`))
	p.press("button", "Ask before confirming")
	p.sees("summary", "It asks "+address)
	t.Logf("%d presses and fields, of 14 (21 at most)", p.did)
	confirm := func(id string) {
		require.NoError(t, p.Fill(`input[aria-label="Search records"]`, id))
		require.NoError(t, p.Keys("\r"))
		require.NoError(t, p.Until(fmt.Sprintf(`document.querySelectorAll('table.records tbody tr').length === 1 && document.querySelector('tr[data-key=%q]')`, id)))
		require.NoError(t, p.Choose("Status of "+id, "confirmed"))
	}
	confirm("ORD-LARGE")
	require.NoError(t, p.UntilText("body", "ORD-LARGE may not be confirmed"))
	confirm("ORD-SMALL")
	status := func(id string) string {
		said, err := browser.Eval[string](page, fmt.Sprintf(`fetch('/api/practice/apps/counter/orders/%s').then(r => r.json()).then(o => o.status)`, id))
		require.NoError(t, err)
		return said
	}
	require.Eventually(t, func() bool { return status("ORD-SMALL") == "confirmed" }, 15*time.Second, 100*time.Millisecond)
	assert.Equal(t, "new", status("ORD-LARGE"))
	inSquare(p, "board", "over the limit")
	assert.Empty(t, withoutStatus(p.Troubles(), 409))
}

// From the list of batches, by hand: two typed questions, a confirmation, a script that makes as many samples as asked for, all of them
// added in the Lab; where the script fails, the laboratory's channel hears; and every step can be looked at.
func TestSamplesMadeByAScript(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ By hand, a script makes records")
	p.choose("Records", "cellar/batches")
	p.fill(`.pattern [aria-label="What is asked"]`, "How many samples?")
	p.choose("Where they are added", "lab/samples")
	p.choose("Channel", "#cellar")
	p.choose("Who hears if the script fails", "#lab")
	p.press(".pattern button", "Draft the sheet")
	p.fill(`[aria-label="Script of made"]`, `result = [{"id": record["id"] + "-T" + str(i), "farm": 10 // (6 - int(answers["how_many"]))} for i in range(int(answers["how_many"]))]`)
	p.choose("Add a field to follow[0]", "Farm number")
	p.fill(`[id="follow[0]-farm"]`, "${it.farm}")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 20 (30 at most)", p.did)

	key, err := browser.Eval[string](page, `fetch('/api/sources/cellar/batches/records?limit=1').then(r => r.json()).then(l => l.items[0].key)`)
	require.NoError(t, err)
	run := func(many string) {
		t.Helper()
		require.NoError(t, p.ClickText("button", "Start…"))
		require.NoError(t, choose(p.Page, "#start-records", key))
		require.NoError(t, putAway(p.Page))
		require.NoError(t, p.Fill("#answer-reason", "trial"))
		require.NoError(t, p.Fill("#answer-how_many", many))
		require.NoError(t, p.ClickText(".ant-modal button", "Yes, start it"))
		require.NoError(t, p.Until(started))
	}
	run("3")
	inSquare(p, "cellar", key)
	for i := range 3 {
		id := fmt.Sprintf("%s-T%d", key, i)
		require.Eventually(t, func() bool {
			status, err := browser.Eval[int](page, fmt.Sprintf("fetch('/api/practice/apps/lab/samples/%s').then(r => r.status)", id))
			return err == nil && status == 200
		}, 15*time.Second, 100*time.Millisecond, id)
	}
	run("6") // which the script cannot do
	inSquare(p, "lab", key)
	assert.Empty(t, withoutStatus(p.Troubles(), 404))
}

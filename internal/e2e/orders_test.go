package e2e

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// An order becomes confirmed: its customer's salesperson is looked up, its amount and how long it took stand beside; large
// ones go to the board, the rest to the counter, with the details in the thread. At most 24 presses and fields.
func TestAnOrderIsConfirmed(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ An alert with the details in its thread")
	p.choose("Records", "counter/orders")
	p.choose("Field", "Status")
	p.fill(`[aria-label="Value"]`, "confirmed")
	p.choose("Channel", "#counter")
	p.press("button", "Draft the sheet")
	p.sees("div.chosen", "ORD-")
	p.press("button", "+ gather")
	p.press(".ant-dropdown-menu-item", "What Customer names, in counter/customers")
	p.sees(`section[aria-label="Gather"]`, "counter/customers")
	for _, f := range []string{"Salesperson", "Amount", "How long since Status became new"} {
		p.find("Add a fact from a field", f)
	}
	p.press("button", "+ row")
	p.choose("Field of row 1", "Amount")
	p.choose("Operator of row 1", "is at least")
	p.fill(`[aria-label="Value of row 1"]`, "50000")
	p.choose("Channel 1 of Row 1", "#board (private)")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 16 (24 at most)", p.did)
	assert.LessOrEqual(t, p.did, 24)

	key, err := browser.Eval[string](page, `fetch('/api/practice/apps/counter/orders?limit=1').then(r => r.json()).then(l => l.items[0].id)`)
	require.NoError(t, err)
	for _, change := range []string{`{status: 'new', amount: 61000, currency: 'EUR', customer: 'Gasthof Bären'}`, `{status: 'confirmed'}`} {
		_, err = browser.Eval[int](page, fmt.Sprintf(`fetch('/api/practice/apps/counter/orders/%s', {method: 'PATCH', headers: {'Content-Type': 'application/json'}, body: JSON.stringify(%s)}).then(r => r.status)`, key, change))
		require.NoError(t, err)
	}
	post := inSquare(p, "board", key)
	require.NotNil(t, post)
	facts := fmt.Sprint(post["facts"])
	for _, part := range []string{"Lorenz Tobler", "€61,000.00", "became new"} {
		assert.Contains(t, facts, part)
	}
	assert.Empty(t, p.Troubles())
}

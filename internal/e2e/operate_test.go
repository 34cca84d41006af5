package e2e

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// An operations lead finds out what happened to an alert: its run with times, what was sent and answered, what followed
// in the workshop, and how it would be decided now.
func TestWhatBecameOfAnAlert(t *testing.T) {
	p, _ := enter(t)
	key := records(t, p, func(r map[string]any) bool {
		return r["status"] == "on the way" || r["status"] == "late" || r["status"] == "collected"
	})
	for _, patch := range []string{`{"status":"on the way","temperature":4}`, `{"temperature":9.4}`} {
		_, err := browser.Eval[float64](p, fmt.Sprintf(`fetch('/api/practice/apps/tours/collections/%s', {method: 'PATCH', headers: {'content-type': 'application/json'}, body: %q}).then(r => r.status)`, key, patch))
		require.NoError(t, err)
	}
	require.NoError(t, p.Go("/outbox"))
	require.NoError(t, p.UntilText("table", "9.4 °C on the road"))
	require.NoError(t, p.Until(`[...document.querySelectorAll('.rowbutton')].some(b => b.innerText.includes('9.4 °C') && (b.click(), true))`))
	require.NoError(t, p.UntilText(".opened", "As sent"))
	require.NoError(t, p.UntilText(".opened", "HTTP 201"))
	require.NoError(t, p.ClickText(".outbox a", "Warm milk"))
	require.NoError(t, p.UntilText("h1", "Warm milk"))
	require.NoError(t, p.UntilText(".times", "square/#lab has it"))
	require.NoError(t, p.UntilText("[aria-label='What followed']", "done"))
	require.NoError(t, p.UntilText("[aria-label='Follow up']", "Cooling: milk at 9.4 °C"))
	editable, err := browser.Eval[float64](p, `document.querySelectorAll('.run .ant-select:not(.ant-select-disabled)').length`)
	require.NoError(t, err)
	assert.Zero(t, editable, "what happened cannot be edited")
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".channel", "#lab"))
	require.NoError(t, p.UntilText(".square", "9.4 °C"))
	require.NoError(t, p.Go("/arrivals?q="+key))
	require.NoError(t, p.Until(`[...document.querySelectorAll('tr')].some(r => r.innerText.includes('9.4') && (r.querySelector('a').click(), true))`))
	require.NoError(t, p.ClickText("button", "Decide again"))
	require.NoError(t, p.UntilText("[aria-label='As it would be decided now']", "The same as then"))
	assert.Empty(t, p.Troubles())
}

// An administrator invites somebody, who comes in by the link and finds what was changed.
func TestSomebodyIsInvited(t *testing.T) {
	p, address := enter(t)
	require.NoError(t, p.Go("/people"))
	require.NoError(t, p.Fill("[aria-label='Mail address to invite']", "nina@lindental.example"))
	require.NoError(t, p.ClickText("button", "Make the link"))
	link, err := browser.Eval[string](p, `new Promise(ok => { const look = () => { const i = document.querySelector("[aria-label='Link of the invitation']"); i ? ok(i.value) : setTimeout(look, 50); }; look(); })`)
	require.NoError(t, err)
	require.Contains(t, link, "/welcome/")
	other := open(t, address)
	require.NoError(t, other.Go(link[len(address):]))
	require.NoError(t, other.Fill("#name", "Nina Wirz"))
	require.NoError(t, other.Fill("#password", "ten cows on a hill"))
	require.NoError(t, other.ClickText("button", "Begin"))
	require.NoError(t, other.UntilText(".topbar", "Nina Wirz"))
	require.NoError(t, other.Go("/you"))
	require.NoError(t, other.UntilText("main", "this one"))
	require.NoError(t, p.Go("/people"))
	require.NoError(t, p.UntilText("main", "Nina Wirz"))
	require.NoError(t, p.UntilText("main", "Accept"))
	assert.Empty(t, p.Troubles())
}

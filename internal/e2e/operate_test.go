package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
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

	// Who is let go is led to the sign-in, by whatever is asked next.
	require.NoError(t, p.Until(`[...document.querySelectorAll('tr')].some(r => r.innerText.includes('Nina Wirz') && [...r.querySelectorAll('button')].some(b => b.innerText === 'Let go' && (b.click(), true)))`))
	require.NoError(t, p.ClickText(".ant-modal button", "Let them go"))
	require.NoError(t, p.UntilText("main", "Take back"))
	require.NoError(t, other.ClickText("nav a", "Outbox"))
	require.NoError(t, other.Until(`!!document.querySelector('#password')`))
	assert.Empty(t, p.Troubles())
}

// Whatever stands in a record is text on every screen that shows it: nothing of it runs, loads or becomes markup.
func TestRecordsAreOnlyText(t *testing.T) {
	p, _ := enter(t)
	key := records(t, p, func(r map[string]any) bool { return r["status"] == "collected" || r["status"] == "on the way" })
	hostile := `<img src=x onerror="window.spoilt=1"><script>window.spoilt=2</script>](javascript:window.spoilt=3)`
	for _, patch := range []map[string]any{{"status": "on the way", "temperature": 4}, {"temperature": 9.7, "driver": hostile, "farm_name": hostile, "tour": hostile}} {
		raw, err := json.Marshal(patch)
		require.NoError(t, err)
		status, err := browser.Eval[float64](p, fmt.Sprintf(`fetch('/api/practice/apps/tours/collections/%s', {method: 'PATCH', headers: {'content-type': 'application/json'}, body: %q}).then(r => r.status)`, key, raw))
		require.NoError(t, err)
		require.EqualValues(t, 200, status)
	}
	require.NoError(t, p.Go("/outbox"))
	require.NoError(t, p.UntilText("table", "9.7 °C on the road"))
	seq, err := browser.Eval[float64](p, `fetch('/api/arrivals?verdict=told&workflow=13&limit=1').then(r => r.json()).then(b => b.items[0].seq)`)
	require.NoError(t, err)
	for _, place := range []string{
		"/today", "/outbox", "/practice", "/workflows/13", "/sources/tours/collections", "/arrivals?q=" + key,
		fmt.Sprintf("/arrivals/%.0f", seq), fmt.Sprintf("/runs/%.0f/13", seq),
	} {
		require.NoError(t, p.Go(place))
		if strings.HasPrefix(place, "/sources") { // shows a few examples of each field, perhaps not this one
			require.NoError(t, p.Until(`document.querySelector('.fieldtable tbody tr')`), place)
		} else {
			require.NoError(t, p.UntilText("main", "onerror"), place)
		}
		if place == "/outbox" {
			require.NoError(t, p.Click(".outbox .rowbutton"))
			require.NoError(t, p.UntilText(".opened", "As answered"))
		}
		spoilt, err := browser.Eval[bool](p, `window.spoilt !== undefined || document.querySelector('main img[src="x"], main script, a[href^="javascript:"]') !== null`)
		require.NoError(t, err)
		assert.False(t, spoilt, place)
	}
	assert.Empty(t, p.Troubles())
}

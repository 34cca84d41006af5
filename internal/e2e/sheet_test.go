package e2e

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
	"dorfbote/internal/demo"
)

// A newcomer's way from sign-in to an alert that arrives: a sentence, its sheet, switched on. At most 14 presses and
// fields.
func TestANewcomersFirstAlert(t *testing.T) {
	address := start(t)
	c := &person{Page: open(t, address), t: t}
	c.fill("#email", demo.People[0].Email)
	c.fill("#password", demo.Password)
	c.press("button", "Sign in")
	require.NoError(t, c.Until("document.querySelector('.topbar, nav')"))
	c.press("nav a", "Workflows")
	c.press("button", "From a sentence or a pattern")
	c.fill(`textarea[aria-label^="What should be told"]`, "tell #practice when a collection becomes refused")
	require.NoError(t, c.UntilText(".sentence", "Every word was understood"))
	c.press("button", "Draft the sheet")
	require.NoError(t, c.UntilText(`section[aria-label="Watch"]`, "became"))
	require.NoError(t, c.UntilText(`[data-testid="preview"]`, "COL-"))
	c.press("button", "Switch on")
	c.press(".ant-modal button", "Switch on")
	require.NoError(t, c.UntilText(".sheetstate", "version 1 is on"))
	t.Logf("%d presses and fields", c.did)
	assert.LessOrEqual(t, c.did, 14)

	key := records(t, c.Page, func(r map[string]any) bool { return r["status"] == "planned" || r["status"] == "on the way" })
	_, err := browser.Eval[int](c.Page, fmt.Sprintf(`fetch('/api/practice/apps/tours/collections/%s', {method: 'PATCH', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({status: 'refused'})}).then(r => r.status)`, key))
	require.NoError(t, err)
	require.NoError(t, c.Go("/practice"))
	require.NoError(t, c.ClickText(".channel", "#practice"))
	require.NoError(t, c.UntilText(".squarepost .post-title", key))
	assert.Empty(t, c.Troubles())
}

// The sheet looks after itself: a wrong text is found and mended with one press, a row that can never be taken is
// found, a chip is formatted, an edit is undone; the draft is rehearsed against the version that is on, and its thread
// tried.
func TestTheSheetIsChecked(t *testing.T) {
	p, _ := enter(t)
	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("a", "Late collections"))
	require.NoError(t, p.UntilText(`[data-testid="table-check"]`, "The row can be reached, nothing falls through"))

	// A wrong text.
	require.NoError(t, p.Fill(`[aria-label="Value of Watch"]`, "lat"))
	require.NoError(t, p.UntilText(`section[aria-label="Watch"]`, `status is never "lat"`))
	require.NoError(t, p.UntilText(`section[aria-label="Watch"]`, "this can never hold"))
	require.NoError(t, p.Click(`[aria-label="Mend: late"]`))
	require.NoError(t, p.Until(`!document.querySelector('section[aria-label="Watch"]').innerText.includes('never')`))
	require.NoError(t, p.UntilText(`section[aria-label="Keep"] .tally`, " of "))

	// A row that can never be taken, because the one before takes all it would.
	require.NoError(t, p.ClickText("button", "+ row"))
	require.NoError(t, p.Choose("Field of row 2", "Litres"))
	require.NoError(t, p.Choose("Operator of row 2", "is above"))
	require.NoError(t, p.Fill(`[aria-label="Value of row 2"]`, "2500"))
	require.NoError(t, p.UntilText(`section[aria-label="Route"]`, "row 2 (Row 2) is never taken: row 1 (Much milk) takes everything it would"))
	require.NoError(t, p.Fill(`[aria-label="Value of row 2"]`, "1200"))
	require.NoError(t, p.UntilText(`[data-testid="table-check"]`, "Every row can be reached"))

	// The same as a table, whose cells are edited.
	require.NoError(t, p.ClickText("button", "as a table"))
	require.NoError(t, p.Click(`[aria-label="Row 2, Litres: above 1200"]`))
	require.NoError(t, p.Fill(`[aria-label="Value of Row 2, Litres"]`, "1300"))
	require.NoError(t, p.Until(`document.querySelector('[aria-label="Row 2, Litres: above 1300"]')`))
	require.NoError(t, p.Keys("\x1b"))
	require.NoError(t, p.Until(`![...document.querySelectorAll('.ant-popover')].some(e => e.offsetParent)`)) // it lies over the button
	require.NoError(t, p.ClickText("button", "as rows"))
	require.NoError(t, p.Until(`document.querySelector('[aria-label="Value of row 2"]').value === '1300'`))

	// A reply in the thread, and a forgotten reference in it.
	require.NoError(t, p.ClickText("button", "+ message"))
	require.NoError(t, p.Fill("#msg-body", "By [driver], ${record.litres}"))
	require.NoError(t, p.UntilText(`section[aria-label="Tell"]`, `"[driver]" will be sent as these very words`))
	require.NoError(t, p.Click(`[aria-label="Mend: ${record.driver}"]`))
	require.NoError(t, p.Until(`document.querySelectorAll('#msg-body .chip').length === 2`))
	require.NoError(t, p.Until(`/By \w+.*, \d+/.test(document.querySelector('[data-testid="preview"]').innerText)`))
	require.NoError(t, p.Click(`#msg-body .chip[data-formula="record.litres"]`))
	require.NoError(t, p.ClickText(".chipformat button", "1,240.50"))
	require.NoError(t, p.Until(`/\d\.00/.test(document.querySelector('[data-testid="preview"]').innerText)`))
	require.NoError(t, p.Choose("Reply in the thread for channel 1 of Much milk", "then message"))
	require.NoError(t, p.ClickText("button", "elsewhere")) // the sheet tells none; how it would look there is shown when asked for
	require.NoError(t, p.ClickText(".ant-segmented-item", "Text message"))
	require.NoError(t, p.UntilText(`[data-testid="preview"]`, "characters in one part"))

	// The trail says what the draft would change, and how quickly it does so.
	took, err := browser.Eval[float64](p, `new Promise(done => {
		const input = document.querySelector('[aria-label="Value of condition 1 of Keep"]');
		const legend = document.querySelector('.trail-legend'), before = legend.innerText, from = performance.now();
		new MutationObserver((_, o) => { if (legend.innerText !== before) { o.disconnect(); done(performance.now() - from) } }).observe(legend, {subtree: true, childList: true, characterData: true});
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(input, '1900');
		input.dispatchEvent(new Event('input', {bubbles: true}));
	})`)
	require.NoError(t, err)
	t.Logf("the trail recolours in %.0f ms", took)
	require.NoError(t, p.Until(`/Differs from version 1: [1-9]/.test(document.querySelector('.trail-legend').innerText)`))

	// Over the whole history, against the version that is on.
	require.NoError(t, p.ClickText("button", "Rehearse"))
	require.NoError(t, p.ClickText(".ant-segmented-item", "Everything"))
	require.NoError(t, p.UntilText(".rehearsal-progress", "Nothing was sent"))
	require.NoError(t, p.Until(`/posts? differ/.test(document.querySelector('[data-testid="rehearsal-sum"]').innerText)`))
	require.NoError(t, p.UntilText(".rehearsal", "gone"))
	require.NoError(t, p.UntilText(".rehearsal", "litres is above 1900"))
	require.NoError(t, p.Click(".place-head .back"))

	// Tried in the practice channel, marked as a trial.
	require.NoError(t, p.ClickText(".ant-tabs-tab", "alert"))
	require.NoError(t, p.ClickText("button", "Try it"))
	require.NoError(t, p.UntilText(".ant-message", "marked as a trial"))

	// Back to the version that is on.
	require.NoError(t, p.Click(`[aria-label="More to do with this workflow"]`))
	require.NoError(t, p.ClickText("li", "Versions"))
	require.NoError(t, p.UntilText(".ant-drawer", "litres is above 1900"))
	require.NoError(t, p.ClickText(".ant-drawer button", "Back to version 1"))
	require.NoError(t, p.Until(`document.querySelector('[aria-label="Value of condition 1 of Keep"]').value === '500'`))
	require.NoError(t, p.Click(`[aria-label="Undo the last edit"]`))
	require.NoError(t, p.Until(`document.querySelector('[aria-label="Value of condition 1 of Keep"]').value === '1900'`))
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".channel", "#practice"))
	require.NoError(t, p.UntilText(".squarepost .post-title", "Trial: COL-"))
	assert.Empty(t, p.Troubles())
}

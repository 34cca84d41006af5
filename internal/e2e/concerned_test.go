package e2e

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A batch becomes blocked: its name in bold, a link, and the people concerned are spoken to, in a channel that Dorfbote is not in: this
// is said before it is switched on, and the sheet is looked at over several real records.
func TestThePeopleConcerned(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	makeHook(t, p, "Dairy")
	row := `{"id":"B-%d","name":"%s","state":"%s","link":"https://dairy.example/b/%d","keeper":"%s"}`
	require.Equal(t, 202, send(t, address+"/in/dairy/batches", "["+fmt.Sprintf(row, 1, "Brie", "ripe", 1, "Jonas Rietmann")+","+fmt.Sprintf(row, 2, "*Feta*", "blocked", 2, "Vera Kolb")+","+fmt.Sprintf(row, 3, "Tomme", "blocked", 3, "")+"]"))
	require.NoError(t, p.Go("/workflows"))
	p.press("a, button", "From a sentence or a pattern")
	p.fill("[aria-label='What should be told, to whom, when']", "tell #lab when a batch is blocked")
	p.press(".question button", "dairy batch")
	p.sees(".sentence", "dairy/batches")
	p.press("button", "Draft the sheet")
	p.sees("div.chosen", "B-")
	p.fill("#msg-body", "**${record.name}** is blocked")
	p.press("button", "+ person")
	p.choose("Insert a field into: Person 1 whom it speaks to", "Keeper")
	p.sees(`[data-testid="preview"] b, [data-testid="preview"] strong`, "Tomme") // nobody keeps it, and nobody is spoken to
	for _, sees := range []string{"Vera Kolb", "Jonas Rietmann"} {
		require.NoError(t, p.Click(`[aria-label="The arrival before"]`))
		p.did++
		p.sees(`[data-testid="preview"]`, "@"+sees)
	}
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 10 (15 at most)", p.did)
	assert.LessOrEqual(t, p.did, 15)
	require.Equal(t, http.StatusAccepted, send(t, address+"/in/dairy/batches", fmt.Sprintf(row, 1, "Brie", "blocked", 1, "Jonas Rietmann")))
	require.Eventually(t, func() bool {
		require.NoError(t, p.Go("/practice"))
		return p.ClickText(".channel", "#lab") == nil && p.UntilText(".squarepost", "Jonas Rietmann") == nil
	}, 40*time.Second, 500*time.Millisecond)
	assert.Empty(t, p.Troubles())
}

// Every workday the open jobs as linked lines, the most urgent first, to a channel and by mail to a person; then every second Tuesday.
func TestTheOpenJobsOfEachWorkday(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows"))
	p.press("a, button", "From a sentence or a pattern")
	p.fill("[aria-label='What should be told, to whom, when']", "Every weekday at 7 tell #workshop and mail Vera Kolb the jobs that are open.")
	p.sees(".sentence", "Every word was understood")
	p.press("button", "Draft the sheet")
	p.sees(`[data-testid="preview"]`, "jobs")
	p.choose("Order of jobs", "by Urgency, greatest first")
	p.sees(`section[aria-label="Route"]`, "vera@lindental.example")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	for _, day := range []string{"Mon", "Wed", "Thu", "Fri"} {
		require.NoError(t, p.Click(fmt.Sprintf(`.ant-select:has(input[aria-label="Days of the week"]) [title=%q] .ant-select-selection-item-remove`, day)))
		p.did++
	}
	p.fill(`input[aria-label="Every so many weeks"]`, "2")
	p.sees(".readback", "every second Tuesday at 07:00")
	t.Logf("%d presses and fields, of 14 (21 at most)", p.did)
	assert.LessOrEqual(t, p.did, 21)
	assert.Empty(t, p.Troubles())
}

// Half an hour before milk is due, a post of the tour desk in a private channel.
func TestHalfAnHourBefore(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows"))
	p.press("a, button", "From a sentence or a pattern")
	p.fill("[aria-label='What should be told, to whom, when']", "Tell #board 30 minutes before due when a collection is planned")
	p.sees(".sentence", "Every word was understood")
	p.press("button", "Draft the sheet")
	p.press("button", "+ sender")
	p.write("Sender's name", "Tour desk")
	p.sees(`[data-testid="preview"]`, "Tour desk")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 10", p.did)
	assert.LessOrEqual(t, p.did, 10)
	assert.Empty(t, p.Troubles())
}

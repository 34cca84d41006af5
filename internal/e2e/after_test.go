package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// applied makes a workflow of a sheet and switches it on, and gives its id.
func applied(t *testing.T, p *browser.Page, text string) string {
	t.Helper()
	raw, err := json.Marshal(map[string]string{"text": text})
	require.NoError(t, err)
	id, err := browser.Eval[string](p, fmt.Sprintf(`(async () => {
		const post = (path, body) => fetch(path, {method: 'POST', headers: {'Content-Type': 'application/json'}, body})
		const w = await (await post('/api/workflows', %q)).json()
		const on = await post('/api/workflows/' + w.id + '/on', '{}')
		return on.ok ? String(w.id) : JSON.stringify(await on.json())
	})()`, raw))
	require.NoError(t, err)
	require.Regexp(t, `^\d+$`, id)
	return id
}

// inSquare waits for a post in a room of the square, and gives it.
func inSquare(p *person, room, title string) map[string]any {
	p.t.Helper()
	var found map[string]any
	require.Eventually(p.t, func() bool {
		for _, post := range stands[map[string]any](p, "/square/channels/"+room+"/posts?limit=20") {
			if strings.Contains(fmt.Sprint(post["title"], " ", post["text"]), title) {
				found = post
				return true
			}
		}
		return false
	}, 15*time.Second, 100*time.Millisecond, "%s in %s", title, room)
	return found
}

// A visit request is asked of somebody first: composed by choosing, proven with either answer, put by mail and in the room; a link in the
// mail changes nothing when it is looked at; a no needs its reason, which the asker hears.
func TestSomebodyIsAskedFirst(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	makeHook(t, p, "Visits")
	visit := func(id string) {
		require.Equal(t, 202, send(t, address+"/in/visits/requests", `{"id":"`+id+`","name":"Ursina","email":"jonas@lindental.example","day":"2026-12-04"}`))
	}
	visit("V-1")
	require.NoError(t, p.Go("/sources/visits/requests"))
	p.press("button", "New workflow on these")
	p.sees("div.chosen", "V-1")
	p.press("button", "+ ask somebody first")
	p.choose("Person 1 who is asked verdict", "Marit Aven (mail)")
	p.sees(`section[aria-label="Ask"]`, "mail/marit@lindental.example")
	p.press("button", "+ row")
	p.choose("Field of row 1", "verdict › Choice")
	require.NoError(t, p.Fill(`input[aria-label="Value of row 1"]`, "approve"))
	p.did++
	p.sees(`section[aria-label="Route"]`, "goes here")
	p.choose("Supposed answer to verdict", "Decline")
	p.sees(`section[aria-label="Route"] .bandline:last-of-type`, "")
	axeOn(t, page)("a sheet that asks")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 20 (30 at most)", p.did)
	assert.LessOrEqual(t, p.did, 30)

	visit("V-2")
	var link string
	require.Eventually(t, func() bool {
		for _, l := range stands[map[string]any](p, "/letters?limit=10") {
			if m := regexp.MustCompile(`Decline: (\S+/act/\S+)`).FindStringSubmatch(fmt.Sprint(l["text"])); m != nil {
				link = m[1]
			}
		}
		return link != ""
	}, 15*time.Second, 100*time.Millisecond)
	for range 3 { // whatever follows links in mails answers nothing
		res, err := http.Get(link)
		require.NoError(t, err)
		body, _ := io.ReadAll(res.Body)
		_ = res.Body.Close()
		assert.Equal(t, 200, res.StatusCode)
		assert.Contains(t, string(body), "Decline</button>")
		assert.Equal(t, "no-referrer", res.Header.Get("Referrer-Policy"))
		assert.Contains(t, res.Header.Get("X-Robots-Tag"), "noindex")
	}
	require.NoError(t, p.Go("/asked"))
	p.sees(".topbar-asked", "1")
	p.sees(".askedone", "V-2")
	axeOn(t, page)("questions")
	post := func(form string) (int, string) {
		res, err := http.Post(link, "application/x-www-form-urlencoded", strings.NewReader(form))
		require.NoError(t, err)
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(body)
	}
	status, body := post("button=1")
	assert.Equal(t, 403, status)
	assert.Contains(t, body, "needs a comment")
	status, body = post("button=1&comment=<b>full</b>")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, "Your answer has been taken")
	status, body = post("button=1&comment=again")
	assert.Equal(t, 403, status)
	assert.Contains(t, body, "answered already")
	assert.NotContains(t, body, "<b>full</b>", "a comment is text")
	require.NoError(t, p.Go("/asked"))
	p.sees(".asked", "Nothing is asked of you")
	status, _ = post("button=1")
	assert.Equal(t, 403, status)
	res, err := http.Get(strings.Replace(link, "/act/b.", "/act/b.9", 1))
	require.NoError(t, err)
	_ = res.Body.Close()
	assert.Equal(t, 404, res.StatusCode, "an altered link")
	assert.Empty(t, withoutStatus(p.Troubles(), 403, 404))
}

func withoutStatus(troubles []string, statuses ...int) (out []string) {
	for _, t := range troubles {
		keep := true
		for _, s := range statuses {
			keep = keep && !strings.Contains(t, fmt.Sprint(s))
		}
		if keep {
			out = append(out, t)
		}
	}
	return out
}

// Nobody takes an alert in time: the board hears; one that is taken in the square is told nobody else, and follows its record until that
// is done.
func TestTakingAnAlertStopsItsEscalation(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows"))
	id := applied(t, page, `dorfbote: 1
name: Late ones
watch: {source: tours/collections, when: {field: status, became: late}}
messages: {alert: {title: "${record.id} is ${record.status}", tone: urgent}}
route: {otherwise: {tell: [{to: "square/#practice", message: alert, keep_up: {until: {field: status, is: collected}}}]}}
`)
	require.NoError(t, p.Go("/workflows/"+id))
	p.press("button", "+ follow up")
	p.press(".ant-dropdown-menu-item", "Tell others unless somebody takes it in time")
	p.fill(`input[aria-label="How long step 1 waits"]`, "6s")
	p.choose("Channel 1 of step 1", "#board (private)")
	p.sees(`section[aria-label="Tell"]`, "I take it")
	p.sees(`section[aria-label="Follow up"]`, "then square/#board")
	axeOn(t, page)("a sheet that escalates")
	p.press("button", "Switch on as version 2")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "version 2 is on")
	t.Logf("%d presses and fields, of 12 (18 at most)", p.did)

	planned := func(not string) string {
		return records(t, page, func(r map[string]any) bool { return r["status"] != "late" && r["id"] != not })
	}
	taken := planned("")
	left := planned(taken)
	require.NoError(t, p.Go("/practice"))
	makeLate(t, page, taken)
	inSquare(p, "practice", taken+" is late")
	require.NoError(t, p.ClickText(`[role="tab"]`, "#practice"))
	require.NoError(t, p.ClickText("button.post-button", "I take it"))
	inSquare(p, "practice", "looks after it")
	makeLate(t, page, left)
	inSquare(p, "board", left+" is late")
	for _, post := range stands[map[string]any](p, "/square/channels/board/posts?limit=20") {
		assert.NotContains(t, fmt.Sprint(post["title"]), taken, "what was taken is told nobody else")
	}
	_, err := browser.Eval[int](page, fmt.Sprintf(`fetch('/api/practice/apps/tours/collections/%s', {method: 'PATCH', headers: {'Content-Type': 'application/json'}, body: '{"status":"collected"}'}).then(r => r.status)`, taken))
	require.NoError(t, err)
	edited := inSquare(p, "practice", taken+" is collected")
	assert.NotEmpty(t, edited["edited_at"], "the post follows its record")
	assert.Empty(t, p.Troubles())
}

// A weekly chart from a list, to three channels, composed by choosing: the proof shows it drawn, and the room gets the picture.
func TestAWeeklyChart(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows"))
	id := applied(t, page, `dorfbote: 1
name: Litres
watch: {schedule: {start: "2026-11-02T07:00", rule: "FREQ=WEEKLY;BYDAY=MO"}}
gather: [{name: milk, find: {source: tours/collections, take: all}}]
messages: {report: {title: "Litres by valley"}}
route: {otherwise: {tell: [{to: "square/#board", message: report}, {to: "square/#tours", message: report}, {to: "square/#cellar", message: report}]}}
`)
	require.NoError(t, p.Go("/workflows/"+id))
	p.press("button", "+ chart")
	p.choose("Figure of the chart in report", "the sum of")
	p.choose("Field of the chart's figure in report", "Litres")
	p.choose("Series of the chart in report", "Valley")
	// Its figures stand there in words, too: by valley, once what was chosen last has been drawn.
	require.NoError(t, p.Until(`[...document.querySelectorAll('[data-testid="preview"] img.is-drawn')].some(i => i.naturalWidth === 720 && i.alt.includes('Upper'))`))
	axeOn(t, page)("a sheet with a chart")
	p.press("button", "Try it")
	post := inSquare(p, "practice", "Trial: Litres by valley")
	require.NotNil(t, post["picture"])
	t.Logf("%d presses and fields, of 20 (30 at most)", p.did)
	assert.Empty(t, p.Troubles())
}

// A caller waits for a person: the question shows in Asked of you, and the answer is the caller's.
func TestACallerWaitsForAPerson(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows"))
	id := applied(t, page, `dorfbote: 1
name: Gate
watch: {called: {takes: [{name: amount, type: number, required: true}]}}
ask: [{name: v, when: {formula: "answers.amount > 100"}, of: "mail/marit@lindental.example", message: q, choices: [{name: "yes", text: "Let it through"}, {name: "no", text: "No", comment: required}]}]
messages: {q: {title: "May an order of ${answers.amount} go through?"}}
answer: {body: {allowed: "${v.choice != 'no'}", by: "${v.by}"}}
`)
	token, err := browser.Eval[string](page, fmt.Sprintf(`fetch('/api/workflows/%s/call-token', {method: 'POST'}).then(r => r.json()).then(b => b.token)`, id))
	require.NoError(t, err)
	call := func(amount int) (int, string) {
		req, err := http.NewRequest(http.MethodPost, address+"/call/"+id+"?wait=30s", strings.NewReader(fmt.Sprintf(`{"amount":%d}`, amount)))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, strings.TrimSpace(string(body))
	}
	status, body := call(5)
	assert.Equal(t, 200, status)
	assert.JSONEq(t, `{"allowed":true,"by":null}`, body)
	answers := make(chan string, 1)
	go func() {
		_, body := call(900)
		answers <- body
	}()
	require.NoError(t, p.Go("/asked"))
	p.sees(".askedone", "May an order of 900 go through?")
	require.NoError(t, p.Fill(`textarea[aria-label="Comment"]`, "not this month"))
	p.press(".askedanswer button", "No")
	select {
	case body := <-answers:
		assert.JSONEq(t, `{"allowed":false,"by":"Marit Aven"}`, body)
	case <-time.After(20 * time.Second):
		t.Fatal("the caller was not answered")
	}
	assert.Empty(t, p.Troubles())
}

// Each Monday, but not on holidays, a chart for each valley goes to the valley's own channel, and one of all of them to the board, from one
// sheet that began as a pattern; it is tried at once. At most 30 presses and fields.
func TestAChartOfEachValley(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	valleys := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(valleys.Close)
	status, err := browser.Eval[int](page, fmt.Sprintf(`fetch('/api/connections', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({id: 'valleys', kind: 'webhook', title: 'Valleys',
		settings: {places: ['Upper', 'Middle', 'Lower'].map(v => v + ' %[1]s/' + v).join('\n'), shape: 'my own', body: '{"title":"${post.title}","picture":"${post.picture}"}'}})}).then(r => r.status)`, valleys.URL))
	require.NoError(t, err)
	require.Less(t, status, 300)
	require.NoError(t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ A chart of each group, every Monday")
	p.press(".pattern button", "Draft the sheet")
	p.choose("Days that are left out", "but not on days in holidays/events")
	p.find("Channel 1 of otherwise", "Valleys: one that the record names…")
	p.choose("Insert a field into the address of Channel 1 of otherwise", "Valley")
	p.write("Text", "The last weeks in figures.")
	require.NoError(t, p.Until(`document.querySelectorAll('[data-testid="preview"] img.is-drawn').length > 0`))
	p.sees(`section[aria-label="Tell"]`, "valleys/Upper")
	p.press("button", "Try it")
	inSquare(p, "practice", "the last eight weeks")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "version 1 is on")
	t.Logf("%d presses and fields, of 20 (30 at most)", p.did)
	assert.LessOrEqual(t, p.did, 20)
}

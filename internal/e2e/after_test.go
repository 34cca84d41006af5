package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
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
	assert.Contains(t, body, "was faster")
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
	require.NoError(t, p.Until(`document.querySelector('[data-testid="preview"] img.is-drawn')?.naturalWidth === 720`))
	alt, err := browser.Eval[string](page, `document.querySelector('[data-testid="preview"] img.is-drawn').alt`)
	require.NoError(t, err)
	assert.Contains(t, alt, "Upper", "its figures in words")
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

// fromPattern drafts a workflow of a pattern as it stands, and switches it on.
func fromPattern(p *person, title string) {
	p.t.Helper()
	require.NoError(p.t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ "+title)
	p.press(".pattern button", "Draft the sheet")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
}

// An alert follows its collection; an answer in its thread becomes the collection's note; a command in the room closes it, and is
// answered there.
func TestAnAlertIsTalkedAbout(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	fromPattern(p, "A post that follows its record")
	fromPattern(p, "A reply becomes a comment")
	fromPattern(p, "A command that closes a record")
	t.Logf("%d presses and fields, of 12 (18 at most)", p.did)

	id := records(t, page, func(r map[string]any) bool { return r["status"] == "planned" })
	require.NoError(t, p.Go("/practice"))
	makeLate(t, page, id)
	post := inSquare(p, "tours", id+" is late")
	number := fmt.Sprint(post["id"])
	require.NoError(t, p.Until(`document.querySelector('[aria-label="Answer post `+number+`"]')`))
	require.NoError(t, p.Click(`[aria-label="Answer post `+number+`"]`))
	require.NoError(t, p.Fill(`[aria-label="Answer in the thread of post `+number+`"]`, "@Dorfbote the hose is mended"))
	require.NoError(t, p.Keys("\r"))
	collection := func(what string, holds func(r map[string]any) bool) {
		t.Helper()
		require.Eventually(t, func() bool {
			raw, err := browser.Eval[string](page, fmt.Sprintf("fetch('/api/practice/apps/tours/collections/%s').then(r => r.text())", id))
			require.NoError(t, err)
			var r map[string]any
			require.NoError(t, json.Unmarshal([]byte(raw), &r), raw)
			return holds(r)
		}, 20*time.Second, 100*time.Millisecond, what)
	}
	collection("the answer is the note", func(r map[string]any) bool {
		note, _ := r["note"].(string)
		return strings.Contains(note, "Marit Aven") && strings.Contains(note, "the hose is mended")
	})
	require.NoError(t, p.Fill(`[aria-label="Say something in #tours"]`, "@Dorfbote done "+id))
	require.NoError(t, p.Keys("\r"))
	collection("the command closes it", func(r map[string]any) bool { return r["status"] == "collected" })
	edited := inSquare(p, "tours", id+" is collected")
	assert.NotEmpty(t, edited["edited_at"], "the alert follows")
	require.NoError(t, p.UntilText(".squarepost", "changed"))
	assert.Empty(t, p.Troubles())
}

// What is said in a room is said in two others, by a table of the sheet that is changed while it is on; each copy once.
func TestARoomIsCopied(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ A room that is copied to others")
	p.press(".pattern button", "Draft the sheet")
	p.press("button", "+ row")
	p.fill(`[aria-label="from in row 2 of rooms"]`, "#tours")
	p.fill(`[aria-label="to in row 2 of rooms"]`, "#lab")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "version 1 is on")
	axeOn(t, page)("a sheet with a table")
	t.Logf("%d presses and fields, of 16 (24 at most)", p.did)
	require.NoError(t, p.Go("/practice"))
	say := func(text string) {
		require.NoError(t, p.Fill(`[aria-label="Say something in #tours"]`, text))
		require.NoError(t, p.Keys("\r"))
	}
	say("@Dorfbote the **milk** is here")
	for _, room := range []string{"cellar", "lab"} {
		copied := inSquare(p, room, "the **milk** is here")
		assert.Contains(t, copied["text"], "Marit Aven", "with who said it")
		assert.Contains(t, copied["text"], "from", "and where")
	}
	// Changed while it runs: the laboratory hears no more.
	require.NoError(t, p.Go("/workflows"))
	require.NoError(t, p.ClickText("a", "Copies of #tours"))
	require.NoError(t, p.Click(`[aria-label="Remove row 2 of rooms"]`))
	require.NoError(t, p.ClickText("button", "Switch on as version 2"))
	require.NoError(t, p.ClickText(".ant-modal button", "Switch on"))
	require.NoError(t, p.UntilText(".sheetstate", "version 2 is on"))
	require.NoError(t, p.Go("/practice"))
	say("@Dorfbote and gone again")
	inSquare(p, "cellar", "gone again")
	for _, post := range stands[map[string]any](p, "/square/channels/lab/posts?limit=20") {
		assert.NotContains(t, fmt.Sprint(post["text"]), "gone again")
	}
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
	p.press(".pattern-title", "▸ Told by hand, with a reason")
	p.choose("Records", "cellar/batches")
	p.fill(`.pattern [aria-label="What is asked"]`, "What for?")
	p.choose("Channel", "#cellar")
	p.press(".pattern button", "Draft the sheet")
	p.fill(`[aria-label="What is asked before it starts"]`, "Make the samples?")
	p.press("button", "+ question")
	p.fill(`[aria-label="Question 2"]`, "How many")
	p.choose("Type of question 2", "number")
	p.press("button", "+ gather")
	// What records lead to is put before it as soon as it is known, so it is found and pressed in one go.
	require.NoError(t, p.Until(`(i => i && (i.click(), true))([...document.querySelectorAll('.ant-dropdown-menu-item')].find(i => i.innerText.trim() === 'A few lines of script'))`))
	p.did++
	p.fill(`[aria-label="Script of value"]`, `result = [{"id": record["id"] + "-T" + str(i), "farm": 10 // (6 - int(answers["how_many"]))} for i in range(int(answers["how_many"]))]`)
	p.press("button", "the arrival fails ▾")
	p.press(".ant-dropdown-menu-item", "tell a channel")
	p.choose("Channel 1 of a failure of look-up 1", "#lab")
	p.press("button", "+ follow up")
	p.press(".ant-dropdown-menu-item", "Add a record, or a row to a table")
	p.choose("Source of step 1", "lab/samples")
	p.choose("How many records step 1 adds", "one for each of value")
	p.choose("Add a field to follow[0]", "Sample")
	p.fill(`[id="follow[0]-id"]`, "${it.id}")
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

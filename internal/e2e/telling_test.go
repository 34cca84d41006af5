package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// choose picks from a list, which counts as one press.
func (p *person) choose(label, option string) {
	p.t.Helper()
	require.NoError(p.t, p.Choose(label, option), "%s: %s", label, option)
	p.did++
}

// find chooses from a long list, which is searched.
func (p *person) find(label, option string) {
	p.t.Helper()
	require.NoError(p.t, p.Click(fmt.Sprintf(`.ant-select:has(input[aria-label=%q])`, label)), label)
	p.did++
	require.NoError(p.t, p.Keys(option))
	require.NoError(p.t, p.Until(fmt.Sprintf(`[...document.querySelectorAll('.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option')].some(e => (e.innerText + e.title).includes(%q) && (e.click(), true))`, option)), "%s: %s", label, option)
}

// write types into a text with chips.
func (p *person) write(label, text string) {
	p.t.Helper()
	require.NoError(p.t, p.Fill(fmt.Sprintf("[aria-label=%q]", label), text))
	p.did++
}

// stands reads a list that the practice services give.
func stands[T any](p *person, path string) []T {
	p.t.Helper()
	raw, err := browser.Eval[string](p.Page, fmt.Sprintf("fetch('/api/practice%s').then(r => r.text())", path))
	require.NoError(p.t, err)
	var out []T
	require.NoError(p.t, json.Unmarshal([]byte(raw), &out), raw)
	return out
}

// A new farmer gets a personal mail at the address in the record, with a table attached: its address and who is known by it are seen
// before, the mail as it goes too, and in the outbox and the mailbox afterwards.
func TestAMailToTheAddressInARecord(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	makeHook(t, p, "Members")
	require.Equal(t, 202, send(t, address+"/in/members/farmers", `{"id":"F-47","name":"Ursina Gadient","email":"jonas@lindental.example"}`))
	require.NoError(t, p.Go("/sources/members/farmers"))
	p.press("button", "New workflow on these")
	p.sees("div.chosen", "F-47")
	p.choose("Channel 1 of otherwise", "Mailbox: an address…")
	p.choose("Insert a field into the address of Channel 1 of otherwise", "Email")
	p.sees(`section[aria-label="Route"]`, "→ mail/jonas@lindental.example")
	p.sees(`section[aria-label="Route"]`, "Jonas Rietmann")
	p.choose("Insert a field", "Name")
	p.press("button", "+ gather")
	p.press(".ant-dropdown-menu-item", "A list of records")
	p.press("button", "+ file")
	p.sees(`[data-testid="preview"]`, "list.csv")
	p.press("button", "Exactly as it is sent")
	p.sees(".sent-bytes", "Auto-Submitted: auto-generated")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 12 (18 at most)", p.did)
	assert.LessOrEqual(t, p.did, 18)
	axeOn(t, page)("a sheet that mails")
	require.Equal(t, 202, send(t, address+"/in/members/farmers", `{"id":"F-48","name":"Gian Caviezel","email":"gian@farms.example"}`))
	type letter struct {
		To      []string
		Subject string
		Files   []string
	}
	var list []letter
	require.Eventually(t, func() bool {
		list = stands[letter](p, "/letters")
		return len(list) == 1
	}, 30*time.Second, 100*time.Millisecond)
	assert.Equal(t, []string{"gian@farms.example"}, list[0].To)
	assert.Contains(t, list[0].Subject, "Gian Caviezel")
	assert.Equal(t, []string{"list.csv"}, list[0].Files)
	require.NoError(t, p.Go("/outbox?destination=mail%2Fgian%40farms.example"))
	p.press("td button", "F-48 Gian Caviezel")
	p.sees("#place", "as it is sent")
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".ant-segmented-item", "Mailbox"))
	p.sees("[aria-label=Mailbox]", "to gian@farms.example")
	require.NoError(t, p.Go("/people-book"))
	p.sees("#place", "Jonas Rietmann")
	axeOn(t, page)("the people book")
	assert.Empty(t, p.Troubles())
}

// A text message goes to a number however it was typed; one that can be no number is said to be so before and after, and what the
// gateway reports is seen.
func TestATextMessageWithABadNumber(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	makeHook(t, p, "Visits")
	require.Equal(t, 202, send(t, address+"/in/visits/requests", `{"id":"V-1","who":"Reto","mobile":"079 123 45 67"}`))
	require.NoError(t, p.Go("/connections/phone"))
	p.press("button", "Prove it")
	p.sees(".connection", `"credit":"enough"`)
	require.NoError(t, p.Go("/sources/visits/requests"))
	p.press("button", "New workflow on these")
	p.sees("div.chosen", "V-1")
	p.choose("Channel 1 of otherwise", "Phone: a number…")
	p.choose("Insert a field into the address of Channel 1 of otherwise", "Mobile")
	p.sees(`section[aria-label="Route"]`, "→ phone/+41791234567")
	p.choose("Insert a field", "Who")
	p.sees(`[data-testid="preview"]`, "in one part")
	p.press("button", "Exactly as it is sent")
	p.sees(".sent-bytes", `"to":"+41791234567"`)
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 12 (18 at most)", p.did)
	assert.LessOrEqual(t, p.did, 18)
	require.Equal(t, 202, send(t, address+"/in/visits/requests", `[{"id":"V-2","who":"Ida","mobile":"0791234568"},{"id":"V-3","who":"Max","mobile":"call me"},{"id":"V-4","who":"Eva","mobile":"+41 79 123 45 99"}]`))
	type text struct{ Number, Text, State, Sender string }
	byNumber := map[string]text{}
	require.Eventually(t, func() bool {
		for _, m := range stands[text](p, "/phone/messages") {
			byNumber[m.Number] = m
		}
		return byNumber["+41791234599"].State == "failed" && byNumber["+41791234568"].State == "delivered"
	}, 30*time.Second, 100*time.Millisecond, "%v", byNumber)
	assert.Len(t, byNumber, 2)
	assert.Equal(t, "Lindental", byNumber["+41791234568"].Sender)
	assert.Contains(t, byNumber["+41791234568"].Text, "Ida")
	require.NoError(t, p.Go("/today"))
	p.sees("#place", "failed on 1 arrival")
	p.sees("#place", `"call me" is not a possible telephone number in CH`)
	require.NoError(t, p.Go("/outbox"))
	p.sees("#place", "the phone cannot be reached")
	require.NoError(t, p.Go("/practice"))
	require.NoError(t, p.ClickText(".ant-segmented-item", "Phone"))
	p.sees("[aria-label=Phone]", "✓ delivered")
	axeOn(t, page)("the phone")
	assert.Empty(t, p.Troubles())
}

// makeHook connects a hook, which is no part of what is counted.
func makeHook(t *testing.T, p *person, title string) {
	t.Helper()
	id := strings.ToLower(title)
	status, err := browser.Eval[int](p.Page, fmt.Sprintf(`fetch('/api/connections', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({id: %q, title: %q})}).then(r => r.status)`, id, title))
	require.NoError(t, err)
	require.Equal(t, 200, status)
}

// From a pasted address and a pasted example to a first alert in the other side's own shape, with its sender, its marks, and nothing
// that the record holds taken for more than text.
func TestAPastedExample(t *testing.T) {
	var mu sync.Mutex
	var taken []string
	chat := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if r.Method != http.MethodPost {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		var in struct {
			Username string
			Blocks   []struct{ Kind, Heading, Text string }
		}
		dec := json.NewDecoder(strings.NewReader(string(raw)))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&in); err != nil || len(in.Blocks) == 0 {
			http.Error(w, "invalid body", http.StatusBadRequest)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		taken = append(taken, string(raw))
	}))
	defer chat.Close()
	page, address := enter(t)
	p := &person{t: t, Page: page}
	makeHook(t, p, "Page")
	require.Equal(t, 202, send(t, address+"/in/page/posts", `{"id":"P-1","headline":"Open day","text":"Come *all*"}`))
	require.NoError(t, p.Go("/connections/new"))
	p.press(".kinds button", "Webhook")
	p.fill("#connect-title", "Team")
	p.fill("#set-places", "news "+chat.URL+"/in/secret-1")
	require.NoError(t, choose(p.Page, "#set-shape", "my own"))
	p.did++
	p.write("An example of the body", `{"username":"News bot","blocks":[{"kind":"section","heading":"Release is out","text":"Some text of the message"}]}`)
	p.sees(".shapeinput", "blocks[0].heading")
	p.press("button", "Connect")
	p.sees(".connection h1", "Team")
	require.NoError(t, p.Go("/sources/page/posts"))
	p.press("button", "New workflow on these")
	p.sees("div.chosen", "P-1")
	p.choose("Channel 1 of otherwise", "news")
	p.press("button", "Exactly as it is sent")
	p.sees(".sent-bytes", `"heading":"P-1"`)
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 12", p.did)
	assert.LessOrEqual(t, p.did, 12)
	require.Equal(t, 202, send(t, address+"/in/page/posts", `{"id":"P-\"2\\","headline":"<b>","text":"x"}`))
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(taken) == 1
	}, 20*time.Second, 50*time.Millisecond)
	assert.NotContains(t, taken[0], "username", "nobody posts under the example's name")
	assert.Contains(t, taken[0], `"heading":"P-\"2\\"`)
	assert.Empty(t, p.Troubles())
}

// A sentence becomes a mail to whom the record names, known by the people book, with the record's fields and the whole list attached,
// and to somebody else beside.
func TestASentenceThatMails(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	makeHook(t, p, "Pricing")
	row := `{"id":"R-%d","article":"Gruyère","price":"18.40 CHF","buyer":"Jonas Rietmann","state":"%s"}`
	require.Equal(t, 202, send(t, address+"/in/pricing/price_rows", "["+fmt.Sprintf(row, 1, "valid")+","+fmt.Sprintf(row, 2, "past due")+"]"))
	require.NoError(t, p.Go("/workflows"))
	p.press("a, button", "From a sentence or a pattern")
	p.fill("[aria-label='What should be told, to whom, when']", "Mail the buyer and the workshop with the price list attached when a price row is past due")
	p.sees(".sentence", `Where is the address of "the workshop"?`)
	p.press(".question button", "Vera Kolb")
	p.sees(".sentence", "Every word was understood")
	p.press("button", "Draft the sheet")
	p.sees(`section[aria-label="Route"]`, "→ mail/jonas@lindental.example")
	p.sees(`[data-testid="preview"]`, "price-rows.csv")
	p.sees(`[data-testid="preview"]`, "Gruyère")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 10", p.did)
	assert.LessOrEqual(t, p.did, 10)
	require.Equal(t, 202, send(t, address+"/in/pricing/price_rows", fmt.Sprintf(row, 1, "past due")))
	type letter struct {
		To    []string
		Files []string
		Text  string
	}
	var list []letter
	require.Eventually(t, func() bool {
		list = stands[letter](p, "/letters")
		return len(list) == 2
	}, 30*time.Second, 100*time.Millisecond)
	var to []string
	for _, l := range list {
		to = append(to, l.To...)
		assert.Equal(t, []string{"price-rows.csv"}, l.Files)
	}
	assert.ElementsMatch(t, []string{"jonas@lindental.example", "vera@lindental.example"}, to)
	assert.Empty(t, p.Troubles())
}

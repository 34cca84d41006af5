package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

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

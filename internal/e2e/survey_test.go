package e2e

import (
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"dorfbote/internal/browser"
)

// A survey: who is dissatisfied, or was served late and large, is told to the people who can help, with a page of chosen answers for those
// without an account; everything else to the counter; and each answer becomes a row of a spreadsheet.
func TestASurvey(t *testing.T) {
	page, address := enter(t)
	p := &person{t: t, Page: page}
	file := filepath.Join(folderOf(t), "answers.xlsx")
	book := excelize.NewFile()
	require.NoError(t, book.SetSheetRow("Sheet1", "A1", &[]any{"id", "guest", "mark", "late", "litres", "remark"}))
	require.NoError(t, book.SetSheetRow("Sheet1", "A2", &[]any{"A-0", "Gasthof Krone", 4, "no", 300, "An old one"}))
	require.NoError(t, book.SaveAs(file))
	made, err := browser.Eval[int](page, `(async () => {
		const post = (path, body) => fetch(path, {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify(body)}).then(r => r.status)
		return [await post('/api/connections', {id: 'sheets', kind: 'table', title: 'Sheets', settings: {where: 'in a folder'}}),
			await post('/api/connections/sheets/sources', {kind: 'answers', key_field: 'id', settings: {file: 'answers.xlsx'}, begin: {how: 'now'}})].filter(s => s >= 300).length
	})()`)
	require.NoError(t, err)
	require.Zero(t, made)
	makeHook(t, p, "Survey")
	const answer = `{"id":%q,"guest":%q,"mark":%d,"late":%t,"litres":%d,"remark":%q,"phone":"079 123 45 67"}`
	taken := func(id, guest string, mark int, late bool, litres int, remark string) {
		t.Helper()
		require.Equal(t, 202, send(t, address+"/in/survey/answers", fmt.Sprintf(answer, id, guest, mark, late, litres, remark)))
	}
	taken("A-1", "Hotel Post", 5, false, 900, "Fine")

	require.Eventually(t, func() bool { // the spreadsheet has been read
		n, err := browser.Eval[int](page, `fetch('/api/sources/sheets/answers/fields').then(r => r.json()).then(l => l.items.length)`)
		return err == nil && n == 6
	}, 15*time.Second, 100*time.Millisecond)
	require.NoError(t, p.Go("/workflows/new"))
	p.press(".pattern-title", "▸ Each new record becomes a row of a table")
	p.choose("Records", "survey/answers")
	p.choose("Where it is added", "sheets/answers")
	p.choose("Channel", "#counter")
	p.press(".pattern button", "Draft the sheet")
	p.sees(`section[aria-label="Follow up"]`, "Hotel Post")
	p.press("button", "+ row")
	p.choose("Field of row 1", "Mark")
	p.choose("Operator of row 1", "is at most")
	p.fill(`[aria-label="Value of row 1"]`, "2")
	require.NoError(t, p.Click(`.routerow [aria-label="+ condition: other kinds"]`))
	p.did++
	p.press(".ant-dropdown-menu-item", "All of …")
	p.choose("How the conditions of row 1 are joined", "at least one of")
	p.choose("Field of condition 2.1 of row 1", "Late")
	p.fill(`[aria-label="Value of condition 2.1 of row 1"]`, "yes")
	require.NoError(t, p.ClickText(".depth-2 button", "+ condition"))
	p.did++
	p.choose("Field of condition 2.2 of row 1", "Litres")
	p.choose("Operator of condition 2.2 of row 1", "is above")
	p.fill(`[aria-label="Value of condition 2.2 of row 1"]`, "2000")
	p.choose("Channel 1 of Row 1", "#tours")
	p.press("button", "+ shared page")
	p.choose("Fields that link 2 shares", "Remark")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheetstate", "is on")
	t.Logf("%d presses and fields, of 20 (30 at most)", p.did)
	axeOn(t, page)("a survey's sheet")

	taken("A-2", "Gasthof Krone", 2, false, 300, "=Too warm")
	taken("A-3", "Pension Iris", 4, true, 3200, "Came at nine")
	taken("A-4", "Café Süd", 4, true, 300, "Late, but well")
	for id, room := range map[string]string{"A-2": "tours", "A-3": "tours", "A-4": "counter"} {
		inSquare(p, room, id)
	}
	link, _ := inSquare(p, "tours", "A-2")["links"].([]any)
	require.Len(t, link, 1)
	res, err := http.Get(link[0].(map[string]any)["to"].(string))
	require.NoError(t, err)
	shown, _ := io.ReadAll(res.Body)
	res.Body.Close()
	assert.Contains(t, string(shown), "=Too warm")
	assert.NotContains(t, string(shown), "079 123", "only what was chosen")
	var rows [][]string
	require.Eventually(t, func() bool {
		book, err := excelize.OpenFile(file)
		if err != nil {
			return false // it is being written
		}
		defer book.Close()
		rows, err = book.GetRows("Sheet1")
		return err == nil && len(rows) == 5
	}, 20*time.Second, 100*time.Millisecond)
	var ids []string
	for _, r := range rows[2:] {
		ids = append(ids, r[0])
		if r[0] == "A-2" {
			assert.Equal(t, []string{"A-2", "Gasthof Krone", "2", "FALSE", "300", "=Too warm"}, r)
		}
	}
	assert.ElementsMatch(t, []string{"A-2", "A-3", "A-4"}, ids)
	assert.Empty(t, p.Troubles())
}

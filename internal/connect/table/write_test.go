package table_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/table"
	"dorfbote/internal/core/value"
	"dorfbote/internal/memory"
)

// add adds a row to a table of the folder.
func (f *folder) add(settings map[string]string, again bool, set map[string]any) (connect.Written, error) {
	env := connect.Env{Folder: f.dir, Workspace: value.DefaultWorkspace()}
	return table.Kind().Write(f.t.Context(), connect.Config{Settings: map[string]string{"where": "in a folder"}, Env: env}, connect.SourceConfig{Settings: settings}, connect.Write{Set: set, Again: again})
}

// A row is added to a sheet of a workbook: with the formats of the row above, texts as texts, and everything else as it was.
func TestARowIsAddedToAWorkbook(t *testing.T) {
	f := newFolder(t, "en")
	f.put("prices.xlsx", madeWorkbook(t))
	prices := map[string]string{"file": "prices.xlsx", "heading": "2"}
	row := map[string]any{"No": 9.0, "Farm": "=HYPERLINK(\"x\") <&> Käser\x01", "Price": 99.25, "From": "2026-12-01", "Seen": "2026-12-01T07:30", "Paid": true}
	w, err := f.add(prices, false, row)
	require.NoError(t, err)
	assert.Equal(t, "row 5 added", w.Answer)
	w, err = f.add(prices, true, row)
	require.NoError(t, err)
	assert.Contains(t, w.Answer, "was there already")

	b, err := excelize.OpenFile(filepath.Join(f.dir, "prices.xlsx"))
	require.NoError(t, err)
	defer b.Close()
	rows, err := b.GetRows("Prices")
	require.NoError(t, err)
	require.Len(t, rows, 5)
	assert.Equal(t, []string{"9", "=HYPERLINK(\"x\") <&> Käser\uFFFD", "CHF 99.25", "12-01-26", "01.12.2026 07:30", "TRUE"}, rows[4][:6], "the formats are those of the row above")
	for _, c := range []struct{ cell, formula string }{{"B5", ""}, {"G3", "C3*2"}} {
		formula, err := b.GetCellFormula("Prices", c.cell)
		require.NoError(t, err)
		assert.Equal(t, c.formula, formula, c.cell)
	}
	size, err := b.GetSheetDimension("Prices")
	require.NoError(t, err)
	assert.Equal(t, "A1:G5", size)
	other, err := b.GetRows("Other")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"id", "x"}, {"a", "1"}}, other)
	old := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "prices.xlsx"), old, old))
	read, _, err := f.poll("No", prices, nil)
	require.NoError(t, err)
	assert.Equal(t, []any{"2026-12-01", "2026-12-01T07:30:00", 99.25}, []any{read[2]["From"], read[2]["Seen"], read[2]["Price"]}, "it is read as it was written")

	// Another sheet; what is no column; what is too long. Nothing of these is half done.
	before, err := os.ReadFile(filepath.Join(f.dir, "prices.xlsx"))
	require.NoError(t, err)
	for _, c := range []struct {
		settings map[string]string
		set      map[string]any
		said     string
	}{
		{prices, map[string]any{"No": 1.0, "Prise": 2.0}, "no column Prise; did you mean Price?"},
		{prices, map[string]any{"Farm": strings.Repeat("ä", 40_000)}, "holds 32767"},
		{map[string]string{"file": "prices.xlsx", "sheet": "Gone"}, map[string]any{"No": 1.0}, `no sheet "Gone"; it has Prices, Other`},
	} {
		_, err := f.add(c.settings, false, c.set)
		require.ErrorContains(t, err, c.said)
	}
	after, err := os.ReadFile(filepath.Join(f.dir, "prices.xlsx"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(before, after))
	_, err = f.add(map[string]string{"file": "prices.xlsx", "sheet": "other"}, false, map[string]any{"id": "b", "x": 2.0})
	require.NoError(t, err)

	f.put("large.xlsx", make([]byte, 21<<20))
	_, err = f.add(map[string]string{"file": "large.xlsx"}, false, map[string]any{"No": 1.0})
	require.ErrorContains(t, err, "larger than 20 MiB")
	f.put("old.xls", []byte("x"))
	_, err = f.add(map[string]string{"file": "old.xls"}, false, map[string]any{"No": 1.0})
	require.ErrorContains(t, err, ".csv and .xlsx files only")
}

// Sheets as other programs write them: without numbers of rows, with names for their elements, and with nothing in them but a heading.
func TestRowsOfOtherWorkbooks(t *testing.T) {
	f := newFolder(t, "en")
	b := excelize.NewFile()
	require.NoError(t, b.SetSheetRow("Sheet1", "A1", &[]any{"id", "said"}))
	raw, err := b.WriteToBuffer()
	require.NoError(t, err)
	for name, sheet := range map[string]string{
		"plain":    `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData><row><c t="inlineStr"><is><t>id</t></is></c><c t="inlineStr"><is><t>said</t></is></c></row></sheetData></worksheet>`,
		"prefixed": `<x:worksheet xmlns:x="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><x:dimension ref="A1"/><x:sheetData><x:row r="1"><x:c r="A1" t="inlineStr"><x:is><x:t>id</x:t></x:is></x:c><x:c r="B1" t="inlineStr"><x:is><x:t>said</x:t></x:is></x:c></x:row></x:sheetData><x:pageMargins left="1" right="1" top="1" bottom="1" header="0" footer="0"/></x:worksheet>`,
	} {
		t.Run(name, func(t *testing.T) {
			f.put(name+".xlsx", exchanged(t, raw.Bytes(), "xl/worksheets/sheet1.xml", sheet))
			for _, id := range []string{"a", "b"} {
				_, err := f.add(map[string]string{"file": name + ".xlsx"}, false, map[string]any{"id": id, "said": "x " + id})
				require.NoError(t, err)
			}
			old := time.Now().Add(-time.Minute)
			require.NoError(t, os.Chtimes(filepath.Join(f.dir, name+".xlsx"), old, old))
			rows, _, err := f.poll("id", map[string]string{"file": name + ".xlsx"}, nil)
			require.NoError(t, err)
			require.Len(t, rows, 2)
			assert.Equal(t, []any{"a", "x b"}, []any{rows[0]["id"], rows[1]["said"]})
		})
	}
}

// A table that people have named grows by the row that is added below it; one beside it, one that ends in totals, and one of another
// sheet do not.
func TestTablesOfAWorkbookGrow(t *testing.T) {
	f := newFolder(t, "en")
	b := excelize.NewFile()
	defer b.Close()
	for i, r := range [][]any{{"id", "said", nil, "note", "x"}, {"a", "one", nil, "n", 1}, {"b", "two", nil, nil, nil}} {
		require.NoError(t, b.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &r))
	}
	_, err := b.NewSheet("Other")
	require.NoError(t, err)
	require.NoError(t, b.SetSheetRow("Other", "A1", &[]any{"p", "q"}))
	for _, one := range []struct { // in this order, by which their parts are numbered
		sheet string
		table excelize.Table
	}{{"Sheet1", excelize.Table{Range: "A1:B3", Name: "Answers"}}, {"Sheet1", excelize.Table{Range: "D1:E2", Name: "Notes"}}, {"Other", excelize.Table{Range: "A1:B3", Name: "Else"}}} {
		require.NoError(t, b.AddTable(one.sheet, &one.table))
	}
	raw, err := b.WriteToBuffer()
	require.NoError(t, err)
	f.put("named.xlsx", raw.Bytes())
	for _, id := range []string{"c", "d"} {
		_, err = f.add(map[string]string{"file": "named.xlsx"}, false, map[string]any{"id": id, "said": "x"})
		require.NoError(t, err)
	}
	areas := func(file string) map[string]string {
		after, err := excelize.OpenFile(filepath.Join(f.dir, file))
		require.NoError(t, err)
		defer after.Close()
		out := map[string]string{}
		for _, sheet := range []string{"Sheet1", "Other"} {
			list, err := after.GetTables(sheet)
			require.NoError(t, err)
			for _, one := range list {
				out[one.Name] = one.Range
			}
		}
		return out
	}
	assert.Equal(t, map[string]string{"Answers": "A1:B5", "Notes": "D1:E2", "Else": "A1:B3"}, areas("named.xlsx"))
	part := func(file, name string) string {
		z, err := zip.OpenReader(filepath.Join(f.dir, file))
		require.NoError(t, err)
		defer z.Close()
		in, err := z.Open(name)
		require.NoError(t, err)
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		return string(text)
	}
	assert.Contains(t, part("named.xlsx", "xl/tables/table1.xml"), `<autoFilter ref="A1:B5"`, "what it is filtered by, too")
	with := strings.Replace(part("named.xlsx", "xl/tables/table1.xml"), "<table ", `<table totalsRowCount="1" `, 1)
	now, err := os.ReadFile(filepath.Join(f.dir, "named.xlsx"))
	require.NoError(t, err)
	f.put("totals.xlsx", exchanged(t, now, "xl/tables/table1.xml", with))
	_, err = f.add(map[string]string{"file": "totals.xlsx"}, false, map[string]any{"id": "e", "said": "x"})
	require.NoError(t, err)
	assert.Equal(t, "A1:B5", areas("totals.xlsx")["Answers"])
}

// Several who add rows wait for each other: none is lost. However large the workbook is, it is not held in memory.
func TestRowsAreAddedOneAfterTheOther(t *testing.T) {
	f := newFolder(t, "en")
	b := excelize.NewFile()
	w, err := b.NewStreamWriter("Sheet1")
	require.NoError(t, err)
	require.NoError(t, w.SetRow("A1", []any{"id", "said"}))
	for i := range 60_000 {
		require.NoError(t, w.SetRow(fmt.Sprint("A", i+2), []any{i, strings.Repeat("milk ", 10)}))
	}
	require.NoError(t, w.Flush())
	raw, err := b.WriteToBuffer()
	require.NoError(t, err)
	require.NoError(t, b.Close())
	f.put("log.xlsx", raw.Bytes())
	var adding sync.WaitGroup
	peak := memory.Peak(func() {
		for i := range 6 {
			adding.Go(func() {
				_, err := f.add(map[string]string{"file": "log.xlsx"}, false, map[string]any{"id": fmt.Sprint("n", i), "said": "x"})
				assert.NoError(t, err)
			})
		}
		adding.Wait()
	})
	assert.Less(t, peak>>20, uint64(120), "MiB")
	old := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "log.xlsx"), old, old))
	rows, _, err := f.poll("id", map[string]string{"file": "log.xlsx"}, nil)
	require.NoError(t, err)
	assert.Len(t, rows, 60_006)
}

// exchanged is a workbook with another part in the place of one.
func exchanged(t *testing.T, raw []byte, name, part string) []byte {
	t.Helper()
	from, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	var b bytes.Buffer
	to := zip.NewWriter(&b)
	for _, f := range from.File {
		if f.Name != name {
			require.NoError(t, to.Copy(f))
			continue
		}
		w, err := to.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(part))
		require.NoError(t, err)
	}
	require.NoError(t, to.Close())
	return b.Bytes()
}

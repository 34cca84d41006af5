package table_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/memory"
)

// packed packs parts into a file; what repeats packs small.
func packed(t *testing.T, shared, rows func(io.Writer)) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	part := func(name string, write func(io.Writer)) {
		w, err := z.Create(name)
		require.NoError(t, err)
		write(w)
	}
	text := func(s string) func(io.Writer) { return func(w io.Writer) { _, _ = io.WriteString(w, s) } }
	part("xl/workbook.xml", text(`<workbook><sheets><sheet name="Prices" id="r1"/></sheets></workbook>`))
	part("xl/_rels/workbook.xml.rels", text(`<Relationships><Relationship Id="r1" Target="sheet1.xml"/></Relationships>`))
	part("xl/sharedStrings.xml", shared)
	part("xl/sheet1.xml", rows)
	require.NoError(t, z.Close())
	return b.Bytes()
}

const someRows = `<worksheet><sheetData><row r="1"><c t="inlineStr"><is><t>No</t></is></c></row><row r="2"><c><v>7</v></c></row></sheetData></worksheet>`

// A small file that unpacks to very much is refused with words, and takes little memory.
func TestWorkbooksThatUnpackToTooMuch(t *testing.T) {
	few := func(w io.Writer) { _, _ = io.WriteString(w, someRows) }
	long := strings.Repeat("a", 300)
	for _, c := range []struct {
		name, says   string
		shared, rows func(io.Writer)
	}{
		{"a million shared texts", "texts", func(w io.Writer) {
			_, _ = io.WriteString(w, "<sst>")
			for i := range 1_000_000 {
				fmt.Fprintf(w, "<si><t>%s%d</t></si>", long, i)
			}
			_, _ = io.WriteString(w, "</sst>")
		}, few},
		{"one text of 300 MB", "a text of more than", func(w io.Writer) {
			_, _ = io.WriteString(w, "<sst><si><t>")
			for range 300 {
				_, _ = io.WriteString(w, strings.Repeat("a", 1<<20))
			}
			_, _ = io.WriteString(w, "</t></si></sst>")
		}, few},
		{"one tag of 100 MB", "a text of more than", func(w io.Writer) {
			_, _ = io.WriteString(w, `<sst><si a="`)
			for range 100 {
				_, _ = io.WriteString(w, strings.Repeat("a", 1<<20))
			}
			_, _ = io.WriteString(w, `"><t>x</t></si></sst>`)
		}, few},
		{"rows that each name a long text in every column", "of text", func(w io.Writer) {
			fmt.Fprintf(w, "<sst><si><t>%s</t></si></sst>", strings.Repeat("a", 1<<20))
		}, func(w io.Writer) {
			_, _ = io.WriteString(w, "<worksheet><sheetData><row>")
			for i := range 2000 {
				fmt.Fprintf(w, `<c t="inlineStr"><is><t>n%d</t></is></c>`, i)
			}
			_, _ = io.WriteString(w, "</row><row>"+strings.Repeat(`<c t="s"><v>0</v></c>`, 2000)+"</row></sheetData></worksheet>")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := newFolder(t, "en")
			raw := packed(t, c.shared, c.rows)
			f.put("prices.xlsx", raw)
			var err error
			peak := memory.Peak(func() { _, _, err = f.poll("No", map[string]string{"file": "prices.xlsx"}, json.RawMessage(nil)) })
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.Less(t, peak, uint64(200<<20))
			t.Logf("%d kB packed: %d MiB in use at most: %v", len(raw)>>10, peak>>20, err)
		})
	}
}

// A quote that is left open does not take the rest of a large file into one cell.
func TestAnOpenQuoteInALargeFile(t *testing.T) {
	f := newFolder(t, "en")
	f.put("prices.csv", []byte("No,Price\n1,\""+strings.Repeat("a,b\n", 10<<20)))
	var err error
	peak := memory.Peak(func() { _, _, err = f.poll("No", map[string]string{"file": "prices.csv"}, nil) })
	require.Error(t, err)
	assert.Less(t, peak, uint64(64<<20))
}

// A link in the folder leads nowhere outside it.
func TestLinksLeadNowhereOutsideTheFolder(t *testing.T) {
	f := newFolder(t, "en")
	outside := filepath.Join(t.TempDir(), "secret.csv")
	require.NoError(t, os.WriteFile(outside, []byte("No,Word\n1,secret\n"), 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(f.dir, "prices.csv")))
	rows, _, err := f.poll("No", map[string]string{"file": "prices.csv"}, nil)
	require.Error(t, err)
	assert.Empty(t, rows)
	list, err := f.conn.Browse(context.Background())
	require.NoError(t, err)
	for _, c := range list {
		assert.NotContains(t, c.Detail, "Word")
	}
}

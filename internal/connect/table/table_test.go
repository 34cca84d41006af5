package table_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/table"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/testdb"
)

// folder is a folder of tables with its connection.
type folder struct {
	t    testing.TB
	dir  string
	conn connect.Conn
}

func newFolder(t testing.TB, locale string) *folder {
	t.Helper()
	env := testdb.Loopback(t, value.Workspace{Zone: time.UTC, Locale: locale})
	conn, err := table.Kind().Open(connect.Config{Settings: map[string]string{"where": "in a folder"}, Env: env})
	require.NoError(t, err)
	return &folder{t, env.Folder, conn}
}

// put writes a file that was left alone for a while.
func (f *folder) put(name string, raw []byte) {
	f.t.Helper()
	path := filepath.Join(f.dir, name)
	require.NoError(f.t, os.WriteFile(path, raw, 0o644))
	old := time.Now().Add(-time.Minute)
	require.NoError(f.t, os.Chtimes(path, old, old))
}

func (f *folder) poll(key string, settings map[string]string, cursor json.RawMessage) ([]map[string]any, connect.Polled, error) {
	var out []map[string]any
	p, err := f.conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Settings: settings, Key: key}, cursor, func(it connect.Item) error {
		out = append(out, it.Record)
		return nil
	})
	return out, p, err
}

func TestHoweverAFileIsWritten(t *testing.T) {
	want := map[string]any{"No": 7.0, "Farm": "Sonnleiten, Käser", "Price": 1240.5, "From": "2026-11-20", "Code": "007"}
	for _, c := range []struct{ name, raw, locale string }{
		{"commas", "No,Farm,Price,From,Code\n7,\"Sonnleiten, Käser\",1240.5,2026-11-20,007\n8,B,3,2026-11-21,12\n", "en"},
		{"semicolons and a mark", "\xef\xbb\xbfNo;Farm;Price;From;Code\r\n7;Sonnleiten, Käser;1.240,5;20.11.2026;007\r\n8;B;3;1.2.2026;12\r\n", "en"},
		{"Windows-1252", "No;Farm;Price;From;Code\n7;Sonnleiten, K\xe4ser;1240,5;20/11/2026;007\n8;B;3,25;21/11/2026;12\n", "en"},
		{"tabs", "No\tFarm\tPrice\tFrom\tCode\n7\tSonnleiten, Käser\t1240.5\t11/20/2026\t007\n8\tB\t3\t11/21/2026\t12\n", "en-US"},
		{"UTF-16", utf16("No;Farm;Price;From;Code\n7;Sonnleiten, Käser;1240,5;2026-11-20;007\n8;B;3;2026-11-21;12\n"), "en"},
		{"no line end, empty lines", "\nNo,Farm,Price,From,Code\n\n7,\"Sonnleiten, Käser\",\"1,240.50\",2026-11-20,007\n\n8,B,3,2026-11-21,12", "en"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := newFolder(t, c.locale)
			f.put("prices.csv", []byte(c.raw))
			rows, polled, err := f.poll("No", map[string]string{"file": "prices.csv"}, nil)
			require.NoError(t, err)
			require.Len(t, rows, 2)
			assert.Equal(t, want, rows[0])
			assert.True(t, polled.Whole)
			_, again, err := f.poll("No", map[string]string{"file": "prices.csv"}, polled.Cursor)
			require.NoError(t, err)
			assert.True(t, again.Same)
		})
	}
}

func utf16(s string) string {
	out := "\xff\xfe"
	for _, r := range s {
		out += string([]byte{byte(r), byte(r >> 8)})
	}
	return out
}

func TestAnAmbiguousFileIsReadAsTheWorkspaceWrites(t *testing.T) {
	f := newFolder(t, "de")
	f.put("a.csv", []byte("id;x\n1;1.240\n2;2.000\n"))
	rows, _, err := f.poll("id", map[string]string{"file": "a.csv"}, nil)
	require.NoError(t, err)
	assert.Equal(t, 1240.0, rows[0]["x"])
	rows, _, err = f.poll("id", map[string]string{"file": "a.csv", "decimal": "point"}, nil)
	require.NoError(t, err)
	assert.Equal(t, 1.24, rows[0]["x"])
}

func TestWhatIsNotWholeIsNotRead(t *testing.T) {
	f := newFolder(t, "en")
	fresh := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(f.dir, name), []byte(text), 0o644))
	}
	fresh("being.csv", "id,x\n1,2\n")
	for name, c := range map[string]struct{ text, want string }{
		"cut.csv":     {"id,x,y\n1,2,3\n2,4", "not written to its end"},
		"quote.csv":   {"id,x\n1,\"open\n2,3\n", "line"},
		"empty.csv":   {"", "empty"},
		"wide.csv":    {"id,x\n1,2,3\n", "column 3"},
		"nokey.csv":   {"id,x\n,2\n", "names the row"},
		"broken.xlsx": {"PK\x03\x04 half a workbook", "not written to its end"},
	} {
		f.put(name, []byte(c.text))
		_, _, err := f.poll("id", map[string]string{"file": name}, nil)
		require.ErrorContains(t, err, c.want, name)
	}
	_, _, err := f.poll("id", map[string]string{"file": "being.csv"}, nil)
	require.ErrorContains(t, err, "being written")
	for _, name := range []string{"../secret.csv", "/etc/passwd", "none.csv"} {
		_, _, err = f.poll("id", map[string]string{"file": name}, nil)
		require.Error(t, err, name)
	}
}

func madeWorkbook(t testing.TB) []byte {
	b := excelize.NewFile()
	defer b.Close()
	require.NoError(t, b.SetSheetName("Sheet1", "Prices"))
	day, err := b.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	own := `dd"."mm"."yyyy hh:mm`
	moment, err := b.NewStyle(&excelize.Style{CustomNumFmt: &own})
	require.NoError(t, err)
	money := `"CHF" #,##0.00`
	price, err := b.NewStyle(&excelize.Style{CustomNumFmt: &money})
	require.NoError(t, err)
	at := time.Date(2026, 11, 20, 6, 41, 0, 0, time.UTC)
	for r, row := range [][]any{{"Lindental prices"}, {"No", "Farm", "Price", "From", "Seen", "Paid", "Sum"}, {7, "Sonnleiten", 1240.5, at.Truncate(24 * time.Hour), at, true}, {8, nil, 3, at.Truncate(24 * time.Hour), at, false}} {
		for c, v := range row {
			cell, _ := excelize.CoordinatesToCellName(c+1, r+1)
			require.NoError(t, b.SetCellValue("Prices", cell, v))
		}
	}
	for _, style := range []struct {
		cells string
		id    int
	}{{"D", day}, {"E", moment}, {"C", price}} {
		require.NoError(t, b.SetCellStyle("Prices", style.cells+"3", style.cells+"4", style.id))
	}
	require.NoError(t, b.SetCellFormula("Prices", "G3", "C3*2"))
	_, err = b.NewSheet("Other")
	require.NoError(t, err)
	require.NoError(t, b.SetSheetRow("Other", "A1", &[]any{"id", "x"}))
	require.NoError(t, b.SetSheetRow("Other", "A2", &[]any{"a", 1}))
	raw, err := b.WriteToBuffer()
	require.NoError(t, err)
	return raw.Bytes()
}

func TestWorkbooks(t *testing.T) {
	f := newFolder(t, "en")
	raw := madeWorkbook(t)
	f.put("prices.xlsx", raw)
	rows, _, err := f.poll("No", map[string]string{"file": "prices.xlsx", "heading": "2"}, nil)
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, map[string]any{"No": 7.0, "Farm": "Sonnleiten", "Price": 1240.5, "From": "2026-11-20", "Seen": "2026-11-20T06:41:00", "Paid": true}, rows[0])
	rows, _, err = f.poll("id", map[string]string{"file": "prices.xlsx", "sheet": "Other"}, nil)
	require.NoError(t, err)
	assert.Equal(t, []map[string]any{{"id": "a", "x": 1.0}}, rows)
	_, _, err = f.poll("id", map[string]string{"file": "prices.xlsx", "sheet": "None"}, nil)
	require.ErrorContains(t, err, "Prices, Other")
	choices, err := f.conn.Browse(context.Background())
	require.NoError(t, err)
	assert.Len(t, choices, 2)
	f.put("prices.xlsx", raw[:len(raw)/2])
	_, _, err = f.poll("No", map[string]string{"file": "prices.xlsx"}, nil)
	require.Error(t, err)
}

// A file of a real server is fetched only if it has changed.
func TestByAddress(t *testing.T) {
	address, www := peers.Nginx(t)
	file := filepath.Join(www, "p.csv")
	require.NoError(t, os.WriteFile(file, []byte("id,x\n1,2\n"), 0o644))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(-time.Minute)))
	conn, err := table.Kind().Open(connect.Config{Settings: map[string]string{"address": address + "/p.csv"}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	assert.True(t, connect.Proved(conn.Prove(context.Background())))
	f := &folder{t: t, conn: conn}
	rows, polled, err := f.poll("id", nil, nil)
	require.NoError(t, err)
	assert.Len(t, rows, 1)
	_, again, err := f.poll("id", nil, polled.Cursor)
	require.NoError(t, err)
	assert.True(t, again.Same)
}

func FuzzTables(f *testing.F) {
	f.Add([]byte("id;x\n1;1,5\n2;2,5\n"))
	f.Add([]byte("\xff\xfei\x00d\x00\n\x001\x00"))
	f.Add(madeWorkbook(f))
	dir := newFolder(f, "en")
	n := 0
	f.Fuzz(func(t *testing.T, raw []byte) {
		n++
		name := fmt.Sprintf("f%d.csv", n%4)
		dir.t = t
		dir.put(name, raw)
		rows, _, err := dir.poll("id", map[string]string{"file": name}, nil)
		if err == nil {
			for _, r := range rows {
				if _, err := value.ReadJSON(value.AppendJSON(nil, r)); err != nil && !strings.Contains(err.Error(), "duplicate") {
					t.Fatal(err)
				}
			}
		}
		_, _ = dir.conn.Browse(context.Background())
	})
}

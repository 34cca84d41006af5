// Package table reads the rows of files of separated values and of workbooks, by address or in a folder.
package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/table/workbook"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Kind describes tables.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsAsked,
		Name:  "table", Title: "Table", Does: "Reads the rows of a .csv or .xlsx file, by its address or in a folder of this server",
		Settings: append([]connect.Setting{
			{Name: "where", Label: "The files lie", Type: "choice", Options: []string{"at an address", "in a folder"}, Default: "at an address"},
			{Name: "address", Label: "Address", Type: "address", Required: true, When: "where=at an address", Help: "such as https://example.org/prices.csv"},
			{Name: "folder", Label: "Folder", Type: "text", When: "where=in a folder", Help: "below the folder that this server may read; empty for that folder itself"},
		}, connect.AuthSettings()...),
		Source: []connect.Setting{
			{Name: "file", Label: "File", Type: "text", Help: "in the folder, such as prices.csv", When: "where=in a folder"},
			{Name: "sheet", Label: "Sheet of the workbook", Type: "text", More: true, Help: "the first where nothing is said"},
			{Name: "heading", Label: "Row with the columns' names", Type: "number", Default: "1", More: true},
			{Name: "decimal", Label: "Decimals are written with", Type: "choice", Options: []string{"found out", "point", "comma"}, Default: "found out", More: true},
		},
		Quickest: 15 * time.Second, Slowest: 15 * time.Minute,
		Open:  func(c connect.Config) (connect.Conn, error) { return &tables{c}, nil },
		Write: write, Writable: writable,
	}
}

type tables struct{ config connect.Config }

func (t *tables) Close() error { return nil }

func (t *tables) local() bool { return t.config.Get("where", "at an address") == "in a folder" }

// folder is the connection's folder, which never lies outside the one that may be read.
func (t *tables) folder() (*os.Root, error) {
	if t.config.Env.Folder == "" {
		return nil, &fault.Fault{Tried: "opening the folder", Said: "this server may read no folder", Do: "set DORFBOTE_FOLDER to one", Who: "whoever runs this server"}
	}
	root, err := os.OpenRoot(t.config.Env.Folder)
	if err != nil {
		return nil, &fault.Fault{Tried: "opening the folder", Said: err.Error(), Who: "whoever runs this server"}
	}
	sub := strings.Trim(t.config.Settings["folder"], "/ ")
	if sub == "" {
		return root, nil
	}
	defer func() { _ = root.Close() }()
	inner, err := root.OpenRoot(sub)
	if err != nil {
		return nil, &fault.Fault{Tried: "opening the folder " + sub, Said: plainError(err), Do: "choose a folder below the one that this server may read"}
	}
	return inner, nil
}

func plainError(err error) string {
	if pe, ok := errors.AsType[*os.PathError](err); ok {
		return pe.Err.Error()
	}
	return err.Error()
}

// Prove lists the folder, or fetches the file.
func (t *tables) Prove(ctx context.Context) []connect.ProofStep {
	tried := "GET " + t.config.Settings["address"]
	if t.local() {
		tried = "listing the folder " + t.config.Settings["folder"]
	}
	list, err := t.Browse(ctx)
	if err != nil {
		return []connect.ProofStep{connect.Failed(tried, err)}
	}
	if len(list) == 0 {
		return []connect.ProofStep{{Tried: tried, Said: "there is no .csv or .xlsx file", Do: "put one there"}}
	}
	return []connect.ProofStep{connect.Passed(tried, "%s", connect.Counted(len(list), "table"))}
}

// Browse lists the files, and the sheets of workbooks.
func (t *tables) Browse(ctx context.Context) ([]connect.Choice, error) {
	if !t.local() {
		f, err := t.fetch(ctx, nil)
		if err != nil {
			return nil, err
		}
		defer f.done()
		u, _ := url.Parse(t.config.Settings["address"])
		return choices(f.open, filepath.Base(u.Path))
	}
	root, err := t.folder()
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	dir, err := root.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(1000)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Name() < entries[j].Name() })
	var out []connect.Choice
	for _, e := range entries {
		if e.IsDir() || !readable(e.Name()) {
			continue
		}
		list, err := choices(within(root, e.Name()), e.Name())
		if err != nil {
			list = []connect.Choice{{Kind: connect.KindName(fileTitle(e.Name()), "rows"), Title: e.Name(), Detail: err.Error()}}
		}
		for i := range list {
			if list[i].Settings == nil {
				list[i].Settings = map[string]string{}
			}
			list[i].Settings["file"] = e.Name()
		}
		out = append(out, list...)
	}
	return out, nil
}

func readable(name string) bool {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".csv", ".tsv", ".txt", ".xlsx", ".xlsm":
		return !strings.HasPrefix(filepath.Base(name), ".") && !strings.HasPrefix(filepath.Base(name), "~")
	}
	return false
}

// opener opens a file, as often as it is read. One of a folder is opened within it, whatever links lie there.
type opener func() (*os.File, error)

func within(root *os.Root, file string) opener {
	return func() (*os.File, error) { return root.Open(file) }
}

// choices describes the tables of one file.
func choices(open opener, name string) ([]connect.Choice, error) {
	if !isWorkbook(open) {
		r, err := openTable(open, map[string]string{})
		if err != nil {
			return nil, err
		}
		defer func() { _ = r.Close() }()
		return []connect.Choice{{Kind: connect.KindName(fileTitle(name), "rows"), Title: name, Detail: strings.Join(r.names, ", "), Key: r.likelyKey(), Settings: map[string]string{}}}, nil
	}
	f, err := open()
	if err != nil {
		return nil, err
	}
	w, err := workbook.Open(f)
	if err != nil {
		return nil, err
	}
	_ = w.Close()
	var out []connect.Choice
	for i, sheet := range w.Sheets() {
		settings := map[string]string{"sheet": sheet}
		r, err := openTable(open, settings)
		if err != nil {
			continue // a sheet without a heading is no table
		}
		kind := connect.KindName(fileTitle(name), "rows")
		if i > 0 {
			kind += "-" + connect.KindName(sheet, "sheet")
		}
		out = append(out, connect.Choice{Kind: kind, Title: name + ", " + sheet, Detail: strings.Join(r.names, ", "), Key: r.likelyKey(), Settings: settings})
		_ = r.Close()
	}
	return out, nil
}

func isWorkbook(open opener) bool {
	f, err := open()
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 4)
	n, _ := io.ReadFull(f, head)
	return n == 4 && string(head) == "PK\x03\x04"
}

// fetched is a file on this machine's disk.
type fetched struct {
	open opener
	stat func() (os.FileInfo, error)
	mark mark
	same bool
	done func()
}

// mark is what a file is known by.
type mark struct {
	ETag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"`
	Size     int64  `json:"size"`
}

// fetch brings a file from its address into a file of its own. A cut answer is an error, never a short file.
func (t *tables) fetch(ctx context.Context, last *mark) (*fetched, error) {
	h := t.config.Auth()
	if last != nil && last.ETag != "" {
		h.Set("If-None-Match", last.ETag)
	}
	if last != nil && last.Modified != "" {
		h.Set("If-Modified-Since", last.Modified)
	}
	res, err := t.config.Env.Get(ctx, t.config.Settings["address"], h)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.Status == http.StatusNotModified {
		return &fetched{same: true, mark: *last, done: func() {}}, nil
	}
	f, err := os.CreateTemp("", "dorfbote-table-*")
	if err != nil {
		return nil, err
	}
	done := func() { _ = os.Remove(f.Name()) }
	n, err := io.Copy(f, res.Body)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		done()
		return nil, fmt.Errorf("reading %s: %w", res.URL.Host, err)
	}
	etag, modified := res.Validators()
	return &fetched{open: func() (*os.File, error) { return os.Open(f.Name()) }, mark: mark{etag, modified, n}, done: done}, nil
}

// settled is how long a file must have been left alone before it counts as written to its end.
const settled = 2 * time.Second

// look finds a file in the folder. One that is being written is left for the next time.
func (t *tables) look(src connect.SourceConfig, last *mark) (*fetched, error) {
	root, err := t.folder()
	if err != nil {
		return nil, err
	}
	keep := false
	defer func() {
		if !keep {
			_ = root.Close()
		}
	}()
	file := src.Settings["file"]
	st, err := root.Stat(file)
	if err != nil {
		return nil, &fault.Fault{Tried: "opening " + file, Said: plainError(err), Do: "check that the file is there, and that this server may read it"}
	}
	m := markOf(st)
	if last != nil && *last == m {
		return &fetched{same: true, mark: m, done: func() {}}, nil
	}
	if age := time.Since(st.ModTime()); age < settled && age > -settled {
		return nil, &fault.Fault{Tried: "reading " + file, Said: "it is being written at this moment", Wait: settled}
	}
	keep = true
	return &fetched{open: within(root, file), stat: func() (os.FileInfo, error) { return root.Stat(file) }, mark: m, done: func() { _ = root.Close() }}, nil
}

func markOf(st os.FileInfo) mark {
	return mark{Modified: st.ModTime().UTC().Format(time.RFC3339Nano), Size: st.Size()}
}

// Poll reads every row, unless the file is the one that was read last.
func (t *tables) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	var last *mark
	if len(raw) > 0 {
		last = &mark{}
		_ = json.Unmarshal(raw, last)
	}
	out := connect.Polled{Calls: 1, Whole: true}
	var f *fetched
	var err error
	if t.local() {
		f, err = t.look(src, last)
	} else {
		f, err = t.fetch(ctx, last)
	}
	if err != nil {
		return out, err
	}
	defer f.done()
	if f.same {
		return connect.Polled{Calls: 1, Same: true, Cursor: raw}, nil
	}
	if err := t.rows(ctx, f, src, emit); err != nil {
		return out, err
	}
	if t.local() { // what was written to while it was read has not been read
		if st, err := f.stat(); err != nil || markOf(st) != f.mark {
			return out, &fault.Fault{Tried: "reading " + src.Settings["file"], Said: "it was written to meanwhile", Wait: settled}
		}
	}
	out.Cursor, err = json.Marshal(f.mark)
	return out, err
}

func (t *tables) rows(ctx context.Context, f *fetched, src connect.SourceConfig, emit func(connect.Item) error) error {
	how, err := t.scan(f.open, src.Settings)
	if err != nil {
		return err
	}
	r, err := openTable(f.open, src.Settings)
	if err != nil {
		return err
	}
	defer func() { _ = r.Close() }()
	// Something else may stand at the address, such as a page that says the table is away: not one row is then gone.
	if !slices.Contains(r.names, src.Key) {
		first := strings.Join(r.names[:min(len(r.names), 8)], ", ")
		return &fault.Fault{Tried: "reading the columns' names", Said: fmt.Sprintf("there is no column %q, which names a row; the columns are: %s", src.Key, first), Do: "look at the file, or choose another column as the key"}
	}
	for n := 0; ; n++ {
		cells, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return damaged(err)
		}
		if n%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		record := make(map[string]any, len(r.names))
		for i, name := range r.names {
			if i < len(cells) {
				if v := how[i].read(cells[i]); v != nil {
					record[name] = v
				}
			}
		}
		key := connect.KeyOf(record, src.Key)
		if key == "" {
			return &fault.Fault{Tried: fmt.Sprintf("reading row %d", r.Line()), Said: fmt.Sprintf("its column %q, which names the row, is empty", src.Key), Do: "choose another column as the key"}
		}
		if err := emit(connect.Item{Key: key, Record: record}); err != nil {
			return err
		}
	}
}

// scan is the first pass: it finds out what the columns hold, and whether the file is whole.
func (t *tables) scan(open opener, settings map[string]string) ([]reading, error) {
	r, err := openTable(open, settings)
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	cols := make([]columnSeen, len(r.names))
	last := 0
	for {
		cells, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, damaged(err)
		}
		last = len(cells)
		for i, v := range cells {
			switch {
			case i < len(cols):
				cols[i].see(v)
			case !value.Empty(v):
				return nil, &fault.Fault{Tried: fmt.Sprintf("reading row %d", r.Line()), Said: fmt.Sprintf("it has a value in column %d, which has no name", i+1), Do: "give the column a name, or name the row that holds the names"}
			}
		}
	}
	if _, text := r.rows.(*csvRows); text && last > 0 && last < len(r.names) && cutOff(open) {
		return nil, &fault.Fault{Tried: "reading the last row", Said: "it ends in the middle, so the file is not written to its end", Wait: settled}
	}
	return readings(cols, settings["decimal"], t.config.Env.Workspace), nil
}

func damaged(err error) error {
	return &fault.Fault{Tried: "reading the table", Said: err.Error(), Do: "the file may be half written or damaged; it will be read again", Wait: settled}
}

// cutOff tells whether a file of text does not end with the end of a line.
func cutOff(open opener) bool {
	f, err := open()
	if err != nil {
		return false
	}
	defer f.Close()
	if _, err := f.Seek(-2, io.SeekEnd); err != nil {
		return false
	}
	tail := make([]byte, 2)
	_, err = io.ReadFull(f, tail)
	return err == nil && tail[0] != '\n' && tail[1] != '\n'
}

func fileTitle(file string) string { return strings.TrimSuffix(file, filepath.Ext(file)) }

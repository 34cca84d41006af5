package table

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"unicode/utf8"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// How large files may be that rows are added to, since a whole new one is written each time.
const (
	maxAppended = 64 << 20 // of .csv
	maxWorkbook = 20 << 20 // of .xlsx
)

// write adds a row to a .csv or .xlsx file in a folder. The new file takes the old one's place in one move, so that whoever
// reads it sees the row whole or not at all.
func write(_ context.Context, c connect.Config, src connect.SourceConfig, w connect.Write) (connect.Written, error) {
	t := &tables{c}
	file := src.Get("file", "")
	out := connect.Written{Address: file, Final: true}
	refuse := func(said, do string) (connect.Written, error) {
		out.Answer = said
		return out, &fault.Fault{Tried: "adding a row to " + file, Said: said, Do: do}
	}
	if said, do := unwritable(t, file, w.Change); said != "" {
		return refuse(said, do)
	}
	root, err := t.folder()
	if err != nil {
		return out, err
	}
	defer func() { _ = root.Close() }()
	lock, err := root.OpenFile("."+file+".lock", os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return refuse(plainError(err), "let this server write to the folder")
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return out, err
	}
	if workbookFile(file) {
		return writeWorkbook(root, file, src.Settings, w, out)
	}
	old, err := readWhole(root, file)
	if err != nil {
		return refuse(plainError(err), "")
	}
	if len(old) > maxAppended || !utf8.Valid(old) {
		return refuse("the file is larger than 64 MiB or not written in UTF-8", "save it as a smaller .csv in UTF-8")
	}
	tab, err := openTable(within(root, file), src.Settings)
	if err != nil {
		return out, err
	}
	names := tab.names
	_ = tab.Close()
	line, err := rowOf(names, old, w.Set)
	if err != nil {
		return refuse(err.Error(), "")
	}
	out.Sent, out.Final = string(line), false
	if w.Again && bytes.HasSuffix(bytes.TrimRight(old, "\r\n"), bytes.TrimRight(line, "\r\n")) {
		out.Answer = "the row was there already: the try before had added it"
		return out, nil
	}
	if len(old) > 0 && old[len(old)-1] != '\n' {
		old = append(old, '\n')
	}
	if err := replace(root, file, append(old, line...)); err != nil {
		return out, err
	}
	out.Answer = "1 row added"
	return out, nil
}

// unwritable says why rows can never be added to a file, or changed, and what to do; "" where they may be.
func unwritable(t *tables, file string, change bool) (said, do string) {
	switch {
	case change:
		return "a table's rows can be added but not changed", "add a row, or keep these records in an app"
	case !t.local():
		return "the file lies at an address, where it can only be read", "use a table in a folder of this server"
	case !strings.EqualFold(filepath.Ext(file), ".csv") && !workbookFile(file):
		return "rows are added to .csv and .xlsx files only", "save the table as one of these"
	}
	return "", ""
}

// writable says why a row could not be added at the moment, the right to write among the reasons.
func writable(c connect.Config, src connect.SourceConfig, change bool) error {
	t, file := &tables{c}, src.Get("file", "")
	trouble := func(said, do string) error {
		return &fault.Fault{Tried: "adding a row to " + file, Said: said, Do: do}
	}
	if said, do := unwritable(t, file, change); said != "" {
		return trouble(said, do)
	}
	root, err := t.folder()
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	f, err := root.OpenFile(file, os.O_WRONLY, 0)
	if err != nil {
		return trouble(plainError(err), "let this server write to the file")
	}
	_ = f.Close()
	lock, err := root.OpenFile("."+file+".lock", os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return trouble(plainError(err), "let this server write to the folder")
	}
	return lock.Close()
}

func readWhole(root *os.Root, file string) ([]byte, error) {
	f, err := root.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxAppended+1))
}

// rowOf writes a row in the order of the columns. A name that is no column is refused rather than lost.
func rowOf(names []string, old []byte, set map[string]any) ([]byte, error) {
	if err := columnsOf(names, set); err != nil {
		return nil, err
	}
	cells := make([]string, len(names))
	for i, name := range names {
		if cells[i] = formula.Show(set[name], value.DefaultWorkspace()); strings.ContainsAny(cells[i][:min(len(cells[i]), 1)], "=+-@") {
			if _, ok := value.ReadNumber(set[name], value.DefaultWorkspace()); !ok {
				cells[i] = "'" + cells[i] // a record's text never becomes a formula of whoever opens the file
			}
		}
	}
	var b bytes.Buffer
	enc := csv.NewWriter(&b)
	enc.Comma = separator(old[:min(len(old), 64<<10)])
	if err := enc.Write(cells); err != nil {
		return nil, err
	}
	enc.Flush()
	return b.Bytes(), enc.Error()
}

// columnsOf refuses what is to be set and is no column.
func columnsOf(names []string, set map[string]any) error {
	for _, name := range value.SortedKeys(set) {
		if !slices.Contains(names, name) {
			said := "the table has no column " + name
			if near := value.Nearest(name, names); near != "" {
				said += "; did you mean " + near + "?"
			}
			return &fault.Fault{Tried: "adding a row", Said: said}
		}
	}
	return nil
}

func replace(root *os.Root, file string, content []byte) error {
	return replaceBy(root, file, func(f io.Writer) error {
		_, err := f.Write(content)
		return err
	})
}

// replaceBy puts what is written in a file's place, in one move.
func replaceBy(root *os.Root, file string, write func(io.Writer) error) error {
	tmp := "." + file + ".new"
	f, err := root.OpenFile(tmp, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	if err = write(f); err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		_ = root.Remove(tmp)
		return err
	}
	return root.Rename(tmp, file)
}

// Make makes an empty table with these columns in a connection's folder, as a .csv called name, or name-2 and so on where there is one
// already. It gives the file that it made.
func Make(c connect.Config, name string, columns []string) (file string, err error) {
	root, err := (&tables{c}).folder()
	if err != nil {
		return "", err
	}
	defer func() { _ = root.Close() }()
	var head bytes.Buffer
	w := csv.NewWriter(&head)
	w.UseCRLF = true
	if err := w.Write(columns); err != nil {
		return "", err
	}
	w.Flush()
	for n := 1; n < 100; n++ {
		if file = name + ".csv"; n > 1 {
			file = fmt.Sprintf("%s-%d.csv", name, n)
		}
		f, err := root.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, os.ErrExist) {
			continue
		}
		if err != nil {
			return "", &fault.Fault{Tried: "making " + file, Said: plainError(err), Do: "let this server write to the folder", Who: "whoever runs this server"}
		}
		_, err = f.Write(head.Bytes())
		return file, errors.Join(err, f.Close())
	}
	return "", &fault.Fault{Tried: "making " + name + ".csv", Said: "there are too many files of this name", Do: "remove some of them"}
}

package table

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/table/workbook"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

func workbookFile(file string) bool { return strings.EqualFold(filepath.Ext(file), ".xlsx") }

// writeWorkbook adds a row to a sheet of a workbook. Its other sheets and its formats stay as they are; a text is a text, whatever it
// begins with.
func writeWorkbook(root *os.Root, file string, settings map[string]string, w connect.Write, out connect.Written) (connect.Written, error) {
	refuse := func(said, do string) (connect.Written, error) {
		out.Answer = said
		return out, &fault.Fault{Tried: "adding a row to " + file, Said: said, Do: do}
	}
	st, err := root.Stat(file)
	if err != nil {
		return refuse(plainError(err), "")
	}
	if st.Size() > maxWorkbook {
		return refuse(fmt.Sprintf("the workbook is larger than %d MiB", maxWorkbook>>20), "begin a new one, or save it as .csv")
	}
	tab, err := openTable(within(root, file), settings)
	if err != nil {
		return out, err
	}
	names := tab.names
	_ = tab.Close()
	if err := columnsOf(names, w.Set); err != nil {
		return refuse(err.Error(), "")
	}
	cells := make([]any, len(names))
	shown := make([]string, len(names))
	for i, name := range names {
		cells[i] = cellOf(w.Set[name])
		shown[i] = formula.Show(w.Set[name], value.DefaultWorkspace())
	}
	out.Sent, out.Final = strings.Join(shown, " | "), false
	f, err := root.Open(file)
	if err != nil {
		return refuse(plainError(err), "")
	}
	book, err := workbook.Open(f)
	if err != nil {
		return refuse(plainError(err), "")
	}
	defer func() { _ = book.Close() }()
	row := 0
	err = replaceBy(root, file, func(to io.Writer) error {
		row, err = book.Append(to, settings["sheet"], cells, w.Again)
		return err
	})
	if errors.Is(err, workbook.ErrThere) {
		out.Answer = "the row was there already: the try before had added it"
		return out, nil
	}
	if err != nil {
		return refuse(plainError(err), "")
	}
	out.Answer = fmt.Sprintf("row %d added", row)
	return out, nil
}

// cellOf is a value as a cell holds it: a number as a number, as far as its digits are kept, and all else as it is shown.
func cellOf(v any) any {
	switch x := v.(type) {
	case nil:
		return nil
	case float64, bool:
		return x
	}
	if text := formula.Show(v, value.DefaultWorkspace()); text != "" {
		return text
	}
	return nil
}

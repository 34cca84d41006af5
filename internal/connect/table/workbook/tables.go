package workbook

import (
	"archive/zip"
	"encoding/xml"
	"fmt"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"
)

// maxTable is how many bytes the description of a table may have.
const maxTable = 1 << 20

// tablesOf gives the parts that describe the tables of a sheet (ECMA-376, 18.5): areas that people have named and filter by.
func (w *Workbook) tablesOf(sheet string) (map[string]bool, error) {
	out := map[string]bool{}
	dir, name := path.Split(sheet)
	err := w.elements(path.Join(dir, "_rels", name+".rels"), func(_ *xmlReader, e xml.StartElement) error {
		if e.Name.Local != "Relationship" || !strings.HasSuffix(attr(e, "Type"), "/table") {
			return nil
		}
		to := attr(e, "Target")
		if !strings.HasPrefix(to, "/") {
			to = path.Join("/", dir, to)
		}
		out[to[1:]] = true
		return nil
	})
	return out, err
}

var (
	tableArea  = regexp.MustCompile(`\bref="([A-Z]+\d+:[A-Z]+)(\d+)"`)
	withTotals = regexp.MustCompile(`\btotalsRowCount="[1-9]`)
)

// longer copies the description of a table that ends in a row so that it, and what it is filtered by, ends in the next. One that ends
// elsewhere, or in a row of totals, stays as it is.
func longer(z *zip.Writer, f *zip.File, last int) error {
	from, err := f.Open()
	if err != nil {
		return err
	}
	defer from.Close()
	raw, err := io.ReadAll(io.LimitReader(from, maxTable+1))
	if err != nil {
		return err
	}
	area := tableArea.FindSubmatch(raw)
	if len(raw) > maxTable || area == nil || string(area[2]) != strconv.Itoa(last) || withTotals.Match(raw) {
		return z.Copy(f)
	}
	to, err := z.CreateHeader(&zip.FileHeader{Name: f.Name, Method: zip.Deflate, Modified: f.Modified})
	if err != nil {
		return err
	}
	_, err = to.Write(tableArea.ReplaceAllFunc(raw, func(ref []byte) []byte {
		if m := tableArea.FindSubmatch(ref); string(m[2]) == strconv.Itoa(last) {
			return fmt.Appendf(nil, `ref="%s%d"`, m[1], last+1)
		}
		return ref
	}))
	return err
}

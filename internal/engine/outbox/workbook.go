package outbox

import (
	"slices"

	"github.com/xuri/excelize/v2"
)

// Workbook writes cells as .xlsx; the first row is the heads. A text stays a text, whatever it begins with.
func Workbook(cells [][]any) ([]byte, error) {
	book := excelize.NewFile()
	defer func() { _ = book.Close() }()
	w, err := book.NewStreamWriter("Sheet1")
	if err != nil {
		return nil, err
	}
	bold, err := book.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	for i, row := range cells {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			row = slices.Clone(row)
			for j := range row {
				row[j] = excelize.Cell{StyleID: bold, Value: row[j]}
			}
		}
		if err := w.SetRow(at, row); err != nil {
			return nil, err
		}
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

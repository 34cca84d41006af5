package formula

import (
	"errors"

	"dorfbote/internal/core/value"
)

// tableRows is where a table keeps all of its rows, beside the first for each key.
const tableRows = "·rows"

// NewTable makes a table as formulas see it: table[key] is the first row with that key, compared as text, exactly.
func NewTable(rows []map[string]any, key string, ws value.Workspace) map[string]any {
	table, all := map[string]any{}, map[string]any{}
	for _, row := range rows {
		k := Show(row[key], ws)
		if k == tableRows {
			continue
		}
		if table[k] == nil {
			table[k] = row
		}
		list, _ := all[k].([]any)
		all[k] = append(list, row)
	}
	table[tableRows] = all
	return table
}

// rowsOf gives all rows of a table with a key; none where there are none.
func rowsOf(p params, ws value.Workspace) (any, error) {
	table, ok := p[0].(map[string]any)
	all, isTable := table[tableRows].(map[string]any)
	if !ok || !isTable {
		return nil, errors.New("rows() takes a table of the sheet, such as rows(rooms, record.room)")
	}
	list, _ := all[Show(p[1], ws)].([]any)
	if list == nil {
		list = []any{}
	}
	return list, nil
}

// FunctionNames lists what formulas may call beyond the language's own.
func FunctionNames() []string { return append([]string(nil), functionNames...) }

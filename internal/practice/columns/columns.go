// Package columns has the types of columns that hold several texts.
package columns

import (
	"database/sql/driver"
	"encoding/json"

	"github.com/jackc/pgx/v5/pgtype"
)

// Texts is a column of several texts.
type Texts []string

var textTypes = pgtype.NewMap()

// Scan reads the column.
func (t *Texts) Scan(v any) error { return textTypes.SQLScanner((*[]string)(t)).Scan(v) }

// Value writes the column.
func (t Texts) Value() (driver.Value, error) {
	raw, err := textTypes.Encode(pgtype.TextArrayOID, pgtype.TextFormatCode, []string(t), nil)
	return string(raw), err
}

// JSONTexts is a list of texts in a JSON column.
type JSONTexts []string

// Value writes the column.
func (t JSONTexts) Value() (driver.Value, error) {
	raw, err := json.Marshal([]string(t))
	return string(raw), err
}

// Scan reads the column.
func (t *JSONTexts) Scan(v any) error {
	switch x := v.(type) {
	case []byte:
		return json.Unmarshal(x, (*[]string)(t))
	case string:
		return json.Unmarshal([]byte(x), (*[]string)(t))
	}
	return nil
}

package practice

import (
	"database/sql/driver"

	"github.com/jackc/pgx/v5/pgtype"
)

// texts is a column of several texts.
type texts []string

var textTypes = pgtype.NewMap()

// Scan reads the column.
func (t *texts) Scan(v any) error { return textTypes.SQLScanner((*[]string)(t)).Scan(v) }

// Value writes the column.
func (t texts) Value() (driver.Value, error) {
	raw, err := textTypes.Encode(pgtype.TextArrayOID, pgtype.TextFormatCode, []string(t), nil)
	return string(raw), err
}

package store

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"strconv"
)

// Texts are settings by name, kept as one JSON column.
type Texts map[string]string

// Value writes the column.
func (t Texts) Value() (driver.Value, error) { return writeJSON(t, len(t) == 0) }

// Scan reads the column.
func (t *Texts) Scan(v any) error { return readJSON(v, t) }

// Correction is what a person has said of a field, where what was learnt does not fit.
type Correction struct {
	Label  string `json:"label,omitempty"`
	Type   string `json:"type,omitempty"`
	Hidden bool   `json:"hidden,omitempty"`
}

// Corrections are corrections by field, kept as one JSON column.
type Corrections map[string]Correction

// Value writes the column.
func (c Corrections) Value() (driver.Value, error) { return writeJSON(c, len(c) == 0) }

// Scan reads the column.
func (c *Corrections) Scan(v any) error { return readJSON(v, c) }

// Keys are keys of records, kept as one JSON column.
type Keys []string

// Value writes the column.
func (k Keys) Value() (driver.Value, error) {
	if len(k) == 0 {
		return nil, nil
	}
	return writeJSON(k, false)
}

// Scan reads the column.
func (k *Keys) Scan(v any) error { return readJSON(v, k) }

func writeJSON(v any, empty bool) (driver.Value, error) {
	if empty {
		return "{}", nil
	}
	raw, err := json.Marshal(v)
	return string(raw), err
}

func readJSON(v, into any) error {
	switch x := v.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(x, into)
	case string:
		return json.Unmarshal([]byte(x), into)
	}
	return fmt.Errorf("a JSON column holds a %T", v)
}

// BigInts writes numbers as PostgreSQL reads an array of them, for statements that GORM would take a list apart in.
func BigInts(list []int64) string {
	b := []byte{'{'}
	for i, n := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, n, 10)
	}
	return string(append(b, '}'))
}

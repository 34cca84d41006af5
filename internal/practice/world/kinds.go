// Package world is what goes on in the practice apps: the kinds of records that they hold, and the days of the valley that
// fill them, the same for the same seed.
package world

import (
	"embed"
	"fmt"
	"strings"

	"dorfbote/internal/core/value"
)

//go:embed schemas/*.json
var schemas embed.FS

// RecordKind is one kind of record of a practice app.
type RecordKind struct {
	App    string
	Name   string
	Key    string // the field that names a record
	Schema []byte // JSON Schema 2020-12
	Fields *value.Schema
}

// Source is how a sheet names the kind.
func (k *RecordKind) Source() string { return k.App + "/" + k.Name }

// kindOrder is the order in which apps and kinds are shown.
var kindOrder = []string{
	"tours/collections", "tours/farms", "tours/drivers", "lab/samples", "cellar/batches",
	"counter/orders", "counter/customers", "workshop/jobs",
}

// Kinds lists every kind of record of the practice apps.
func Kinds() ([]*RecordKind, error) {
	var out []*RecordKind
	for _, source := range kindOrder {
		app, name, _ := strings.Cut(source, "/")
		data, err := schemas.ReadFile("schemas/" + app + "." + name + ".json")
		if err != nil {
			return nil, err
		}
		fields, err := value.ReadSchema(data)
		if err != nil {
			return nil, fmt.Errorf("the schema of %s: %w", source, err)
		}
		v, err := value.ReadJSON(data)
		if err != nil {
			return nil, err
		}
		key, _ := v.(map[string]any)["x-key"].(string)
		out = append(out, &RecordKind{App: app, Name: name, Key: key, Schema: data, Fields: fields})
	}
	return out, nil
}

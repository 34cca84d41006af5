package shown

import (
	"sort"
	"strings"
	"time"

	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// FieldItem is a field with real values.
type FieldItem struct {
	value.Field
	Examples  []string `json:"examples" doc:"the commonest values of the last records"`
	Counts    []int    `json:"counts" doc:"how many of the last records have each"`
	Empty     int      `json:"empty" doc:"of a hundred records, how many leave it empty"`
	Corrected bool     `json:"corrected" doc:"a person has said how it is"`
}

// RecordItem is a record as it is now.
type RecordItem struct {
	Key     string       `json:"key"`
	Title   string       `json:"title"`
	Link    string       `json:"link"`
	At      time.Time    `json:"at"`
	Arrival int64        `json:"arrival" doc:"its newest arrival; 0 where it has made none"`
	Fields  []FieldValue `json:"fields"`
	Record  any          `json:"record"`
}

// examplesShown is how many different values of a field are shown.
const examplesShown = 8

func (sh *Shown) FieldItem(f value.Field, schema *value.Schema, records []map[string]any) FieldItem {
	it := FieldItem{Field: f, Examples: []string{}, Counts: []int{}}
	counts, empty := map[string]int{}, 0
	for _, r := range records {
		if value.Empty(r[f.Name]) {
			empty++
			continue
		}
		counts[sh.Show(schema, f.Name, r[f.Name])]++
	}
	values := value.SortedKeys(counts)
	sort.SliceStable(values, func(i, j int) bool { return counts[values[i]] > counts[values[j]] })
	for _, v := range values {
		if len(it.Examples) < examplesShown && len(v) <= 80 {
			it.Examples = append(it.Examples, v)
			it.Counts = append(it.Counts, counts[v])
		}
	}
	if len(records) > 0 {
		it.Empty = 100 * empty / len(records)
	}
	return it
}

func (sh *Shown) RecordItem(row *store.Source, schema *value.Schema, key string, record map[string]any) RecordItem {
	it := RecordItem{Key: key, Record: record, Fields: []FieldValue{}, Title: sh.titleOf(row, schema, record)}
	if row.LinkField != "" {
		v, _ := value.ParsePath(row.LinkField).Get(record)
		it.Link, _ = v.(string)
	}
	add := func(name string, t value.Type) {
		if v := sh.Show(schema, name, record[name]); v != "" {
			it.Fields = append(it.Fields, FieldValue{Field: name, Label: Label(schema, name), Type: string(t), Value: v})
		}
	}
	seen := map[string]bool{}
	if schema != nil {
		for _, f := range schema.Fields {
			seen[f.Name] = true
			if !f.Hidden {
				add(f.Name, f.Type)
			}
		}
	}
	for _, name := range value.SortedKeys(record) {
		if !seen[name] {
			add(name, value.Any)
		}
	}
	return it
}

// titleOf is what a record is called: by the field that was named for it, else by one that is usually its name.
func (sh *Shown) titleOf(row *store.Source, schema *value.Schema, record map[string]any) string {
	for _, name := range []string{row.TitleField, "title", "name", "subject", "customer"} {
		if name == "" {
			continue
		}
		v, _ := value.ParsePath(name).Get(record)
		if text := sh.Show(schema, name, v); text != "" {
			if len(text) > 120 {
				text = strings.ToValidUTF8(text[:120], "") + "…"
			}
			return text
		}
	}
	return ""
}

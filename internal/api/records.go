package api

import (
	"context"
	"sort"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

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

// FoundField is a field in whose values a text was found.
type FoundField struct {
	Field   string `json:"field"`
	Label   string `json:"label"`
	Type    string `json:"type"`
	Value   string `json:"value"`
	Key     string `json:"key" doc:"of a record that has it"`
	Matches int    `json:"matches"`
}

type recordsInput struct {
	SourcePath
	Q      string `query:"q" doc:"text anywhere in the record"`
	Offset int    `query:"offset" minimum:"0" maximum:"100000"`
	Limit  int    `query:"limit" default:"20" minimum:"1" maximum:"100"`
}

type nextInput struct {
	SourcePath
	After int64 `query:"after" doc:"the newest arrival that is known"`
}

type nextOutput struct {
	Body struct {
		Arrival *ArrivalItem `json:"arrival" doc:"null where nothing came while waiting"`
	}
}

// known gives a source's fields and how it is kept; there is no row of what has only been learnt.
func (s *Server) known(ctx context.Context, source string) (*value.Kind, *store.Kind, error) {
	kind, err := s.Engine.Sources.Kind(ctx, source)
	if err != nil {
		return nil, nil, err
	}
	if kind == nil {
		return nil, nil, huma.Error404NotFound("there is no source " + source)
	}
	row := &store.Kind{}
	return kind, row, s.store.DB.WithContext(ctx).Limit(1).Find(row, "source = ?", source).Error
}

func (s *Server) listFields(ctx context.Context, _ *Person, in *SourcePath) (*listOutput[FieldItem], error) {
	source := in.name()
	kind, row, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	records, err := s.store.SampleRecords(ctx, source, previewRows)
	if err != nil {
		return nil, err
	}
	items := make([]FieldItem, 0, len(kind.Fields))
	for _, f := range kind.Fields {
		it := s.fieldItem(f, kind, records)
		_, it.Corrected = row.Corrections[f.Name]
		items = append(items, it)
	}
	return list(items, 0), nil
}

// examplesShown is how many different values of a field are shown.
const examplesShown = 8

func (s *Server) fieldItem(f value.Field, kind *value.Kind, records []map[string]any) FieldItem {
	it := FieldItem{Field: f, Examples: []string{}, Counts: []int{}}
	counts, empty := map[string]int{}, 0
	for _, r := range records {
		if value.Empty(r[f.Name]) {
			empty++
			continue
		}
		counts[s.show(kind, f.Name, r[f.Name])]++
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

func (s *Server) recordItem(row *store.Kind, kind *value.Kind, key string, record map[string]any) RecordItem {
	it := RecordItem{Key: key, Record: record, Fields: []FieldValue{}, Title: s.titleOf(row, kind, record)}
	if row.LinkField != "" {
		v, _ := value.ParsePath(row.LinkField).Get(record)
		it.Link, _ = v.(string)
	}
	add := func(name string, t value.Type) {
		if v := s.show(kind, name, record[name]); v != "" {
			it.Fields = append(it.Fields, FieldValue{Field: name, Label: label(kind, name), Type: string(t), Value: v})
		}
	}
	seen := map[string]bool{}
	if kind != nil {
		for _, f := range kind.Fields {
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
func (s *Server) titleOf(row *store.Kind, kind *value.Kind, record map[string]any) string {
	for _, name := range []string{row.TitleField, "title", "name", "subject", "customer"} {
		if name == "" {
			continue
		}
		v, _ := value.ParsePath(name).Get(record)
		if text := s.show(kind, name, v); text != "" {
			if len(text) > 120 {
				text = strings.ToValidUTF8(text[:120], "") + "…"
			}
			return text
		}
	}
	return ""
}

func (s *Server) listRecords(ctx context.Context, _ *Person, in *recordsInput) (*listOutput[RecordItem], error) {
	source := in.name()
	kind, row, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Records(ctx, source, in.Q, in.Offset, in.Limit+1)
	if err != nil {
		return nil, err
	}
	next := int64(0)
	if len(rows) > in.Limit {
		rows, next = rows[:in.Limit], int64(in.Offset+in.Limit)
	}
	items := make([]RecordItem, 0, len(rows))
	for _, r := range rows {
		v, err := value.ReadJSON(r.Data)
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		it := s.recordItem(row, kind, r.Key, record)
		it.At, it.Arrival = r.Time, r.Arrival
		items = append(items, it)
	}
	return list(items, next), nil
}

type findInput struct {
	SourcePath
	Q string `query:"q" minLength:"1" maxLength:"200"`
}

// findValue tells in which fields a text stands, among the newest records.
func (s *Server) findValue(ctx context.Context, _ *Person, in *findInput) (*listOutput[FoundField], error) {
	source := in.name()
	kind, _, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Records(ctx, source, in.Q, 0, 500)
	if err != nil {
		return nil, err
	}
	want := value.Fold(in.Q)
	found := map[string]*FoundField{}
	var order []string
	for _, r := range rows {
		v, err := value.ReadJSON(r.Data)
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		walkLeaves("", record, func(path string, v any) {
			text := s.show(kind, path, v)
			if !strings.Contains(value.Fold(text), want) {
				return
			}
			f := found[path]
			if f == nil {
				f = &FoundField{Field: path, Label: label(kind, path), Value: text, Key: r.Key}
				if known, _, ok := kind.Find(value.ParsePath(path)); ok {
					f.Type = string(known.Type)
				}
				found[path] = f
				order = append(order, path)
			}
			f.Matches++
		})
	}
	sort.SliceStable(order, func(i, j int) bool { return found[order[i]].Matches > found[order[j]].Matches })
	items := make([]FoundField, 0, len(order))
	for _, p := range order {
		if len(items) < 50 {
			items = append(items, *found[p])
		}
	}
	return list(items, 0), nil
}

// walkLeaves visits every single value of a record with its path by name.
func walkLeaves(path string, v any, each func(path string, v any)) {
	join := func(name string) string {
		if path == "" {
			return name
		}
		return path + "." + name
	}
	switch x := v.(type) {
	case map[string]any:
		for _, name := range value.SortedKeys(x) {
			walkLeaves(join(name), x[name], each)
		}
	case []any:
		if m, ok := value.Pairs(x); ok {
			walkLeaves(path, m, each)
			return
		}
		for _, e := range x {
			walkLeaves(path, e, each)
		}
	case nil:
	default:
		each(path, v)
	}
}

// nextArrival waits for something new to come from a source.
func (s *Server) nextArrival(ctx context.Context, _ *Person, in *nextInput) (*nextOutput, error) {
	source := in.name()
	events, cancel := s.Hub.Subscribe()
	defer cancel()
	end := time.NewTimer(25 * time.Second)
	defer end.Stop()
	for {
		rows, err := s.store.RecentArrivals(ctx, source, 1)
		if err != nil {
			return nil, err
		}
		if len(rows) > 0 && rows[0].Seq > in.After {
			a, err := rows[0].Core()
			if err != nil {
				return nil, err
			}
			kind, err := s.Engine.Sources.Kind(ctx, source)
			if err != nil {
				return nil, err
			}
			it := s.arrivalItem(rows[0], a, kind)
			out := &nextOutput{}
			out.Body.Arrival = &it
			return out, nil
		}
		for waiting := true; waiting; {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-end.C:
				return &nextOutput{}, nil
			case e := <-events:
				waiting = e.Topic != "all" && (e.Topic != "arrivals" || e.Source != source && e.Source != "")
			}
		}
	}
}

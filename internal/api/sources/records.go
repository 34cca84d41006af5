package sources

import (
	"context"
	"sort"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/shown"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

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
		Arrival *shown.ArrivalItem `json:"arrival" doc:"null where nothing came while waiting"`
	}
}

// known gives a source's fields and how it is kept; there is no row of what has only been learnt.
func (s *Sources) known(ctx context.Context, source string) (*value.Schema, *store.Source, error) {
	schema, err := s.Engine.Sources.Schema(ctx, source)
	if err != nil {
		return nil, nil, err
	}
	if schema == nil {
		return nil, nil, huma.Error404NotFound("there is no source " + source)
	}
	row, err := s.Store.SourceNamed(ctx, source)
	if row == nil {
		row = &store.Source{}
	}
	return schema, row, err
}

func (s *Sources) listFields(ctx context.Context, _ *kit.Person, in *SourcePath) (*kit.List[shown.FieldItem], error) {
	source := in.name()
	schema, row, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	records, err := s.Store.SampleRecords(ctx, source, previewRows)
	if err != nil {
		return nil, err
	}
	items := make([]shown.FieldItem, 0, len(schema.Fields))
	for _, f := range schema.Fields {
		it := s.Shown.FieldItem(f, schema, records)
		_, it.Corrected = row.Corrections[f.Name]
		items = append(items, it)
	}
	return kit.ListOf(items, 0), nil
}

func (s *Sources) listRecords(ctx context.Context, _ *kit.Person, in *recordsInput) (*kit.List[shown.RecordItem], error) {
	source := in.name()
	schema, row, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Records(ctx, source, in.Q, in.Offset, in.Limit+1)
	if err != nil {
		return nil, err
	}
	next := int64(0)
	if len(rows) > in.Limit {
		rows, next = rows[:in.Limit], int64(in.Offset+in.Limit)
	}
	items := make([]shown.RecordItem, 0, len(rows))
	for _, r := range rows {
		v, err := value.ReadJSON(r.Data)
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		it := s.Shown.RecordItem(row, schema, r.Key, record)
		it.At, it.Arrival = r.Time, r.Arrival
		items = append(items, it)
	}
	return kit.ListOf(items, next), nil
}

type findInput struct {
	SourcePath
	Q string `query:"q" minLength:"1" maxLength:"200"`
}

// findValue tells in which fields a text stands, among the newest records.
func (s *Sources) findValue(ctx context.Context, _ *kit.Person, in *findInput) (*kit.List[FoundField], error) {
	source := in.name()
	schema, _, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Records(ctx, source, in.Q, 0, 500)
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
			text := s.Shown.Show(schema, path, v)
			if !strings.Contains(value.Fold(text), want) {
				return
			}
			f := found[path]
			if f == nil {
				f = &FoundField{Field: path, Label: shown.Label(schema, path), Value: text, Key: r.Key}
				if known, _, ok := schema.Find(value.ParsePath(path)); ok {
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
	return kit.ListOf(items, 0), nil
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
func (s *Sources) nextArrival(ctx context.Context, _ *kit.Person, in *nextInput) (*nextOutput, error) {
	source := in.name()
	events, cancel := s.Hub.Subscribe()
	defer cancel()
	end := time.NewTimer(25 * time.Second)
	defer end.Stop()
	for {
		rows, err := s.Store.RecentArrivals(ctx, source, 1)
		if err != nil {
			return nil, err
		}
		if len(rows) > 0 && rows[0].Seq > in.After {
			a, err := rows[0].Core()
			if err != nil {
				return nil, err
			}
			schema, err := s.Engine.Sources.Schema(ctx, source)
			if err != nil {
				return nil, err
			}
			it := s.Shown.ArrivalItem(rows[0], a, schema)
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

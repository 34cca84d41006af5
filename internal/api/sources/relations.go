package sources

import (
	"context"
	"net/http"
	"slices"
	"sort"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// Relation says that a field of a source's records names records of another source, as far as recent ones tell.
type Relation struct {
	Field  string  `json:"field" doc:"of the source's own records"`
	Label  string  `json:"label"`
	Source string  `json:"source" doc:"whose records it names"`
	Title  string  `json:"title"`
	Of     string  `json:"of" doc:"the field there that has the same value"`
	Share  float64 `json:"share" doc:"of the values seen, how many were found there"`
}

// How much is looked at to find what fields name.
const (
	relationRecords = 60
	relationOthers  = 300
	relationSources = 40
	relationShare   = 0.6
	mostRelations   = 12
)

// listRelations compares the values of a source's recent records with those that name records elsewhere.
func (s *Sources) listRelations(ctx context.Context, _ *kit.Person, in *SourcePath) (*kit.List[Relation], error) {
	source := in.name()
	schema, own, err := s.known(ctx, source)
	if err != nil {
		return nil, err
	}
	records, err := s.Store.SampleRecords(ctx, source, relationRecords)
	if err != nil {
		return nil, err
	}
	values := map[string]map[string]bool{}
	for _, f := range schema.Fields {
		if f.Hidden || f.Name == own.KeyField || !names(f) {
			continue
		}
		if v := distinct(records, f.Name); len(v) > 0 {
			values[f.Name] = v
		}
	}
	others, err := s.Store.Sources(ctx, "")
	if err != nil {
		return nil, err
	}
	items, looked := []Relation{}, 0
	for _, o := range others {
		if o.Name == source {
			continue
		}
		if looked++; looked > relationSources {
			break
		}
		found, err := s.relationsTo(ctx, &o, schema, values)
		if err != nil {
			return nil, err
		}
		items = append(items, found...)
	}
	sort.SliceStable(items, func(i, j int) bool { return items[i].Share > items[j].Share })
	return kit.ListOf(items[:min(len(items), mostRelations)], 0), nil
}

// relationsTo finds for each field the one of another source that its values stand in: the one that names the records
// there before others.
func (s *Sources) relationsTo(ctx context.Context, o *store.Source, own *value.Schema, values map[string]map[string]bool) ([]Relation, error) {
	there, err := s.Store.SampleRecords(ctx, o.Name, relationOthers)
	if err != nil || len(there) < 2 {
		return nil, err
	}
	schema, err := s.Engine.Sources.Schema(ctx, o.Name)
	if err != nil || schema == nil {
		return nil, err
	}
	var out []Relation
	for _, name := range value.SortedKeys(values) {
		had := values[name]
		f, _, _ := own.Find(value.ParsePath(name))
		best := Relation{Field: name, Label: f.Label, Source: o.Name, Title: o.Title}
		for _, of := range schema.Fields {
			isKey := of.Name == o.KeyField
			// Small numbers are alike by chance; only those that name records count.
			if of.Hidden || !names(of) || !isKey && (of.Type.IsNumber() || f.Type.IsNumber()) {
				continue
			}
			known := distinct(there, of.Name)
			if !isKey && len(known)*100 < len(there)*95 { // it names no one record
				continue
			}
			if isKey {
				if known, err = s.keysAmong(ctx, o.Name, had); err != nil {
					return nil, err
				}
			}
			hits := 0
			for v := range had {
				if known[v] {
					hits++
				}
			}
			share := float64(hits) / float64(len(had))
			if share >= relationShare && (hits > 1 || len(had) == 1) && (share > best.Share || share == best.Share && isKey) {
				best.Of, best.Share = of.Name, share
			}
		}
		if best.Of != "" {
			out = append(out, best)
		}
	}
	return out, nil
}

// keysAmong gives which of some values are keys of a source's records.
func (s *Sources) keysAmong(ctx context.Context, source string, among map[string]bool) (map[string]bool, error) {
	rows, err := s.Store.RecordsOf(ctx, source, value.SortedKeys(among))
	out := map[string]bool{}
	for k := range rows {
		out[k] = true
	}
	return out, err
}

// names tells whether a field's values may name a record.
func names(f value.Field) bool {
	return len(f.Options) == 0 && slices.Contains([]value.Type{value.Text, value.Num, value.Person, value.Choice, value.Any}, f.Type)
}

// distinct are the texts that a field has in some records.
func distinct(records []map[string]any, name string) map[string]bool {
	out := map[string]bool{}
	for _, r := range records {
		switch v := r[name].(type) {
		case string:
			if v != "" && len(v) <= 200 {
				out[v] = true
			}
		case float64:
			out[value.NumberText(v)] = true
		}
	}
	return out
}

func (s *Sources) relationRoutes() {
	kit.Register(s.Kit, kit.Op("list-relations", http.MethodGet, "/api/sources/{connection}/{kind}/relations", "Which fields of a source name records of others", "Sources"), kit.Anyone, s.listRelations)
}

package shown

import (
	"context"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// ArrivalItem is an arrival in a list.
type ArrivalItem struct {
	Seq        int64         `json:"seq"`
	ID         string        `json:"id"`
	Source     string        `json:"source"`
	Kind       string        `json:"kind"`
	Key        string        `json:"key"`
	At         time.Time     `json:"at"`
	ReceivedAt time.Time     `json:"received_at"`
	By         string        `json:"by"`
	Changes    []FieldChange `json:"changes" doc:"the first few fields that changed"`
	Verdicts   []VerdictItem `json:"verdicts" doc:"empty where every workflow ignored it"`
}

// FieldChange is one field that changed.
type FieldChange struct {
	Field string `json:"field"`
	Label string `json:"label"`
	Was   string `json:"was"`
	Now   string `json:"now"`
}

// VerdictItem is what one workflow made of an arrival.
type VerdictItem struct {
	WorkflowID int64  `json:"workflow_id"`
	Workflow   string `json:"workflow"`
	Version    int    `json:"version"`
	Verdict    string `json:"verdict"`
	Row        string `json:"row"`
	DecidedBy  string `json:"decided_by" doc:"the path of the condition that decided"`
	Because    string `json:"because" doc:"that condition in words"`
	Where      string `json:"where"`
	Error      string `json:"error"`
	// Failures are what could not be told where the rest was, More how many of a list were not.
	Failures  []decide.Failure `json:"failures"`
	More      int              `json:"more"`
	Later     string           `json:"later" doc:"of what was held: released or digest, once it was told"`
	LaterAt   *time.Time       `json:"later_at"`
	DecidedAt *time.Time       `json:"decided_at,omitempty"`
}

// ArrivalDetail is an arrival with its record.
type ArrivalDetail struct {
	ArrivalItem
	Fields  []FieldValue   `json:"fields"`
	Record  any            `json:"record"`
	Before  any            `json:"before"`
	Answers map[string]any `json:"answers" doc:"to what was asked at a start by hand or by call; null where nothing was"`
	Through []string       `json:"through,omitempty" doc:"the workflows whose posts led to it, in order, where Dorfbote caused it itself"`
	Stopped bool           `json:"stopped,omitempty" doc:"it went round in a circle, and nothing is told of it"`
	Event   map[string]any `json:"event" doc:"as it came in, as a CloudEvent; null for what only might come"`
}

// FieldValue is a field of a record as shown.
type FieldValue struct {
	Field   string `json:"field"`
	Label   string `json:"label"`
	Type    string `json:"type"`
	Value   string `json:"value"`
	Was     string `json:"was"`
	Changed bool   `json:"changed"`
}

// changesShown is how many changed fields a list shows.
const changesShown = 4

func (sh *Shown) ArrivalItem(row store.Arrival, a *arrival.Arrival, schema *value.Schema) ArrivalItem {
	it := ArrivalItem{
		Seq: row.Seq, ID: row.ID, Source: row.Source, Kind: a.Kind(), Key: row.Subject, At: row.Time, ReceivedAt: row.ReceivedAt, By: a.By,
		Changes: []FieldChange{}, Verdicts: []VerdictItem{},
	}
	if a.Before == nil || a.Kind() == "removed" {
		return it
	}
	for _, name := range value.Changed(a.Before, a.Record) {
		if len(it.Changes) == changesShown {
			break
		}
		it.Changes = append(it.Changes, FieldChange{name, Label(schema, name), sh.Show(schema, name, a.Before[name]), sh.Show(schema, name, a.Record[name])})
	}
	return it
}

func Label(schema *value.Schema, name string) string {
	if f, _, ok := schema.Find(value.ParsePath(name)); ok && f.Label != "" {
		return f.Label
	}
	return value.LabelOf(name)
}

// Show writes a raw value as its field's type reads it.
func (sh *Shown) Show(schema *value.Schema, name string, v any) string {
	words := &formula.Words{Workspace: sh.Engine.Workspace}
	if schema != nil {
		v = words.Record(map[string]any{name: v}, schema)[name]
	}
	return words.Show(v)
}

func (sh *Shown) ArrivalDetail(ctx context.Context, row store.Arrival, a *arrival.Arrival, schema *value.Schema) *ArrivalDetail {
	d := &ArrivalDetail{ArrivalItem: sh.ArrivalItem(row, a, schema), Fields: []FieldValue{}, Record: a.Record, Before: a.Before, Answers: a.Answers}
	if ids := store.CameThrough(row.Through); ids != nil {
		d.Through, _ = sh.Store.NamesOf(ctx, ids) // without the names, the numbers are there
		d.Stopped = row.Stopped()
	}
	if row.Data != nil {
		d.Event = map[string]any{"specversion": "1.0", "id": row.ID, "source": row.Source, "type": row.Type, "time": row.Time, "data": row.Data}
		if row.Subject != "" {
			d.Event["subject"] = row.Subject
		}
	}
	seen := map[string]bool{}
	add := func(name string, t value.Type) {
		seen[name] = true
		f := FieldValue{Field: name, Label: Label(schema, name), Type: string(t), Value: sh.Show(schema, name, a.Record[name]), Was: sh.Show(schema, name, a.Before[name])}
		f.Changed = a.Before != nil && !value.Same(a.Before[name], a.Record[name])
		if f.Value != "" || f.Was != "" {
			d.Fields = append(d.Fields, f)
		}
	}
	if schema != nil {
		for _, f := range schema.Fields {
			add(f.Name, f.Type)
		}
	}
	for _, name := range value.SortedKeys(a.Record) {
		if !seen[name] {
			add(name, value.Any)
		}
	}
	return d
}

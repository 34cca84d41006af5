package engine

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// AnswerError says which answer is missing or wrong.
type AnswerError struct {
	Name    string
	Problem string
}

func (e *AnswerError) Error() string { return e.Problem }

// Answers checks what was answered against the questions, and reads each answer by its type.
func Answers(ask []sheet.Question, given map[string]any, ws value.Workspace) (map[string]any, error) {
	out := map[string]any{}
	known := map[string]bool{}
	for _, q := range ask {
		known[q.Name] = true
		v := given[q.Name]
		if value.Empty(v) {
			if q.Required {
				return nil, &AnswerError{q.Name, fmt.Sprintf("%q must be answered", q.Label)}
			}
			continue
		}
		read, problem := answerOf(q, v, ws)
		if problem != "" {
			return nil, &AnswerError{q.Name, fmt.Sprintf("%q: %s", q.Label, problem)}
		}
		out[q.Name] = read
	}
	for name := range given {
		if !known[name] {
			names := make([]string, len(ask))
			for i, q := range ask {
				names[i] = q.Name
			}
			problem := fmt.Sprintf("nothing called %s is asked for", name)
			if near := value.Nearest(name, names); near != "" {
				problem += "; did you mean " + near + "?"
			}
			return nil, &AnswerError{name, problem}
		}
	}
	return out, nil
}

func answerOf(q sheet.Question, v any, ws value.Workspace) (any, string) {
	text, isText := v.(string)
	switch q.Type {
	case value.Num, value.Money:
		if n, ok := value.ReadNumber(v, ws); ok {
			if n.Exact != "" {
				return n.Exact, ""
			}
			return n.Float, ""
		}
		return nil, "a number is needed"
	case value.YesNo:
		if b, ok := v.(bool); ok {
			return b, ""
		}
		switch value.Fold(text) {
		case "yes", "true":
			return true, ""
		case "no", "false":
			return false, ""
		}
		return nil, "yes or no is needed"
	case value.Date, value.Moment:
		if _, _, ok := value.ReadMoment(text, ws.Location()); isText && ok {
			return text, ""
		}
		return nil, "a date is needed, such as 2026-11-20"
	case value.Span:
		if _, err := value.ParseSpan(text); isText && err == nil {
			return text, ""
		}
		return nil, "a span of time is needed, such as 2h"
	case value.Choice:
		for _, o := range q.Options {
			if isText && value.Fold(o) == value.Fold(text) {
				return o, ""
			}
		}
		return nil, "it is none of the choices"
	case value.Choices:
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, e := range list {
			s, _ := e.(string)
			known := false
			for _, o := range q.Options {
				known = known || o == s
			}
			if !known {
				return nil, "one of the answers is none of the choices"
			}
		}
		return list, ""
	}
	if !isText {
		return nil, "text is needed, not " + value.Describe(v)
	}
	return text, ""
}

// MaxStarts bounds how many records one start may be for.
const MaxStarts = 500

// StartWorkflow starts a workflow by hand or by call: once for each record, or once without any. It is durable when it
// returns. once, where not empty, names the start: the same again is the same start.
func (e *Engine) StartWorkflow(ctx context.Context, l store.Live, plan *sheet.Plan, keys []string, answers map[string]any, by, once string) ([]Receipt, error) {
	if len(keys) > MaxStarts {
		return nil, &AnswerError{"records", fmt.Sprintf("these are %d records; a workflow is started for %d at most at once", len(keys), MaxStarts)}
	}
	now := e.Now()
	source := plan.Source
	if source == "" {
		source = "dorfbote/" + plan.Trigger.Form
	}
	var receipts []Receipt
	err := e.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		records, err := recordsOf(ctx, tx, source, keys)
		if err != nil {
			return err
		}
		var list []*arrival.Arrival
		add := func(key string, record map[string]any) {
			id := uuid.Must(uuid.NewV7()).String()
			if once != "" {
				id = fmt.Sprintf("w%d-%s-%s", l.ID, once, key)
			}
			list = append(list, &arrival.Arrival{
				ID: id, Source: source, Type: arrival.Start, Time: now, Subject: key,
				Record: record, Before: record, By: by, Answers: answers,
			})
		}
		for _, key := range keys {
			if records[key] == nil {
				return &AnswerError{"records", fmt.Sprintf("there is no record %s any more", key)}
			}
			add(key, records[key])
		}
		if len(keys) == 0 {
			add("", nil)
		}
		rows, err := insertFor(ctx, tx, l.ID, list)
		if err != nil {
			return err
		}
		for _, r := range rows { // none where it was started before
			receipts = append(receipts, Receipt{Seq: r.Seq, ID: r.ID})
		}
		return nil
	})
	return receipts, err
}

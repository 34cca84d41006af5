package proof

import (
	"context"
	"encoding/json"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
)

// SheetBody is a sheet as YAML or as an object.
type SheetBody struct {
	Text  string `json:"text,omitempty" doc:"the sheet as YAML or JSON text"`
	Sheet any    `json:"sheet,omitempty" doc:"the sheet as an object; used where there is no text"`
}

// Source gives the sheet's text in the form that is stored.
func (b SheetBody) Source() (string, error) {
	if b.Text != "" {
		return b.Text, nil
	}
	if b.Sheet == nil {
		return "", huma.Error422UnprocessableEntity("the request holds neither text nor sheet")
	}
	raw, err := json.Marshal(b.Sheet)
	if err != nil {
		return "", err
	}
	text, err := sheet.Format(raw)
	return string(text), err
}

// compiled is the sheet of a request, read and checked against what is known.
type compiled struct {
	Plan     *sheet.Plan  // nil where it cannot be run
	Sheet    *sheet.Sheet // nil where it cannot be read
	problems []report.Problem
	Known    sheet.Known
}

// RunnableBody reads the sheet of a request for what is of use only if the sheet can be run.
func (s *Proof) RunnableBody(ctx context.Context, b SheetBody) (c compiled, err error) {
	text, err := b.Source()
	if err != nil {
		return c, err
	}
	if c.Known, err = s.Engine.Workflows.Known(ctx); err != nil {
		return c, err
	}
	if c.Plan, c.Sheet, c.problems = sheet.Compile([]byte(text), c.Known); c.Plan == nil {
		err = kit.Invalid("body.sheet", "the sheet has errors and cannot be run: %v", c.problems[0])
	}
	return c, err
}

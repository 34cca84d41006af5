package workflows

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/store"
)

type applyInput struct {
	Body struct {
		Sheets []struct {
			Text string `json:"text" minLength:"1" doc:"the sheet as YAML or JSON text"`
			From string `json:"from,omitempty" maxLength:"200" doc:"the file it is from, for messages and for the version's note"`
		} `json:"sheets" minItems:"1" maxItems:"1000"`
		On bool `json:"on,omitempty" doc:"switch on what is not on as it is drafted, from now on"`
	}
}

// Applied says what became of one sheet.
type Applied struct {
	ID       int64  `json:"id"`
	Name     string `json:"name"`
	Did      string `json:"did" enum:"made,changed,unchanged"`
	On       bool   `json:"on" doc:"it was switched on by this"`
	Problems int    `json:"problems" doc:"errors that keep the draft from running"`
}

type applyOutput struct {
	Body struct {
		Items []Applied `json:"items"`
	}
}

func (s *Workflows) applyingRoutes() {
	kit.Changes(s.Kit, kit.Op("apply-sheets", http.MethodPost, "/api/apply", "Write sheets: workflows of the same name get them as drafts, others are made; all or none, switching on included", "Workflows"), kit.Editors,
		kit.Makes[applyInput](store.AboutWorkflow, func(*applyOutput) string { return "" }), s.apply) // each workflow has an entry of its own
}

// apply writes sheets and switches them on, all or none.
func (s *Workflows) apply(ctx context.Context, who *kit.Person, in *applyInput) (*applyOutput, error) {
	out := &applyOutput{}
	out.Body.Items = make([]Applied, 0, len(in.Body.Sheets))
	seen := map[string]string{}
	for i, one := range in.Body.Sheets {
		place := fmt.Sprintf("body.sheets[%d]", i)
		sh, _ := sheet.Read([]byte(one.Text))
		if sh == nil || sh.Name == "" {
			return nil, kit.Invalid(place, "%s is no sheet that can be read, or it has no name; nothing was written", one.From)
		}
		if other, ok := seen[sh.Name]; ok {
			return nil, kit.Invalid(place, "%s and %s both hold a sheet named %q; nothing was written", other, one.From, sh.Name)
		}
		seen[sh.Name] = one.From
		done, err := s.applyOne(ctx, who, sh.Name, one.Text, one.From, in.Body.On)
		if err != nil {
			return nil, inSheet(place, sh.Name, err)
		}
		out.Body.Items = append(out.Body.Items, *done)
	}
	return out, nil
}

// inSheet says which sheet an error is of.
func inSheet(place, name string, err error) error {
	var m *huma.ErrorModel
	if !errors.As(err, &m) {
		return fmt.Errorf("%s: %w", name, err)
	}
	named := *m
	named.Detail = fmt.Sprintf("%s: %s. Nothing was written.", name, strings.TrimSuffix(m.Detail, "."))
	named.Errors = append([]*huma.ErrorDetail{{Location: place, Message: name}}, m.Errors...)
	return &named
}

func (s *Workflows) applyOne(ctx context.Context, who *kit.Person, name, text, from string, on bool) (*Applied, error) {
	w, err := s.Store.WorkflowNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	done := &Applied{Name: name, Did: "unchanged"}
	e := store.AuditEntry{Person: &who.ID, Name: who.Name, Did: "apply-sheets", What: store.AboutWorkflow.What}
	var now *workflowOutput
	switch w {
	case nil:
		done.Did = "made"
		now, err = s.createWorkflow(ctx, who, &createInput{Body: proof.SheetBody{Text: text}})
	default:
		if err := s.MayEdit(ctx, who, w.ID); err != nil {
			return nil, err
		}
		if e.Before, err = s.Store.Snapshot(ctx, store.AboutWorkflow, kit.IDText(w.ID)); err != nil {
			return nil, err
		}
		if strings.TrimRight(w.Draft, "\n") != strings.TrimRight(text, "\n") {
			done.Did = "changed"
			draft := &draftInput{ID: w.ID}
			draft.Body.Text = text
			now, err = s.saveDraft(ctx, who, draft)
		} else {
			now, err = s.workflow(ctx, w.ID)
		}
	}
	if err != nil {
		return nil, err
	}
	done.ID, done.Problems = now.Body.ID, now.Body.Problems
	if on && (!now.Body.On || now.Body.Changed) {
		input := &onInput{ID: done.ID}
		input.Body = &onBody{Note: "applied from " + from}
		if _, err := s.switchOn(ctx, who, input); err != nil {
			return nil, err
		}
		done.On = true
	}
	e.About = kit.IDText(done.ID)
	return done, s.After(ctx, e, store.AboutWorkflow, false)
}

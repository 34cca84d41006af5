package workflows

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

type createInput struct{ Body proof.SheetBody }

func (s *Workflows) createWorkflow(ctx context.Context, who *kit.Person, in *createInput) (*workflowOutput, error) {
	text, err := in.Body.Source()
	if err != nil {
		return nil, err
	}
	name := nameOf(text, "")
	if name == "" {
		return nil, huma.Error422UnprocessableEntity("the sheet has no name")
	}
	team, err := s.onlyTeam(ctx, who)
	if err != nil {
		return nil, err
	}
	w := store.Workflow{Name: name, Draft: text, Owner: &who.ID, Team: team, UpdatedBy: who.Name, CreatedAt: s.Engine.Now(), UpdatedAt: s.Engine.Now()}
	if err := s.Store.AddWorkflow(ctx, &w); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows, ID: w.ID})
	return s.workflow(ctx, w.ID)
}

// onlyTeam is the team of somebody who is in one; what they make belongs to it.
func (s *Workflows) onlyTeam(ctx context.Context, who *kit.Person) (*int64, error) {
	teams, err := s.Store.TeamsOf(ctx, who.ID)
	if err != nil || len(teams) != 1 {
		return nil, err
	}
	return &teams[0], nil
}

type handOverInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Team  *int64 `json:"team" doc:"null: every editor may change it"`
		Owner *int64 `json:"owner,omitempty" doc:"who is told when something is wrong with it"`
	}
}

// handOver gives a workflow to another team, or to another owner.
func (s *Workflows) handOver(ctx context.Context, _ *kit.Person, in *handOverInput) (*workflowOutput, error) {
	if err := s.Store.HandOver(ctx, in.ID, in.Body.Team, in.Body.Owner); err != nil {
		return nil, kit.NoSuchTeam(err)
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows, ID: in.ID})
	return s.workflow(ctx, in.ID)
}

type draftInput struct {
	ID   int64 `path:"id"`
	Body struct {
		proof.SheetBody
		Seen string `json:"seen,omitempty" doc:"the mark of the draft that this one was made of; if somebody else has changed it since, nothing is kept"`
	}
}

func (s *Workflows) saveDraft(ctx context.Context, who *kit.Person, in *draftInput) (*workflowOutput, error) {
	text, err := in.Body.Source()
	if err != nil {
		return nil, err
	}
	w, err := s.Store.Workflow(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if seen := in.Body.Seen; seen != "" && seen != markOf(w.Draft) && w.UpdatedBy != who.Name {
		return nil, huma.Error409Conflict(w.UpdatedBy + " has changed this draft meanwhile; copy what you need, and load the page again")
	}
	w.Name, w.Draft, w.UpdatedBy, w.UpdatedAt = nameOf(text, w.Name), text, who.Name, s.Engine.Now()
	if err := s.Store.SaveDraft(ctx, w); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows, ID: w.ID})
	return s.workflow(ctx, w.ID)
}

type onInput struct {
	ID   int64 `path:"id"`
	Body *onBody
}

type onBody struct {
	Note  string         `json:"note,omitempty" maxLength:"500" doc:"what is new"`
	Begin *BeginWorkflow `json:"begin,omitempty" doc:"where to begin; from now on where nothing is said"`
}

// BeginWorkflow says which arrivals a workflow that is switched on begins with.
type BeginWorkflow struct {
	How     string `json:"how" enum:"now,everything,from" doc:"from now on, everything that has ever come, or from one arrival on"`
	Arrival int64  `json:"arrival,omitempty" doc:"the arrival to begin with"`
}

// since is the arrival after which deciding begins; negative for from now on.
func (b *BeginWorkflow) since() (int64, error) {
	switch {
	case b == nil || b.How == "now":
		return -1, nil
	case b.How == "everything":
		return 0, nil
	case b.Arrival <= 0:
		return 0, huma.Error422UnprocessableEntity("name the arrival to begin with")
	}
	return b.Arrival - 1, nil
}

type beginInput struct {
	ID   int64 `path:"id"`
	Body BeginWorkflow
}

type beginOutput struct{ Body decider.Beginning }

// runnable gives a workflow and the plan of its draft, or why that cannot run.
func (s *Workflows) runnable(ctx context.Context, id int64) (*store.Workflow, *sheet.Plan, error) {
	w, err := s.Store.Workflow(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, nil, err
	}
	plan, _, problems := sheet.Compile([]byte(w.Draft), known)
	if plan == nil {
		return nil, nil, notRunnable(problems)
	}
	return w, plan, nil
}

// beginning says what switching on would send at once.
func (s *Workflows) beginning(ctx context.Context, _ *kit.Person, in *beginInput) (*beginOutput, error) {
	_, plan, err := s.runnable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	since, err := in.Body.since()
	if err != nil || since < 0 {
		return &beginOutput{decider.Beginning{ByPlace: map[string]int64{}}}, err
	}
	b, err := s.Engine.Decider.Beginning(ctx, plan, in.ID, since)
	if err != nil {
		return nil, err
	}
	return &beginOutput{*b}, nil
}

type readyOutput struct {
	Body struct {
		Items []report.Problem `json:"items" doc:"what keeps the draft from being switched on, in the order of its lines; empty where nothing does"`
	}
}

// readyToSwitchOn asks the other sides of the draft's channels, and says what keeps it from being switched on.
func (s *Workflows) readyToSwitchOn(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*readyOutput, error) {
	w, err := s.Store.Workflow(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	_, missing, err := s.finished(ctx, w.Draft)
	out := &readyOutput{}
	out.Body.Items = missing
	return out, err
}

// finished compiles a draft after asking whether its channels would take a post. missing is what keeps it from being
// switched on.
func (s *Workflows) finished(ctx context.Context, draft string) (plan *sheet.Plan, missing []report.Problem, err error) {
	missing = []report.Problem{}
	if sh, _ := sheet.Read([]byte(draft)); sh != nil {
		_, to := sh.Names()
		names := make([]string, len(to))
		for i, t := range to {
			names[i] = t.S
		}
		if err := s.Engine.Sources.AskDestinations(ctx, names); err != nil {
			return nil, missing, err
		}
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, missing, err
	}
	plan, _, problems := sheet.Compile([]byte(draft), known)
	for _, p := range problems {
		if !p.Warning || p.Unfinished {
			missing = append(missing, p)
		}
	}
	return plan, missing, nil
}

func (s *Workflows) switchOn(ctx context.Context, who *kit.Person, in *onInput) (*workflowOutput, error) {
	w, err := s.Store.Workflow(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	plan, missing, err := s.finished(ctx, w.Draft)
	if err != nil {
		return nil, err
	}
	if len(missing) > 0 {
		return nil, notRunnable(missing)
	}
	if circle, err := s.Engine.Workflows.Circle(ctx, w.Name, plan); err != nil {
		return nil, err
	} else if circle != "" {
		return nil, huma.Error422UnprocessableEntity("these workflows would call one another without end: " + circle + "; take one of the calls out")
	}
	on := store.SwitchedOn{Sheet: w.Draft, By: who.Name, Since: -1}
	if in.Body != nil {
		if on.Note = in.Body.Note; in.Body.Begin != nil {
			if on.Since, err = in.Body.Begin.since(); err != nil {
				return nil, err
			}
		}
	}
	if _, err := s.Engine.Workflows.SwitchOn(ctx, in.ID, plan, on); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows, ID: w.ID})
	return s.workflow(ctx, in.ID)
}

func notRunnable(problems []report.Problem) error {
	var details []error
	for _, p := range problems {
		if !p.Warning || p.Unfinished {
			details = append(details, &huma.ErrorDetail{Message: strings.TrimPrefix(p.String(), "warning: "), Location: fmt.Sprintf("%s (line %d, column %d)", p.Path, p.At.Line, p.At.Column)})
		}
	}
	return huma.Error422UnprocessableEntity("the sheet cannot be switched on yet; see what is wrong with it", details...)
}

func (s *Workflows) switchOff(ctx context.Context, who *kit.Person, in *kit.IDInput) (*workflowOutput, error) {
	if err := s.Store.SwitchOff(ctx, in.ID, who.Name); err != nil {
		return nil, err
	}
	if err := s.Engine.Timing.Disarm(ctx, in.ID); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows, ID: in.ID})
	return s.workflow(ctx, in.ID)
}

func (s *Workflows) deleteWorkflow(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	w, err := s.Store.Workflow(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if w.IsOn {
		return nil, huma.Error409Conflict("the workflow is on; switch it off before deleting it")
	}
	if err := s.Store.DeleteWorkflow(ctx, w); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows, ID: in.ID})
	return nil, nil
}

package history

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/api/shown"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// RunItem is a run in a list: what a workflow made of an arrival that it did not ignore.
type RunItem struct {
	shown.VerdictItem
	Arrival int64     `json:"arrival"`
	Source  string    `json:"source"`
	Key     string    `json:"key"`
	At      time.Time `json:"at"`
}

// StepItem is one thing that follows on a run's posts.
type StepItem struct {
	ID        int64         `json:"id"`
	N         int           `json:"n"`
	Name      string        `json:"name"`
	Kind      string        `json:"kind" enum:"add,change,call"`
	Target    string        `json:"target" doc:"a source, or a workflow's name"`
	Key       string        `json:"key" doc:"of the record that is changed"`
	Set       any           `json:"set"`
	IfFails   string        `json:"if_fails" enum:"stop,go_on,tell"`
	State     string        `json:"state" enum:"waiting,done,failed,skipped"`
	Attempts  int           `json:"attempts"`
	Answer    string        `json:"answer"`
	NotBefore *time.Time    `json:"not_before"`
	DoneAt    *time.Time    `json:"done_at"`
	Once      string        `json:"once" doc:"idempotency key"`
	Tried     []AttemptItem `json:"tried"`
}

// RunPost is a post of a run, with every attempt.
type RunPost struct {
	PostItem
	Tried []AttemptItem `json:"tried"`
}

type runInput struct {
	Arrival  int64 `path:"arrival"`
	Workflow int64 `path:"workflow"`
}

type runOutput struct {
	Body struct {
		Run        RunItem             `json:"run"`
		ReceivedAt time.Time           `json:"received_at"`
		Text       string              `json:"text" doc:"the sheet as it was, as YAML"`
		Sheet      any                 `json:"sheet"`
		Arrival    shown.ArrivalDetail `json:"arrival"`
		Proof      *proof.ProofLines   `json:"proof" doc:"what each line saw, with what was gathered then"`
		Recalled   bool                `json:"recalled" doc:"what was gathered from elsewhere is as it was then; otherwise it was looked up again"`
		Posts      []RunPost           `json:"posts"`
		Steps      []StepItem          `json:"steps"`
	}
}

func (hi *History) runRoutes() {
	kit.Register(hi.Kit, kit.Op("get-run", http.MethodGet, "/api/runs/{arrival}/{workflow}", "One run: the sheet as it was, what each line saw, what was sent and answered, what followed", "Runs"), kit.Anyone, hi.getRun)
	kit.Changes(hi.Kit, kit.Op("go-on", http.MethodPost, "/api/runs/{arrival}/{workflow}/go-on", "Go on from the step that failed", "Runs"), kit.Editors, kit.Act[runInput, struct{}](store.AboutWorkflow, func(in *runInput) string { return kit.IDText(in.Workflow) }), hi.runOn)
}

func (hi *History) getRun(ctx context.Context, who *kit.Person, in *runInput) (*runOutput, error) {
	row, a, err := hi.arrivalAt(ctx, in.Arrival)
	if err != nil {
		return nil, err
	}
	var v *store.VerdictRow
	for i := range row.Verdicts {
		if row.Verdicts[i].Workflow == in.Workflow {
			v = &row.Verdicts[i]
		}
	}
	if v == nil {
		return nil, huma.Error404NotFound("this workflow made no run of the arrival: it ignored it, or was not on")
	}
	schema, err := hi.Engine.Sources.Schema(ctx, row.Source)
	if err != nil {
		return nil, err
	}
	known, err := hi.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	out := &runOutput{}
	b := &out.Body
	b.Run = RunItem{hi.verdictItem(ctx, *v, row.Source), row.Seq, row.Source, row.Subject, row.Time}
	b.ReceivedAt = row.ReceivedAt
	b.Arrival = *hi.Shown.ArrivalDetail(ctx, row.Arrival, a, schema)
	if b.Text, err = hi.Store.VersionSheet(ctx, in.Workflow, v.Version); err != nil {
		return nil, err
	}
	if raw, err := sheet.JSON([]byte(b.Text)); err == nil {
		b.Sheet = json.RawMessage(raw)
	}
	b.Recalled = v.Gathered != nil
	b.Proof = hi.proofOf(ctx, in.Workflow, v.Version, a, known, &v.Verdict)
	if b.Posts, err = hi.runPosts(ctx, who, in); err != nil {
		return nil, err
	}
	if slices.ContainsFunc(b.Posts, func(p RunPost) bool { return p.Private }) {
		b.Proof.Withhold()
	}
	b.Steps, err = hi.runSteps(ctx, in)
	return out, err
}

func (hi *History) runPosts(ctx context.Context, who *kit.Person, in *runInput) ([]RunPost, error) {
	rows, err := hi.Store.Posts(ctx, store.PostFilter{Arrival: in.Arrival, Workflow: in.Workflow, Limit: 100})
	if err != nil {
		return nil, err
	}
	out := make([]RunPost, 0, len(rows))
	items, err := hi.postItems(ctx, who, rows)
	if err != nil {
		return nil, err
	}
	for _, item := range slices.Backward(items) {
		tried, err := hi.tried(hi.Store.AttemptsOfPost(ctx, item.ID, attemptsShown))
		if err != nil {
			return nil, err
		}
		if item.Private {
			withhold(tried)
		}
		out = append(out, RunPost{item, tried})
	}
	return out, err
}

func (hi *History) runSteps(ctx context.Context, in *runInput) ([]StepItem, error) {
	rows, err := hi.Store.StepsOf(ctx, in.Arrival, in.Workflow)
	if err != nil {
		return nil, err
	}
	out := make([]StepItem, 0, len(rows))
	for _, r := range rows {
		set, err := value.ReadJSON(r.Body)
		if err != nil {
			return nil, err
		}
		it := StepItem{
			ID: r.ID, N: r.N, Name: r.Name, Kind: r.Kind, Target: r.Target, Key: r.RecordKey, Set: set, IfFails: r.IfFails, State: r.State,
			Attempts: r.Attempts, Answer: r.Answer, NotBefore: r.NotBefore, DoneAt: r.DoneAt, Once: r.Key,
		}
		if it.Tried, err = hi.tried(hi.Store.AttemptsOfStep(ctx, r.ID, attemptsShown)); err != nil {
			return nil, err
		}
		out = append(out, it)
	}
	return out, nil
}

// runOn has a run go on from the step that failed: it is tried again, and what was left out because of it follows.
func (hi *History) runOn(ctx context.Context, _ *kit.Person, in *runInput) (*struct{}, error) {
	there, err := hi.Store.TryStepsAgain(ctx, in.Arrival, in.Workflow)
	if err != nil {
		return nil, err
	}
	if !there {
		return nil, huma.Error409Conflict("no step of this run has failed")
	}
	hi.Engine.Tell(ctx, notify.Message{Topic: notify.Steps, Seq: in.Arrival})
	return nil, hi.Engine.Follow.Follow(ctx, in.Arrival, in.Workflow)
}

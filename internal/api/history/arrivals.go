package history

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/api/shown"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// Why is one workflow's verdict on an arrival with everything its lines saw.
type Why struct {
	shown.VerdictItem
	Proof *proof.ProofLines `json:"proof" doc:"null where the sheet cannot be run any more"`
}

type arrivalsInput struct {
	Source   string `query:"source"`
	Key      string `query:"key"`
	Q        string `query:"q" doc:"text anywhere in the record"`
	Verdict  string `query:"verdict" enum:"told,repeated,held,dropped,unrouted,failed,ignored,"`
	Workflow int64  `query:"workflow"`
	Before   int64  `query:"before"`
	Limit    int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
	// Since and Until are when it came in.
	Since time.Time `query:"since" doc:"came in at this moment or later"`
	Until time.Time `query:"until" doc:"came in before this moment"`
}

type arrivalOutput struct {
	Body struct {
		Arrival shown.ArrivalDetail `json:"arrival"`
		Why     []Why               `json:"why"`
		Posts   []PostItem          `json:"posts"`
	}
}

// Routes registers the operations of this room.
func (hi *History) Routes() {
	kit.Register(hi.Kit, kit.Op("list-arrivals", http.MethodGet, "/api/arrivals", "What came in, newest first", "Arrivals"), kit.Anyone, hi.listArrivals)
	kit.Register(hi.Kit, kit.Op("decide-again", http.MethodPost, "/api/arrivals/{id}/again", "What the workflows that are on now would make of an arrival; nothing is sent", "Arrivals"), kit.Anyone, hi.decideAgain)
	kit.Register(hi.Kit, kit.Op("get-arrival", http.MethodGet, "/api/arrivals/{id}", "One arrival, with every workflow's verdict and why", "Arrivals"), kit.Anyone, hi.getArrival)
	hi.outboxRoutes()
	hi.runRoutes()
	hi.todayRoutes()
}

func (hi *History) listArrivals(ctx context.Context, _ *kit.Person, in *arrivalsInput) (*kit.List[shown.ArrivalItem], error) {
	rows, looked, err := hi.Store.Arrivals(ctx, store.ArrivalFilter{
		Source: in.Source, Key: in.Key, Text: in.Q, Verdict: in.Verdict, Workflow: in.Workflow, Before: in.Before, Since: in.Since, Until: in.Until, Limit: in.Limit + 1,
	})
	if err != nil {
		return nil, err
	}
	next := looked // a text was looked for that far; there may be more
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		next = rows[len(rows)-1].Seq
	}
	items := make([]shown.ArrivalItem, 0, len(rows))
	for _, r := range rows {
		a, err := r.Core()
		if err != nil {
			return nil, err
		}
		schema, err := hi.Engine.Sources.Schema(ctx, r.Source)
		if err != nil {
			return nil, err
		}
		it := hi.Shown.ArrivalItem(r.Arrival, a, schema)
		for _, v := range r.Verdicts {
			it.Verdicts = append(it.Verdicts, hi.verdictItem(ctx, v, r.Source))
		}
		items = append(items, it)
	}
	return kit.ListOf(items, next), nil
}

func (hi *History) verdictItem(ctx context.Context, v store.VerdictRow, source string) shown.VerdictItem {
	it := shown.VerdictItem{
		WorkflowID: v.Workflow, Workflow: v.WorkflowName, Version: v.Version, Verdict: v.Verdict.Verdict, Row: v.Route,
		DecidedBy: v.DecidedBy, Where: v.FailedAt, Error: v.Error, Later: v.Later, LaterAt: v.LaterAt, DecidedAt: &v.DecidedAt,
	}
	it.More, it.Failures = v.More, []decide.Failure{}
	if v.Failures != nil {
		if err := json.Unmarshal([]byte(*v.Failures), &it.Failures); err != nil {
			hi.Log.Error("reading what could not be told failed", "arrival", v.Arrival, "error", err)
		}
	}
	if v.DecidedBy != "" {
		if plan, err := hi.Engine.Workflows.Plan(ctx, v.Workflow, v.Version, source); err == nil {
			it.Because = plan.Words(v.DecidedBy)
		}
	}
	return it
}

// arrivalAt gives an arrival by its number: its row with the verdicts, and the arrival itself.
func (hi *History) arrivalAt(ctx context.Context, seq int64) (*store.ArrivalRow, *arrival.Arrival, error) {
	row, err := hi.Store.Arrival(ctx, seq)
	if err != nil {
		return nil, nil, err
	}
	a, err := row.Core()
	return row, a, err
}

func (hi *History) getArrival(ctx context.Context, who *kit.Person, in *kit.IDInput) (*arrivalOutput, error) {
	row, a, err := hi.arrivalAt(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	schema, err := hi.Engine.Sources.Schema(ctx, row.Source)
	if err != nil {
		return nil, err
	}
	out := &arrivalOutput{}
	out.Body.Arrival = *hi.Shown.ArrivalDetail(ctx, row.Arrival, a, schema)
	known, err := hi.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	out.Body.Why = []Why{}
	told := map[int64]bool{}
	for _, v := range row.Verdicts {
		told[v.Workflow] = true
		item := hi.verdictItem(ctx, v, row.Source)
		out.Body.Arrival.Verdicts = append(out.Body.Arrival.Verdicts, item)
		out.Body.Why = append(out.Body.Why, Why{item, hi.proofOf(ctx, v.Workflow, v.Version, a, known, &v.Verdict)})
	}
	live, err := hi.liveFor(ctx, row.Arrival)
	if err != nil {
		return nil, err
	}
	for _, l := range live { // those that ignored it left no verdict; the sheet says why
		if told[l.ID] || len(out.Body.Why) >= mostWhy {
			continue
		}
		w := Why{VerdictItem: shown.VerdictItem{WorkflowID: l.ID, Workflow: l.Name, Version: l.Version, Verdict: "ignored"}}
		if l.Timed() && row.ForWorkflow == nil {
			if w.DecidedBy, err = hi.waits(ctx, l, a, known); err != nil {
				return nil, err
			}
		} else if row.Seq <= l.Since {
			w.DecidedBy = "came before this workflow was switched on"
		} else if w.Proof = hi.proofOf(ctx, l.ID, l.Version, a, known, &store.Verdict{}); w.Proof != nil {
			w.DecidedBy = w.Proof.DecidedBy
		}
		out.Body.Why = append(out.Body.Why, w)
	}
	posts, err := hi.Store.Posts(ctx, store.PostFilter{Arrival: in.ID, Limit: 100})
	if err != nil {
		return nil, err
	}
	if out.Body.Posts, err = hi.postItems(ctx, who, posts); err != nil {
		return nil, err
	}
	for i := range out.Body.Why {
		if slices.ContainsFunc(out.Body.Posts, func(p PostItem) bool { return p.Private && p.WorkflowID == out.Body.Why[i].WorkflowID }) {
			out.Body.Why[i].Proof.Withhold()
		}
	}
	return out, nil
}

// planOf is a version made ready to be looked at; nil where it is not there or cannot be run any more.
func (hi *History) planOf(ctx context.Context, workflow int64, version int, known sheet.Known) *sheet.Plan {
	text, err := hi.Store.VersionSheet(ctx, workflow, version)
	if err != nil {
		return nil
	}
	known.Sources, known.Destinations, known.Workflows = nil, nil, nil // what has gone since does not matter for why
	plan, _, _ := sheet.Compile([]byte(text), known)
	return plan
}

// waits says what an arrival does to the timer of a workflow.
func (hi *History) waits(ctx context.Context, l store.Live, a *arrival.Arrival, known sheet.Known) (string, error) {
	plan := hi.planOf(ctx, l.ID, l.Version, known)
	if plan == nil {
		return "it is started by a timer, which arrivals only set", nil
	}
	since, err := hi.Engine.Timing.TimedSince(ctx, l.ID)
	return decide.WaitsFor(plan, a, since), err
}

type againOutput struct {
	Body struct {
		Why []Why `json:"why" doc:"each workflow that is on, with its version of now"`
	}
}

// decideAgain decides an arrival as it would be decided now: by the versions that are on, and with what they would find
// now. It writes nothing.
func (hi *History) decideAgain(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*againOutput, error) {
	row, a, err := hi.arrivalAt(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	live, err := hi.liveFor(ctx, row.Arrival)
	if err != nil {
		return nil, err
	}
	out := &againOutput{}
	out.Body.Why = []Why{}
	for _, l := range live {
		if l.Timed() && row.ForWorkflow == nil || len(out.Body.Why) >= mostWhy {
			continue
		}
		w := Why{VerdictItem: shown.VerdictItem{WorkflowID: l.ID, Workflow: l.Name, Version: l.Version, Verdict: string(decide.Failed)}}
		plan, err := hi.Engine.Workflows.Plan(ctx, l.ID, l.Version, l.Source)
		if err != nil {
			w.Error = err.Error()
			out.Body.Why = append(out.Body.Why, w)
			continue
		}
		p := proof.LinesOf(plan, decide.Occasion(plan, a, a.Time), hi.Proof.Reach(ctx, sources.AskNothing), nil)
		w.Proof, w.Verdict, w.Row, w.DecidedBy, w.Where, w.Error = p, p.Verdict, p.Row, p.DecidedBy, p.Where, p.Error
		w.Because = plan.Words(p.DecidedBy)
		out.Body.Why = append(out.Body.Why, w)
	}
	return out, nil
}

// liveFor lists the workflows that are on and that an arrival is for.
func (hi *History) liveFor(ctx context.Context, row store.Arrival) ([]store.Live, error) {
	if row.ForWorkflow != nil { // a tick or a start is for one workflow alone
		return hi.Store.LiveNamed(ctx, []int64{*row.ForWorkflow})
	}
	return hi.Store.LiveOn(ctx, []string{row.Source})
}

// mostWhy is for how many workflows an arrival says why.
const mostWhy = 200

// proofOf says what a version saw of an arrival, with what was gathered and answered then. What of that cannot be read is as if it
// had not been.
func (hi *History) proofOf(ctx context.Context, workflow int64, version int, a *arrival.Arrival, known sheet.Known, v *store.Verdict) *proof.ProofLines {
	plan := hi.planOf(ctx, workflow, version, known)
	if plan == nil {
		return nil
	}
	reach := hi.Proof.Reach(ctx, sources.AskNothing)
	reach.Recall, _ = v.Recall()
	answers, _ := v.Given()
	return proof.LinesOf(plan, decide.Occasion(plan, a, a.Time), reach, answers)
}

package api

import (
	"context"
	"net/http"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
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
	WorkflowID int64      `json:"workflow_id"`
	Workflow   string     `json:"workflow"`
	Version    int        `json:"version"`
	Verdict    string     `json:"verdict"`
	Row        string     `json:"row"`
	DecidedBy  string     `json:"decided_by" doc:"the path of the condition that decided"`
	Because    string     `json:"because" doc:"that condition in words"`
	Where      string     `json:"where"`
	Error      string     `json:"error"`
	Later      string     `json:"later" doc:"of what was held: released or digest, once it was told"`
	LaterAt    *time.Time `json:"later_at"`
	DecidedAt  *time.Time `json:"decided_at,omitempty"`
}

// ArrivalDetail is an arrival with its record.
type ArrivalDetail struct {
	ArrivalItem
	Fields  []FieldValue   `json:"fields"`
	Record  any            `json:"record"`
	Before  any            `json:"before"`
	Answers map[string]any `json:"answers" doc:"to what was asked at a start by hand or by call; null where nothing was"`
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

// Why is one workflow's verdict on an arrival with everything its lines saw.
type Why struct {
	VerdictItem
	Proof *ProofLines `json:"proof" doc:"null where the sheet cannot be run any more"`
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
		Arrival ArrivalDetail `json:"arrival"`
		Why     []Why         `json:"why"`
		Posts   []PostItem    `json:"posts"`
	}
}

func (s *Server) arrivalRoutes() {
	register(s, op("list-arrivals", http.MethodGet, "/api/arrivals", "What came in, newest first", "Arrivals"), anyone, s.listArrivals)
	register(s, op("decide-again", http.MethodPost, "/api/arrivals/{id}/again", "What the workflows that are on now would make of an arrival; nothing is sent", "Arrivals"), anyone, s.decideAgain)
	register(s, op("get-arrival", http.MethodGet, "/api/arrivals/{id}", "One arrival, with every workflow's verdict and why", "Arrivals"), anyone, s.getArrival)
}

func (s *Server) listArrivals(ctx context.Context, _ *Person, in *arrivalsInput) (*listOutput[ArrivalItem], error) {
	rows, looked, err := s.store.Arrivals(ctx, store.ArrivalFilter{
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
	items := make([]ArrivalItem, 0, len(rows))
	for _, r := range rows {
		a, err := r.Core()
		if err != nil {
			return nil, err
		}
		kind, err := s.Engine.Sources.Kind(ctx, r.Source)
		if err != nil {
			return nil, err
		}
		it := s.arrivalItem(r.Arrival, a, kind)
		for _, v := range r.Verdicts {
			it.Verdicts = append(it.Verdicts, s.verdictItem(ctx, v, r.Source))
		}
		items = append(items, it)
	}
	return list(items, next), nil
}

func (s *Server) verdictItem(ctx context.Context, v store.VerdictRow, source string) VerdictItem {
	it := VerdictItem{
		WorkflowID: v.WorkflowID, Workflow: v.Workflow, Version: v.Version, Verdict: v.Verdict.Verdict, Row: v.Route,
		DecidedBy: v.DecidedBy, Where: v.FailedAt, Error: v.Error, Later: v.Later, LaterAt: v.LaterAt, DecidedAt: &v.DecidedAt,
	}
	if v.DecidedBy != "" {
		if plan, err := s.Engine.Workflows.Plan(ctx, v.WorkflowID, v.Version, source); err == nil {
			it.Because = plan.Words(v.DecidedBy)
		}
	}
	return it
}

// changesShown is how many changed fields a list shows.
const changesShown = 4

func (s *Server) arrivalItem(row store.Arrival, a *arrival.Arrival, kind *value.Kind) ArrivalItem {
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
		it.Changes = append(it.Changes, FieldChange{name, label(kind, name), s.show(kind, name, a.Before[name]), s.show(kind, name, a.Record[name])})
	}
	return it
}

func label(kind *value.Kind, name string) string {
	if f, _, ok := kind.Find(value.ParsePath(name)); ok && f.Label != "" {
		return f.Label
	}
	return value.LabelOf(name)
}

// show writes a raw value as its field's type reads it.
func (s *Server) show(kind *value.Kind, name string, v any) string {
	words := &formula.Words{Workspace: s.Engine.Workspace}
	if kind != nil {
		v = words.Record(map[string]any{name: v}, kind)[name]
	}
	return words.Show(v)
}

func (s *Server) arrivalDetail(_ context.Context, row store.Arrival, a *arrival.Arrival, kind *value.Kind) *ArrivalDetail {
	d := &ArrivalDetail{ArrivalItem: s.arrivalItem(row, a, kind), Fields: []FieldValue{}, Record: a.Record, Before: a.Before, Answers: a.Answers}
	if row.Data != nil {
		d.Event = map[string]any{"specversion": "1.0", "id": row.ID, "source": row.Source, "type": row.Type, "time": row.Time, "data": row.Data}
		if row.Subject != "" {
			d.Event["subject"] = row.Subject
		}
	}
	seen := map[string]bool{}
	add := func(name string, t value.Type) {
		seen[name] = true
		f := FieldValue{Field: name, Label: label(kind, name), Type: string(t), Value: s.show(kind, name, a.Record[name]), Was: s.show(kind, name, a.Before[name])}
		f.Changed = a.Before != nil && !value.Same(a.Before[name], a.Record[name])
		if f.Value != "" || f.Was != "" {
			d.Fields = append(d.Fields, f)
		}
	}
	if kind != nil {
		for _, f := range kind.Fields {
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

// arrivalAt gives an arrival by its number: its row with the verdicts, and the arrival itself.
func (s *Server) arrivalAt(ctx context.Context, seq int64) (*store.ArrivalRow, *arrival.Arrival, error) {
	row, err := s.store.Arrival(ctx, seq)
	if err != nil {
		return nil, nil, err
	}
	a, err := row.Core()
	return row, a, err
}

func (s *Server) getArrival(ctx context.Context, _ *Person, in *idInput) (*arrivalOutput, error) {
	row, a, err := s.arrivalAt(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	kind, err := s.Engine.Sources.Kind(ctx, row.Source)
	if err != nil {
		return nil, err
	}
	out := &arrivalOutput{}
	out.Body.Arrival = *s.arrivalDetail(ctx, row.Arrival, a, kind)
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	out.Body.Why = []Why{}
	told := map[int64]bool{}
	for _, v := range row.Verdicts {
		told[v.WorkflowID] = true
		item := s.verdictItem(ctx, v, row.Source)
		out.Body.Arrival.Verdicts = append(out.Body.Arrival.Verdicts, item)
		out.Body.Why = append(out.Body.Why, Why{item, s.proofOf(ctx, v.WorkflowID, v.Version, a, known, recall(v.Gathered))})
	}
	live, err := s.liveFor(ctx, row.Arrival)
	if err != nil {
		return nil, err
	}
	for _, l := range live { // those that ignored it left no verdict; the sheet says why
		if told[l.ID] || len(out.Body.Why) >= mostWhy {
			continue
		}
		w := Why{VerdictItem: VerdictItem{WorkflowID: l.ID, Workflow: l.Name, Version: l.Version, Verdict: "ignored"}}
		if l.Timed() && row.ForWorkflow == nil {
			if w.DecidedBy, err = s.waits(ctx, l, a, known); err != nil {
				return nil, err
			}
		} else if row.Seq <= l.Since {
			w.DecidedBy = "came before this workflow was switched on"
		} else if w.Proof = s.proofOf(ctx, l.ID, l.Version, a, known, nil); w.Proof != nil {
			w.DecidedBy = w.Proof.DecidedBy
		}
		out.Body.Why = append(out.Body.Why, w)
	}
	posts, err := s.store.Posts(ctx, store.PostFilter{Arrival: in.ID, Limit: 100})
	out.Body.Posts = s.postItems(posts)
	return out, err
}

// planOf is a version made ready to be looked at; nil where it is not there or cannot be run any more.
func (s *Server) planOf(ctx context.Context, workflow int64, version int, known sheet.Known) *sheet.Plan {
	text, err := s.store.VersionSheet(ctx, workflow, version)
	if err != nil {
		return nil
	}
	known.Sources, known.Destinations, known.Workflows = nil, nil, nil // what has gone since does not matter for why
	plan, _, _ := sheet.Compile([]byte(text), known)
	return plan
}

// waits says what an arrival does to the timer of a workflow.
func (s *Server) waits(ctx context.Context, l store.Live, a *arrival.Arrival, known sheet.Known) (string, error) {
	plan := s.planOf(ctx, l.ID, l.Version, known)
	if plan == nil {
		return "it is started by a timer, which arrivals only set", nil
	}
	since, err := s.Engine.Timing.TimedSince(ctx, l.ID)
	return decide.Waits(plan, a, since), err
}

// recall reads what was gathered when an arrival was decided.
func recall(raw *string) map[string]any {
	if raw == nil {
		return nil
	}
	v, err := value.ReadJSON([]byte(*raw))
	if err != nil {
		return nil
	}
	m, _ := v.(map[string]any)
	return m
}

type againOutput struct {
	Body struct {
		Why []Why `json:"why" doc:"each workflow that is on, with its version of now"`
	}
}

// decideAgain decides an arrival as it would be decided now: by the versions that are on, and with what they would find
// now. It writes nothing.
func (s *Server) decideAgain(ctx context.Context, _ *Person, in *idInput) (*againOutput, error) {
	row, a, err := s.arrivalAt(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	live, err := s.liveFor(ctx, row.Arrival)
	if err != nil {
		return nil, err
	}
	out := &againOutput{}
	out.Body.Why = []Why{}
	for _, l := range live {
		if l.Timed() && row.ForWorkflow == nil || len(out.Body.Why) >= mostWhy {
			continue
		}
		w := Why{VerdictItem: VerdictItem{WorkflowID: l.ID, Workflow: l.Name, Version: l.Version, Verdict: string(decide.Failed)}}
		plan, err := s.Engine.Workflows.Plan(ctx, l.ID, l.Version, l.Source)
		if err != nil {
			w.Error = err.Error()
			out.Body.Why = append(out.Body.Why, w)
			continue
		}
		p := proofLines(plan, decide.Occasion(plan, a, a.Time), s.reach(ctx, sources.AskNothing))
		w.Proof, w.Verdict, w.Row, w.DecidedBy, w.Where, w.Error = p, p.Verdict, p.Row, p.DecidedBy, p.Where, p.Error
		w.Because = plan.Words(p.DecidedBy)
		out.Body.Why = append(out.Body.Why, w)
	}
	return out, nil
}

// liveFor lists the workflows that are on and that an arrival is for.
func (s *Server) liveFor(ctx context.Context, row store.Arrival) ([]store.Live, error) {
	if row.ForWorkflow != nil { // a tick or a start is for one workflow alone
		return s.store.LiveNamed(ctx, []int64{*row.ForWorkflow})
	}
	return s.store.LiveOn(ctx, []string{row.Source})
}

// mostWhy is for how many workflows an arrival says why.
const mostWhy = 200

func (s *Server) proofOf(ctx context.Context, workflow int64, version int, a *arrival.Arrival, known sheet.Known, recalled map[string]any) *ProofLines {
	plan := s.planOf(ctx, workflow, version, known)
	if plan == nil {
		return nil
	}
	reach := s.reach(ctx, sources.AskNothing)
	reach.Recall = recalled
	return proofLines(plan, decide.Occasion(plan, a, a.Time), reach)
}

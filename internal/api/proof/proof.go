package proof

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/shown"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/route"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

type proofInput struct {
	Body struct {
		SheetBody
		Arrival  int64             `json:"arrival,omitempty" doc:"the chosen arrival's seq; 0 takes the newest that would be told"`
		Record   string            `json:"record,omitempty" doc:"the key of a record to prove the sheet on, as if it came in now"`
		Suppose  map[string]string `json:"suppose,omitempty" doc:"by the names of questions: the choices that the proof goes on with; the first of each where none is given"`
		Workflow int64             `json:"workflow,omitempty" doc:"the workflow whose version that is on the trail is compared with"`
	}
}

// ProofBody is what a sheet makes of the chosen arrival, and of the trail.
type ProofBody struct {
	Problems []report.Problem           `json:"problems"`
	Arrival  *shown.ArrivalDetail       `json:"arrival" doc:"the chosen arrival; null where the source has none"`
	Proof    *ProofLines                `json:"proof" doc:"null while what starts the sheet has an error"`
	Frozen   []string                   `json:"frozen" doc:"the paths of the parts that have errors, or depend on one that has: the proof is without them. Where a condition or something gathered is among them, the verdict and the trail are of the rest"`
	Trail    []TrailMark                `json:"trail" doc:"the source's last arrivals, oldest first"`
	Counts   map[string]*decide.Counted `json:"counts" doc:"by the path of a condition: for how many of the trail it held, of those that got as far"`
	Seen     map[string][]sheet.Tally   `json:"seen" doc:"by the name of a field that a condition looks at, or by which something is looked up in a table: the values it had in the trail, the most frequent first"`
	Table    *route.Analysis            `json:"table" doc:"what is found by looking into the route table; null while the sheet cannot be run"`
}

// ProofLines is the proof line by line.
type ProofLines struct {
	Verdict   string                         `json:"verdict"`
	Row       string                         `json:"row"`
	DecidedBy string                         `json:"decided_by"`
	Where     string                         `json:"where"`
	Error     string                         `json:"error"`
	Starts    bool                           `json:"starts"`
	Kind      string                         `json:"kind"`
	When      *cond.Line                     `json:"when"`
	That      *cond.Line                     `json:"that" doc:"the state that lasts, as the record is"`
	At        time.Time                      `json:"at" doc:"the moment that is now for the sheet"`
	Keep      *cond.Line                     `json:"keep"`
	Gather    []decide.GatherProof           `json:"gather"`
	Asks      []decide.AskProof              `json:"asks" doc:"the questions that are put to people; the lines below go on with the choice of each"`
	Rows      []decide.RowProof              `json:"rows"`
	Otherwise bool                           `json:"otherwise" doc:"the arrival goes to otherwise"`
	Messages  map[string]decide.MessageProof `json:"messages"`
	Else      []decide.TellProof             `json:"else" doc:"whom the rest tells"`
	Failures  []decide.Failure               `json:"failures" doc:"what could not be told where the rest was"`
	Posts     []PlannedPost                  `json:"posts"`
	Follow    []decide.StepProof             `json:"follow"`
	Answer    *AnswerLine                    `json:"answer" doc:"what a caller would be answered; null where none is"`
}

// Withhold leaves out what was told, for whom it is not meant.
func (p *ProofLines) Withhold() {
	if p == nil {
		return
	}
	p.Messages, p.Posts = map[string]decide.MessageProof{}, []PlannedPost{}
}

// AnswerLine is what a caller would be answered.
type AnswerLine struct {
	Status int `json:"status"`
	Body   any `json:"body"`
}

// PlannedPost is a post that would be sent.
type PlannedPost struct {
	To      string `json:"to"`
	Cc      string `json:"cc"`
	Bcc     string `json:"bcc"`
	Message string `json:"message"`
	Title   string `json:"title"`
}

type proofOutput struct{ Body ProofBody }

// WordsBody is what the editor offers.
type WordsBody struct {
	Operators []cond.Op `json:"operators"`
	Zone      string    `json:"zone"`
	Locale    string    `json:"locale"`
	Practice  bool      `json:"practice" doc:"whether the practice apps are there"`
}

type wordsOutput struct{ Body WordsBody }

// Routes registers the operations of this room.
func (s *Proof) Routes() {
	kit.Register(s.Kit, kit.Op("prove", http.MethodPost, "/api/proof", "What a sheet makes of an arrival; nothing is sent", "Workflows"), kit.Anyone, s.prove)
	kit.Register(s.Kit, kit.Op("words", http.MethodGet, "/api/words", "Operators, zone and locale", "Workflows"), kit.Anyone,
		func(context.Context, *kit.Person, *struct{}) (*wordsOutput, error) {
			return &wordsOutput{WordsBody{cond.Ops, s.Engine.Workspace.Location().String(), s.Engine.Workspace.Locale, s.Practice}}, nil
		})
	s.rehearsalRoutes()
	s.proposalRoutes()
	s.draftedRoutes()
	s.drawingRoutes()
}

func (s *Proof) prove(ctx context.Context, _ *kit.Person, in *proofInput) (*proofOutput, error) {
	text, err := in.Body.Source()
	if err != nil {
		return nil, err
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	plan, frozen, sh, problems := sheet.CompilePartly([]byte(text), known)
	out := &proofOutput{}
	if out.Body.Frozen = frozen; frozen == nil {
		out.Body.Frozen = []string{}
	}
	out.Body.Problems, out.Body.Trail, out.Body.Counts, out.Body.Seen = problems, []TrailMark{}, map[string]*decide.Counted{}, map[string][]sheet.Tally{}
	if plan != nil && len(frozen) == 0 {
		table := route.Look(plan, s.Engine.Now())
		out.Body.Table = &table
		out.Body.Problems = append(out.Body.Problems, table.Problems(sh, true)...)
	}
	if out.Body.Problems == nil {
		out.Body.Problems = []report.Problem{}
	}
	if sh == nil {
		return out, nil
	}
	if sh.Watch.Source.S == "" {
		if plan != nil && plan.Trigger.Form != "" {
			s.proveAlone(ctx, plan, supposed(in.Body.Suppose), &out.Body)
		}
		return out, nil
	}
	recent, err := s.trails.get(ctx, s.Store, sh.Watch.Source.S)
	if err != nil {
		return nil, err
	}
	if plan != nil {
		counts := decide.NewCounts(plan)
		now := s.Engine.Now()
		out.Body.Trail = trail(plan, now, recent, s.Reach(ctx, sources.AskNothing), counts)
		out.Body.Counts = counts.ByPath
		s.compare(ctx, in.Body.Workflow, now, recent, out.Body.Trail)
	}
	seen := seenValues(sh, recent)
	for f, had := range seen {
		out.Body.Seen[f] = had[:min(len(had), valuesOffered)]
	}
	out.Body.Problems = append(out.Body.Problems, sh.Doubts(&formula.Words{Workspace: known.Workspace, Schema: known.Schema(sh.Watch.Source.S)}, func(f string) []sheet.Tally { return seen[f] })...)
	var chosen *PastArrival
	if in.Body.Record != "" {
		chosen, err = s.FromRecord(ctx, sh.Watch.Source.S, in.Body.Record)
	} else {
		chosen, err = s.Chosen(ctx, in.Body.Arrival, recent, out.Body.Trail)
	}
	if err == nil && chosen == nil { // nothing has come in yet: the newest record, as if it came in now
		chosen, err = s.newestRecord(ctx, sh.Watch.Source.S)
	}
	if err != nil {
		return nil, err
	}
	if chosen == nil {
		if plan != nil && plan.Trigger.Form == sheet.Silent {
			s.proveAlone(ctx, plan, nil, &out.Body)
		}
		return out, nil
	}
	out.Body.Arrival = s.Shown.ArrivalDetail(ctx, chosen.Row, chosen.Arrival, known.Schema(chosen.Arrival.Source))
	if plan != nil {
		out.Body.Proof = LinesOf(plan, decide.Occasion(plan, chosen.Arrival, s.Engine.Now().UTC()), s.Reach(ctx, sources.AskGet), supposed(in.Body.Suppose))
		out.Body.Proof.without(frozen)
	}
	return out, nil
}

// without takes out what is not known of parts that have errors.
func (p *ProofLines) without(frozen []string) {
	for _, part := range frozen {
		var i int
		if name, ok := strings.CutPrefix(part, "messages."); ok {
			delete(p.Messages, name)
		} else if n, err := fmt.Sscanf(part, "route.rows[%d].when", &i); err == nil && n == 1 && strings.HasSuffix(part, ".when") && i < len(p.Rows) {
			p.Rows[i].Line = cond.Line{}
		}
	}
}

// Reach is what a sheet may get at while somebody looks at it. For a viewer nothing is asked and no script is run.
func (s *Proof) Reach(ctx context.Context, asking sources.Asking) formula.Reach {
	if p := s.Person(ctx); p == nil || p.Role == "viewer" {
		asking = sources.AskNobody
	}
	return s.Engine.Sources.Reach(ctx, asking)
}

// proveAlone proves a sheet that is started without a record.
func (s *Proof) proveAlone(ctx context.Context, plan *sheet.Plan, suppose map[string]decide.Answered, out *ProofBody) {
	now := s.Engine.Now().UTC()
	a := decide.Occasion(plan, nil, now)
	out.Arrival = s.Shown.ArrivalDetail(ctx, store.Arrival{Source: a.Source, Type: a.Type, Time: a.Time}, a, nil)
	out.Proof = LinesOf(plan, a, s.Reach(ctx, sources.AskGet), suppose)
	moments := plan.Trigger.Moments
	if moments == nil {
		return
	}
	skip, err := s.Engine.Timing.DaysOff(ctx, plan)
	if err != nil {
		return
	}
	at, reach := now.AddDate(0, -2, 0), s.Reach(ctx, sources.AskNothing)
	for len(out.Trail) < trailLength {
		next, err := moments.Next(at, skip)
		if err != nil || next.After(now) {
			break
		}
		tick := &arrival.Arrival{ID: "trail", Source: a.Source, Type: arrival.Tick, Time: next}
		sc := decide.NewScope(tick)
		sc.Reach = reach
		o := decide.Decide(plan, sc)
		out.Trail = append(out.Trail, TrailMark{At: next, Verdict: string(o.Verdict), Row: o.Row, Tick: sheet.Schedule})
		at = next
	}
}

// newestRecord makes an arrival of the newest record of a source, nil where it has none.
func (s *Proof) newestRecord(ctx context.Context, source string) (*PastArrival, error) {
	key, err := s.Store.NewestKey(ctx, source)
	if err != nil || key == "" {
		return nil, err
	}
	return s.FromRecord(ctx, source, key)
}

// FromRecord makes an arrival of a record as it is now.
func (s *Proof) FromRecord(ctx context.Context, source, key string) (*PastArrival, error) {
	rows, err := s.Store.RecordsOf(ctx, source, []string{key})
	if err != nil {
		return nil, err
	}
	if rows[key] == nil {
		return nil, kit.Invalid("body.record", "there is no record %s", key)
	}
	now := s.Engine.Now().UTC()
	a := &arrival.Arrival{ID: "record", Source: source, Type: arrival.Created, Time: now, Subject: key, Record: rows[key]}
	return &PastArrival{store.Arrival{Source: source, ID: a.ID, Type: a.Type, Time: now, Subject: key}, a}, nil
}

// supposed are choices as answers.
func supposed(choices map[string]string) map[string]decide.Answered {
	out := map[string]decide.Answered{}
	for name, choice := range choices {
		out[name] = decide.Answered{Choice: choice}
	}
	return out
}

// LinesOf proves a plan on an arrival; suppose is what people are taken to answer, by the names of the questions.
func LinesOf(plan *sheet.Plan, a *arrival.Arrival, reach formula.Reach, suppose map[string]decide.Answered) *ProofLines {
	sc := decide.NewScope(a)
	sc.Reach = reach
	p := decide.Explain(plan, sc, suppose)
	l := &ProofLines{
		Verdict: string(p.Outcome.Verdict), Row: p.Outcome.Row, DecidedBy: p.Outcome.DecidedBy, Where: p.Outcome.Where, Error: p.Outcome.Error,
		Starts: p.Starts, Kind: p.Kind, When: p.When, That: p.That, At: a.Time, Keep: p.Keep, Gather: p.Gather, Asks: p.Asks, Rows: p.Rows, Messages: p.Messages,
		Otherwise: p.Outcome.Row == decide.Otherwise, Posts: []PlannedPost{}, Follow: p.Follow,
	}
	if l.Rows == nil {
		l.Rows = []decide.RowProof{}
	}
	if l.Else = p.Else; l.Else == nil {
		l.Else = []decide.TellProof{}
	}
	if l.Failures = p.Outcome.Failures; l.Failures == nil {
		l.Failures = []decide.Failure{}
	}
	if l.Follow == nil {
		l.Follow = []decide.StepProof{}
	}
	if r := p.Outcome.Reply; r != nil {
		l.Answer = &AnswerLine{r.Status, r.Body}
	}
	for _, post := range p.Outcome.Posts {
		l.Posts = append(l.Posts, PlannedPost{To: post.To, Cc: post.Cc, Bcc: post.Bcc, Message: post.Message, Title: post.Doc.Title})
	}
	return l
}

// Chosen finds the arrival that the proof is about: the one asked for, else the newest that tells
// somebody, else the newest.
func (s *Proof) Chosen(ctx context.Context, seq int64, recent []PastArrival, marks []TrailMark) (*PastArrival, error) {
	for i := len(recent) - 1; i >= 0; i-- {
		if seq == recent[i].Row.Seq || seq == 0 && i < len(marks) && (marks[i].Verdict == string(decide.Told) || marks[i].Verdict == string(decide.Asked)) {
			return &recent[i], nil
		}
	}
	if seq != 0 {
		row, err := s.Store.Arrival(ctx, seq)
		if err != nil {
			return nil, err
		}
		a, err := row.Core()
		return &PastArrival{row.Arrival, a}, err
	}
	if len(recent) == 0 {
		return nil, nil
	}
	return &recent[len(recent)-1], nil
}

package proof

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/sources"
)

type rehearsalInput struct {
	Body struct {
		SheetBody
		Workflow int64      `json:"workflow,omitempty" doc:"the workflow whose version that is on it is compared with"`
		From     *time.Time `json:"from,omitempty" doc:"without, from the first arrival on"`
		To       *time.Time `json:"to,omitempty" doc:"where the virtual clock stops; without, now"`
		As       string     `json:"as,omitempty" enum:"sums,jsonl,csv" doc:"sums: JSON Lines that say how far it is and what has been found, the last with done; jsonl, csv: every outcome"`
	}
}

// RehearsalSums is one line of a rehearsal's answer.
type RehearsalSums struct {
	Done  bool                `json:"done"`
	Of    int                 `json:"of" doc:"arrivals in the stretch, with those of sources that are looked up"`
	At    int                 `json:"at" doc:"arrivals run so far"`
	Error string              `json:"error,omitempty"`
	Sums  rehearse.Comparison `json:"sums"`
}

// How often a rehearsal says how far it is: soon at first, so that something is seen at once.
const (
	sumsFirst = 200 * time.Millisecond
	sumsEvery = 500 * time.Millisecond
)

func (s *Proof) rehearsalRoutes() {
	o := kit.Op("rehearse", http.MethodPost, "/api/rehearsals", "Runs a sheet over what came in, with a virtual clock; nothing is sent", "Workflows")
	o.Responses = map[string]*huma.Response{"200": {
		Description: "JSON Lines: each says what has been found so far; the last has done. Or every outcome, as JSON Lines or CSV.",
		Content:     map[string]*huma.MediaType{"application/jsonl": {Schema: s.API.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[RehearsalSums](), true, "")}, "text/csv": {}},
	}}
	kit.Register(s.Kit, o, kit.Anyone, s.rehearse)
}

func (s *Proof) rehearse(ctx context.Context, _ *kit.Person, in *rehearsalInput) (*huma.StreamResponse, error) {
	c, err := s.RunnableBody(ctx, in.Body.SheetBody)
	if err != nil {
		return nil, err
	}
	var on *sheet.Plan
	if in.Body.Workflow != 0 {
		if on, err = s.Engine.Workflows.PlanOn(ctx, in.Body.Workflow); err != nil {
			return nil, err
		}
	}
	r := &rehearsal{server: s, plan: c.Plan, on: on, workflow: in.Body.Workflow, as: in.Body.As, to: s.Engine.Now().UTC()}
	if in.Body.From != nil {
		r.from = *in.Body.From
	}
	if in.Body.To != nil {
		r.to = *in.Body.To
	}
	return &huma.StreamResponse{Body: r.write}, nil
}

// rehearsal is one that runs.
type rehearsal struct {
	server   *Proof
	plan, on *sheet.Plan
	workflow int64 // whose version is on; 0 for none
	as       string
	from, to time.Time
}

func (r *rehearsal) write(ctx huma.Context) {
	out := ctx.BodyWriter()
	ctx.SetHeader("Cache-Control", "no-store")
	switch r.as {
	case "csv":
		ctx.SetHeader("Content-Type", "text/csv; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="rehearsal.csv"`)
		w := csv.NewWriter(out)
		_ = w.Write([]string{"at", "arrival", "key", "tick", "verdict", "row", "decided_by", "to", "message", "tone", "title", "text"})
		_, _, err := r.run(ctx.Context(), func(l rehearse.Line, key string) error { return writeCSV(w, l, key) }, nil)
		if err != nil {
			_ = w.Write([]string{"error", err.Error()})
		}
		w.Flush()
	case "jsonl":
		ctx.SetHeader("Content-Type", "application/jsonl")
		ctx.SetHeader("Content-Disposition", `attachment; filename="rehearsal.jsonl"`)
		var buf []byte
		_, _, err := r.run(ctx.Context(), func(l rehearse.Line, _ string) error {
			buf = append(l.AppendJSON(buf[:0]), '\n')
			_, err := out.Write(buf)
			return err
		}, nil)
		if err != nil {
			_ = json.NewEncoder(out).Encode(map[string]string{"error": err.Error()})
		}
	default:
		ctx.SetHeader("Content-Type", "application/jsonl")
		r.sums(ctx.Context(), out)
	}
}

func (r *rehearsal) sums(ctx context.Context, out io.Writer) {
	enc := json.NewEncoder(out)
	say := func(s RehearsalSums) error {
		err := enc.Encode(s)
		if f, ok := out.(http.Flusher); ok {
			f.Flush()
		}
		return err
	}
	next := time.Now().Add(sumsFirst)
	sums, of, err := r.run(ctx, nil, func(at, of int, c *rehearse.Comparer) error {
		if time.Now().Before(next) {
			return nil
		}
		next = time.Now().Add(sumsEvery)
		return say(RehearsalSums{Of: of, At: at, Sums: c.Sum()})
	})
	if err != nil { // what was found until then says nothing of the rest
		_ = say(RehearsalSums{Of: of, Error: err.Error()})
		return
	}
	_ = say(RehearsalSums{Done: true, Of: of, At: of, Sums: sums})
}

// run runs both versions over the stretch.
func (r *rehearsal) run(ctx context.Context, emit func(rehearse.Line, string) error, along func(at, of int, c *rehearse.Comparer) error) (sums rehearse.Comparison, of int, err error) {
	e := r.server.Engine
	names, lookups := []string{}, r.plan.Lookups()
	for _, p := range []*sheet.Plan{r.plan, r.on} {
		if p == nil {
			continue
		}
		if p.Source != "" && !slices.Contains(names, p.Source) {
			names = append(names, p.Source)
		}
		for _, l := range p.Lookups() {
			if !slices.Contains(lookups, l) {
				lookups = append(lookups, l)
			}
		}
	}
	past, err := e.Past.Read(ctx, names, lookups, r.from, r.to)
	if err != nil {
		return sums, 0, err
	}
	skip := func(p *sheet.Plan) decide.Skip {
		if p == nil {
			return nil
		}
		days, dayErr := e.Timing.DaysOff(ctx, p)
		if dayErr != nil {
			err = dayErr
		}
		return days
	}
	skipNow, skipWas := skip(r.plan), skip(r.on)
	if err != nil {
		return sums, 0, err
	}
	outside := r.server.Reach(ctx, sources.AskNothing).Outside
	c := rehearse.NewComparer(r.plan, r.on, e.Workspace.Location(), skipNow, skipWas, func(m *rehearse.Machine, p *sheet.Plan) {
		past.Know(m, p)
		if !r.from.IsZero() {
			m.Before(func(key string) ([]*arrival.Arrival, error) {
				return e.Sources.Earlier(ctx, p.Source, key, r.from.Add(-time.Microsecond))
			})
		}
		m.Outside(outside)
		if p.Trigger.Moments != nil && !r.from.IsZero() {
			m.Begin(r.from)
		}
	}, emit)
	if r.workflow != 0 {
		needs, err := e.Past.Needs(ctx, r.workflow, r.from, r.to)
		if err != nil {
			return sums, 0, err
		}
		c.Needs(needs)
	}
	at := 0
	err = past.Each(ctx, e.Past, func(a *arrival.Arrival) error {
		if at++; along != nil && at%64 == 0 {
			if err := along(at, past.Total, c); err != nil {
				return err
			}
		}
		return c.Take(a)
	})
	if err == nil {
		err = c.Finish(r.to)
	}
	return c.Sum(), past.Total, err
}

// writeCSV writes a line of outcomes as rows, one for each post.
func writeCSV(w *csv.Writer, l rehearse.Line, key string) error {
	head := []string{l.At.UTC().Format(time.RFC3339Nano), cell(l.Arrival), cell(key), l.Tick, string(l.Verdict), cell(l.Row), l.DecidedBy}
	if l.Verdict == decide.Failed {
		head[6] = l.Where
	}
	if len(l.Posts) == 0 {
		return w.Write(append(head, "", "", "", "", cell(l.Error)))
	}
	for _, p := range l.Posts {
		if err := w.Write(append(slices.Clone(head), cell(p.To), p.Message, p.Doc.Tone, cell(p.Doc.Title), cell(p.Doc.Plain()))); err != nil {
			return err
		}
	}
	return nil
}

// cell keeps a text from being taken for a formula by a program for tables.
func cell(s string) string {
	bare := strings.TrimLeft(s, " \t\r\n\x00\uFEFF\u200B")
	if bare != "" && strings.ContainsRune("=+-@", rune(bare[0])) || s != "" && strings.ContainsRune("\t\r\n", rune(s[0])) {
		return "'" + s
	}
	return s
}

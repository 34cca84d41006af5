package api

import (
	"context"
	"net/http"
	"slices"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/engine/sources"
)

type tryInput struct {
	ID   int64 `path:"id"`
	Body struct {
		SheetBody
		Arrival int64  `json:"arrival,omitempty" doc:"the arrival's seq"`
		Record  string `json:"record,omitempty" doc:"or the key of a record, as it is now"`
		Message string `json:"message" doc:"the message to send where the arrival would not be told; else all that it would be told is sent"`
		To      string `json:"to" doc:"where to; everything goes there"`
	}
}

type tryOutput struct {
	Body struct {
		Posts int    `json:"posts"`
		To    string `json:"to"`
	}
}

func (s *Server) tryRoutes() {
	changes(s, op("try-sheet", http.MethodPost, "/api/workflows/{id}/try", "Send what a draft makes of an arrival to one channel, marked as a trial", "Workflows"), editors, act[tryInput, tryOutput](aboutWorkflow, func(in *tryInput) string { return idText(in.ID) }), s.try)
}

// try sends what a draft makes of an arrival, marked as a trial.
func (s *Server) try(ctx context.Context, _ *Person, in *tryInput) (*tryOutput, error) {
	if _, err := s.store.Workflow(ctx, in.ID); err != nil {
		return nil, err
	}
	c, err := s.runnableBody(ctx, in.Body.SheetBody)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(c.known.Destinations(), in.Body.To) {
		return nil, invalid("body.to", "there is no destination %s", in.Body.To)
	}
	plan := c.plan
	var of *pastArrival
	switch source := c.sheet.Watch.Source.S; {
	case source == "" || in.Body.Arrival == 0 && in.Body.Record == "":
	case in.Body.Record != "":
		of, err = s.fromRecord(ctx, source, in.Body.Record)
	default:
		of, err = s.chosen(ctx, in.Body.Arrival, nil, nil)
	}
	if err != nil {
		return nil, err
	}
	now, seq := s.Engine.Now().UTC(), int64(0)
	a := decide.Occasion(plan, nil, now)
	if of != nil {
		a, seq = decide.Occasion(plan, of.arrival, now), of.row.Seq
	}
	if a == nil {
		return nil, invalid("body.arrival", "choose an arrival to try it on")
	}
	sc := decide.NewScope(a)
	sc.Reach = s.reach(ctx, sources.AskGet)
	posts, err := decide.Trial(plan, sc, in.Body.Message)
	if err != nil {
		return nil, invalid("body.message", "%v", err)
	}
	if err := s.Engine.Outbox.Try(ctx, in.ID, seq, in.Body.To, posts); err != nil {
		return nil, err
	}
	out := &tryOutput{}
	out.Body.Posts, out.Body.To = len(posts), in.Body.To
	return out, nil
}

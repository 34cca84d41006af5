package proof

import (
	"context"
	"net/http"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/engine/sources"
)

type draftedInput struct {
	Body struct {
		SheetBody
		Arrival int64  `json:"arrival,omitempty" doc:"the arrival's seq"`
		Record  string `json:"record,omitempty" doc:"or the key of a record, as it is now"`
		Message string `json:"message"`
		To      string `json:"to" doc:"the destination, as the proof gives it"`
	}
}

type draftedOutput struct {
	Body struct {
		Call string `json:"call" doc:"the call, or the address, that it would go by"`
		Sent string `json:"sent" doc:"exactly what would be sent"`
	}
}

func (s *Proof) draftedRoutes() {
	kit.Register(s.Kit, kit.Op("draft-post", http.MethodPost, "/api/drafted", "Exactly what would be sent to a destination for an arrival", "Workflows"), kit.Editors, s.drafted)
}

// drafted gives what a message would be sent as. Nothing is sent, and nothing is handed over before.
func (s *Proof) drafted(ctx context.Context, _ *kit.Person, in *draftedInput) (*draftedOutput, error) {
	c, err := s.RunnableBody(ctx, in.Body.SheetBody)
	if err != nil {
		return nil, err
	}
	var of *PastArrival
	if source := c.Sheet.Watch.Source.S; source != "" && in.Body.Record != "" {
		of, err = s.FromRecord(ctx, source, in.Body.Record)
	} else if source != "" && in.Body.Arrival != 0 {
		of, err = s.Chosen(ctx, in.Body.Arrival, nil, nil)
	}
	if err != nil {
		return nil, err
	}
	a := decide.Occasion(c.Plan, nil, s.Engine.Now().UTC())
	if of != nil {
		a = decide.Occasion(c.Plan, of.Arrival, s.Engine.Now().UTC())
	}
	if a == nil {
		return nil, kit.Invalid("body.arrival", "choose an arrival to look at")
	}
	sc := decide.NewScope(a)
	sc.Reach = s.Reach(ctx, sources.AskGet)
	posts := decide.Decide(c.Plan, sc).Posts
	connection, to, _ := strings.Cut(in.Body.To, "/")
	post := connect.Post{Place: to, Key: "its-own-key"}
	for _, p := range posts {
		if p.To == in.Body.To && p.Message == in.Body.Message {
			post.Doc = p.Doc
			_, post.Cc, _ = strings.Cut(p.Cc, "/")
			_, post.Bcc, _ = strings.Cut(p.Bcc, "/")
		}
	}
	if post.Doc == nil {
		trial, err := decide.Trial(c.Plan, sc, in.Body.Message)
		if err != nil {
			return nil, kit.Invalid("body.message", "%v", err)
		}
		for _, p := range trial {
			if p.Message == in.Body.Message {
				post.Doc = p.Doc.For(connection)
			}
		}
	}
	if post.Doc == nil {
		return nil, kit.Invalid("body.message", "there is no message %q", in.Body.Message)
	}
	row, err := s.Store.Connection(ctx, connection)
	if err != nil {
		return nil, err
	}
	conn, err := s.Engine.Sources.OpenConn(row)
	if err != nil {
		return nil, kit.Invalid("body.to", "%s", fault.Plainly(err))
	}
	defer conn.Close()
	d, ok := conn.(connect.Drafter)
	if !ok {
		return nil, kit.Invalid("body.to", "what is sent to %s is only known once it is sent", row.Title)
	}
	out := &draftedOutput{}
	if out.Body.Call, out.Body.Sent, err = d.Draft(ctx, post); err != nil {
		return nil, kit.Invalid("body.to", "%s", fault.Plainly(err))
	}
	return out, nil
}

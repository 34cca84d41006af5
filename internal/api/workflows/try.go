package workflows

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

type tryInput struct {
	ID   int64 `path:"id"`
	Body struct {
		proof.SheetBody
		Arrival int64  `json:"arrival,omitempty" doc:"the arrival's seq"`
		Record  string `json:"record,omitempty" doc:"or the key of a record, as it is now"`
		Message string `json:"message" doc:"the message to send where the arrival would not be told; else all that it would be told is sent"`
		To      string `json:"to" doc:"where to; everything goes there. me/ is whoever asks, by the people book, or else by mail"`
	}
}

type tryOutput struct {
	Body struct {
		Posts int    `json:"posts"`
		To    string `json:"to"`
	}
}

func (s *Workflows) tryRoutes() {
	kit.Changes(s.Kit, kit.Op("try-sheet", http.MethodPost, "/api/workflows/{id}/try", "Send what a draft makes of an arrival to one channel, marked as a trial", "Workflows"), kit.Editors, kit.Act[tryInput, tryOutput](store.AboutWorkflow, func(in *tryInput) string { return kit.IDText(in.ID) }), s.try)
}

// try sends what a draft makes of an arrival, marked as a trial.
func (s *Workflows) try(ctx context.Context, who *kit.Person, in *tryInput) (*tryOutput, error) {
	if _, err := s.Store.Workflow(ctx, in.ID); err != nil {
		return nil, err
	}
	c, err := s.Proof.RunnableBody(ctx, in.Body.SheetBody)
	if err != nil {
		return nil, err
	}
	to, err := trialPlace(c.Known, in.Body.To, who)
	if err != nil {
		return nil, kit.Invalid("body.to", "%v", err)
	}
	plan := c.Plan
	var of *proof.PastArrival
	switch source := c.Sheet.Watch.Source.S; {
	case source == "" || in.Body.Arrival == 0 && in.Body.Record == "":
	case in.Body.Record != "":
		of, err = s.Proof.FromRecord(ctx, source, in.Body.Record)
	default:
		of, err = s.Proof.Chosen(ctx, in.Body.Arrival, nil, nil)
	}
	if err != nil {
		return nil, err
	}
	now, seq := s.Engine.Now().UTC(), int64(0)
	a := decide.Occasion(plan, nil, now)
	if of != nil {
		a, seq = decide.Occasion(plan, of.Arrival, now), of.Row.Seq
	}
	if a == nil {
		return nil, kit.Invalid("body.arrival", "choose an arrival to try it on")
	}
	sc := decide.NewScope(a)
	sc.Reach = s.Proof.Reach(ctx, sources.AskGet)
	posts, err := decide.Trial(plan, sc, in.Body.Message)
	if err != nil {
		return nil, kit.Invalid("body.message", "%v", err)
	}
	if err := s.Engine.Outbox.Try(ctx, in.ID, seq, to, posts); err != nil {
		return nil, err
	}
	out := &tryOutput{}
	out.Body.Posts, out.Body.To = len(posts), to
	return out, nil
}

// trialPlace is where a trial goes: a place that there is, or whoever asks.
func trialPlace(known sheet.Known, to string, who *kit.Person) (string, error) {
	connection, text, _ := strings.Cut(to, "/")
	switch connection {
	case sheet.Me:
		if p := known.People.Find(who.Email); p != nil {
			a, err := p.Preferred()
			if err != nil {
				return "", err
			}
			connection, text = a.Connection, a.Address
			break
		}
		if connection, text = mailOf(known), who.Email; connection == "" {
			return "", errors.New("you are not in the people book, and no mailbox is connected that mails can be sent over")
		}
	case sheet.Person:
		p := known.People.Find(text)
		if p == nil {
			return "", errors.New(place.Nobody(text, known.People))
		}
		a, err := p.Preferred()
		if err != nil {
			return "", err
		}
		connection, text = a.Connection, a.Address
	}
	rule, ok := known.Reaches(connection)
	if !ok {
		return "", fmt.Errorf("there is no destination %s", to)
	}
	normal, err := rule.Take(text, known.Workspace)
	if err == nil && normal == "" {
		err = errors.New("the address is empty")
	}
	return connection + "/" + normal, err
}

// mailOf is a connection that mails go over, "" where there is none.
func mailOf(known sheet.Known) string {
	for _, c := range known.Connections() {
		if rule, ok := known.Reaches(c); ok && rule.Form == place.Mail {
			return c
		}
	}
	return ""
}

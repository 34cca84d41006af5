package connections

import (
	"context"
	"net/http"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/store"
)

type trialInput struct {
	ID   string `path:"id"`
	Body struct {
		Place string `json:"place" maxLength:"2000" doc:"where one post goes, to try it"`
	}
}

type trialOutput struct {
	Body struct {
		Taken   bool   `json:"taken"`
		Status  int    `json:"status"`
		Answer  string `json:"answer" doc:"the other side's words"`
		Link    string `json:"link" doc:"to the post, where the other side gives one"`
		Address string `json:"address" doc:"what was called"`
		Sent    string `json:"sent" doc:"as it went out"`
		Raw     string `json:"raw" doc:"the answer as it came"`
	}
}

type marksInput struct {
	Body struct {
		Marks string `json:"marks" maxLength:"5000" doc:"a table of marks, as JSON"`
		Text  string `json:"text" maxLength:"5000" doc:"CommonMark to write by them"`
	}
}

type marksOutput struct {
	Body struct {
		Written string `json:"written"`
		Place   string `json:"place" doc:"the mark that is wrong"`
		Problem string `json:"problem"`
	}
}

func (s *Connections) sendingRoutes() {
	kit.Changes(s.Kit, kit.Op("try-connection", http.MethodPost, "/api/connections/{id}/trial", "Send one post over a connection, to try it", "Connections"), kit.Editors, kit.Act[trialInput, trialOutput](store.AboutConnection, func(in *trialInput) string { return in.ID }), s.trial)
	kit.Register(s.Kit, kit.Op("try-marks", http.MethodPost, "/api/marks/try", "Write a text by a table of marks, without keeping anything", "Connections"), kit.Editors, s.tryMarks)
}

// trialPost is what is sent to try a connection.
func trialPost(who string) *message.Document {
	return &message.Document{
		Title: "Trial from Dorfbote", Tone: "plain", Facts: []message.Fact{{Label: "Sent by", Value: who}},
		Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Text, Text: "If you can read this, "}, {Kind: message.Strong, Subs: []message.Inline{{Kind: message.Text, Text: "posts arrive here"}}}, {Kind: message.Text, Text: "."}}}},
	}
}

// trial sends one post past the outbox: whoever tries sees at once what comes of it, and it is not tried again.
func (s *Connections) trial(ctx context.Context, who *kit.Person, in *trialInput) (*trialOutput, error) {
	c, err := s.Store.Connection(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	k := kinds.Named(c.Kind)
	if k == nil || k.Sends == nil {
		return nil, kit.Invalid("path.id", "posts do not go over %s", c.Title)
	}
	if k.Mute != nil && k.Mute(c.Settings) != "" {
		return nil, kit.Invalid("path.id", "%s", k.Mute(c.Settings))
	}
	rules, err := s.Engine.Sources.Rules(ctx)
	if err != nil {
		return nil, err
	}
	to, err := rules[c.ID].Take(in.Body.Place, s.Engine.Workspace)
	if err != nil || to == "" {
		if err == nil {
			return nil, kit.Invalid("body.place", "say where it goes")
		}
		return nil, kit.Invalid("body.place", "%v", err)
	}
	conn, err := s.Engine.Sources.OpenConn(c)
	if err != nil {
		return nil, kit.Invalid("path.id", "%s", fault.Plainly(err))
	}
	defer conn.Close()
	d := conn.(connect.Sender).Send(ctx, connect.Post{Place: to, Doc: trialPost(who.Name), Key: "trial-" + newSigningSecret()})
	out := &trialOutput{}
	out.Body.Taken, out.Body.Status, out.Body.Answer, out.Body.Link, out.Body.Address, out.Body.Sent, out.Body.Raw = d.Taken, d.Status, d.Answer, d.Link, d.Address, d.Sent, d.Raw
	return out, nil
}

func (s *Connections) tryMarks(_ context.Context, _ *kit.Person, in *marksInput) (*marksOutput, error) {
	out := &marksOutput{}
	m, wrong := message.ReadMarks(in.Body.Marks)
	if wrong != nil {
		out.Body.Problem = fault.Plainly(wrong)
		if f, ok := fault.Of(wrong); ok {
			out.Body.Place = f.Place
		}
		return out, nil
	}
	out.Body.Written = m.Write(&message.Document{Body: message.ReadMarkdown(in.Body.Text)})
	return out, nil
}

package connections

import (
	"context"
	"errors"
	"maps"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/sources"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// ProveBody is what came of proving a connection.
type ProveBody struct {
	OK      bool                `json:"ok"`
	Steps   []connect.ProofStep `json:"steps"`
	Choices []connect.Choice    `json:"choices" doc:"what can be read from it"`
}

type proveOutput struct{ Body ProveBody }

type proveNewInput struct {
	Body struct {
		Kind     string            `json:"kind"`
		ID       string            `json:"id,omitempty" doc:"of a connection that is there, whose secrets are used where none are given"`
		Settings map[string]string `json:"settings,omitempty"`
	}
}

func (s *Connections) proveRoutes() {
	kit.Register(s.Kit, kit.Op("prove-settings", http.MethodPost, "/api/connections/prove", "Try out settings by real calls, without keeping anything", "Connections"), kit.Editors, s.proveNew)
	kit.Register(s.Kit, kit.Op("prove-connection", http.MethodPost, "/api/connections/{id}/prove", "Try out a connection by real calls", "Connections"), kit.Editors, s.proveOne)
	kit.Register(s.Kit, kit.Op("browse-connection", http.MethodPost, "/api/connections/{id}/browse", "What can be read from a connection", "Connections"), kit.Editors, s.browse)
}

func (s *Connections) proveNew(ctx context.Context, _ *kit.Person, in *proveNewInput) (*proveOutput, error) {
	k, settings, secrets, err := settingsOf(in.Body.Kind, in.Body.Settings)
	if err != nil {
		return nil, err
	}
	if in.Body.ID != "" {
		c, err := s.Store.ConnectionOf(ctx, in.Body.ID, k.Name)
		if err != nil || c == nil {
			return nil, kit.OrMissing(err)
		}
		have, err := s.Engine.Box.Open(c.Sealed, c.ID)
		if err != nil {
			return nil, err
		}
		if err := sources.KeepSecrets(k, c.Settings, settings, have, secrets); err != nil {
			return nil, err
		}
	}
	if err := sources.Complete(k.Settings, settings, secrets); err != nil {
		return nil, err
	}
	config := connect.Config{ID: in.Body.ID, Settings: map[string]string{}, Env: s.Engine.Env}
	maps.Copy(config.Settings, settings)
	maps.Copy(config.Settings, secrets)
	if k.Open == nil {
		return &proveOutput{ProveBody{OK: true, Steps: []connect.ProofStep{connect.Passed("making the address", "it waits for calls")}, Choices: []connect.Choice{}}}, nil
	}
	conn, err := k.Open(config)
	if err != nil {
		return &proveOutput{ProveBody{Steps: []connect.ProofStep{connect.Failed("reading the settings", err)}, Choices: []connect.Choice{}}}, nil
	}
	defer conn.Close()
	return &proveOutput{proof(ctx, conn)}, nil
}

func proof(ctx context.Context, conn connect.Conn) ProveBody {
	ctx, cancel := context.WithTimeout(ctx, kit.Proving)
	defer cancel()
	out := ProveBody{Steps: conn.Prove(ctx), Choices: []connect.Choice{}}
	out.OK = connect.Proved(out.Steps)
	if list, err := conn.Browse(ctx); err == nil && list != nil {
		out.Choices = list
	}
	return out
}

func (s *Connections) proveOne(ctx context.Context, _ *kit.Person, in *connectionInput) (*proveOutput, error) {
	c, err := s.Store.Connection(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if k := kinds.Named(c.Kind); k == nil || k.Open == nil {
		steps, err := s.proveWaiting(ctx, c)
		return &proveOutput{ProveBody{OK: connect.Proved(steps), Steps: steps, Choices: []connect.Choice{}}}, err
	}
	conn, err := s.Engine.Sources.OpenConn(c)
	if err != nil {
		return &proveOutput{ProveBody{Steps: []connect.ProofStep{connect.Failed("opening the connection", err)}, Choices: []connect.Choice{}}}, nil
	}
	defer conn.Close()
	body := proof(ctx, conn)
	var failure error
	for _, st := range body.Steps {
		if !st.OK && !st.Open && failure == nil {
			failure = errors.New(st.Tried + ": " + st.Said)
		}
	}
	s.Engine.Sources.NoteHealth(ctx, c.ID, failure)
	if k := kinds.Named(c.Kind); k != nil && k.Sends != nil && k.Sends.Listed() && failure == nil {
		if err := s.Engine.Sources.AskChannels(ctx, c.ID); err != nil {
			return nil, err
		}
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections})
	return &proveOutput{body}, nil
}

// proveWaiting proves what waits for calls by what has come.
func (s *Connections) proveWaiting(ctx context.Context, c *store.Connection) ([]connect.ProofStep, error) {
	s.Requests.WaitWritten()
	last, err := s.Store.LastRequests(ctx, c.ID, "", false, 1)
	if err != nil {
		return nil, err
	}
	tried := "looking at the last request to " + s.addressOf(c)
	switch {
	case len(last) == 0:
		return []connect.ProofStep{{Tried: tried, Said: "nothing has come yet", Do: "send something to it; the ready command does"}}, nil
	case last[0].Status >= 400:
		return []connect.ProofStep{{Tried: tried, Said: last[0].Problem, Do: "have the app mend what it sends"}}, nil
	}
	return []connect.ProofStep{connect.Passed(tried, "taken in, %s", last[0].At.In(s.Engine.Workspace.Location()).Format("2 January 15:04"))}, nil
}

func (s *Connections) browse(ctx context.Context, _ *kit.Person, in *connectionInput) (*kit.List[connect.Choice], error) {
	c, err := s.Store.Connection(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	conn, err := s.Engine.Sources.OpenConn(c)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(ctx, kit.Proving)
	defer cancel()
	items, err := conn.Browse(ctx)
	if err != nil {
		return nil, huma.Error502BadGateway(err.Error())
	}
	return kit.ListOf(items, 0), nil
}

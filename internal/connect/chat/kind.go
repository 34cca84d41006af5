package chat

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
)

// Kind describes chats that posts go to.
func Kind() *connect.Kind {
	return &connect.Kind{
		Name: "chat", Title: "Chat", Does: "Posts messages to the channels of the square, the team chat that comes with Dorfbote",
		Settings: []connect.Setting{
			{Name: "address", Label: "Address", Type: "address", Required: true},
			{Name: "token", Label: "Token", Type: "secret", Required: true},
		},
		Sends: &connect.Sends{Hands: func(map[string]string) bool { return true }, Can: []connect.Ability{connect.CanEdit, connect.CanReply, connect.CanSender, connect.CanPicture, connect.CanMention, connect.CanButtons}, Dialect: message.Rich, Form: place.Listed},
		Open:  func(c connect.Config) (connect.Conn, error) { return &chat{c}, nil },
	}
}

type chat struct{ config connect.Config }

func (c *chat) Close() error { return nil }

type channel struct {
	Name    string `json:"name"`
	Purpose string `json:"purpose"`
	Private bool   `json:"private"`
	LetIn   bool   `json:"let_in"`
}

func (c *chat) channels(ctx context.Context) ([]channel, error) {
	h := http.Header{"Authorization": {"Bearer " + c.config.Settings["token"]}}
	res, err := c.config.Env.Get(ctx, strings.TrimSuffix(c.config.Settings["address"], "/")+"/rooms", h)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return nil, err
	}
	var list []channel
	if err := json.Unmarshal(raw, &list); err != nil {
		return nil, &fault.Fault{Tried: "listing the channels", Said: "the answer is not what the square says", Do: "check the address"}
	}
	return list, nil
}

// Prove lists the channels, and says which would refuse a post.
func (c *chat) Prove(ctx context.Context) []connect.ProofStep {
	list, err := c.channels(ctx)
	if err != nil {
		return []connect.ProofStep{connect.Failed("signing in and listing the channels", err)}
	}
	steps := []connect.ProofStep{connect.Passed("signing in and listing the channels", "%s", connect.Counted(len(list), "channel"))}
	for _, ch := range list {
		if ch.Private && !ch.LetIn {
			steps = append(steps, connect.ProofStep{Tried: "posting to " + ch.Name, Said: "the channel is private, and Dorfbote has not been let in", Do: "let Dorfbote in", Who: "a member of " + ch.Name})
		}
	}
	return steps
}

// Browse lists the channels.
func (c *chat) Browse(ctx context.Context) ([]connect.Choice, error) {
	list, err := c.channels(ctx)
	var out []connect.Choice
	for _, ch := range list {
		one := connect.Choice{Kind: ch.Name, Title: ch.Name, Detail: ch.Purpose, Private: ch.Private, Settings: map[string]string{}}
		if ch.Private {
			if one.Detail = "private"; !ch.LetIn {
				one.Shut = ch.Name + " is private, and Dorfbote has not been let in; have a member of it let Dorfbote in"
			}
		}
		out = append(out, one)
	}
	return out, err
}

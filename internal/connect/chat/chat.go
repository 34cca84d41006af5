// Package chat sends posts to the channels of the square, the team chat that comes with Dorfbote, over its HTTP API.
package chat

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
)

// wirePost is a post as the square takes it.
type wirePost struct {
	Channel string         `json:"channel"`
	Title   string         `json:"title,omitempty"`
	Text    string         `json:"text,omitempty"`
	Facts   []message.Fact `json:"facts,omitempty"`
	Tone    string         `json:"tone,omitempty"`
	Link    *message.Link  `json:"link,omitempty"`
	Under   string         `json:"under,omitempty"`
}

// Send posts to a channel.
func (c *chat) Send(ctx context.Context, p connect.Post) connect.Delivery {
	return c.call(ctx, http.MethodPost, "/posts", "", p)
}

// Reply posts into the thread of an earlier post.
func (c *chat) Reply(ctx context.Context, id string, p connect.Post) connect.Delivery {
	return c.call(ctx, http.MethodPost, "/posts", id, p)
}

// Edit changes an earlier post.
func (c *chat) Edit(ctx context.Context, id string, p connect.Post) connect.Delivery {
	return c.call(ctx, http.MethodPut, "/posts/"+url.PathEscape(id), "", p)
}

func (c *chat) call(ctx context.Context, method, path, under string, p connect.Post) connect.Delivery {
	body, err := json.Marshal(wirePost{
		Channel: p.Place, Title: p.Doc.Title, Text: p.Doc.Markdown(), Facts: p.Doc.Facts, Tone: p.Doc.Tone, Link: p.Doc.Link, Under: under,
	})
	if err != nil {
		return connect.Refused(err.Error())
	}
	header := http.Header{"Content-Type": {"application/json"}, "Authorization": {"Bearer " + c.config.Settings["token"]}}
	address := strings.TrimSuffix(c.config.Settings["address"], "/") + path
	return connect.SendHTTP(ctx, c.config.Env, method, address, header, body, p.Key, method == http.MethodPut, func(answer []byte) (id, link string) { return connect.IDIn(answer, "id"), "" })
}

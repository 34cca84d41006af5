// Package chat sends posts to the channels of the square, the team chat that comes with Dorfbote, over its HTTP API.
package chat

import (
	"bytes"
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
	Channel  string         `json:"channel"`
	Title    string         `json:"title,omitempty"`
	Text     string         `json:"text,omitempty"`
	Facts    []message.Fact `json:"facts,omitempty"`
	Tone     string         `json:"tone,omitempty"`
	Link     *message.Link  `json:"link,omitempty"`
	Links    []message.Link `json:"links,omitempty"`
	Mentions []string       `json:"mentions,omitempty"`
	Picture  *wirePicture   `json:"picture,omitempty"`
	Sender   *wireSender    `json:"sender,omitempty"`
	Under    string         `json:"under,omitempty"`
	Buttons  []wireButton   `json:"buttons,omitempty"`
	Why      string         `json:"why,omitempty"` // the address of a page that says why it was posted
	Mark     string         `json:"mark"`
}

// wireButton is a button of a post: whoever presses it has the square call an address.
type wireButton struct {
	Text    string `json:"text"`
	Call    string `json:"call"`
	Comment string `json:"comment,omitempty"`
}

type (
	wirePicture struct {
		ID   string `json:"id"`
		Text string `json:"text"`
	}
	wireSender struct {
		Name    string `json:"name,omitempty"`
		Picture string `json:"picture,omitempty"`
	}
)

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

// Upload hands a picture over before the post that shows it.
func (c *chat) Upload(ctx context.Context, _, media string, picture []byte) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, connect.SendTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.at("/pictures"), bytes.NewReader(picture))
	if err != nil {
		return "", err
	}
	a, err := c.config.Env.Do(req, http.Header{"Content-Type": {media}, "Authorization": {"Bearer " + c.config.Settings["token"]}})
	if err != nil {
		return "", err
	}
	defer a.Body.Close()
	var out struct{ ID string }
	err = json.NewDecoder(a.Body).Decode(&out)
	return out.ID, err
}

// Draft gives what would be sent. Pictures are handed over only then.
func (c *chat) Draft(_ context.Context, p connect.Post) (call, sent string, err error) {
	raw, err := json.MarshalIndent(wire(p, ""), "", "  ")
	return "POST " + c.at("/posts"), string(raw), err
}

func (c *chat) at(path string) string {
	return strings.TrimSuffix(c.config.Settings["address"], "/") + path
}

// wire is a post without its pictures.
func wire(p connect.Post, under string) wirePost {
	out := wirePost{
		Channel: p.Place, Title: p.Doc.Title, Text: p.Doc.Markdown(), Facts: p.Doc.Facts, Tone: p.Doc.Tone, Link: p.Doc.Link, Links: p.Doc.Links, Under: under, Why: p.Why, Mark: connect.Mark,
	}
	if s := p.Doc.Sender; s != nil && s.Name != "" {
		out.Sender = &wireSender{Name: s.Name}
	}
	for _, b := range p.Buttons {
		out.Buttons = append(out.Buttons, wireButton(b))
	}
	for _, m := range p.Doc.Mentions {
		name := m.To
		if name == "" {
			name = m.Name
		}
		out.Mentions = append(out.Mentions, strings.TrimPrefix(name, "@"))
	}
	return out
}

// handed hands a picture over; "" where it cannot be had, which is no reason not to tell.
func (c *chat) handed(ctx context.Context, p *message.Picture) string {
	pic, err := connect.PictureOf(ctx, c.config.Env, p)
	if err != nil {
		return ""
	}
	id, err := c.Upload(ctx, "", pic.Media, pic.Data)
	if err != nil {
		return ""
	}
	return id
}

func (c *chat) call(ctx context.Context, method, path, under string, p connect.Post) connect.Delivery {
	post := wire(p, under)
	if s := p.Doc.Sender; s != nil && s.Picture != "" {
		if post.Sender == nil {
			post.Sender = &wireSender{}
		}
		post.Sender.Picture = c.handed(ctx, &message.Picture{From: s.Picture, Made: s.Made})
	}
	if pic := p.Doc.Picture; pic != nil {
		if id := c.handed(ctx, pic); id != "" {
			post.Picture = &wirePicture{id, pic.Text}
		} else if pic.From != "" {
			post.Links = append(post.Links, message.Link{Text: pic.Text, To: pic.From})
		}
	}
	body, err := json.Marshal(post)
	if err != nil {
		return connect.Refused(err.Error())
	}
	header := http.Header{"Content-Type": {"application/json"}, "Authorization": {"Bearer " + c.config.Settings["token"]}}
	return connect.SendCall(ctx, c.config.Env, connect.Call{
		Method: method, Address: c.at(path), Header: header, Body: body, Key: p.Key, Through: p.Through, Edit: method == http.MethodPut,
		Judge: func(answer []byte, d *connect.Delivery) {
			if d.Taken {
				d.ID, d.Link = connect.IDIn(answer, "id"), connect.IDIn(answer, "link")
			}
		},
	})
}

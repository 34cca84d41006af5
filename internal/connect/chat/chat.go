// Package chat sends posts to a team chat over its HTTP API.
package chat

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
)

// Post is what goes to a channel.
type Post struct {
	Channel string
	Doc     *message.Document
	Under   string // the other side's id of the post whose thread this belongs in
	Key     string // idempotency key, sent so that a repeated call is known as one
	// Replaces is the other side's id of an earlier post that this one is put in the place of; "" sends a new one.
	Replaces string
}

// Receipt is what came back.
type Receipt struct {
	RemoteID   string
	Status     int    // of HTTP; 0 when no answer came
	Answer     string // the other side's words, shortened
	RetryAfter time.Duration

	Address string // what was called, with its method
	Body    string // as it was sent
	Raw     string // the answer as it came, shortened
}

// Healable tells whether the same call may succeed later: no answer came, the other side is busy, or it has failed itself.
// Everything else stays as it is until somebody has seen to it, a redirection and what is not implemented included.
func (r Receipt) Healable() bool {
	switch r.Status {
	case 0, http.StatusRequestTimeout, http.StatusConflict, http.StatusLocked, http.StatusTooEarly, http.StatusTooManyRequests:
		return true
	case http.StatusNotImplemented, http.StatusHTTPVersionNotSupported, http.StatusLoopDetected, http.StatusNetworkAuthenticationRequired:
		return false
	}
	return r.Status >= 500
}

// Instead says what is to be sent in the place of an edit that was refused: where the earlier post is gone, a new post; where
// it stands but cannot be edited, a reply to it. Neither is so for other refusals, which concern the channel.
func (r Receipt) Instead() (post, reply bool) {
	switch r.Status {
	case http.StatusNotFound, http.StatusGone:
		return true, false
	case http.StatusMethodNotAllowed, http.StatusNotImplemented:
		return false, true
	}
	return false, false
}

// Sent tells whether the other side has taken the post.
func (r Receipt) Sent() bool { return r.Status >= 200 && r.Status < 300 }

// Client speaks to one chat.
type Client struct {
	Address string
	Token   string
	HTTP    *http.Client
}

type wirePost struct {
	Channel string         `json:"channel"`
	Title   string         `json:"title,omitempty"`
	Text    string         `json:"text,omitempty"`
	Facts   []message.Fact `json:"facts,omitempty"`
	Tone    string         `json:"tone,omitempty"`
	Link    *message.Link  `json:"link,omitempty"`
	Under   string         `json:"under,omitempty"`
}

// Send delivers one post. Whatever the other side says is in the receipt; there is no error beside it.
func (c *Client) Send(ctx context.Context, p Post) Receipt {
	body, err := json.Marshal(wirePost{
		Channel: p.Channel, Title: p.Doc.Title, Text: p.Doc.Markdown(), Facts: p.Doc.Facts, Tone: p.Doc.Tone, Link: p.Doc.Link, Under: p.Under,
	})
	if err != nil {
		return Receipt{Status: http.StatusBadRequest, Answer: err.Error()}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	method, address := http.MethodPost, strings.TrimSuffix(c.Address, "/")+"/posts"
	if p.Replaces != "" {
		method, address = http.MethodPut, address+"/"+url.PathEscape(p.Replaces)
	}
	req, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return Receipt{Status: http.StatusBadRequest, Answer: err.Error()}
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+c.Token)
	req.Header.Set("Idempotency-Key", p.Key)
	res, err := c.HTTP.Do(req)
	if err != nil {
		return Receipt{Answer: fmt.Sprintf("no answer from %s: %s", req.URL.Host, connect.NoAnswer(err)), Address: method + " " + address, Body: string(body)}
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	out := Receipt{Status: res.StatusCode, Answer: words(raw, res.Status), RetryAfter: connect.RetryAfter(res.Header.Get("Retry-After"), time.Now())}
	out.Address, out.Body, out.Raw = method+" "+address, string(body), shortened(raw)
	if out.Sent() {
		var made struct {
			ID json.Number `json:"id"`
		}
		if json.Unmarshal(raw, &made) == nil {
			out.RemoteID = made.ID.String()
		}
	}
	return out
}

// rawKept is how much of an answer is kept as it came.
const rawKept = 4 << 10

func shortened(raw []byte) string {
	text := strings.ReplaceAll(strings.ToValidUTF8(string(raw[:min(len(raw), rawKept)]), "\uFFFD"), "\x00", "\uFFFD")
	if len(raw) > rawKept {
		text += "…"
	}
	return text
}

// words picks the readable part of an answer: the detail of an RFC 9457 problem, or the text itself.
func words(raw []byte, status string) string {
	var problem struct {
		Title  string `json:"title"`
		Detail string `json:"detail"`
	}
	if json.Unmarshal(raw, &problem) == nil && problem.Title+problem.Detail != "" {
		return connect.Answered(status, problem.Title, problem.Detail)
	}
	text := strings.TrimSpace(string(raw))
	if len(text) > 400 {
		text = text[:400] + "…"
	}
	if text == "" || strings.HasPrefix(text, "{") {
		return status
	}
	return connect.Answered(status, strings.ToValidUTF8(text, "\uFFFD"))
}

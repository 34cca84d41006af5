// Package event tells another system of posts, as CloudEvents 1.0 signed by Standard Webhooks.
package event

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
)

// Type is the type of the events.
const Type = "dorfbote.post"

// Kind describes other systems that posts go to as events.
func Kind() *connect.Kind {
	return &connect.Kind{
		Name: "event", Title: "Event", Does: "Tells another system of posts, as signed CloudEvents",
		Settings: []connect.Setting{
			{Name: "address", Label: "Address", Type: "secret", Required: true, Help: "where the other system takes events, such as https://system.example/in/posts"},
			{Name: "signing", Label: "Signing secret", Type: "secret", Help: "the other side's, where it gives one, beginning with whsec_; else one is made, and shown once"},
		},
		Signs: true, Makes: true,
		Sends: &connect.Sends{Can: []connect.Ability{connect.CanSender, connect.CanPicture, connect.CanMention}, Dialect: message.Rich},
		Check: func(settings map[string]string) error {
			u, err := url.Parse(settings["address"])
			if settings["address"] != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "") {
				return fault.At("address", "this is no address; write it like https://system.example/in/posts")
			}
			if s := settings["signing"]; s != "" {
				if _, err := standardwebhooks.NewWebhook(s); err != nil {
					return fault.At("signing", "this is no secret of Standard Webhooks; it begins with whsec_")
				}
			}
			return nil
		},
		Open: func(c connect.Config) (connect.Conn, error) { return &events{c}, nil },
	}
}

type events struct{ config connect.Config }

// Close ends nothing: every event is a call of its own.
func (e *events) Close() error { return nil }

// Browse lists nothing: any place may be written, and stands in the event.
func (e *events) Browse(context.Context) ([]connect.Choice, error) { return nil, nil }

// Prove asks whether the server is there, by a call that changes nothing.
func (e *events) Prove(ctx context.Context) []connect.ProofStep {
	return []connect.ProofStep{connect.IsThere(ctx, e.config.Env, e.config.Settings["address"], e.host(), "the other system", nil)}
}

func (e *events) host() string {
	u, err := url.Parse(e.config.Settings["address"])
	if err != nil {
		return ""
	}
	return u.Host
}

// Draft gives the event that would be sent.
func (e *events) Draft(_ context.Context, p connect.Post) (call, sent string, err error) {
	raw, err := e.event(p, time.Now())
	return "POST " + e.host() + "\nContent-Type: application/cloudevents+json", string(raw), err
}

// event writes a post as an event. Its id is the post's key, so that a repeated one is known as the same. Its data is the post as
// shapes see it, with its text in CommonMark beside, and to whom a copy goes.
func (e *events) event(p connect.Post, now time.Time) ([]byte, error) {
	data := connect.Seen(p, connect.NoMarks, 0)
	delete(data, "all")
	data["markdown"], data["cc"] = p.Doc.Markdown(), p.Cc
	return json.MarshalIndent(map[string]any{
		"specversion": "1.0", "id": p.Key, "source": "dorfbote/" + e.config.ID, "type": Type, "time": now.UTC().Format(time.RFC3339Nano),
		"subject": p.Key, "datacontenttype": "application/json", "data": data,
	}, "", " ")
}

// Send sends one event.
func (e *events) Send(ctx context.Context, p connect.Post) connect.Delivery {
	now := time.Now()
	body, err := e.event(p, now)
	if err != nil {
		return connect.Refused(err.Error())
	}
	signature, err := e.sign(p.Key, now, body)
	if err != nil {
		return connect.Unreachable("it cannot be signed: " + err.Error())
	}
	header := http.Header{"Content-Type": {"application/cloudevents+json"}, "Webhook-Id": {p.Key}, "Webhook-Timestamp": {strconv.FormatInt(now.Unix(), 10)}, "Webhook-Signature": {signature}}
	return connect.SendCall(ctx, e.config.Env, connect.Call{Method: http.MethodPost, Address: e.config.Settings["address"], Shown: "POST " + e.host(), Header: header, Body: body, Key: p.Key, Through: p.Through})
}

// sign signs an event by the secret, and for a while after it was renewed by the one before, too.
func (e *events) sign(id string, now time.Time, body []byte) (string, error) {
	secrets := []string{e.config.Settings["signing"]}
	if until, err := time.Parse(time.RFC3339, e.config.Settings["before_until"]); err == nil && now.Before(until) && e.config.Settings["signing_before"] != "" {
		secrets = append(secrets, e.config.Settings["signing_before"])
	}
	var out []string
	for _, s := range secrets {
		wh, err := standardwebhooks.NewWebhook(s)
		if err != nil {
			return "", fmt.Errorf("the signing secret is missing or wrong: %w", err)
		}
		signature, err := wh.Sign(id, now, body)
		if err != nil {
			return "", err
		}
		out = append(out, signature)
	}
	return strings.Join(out, " "), nil
}

package webhook

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/ohler55/ojg/jp"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

// textShapes are the bodies that gateways for text messages mostly take.
var textShapes = []struct {
	name, body string
	form       bool
}{
	{name: "to, from, text", body: `{"to": "${post.to}", "from": {"$when": "${post.sender.name}", "$then": "${post.sender.name}"}, "text": "${post.text}"}`},
	{name: "to, from, text, reports", body: `{"to": "${post.to}", "from": {"$when": "${post.sender.name}", "$then": "${post.sender.name}"}, "text": "${post.text}", "reports": {"$when": "${post.reports}", "$then": "${post.reports}"}}`},
	{name: "form fields to, from, text", form: true, body: `{"to": "${post.to}", "from": "${post.sender.name}", "text": "${post.text}"}`},
}

func textShapeNames() []string {
	out := make([]string, len(textShapes))
	for i, s := range textShapes {
		out[i] = s.name
	}
	return out
}

// Where a report of delivery has what, and what its states mean, where the settings do not say.
const (
	reportID     = "$.message"
	reportState  = "$.status"
	reportWords  = "$.reason"
	wasDelivered = "delivered, read, ok"
	wasNot       = "failed, undelivered, undeliverable, rejected, expired"
)

// TextKind describes gateways for text messages: what takes an HTTP call and sends it on to a phone.
func TextKind() *connect.Kind {
	settings := []connect.Setting{
		{Name: "address", Label: "Address", Type: "secret", Required: true, Help: "where the gateway takes messages, such as https://gateway.example/messages"},
		{Name: "sender_id", Label: "Shown as", Type: "text", Help: "at most 11 letters and digits, or a number; where a gateway lets it be chosen"},
		{Name: "shape", Label: "What is sent", Type: "choice", Options: append(textShapeNames(), ownShape), Default: textShapes[0].name},
		{Name: "body", Label: "The body", Type: "shape", Required: true, When: "shape=" + ownShape, Help: `JSON, in whose texts formulas may stand: {"to": "${post.to}", "text": "${post.text}"}. The post has to, text, sender, key and reports, the address that reports of delivery are wanted at.`},
		{Name: "body_secret", Label: "Secret in the body", Type: "secret", When: "shape=" + ownShape, More: true, Help: "stands where the body has ${post.secret}, and is never shown"},
		{Name: "format", Label: "Sent as", Type: "choice", Options: []string{asJSON, asForm}, Default: asJSON, When: "shape=" + ownShape},
	}
	settings = append(settings, connect.AuthSettings()...)
	settings = append(settings, []connect.Setting{
		{Name: "account", Label: "Address of the account", Type: "address", More: true, Help: "an address that is only read, to see whether the credentials are right"},
		{Name: "pace", Label: "Messages a minute", Type: "number", More: true},
		{Name: "accepted", Label: "It is accepted where", Type: "text", More: true, Help: "a JSONPath such as $.ok, which must be there and not false, or $.status == accepted"},
		{Name: "place_fault", Label: "A refusal is the place's fault where", Type: "text", More: true, Help: "a JSONPath such as $.error == channel_not_found: then nothing is sent there until somebody has looked. Other refusals set aside the one post"},
		{Name: "words", Label: "Words of a refusal", Type: "text", More: true, Help: "a JSONPath such as $.error"},
		{Name: "id", Label: "The message's id", Type: "text", More: true, Help: "a JSONPath in the answer, such as $.message.id; reports name the message by it"},
		{Name: "report_id", Label: "In a report: the id", Type: "text", Default: reportID, More: true, Help: "a JSONPath; of form fields, $.name"},
		{Name: "report_state", Label: "In a report: the state", Type: "text", Default: reportState, More: true},
		{Name: "report_words", Label: "In a report: the reason", Type: "text", Default: reportWords, More: true},
		{Name: "delivered", Label: "States of what was delivered", Type: "text", Default: wasDelivered, More: true},
		{Name: "failed", Label: "States of what was not", Type: "text", Default: wasNot, More: true},
	}...)
	return &connect.Kind{
		Name: "text", Title: "Text message", Does: "Sends text messages to phones, through any gateway that takes an HTTP call, and takes in what became of them",
		Settings: settings, Reads: connect.ReadsCalled, Door: connect.DoorReports, Keyed: true, ReadReport: readReport, Appends: true, Key: "id",
		Sends: &connect.Sends{Can: []connect.Ability{connect.CanSender}, Dialect: message.Short, Form: place.Number, OwnPlaces: true},
		Check: func(settings map[string]string) error {
			_, err := openText(connect.Config{Settings: settings, Env: connect.Env{Workspace: value.DefaultWorkspace()}})
			return err
		},
		Open: func(c connect.Config) (connect.Conn, error) {
			t, err := openText(c)
			if err != nil {
				return nil, err
			}
			return t, nil
		},
	}
}

type gateway struct {
	config connect.Config
	shape  *shape.Shape
	as     string
	answer answer
	pace   int
}

// senderID is what gateways show as the sender: a number, or at most 11 letters and digits.
var senderID = regexp.MustCompile(`^([A-Za-z0-9 ]{1,11}|\+?[0-9]{3,15})$`)

func openText(c connect.Config) (*gateway, error) {
	g := &gateway{config: c}
	if err := goodAddress(c.Settings["address"]); err != nil {
		return nil, fault.In("address", err)
	}
	if s := c.Settings["sender_id"]; s != "" && !senderID.MatchString(s) {
		return nil, fault.At("sender_id", "%q cannot be shown as the sender; it is a number, or at most 11 letters and digits", s)
	}
	name := c.Get("shape", textShapes[0].name)
	body := c.Settings["body"]
	if g.as = c.Get("format", asJSON); name != ownShape {
		i := slices.Index(textShapeNames(), name)
		if i < 0 {
			return nil, fault.At("shape", "there is no shape called %s", name)
		}
		if body, g.as = textShapes[i].body, asJSON; textShapes[i].form {
			g.as = asForm
		}
	}
	var err error
	if g.shape, err = shape.Read(body, c.Env.Workspace); err == nil {
		_, _, err = bodyOf(g.shape, g.as, g.seen(connect.Post{Place: "+41790000000", Key: "key", Doc: exampleDoc}), nil)
	}
	if err != nil {
		return nil, fault.In("body", err)
	}
	if g.answer, err = answerOf(c.Settings); err != nil {
		return nil, err
	}
	if g.pace, err = number(c.Settings, "pace", "the number of messages a minute", 1); err != nil {
		return nil, err
	}
	for _, p := range []string{"report_id", "report_state", "report_words"} {
		if text := c.Settings[p]; text != "" {
			if _, err := jp.ParseString(text); err != nil || !strings.HasPrefix(text, "$") {
				return nil, fault.At(p, "%q is no JSONPath; write it like $.id", text)
			}
		}
	}
	return g, nil
}

// seen is a post as shapes see it: the whole message as one text.
func (g *gateway) seen(p connect.Post) map[string]any {
	r := message.Render(p.Doc, message.Short)
	post := connect.Seen(p, connect.NoMarks, 0)
	sender := g.config.Settings["sender_id"]
	if p.Doc.Sender != nil && senderID.MatchString(p.Doc.Sender.Name) {
		sender = p.Doc.Sender.Name
	}
	post["text"], post["to"], post["parts"], post["reports"], post["sender"] = r.Text, p.Place, float64(r.Parts), g.reports(), map[string]any{"name": sender, "picture": ""}
	post["all"], post["secret"] = r.Text, g.config.Settings["body_secret"]
	return post
}

// reports is the address that reports of delivery are wanted at, "" where this Dorfbote has none that is known.
func (g *gateway) reports() string {
	if g.config.Env.Base == "" || g.config.Settings["door"] == "" {
		return ""
	}
	return strings.TrimSuffix(g.config.Env.Base, "/") + "/" + connect.DoorReports + "/" + g.config.ID + "/" + g.config.Settings["door"]
}

// Close ends nothing: every message is a call of its own.
func (g *gateway) Close() error { return nil }

// Browse lists nothing: any number may be written.
func (g *gateway) Browse(context.Context) ([]connect.Choice, error) { return nil, nil }

// PerMinute is how many messages a minute one number takes, by the settings.
func (g *gateway) PerMinute() int { return g.pace }

// Prove looks at the account where there is an address for that, and else asks whether the gateway is there. No message is sent.
func (g *gateway) Prove(ctx context.Context) []connect.ProofStep {
	if account := g.config.Settings["account"]; account != "" {
		tried := "signing in to the account"
		a, err := g.config.Env.Get(ctx, account, g.config.Auth())
		if err != nil {
			return []connect.ProofStep{connect.Failed(tried, err)}
		}
		defer a.Body.Close()
		raw, _ := io.ReadAll(io.LimitReader(a.Body, 2000))
		return []connect.ProofStep{connect.Passed(tried, "%s", connect.Kept(raw))}
	}
	address := g.config.Settings["address"]
	return []connect.ProofStep{connect.IsThere(ctx, g.config.Env, address, hostOf(address), "the gateway", g.config.Auth())}
}

// Draft gives what would be sent, and in how many parts.
func (g *gateway) Draft(_ context.Context, p connect.Post) (call, sent string, err error) {
	body, media, err := bodyOf(g.shape, g.as, g.seen(p), nil)
	parts := message.Render(p.Doc, message.Short).Parts
	return fmt.Sprintf("POST %s\nContent-Type: %s\n%s to %s", hostOf(g.config.Settings["address"]), media, connect.Counted(parts, "part"), p.Place), connect.Without(string(body), g.config.Settings["body_secret"]), err
}

// Send sends one message.
func (g *gateway) Send(ctx context.Context, p connect.Post) connect.Delivery {
	body, media, err := bodyOf(g.shape, g.as, g.seen(p), nil)
	if err != nil {
		return connect.Refused("the body cannot be made: " + err.Error())
	}
	header := g.config.Auth()
	header.Set("Content-Type", media)
	address := g.config.Settings["address"]
	return connect.SendCall(ctx, g.config.Env, connect.Call{
		Method: http.MethodPost, Address: address, Shown: "POST " + hostOf(address) + ", to " + p.Place, Header: header, Body: body, Key: p.Key, Through: p.Through, Judge: g.answer.judge,
	})
}

// readReport reads what a gateway tells of a message that it took, as JSON or as form fields. The error says what is missing.
func readReport(settings map[string]string, contentType string, body []byte) (r connect.Report, record map[string]any, err error) {
	c := connect.Config{Settings: settings}
	var v any
	if media, _, _ := mime.ParseMediaType(contentType); media == "application/x-www-form-urlencoded" {
		fields, err := url.ParseQuery(string(body))
		if err != nil {
			return r, nil, fault.At("body", "the form fields cannot be read")
		}
		m := map[string]any{}
		for name := range fields {
			m[name] = fields.Get(name)
		}
		v = m
	} else if v, err = value.ReadJSON(body); err != nil {
		return r, nil, fault.At("body", "the body is not JSON that can be read: %v", err)
	}
	get := func(name, fallback string) string {
		path, err := jp.ParseString(c.Get(name, fallback))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(first(pick{json: path}, &answered{json: v, jsonRead: true}))
	}
	r.Of, r.Words = get("report_id", reportID), get("report_words", reportWords)
	state := get("report_state", reportState)
	if r.Of == "" || state == "" {
		return r, nil, fault.At("body", "the report has no %s or no %s; say in the settings where they stand", c.Get("report_id", reportID), c.Get("report_state", reportState))
	}
	among := func(list string) bool {
		return slices.ContainsFunc(strings.Split(list, ","), func(s string) bool { return value.Fold(s) == value.Fold(state) })
	}
	switch {
	case among(c.Get("failed", wasNot)):
		if r.State = connect.ReportFailed; r.Words == "" {
			r.Words = "the gateway says: " + state
		}
	case among(c.Get("delivered", wasDelivered)):
		r.State = connect.ReportDelivered
	default:
		r.State = connect.ReportSent // on its way
	}
	record, _ = v.(map[string]any)
	return r, record, nil
}

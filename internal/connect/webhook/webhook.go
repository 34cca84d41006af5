// Package webhook posts to any chat or app that takes an HTTP call. What is sent is a shape (see internal/core/shape), so that
// it is a body of its kind whatever a record holds.
package webhook

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

// The choices of the settings.
const (
	ownAddresses = "each place has its own"
	oneAddress   = "one address with {place}"

	asJSON = "JSON"
	asForm = "form fields"

	commonMark = "CommonMark"
	plainText  = "plain text"
	asHTML     = "HTML"

	ownShape = "my own"
)

// Kind describes webhooks.
func Kind() *connect.Kind {
	settings := []connect.Setting{
		{Name: "addresses", Label: "Addresses", Type: "choice", Options: []string{ownAddresses, oneAddress}, Default: ownAddresses},
		{Name: "places", Label: "Places", Type: "addresses", Required: true, When: "addresses=" + ownAddresses, Help: "a line each: what people call the place, and the address that the other side gave for it. Addresses are kept like secrets."},
		{Name: "address", Label: "Address", Type: "secret", Required: true, When: "addresses=" + oneAddress, Help: "such as https://chat.example/rooms/{place}/posts"},
		{Name: "names", Label: "Places", Type: "text", Required: true, When: "addresses=" + oneAddress, Help: "what {place} may be, separated by commas"},
		{Name: "shape", Label: "What is sent", Type: "choice", Options: append(readyNames(), ownShape), Default: readyNames()[0]},
		{Name: "body", Label: "The body", Type: "shape", Required: true, When: "shape=" + ownShape, Help: `JSON, in whose texts formulas may stand: {"text": "${post.title}"}. The post has title, text, facts, tone, link, links, place and key.`},
		{Name: "format", Label: "Sent as", Type: "choice", Options: []string{asJSON, asForm}, Default: asJSON, When: "shape=" + ownShape},
		{Name: "marks", Label: "How it writes bold and links", Type: "choice", Options: []string{commonMark, plainText, asHTML}, Default: plainText},
		{Name: "longest", Label: "Longest text", Type: "number", More: true, Help: "in characters; longer ones are cut"},
		{Name: "method", Label: "Method", Type: "choice", Options: []string{http.MethodPost, http.MethodPut}, Default: http.MethodPost, More: true},
		{Name: "accepted", Label: "It is accepted where", Type: "text", More: true, Help: "for a side that answers 200 to everything: a JSONPath such as $.ok, which must be there and not false, or $.status == sent"},
		{Name: "words", Label: "Words of a refusal", Type: "text", More: true, Help: "a JSONPath such as $.error; found by itself where nothing is said"},
		{Name: "id", Label: "The post's id", Type: "text", More: true, Help: "a JSONPath in the answer, such as $.id"},
		{Name: "reply_address", Label: "Address of a reply", Type: "secret", More: true, Help: "for threads: {id} is what the other side calls the earlier post. Not needed where the body has post.under"},
		{Name: "edit_address", Label: "Address of an edit", Type: "secret", More: true, Help: "{id} is what the other side calls the post, such as https://chat.example/posts/{id}"},
		{Name: "edit_method", Label: "Method of an edit", Type: "choice", Options: []string{http.MethodPut, http.MethodPatch, http.MethodPost}, Default: http.MethodPut, More: true},
		{Name: "link", Label: "The post's link", Type: "text", More: true, Help: "a JSONPath in the answer, such as $.url"},
	}
	return &connect.Kind{
		Name: "webhook", Title: "Webhook", Does: "Posts messages to any chat or app that takes an HTTP call, in the shape that it wants",
		Settings: append(settings, connect.AuthSettings()...),
		Sends:    &connect.Sends{Dialect: message.Rich, Form: place.Listed},
		Check:    check,
		Open: func(c connect.Config) (connect.Conn, error) {
			w, err := open(c)
			if err != nil {
				return nil, err
			}
			return w.able(), nil
		},
	}
}

// check says what is wrong with settings, each at its place.
func check(settings map[string]string) error {
	_, err := open(connect.Config{Settings: settings, Env: connect.Env{Workspace: value.DefaultWorkspace()}})
	return err
}

type webhook struct {
	config                connect.Config
	under, edits, replies bool // the body says in which thread it stands; there is an address of an edit; there are replies
	places                []known
	shape                 *shape.Shape
	form                  bool
	answer                answer
	longest               int
}

// known is a place with its own address.
type known struct{ name, address string }

func open(c connect.Config) (*webhook, error) {
	w := &webhook{config: c}
	var err error
	if w.places, err = placesOf(c.Settings); err != nil {
		return nil, err
	}
	if w.shape, w.form, err = shapeOf(c); err != nil {
		return nil, err
	}
	w.under = c.Settings["shape"] == ownShape && strings.Contains(c.Settings["body"], "post.under")
	if w.answer, err = answerOf(c.Settings); err != nil {
		return nil, err
	}
	if text := c.Settings["longest"]; text != "" {
		n, ok := value.ReadNumber(text, value.DefaultWorkspace())
		if !ok || !n.Whole() || n.Float < 20 {
			return nil, fault.At("longest", "the longest text is a whole number of at least 20, not %q", text)
		}
		w.longest = int(n.Float)
	}
	return w, w.threads()
}

// threads finds out whether there are replies and edits, and refuses those that could not name the earlier post.
func (w *webhook) threads() error {
	edit, reply := w.config.Settings["edit_address"], w.config.Settings["reply_address"]
	w.edits, w.replies = edit != "", reply != "" || w.under
	for name, address := range map[string]string{"edit_address": edit, "reply_address": reply} {
		if address == "" {
			continue
		}
		if !strings.Contains(address, "{id}") {
			return fault.At(name, "the address does not say which post is meant; write {id} there")
		}
		if err := goodAddress(earlier(address, "place", "1")); err != nil {
			return fault.In(name, err)
		}
	}
	if (w.edits || w.replies) && w.answer.id == nil {
		return fault.At("id", "replies and edits name the earlier post: say where its id stands in the answer, such as $.id")
	}
	return nil
}

// earlier is an address with the earlier post's place and id in it, each as one piece.
func earlier(address, place, id string) string {
	return strings.NewReplacer("{place}", url.PathEscape(place), "{id}", url.PathEscape(id)).Replace(address)
}

// able gives the webhook as what it can do.
func (w *webhook) able() connect.Conn {
	switch {
	case w.edits && w.replies:
		return struct {
			*webhook
			editor
			replier
		}{w, editor{w}, replier{w}}
	case w.edits:
		return struct {
			*webhook
			editor
		}{w, editor{w}}
	case w.replies:
		return struct {
			*webhook
			replier
		}{w, replier{w}}
	}
	return w
}

type editor struct{ w *webhook }

// Edit puts a post in the place of an earlier one.
func (e editor) Edit(ctx context.Context, id string, p connect.Post) connect.Delivery {
	address := earlier(e.w.config.Settings["edit_address"], p.Place, id)
	return e.w.call(ctx, p, "", e.w.config.Get("edit_method", http.MethodPut), address, true)
}

type replier struct{ w *webhook }

// Reply sends a post into the thread of an earlier one.
func (r replier) Reply(ctx context.Context, id string, p connect.Post) connect.Delivery {
	address := r.w.config.Settings["reply_address"]
	if address != "" {
		address = earlier(address, p.Place, id)
	}
	return r.w.call(ctx, p, id, r.w.config.Get("method", http.MethodPost), address, false)
}

func shapeOf(c connect.Config) (s *shape.Shape, form bool, err error) {
	name := c.Get("shape", readyNames()[0])
	text := c.Settings["body"]
	form = c.Settings["format"] == asForm
	if name != ownShape {
		i := slices.Index(readyNames(), name)
		if i < 0 {
			return nil, false, fault.At("shape", "there is no shape called %s", name)
		}
		text, form = ready[i].body, ready[i].form
	}
	s, err = shape.Read(text, c.Env.Workspace)
	if err == nil {
		_, err = bodyOf(s, form, example)
	}
	if err != nil {
		return nil, false, fault.In("body", err)
	}
	return s, form, nil
}

// placesOf reads the places and their addresses.
func placesOf(settings map[string]string) ([]known, error) {
	if settings["addresses"] == oneAddress {
		return placesOfOne(settings["address"], settings["names"])
	}
	var out []known
	n := 0
	for line := range strings.Lines(settings["places"]) {
		n++
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		at := strings.Index(line, "http")
		if at < 0 {
			return nil, fault.At("places", "line %d has no address; write the name of the place and then its address, such as tours https://chat.example/in/1", n)
		}
		p := known{strings.Trim(line[:at], " \t:=,;"), line[at:]}
		switch {
		case !goodName(p.name):
			return nil, fault.At("places", "line %d has no name before its address; write what people call the place", n)
		case slices.ContainsFunc(out, func(o known) bool { return o.name == p.name }):
			return nil, fault.At("places", "line %d: there is a place called %s already", n, p.name)
		}
		if err := goodAddress(p.address); err != nil {
			return nil, fault.At("places", "line %d: %v", n, err)
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		return nil, fault.At("places", "there is no place yet; write a line for each, such as tours https://chat.example/in/1")
	}
	return out, nil
}

func placesOfOne(address, names string) ([]known, error) {
	if !strings.Contains(address, "{place}") {
		return nil, fault.At("address", "the address does not say where the place stands; write {place} there")
	}
	if err := goodAddress(strings.ReplaceAll(address, "{place}", "place")); err != nil {
		return nil, fault.In("address", err)
	}
	var out []known
	for name := range strings.SplitSeq(names, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		if !goodName(name) {
			return nil, fault.At("names", "%q is no name of a place", name)
		}
		out = append(out, known{name, strings.ReplaceAll(address, "{place}", url.PathEscape(name))})
	}
	if len(out) == 0 {
		return nil, fault.At("names", "there is no place yet; name one")
	}
	return out, nil
}

// goodName tells whether a place can be called so.
func goodName(name string) bool {
	return name != "" && len(name) <= 100 && !strings.ContainsAny(name, "/,\x00\r\n\t${}")
}

func goodAddress(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.ContainsAny(text, " \t") {
		return errors.New("this is no address; write it like https://chat.example/in/1")
	}
	return nil
}

func (w *webhook) Close() error { return nil }

// Browse lists the places.
func (w *webhook) Browse(context.Context) ([]connect.Choice, error) {
	out := make([]connect.Choice, len(w.places))
	for i, p := range w.places {
		out[i] = connect.Choice{Kind: p.name, Title: p.name, Detail: hostOf(p.address), Settings: map[string]string{}}
	}
	return out, nil
}

func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Host
}

// Prove asks each server whether it is there, by a call that by HTTP's own rules changes nothing. That the address takes posts
// is seen when the first is sent.
func (w *webhook) Prove(ctx context.Context) []connect.ProofStep {
	steps := []connect.ProofStep{connect.Passed("reading the places", "%s", connect.Counted(len(w.places), "place"))}
	var seen []string
	for _, p := range w.places {
		host := hostOf(p.address)
		if slices.Contains(seen, host) {
			continue
		}
		seen = append(seen, host)
		steps = append(steps, w.answers(ctx, p, host))
	}
	raw, err := bodyOf(w.shape, w.form, w.seen(exampleDoc, w.places[0].name, "an-example"))
	if err != nil {
		return append(steps, connect.Failed("making a body", err))
	}
	return append(steps, connect.Passed("making a body", "%s", connect.Kept(raw)))
}

func (w *webhook) answers(ctx context.Context, p known, host string) connect.ProofStep {
	tried := "asking whether " + host + " is there"
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, p.address, nil)
	if err != nil {
		return connect.Failed(tried, fault.At("", "this is no address that can be called"))
	}
	req.Header = w.config.Auth()
	req.Header.Set("User-Agent", connect.Agent)
	res, err := w.config.Env.HTTP.Do(req)
	if err != nil {
		if f, ok := fault.Of(err); ok {
			return connect.Failed(tried, f)
		}
		return connect.ProofStep{Tried: tried, Said: "no answer: " + connect.NoAnswer(err), Do: "check the address of " + p.name}
	}
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden:
		return connect.ProofStep{Tried: tried, Said: "it answers " + res.Status, Do: "check how it is signed in to; some servers answer so to anything but a post: then send one post to try", Who: "whoever gave the address"}
	case http.StatusGone:
		return connect.ProofStep{Tried: tried, Said: "it answers " + res.Status + ": the address of " + p.name + " has been withdrawn", Do: "have a new one made", Who: "whoever gave the address"}
	}
	return connect.Passed(tried, "it answers; whether it takes posts is seen when the first is sent")
}

// Send sends one post.
func (w *webhook) Send(ctx context.Context, p connect.Post) connect.Delivery {
	return w.call(ctx, p, "", w.config.Get("method", http.MethodPost), "", false)
}

// call sends a post as a call to an address, or to its place's own where that is empty. under is the earlier post in whose thread
// it stands.
func (w *webhook) call(ctx context.Context, p connect.Post, under, method, address string, edit bool) connect.Delivery {
	i := slices.IndexFunc(w.places, func(o known) bool { return o.name == p.Place })
	if i < 0 {
		return connect.Refused(fmt.Sprintf("there is no place %s any more; add it in the settings of %s", p.Place, w.config.ID))
	}
	if address == "" {
		address = w.places[i].address
	}
	post := w.seen(p.Doc, p.Place, p.Key)
	post["under"] = under
	body, err := bodyOf(w.shape, w.form, post)
	if err != nil {
		return connect.Refused("the body cannot be made: " + err.Error())
	}
	header := w.config.Auth()
	header.Set("Content-Type", "application/json")
	if w.form {
		header.Set("Content-Type", mime.FormatMediaType("application/x-www-form-urlencoded", map[string]string{"charset": "utf-8"}))
	}
	return connect.SendCall(ctx, w.config.Env, connect.Call{
		Method: method, Address: address, Shown: method + " " + hostOf(address) + ", the address of " + p.Place,
		Header: header, Body: body, Key: p.Key, Edit: edit, Judge: w.answer.judge,
	})
}

// seen is a post as shapes see it. Its texts are written by the other side's marks, in which a record's text is only text.
func (w *webhook) seen(d *message.Document, place, key string) map[string]any {
	return seenBy(d, w.config.Get("marks", plainText), place, key, w.longest)
}

func seenBy(d *message.Document, marks, place, key string, longest int) map[string]any {
	write, text := func(s string) string { return s }, d.Plain()
	switch marks {
	case commonMark:
		write, text = message.EscapeMarkdown, d.Markdown()
	case asHTML:
		write, text = message.EscapeHTML, d.HTMLBody()
	}
	if longest > 0 && len([]rune(text)) > longest {
		text = write(formula.Shorten(d.Plain(), longest)) // marks that are cut in the middle would be open
	}
	facts := make([]any, len(d.Facts))
	for i, f := range d.Facts {
		facts[i] = map[string]any{"label": write(f.Label), "value": write(f.Value)}
	}
	out := map[string]any{
		"title": write(d.Title), "text": text, "facts": facts, "tone": d.Tone, "link": "", "links": []any{}, "place": place, "key": key,
		"under": "", "mentions": []any{}, "picture": "", "sender": map[string]any{},
	}
	if d.Link != nil && d.Link.To != "" {
		out["link"], out["links"] = d.Link.To, []any{map[string]any{"text": write(d.Link.Text), "to": d.Link.To}}
	}
	return out
}

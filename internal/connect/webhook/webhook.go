// Package webhook posts to any chat or app that takes an HTTP call. What is sent is a shape (see internal/core/shape), so that
// it is a body of its kind whatever a record holds.
package webhook

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

// The choices of the settings.
const (
	ownAddresses = "each place has its own"
	oneAddress   = "one address with {place}"

	asJSON  = "JSON"
	asForm  = "form fields"
	asParts = "multipart form"

	commonMark = "CommonMark"
	plainText  = "plain text"
	asHTML     = "HTML"
	ownMarks   = "its own marks"

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
		{Name: "body", Label: "The body", Type: "shape", Required: true, When: "shape=" + ownShape, Help: `JSON, in whose texts formulas may stand: {"text": "${post.title}"}. The post has title, text, facts, tone, link, links, picture, sender, mentions, place and key; post.all is all of it in one text.`},
		{Name: "body_secret", Label: "Secret in the body", Type: "secret", When: "shape=" + ownShape, More: true, Help: "stands where the body has ${post.secret}, and is never shown"},
		{Name: "format", Label: "Sent as", Type: "choice", Options: []string{asJSON, asForm, asParts}, Default: asJSON, When: "shape=" + ownShape},
		{Name: "marks", Label: "How it writes bold and links", Type: "choice", Options: []string{commonMark, plainText, asHTML, ownMarks}, Default: plainText},
		{Name: "own_marks", Label: "Its marks", Type: "marks", Required: true, When: "marks=" + ownMarks, Help: "how it writes bold, links and the like"},
		{Name: "longest", Label: "Longest text", Type: "number", More: true, Help: "in characters; longer ones are cut"},
		{Name: "pace", Label: "Posts a minute", Type: "number", More: true, Help: "how many one place takes; learnt from being asked to wait where nothing is said"},
		{Name: "picture_address", Label: "Address of a picture", Type: "secret", More: true, Help: "where a picture is handed over before the post that shows it; where there is none, post.picture is the picture's own address, and a field of a multipart form that is ${post.picture} alone carries it"},
		{Name: "picture_field", Label: "Field of a picture", Type: "text", Default: "file", More: true, Help: "what the picture is called in that call"},
		{Name: "picture_name", Label: "The picture's name", Type: "text", More: true, Help: "a JSONPath in the answer, such as $.id: what the post names the picture by"},
		{Name: "method", Label: "Method", Type: "choice", Options: []string{http.MethodPost, http.MethodPut}, Default: http.MethodPost, More: true},
		{Name: "accepted", Label: "It is accepted where", Type: "text", More: true, Help: "for a side that answers 200 to everything: a JSONPath such as $.ok, which must be there and not false, or $.status == sent"},
		{Name: "place_fault", Label: "A refusal is the place's fault where", Type: "text", More: true, Help: "a JSONPath such as $.error == channel_not_found: then nothing is sent there until somebody has looked. Other refusals set aside the one post"},
		{Name: "words", Label: "Words of a refusal", Type: "text", More: true, Help: "a JSONPath such as $.error; found by itself where nothing is said"},
		{Name: "id", Label: "The post's id", Type: "text", More: true, Help: "a JSONPath in the answer, such as $.id"},
		{Name: "reply_address", Label: "Address of a reply", Type: "secret", More: true, Help: "for threads: {id} is what the other side calls the earlier post. Not needed where the body has post.under"},
		{Name: "edit_address", Label: "Address of an edit", Type: "secret", More: true, Help: "{id} is what the other side calls the post, such as https://chat.example/posts/{id}"},
		{Name: "edit_method", Label: "Method of an edit", Type: "choice", Options: []string{http.MethodPut, http.MethodPatch, http.MethodPost}, Default: http.MethodPut, More: true},
		{Name: "link", Label: "The post's link", Type: "text", More: true, Help: "a JSONPath in the answer, such as $.url"},
	}
	return &connect.Kind{
		Name: "webhook", Title: "Webhook", Does: "Posts messages to any chat or app that takes an HTTP call, in the shape that it wants",
		Settings: append(append(settings, connect.AuthSettings()...), connect.AsksWhy()),
		Sends: &connect.Sends{Dialect: message.Rich, Form: place.Listed, Hands: func(settings map[string]string) bool {
			return settings["picture_address"] != "" || settings["shape"] == ownShape && settings["format"] == asParts
		}},
		Check: check,
		Able:  able,
		Open: func(c connect.Config) (connect.Conn, error) {
			w, err := open(c)
			if err != nil {
				return nil, err
			}
			return w.parts(), nil
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
	as                    string // JSON, form fields or a multipart form
	answer                answer
	longest, pace         int
	marks                 connect.Marks
}

// known is a place with its own address.
type known struct{ name, address string }

func open(c connect.Config) (*webhook, error) {
	w := &webhook{config: c}
	var err error
	if w.places, err = placesOf(c.Settings); err != nil {
		return nil, err
	}
	if w.shape, w.as, err = shapeOf(c); err != nil {
		return nil, err
	}
	w.under = c.Settings["shape"] == ownShape && strings.Contains(c.Settings["body"], "post.under")
	if w.answer, err = answerOf(c.Settings); err != nil {
		return nil, err
	}
	if w.longest, err = number(c.Settings, "longest", "the longest text", 20); err != nil {
		return nil, err
	}
	if w.pace, err = number(c.Settings, "pace", "the number of posts a minute", 1); err != nil {
		return nil, err
	}
	if w.marks, err = marksOf(c.Settings); err != nil {
		return nil, err
	}
	if a := c.Settings["picture_address"]; a != "" {
		if err := goodAddress(strings.ReplaceAll(a, "{place}", "place")); err != nil {
			return nil, fault.In("picture_address", err)
		}
		if !w.answer.picture.set() {
			return nil, fault.At("picture_name", "say where the answer has what the post names the picture by, such as $.id")
		}
	}
	return w, w.threads()
}

// number reads a setting that is a whole number; 0 where it is empty.
func number(settings map[string]string, name, what string, least float64) (int, error) {
	text := settings[name]
	if text == "" {
		return 0, nil
	}
	n, ok := value.ReadNumber(text, value.DefaultWorkspace())
	if !ok || !n.Whole() || n.Float < least || n.Float > 1e9 {
		return 0, fault.At(name, "%s is a whole number of at least %v, not %q", what, least, text)
	}
	return int(n.Float), nil
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
	if (w.edits || w.replies) && !w.answer.id.set() {
		return fault.At("id", "replies and edits name the earlier post: say where its id stands in the answer, such as $.id")
	}
	return nil
}

// earlier is an address with the earlier post's place and id in it, each as one piece.
func earlier(address, place, id string) string {
	return strings.NewReplacer("{place}", url.PathEscape(place), "{id}", url.PathEscape(id)).Replace(address)
}

// parts gives the webhook as what it can do.
func (w *webhook) parts() connect.Conn {
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

func shapeOf(c connect.Config) (s *shape.Shape, as string, err error) {
	name := c.Get("shape", readyNames()[0])
	text := c.Settings["body"]
	as = c.Get("format", asJSON)
	if name != ownShape {
		i := slices.Index(readyNames(), name)
		if i < 0 {
			return nil, "", fault.At("shape", "there is no shape called %s", name)
		}
		if text, as = ready[i].body, asJSON; ready[i].form {
			as = asForm
		}
	}
	s, err = shape.Read(text, c.Env.Workspace)
	if err == nil {
		_, _, err = bodyOf(s, as, example, nil)
	}
	if err == nil {
		_, _, err = bodyOf(s, as, bare, nil)
	}
	if err != nil {
		return nil, "", fault.In("body", err)
	}
	return s, as, nil
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
		steps = append(steps, connect.IsThere(ctx, w.config.Env, p.address, host, p.name, w.config.Auth()))
	}
	for _, one := range []struct {
		of  string
		doc *message.Document
	}{{"making a body", exampleDoc}, {"making a body of a post without sender, text, facts and link", bareDoc}} {
		post := connect.Seen(connect.Post{Place: w.places[0].name, Key: "an-example", Doc: one.doc}, w.marks, w.longest)
		post["secret"] = connect.Cut
		raw, _, err := bodyOf(w.shape, w.as, post, nil)
		if err != nil {
			return append(steps, connect.Failed(one.of, err))
		}
		steps = append(steps, connect.Passed(one.of, "%s", connect.Kept(raw)))
	}
	return steps
}

// Send sends one post.
func (w *webhook) Send(ctx context.Context, p connect.Post) connect.Delivery {
	return w.call(ctx, p, "", w.config.Get("method", http.MethodPost), "", false)
}

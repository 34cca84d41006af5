package connect

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

	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
)

// Ability is something that a kind can do with a post besides sending it.
type Ability string

// The abilities.
const (
	CanEdit    Ability = "edit"    // change what was sent
	CanReply   Ability = "reply"   // send into the thread of an earlier post
	CanSender  Ability = "sender"  // show another sender's name and picture
	CanPicture Ability = "picture" // show a picture
	CanButtons Ability = "buttons" // have buttons that act
	CanAttach  Ability = "attach"  // carry files
	CanMention Ability = "mention" // speak to a person
)

// Sends describes how a kind of connection sends posts.
type Sends struct {
	Can     []Ability
	Dialect message.Dialect
	// Longest is how many characters one message holds; 0 where no bound is known.
	Longest int
	// PerMinute is how many posts a minute one place takes; 0 where that is learnt from being asked to wait.
	PerMinute int
	// OwnPlaces is true where a place is one person's own address, so that a link that was sent there is that person's.
	OwnPlaces bool
	// Hands tells whether a connection with these settings hands over the pictures themselves, which are fetched for it before its turn;
	// nil never does: their addresses have to do.
	Hands func(settings map[string]string) bool
	// Form is how its places are written. Where it is [place.Listed], [Conn.Browse] lists those there are.
	Form place.Form
	// Rooms gives, of [place.Room], the server of the rooms, at which a bare name is a room; nil where there is none.
	Rooms func(settings map[string]string) string
}

// Listed tells whether the places there are can be listed; otherwise any of its form may be written.
func (s *Sends) Listed() bool { return s.Form == place.Listed }

// Can is what a connection of the kind with some settings can do with a post besides sending it.
func (k *Kind) Can(settings map[string]string) []Ability {
	if k.Able != nil {
		return k.Able(settings)
	}
	return k.Sends.Can
}

// Rule is what a connection of the kind takes for a place; places are those of a kind that lists them.
func (k *Kind) Rule(settings map[string]string, places []string) place.Rule {
	able := k.Can(settings)
	can := make([]string, len(able))
	for i, c := range able {
		can[i] = string(c)
	}
	rule := place.Rule{Kind: k.Name, Form: k.Sends.Form, Places: places, Can: can}
	if k.Sends.Rooms != nil {
		rule.Rooms = k.Sends.Rooms(settings)
	}
	return rule
}

// Sender is an open connection that posts can be sent over. One that [CanEdit] is an [Editor], too, one that [CanReply] a
// [Replier], one that [CanPicture] an [Uploader] unless it takes pictures by their address.
type Sender interface {
	Conn
	// Send sends one post. Whatever comes of it is in the delivery; there is no error beside it.
	Send(ctx context.Context, p Post) Delivery
}

// Editor can change what was sent.
type Editor interface {
	// Edit puts a post in the place of an earlier one, which is named by what Send gave as its id.
	Edit(ctx context.Context, id string, p Post) Delivery
}

// Replier can send into the thread of an earlier post.
type Replier interface {
	// Reply sends a post below another, which is named by what Send gave as its id.
	Reply(ctx context.Context, id string, p Post) Delivery
}

// Uploader takes a picture's bytes before the post that shows it.
type Uploader interface {
	// Upload gives what the post names the picture by.
	Upload(ctx context.Context, place, media string, picture []byte) (name string, err error)
}

// Report is what the other side told later of a post that it had taken.
type Report struct {
	Of    string // the post, as the other side calls it: what Send gave as its id
	State string // delivered or failed
	Words string // the other side's
}

// The states of a report.
const (
	ReportSent      = "sent"
	ReportDelivered = "delivered"
	ReportFailed    = "failed"
)

// Drafter can say what it would send, without sending it.
type Drafter interface {
	// Draft gives the call, or the address, that a post would go by, and what would be sent: exactly, but for what the other side
	// gives only then.
	Draft(ctx context.Context, p Post) (call, sent string, err error)
}

// Pacer knows how many posts a minute one place takes, by its settings; 0 is not known.
type Pacer interface{ PerMinute() int }

// Reporter can be asked what became of posts that it took.
type Reporter interface {
	// Reports hands over what has been told since a cursor, which is nil at first, and gives the next.
	Reports(ctx context.Context, cursor json.RawMessage, each func(Report) error) (json.RawMessage, error)
}

// Post is what goes to one place.
type Post struct {
	Place string // as the kind lists it, or as it was written; several addresses are joined by ", "
	// Cc and Bcc are further addresses of a mail, written like Place.
	Cc, Bcc string
	// Buttons are those of the post, for a kind that [CanButtons]; elsewhere they are among the document's links.
	Buttons []Button
	// Why is the address of the page that says why the post was told, for a kind that has a quiet place for it.
	Why string
	// Digest is true where the post tells in one of what would have been many.
	Digest bool
	Doc    *message.Document
	// Copy is what those see who get a copy, where that differs: their links let them look, and sign in.
	Copy *message.Document
	// Key names the post, for the other side to know a repeated call as one.
	Key string
	// Through are the workflows that led to the post, for [ThroughHeader].
	Through string
}

// Mark is what Dorfbote marks its posts by, where the other side has a place for it that nobody sees. What bears it is never taken
// in: neither by the Dorfbote that said it nor by another that reads the same room, so that no two send each other the same.
const Mark = "dorfbote"

// Button is a button that acts: pressing it calls an address, by POST, with {"by": who pressed, "comment": what they wrote}.
type Button struct {
	Text    string
	Call    string // known to the other side's program alone
	Comment string // none, optional or required; "" is none
}

// Instead says what is to be sent in the place of an edit that cannot be made.
type Instead string

// What can be sent instead.
const (
	InsteadPost  Instead = "post"  // the earlier post is gone: a new one
	InsteadReply Instead = "reply" // it stands, but cannot be edited: a reply to it
)

// Delivery is what came of sending a post.
type Delivery struct {
	Taken bool   // the other side has it
	ID    string // what the other side calls it, where it says
	Link  string // to the post, where the other side gives one
	// Final is true where the same call cannot succeed later: it stays as it is until somebody has seen to it.
	Final bool
	// Place is true where what is final is the fault of the place, or of the connection, and so would meet every other post, too. What is
	// the fault of the post alone is set aside alone.
	Place bool
	// Wait is how long the other side asked to be left alone.
	Wait time.Duration
	// Instead is set where an edit was refused for what concerns the earlier post alone, not the place.
	Instead Instead

	Status  int    // of HTTP, or of SMTP; 0 when no answer came
	Answer  string // the other side's words, shortened
	Address string // what was called, with its method, without secrets
	Sent    string // as it went out, without credentials
	Raw     string // the answer as it came, shortened
}

// Storable is the delivery with texts that a database takes, whatever the other side has answered.
func (d Delivery) Storable() Delivery {
	for _, s := range []*string{&d.ID, &d.Link, &d.Answer, &d.Address, &d.Sent, &d.Raw} {
		*s = Storable(*s)
	}
	return d
}

// Storable is a text as a database takes it: UTF-8 without U+0000.
func Storable(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// Refused makes the delivery of a post that was not sent at all since it cannot be, for what is its own fault.
func Refused(words string) Delivery { return Delivery{Final: true, Answer: words} }

// Unreachable makes the delivery of a post that was not sent at all since nothing can be sent to its place.
func Unreachable(words string) Delivery { return Delivery{Final: true, Place: true, Answer: words} }

// ownFault tells by the status of HTTP whether a post was refused for what is its own: how it is written, what is in it, how large it is.
func ownFault(status int) bool {
	switch status {
	case http.StatusBadRequest, http.StatusRequestEntityTooLarge, http.StatusRequestURITooLong,
		http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity, http.StatusRequestHeaderFieldsTooLarge:
		return true
	}
	return false
}

// healable tells by the status of HTTP whether the same call may succeed later: no answer came, the other side is busy, or it
// has failed itself. Everything else stays as it is, a redirection and what is not implemented included.
func healable(status int) bool {
	switch status {
	case 0, http.StatusRequestTimeout, http.StatusConflict, http.StatusLocked, http.StatusTooEarly, http.StatusTooManyRequests:
		return true
	case http.StatusNotImplemented, http.StatusHTTPVersionNotSupported, http.StatusLoopDetected, http.StatusNetworkAuthenticationRequired:
		return false
	}
	return status >= 500
}

// insteadOf tells by the status of HTTP what is to be sent in the place of an edit that was refused.
func insteadOf(status int) Instead {
	switch status {
	case http.StatusNotFound, http.StatusGone:
		return InsteadPost
	case http.StatusMethodNotAllowed, http.StatusNotImplemented:
		return InsteadReply
	}
	return ""
}

// SendTimeout bounds one call that sends a post; answerRead is how much of the answer is read, keptOfSent how much is kept of what was sent.
const (
	keptOfSent  = 1 << 20
	SendTimeout = 10 * time.Second
	answerRead  = 64 << 10
)

// Call is a post as one call of HTTP.
type Call struct {
	Method, Address string
	Shown           string      // the call without secrets; "" shows the address
	Header          http.Header // credentials among them, which are not kept
	Body            []byte
	Key             string // names the post
	Through         string // the workflows that led to it
	Edit            bool   // it is put in the place of an earlier one
	Secret          string // stands in the body, and is not shown
	// Judge reads the answer, whatever its status. By then the delivery says what the status does.
	Judge func(answer []byte, d *Delivery)
}

// SendCall sends a post as one call.
func SendCall(ctx context.Context, env Env, c Call) Delivery {
	ctx, cancel := context.WithTimeout(ctx, SendTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, c.Method, c.Address, bytes.NewReader(c.Body))
	if err != nil {
		return Unreachable("this is no address that can be called")
	}
	if c.Header != nil {
		req.Header = c.Header.Clone()
	}
	req.Header.Set("User-Agent", Agent)
	req.Header.Set(IdempotencyHeader, c.Key)
	if c.Through != "" {
		req.Header.Set(ThroughHeader, c.Through)
	}
	out := Delivery{Address: c.Shown, Sent: Without(KeptSent(c.Body), c.Secret)}
	if out.Address == "" {
		out.Address = c.Method + " " + redacted(req.URL)
	}
	res, err := env.HTTP.Do(req)
	if err != nil {
		out.Answer = fmt.Sprintf("no answer from %s: %s", req.URL.Host, NoAnswer(err))
		return out
	}
	defer res.Body.Close()
	raw, readErr := io.ReadAll(io.LimitReader(res.Body, answerRead))
	out.Status, out.Answer, out.Raw = res.StatusCode, Words(raw, res.Status), Kept(raw)
	out.Wait = RetryAfter(res.Header.Get("Retry-After"), time.Now())
	if out.Taken = res.StatusCode >= 200 && res.StatusCode < 300; !out.Taken {
		out.Final = !healable(res.StatusCode)
		out.Place = out.Final && !ownFault(res.StatusCode)
		if c.Edit {
			out.Instead = insteadOf(res.StatusCode)
		}
	}
	taken := out.Taken
	if c.Judge != nil {
		c.Judge(raw, &out)
	}
	if taken && !out.Taken && readErr != nil { // it said yes, and then broke off: what it meant is not known yet
		out.Final, out.Place, out.Answer = false, false, "its answer broke off: "+NoAnswer(readErr)
	}
	out.Link = followable(out.Link)
	return out
}

// followable is a link that the other side gave, as a person may follow it: one of the web or, of what is shown within Dorfbote, a
// path; anything else is none.
func followable(link string) string {
	u, err := url.Parse(link)
	web := err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != ""
	if path := err == nil && u.Scheme == "" && u.Host == "" && strings.HasPrefix(u.Path, "/"); !web && !path {
		return ""
	}
	return link
}

// Without is what was sent as it is shown: a secret within it is cut, however it was written.
func Without(sent, secret string) string {
	if secret == "" {
		return sent
	}
	quoted, _ := json.Marshal(secret)
	return strings.NewReplacer(secret, Cut, string(quoted[1:len(quoted)-1]), Cut, url.QueryEscape(secret), Cut).Replace(sent)
}

// Cut stands where a secret was cut.
const Cut = "▒▒▒"

// Kept is what is kept of an answer: its beginning, as text that a database takes.
func Kept(raw []byte) string { return beginning(raw, keptOfAnswer) }

// KeptSent is what is kept of what was sent: all of it, unless it is very large, as text that a database takes.
func KeptSent(raw []byte) string { return beginning(raw, keptOfSent) }

func beginning(raw []byte, most int) string {
	text := Storable(string(raw[:min(len(raw), most)]))
	if len(raw) > most {
		text += "…"
	}
	return text
}

// IDIn reads a member of a JSON object that names a post, a text or a number.
func IDIn(raw []byte, name string) string {
	var made map[string]json.RawMessage
	if json.Unmarshal(raw, &made) != nil {
		return ""
	}
	return strings.Trim(string(made[name]), `"`)
}

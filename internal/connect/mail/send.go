package mail

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"html"
	"net/mail"
	"net/url"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/emersion/go-smtp"
	gomail "github.com/wneessen/go-mail"
	"golang.org/x/net/idna"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
)

// checkSending says what is wrong with settings for sending.
func checkSending(settings map[string]string) error {
	if settings["smtp"] == "" {
		return nil
	}
	from := settings["from"]
	if from == "" {
		from = settings["user"]
	}
	if _, err := mail.ParseAddress(from); err != nil {
		return fault.At("from", "mails come from an address, such as desk@lindental.example, not from %q", from)
	}
	if to := settings["reply_to"]; to != "" {
		if _, err := mail.ParseAddress(to); err != nil {
			return fault.At("reply_to", "%q isn't a mail address", to)
		}
	}
	if to := settings["unsubscribe"]; to != "" {
		u, err := url.Parse(to)
		_, bad := mail.ParseAddress(to)
		if bad != nil && (err != nil || u.Scheme != "https" && u.Scheme != "mailto") || strings.ContainsAny(to, " <>\r\n") {
			return fault.At("unsubscribe", "%q is neither a mail address nor an https address", to)
		}
	}
	return nil
}

// Send sends a post as one mail to all its addresses. It goes to all of them or to none.
func (m *mailbox) Send(ctx context.Context, p connect.Post) connect.Delivery {
	return m.send(ctx, p, "")
}

// Reply sends a mail that stands in the thread of an earlier one.
func (m *mailbox) Reply(ctx context.Context, id string, p connect.Post) connect.Delivery {
	return m.send(ctx, p, id)
}

// Draft writes the mail that would be sent.
func (m *mailbox) Draft(ctx context.Context, p connect.Post) (call, sent string, err error) {
	l, err := m.letter(ctx, p, "")
	if err != nil {
		return "", "", err
	}
	_, address := m.smtpAddress()
	return "SMTP " + address + "\nfrom " + l.from + "\nto " + strings.Join(l.all, ", "), connect.KeptSent(l.raw), nil
}

func (m *mailbox) send(ctx context.Context, p connect.Post, under string) connect.Delivery {
	ctx, cancel := context.WithTimeout(ctx, sending)
	defer cancel()
	host, address := m.smtpAddress()
	out := connect.Delivery{Address: "SMTP " + address}
	if host == "" {
		return connect.Unreachable("nothing can be sent from this mailbox; give its SMTP server in the settings")
	}
	letter, err := m.letter(ctx, p, under)
	if err != nil {
		return connect.Refused("the mail cannot be written: " + err.Error())
	}
	out.Sent = connect.KeptSent(letter.raw)
	c, err := m.dialSMTP(ctx)
	if err != nil {
		return failed(out, err, "")
	}
	defer func() { _ = c.Close() }()
	utf8Only := false
	for _, a := range letter.all {
		utf8Only = utf8Only || !ascii(a)
	}
	opts := &smtp.MailOptions{}
	if utf8Only {
		if ok, _ := c.Extension("SMTPUTF8"); !ok {
			return connect.Refused("the server takes no addresses with letters beyond ASCII; use another address")
		}
		opts.UTF8 = true
	}
	first := letter.all
	if p.Copy != nil {
		first = letter.all[:letter.to]
	}
	if out = transfer(c, out, letter, first, opts); !out.Taken {
		return out
	}
	out.ID = letter.id
	if rest := letter.all[letter.to:]; p.Copy != nil && len(rest) > 0 { // it has gone to whom it is for; what became of the copies is said beside it
		p.Doc = p.Copy
		copied, err := m.letter(ctx, p, under)
		if err == nil {
			if d := transfer(c, connect.Delivery{}, copied, rest, opts); !d.Taken {
				err = errors.New(d.Answer)
			}
		}
		if err != nil {
			out.Answer += "; the copies did not go: " + err.Error()
		}
	}
	_ = c.Quit()
	return out
}

// transfer hands a letter to the server for some addresses: to all of them, or to none.
func transfer(c *smtp.Client, out connect.Delivery, l *letter, to []string, opts *smtp.MailOptions) connect.Delivery {
	if err := c.Mail(l.from, opts); err != nil {
		out = failed(out, err, l.from)
		out.Place = out.Final
		return out
	}
	for _, a := range to {
		if err := c.Rcpt(a, nil); err != nil {
			_ = c.Reset()
			return failed(out, err, a)
		}
	}
	w, err := c.Data()
	if err != nil {
		return failed(out, err, "the mail")
	}
	if _, err := w.Write(l.raw); err != nil {
		return failed(out, err, "the mail")
	}
	said, err := w.CloseWithResponse()
	if err != nil {
		return failed(out, err, "the mail")
	}
	out.Taken, out.Status, out.Answer, out.Raw = true, 250, said.StatusText, said.StatusText
	return out
}

// letter is a mail as it goes out.
type letter struct {
	id   string // its Message-ID, without brackets
	from string
	all  []string // everybody whom it goes to, as the server takes addresses
	to   int      // how many of them are not copies
	raw  []byte
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// wire is an address as servers that know no letters beyond ASCII in the names of hosts take it.
func wire(address string) string {
	local, host, ok := strings.Cut(address, "@")
	if !ok || ascii(host) {
		return address
	}
	if plain, err := idna.Lookup.ToASCII(host); err == nil {
		return local + "@" + plain
	}
	return address
}

func addressesOf(text string) []string {
	var out []string
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one != "" {
			out = append(out, wire(one))
		}
	}
	return out
}

// markHeader bears the mark of what Dorfbote has sent.
const markHeader = "Posted-By"

// letter writes a mail. The same post under the same key has the same Message-ID, so that one that is sent again is known as the
// same.
func (m *mailbox) letter(ctx context.Context, p connect.Post, under string) (*letter, error) {
	from := wire(m.from())
	out := &letter{from: from}
	r := message.Render(p.Doc, message.Mail)
	msg := gomail.NewMsg(gomail.WithCharset(gomail.CharsetUTF8), gomail.WithEncoding(gomail.EncodingQP), gomail.WithNoDefaultUserAgent())
	// Headers whose texts come from records are written here, since no text of a record may become another header, or another name.
	header := func(name gomail.Header, value string) {
		msg.SetGenHeaderPreformatted(name, folded(string(name), value))
	}
	name := m.config.Settings["from_name"]
	if p.Doc.Sender != nil && p.Doc.Sender.Name != "" {
		name = p.Doc.Sender.Name
	}
	if _, err := mail.ParseAddress(from); err != nil {
		return nil, fmt.Errorf("from %s: %w", from, err)
	}
	if name = phrase(name); name != "" {
		header("From", name+" <"+from+">")
	} else {
		header("From", "<"+from+">")
	}
	for i, to := range []struct {
		text string
		set  func(...string) error
	}{{p.Place, msg.To}, {p.Cc, msg.Cc}, {p.Bcc, msg.Bcc}} {
		list := addressesOf(to.text)
		if len(list) == 0 {
			continue
		}
		if err := to.set(list...); err != nil {
			return nil, err
		}
		out.all = append(out.all, list...)
		if i == 0 {
			out.to = len(list)
		}
	}
	if to := m.config.Settings["reply_to"]; to != "" {
		if err := msg.ReplyTo(wire(to)); err != nil {
			return nil, err
		}
	}
	header("Subject", unstructured(r.Subject))
	out.id = messageID(p, from)
	msg.SetMessageIDWithValue(out.id)
	msg.SetDate()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	msg.SetGenHeader(markHeader, connect.Mark)
	if under != "" {
		msg.SetGenHeader(gomail.HeaderInReplyTo, "<"+under+">")
		msg.SetGenHeader(gomail.HeaderReferences, "<"+under+">")
	}
	switch to := m.config.Settings["unsubscribe"]; {
	case to != "":
		if !strings.Contains(to, ":") {
			to = "mailto:" + wire(to)
		}
		header(gomail.HeaderListUnsubscribe, "<"+to+">")
	case p.Digest:
		answers := from
		if to := m.config.Settings["reply_to"]; to != "" {
			answers = wire(to)
		}
		header(gomail.HeaderListUnsubscribe, "<mailto:"+answers+"?subject="+url.PathEscape(formula.Shorten("Unsubscribe from "+visible(p.Doc.Title), 120))+">")
	}
	body := r.HTML
	if p.Doc.Picture != nil {
		body += m.picture(ctx, msg, p.Doc.Picture)
	}
	msg.SetBodyString(gomail.TypeTextPlain, r.Text)
	msg.AddAlternativeString(gomail.TypeTextHTML, page(body))
	for _, f := range p.Doc.Attach {
		if err := msg.AttachReader(fileName(f.Name), bytes.NewReader(f.Data), gomail.WithFileContentType(gomail.ContentType(f.Media))); err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	var raw bytes.Buffer
	if _, err := msg.WriteTo(&raw); err != nil {
		return nil, err
	}
	out.raw = raw.Bytes()
	return out, nil
}

// picture puts a picture into the mail itself, since no reader's program is to fetch it; where it cannot be had, its words and its
// address stand there.
func (m *mailbox) picture(ctx context.Context, msg *gomail.Msg, p *message.Picture) string {
	pic, err := connect.PictureOf(ctx, m.config.Env, p)
	if err != nil {
		return fmt.Sprintf(`<p><a href="%s">%s</a></p>`, html.EscapeString(p.From), html.EscapeString(p.Text))
	}
	name := "picture" + pic.Ending
	if err := msg.EmbedReader(name, bytes.NewReader(pic.Data), gomail.WithFileContentID("<"+name+"@dorfbote>"), gomail.WithFileContentType(gomail.ContentType(pic.Media))); err != nil {
		return fmt.Sprintf("<p>%s</p>", html.EscapeString(p.Text))
	}
	return fmt.Sprintf(`<p><img src="cid:%s@dorfbote" alt="%s" style="max-width: 100%%"></p>`, name, html.EscapeString(p.Text))
}

// fileName is what a file is called in a mail: a name, and no path, of a length that programs bear.
func fileName(s string) string {
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) {
			return '-'
		}
		return r
	}, visible(s))
	if r := []rune(s); len(r) > 120 {
		ending := []rune(path.Ext(s))
		if len(ending) > 12 {
			ending = nil
		}
		s = string(r[:120-len(ending)]) + string(ending)
	}
	return cmp.Or(s, "file")
}

// page is the HTML of a mail as a whole.
func page(body string) string {
	return "<!DOCTYPE html>\n<html><head><meta charset=\"utf-8\"><style>" +
		"body { font-family: sans-serif; line-height: 1.4; color: #222 } h1 { font-size: 1.2em } th { text-align: left; padding-right: 1em; font-weight: normal; color: #555 }" +
		"</style></head><body>\n" + body + "</body></html>\n"
}

// messageID names a mail by its post's key, and by what is in it, so that no other Dorfbote's post has the same.
func messageID(p connect.Post, from string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{p.Key, p.Place, from, p.Doc.Title, p.Doc.Plain()}, "\x00")))
	_, host, ok := strings.Cut(from, "@")
	if !ok {
		host = "dorfbote.invalid"
	}
	return "dorfbote." + hex.EncodeToString(sum[:12]) + "@" + host
}

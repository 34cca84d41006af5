// Package mail reads new messages of an IMAP mailbox. It never marks one as read.
package mail

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
	_ "github.com/emersion/go-message/charset" // the encodings that mail is written in
	"github.com/emersion/go-message/mail"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
)

// Kind describes mailboxes.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsAsked, Listens: func(map[string]string) bool { return true },
		Sends: &connect.Sends{Hands: func(map[string]string) bool { return true }, Can: []connect.Ability{connect.CanReply, connect.CanSender, connect.CanPicture, connect.CanAttach}, Dialect: message.Mail, Form: place.Mail, OwnPlaces: true},
		Name:  "mail", Title: "Mailbox", Does: "Sends mails by SMTP; reads new messages of an IMAP mailbox, and leaves them unread",
		Reports: true,
		Mute: func(settings map[string]string) string {
			if settings["smtp"] == "" {
				return "nothing can be sent from this mailbox yet; give its SMTP server in the settings"
			}
			return ""
		},
		Check: func(settings map[string]string) error {
			if settings["host"] == "" && settings["smtp"] == "" {
				return fault.At("host", "give the IMAP server, to read, or the SMTP server, to send, or both")
			}
			return checkSending(settings)
		},
		Settings: []connect.Setting{
			{Name: "user", Label: "User", Type: "text", Help: "mostly the mail address; none where nobody has to sign in"},
			{Name: "password", Label: "Password or token", Type: "secret"},
			{Name: "smtp", Label: "SMTP server", Type: "text", Help: "to send; with :port where it is not the usual one"},
			{Name: "smtp_security", Label: "Sent encrypted", Type: "choice", Options: []string{fromTheStart, byStartTLS, notAtAll}, Default: byStartTLS},
			{Name: "host", Label: "IMAP server", Type: "text", Help: "to read, and to learn which mails came back; with :port where it is not the usual one"},
			{Name: "security", Label: "Read encrypted", Type: "choice", Options: []string{fromTheStart, byStartTLS, notAtAll}, Default: fromTheStart},
			{Name: "from", Label: "From", Type: "text", Help: "the address that mails come from; the user where nothing is said"},
			{Name: "from_name", Label: "Sender's name", Type: "text", Help: "such as Tour desk; a message may name another"},
			{Name: "reply_to", Label: "Answers go to", Type: "text", More: true, Help: "an address, where it is another"},
			{Name: "unsubscribe", Label: "Unsubscribe at", Type: "text", More: true, Help: "a mail or https address that readers' mail programs offer for leaving (List-Unsubscribe)"},
			{Name: "sign_in", Label: "Signing in", Type: "choice", Options: []string{byPassword, byToken}, Default: byPassword, More: true},
			connect.AsksWhy(),
		},
		Source: []connect.Setting{{Name: "mailbox", Label: "Mailbox", Type: "text", Default: "INBOX", Required: true}},
		Key:    "id", TitleField: "subject", Appends: true, Quickest: 10 * time.Second, Slowest: 5 * time.Minute, Watched: 30 * time.Second,
		Fields: func(map[string]string) []value.Field {
			return []value.Field{
				connect.Field("id", value.Text), connect.Field("subject", value.Text), connect.Field("from", value.Person), connect.Field("from_name", value.Text), connect.Field("to", value.List),
				connect.Field("cc", value.List), connect.Field("reply_to", value.List), connect.Field("sent", value.Moment), connect.Field("received", value.Moment), connect.Field("text", value.Text),
				connect.Field("attachments", value.List), filesField(), connect.Field("size", value.Num),
			}
		},
		Open: func(c connect.Config) (connect.Conn, error) { return &mailbox{c}, nil },
	}
}

type mailbox struct{ config connect.Config }

// How a server is spoken to, and how one signs in.
const (
	fromTheStart = "from the start"
	byStartTLS   = "by STARTTLS"
	notAtAll     = "not at all"

	byPassword = "by password"
	byToken    = "by token (XOAUTH2)"
)

func (m *mailbox) Close() error { return nil }

// Prove signs in and opens the inbox for reading.
func (m *mailbox) Prove(ctx context.Context) []connect.ProofStep {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	var steps []connect.ProofStep
	if m.config.Settings["smtp"] != "" {
		steps = append(steps, m.proveSending(ctx))
	}
	if m.config.Settings["host"] != "" {
		steps = append(steps, m.proveReading(ctx)...)
	}
	return steps
}

func (m *mailbox) proveReading(ctx context.Context) []connect.ProofStep {
	c, err := m.dial(ctx, silence, nil)
	if err != nil {
		return []connect.ProofStep{connect.Failed("signing in to read", err)}
	}
	defer c.Close()
	steps := []connect.ProofStep{connect.Passed("signing in to read as "+m.config.Settings["user"], "signed in")}
	data, err := c.Select("INBOX", &imap.SelectOptions{ReadOnly: true}).Wait()
	if err != nil {
		return append(steps, connect.Failed("opening INBOX", plain("opening INBOX", err)))
	}
	return append(steps, connect.Passed("opening INBOX", "%s", connect.Counted(int(data.NumMessages), "message")))
}

// Browse lists the mailboxes.
func (m *mailbox) Browse(ctx context.Context) ([]connect.Choice, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	c, err := m.dial(ctx, silence, nil)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	list, err := c.List("", "*", nil).Collect()
	if err != nil {
		return nil, plain("listing the mailboxes", err)
	}
	var out []connect.Choice
	for _, box := range list {
		no := false
		for _, a := range box.Attrs {
			no = no || a == imap.MailboxAttrNoSelect || a == imap.MailboxAttrNonExistent
		}
		if !no {
			out = append(out, connect.Choice{Kind: connect.KindName(box.Mailbox, "messages"), Title: box.Mailbox, Key: "id", Settings: map[string]string{"mailbox": box.Mailbox}})
		}
	}
	return out, nil
}

// cursor is the last message seen. UIDs only grow, as long as the validity stays the same (RFC 3501, 2.3.1.1).
type cursor struct {
	Validity uint32 `json:"validity"`
	UID      uint32 `json:"uid"`
}

// Limits of what is read of one poll, and of one message.
const (
	maxMessages = 500
	maxMessage  = 2 << 20
	maxText     = 100 << 10
)

// Poll reads the messages after the last one seen.
func (m *mailbox) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	out := connect.Polled{Calls: 1}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	c, err := m.dial(ctx, silence, nil)
	if err != nil {
		return out, err
	}
	defer c.Close()
	box := src.Get("mailbox", "INBOX")
	data, err := c.Select(box, &imap.SelectOptions{ReadOnly: true}).Wait()
	if err != nil {
		t := plain("opening "+box, err)
		t.Do = "choose the mailbox again; it cannot be opened"
		return out, t
	}
	var last cursor
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &last)
	}
	if last.Validity != data.UIDValidity { // numbers begin anew; what is known is known by its Message-ID
		last = cursor{Validity: data.UIDValidity}
	}
	if data.NumMessages > 0 && (data.UIDNext == 0 || uint32(data.UIDNext) > last.UID+1) {
		if err := m.after(c, src.Name, &last, emit); err != nil {
			return out, err
		}
	}
	out.Cursor, err = json.Marshal(last)
	return out, err
}

// after hands over what came after the last message, and moves the cursor on.
func (m *mailbox) after(c *imapclient.Client, source string, last *cursor, emit func(connect.Item) error) error {
	uids := imap.UIDSet{imap.UIDRange{Start: imap.UID(last.UID + 1), Stop: 0}}
	found, err := c.UIDSearch(&imap.SearchCriteria{UID: []imap.UIDSet{uids}}, nil).Wait()
	if err != nil {
		return plain("looking for new messages", err)
	}
	var files map[imap.UID][]any
	all := slices.DeleteFunc(found.AllUIDs(), func(uid imap.UID) bool { return uint32(uid) <= last.UID }) // "n:*" always names the last one there is
	for i, uid := range all {
		if i%filesAtOnce == 0 {
			if files, err = filesOf(c, source, last.Validity, all[i:min(i+filesAtOnce, len(all))]); err != nil {
				return err
			}
		}
		section := &imap.FetchItemBodySection{Peek: true, Partial: &imap.SectionPartial{Offset: 0, Size: maxMessage}}
		list, err := fetch(c, imap.FetchOptions{InternalDate: true, RFC822Size: true, BodySection: []*imap.FetchItemBodySection{section}}, uid)
		if err != nil {
			return plain("reading a message", err)
		}
		for _, msg := range list {
			it := Item(msg.body, fmt.Sprintf("%d-%d", last.Validity, uid))
			it.Record["received"], it.At = msg.date.UTC().Format(time.RFC3339), msg.date
			it.Record["size"] = float64(msg.size)
			if len(files[uid]) > 0 {
				it.Record["files"] = files[uid]
			}
			if err := emit(it); err != nil {
				return err
			}
		}
		last.UID = uint32(uid)
	}
	return nil
}

// Item makes a record of a message's bytes. A message without a Message-ID is named by the fallback.
func Item(raw []byte, fallback string) connect.Item {
	r := map[string]any{}
	key := fallback
	mr, err := mail.CreateReader(bytes.NewReader(raw))
	if mr == nil {
		r["id"], r["text"] = key, clean(string(raw), maxText)
		r["trouble"] = fmt.Sprintf("the message cannot be read: %v", err)
		return connect.Item{Key: key, Record: r}
	}
	if id, err := mr.Header.MessageID(); err == nil && id != "" && len(id) < 300 {
		key = clean(id, 300)
	}
	r["id"] = key
	if mr.Header.Get(markHeader) == connect.Mark {
		r["own"] = true
	}
	if ids, err := mr.Header.MsgIDList("In-Reply-To"); err == nil && len(ids) > 0 && len(ids[0]) < 300 {
		r["in_reply_to"] = clean(ids[0], 300)
	}
	if s, err := mr.Header.Subject(); err == nil && s != "" {
		r["subject"] = clean(s, 1000)
	}
	if t, err := mr.Header.Date(); err == nil && !t.IsZero() {
		r["sent"] = t.Format(time.RFC3339)
	}
	for _, name := range []string{"From", "To", "Cc", "Reply-To"} {
		list, err := mr.Header.AddressList(name)
		if err != nil || len(list) == 0 {
			continue
		}
		field := strings.ToLower(strings.ReplaceAll(name, "-", "_"))
		if name == "From" {
			r["from"], r["from_name"] = clean(list[0].Address, 320), clean(list[0].Name, 320)
			continue
		}
		all := make([]any, 0, len(list))
		for _, a := range list {
			all = append(all, clean(a.Address, 320))
		}
		r[field] = all
	}
	parts(mr, r)
	return connect.Item{Key: key, Record: r}
}

// parts reads the text and the attachments' names. A message that ends in the middle gives what there was.
func parts(mr *mail.Reader, r map[string]any) {
	var files []any
	text, html := "", ""
	for range 200 {
		p, err := mr.NextPart()
		if err != nil {
			break
		}
		switch h := p.Header.(type) {
		case *mail.InlineHeader:
			media, _, _ := h.ContentType()
			body, _ := io.ReadAll(io.LimitReader(p.Body, maxText+1))
			switch {
			case media == "text/html" && html == "":
				html = string(body)
			case strings.HasPrefix(media, "text/") && text == "":
				text = string(body)
			}
		case *mail.AttachmentHeader:
			if name, err := h.Filename(); err == nil && name != "" {
				files = append(files, clean(name, 300))
			}
		}
	}
	if text == "" {
		text = plainText(html)
	}
	if text = clean(strings.TrimSpace(text), maxText); text != "" {
		r["text"] = text
	}
	if files != nil {
		r["attachments"] = files
	}
}

func clean(s string, most int) string {
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
	s = strings.ReplaceAll(s, "\r\n", "\n")
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

// Wait asks the server to say when something comes (IDLE, RFC 2177).
func (m *mailbox) Wait(ctx context.Context, src connect.SourceConfig, changed func()) error {
	c, err := m.dial(ctx, waiting, &imapclient.UnilateralDataHandler{Mailbox: func(d *imapclient.UnilateralDataMailbox) {
		if d.NumMessages != nil {
			changed()
		}
	}})
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.Select(src.Get("mailbox", "INBOX"), &imap.SelectOptions{ReadOnly: true}).Wait(); err != nil {
		return plain("opening the mailbox", err)
	}
	if !c.Caps().Has(imap.CapIdle) {
		<-ctx.Done() // asking from time to time must do
		return nil
	}
	changed()
	idle, err := c.Idle()
	if err != nil {
		return plain("waiting for messages", err)
	}
	done := make(chan error, 1)
	go func() { done <- idle.Wait() }()
	select {
	case <-ctx.Done():
		return nil
	case err := <-done:
		if err == nil {
			err = errors.New("the server ended the connection")
		}
		return plain("waiting for messages", err)
	}
}

package mail

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/textproto"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-message"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

// maxReport bounds what is read of a mail that tells what became of another.
const maxReport = 512 << 10

// Reports reads the reports of delivery (RFC 3464) that have come to the mailbox: mails that came back, and those that a server
// says it has delivered. Without a cursor, what lies there already is passed over.
func (m *mailbox) Reports(ctx context.Context, raw json.RawMessage, each func(connect.Report) error) (json.RawMessage, error) {
	if m.config.Settings["host"] == "" {
		return raw, nil
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	c, err := m.dial(ctx, silence, nil)
	if err != nil {
		return raw, err
	}
	defer c.Close()
	data, err := c.Select("INBOX", &imap.SelectOptions{ReadOnly: true}).Wait()
	if err != nil {
		return raw, plain("opening INBOX", err)
	}
	var last cursor
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &last)
	}
	if last.Validity != data.UIDValidity {
		last = cursor{Validity: data.UIDValidity, UID: uint32(max(data.UIDNext, 1)) - 1}
	}
	section := &imap.FetchItemBodySection{Specifier: imap.PartSpecifierHeader, HeaderFields: []string{"Content-Type"}, Peek: true}
	whole := &imap.FetchItemBodySection{Peek: true, Partial: &imap.SectionPartial{Size: maxReport}}
	found, err := c.UIDSearch(&imap.SearchCriteria{UID: []imap.UIDSet{{imap.UIDRange{Start: imap.UID(last.UID + 1)}}}}, nil).Wait()
	if err != nil {
		return raw, plain("looking for reports of delivery", err)
	}
	for _, uid := range found.AllUIDs() {
		if uint32(uid) <= last.UID {
			continue
		}
		list, err := fetch(c, imap.FetchOptions{BodySection: []*imap.FetchItemBodySection{section}}, uid)
		if err != nil {
			return raw, plain("reading a message", err)
		}
		if last.UID = uint32(uid); len(list) == 0 || !strings.Contains(strings.ToLower(string(list[0].body)), "report") {
			continue
		}
		if list, err = fetch(c, imap.FetchOptions{BodySection: []*imap.FetchItemBodySection{whole}}, uid); err != nil {
			return raw, plain("reading a message", err)
		}
		for _, msg := range list {
			for _, r := range reportsIn(msg.body) {
				if err := each(r); err != nil {
					return raw, err
				}
			}
		}
	}
	next, err := json.Marshal(last)
	return next, err
}

// reportsIn reads what a mail says of the delivery of another; none where it says nothing of that sort.
func reportsIn(raw []byte) []connect.Report {
	e, err := message.Read(bytes.NewReader(raw))
	if e == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return nil
	}
	media, params, _ := e.Header.ContentType()
	if media != "multipart/report" || !strings.EqualFold(params["report-type"], "delivery-status") {
		return nil
	}
	var of string
	var groups []textproto.MIMEHeader
	mr := e.MultipartReader()
	for range 20 {
		p, err := mr.NextPart()
		if err != nil && (p == nil || !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err)) {
			break
		}
		switch media, _, _ := p.Header.ContentType(); strings.ToLower(media) {
		case "message/delivery-status", "message/global-delivery-status":
			groups = groupsOf(io.LimitReader(p.Body, maxReport))
		case "message/rfc822", "text/rfc822-headers", "message/global", "message/global-headers":
			h, _ := textproto.NewReader(bufio.NewReader(io.LimitReader(p.Body, maxReport))).ReadMIMEHeader()
			of = strings.Trim(strings.TrimSpace(h.Get("Message-Id")), "<>")
		}
	}
	if of == "" {
		return nil
	}
	var out []connect.Report
	for _, g := range groups {
		r := connect.Report{Of: clean(of, 300)}
		switch strings.ToLower(strings.TrimSpace(g.Get("Action"))) {
		case "failed":
			r.State = connect.ReportFailed
		case "delivered":
			r.State = connect.ReportDelivered
		default: // it is delayed, or handed on to where no reports come from
			continue
		}
		r.Words = clean(wordsOf(g), 500)
		out = append(out, r)
	}
	return out
}

// groupsOf reads the groups of fields of a report: of the message, and of each whom it went to.
func groupsOf(r io.Reader) []textproto.MIMEHeader {
	tr := textproto.NewReader(bufio.NewReader(r))
	var out []textproto.MIMEHeader
	for range 200 {
		h, err := tr.ReadMIMEHeader()
		if len(h) > 0 {
			out = append(out, h)
		}
		if err != nil {
			break
		}
	}
	return out
}

// wordsOf says of one group whom it is about and what their server said.
func wordsOf(g textproto.MIMEHeader) string {
	after := func(s string) string { // the type stands before it: rfc822; or smtp;
		if _, rest, ok := strings.Cut(s, ";"); ok {
			s = rest
		}
		return strings.Join(strings.Fields(s), " ")
	}
	who := after(g.Get("Original-Recipient"))
	if who == "" {
		who = after(g.Get("Final-Recipient"))
	}
	said := after(g.Get("Diagnostic-Code"))
	if said == "" {
		said = strings.TrimSpace(g.Get("Status"))
	}
	return strings.TrimPrefix(fault.Sentence(who+": "+said), ": ")
}

package mail

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"golang.org/x/net/idna"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

// xoauth2 signs in by a token, as many providers want it in the place of a password.
type xoauth2 struct{ user, token string }

func (x xoauth2) Start() (mech string, ir []byte, err error) {
	return "XOAUTH2", []byte("user=" + x.user + "\x01auth=Bearer " + x.token + "\x01\x01"), nil
}

// Next answers the server's words on a token that it refuses with nothing, after which it says so in its own way.
func (x xoauth2) Next([]byte) ([]byte, error) { return []byte{}, nil }

// The usual ports of servers that take mail.
const (
	submissions = "465" // RFC 8314
	submission  = "587" // RFC 6409
	relay       = "25"
)

// smtpAddress gives the server's name and its address.
func (m *mailbox) smtpAddress() (host, address string) {
	port := submission
	switch m.config.Get("smtp_security", byStartTLS) {
	case fromTheStart:
		port = submissions
	case notAtAll:
		port = relay
	}
	return hostPort(m.config.Settings["smtp"], port)
}

// called is the name by which this Dorfbote greets a server: its public one or, where that is not known, that of whom it sends for.
func (m *mailbox) called() string {
	if u, err := url.Parse(m.config.Env.Base); err == nil && u.Hostname() != "" {
		if ip := net.ParseIP(u.Hostname()); ip != nil && ip.To4() != nil {
			return "[" + u.Hostname() + "]"
		} else if ip != nil {
			return "[IPv6:" + u.Hostname() + "]"
		}
		if name, err := idna.Lookup.ToASCII(u.Hostname()); err == nil {
			return name
		}
	}
	if _, host, ok := strings.Cut(wire(m.from()), "@"); ok && ascii(host) {
		return host
	}
	return "dorfbote.invalid"
}

// Bounds of the phases of one mail. All of them together end before the job does that sends it.
const (
	sending    = 40 * time.Second // from calling the server to its taking the mail
	commanding = 8 * time.Second  // from one command to its answer, the greeting included
	submitting = 25 * time.Second // from the end of the mail to its being taken
)

// dialSMTP opens a line to the server that takes mails, and signs in.
func (m *mailbox) dialSMTP(ctx context.Context) (*smtp.Client, error) {
	host, address := m.smtpAddress()
	tried, security := "calling "+address, m.config.Get("smtp_security", byStartTLS)
	conn, config, err := m.line(ctx, host, address, security)
	if err != nil {
		return nil, err
	}
	var c *smtp.Client
	if security == byStartTLS {
		if c, err = smtp.NewClientStartTLS(conn, config); err != nil {
			conn.Close()
			t := plain(tried+" with STARTTLS", err)
			if ctx.Err() == nil && t.Do == "" {
				t.Do = "choose another encryption if the server has no STARTTLS"
			}
			return nil, t
		}
	} else {
		c = smtp.NewClient(conn)
	}
	c.CommandTimeout, c.SubmissionTimeout = commanding, submitting
	if err := c.Hello(m.called()); err != nil {
		_ = c.Close()
		return nil, plain(tried, err)
	}
	if err := m.signInSMTP(c); err != nil {
		_ = c.Close()
		return nil, err
	}
	return c, nil
}

func (m *mailbox) signInSMTP(c *smtp.Client) error {
	user, secret := m.config.Settings["user"], m.config.Settings["password"]
	if user == "" || secret == "" {
		return nil
	}
	tried := "signing in to send as " + user
	how := sasl.NewPlainClient("", user, secret)
	switch {
	case m.config.Settings["sign_in"] == byToken:
		how = xoauth2{user, secret}
	case !c.SupportsAuth(sasl.Plain) && c.SupportsAuth("LOGIN"):
		how = sasl.NewLoginClient(user, secret)
	case !c.SupportsAuth(sasl.Plain):
		return &fault.Fault{Tried: tried, Said: "the server lets nobody sign in over this line", Do: "choose another encryption, or leave the user and the password out"}
	}
	if err := c.Auth(how); err != nil {
		t := plain(tried, err)
		if said, ok := errors.AsType[*smtp.SMTPError](err); ok {
			t.Said = strings.TrimSpace(fmt.Sprintf("%d %s", said.Code, said.Message))
			t.Do, t.Who = "check the user and the password", "whoever runs the mail server"
			t.Status = said.Code
		}
		return t
	}
	return nil
}

// proveSending signs in and asks whether mails from the address would be taken; nothing is sent.
func (m *mailbox) proveSending(ctx context.Context) connect.ProofStep {
	host, _ := m.smtpAddress()
	tried := "sending from " + m.from() + " over " + host
	c, err := m.dialSMTP(ctx)
	if err != nil {
		return connect.Failed(tried, err)
	}
	defer func() { _ = c.Close() }()
	if err := c.Mail(m.from(), nil); err != nil {
		t := plain(tried, err)
		t.Do = "choose an address that the server lets this user send from"
		return connect.Failed(tried, t)
	}
	_ = c.Reset()
	_ = c.Quit()
	return connect.Passed(tried, "the server takes mails from this address; nothing was sent")
}

// from is the address that mails come from.
func (m *mailbox) from() string {
	if from := m.config.Settings["from"]; from != "" {
		return from
	}
	return m.config.Settings["user"]
}

// failed makes a delivery of an error. What the server will not take at any time is final, and so is whom it does not let sign in; no
// answer, its asking to try again, and what is wrong with the line, which somebody may mend, are not. Whom it lets neither sign in nor
// send can send nothing at all; one recipient, or one mail, that it refuses says nothing of the next.
func failed(out connect.Delivery, err error, of string) connect.Delivery {
	if se, ok := errors.AsType[*smtp.SMTPError](err); ok {
		out.Status, out.Final = se.Code, se.Code >= 500 && of != ""
		out.Answer = strings.TrimSpace(fmt.Sprintf("%d %s", se.Code, se.Message))
		if out.Raw = out.Answer; of != "" {
			out.Answer = of + ": " + out.Answer
		}
		return out
	}
	if f, ok := fault.Of(err); ok && f.Status >= 500 {
		out.Status, out.Final, out.Place = f.Status, true, true
	}
	out.Answer = fault.Plainly(err)
	if f, ok := fault.Of(err); ok && f.Tried != "" {
		out.Answer = f.Tried + ": " + out.Answer
	} else if !ok {
		out.Answer = "no answer: " + connect.NoAnswer(err)
	}
	return out
}

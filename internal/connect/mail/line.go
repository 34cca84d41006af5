package mail

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

// Bounds of the phases of reading: the handshake of TLS and how long a server may take to greet; all until one is signed in; and how
// long a server may be silent after that, or while it is waited for messages, of which servers say from time to time that there are none.
const (
	greeting  = 10 * time.Second
	signingIn = 20 * time.Second
	silence   = 28 * time.Second // less than the half minute within which the library gives up without closing the line
	waiting   = 31 * time.Minute
)

// line opens a line to a server, encrypted from the start where that is wanted, and gives what STARTTLS begins with.
func (m *mailbox) line(ctx context.Context, host, address, security string) (net.Conn, *tls.Config, error) {
	tried := "calling " + address
	conn, err := m.config.Env.Dial(ctx, "tcp", address)
	if err != nil {
		return nil, nil, plain(tried, err)
	}
	// The clients know no contexts, and set deadlines of their own: when ctx ends, so does the connection. Until they do, the server has
	// so long to greet.
	_ = conn.SetDeadline(time.Now().Add(greeting))
	context.AfterFunc(ctx, func() { _ = conn.Close() })
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if m.config.Env.TLS != nil {
		config = m.config.Env.TLS.Clone()
		config.ServerName = host
	}
	if security != fromTheStart {
		return conn, config, nil
	}
	secure := tls.Client(conn, config)
	shake, cancel := context.WithTimeout(ctx, greeting)
	defer cancel()
	if err := secure.HandshakeContext(shake); err != nil {
		conn.Close()
		return nil, nil, plain(tried+" with TLS", err)
	}
	return secure, config, nil
}

// hostPort takes a server's address apart; without a port it has the usual one.
func hostPort(text, usual string) (host, address string) {
	host, port, err := net.SplitHostPort(text)
	if err != nil {
		host, port = text, usual
	}
	return host, net.JoinHostPort(host, port)
}

// dial signs in to read. The server may be silent for so long.
func (m *mailbox) dial(ctx context.Context, silence time.Duration, news *imapclient.UnilateralDataHandler) (*imapclient.Client, error) {
	if m.config.Settings["host"] == "" {
		return nil, &fault.Fault{Tried: "reading", Said: "this mailbox only sends", Do: "give its IMAP server in the settings"}
	}
	security, port := m.config.Get("security", fromTheStart), "143"
	if security == fromTheStart {
		port = "993"
	}
	host, address := hostPort(m.config.Settings["host"], port)
	conn, config, err := m.line(ctx, host, address, security)
	if err != nil {
		return nil, err
	}
	late := time.AfterFunc(signingIn, func() { _ = conn.Close() })
	defer late.Stop()
	conn = connect.Patient(conn, silence)
	opts := &imapclient.Options{UnilateralDataHandler: news, TLSConfig: config}
	var c *imapclient.Client
	if security == byStartTLS {
		if c, err = imapclient.NewStartTLS(conn, opts); err != nil {
			conn.Close()
			return nil, plain("calling "+address+" with STARTTLS", err)
		}
	} else {
		c = imapclient.New(conn, opts)
	}
	if err := m.signInTo(c); err != nil {
		c.Close()
		t := plain("signing in as "+m.config.Settings["user"], err)
		if _, ok := errors.AsType[*imap.Error](err); ok {
			t.Do, t.Who = "check the user and the password", "whoever runs the mail server"
		}
		return nil, t
	}
	return c, nil
}

func plain(tried string, err error) *fault.Fault {
	if t, ok := errors.AsType[*fault.Fault](err); ok {
		return t
	}
	if ie, ok := errors.AsType[*imap.Error](err); ok {
		return &fault.Fault{Tried: tried, Said: ie.Text}
	}
	out := &fault.Fault{Tried: tried, Said: connect.NoAnswer(err)}
	if _, ok := errors.AsType[*net.OpError](err); ok {
		out.Said = "no answer: " + out.Said
		out.Do = "check that the host is right and reachable from this server"
	}
	return out
}

// signInTo signs in to the IMAP server.
func (m *mailbox) signInTo(c *imapclient.Client) error {
	user, secret := m.config.Settings["user"], m.config.Settings["password"]
	if m.config.Settings["sign_in"] == byToken {
		return c.Authenticate(xoauth2{user, secret})
	}
	return c.Login(user, secret).Wait()
}

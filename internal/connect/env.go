package connect

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"code.dny.dev/ssrf"
	"golang.org/x/sync/semaphore"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Env is what connections reach the outside by.
type Env struct {
	HTTP      *http.Client
	Dial      func(ctx context.Context, network, address string) (net.Conn, error)
	TLS       *tls.Config // nil takes the system's authorities
	Workspace value.Workspace
	// Base is how the outside reaches this Dorfbote, such as https://dorfbote.example; "" where that is not known.
	Base string
	// Folder is the only folder whose files may be read, "" for none.
	Folder string
	// pixels bounds how many points of foreign pictures the process reads at one time.
	pixels *semaphore.Weighted
}

// Agent is how Dorfbote names itself to others.
const Agent = "Dorfbote/1"

// Limits of what is read from others.
const (
	MaxAnswer = 64 << 20 // bytes of one answer
	timeout   = 30 * time.Second
)

// NewEnv makes an environment whose calls reach public addresses, and those private ones that are allowed:
// addresses or CIDR prefixes, joined by commas. So nobody can have Dorfbote call what only its machine may reach.
func NewEnv(ws value.Workspace, allowed string) (Env, error) {
	control, err := guard(allowed)
	if err != nil {
		return Env{}, err
	}
	dialer := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second, ControlContext: func(_ context.Context, network, address string, c syscall.RawConn) error {
		return control(network, address, c)
	}}
	env := Env{Workspace: ws, Dial: dialer.DialContext, pixels: semaphore.NewWeighted(maxPixels)}
	env.HTTP = &http.Client{
		Timeout: timeout,
		Transport: &http.Transport{
			DialContext: dialer.DialContext, MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute,
			TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 20 * time.Second,
		},
		CheckRedirect: func(req *http.Request, via []*http.Request) error {
			switch {
			case len(via) >= 5:
				return errors.New("redirected more than five times")
			case via[0].Method != http.MethodGet && via[0].Method != http.MethodHead: // a post that is led elsewhere has not been taken
				return http.ErrUseLastResponse
			case req.URL.Host != via[0].URL.Host: // credentials are for the host they were given for
				req.Header.Del("Authorization")
				for name := range via[0].Header {
					if _, own := req.Header[name]; own && !strings.HasPrefix(name, "Accept") && name != "User-Agent" {
						req.Header.Del(name)
					}
				}
			}
			return nil
		},
	}
	return env, nil
}

// guard makes the check of every address that is about to be called, after names have been resolved.
func guard(allowed string) (func(network, address string, c syscall.RawConn) error, error) {
	var four, six []netip.Prefix
	for _, text := range strings.FieldsFunc(allowed, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			addr, addrErr := netip.ParseAddr(text)
			if addrErr != nil {
				return nil, fmt.Errorf("%q is no address or prefix such as 10.0.0.0/8", text)
			}
			p = netip.PrefixFrom(addr, addr.BitLen())
		}
		if p.Addr().Is4() {
			four = append(four, p)
		} else {
			six = append(six, p)
		}
	}
	// Each option takes the place of one before it, so all of a kind go in one.
	g := ssrf.New(ssrf.WithAnyPort(), ssrf.WithNetworks("tcp4", "tcp6"), ssrf.WithAllowedV4Prefixes(four...), ssrf.WithAllowedV6Prefixes(six...))
	return func(network, address string, c syscall.RawConn) error {
		if err := g.Safe(network, address, c); err != nil {
			return &fault.Fault{
				Tried: "calling " + address, Said: "this is a private or reserved address, which is not called unless it is allowed",
				Do: "add it to DORFBOTE_ALLOW_PRIVATE if it is meant", Who: "whoever runs this server",
			}
		}
		return nil
	}, nil
}

// Answer is what an HTTP call brought.
type Answer struct {
	Status int
	Header http.Header
	Body   io.ReadCloser // bounded to MaxAnswer
	URL    *url.URL      // after redirects
}

// Get calls an address. An answer other than 2xx and 304 is a [*fault.Fault] in the other side's words.
func (e Env) Get(ctx context.Context, address string, header http.Header) (*Answer, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, &fault.Fault{Tried: "GET " + address, Said: "this is no address that can be called", Do: "write it like https://example.org/path"}
	}
	return e.Do(req, header)
}

// Do makes a call.
func (e Env) Do(req *http.Request, header http.Header) (*Answer, error) {
	tried := req.Method + " " + redacted(req.URL)
	if req.URL.Scheme != "http" && req.URL.Scheme != "https" || req.URL.Host == "" {
		return nil, &fault.Fault{Tried: tried, Said: "only http and https addresses are called", Do: "write the address like https://example.org/path"}
	}
	maps.Copy(req.Header, header)
	req.Header.Set("User-Agent", Agent)
	res, err := e.HTTP.Do(req)
	if err != nil {
		return nil, noAnswer(tried, req.URL.Host, err)
	}
	if res.StatusCode >= 200 && res.StatusCode < 300 || res.StatusCode == http.StatusNotModified {
		return &Answer{Status: res.StatusCode, Header: res.Header, URL: res.Request.URL, Body: bounded{io.LimitReader(res.Body, MaxAnswer+1), res.Body}}, nil
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
	t := &fault.Fault{Tried: tried, Status: res.StatusCode, Said: Words(raw, res.Status), Wait: RetryAfter(res.Header.Get("Retry-After"), time.Now())}
	switch res.StatusCode {
	case http.StatusUnauthorized:
		t.Do, t.Who = "check the credentials; they were not accepted", "whoever runs "+req.URL.Host
	case http.StatusForbidden:
		t.Do, t.Who = "these credentials may not read this; ask for the right to", "whoever runs "+req.URL.Host
	case http.StatusNotFound, http.StatusGone:
		t.Do = "check the address; there is nothing there"
	case http.StatusTooManyRequests:
		t.Do = "ask less often"
	}
	return nil, t
}

// secretParts are what the name of a parameter has in it whose value opens something.
var secretParts = []string{"key", "token", "secret", "passw", "signature", "credential"}

// redacted is an address as it may be shown: without a password, and without what its parameters open doors with.
func redacted(u *url.URL) string {
	shown := *u
	if shown.User != nil {
		shown.User = url.User(shown.User.Username())
	}
	q := shown.Query()
	for name := range q {
		lower := strings.ToLower(name)
		if slices.ContainsFunc(secretParts, func(part string) bool { return strings.Contains(lower, part) }) {
			q.Set(name, "…")
			shown.RawQuery = q.Encode()
		}
	}
	return shown.String()
}

func noAnswer(tried, host string, err error) error {
	if t, ok := errors.AsType[*fault.Fault](err); ok {
		return t
	}
	said, do := "no answer: "+NoAnswer(err), "check that "+host+" is right and reachable from this server"
	var dns *net.DNSError
	var cert *tls.CertificateVerificationError
	switch {
	case errors.As(err, &dns) && dns.IsNotFound:
		said, do = NoAnswer(err), "check the spelling of the address"
	case errors.As(err, &cert):
		said, do = NoAnswer(err), "have a valid certificate installed there"
	}
	return &fault.Fault{Tried: tried, Said: said, Do: do, Err: err}
}

// bounded ends with an error rather than short, where an answer is larger than is read.
type bounded struct {
	io.Reader
	io.Closer
}

func (b bounded) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if l := b.Reader.(*io.LimitedReader); l.N <= 0 {
		return n, &fault.Fault{Tried: "reading the answer", Said: fmt.Sprintf("it is larger than %d MiB", MaxAnswer>>20), Do: "narrow what is asked for"}
	}
	return n, err
}

// Words picks the readable part of an answer: the detail of an RFC 9457 problem, a message, or the text itself.
func Words(raw []byte, status string) string {
	v, err := value.ReadJSON(raw)
	if m, ok := v.(map[string]any); ok && err == nil {
		var parts []string
		for _, name := range []string{"title", "detail", "message", "error", "error_description"} {
			if s, ok := m[name].(string); ok && s != "" {
				parts = append(parts, s)
			}
		}
		return Storable(Answered(status, parts...))
	}
	text := Storable(strings.TrimSpace(string(raw)))
	if strings.HasPrefix(text, "<") || text == "" {
		return status
	}
	if r := []rune(text); len(r) > 300 {
		text = string(r[:300]) + "…"
	}
	return Answered(status, text)
}

// RetryAfter reads seconds or a date (RFC 9110, 10.2.3), bounded to an hour: whoever asks for more is asked again.
func RetryAfter(h string, now time.Time) time.Duration {
	if h == "" {
		return 0
	}
	d := time.Duration(0)
	if n, err := strconv.ParseFloat(strings.TrimSpace(h), 64); err == nil {
		d = time.Duration(min(n, 1e6) * float64(time.Second)) // not a number of nanoseconds that no span can hold
	} else if t, err := http.ParseTime(h); err == nil {
		d = t.Sub(now)
	}
	return min(max(d, 0), time.Hour)
}

// Validators gives what a later call can be made conditional by. An answer that was changed less than two seconds
// before it was given has none: times are in whole seconds, and it may have changed once more within the same
// (RFC 9110, 8.8.2.2); and many servers make their tags of times.
func (a *Answer) Validators() (etag, modified string) {
	etag, modified = a.Header.Get("ETag"), a.Header.Get("Last-Modified")
	changed, err := http.ParseTime(modified)
	if err != nil {
		return etag, ""
	}
	given, err := http.ParseTime(a.Header.Get("Date"))
	if err != nil {
		given = time.Now()
	}
	if given.Sub(changed) < 2*time.Second {
		return "", ""
	}
	return etag, modified
}

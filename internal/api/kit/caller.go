package kit

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"

	realclientip "github.com/realclientip/realclientip-go"
)

type CallerKey struct{}

// Caller is where a request comes from.
type Caller struct{ Address, Program string }

// Proxies are the reverse proxies whose word is taken for where a request comes from.
type Proxies struct {
	ranges    []net.IPNet
	forwarded []realclientip.Strategy
	headers   []string
}

// TrustProxies reads addresses and ranges, separated by commas, such as 127.0.0.1,10.2.0.0/16.
func TrustProxies(list string) (*Proxies, error) {
	p := &Proxies{headers: []string{"X-Forwarded-For", "Forwarded"}}
	var texts []string
	for t := range strings.SplitSeq(list, ",") {
		if t = strings.TrimSpace(t); t != "" {
			texts = append(texts, t)
		}
	}
	if len(texts) == 0 {
		return nil, nil
	}
	ranges, err := realclientip.AddressesAndRangesToIPNets(texts...)
	if err != nil {
		return nil, fmt.Errorf("%q is no list of addresses and ranges such as 127.0.0.1,10.2.0.0/16: %w", list, err)
	}
	p.ranges = ranges
	for _, h := range p.headers {
		s, err := realclientip.NewRightmostTrustedRangeStrategy(h, ranges)
		if err != nil {
			return nil, err
		}
		p.forwarded = append(p.forwarded, s)
	}
	return p, nil
}

func (p *Proxies) Trusts(host string) bool {
	ip := net.ParseIP(host)
	for i := range p.ranges {
		if ip != nil && p.ranges[i].Contains(ip) {
			return true
		}
	}
	return false
}

// From is the address that a request comes from: the peer's, or what trusted proxies say, read from the right up to the
// first that is not theirs. Where the two headers that can say it differ, the proxy has passed on one that it did not
// write, and neither is believed.
func (p *Proxies) From(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	if p == nil || !p.Trusts(host) {
		return host
	}
	said := ""
	for i, h := range p.headers {
		if len(r.Header.Values(h)) == 0 {
			continue
		}
		ip := p.forwarded[i].ClientIP(r.Header, r.RemoteAddr)
		if ip == "" || said != "" && said != ip {
			return host
		}
		said = ip
	}
	if said == "" {
		return host
	}
	return said
}

// NotesCaller keeps where a request comes from for whoever is to know it.
func (k *Kit) NotesCaller(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		program := r.UserAgent()
		if len(program) > 300 {
			program = program[:300]
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), CallerKey{}, Caller{k.Proxies.From(r), strings.ToValidUTF8(program, "\uFFFD")})))
	})
}

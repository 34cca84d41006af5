package rest

import (
	"net/url"
	"strings"
)

// Link is one link of a Link header.
type Link struct {
	URL    *url.URL
	Params map[string]string // names in lower case; the first of a name counts
}

// Links reads Link headers (RFC 8288): addresses may hold commas and semicolons, and so may quoted parameters.
// Addresses are resolved against base. What is malformed is passed over, since a broken link must not hide the
// ones beside it.
func Links(headers []string, base *url.URL) []Link {
	var out []Link
	for _, h := range headers {
		p := linkParser{rest: h}
		for p.rest != "" {
			target, params, ok := p.next()
			if !ok {
				continue
			}
			u, err := base.Parse(target)
			if err != nil {
				continue
			}
			out = append(out, Link{URL: u, Params: params})
		}
	}
	return out
}

// Next finds the address of the next page among the links of an answer, or nil. A link about another resource
// than the answer (an anchor) is not it.
func Next(headers []string, base *url.URL) *url.URL {
	for _, l := range Links(headers, base) {
		if a, ok := l.Params["anchor"]; ok && a != "" {
			if u, err := base.Parse(a); err != nil || u.String() != base.String() {
				continue
			}
		}
		for rel := range strings.FieldsSeq(l.Params["rel"]) {
			if strings.EqualFold(rel, "next") {
				return l.URL
			}
		}
	}
	return nil
}

type linkParser struct{ rest string }

func (p *linkParser) space() { p.rest = strings.TrimLeft(p.rest, " \t") }

// next reads one link. It always moves on.
func (p *linkParser) next() (target string, params map[string]string, ok bool) {
	p.rest = strings.TrimLeft(p.rest, " \t,")
	if p.rest == "" {
		return "", nil, false
	}
	if p.rest[0] != '<' {
		p.skip()
		return "", nil, false
	}
	end := strings.IndexByte(p.rest, '>')
	if end < 0 {
		p.rest = ""
		return "", nil, false
	}
	target, p.rest = strings.TrimSpace(p.rest[1:end]), p.rest[end+1:]
	params = map[string]string{}
	for {
		p.space()
		if p.rest == "" || p.rest[0] == ',' {
			return target, params, true
		}
		if p.rest[0] != ';' {
			p.skip()
			return target, params, true
		}
		p.rest = p.rest[1:]
		p.param(params)
	}
}

// param reads name, name=token or name="quoted".
func (p *linkParser) param(into map[string]string) {
	p.space()
	end := strings.IndexAny(p.rest, "=;, \t")
	if end < 0 {
		end = len(p.rest)
	}
	name := strings.ToLower(p.rest[:end])
	p.rest = p.rest[end:]
	p.space()
	v := ""
	if strings.HasPrefix(p.rest, "=") {
		p.rest = p.rest[1:]
		p.space()
		v = p.value()
	}
	if _, seen := into[name]; name != "" && !seen {
		into[name] = v
	}
}

func (p *linkParser) value() string {
	if !strings.HasPrefix(p.rest, `"`) {
		end := strings.IndexAny(p.rest, ";, \t")
		if end < 0 {
			end = len(p.rest)
		}
		v := p.rest[:end]
		p.rest = p.rest[end:]
		return v
	}
	var b strings.Builder
	for i := 1; i < len(p.rest); i++ {
		switch c := p.rest[i]; {
		case c == '\\' && i+1 < len(p.rest):
			i++
			b.WriteByte(p.rest[i])
		case c == '"':
			p.rest = p.rest[i+1:]
			return b.String()
		default:
			b.WriteByte(c)
		}
	}
	p.rest = ""
	return b.String()
}

// skip passes over what is no link, up to the next comma outside quotes and angle brackets.
func (p *linkParser) skip() {
	quoted := false
	for i := 0; i < len(p.rest); i++ {
		switch c := p.rest[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case c == ',' && !quoted:
			p.rest = p.rest[i+1:]
			return
		}
	}
	p.rest = ""
}

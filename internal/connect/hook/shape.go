package hook

import (
	"fmt"
	"mime"
	"net/http"
	"sort"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Shape says where a record lies in what an app sends that is no CloudEvent, and which field of it names it. Both are
// paths, such as "data.incident" and "id". An empty Record is what is sent itself.
type Shape struct{ Record, Key string }

// records finds the records in one thing that was sent: one, or those of a list. at is the JSON pointer of the thing.
func (s Shape) records(sent any, at string) (list []map[string]any, p *fault.Fault) {
	m, ok := sent.(map[string]any)
	if !ok {
		return nil, refuse(http.StatusBadRequest, at, "a record is a JSON object, not %s", value.Describe(sent))
	}
	if s.Record == "" {
		return []map[string]any{m}, nil
	}
	inner, _ := value.ParsePath(s.Record).Get(m)
	at += "/" + strings.ReplaceAll(s.Record, ".", "/")
	if inner == nil {
		return nil, refuse(http.StatusBadRequest, at, "there is nothing at %s, where the record is said to lie", s.Record)
	}
	elements, many := inner.([]any)
	if !many {
		elements = []any{inner}
	}
	for i, e := range elements {
		record, ok := e.(map[string]any)
		if !ok {
			if many {
				at = fmt.Sprintf("%s/%d", at, i)
			}
			return nil, refuse(http.StatusBadRequest, at, "a record is a JSON object, not %s", value.Describe(e))
		}
		list = append(list, record)
	}
	return list, nil
}

// Offer is a way to read what was sent: a shape, and of how many of the requests it makes records.
type Offer struct {
	Record string `json:"record" doc:"the path to the record in what is sent; empty for what is sent itself"`
	Key    string `json:"key" doc:"the field that names it"`
	Fits   int    `json:"fits" doc:"of how many of the requests it makes records"`
}

// Sent reads a body as plain JSON or as a form; ok is false where it is neither, or is a CloudEvent, which says itself
// where its record lies.
func Sent(media string, body []byte) (v any, ok bool) {
	media, _, err := mime.ParseMediaType(media)
	switch {
	case err != nil:
		return nil, false
	case media == "application/x-www-form-urlencoded":
		raw, p := formRecord(body)
		if p != nil {
			return nil, false
		}
		body = raw
	case strings.HasPrefix(media, "application/cloudevents"):
		return nil, false
	}
	v, err = value.ReadJSON(body)
	m, isObject := v.(map[string]any)
	return v, err == nil && (!isObject || m["specversion"] == nil || m["source"] == nil)
}

// How much is looked at to find where records lie.
const (
	mostOffers = 8
	mostDepth  = 4
	mostPlaces = 200
)

// Offers finds where records may lie in what was sent, the likeliest first: an object, or a list of objects, that has a
// field fit for a key. An object inside is likelier than one around it that has fewer fields of its own, since that is
// then an envelope.
func Offers(sent []any) []Offer {
	type place struct {
		depth, fields, seen int
		keys                map[string]map[string]bool // by field: the values that it had
	}
	places := map[string]*place{}
	var look func(v any, path string, depth int, fresh map[string]bool)
	look = func(v any, path string, depth int, fresh map[string]bool) {
		if list, ok := v.([]any); ok {
			for _, e := range list[:min(len(list), 20)] {
				if _, isObject := e.(map[string]any); isObject {
					look(e, path, depth, fresh)
				}
			}
			return
		}
		m, ok := v.(map[string]any)
		if !ok || depth > mostDepth {
			return
		}
		p := places[path]
		if p == nil {
			if len(places) >= mostPlaces {
				return
			}
			p = &place{depth: depth, keys: map[string]map[string]bool{}}
			places[path] = p
		}
		if !fresh[path] {
			fresh[path] = true
			p.seen++
		}
		plain := 0
		for name, e := range m {
			switch e.(type) {
			case map[string]any, []any:
				if !strings.Contains(name, ".") {
					inner := name
					if path != "" {
						inner = path + "." + name
					}
					look(e, inner, depth+1, fresh)
				}
			case nil:
			default:
				plain++
				if k := connect.KeyOf(m, name); k != "" && len(k) < 200 && connect.KeyRank(name) <= connect.WorstKeyRank {
					if p.keys[name] == nil {
						p.keys[name] = map[string]bool{}
					}
					p.keys[name][k] = true
				}
			}
		}
		p.fields = max(p.fields, plain)
	}
	for _, v := range sent {
		look(v, "", 0, map[string]bool{})
	}
	type scored struct {
		Offer
		score int
	}
	var all []scored
	for path, p := range places {
		for name, values := range p.keys {
			s := 100*p.seen + 10*min(p.fields, 8) - 6*connect.KeyRank(name) - 10*p.depth + min(len(values), 5)
			if p.depth == 0 && name != "id" {
				s -= 10
			}
			all = append(all, scored{Offer{path, name, p.seen}, s})
		}
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		return a.score > b.score || a.score == b.score && (a.Record < b.Record || a.Record == b.Record && a.Key < b.Key)
	})
	out := []Offer{}
	for _, s := range all {
		if len(out) < mostOffers {
			out = append(out, s.Offer)
		}
	}
	return out
}

package rest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
)

// way is how the next page is asked for, where nothing is said and there is no Link header: it was found out by comparing two pages.
type way struct {
	How string `json:"how"`
	// Param is the parameter, and Field the path of what it takes in the answer, by keys.
	Param string   `json:"param,omitempty"`
	Field []string `json:"field,omitempty"`
	First int      `json:"first,omitempty"` // number of the first page
	Rows  int      `json:"rows,omitempty"`  // on the first page, when it was found out
}

const (
	byAddress = "address" // the answer has the address of the next page
	byToken   = "token"   // it has what a parameter takes
	byPage    = "page"
	byOffset  = "offset"
	byNothing = "nothing" // there is one page
)

// sign is a value beside the list that may say something about pages.
type sign struct {
	path  []string
	name  string // its key, in lower case, without anything but letters and digits
	value any
}

// signs are those of an answer.
type signs struct {
	list []sign
	rows int // on this page
}

// signsIn collects what stands beside the list in an answer.
func signsIn(body any, header string, rows int) signs {
	s := signs{rows: rows}
	var look func(v any, path []string)
	look = func(v any, path []string) {
		switch x := v.(type) {
		case map[string]any:
			if len(path) > 3 {
				return
			}
			for _, k := range value.SortedKeys(x) {
				look(x[k], append(slices.Clone(path), k))
			}
		case []any, nil:
		default:
			if len(path) > 0 {
				s.list = append(s.list, sign{path, value.BareName(path[len(path)-1]), x})
			}
		}
	}
	look(body, nil)
	if header != "" {
		s.list = append(s.list, sign{nil, "total", header})
	}
	return s
}

// number gives the first of some signs that is a whole number.
func (s signs) number(names ...string) (n int, key string, ok bool) {
	for _, name := range names {
		for _, one := range s.list {
			if one.name != name {
				continue
			}
			var text string
			switch x := one.value.(type) {
			case float64:
				text = value.NumberText(x)
			case string:
				text = x
			default:
				continue
			}
			if n, err := strconv.Atoi(text); err == nil && n >= 0 {
				if len(one.path) > 0 {
					key = one.path[len(one.path)-1]
				}
				return n, key, true
			}
		}
	}
	return 0, "", false
}

// total is how many records the answer says there are in all; false where it does not say more than the page has.
func (s signs) total(read int) (int, bool) {
	n, _, ok := s.number("total", "totalcount", "totalresults", "totalrecords", "totalitems", "totalelements", "totalsize", "numfound", "recordcount", "itemcount", "resultcount", "count")
	return n, ok && n > read
}

// paged gives the number of this page and of the last one.
func (s signs) paged() (page int, key string, pages int, ok bool) {
	page, key, hasPage := s.number("page", "currentpage", "pagenumber", "pageindex", "pageno")
	pages, _, hasPages := s.number("pages", "totalpages", "pagecount", "lastpage", "pagetotal", "numpages", "numberofpages", "maxpage")
	if !hasPage {
		page, key = 0, ""
	}
	return page, key, pages, hasPages
}

// more tells whether the answer says that there is more than was read, which is so many records on so many pages; words says how. known
// is false where it says nothing about it.
func (s signs) more(read, pagesRead int) (words string, more, known bool) {
	for _, one := range s.list {
		yes, isBool := one.value.(bool)
		switch {
		case !isBool:
		case slices.Contains([]string{"hasmore", "hasnext", "hasnextpage", "more", "moreresults", "istruncated", "truncated"}, one.name):
			return "it says that there is more", yes, true
		case slices.Contains([]string{"last", "islast", "islastpage", "done"}, one.name):
			return "it says that this is not all", !yes, true
		}
	}
	if _, _, pages, ok := s.paged(); ok && pages > 1 {
		return fmt.Sprintf("it says that there are %d pages", pages), pagesRead < pages, true
	}
	if total, ok := s.total(read); ok {
		return fmt.Sprintf("it says that there are %d records in all", total), true, true
	}
	if _, _, ok := s.number("total", "totalcount", "totalresults", "totalrecords", "totalitems", "totalelements", "totalsize", "numfound"); ok {
		return "", false, true
	}
	return "", false, false
}

var (
	addresses = []string{"next", "nextpage", "nexturl", "nextlink", "nexthref", "nextpageurl", "nextpagelink", "odatanextlink"}
	tokens    = []string{"nextcursor", "nextpagetoken", "nexttoken", "nextpage", "nextoffset", "nextkey", "continuationtoken", "continuation", "endcursor", "cursor", "aftercursor", "next"}
)

// nextOf gives what stands for the next page at the end of a path: an address, or what a parameter takes. Where there is none it is "".
func nextOf(body any, path []string) string {
	for _, k := range path {
		m, ok := body.(map[string]any)
		if !ok {
			return ""
		}
		body = m[k]
	}
	switch x := body.(type) {
	case string:
		return x
	case float64:
		return value.NumberText(x)
	}
	return ""
}

// isAddress tells whether a text leads somewhere, as against a token.
func isAddress(s string) bool {
	return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://") || strings.HasPrefix(s, "/") || strings.HasPrefix(s, "?")
}

// ways are those in which the next page may be asked for, the likeliest first. at is the address of this page.
func (s signs) ways(at *url.URL) []way {
	var out []way
	for _, one := range s.list {
		name := one.name
		if n := len(one.path); name == "href" && n > 1 {
			name = value.BareName(one.path[n-2])
		}
		if text, ok := one.value.(string); ok && slices.Contains(addresses, name) && isAddress(text) {
			out = append(out, way{How: byAddress, Field: one.path})
		}
	}
	for _, one := range s.list {
		text := nextOf(map[string]any{"v": one.value}, []string{"v"})
		if len(one.path) == 0 || text == "" || isAddress(text) || !slices.Contains(tokens, one.name) {
			continue
		}
		for _, param := range paramsOf(one.path[len(one.path)-1]) {
			out = append(out, way{How: byToken, Param: param, Field: one.path})
		}
	}
	page, key, _, _ := s.paged()
	named := func(names ...string) (string, int, bool) {
		for name, vs := range at.Query() {
			if slices.Contains(names, value.BareName(name)) && len(vs) > 0 {
				if n, err := strconv.Atoi(vs[0]); err == nil {
					return name, n, true
				}
			}
		}
		return "", 0, false
	}
	if name, n, ok := named("page", "p", "pageno", "pagenumber", "pageindex"); ok {
		out = append(out, way{How: byPage, Param: name, First: n})
	}
	if name, _, ok := named("offset", "skip", "start", "from", "startat", "startindex"); ok {
		out = append(out, way{How: byOffset, Param: name})
	}
	if key != "" {
		for _, param := range []string{key, "page"} {
			out = append(out, way{How: byPage, Param: param, First: page})
		}
	}
	if _, key, ok := s.number("offset", "skip", "start", "startat", "startindex"); ok && key != "" {
		out = append(out, way{How: byOffset, Param: key})
	}
	for _, param := range []string{"page", "p"} {
		out = append(out, way{How: byPage, Param: param, First: unknown})
	}
	for _, param := range []string{"offset", "skip", "start"} {
		out = append(out, way{How: byOffset, Param: param})
	}
	var once []way
	for _, w := range out {
		if !slices.ContainsFunc(once, func(o way) bool { return o.How == w.How && o.Param == w.Param && slices.Equal(o.Field, w.Field) }) {
			once = append(once, w)
		}
	}
	return once[:min(len(once), mostTries)]
}

// unknown is the number of a first page of which nothing says what it is; mostTries is how many ways are tried.
const (
	unknown   = -1
	mostTries = 8
)

// paramsOf are the parameters that may take what an answer calls by a key, such as cursor and next_cursor for next_cursor.
func paramsOf(key string) []string {
	rest := key
	for _, first := range []string{"next_", "next-", "end_", "next", "end", "Next"} {
		if cut, ok := strings.CutPrefix(rest, first); ok && cut != "" {
			rest = strings.ToLower(cut[:1]) + cut[1:]
			break
		}
	}
	out := []string{rest}
	switch value.BareName(key) {
	case "next":
		out = append(out, "cursor", "page", "page_token", "offset")
	case "endcursor":
		out = append(out, "after")
	}
	if key != rest {
		out = append(out, key)
	}
	return out
}

// to is the address of the next page by a way, nil after the last. rows is how many records this page has, and read how many were read
// in all.
func (w *way) to(now *url.URL, p *page, s signs, read, pagesRead int, number *int) *url.URL {
	switch w.How {
	case byAddress, byToken:
		text := nextOf(p.body, w.Field)
		if text == "" {
			return nil
		}
		if w.How == byAddress {
			u, err := p.answer.URL.Parse(text)
			if err != nil {
				return nil
			}
			return u
		}
		if _, more, known := s.more(read, pagesRead); known && !more && !strings.HasPrefix(value.BareName(w.Field[len(w.Field)-1]), "next") {
			return nil // a cursor may stand for where this page ends, also on the last
		}
		return with(now, w.Param, text)
	case byPage, byOffset:
		if _, more, known := s.more(read, pagesRead); s.rows == 0 || known && !more || !known && s.rows < w.Rows {
			return nil
		}
		if *number++; w.How == byOffset {
			return with(now, w.Param, strconv.Itoa(read))
		}
		return with(now, w.Param, strconv.Itoa(*number))
	}
	return nil
}

func with(u *url.URL, name, v string) *url.URL {
	out := *u
	set(&out, name, v)
	return &out
}

// round are numbers of records that a page is likely to have where it is not all: of such a list it is tried whether there is more.
var round = []int{10, 20, 25, 30, 40, 50, 60, 75, 100, 150, 200, 250, 300, 400, 500, 1000, 2000, 5000}

// findOut finds out how the page after the first is asked for, by asking for it: it has other records. It gives that page, nil where there
// is none, or none is found.
func (r *reading) findOut(ctx context.Context, first *page, at *url.URL, s signs) (*url.URL, *page, error) {
	words, more, known := s.more(s.rows, 1)
	suspect := !known && slices.Contains(round, s.rows) && (r.way == nil || r.way.Rows != s.rows)
	have := r.keysOf(first.body)
	for _, w := range s.ways(at) {
		told := w.How == byAddress || w.How == byToken && (!known || more)
		if !told && !more && !suspect {
			continue
		}
		w.Rows = s.rows
		to, second, err := r.try(ctx, w, first, at, s, have)
		if err != nil {
			return nil, nil, err
		}
		if second != nil {
			r.way = to
			return second.answer.URL, second, nil
		}
	}
	switch {
	case more:
		r.said = fmt.Sprintf("%s, but only %s can be read: how the next page is asked for could not be found out. Choose it as Next page of the source", words, connect.Counted(s.rows, "record"))
	case suspect:
		r.way = &way{How: byNothing, Rows: s.rows}
	}
	return nil, nil, nil
}

// try asks for the second page in one way; the page is nil where that is none.
func (r *reading) try(ctx context.Context, w way, first *page, at *url.URL, s signs, have map[string]bool) (*way, *page, error) {
	ask := func(to *url.URL) (*page, bool, error) {
		if to == nil || to.Host != at.Host || to.Scheme != at.Scheme {
			return nil, false, nil
		}
		r.calls++
		p, err := r.api.get(ctx, to.String(), nil)
		if ctx.Err() != nil {
			return nil, false, ctx.Err()
		}
		if _, none := errors.AsType[*url.Error](err); none {
			return nil, false, err // nobody answered, which says nothing of the parameter
		}
		if err != nil { // it does not take the parameter
			return nil, false, nil //nolint:nilerr // that it does is what is tried
		}
		keys := r.keysOf(p.body)
		for k := range keys {
			if have[k] {
				return p, true, nil
			}
		}
		if len(keys) == 0 {
			return nil, false, nil
		}
		return p, false, nil
	}
	number := w.First
	if w.How == byPage && w.First == unknown {
		// Page 1 is the first one, or the second where they are counted from 0.
		p, same, err := ask(with(at, w.Param, "1"))
		if err != nil || p == nil {
			return nil, nil, err
		}
		if w.First = 1; !same {
			w.First = 0
			return &w, p, nil
		}
		number = 1
	}
	n := number
	to := w.to(at, first, signs{list: s.list, rows: max(s.rows, w.Rows)}, s.rows, 1, &n)
	if to == nil && w.How != byAddress && w.How != byToken {
		to = with(at, w.Param, strconv.Itoa(map[string]int{byPage: number + 1, byOffset: s.rows}[w.How]))
	}
	p, same, err := ask(to)
	if err != nil || p == nil || same {
		return nil, nil, err
	}
	return &w, p, nil
}

// keysOf names the records of a page, by their keys or, without one, by all that they are.
func (r *reading) keysOf(body any) map[string]bool {
	out := map[string]bool{}
	list, err := r.listOf(body)
	if err != nil {
		return out
	}
	for _, e := range list {
		record, ok := e.(map[string]any)
		if !ok {
			continue
		}
		key := connect.KeyOf(record, r.src.Key)
		if key == "" {
			raw, _ := json.Marshal(record)
			key = string(raw)
		}
		out[key] = true
	}
	return out
}

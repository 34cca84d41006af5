package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/ohler55/ojg/jp"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// cursor is what is remembered from one poll to the next.
type cursor struct {
	ETag     string    `json:"etag,omitempty"`
	Modified string    `json:"modified,omitempty"`
	Since    string    `json:"since,omitempty"` // the newest change seen, as the API writes it
	Whole    time.Time `json:"whole"`           // when everything was last read
	Way      *way      `json:"way,omitempty"`   // how the next page is asked for, where that was found out
	// Looked is true where it was looked whether there are more pages: what is found on them now is new.
	Looked bool `json:"looked,omitempty"`
}

// wholeEvery is how often everything is read although the API can be asked for changes alone, since it does not
// tell what is gone.
const wholeEvery = time.Hour

const maxPages = 20_000

// Poll reads every page of the list.
func (a *api) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	var c cursor
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &c)
	}
	items, err := parsePath(src.Settings["items"])
	if err != nil {
		return connect.Polled{}, err
	}
	next, err := parsePath(src.Settings["next"])
	if err != nil {
		return connect.Polled{}, err
	}
	r := &reading{api: a, src: src, items: items, next: next, emit: emit, newest: c.Since, way: c.Way, widens: len(raw) > 0 && !c.Looked, whole: true}
	address, err := url.Parse(a.address(src.Settings["path"]))
	if err != nil {
		return connect.Polled{}, &fault.Fault{Tried: "reading the path", Said: fmt.Sprintf("%q cannot be part of an address", src.Settings["path"])}
	}
	now := time.Now().UTC()
	whole := src.Settings["since"] == "" || c.Since == "" || now.Sub(c.Whole) > wholeEvery
	if !whole {
		set(address, src.Settings["since"], c.Since)
	}
	header := http.Header{}
	if whole && c.ETag != "" {
		header.Set("If-None-Match", c.ETag)
	}
	if whole && c.Modified != "" {
		header.Set("If-Modified-Since", c.Modified)
	}
	r.whole = whole
	err = r.pages(ctx, address, header)
	out := connect.Polled{Whole: whole && r.said == "", Calls: r.calls, Said: r.said}
	switch {
	case err != nil:
		return out, err
	case r.same:
		out.Same, out.Cursor = true, raw
		return out, nil
	}
	c.Since = r.newest
	if whole {
		c.Whole, c.ETag, c.Modified, c.Way, c.Looked = now, "", "", r.way, true
		if r.read == 1 { // a tag stands for one answer; what is spread over several has none
			c.ETag, c.Modified = r.etag, r.modified
		}
	}
	out.Cursor, err = json.Marshal(c)
	return out, err
}

func parsePath(text string) (jp.Expr, error) {
	if text == "" {
		return nil, nil
	}
	x, err := jp.ParseString(text)
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the JSONPath " + text, Said: err.Error(), Do: "write it like $.items[*]"}
	}
	return x, nil
}

func set(u *url.URL, name, v string) {
	q := u.Query()
	q.Set(name, v)
	u.RawQuery = q.Encode()
}

// reading is one poll under way.
type reading struct {
	api            *api
	src            connect.SourceConfig
	items, next    jp.Expr
	emit           func(connect.Item) error
	calls, records int
	read           int // pages of which the records were taken
	same           bool
	etag, modified string
	newest         string
	last           map[string]bool // keys of the page before
	whole          bool            // all records are asked for
	way            *way            // to the next page, where it was found out
	widens         bool            // pages that are found now were there before: what is on them is not new
	said           string          // what of the list could not be read
}

func (r *reading) pages(ctx context.Context, address *url.URL, header http.Header) error {
	paging := r.src.Get("paging", "by itself")
	size, _ := strconv.Atoi(r.src.Get("size", "100"))
	number, _ := strconv.Atoi(r.src.Get("first_page", "1"))
	counted := paging == "page number" || paging == "offset"
	if counted && r.src.Settings["page_param"] == "" {
		return &fault.Fault{Tried: "reading pages by number", Said: "the parameter for the page is not named", Do: "name it in the source's settings, such as page"}
	}
	if counted {
		if p := r.src.Settings["size_param"]; p != "" {
			set(address, p, strconv.Itoa(size))
		}
		if paging == "page number" {
			set(address, r.src.Settings["page_param"], strconv.Itoa(number))
		} else {
			set(address, r.src.Settings["page_param"], "0")
		}
	}
	seen := map[string]bool{}
	var ready *page // which was read already
	for address != nil {
		if seen[address.String()] || r.calls >= maxPages {
			return &fault.Fault{Tried: "reading all pages", Said: "the pages go round in a circle at " + address.Path, Do: "check how the next page is found"}
		}
		seen[address.String()] = true
		p := ready
		if p == nil {
			var err error
			if p, err = r.api.get(ctx, address.String(), header); err != nil {
				return err
			}
			r.calls++
		}
		header, ready = nil, nil
		if p.answer.Status == http.StatusNotModified {
			r.same = true
			return nil
		}
		r.etag, r.modified = p.answer.Validators()
		if r.way != nil && r.repeats(p.body) { // beyond the last page stands the last once more
			return nil
		}
		n, err := r.take(p.body)
		if err != nil {
			return err
		}
		r.read++
		if paging == "by itself" {
			address, ready, err = r.byItself(ctx, p, address, n, &number)
		} else {
			address, err = r.following(p, address, paging, n, size, &number)
		}
		if err != nil {
			return err
		}
		if address != nil && (address.Host != p.answer.URL.Host || address.Scheme != p.answer.URL.Scheme) {
			return &fault.Fault{Tried: "reading the next page", Said: "it lies on another host, " + address.Host, Do: "the credentials are not sent there; connect that host instead"}
		}
	}
	return nil
}

// repeats tells whether a page has what the one before it has.
func (r *reading) repeats(body any) bool {
	before := r.last
	r.last = r.keysOf(body)
	return r.read > 0 && len(r.last) > 0 && maps.Equal(r.last, before)
}

// byItself gives the address of the next page where nothing is said about pages, and the page where it has been read already: by the
// Link header, else by what the answer says, which is found out from the first page.
func (r *reading) byItself(ctx context.Context, p *page, now *url.URL, n int, number *int) (*url.URL, *page, error) {
	if links := p.answer.Header.Values("Link"); len(links) > 0 {
		if to := Next(links, p.answer.URL); to != nil || r.read > 1 && r.way == nil {
			return to, nil, nil
		}
	}
	s := signsIn(p.body, p.answer.Header.Get("X-Total-Count"), n)
	if r.read == 1 && (r.way == nil || r.way.How == byNothing) {
		if !r.whole {
			return nil, nil, nil
		}
		to, second, err := r.findOut(ctx, p, now, s)
		if r.way != nil {
			*number = r.way.First + 1
		}
		if second == nil {
			r.widens = false
		}
		return to, second, err
	}
	if r.way == nil {
		return nil, nil, nil
	}
	if r.read == 1 {
		r.widens, *number = false, r.way.First
	}
	return r.way.to(now, p, s, r.records, r.read, number), nil, nil
}

// following gives the address of the next page, nil after the last.
func (r *reading) following(p *page, now *url.URL, paging string, n, size int, number *int) (*url.URL, error) {
	switch paging {
	case "one page":
		if words, more, _ := signsIn(p.body, p.answer.Header.Get("X-Total-Count"), n).more(n, 1); more && r.src.Look {
			r.said = fmt.Sprintf("%s, but only %s are read, since one page is chosen as Next page of the source", words, connect.Counted(n, "record"))
		}
		return nil, nil
	case "page number", "offset":
		if n == 0 || r.src.Settings["size_param"] != "" && n < size {
			return nil, nil
		}
		u := *now
		if *number++; paging == "offset" {
			set(&u, r.src.Settings["page_param"], strconv.Itoa(r.records))
		} else {
			set(&u, r.src.Settings["page_param"], strconv.Itoa(*number))
		}
		return &u, nil
	case "field":
		if r.next == nil {
			return nil, &fault.Fault{Tried: "finding the next page", Said: "the field with the next page is not named", Do: "name it in the source's settings, such as $.next"}
		}
		text := ""
		switch v := r.next.First(p.body).(type) {
		case string:
			text = v
		case float64:
			text = value.NumberText(v)
		}
		if text == "" {
			return nil, nil
		}
		if param := r.src.Settings["page_param"]; param != "" {
			u := *now
			set(&u, param, text)
			return &u, nil
		}
		u, err := p.answer.URL.Parse(text)
		if err != nil {
			return nil, &fault.Fault{Tried: "finding the next page", Said: fmt.Sprintf("%q is no address", text), Do: "name the parameter that the token goes into"}
		}
		return u, nil
	}
	return Next(p.answer.Header.Values("Link"), p.answer.URL), nil
}

// listOf finds the records of a page.
func (r *reading) listOf(body any) (list []any, err error) {
	switch {
	case r.items != nil:
		list = r.items.Get(body)
	default:
		var ok bool
		if list, ok = body.([]any); !ok {
			if found := listsIn(body); len(found) > 0 {
				x, err := jp.ParseString(found[0].path)
				if err != nil {
					return nil, err
				}
				list = x.Get(body)
			}
		}
	}
	if len(list) == 1 { // a path to the list itself, instead of to its elements
		if inner, ok := list[0].([]any); ok {
			list = inner
		}
	}
	return list, nil
}

// take hands over the records of one page.
func (r *reading) take(body any) (int, error) {
	list, err := r.listOf(body)
	if err != nil {
		return 0, err
	}
	for _, e := range list {
		record, ok := e.(map[string]any)
		if !ok {
			return 0, &fault.Fault{Tried: "reading the records", Said: "where the records should stand, there is " + value.Describe(e), Do: "check where the records stand ($.items[*])"}
		}
		r.records++
		item, err := r.src.Item(record, connect.KeyOf(record, r.src.Key), r.records)
		if err != nil {
			return 0, err
		}
		if f := r.src.Settings["changed"]; f != "" {
			v, _ := value.ParsePath(f).Get(record)
			text := fmt.Sprint(v)
			if n, ok := v.(float64); ok {
				text = value.NumberText(n)
			}
			if at, _, ok := value.ReadMoment(text, r.api.config.Env.Workspace.Location()); ok {
				item.At = at
			}
			if later(text, r.newest) {
				r.newest = text
			}
		}
		item.Old = item.Old || r.widens && r.read > 0
		if err := r.emit(item); err != nil {
			return 0, err
		}
	}
	return len(list), nil
}

// later compares two points in time as the API writes them: as moments, as numbers, or as text.
func later(a, b string) bool {
	if a == "" || a == "<nil>" || b == "" {
		return a != "" && a != "<nil>"
	}
	x, _, okX := value.ReadMoment(a, time.UTC)
	y, _, okY := value.ReadMoment(b, time.UTC)
	if okX && okY {
		return x.After(y)
	}
	m, errM := strconv.ParseFloat(a, 64)
	n, errN := strconv.ParseFloat(b, 64)
	if errM == nil && errN == nil {
		return m > n
	}
	return a > b
}

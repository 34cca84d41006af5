// Package rest reads the records of a JSON API by asking for its lists.
package rest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/ohler55/ojg/jp"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
)

// Kind describes JSON APIs.
func Kind() *connect.Kind {
	return &connect.Kind{
		Name: "rest", Title: "JSON API", Does: "Asks an app's HTTP API for its records, and notices what is new, changed or gone",
		Settings: append([]connect.Setting{
			{Name: "address", Label: "Address", Type: "address", Required: true, Help: "where the API begins, such as https://farm.example/api"},
		}, connect.AuthSettings()...),
		Source: []connect.Setting{
			{Name: "path", Label: "Path", Type: "text", Help: "added to the address, such as /orders?status=open"},
			{Name: "items", Label: "Where the records stand", Type: "text", Help: "a JSONPath such as $.items[*]; found by itself where nothing is said", More: true},
			{Name: "changed", Label: "Field that says when a record was changed", Type: "text", More: true},
			{Name: "since", Label: "Parameter that asks only for what changed since", Type: "text", More: true, Help: "such as updated_after; without it, everything is read each time"},
			{Name: "paging", Label: "Next page", Type: "choice", Options: []string{"by itself", "Link header", "field", "page number", "offset", "one page"}, Default: "by itself", More: true},
			{Name: "next", Label: "Field with the next page", Type: "text", When: "paging=field", More: true, Help: "a JSONPath to an address or a token, such as $.next"},
			{Name: "page_param", Label: "Parameter for the page", Type: "text", When: "paging=page number,offset,field", More: true, Help: "such as page, offset or cursor"},
			{Name: "size_param", Label: "Parameter for the size of a page", Type: "text", When: "paging=page number,offset", More: true},
			{Name: "size", Label: "Records a page", Type: "number", Default: "100", When: "paging=page number,offset", More: true},
			{Name: "first_page", Label: "Number of the first page", Type: "number", Default: "1", When: "paging=page number", More: true},
			{Name: "change_by", Label: "Records are changed by", Type: "choice", Options: []string{"PATCH", "PUT"}, Default: "PATCH", More: true, Help: "sent to the record's own address, for sheets that change records"},
		},
		Write: write,
		Key:   "id", Quickest: 30 * time.Second, Slowest: 15 * time.Minute, Watched: 30 * time.Second,
		Open: func(c connect.Config) (connect.Conn, error) {
			u, err := url.Parse(c.Settings["address"])
			if err != nil || u.Host == "" {
				return nil, &connect.Trouble{Tried: "reading the address", Said: fmt.Sprintf("%q is no address", c.Settings["address"]), Do: "write it like https://farm.example/api"}
			}
			return &api{config: c}, nil
		},
	}
}

type api struct{ config connect.Config }

func (a *api) Close() error { return nil }

func (a *api) address(path string) string {
	base := a.config.Settings["address"]
	switch {
	case path == "":
		return base
	case strings.HasPrefix(path, "?"):
		return base + path
	}
	return strings.TrimSuffix(base, "/") + "/" + strings.TrimPrefix(path, "/")
}

// page is one answer, read.
type page struct {
	answer *connect.Answer
	body   any
}

func (a *api) get(ctx context.Context, address string, header http.Header) (*page, error) {
	h := a.config.Auth()
	h.Set("Accept", "application/json")
	for k, v := range header {
		h[k] = v
	}
	res, err := a.config.Env.Get(ctx, address, h)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.Status == http.StatusNotModified {
		return &page{answer: res}, nil
	}
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return nil, fmt.Errorf("reading the answer of %s: %w", res.URL.Host, err)
	}
	body, err := value.ReadJSON(raw)
	if err != nil {
		return nil, &connect.Trouble{
			Tried: "reading the answer of " + res.URL.Host, Said: fmt.Sprintf("it is not JSON that can be read: %v", err),
			Do: "check that the address is the API's and not a page for people",
		}
	}
	return &page{res, body}, nil
}

// Prove asks for the address itself.
func (a *api) Prove(ctx context.Context) []connect.Step {
	tried := "GET " + a.config.Settings["address"]
	p, err := a.get(ctx, a.address(""), nil)
	if bare(err) {
		return []connect.Step{connect.Passed(tried, "it answers, and there is nothing at this address itself; give the path of what is to be read")}
	}
	if err != nil {
		return []connect.Step{connect.Failed(tried, err)}
	}
	lists := listsIn(p.body)
	if len(lists) == 0 {
		return []connect.Step{connect.Passed(tried, "%d, %s", p.answer.Status, value.Describe(p.body))}
	}
	return []connect.Step{connect.Passed(tried, "%d, %s", p.answer.Status, connect.Counted(lists[0].count, "record"))}
}

// bare tells whether an API answered that there is nothing where it begins: its records lie at paths below.
func bare(err error) bool {
	var t *connect.Trouble
	return errors.As(err, &t) && (t.Status == http.StatusNotFound || t.Status == http.StatusMethodNotAllowed)
}

// Browse lists the lists of records in the answer of the address itself.
func (a *api) Browse(ctx context.Context) ([]connect.Choice, error) {
	p, err := a.get(ctx, a.address(""), nil)
	if bare(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []connect.Choice
	for _, l := range listsIn(p.body) {
		name := l.name
		if name == "" || name == "items" || name == "data" || name == "results" {
			u, _ := url.Parse(a.config.Settings["address"])
			name = u.Path[strings.LastIndexByte(strings.TrimSuffix(u.Path, "/"), '/')+1:]
		}
		out = append(out, connect.Choice{
			Kind: connect.KindName(name, "records"), Title: value.LabelOf(connect.KindName(name, "records")), Detail: connect.Counted(l.count, "record"), Key: l.key,
			Settings: map[string]string{"items": l.path},
		})
	}
	return out, nil
}

// found is a list of objects in an answer.
type found struct {
	path, name, key string
	count           int
}

// listsIn finds the lists of objects in an answer, the one nearest the top first.
func listsIn(v any) []found {
	var out []found
	var look func(v any, path, name string, depth int)
	look = func(v any, path, name string, depth int) {
		switch x := v.(type) {
		case []any:
			if len(x) == 0 {
				return
			}
			if first, ok := x[0].(map[string]any); ok {
				out = append(out, found{path + "[*]", name, likelyKey(first), len(x)})
			}
		case map[string]any:
			if depth > 3 {
				return
			}
			for _, k := range value.SortedKeys(x) {
				look(x[k], path+"['"+strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(k)+"']", k, depth+1)
			}
		}
	}
	look(v, "$", "", 0)
	sort.SliceStable(out, func(i, j int) bool { return strings.Count(out[i].path, "[") < strings.Count(out[j].path, "[") })
	return out
}

func likelyKey(record map[string]any) string {
	for _, name := range []string{"id", "ID", "key", "uuid", "number", "code", "name"} {
		if !value.Empty(record[name]) {
			return name
		}
	}
	return ""
}

// cursor is what is remembered from one poll to the next.
type cursor struct {
	ETag     string    `json:"etag,omitempty"`
	Modified string    `json:"modified,omitempty"`
	Since    string    `json:"since,omitempty"` // the newest change seen, as the API writes it
	Whole    time.Time `json:"whole"`           // when everything was last read
}

// wholeEvery is how often everything is read although the API can be asked for changes alone, since it does not
// tell what is gone.
const wholeEvery = time.Hour

const maxPages = 20_000

// Poll reads every page of the list.
func (a *api) Poll(ctx context.Context, src connect.Source, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
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
	r := &reading{api: a, src: src, items: items, next: next, emit: emit, newest: c.Since}
	address, err := url.Parse(a.address(src.Settings["path"]))
	if err != nil {
		return connect.Polled{}, &connect.Trouble{Tried: "reading the path", Said: fmt.Sprintf("%q cannot be part of an address", src.Settings["path"])}
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
	out := connect.Polled{Whole: whole}
	err = r.pages(ctx, address, header)
	out.Calls = r.calls
	switch {
	case err != nil:
		return out, err
	case r.same:
		out.Same, out.Cursor = true, raw
		return out, nil
	}
	c.Since = r.newest
	if whole {
		c.Whole, c.ETag, c.Modified = now, "", ""
		if r.calls == 1 { // a tag stands for one answer; what is spread over several has none
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
		return nil, &connect.Trouble{Tried: "reading the JSONPath " + text, Said: err.Error(), Do: "write it like $.items[*]"}
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
	src            connect.Source
	items, next    jp.Expr
	emit           func(connect.Item) error
	calls, records int
	same           bool
	etag, modified string
	newest         string
}

func (r *reading) pages(ctx context.Context, address *url.URL, header http.Header) error {
	paging := r.src.Get("paging", "by itself")
	size, _ := strconv.Atoi(r.src.Get("size", "100"))
	number, _ := strconv.Atoi(r.src.Get("first_page", "1"))
	counted := paging == "page number" || paging == "offset"
	if counted && r.src.Settings["page_param"] == "" {
		return &connect.Trouble{Tried: "reading pages by number", Said: "the parameter for the page is not named", Do: "name it in the source's settings, such as page"}
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
	for address != nil {
		if seen[address.String()] || r.calls >= maxPages {
			return &connect.Trouble{Tried: "reading all pages", Said: "the pages go round in a circle at " + address.Path, Do: "check how the next page is found"}
		}
		seen[address.String()] = true
		p, err := r.api.get(ctx, address.String(), header)
		if err != nil {
			return err
		}
		header = nil
		if r.calls++; p.answer.Status == http.StatusNotModified {
			r.same = true
			return nil
		}
		r.etag, r.modified = p.answer.Validators()
		n, err := r.take(p.body)
		if err != nil {
			return err
		}
		if address, err = r.following(p, address, paging, n, size, &number); err != nil {
			return err
		}
	}
	return nil
}

// following gives the address of the next page, nil after the last.
func (r *reading) following(p *page, now *url.URL, paging string, n, size int, number *int) (*url.URL, error) {
	var to *url.URL
	switch paging {
	case "one page":
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
			return nil, &connect.Trouble{Tried: "finding the next page", Said: "the field with the next page is not named", Do: "name it in the source's settings, such as $.next"}
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
			return nil, &connect.Trouble{Tried: "finding the next page", Said: fmt.Sprintf("%q is no address", text), Do: "name the parameter that the token goes into"}
		}
		to = u
	default:
		to = Next(p.answer.Header.Values("Link"), p.answer.URL)
	}
	if to != nil && (to.Host != now.Host || to.Scheme != now.Scheme) {
		return nil, &connect.Trouble{Tried: "reading the next page", Said: "it lies on another host, " + to.Host, Do: "the credentials are not sent there; connect that host instead"}
	}
	return to, nil
}

// take hands over the records of one page.
func (r *reading) take(body any) (int, error) {
	var list []any
	switch {
	case r.items != nil:
		list = r.items.Get(body)
	default:
		var ok bool
		if list, ok = body.([]any); !ok {
			if found := listsIn(body); len(found) > 0 {
				x, err := jp.ParseString(found[0].path)
				if err != nil {
					return 0, err
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
	for _, e := range list {
		record, ok := e.(map[string]any)
		if !ok {
			return 0, &connect.Trouble{Tried: "reading the records", Said: "where the records should stand, there is " + value.Describe(e), Do: "check where the records stand ($.items[*])"}
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

// write adds a record to the list that the source reads, or changes one at its own address below it.
func write(ctx context.Context, c connect.Config, src connect.Source, w connect.Write) (connect.Written, error) {
	path, _, _ := strings.Cut(src.Get("path", ""), "?")
	list := (&api{config: c}).address(path)
	return connect.WriteHTTP(ctx, c.Env, c.Auth(), list, src.Get("change_by", http.MethodPatch), w)
}

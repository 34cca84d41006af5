// Package rest reads the records of a JSON API by asking for its lists.
package rest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"sort"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Kind describes JSON APIs.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsAsked,
		Name:  "rest", Title: "JSON API", Does: "Asks an app's HTTP API for its records, and notices what is new, changed or gone",
		Settings: append([]connect.Setting{
			{Name: "address", Label: "Address", Type: "address", Required: true, Help: "where the API begins, such as https://farm.example/api"},
		}, connect.AuthSettings()...),
		Source: []connect.Setting{
			{Name: "path", Label: "Path", Type: "text", Help: "added to the address, such as /orders?status=open"},
			{Name: "items", Label: "Where the records stand", Type: "text", Help: "a JSONPath such as $.items[*]; found by itself where nothing is said", More: true},
			{Name: "changed", Label: "Field that says when a record was changed", Type: "text", More: true},
			{Name: "since", Label: "Parameter that asks only for what changed since", Type: "text", More: true, Help: "such as updated_after; without it, everything is read each time"},
			{Name: "paging", Label: "Next page", Type: "choice", Options: []string{"by itself", "Link header", "field", "page number", "offset", "one page"}, Default: "by itself", More: true, Help: "by itself: by the Link header, or by what the answer says, which is found out from the first page"},
			{Name: "next", Label: "Field with the next page", Type: "text", Required: true, When: "paging=field", More: true, Help: "a JSONPath to an address or a token, such as $.next"},
			{Name: "page_param", Label: "Parameter for the page", Type: "text", When: "paging=page number,offset,field", Needed: "paging=page number,offset", More: true, Help: "such as page, offset or cursor; where a field has the whole address of the next page there is none"},
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
				return nil, &fault.Fault{Tried: "reading the address", Said: fmt.Sprintf("%q is no address", c.Settings["address"]), Do: "write it like https://farm.example/api"}
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
	maps.Copy(h, header)
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
		return nil, &fault.Fault{
			Tried: "reading the answer of " + res.URL.Host, Said: fmt.Sprintf("it is not JSON that can be read: %v", err),
			Do: "check that the address is the API's and not a page for people",
		}
	}
	return &page{res, body}, nil
}

// Prove asks for the address itself.
func (a *api) Prove(ctx context.Context) []connect.ProofStep {
	tried := "GET " + a.config.Settings["address"]
	p, err := a.get(ctx, a.address(""), nil)
	if auth := a.config.Settings["auth"]; bare(err) && auth != "" && auth != "nothing" {
		return []connect.ProofStep{{Open: true, Tried: tried, Said: "there is nothing at this address itself, so that it does not show whether the credentials are right", Do: "give the path of what is to be read: they are tried there"}}
	}
	if bare(err) {
		return []connect.ProofStep{connect.Passed(tried, "it answers, and there is nothing at this address itself; give the path of what is to be read")}
	}
	if err != nil {
		return []connect.ProofStep{connect.Failed(tried, err)}
	}
	lists := listsIn(p.body)
	if len(lists) == 0 {
		return []connect.ProofStep{connect.Passed(tried, "%d, %s", p.answer.Status, value.Describe(p.body))}
	}
	return []connect.ProofStep{connect.Passed(tried, "%d, %s", p.answer.Status, connect.Counted(lists[0].count, "record"))}
}

// bare tells whether an API answered that there is nothing where it begins: its records lie at paths below.
func bare(err error) bool {
	var t *fault.Fault
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
				out = append(out, found{path + "[*]", name, connect.LikelyKey(filled(first)), len(x)})
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

// filled lists the fields of a record that are not empty.
func filled(record map[string]any) []string {
	var out []string
	for _, name := range value.SortedKeys(record) {
		if !value.Empty(record[name]) {
			out = append(out, name)
		}
	}
	return out
}

// write adds a record to the list that the source reads, or changes one at its own address below it.
func write(ctx context.Context, c connect.Config, src connect.SourceConfig, w connect.Write) (connect.Written, error) {
	path, _, _ := strings.Cut(src.Get("path", ""), "?")
	list := (&api{config: c}).address(path)
	return connect.WriteHTTP(ctx, c.Env, c.Auth(), list, src.Get("change_by", http.MethodPatch), w)
}

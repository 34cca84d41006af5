// Package feed reads RSS, Atom and JSON feeds.
package feed

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/mmcdole/gofeed"
	"golang.org/x/net/html/charset"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Kind describes feeds.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsAsked,
		Name:  "feed", Title: "Feed", Does: "Reads an RSS, Atom or JSON feed, and notices new and changed entries",
		Settings: append([]connect.Setting{
			{Name: "address", Label: "Address", Type: "address", Required: true, Help: "such as https://example.org/notices.atom"},
		}, connect.AuthSettings()...),
		Source: []connect.Setting{
			{Name: "new_by", Label: "An entry is new", Type: "choice", Options: []string{"when it first appears", "by the date it was published", "by the date it was changed"}, Default: "when it first appears",
				Help: "a feed that brings up old entries is better read by a date"},
		},
		Single: "entries", Key: "id", TitleField: "title", LinkField: "link",
		Quickest: time.Minute, Slowest: 30 * time.Minute,
		Fields: func(map[string]string) []value.Field {
			return []value.Field{
				connect.Field("id", value.Text), connect.Field("title", value.Text), connect.Field("link", value.Link), connect.Field("summary", value.Text), connect.Field("text", value.Text),
				connect.Field("published", value.Moment), connect.Field("changed", value.Moment), connect.Field("author", value.Text), connect.Field("categories", value.List), connect.Field("image", value.Link),
			}
		},
		Open: func(c connect.Config) (connect.Conn, error) { return &feed{c}, nil },
	}
}

type feed struct{ config connect.Config }

func (f *feed) Close() error { return nil }

// Prove reads the feed.
func (f *feed) Prove(ctx context.Context) []connect.ProofStep {
	tried := "GET " + f.config.Settings["address"]
	got, err := f.read(ctx, nil)
	if err != nil {
		return []connect.ProofStep{connect.Failed(tried, err)}
	}
	without, undated := 0, 0
	for _, v := range got.feed.Items {
		if readDates(v, f.config.Env.Workspace.Location()); Item(v).Key == "" {
			without++
		} else if v.PublishedParsed == nil && v.UpdatedParsed == nil && v.Published+v.Updated != "" {
			undated++
		}
	}
	said := ""
	if without > 0 {
		said += fmt.Sprintf("; left out: %s without an id, a link or a title", connect.Counted(without, "entry"))
	}
	if undated > 0 {
		said += "; without a date that can be read: " + connect.Counted(undated, "entry")
	}
	return []connect.ProofStep{connect.Passed(tried, "%s, %q, with %d entries%s", map[string]string{"rss": "an RSS feed", "atom": "an Atom feed", "json": "a JSON feed"}[got.feed.FeedType], got.feed.Title, len(got.feed.Items), said)}
}

// Browse offers the entries.
func (f *feed) Browse(ctx context.Context) ([]connect.Choice, error) {
	got, err := f.read(ctx, nil)
	if err != nil {
		return nil, err
	}
	return []connect.Choice{{Kind: "entries", Title: got.feed.Title, Detail: connect.Counted(len(got.feed.Items), "entry"), Key: "id"}}, nil
}

type cursor struct {
	ETag     string    `json:"etag,omitempty"`
	Modified string    `json:"modified,omitempty"`
	Newest   time.Time `json:"newest"`
}

type answer struct {
	feed           *gofeed.Feed
	etag, modified string
	same           bool
}

func (f *feed) read(ctx context.Context, c *cursor) (*answer, error) {
	h := f.config.Auth()
	h.Set("Accept", "application/atom+xml, application/rss+xml, application/feed+json, application/xml;q=0.9, */*;q=0.5")
	if c != nil && c.ETag != "" {
		h.Set("If-None-Match", c.ETag)
	}
	if c != nil && c.Modified != "" {
		h.Set("If-Modified-Since", c.Modified)
	}
	res, err := f.config.Env.Get(ctx, f.config.Settings["address"], h)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	out := &answer{same: res.Status == http.StatusNotModified}
	out.etag, out.modified = res.Validators()
	if out.same {
		return out, nil
	}
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return nil, fmt.Errorf("reading the feed: %w", err)
	}
	out.feed, err = Parse(raw, res.Header.Get("Content-Type"))
	return out, err
}

var declared = regexp.MustCompile(`^\s*<\?xml[^>]*encoding\s*=\s*["']([^"']+)["']`)

// Parse reads a feed in whatever encoding it is. What says UTF-8 and is not, is taken as Windows-1252, which it
// then nearly always is.
func Parse(raw []byte, media string) (*gofeed.Feed, error) {
	head := raw[:min(len(raw), 300)]
	says := ""
	if m := declared.FindSubmatch(head); m != nil {
		says = strings.ToLower(string(m[1]))
	} else if _, params, err := mime.ParseMediaType(media); err == nil && params["charset"] != "" {
		says = strings.ToLower(params["charset"])
		raw = recode(raw, says)
		says = "utf-8"
	}
	if (says == "" || says == "utf-8" || says == "utf8") && !utf8.Valid(raw) && !bytes.HasPrefix(raw, []byte{0xfe, 0xff}) && !bytes.HasPrefix(raw, []byte{0xff, 0xfe}) {
		raw = recode(raw, "windows-1252")
		raw = declared.ReplaceAllFunc(raw, func(m []byte) []byte { return bytes.Replace(m, []byte(says), []byte("utf-8"), 1) })
	}
	parsed, err := safely(raw)
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the feed", Said: "it is no RSS, Atom or JSON feed that can be read: " + err.Error(), Do: "check that the address is the feed's and not the page's"}
	}
	return parsed, nil
}

// safely keeps a fault of the parser, on foreign bytes, from being one of the whole.
func safely(raw []byte) (out *gofeed.Feed, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%v", p)
		}
	}()
	return gofeed.NewParser().Parse(bytes.NewReader(raw))
}

func recode(raw []byte, label string) []byte {
	r, err := charset.NewReaderLabel(label, bytes.NewReader(raw))
	if err != nil {
		return raw
	}
	out, err := io.ReadAll(r)
	if err != nil {
		return raw
	}
	return out
}

// Poll reads the feed, unless it has not changed.
func (f *feed) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	c := cursor{}
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &c)
	}
	got, err := f.read(ctx, &c)
	if err != nil {
		return connect.Polled{Calls: 1}, err
	}
	if got.same {
		return connect.Polled{Same: true, Cursor: raw, Calls: 1}, nil
	}
	by := src.Get("new_by", "when it first appears")
	shared := sharedLinks(got.feed.Items)
	newest := c.Newest
	// Oldest first, as they were written.
	for _, v := range slices.Backward(got.feed.Items) {
		readDates(v, f.config.Env.Workspace.Location())
		item := Item(v)
		if item.Key == "" {
			continue // which the proof says
		}
		if v.GUID == "" && shared[v.Link] {
			apart(&item, v)
		}
		switch by {
		case "by the date it was published":
			item.At = first(v.PublishedParsed, v.UpdatedParsed)
		case "by the date it was changed":
			item.At = first(v.UpdatedParsed, v.PublishedParsed)
		}
		if by != "when it first appears" && !c.Newest.IsZero() {
			item.Old = item.At.Before(c.Newest)
		}
		if item.At.After(newest) {
			newest = item.At
		}
		if err := emit(item); err != nil {
			return connect.Polled{Calls: 1}, err
		}
	}
	out, err := json.Marshal(cursor{got.etag, got.modified, newest})
	return connect.Polled{Cursor: out, Calls: 1}, err
}

// sharedLinks are the links that several entries without an id of their own have: they do not tell them apart.
func sharedLinks(items []*gofeed.Item) map[string]bool {
	seen, out := map[string]bool{}, map[string]bool{}
	for _, v := range items {
		if v.GUID != "" || v.Link == "" {
			continue
		}
		if seen[v.Link] {
			out[v.Link] = true
		}
		seen[v.Link] = true
	}
	return out
}

// apart names an entry by what it says as well, where others have its link.
func apart(it *connect.Item, v *gofeed.Item) {
	sum := sha256.Sum256([]byte(v.Title + "\x00" + v.Published + "\x00" + v.Description))
	it.Key += "#" + hex.EncodeToString(sum[:6])
	it.Record["id"] = it.Key
}

// zones are the names of zones that dates of feeds bear, those of RFC 822 and of Europe, in hours from UTC.
var zones = map[string]string{
	"UT": "+0000", "GMT": "+0000", "UTC": "+0000", "Z": "+0000", "WET": "+0000", "WEST": "+0100", "BST": "+0100", "CET": "+0100", "CEST": "+0200", "MEZ": "+0100", "MESZ": "+0200", "EET": "+0200", "EEST": "+0300",
	"EST": "-0500", "EDT": "-0400", "CST": "-0600", "CDT": "-0500", "MST": "-0700", "MDT": "-0600", "PST": "-0800", "PDT": "-0700",
}

// local are ways in which dates are written without a zone: the feed's own is meant then.
var local = []string{"2.1.2006 15:04:05", "2.1.2006 15:04", "2.1.2006, 15:04", "2.1.2006", "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04", "2/1/2006 15:04"}

// readDate reads a date of a feed; nil where it cannot be read.
func readDate(text string, zone *time.Location) *time.Time {
	text = strings.Join(strings.Fields(text), " ")
	if at := strings.LastIndexByte(text, ' '); at > 0 {
		if offset, named := zones[strings.ToUpper(text[at+1:])]; named {
			for _, layout := range []string{"Mon, 2 Jan 2006 15:04:05 -0700", "Mon, 2 Jan 2006 15:04 -0700", "2 Jan 2006 15:04:05 -0700", "2 Jan 2006 15:04 -0700", "Mon, 2 Jan 06 15:04:05 -0700", "2.1.2006 15:04 -0700", "2006-01-02 15:04:05 -0700"} {
				if t, err := time.Parse(layout, text[:at+1]+offset); err == nil {
					return &t
				}
			}
		}
	}
	for _, layout := range local {
		if t, err := time.ParseInLocation(layout, text, zone); err == nil {
			return &t
		}
	}
	return nil
}

// readDates reads the dates of an entry that the reader of feeds does not, or reads in the wrong zone.
func readDates(v *gofeed.Item, zone *time.Location) {
	if t := readDate(v.Published, zone); t != nil {
		v.PublishedParsed = t
	}
	if t := readDate(v.Updated, zone); t != nil {
		v.UpdatedParsed = t
	}
}

func first(times ...*time.Time) time.Time {
	for _, t := range times {
		if t != nil {
			return *t
		}
	}
	return time.Time{}
}

// Item makes a record of an entry. It is named by its id, else by its link, else by its title.
func Item(e *gofeed.Item) connect.Item {
	r := map[string]any{}
	put := func(name, v string) {
		if v = strings.TrimSpace(v); v != "" {
			r[name] = v
		}
	}
	put("title", text(e.Title))
	put("link", e.Link)
	put("summary", text(e.Description))
	put("text", text(e.Content))
	for _, t := range []struct {
		name string
		at   *time.Time
	}{{"published", e.PublishedParsed}, {"changed", e.UpdatedParsed}} {
		if t.at != nil {
			r[t.name] = t.at.UTC().Format(time.RFC3339)
		}
	}
	if len(e.Authors) > 0 && e.Authors[0] != nil {
		put("author", e.Authors[0].Name)
	}
	if len(e.Categories) > 0 {
		list := make([]any, len(e.Categories))
		for i, c := range e.Categories {
			list[i] = c
		}
		r["categories"] = list
	}
	if e.Image != nil {
		put("image", e.Image.URL)
	}
	key := e.GUID
	for _, other := range []string{e.Link, e.Title} {
		if strings.TrimSpace(key) == "" {
			key = other
		}
	}
	if key = strings.TrimSpace(key); len(key) > 400 {
		key = key[:400]
	}
	key = strings.ToValidUTF8(key, "\uFFFD")
	r["id"] = key
	return connect.Item{Key: key, Record: r, At: first(e.UpdatedParsed, e.PublishedParsed)}
}

var (
	tags    = regexp.MustCompile(`(?s)<(?:script|style)\b.*?</(?:script|style)>|<[^>]*>`)
	blanks  = regexp.MustCompile(`[ \t]+`)
	newline = regexp.MustCompile(`(?i)<br\s*/?>|</p>|</li>|</div>|</h[1-6]>`)
)

var entities = strings.NewReplacer("&lt;", "<", "&gt;", ">", "&quot;", `"`, "&#39;", "'", "&apos;", "'", "&nbsp;", " ", "&#160;", " ", "&amp;", "&")

// text takes the markup away from what an entry says.
func text(s string) string {
	if !strings.ContainsAny(s, "<&") {
		return s
	}
	s = newline.ReplaceAllString(s, "\n")
	s = tags.ReplaceAllString(s, "")
	return strings.TrimSpace(blanks.ReplaceAllString(entities.Replace(s), " "))
}

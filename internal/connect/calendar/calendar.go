// Package calendar reads events and to-dos of an iCalendar file or of a CalDAV server.
package calendar

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/emersion/go-webdav"
	"github.com/emersion/go-webdav/caldav"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Kind describes calendars.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsAsked,
		Name:  "calendar", Title: "Calendar", Does: "Reads events and to-dos, each time of a recurring one by itself, from an iCalendar file or a CalDAV server",
		Settings: append([]connect.Setting{
			{Name: "how", Label: "The calendar is", Type: "choice", Options: []string{"a file", "on a CalDAV server"}, Default: "a file"},
			{Name: "address", Label: "Address", Type: "address", Required: true, Help: "of the .ics file, or of the CalDAV server"},
		}, connect.AuthSettings()...),
		Source: []connect.Setting{
			{Name: "path", Label: "Calendar", Type: "text", Help: "on the server", More: true},
			{Name: "ahead", Label: "Look ahead", Type: "text", Default: "90d", More: true, Help: "how far recurring events are told out"},
			{Name: "back", Label: "Look back", Type: "text", Default: "30d", More: true},
		},
		Key: "id", TitleField: "title", LinkField: "link", Quickest: time.Minute, Slowest: 30 * time.Minute,
		Open: func(c connect.Config) (connect.Conn, error) { return &calendar{c}, nil },
	}
}

type calendar struct{ config connect.Config }

func (c *calendar) Close() error { return nil }

func (c *calendar) onServer() bool { return c.config.Settings["how"] == "on a CalDAV server" }

// signedIn is an HTTP client that signs every call.
type signedIn struct{ config connect.Config }

func (s signedIn) Do(req *http.Request) (*http.Response, error) {
	maps.Copy(req.Header, s.config.Auth())
	req.Header.Set("User-Agent", connect.Agent)
	res, err := s.config.Env.HTTP.Do(req)
	if err == nil && res.StatusCode >= 400 {
		raw, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
		res.Body.Close()
		t := &fault.Fault{Tried: req.Method + " " + req.URL.Path, Said: connect.Words(raw, res.Status), Wait: connect.RetryAfter(res.Header.Get("Retry-After"), time.Now())}
		switch res.StatusCode {
		case http.StatusUnauthorized, http.StatusForbidden:
			t.Do, t.Who = "check the user and the password, and the right to read the calendar", "the owner of the calendar"
		case http.StatusNotFound, http.StatusMethodNotAllowed:
			t.Do = "check the address; it is no CalDAV server's"
		}
		return nil, t
	}
	return res, err
}

// Prove reads the file, or lists the server's calendars.
func (c *calendar) Prove(ctx context.Context) []connect.ProofStep {
	if !c.onServer() {
		tried := "GET " + c.config.Settings["address"]
		cals, _, err := c.file(ctx, &mark{})
		if err != nil {
			return []connect.ProofStep{connect.Failed(tried, err)}
		}
		n := 0
		for _, cal := range cals {
			n += len(entries(cal))
		}
		return []connect.ProofStep{connect.Passed(tried, "an iCalendar file with %d entries", n)}
	}
	list, err := c.Browse(ctx)
	if err != nil {
		return []connect.ProofStep{connect.Failed("listing the calendars at "+c.config.Settings["address"], err)}
	}
	if len(list) == 0 {
		return []connect.ProofStep{{Tried: "listing the calendars", Said: "there is none", Do: "share a calendar with this user", Who: "the owner of the calendar"}}
	}
	return []connect.ProofStep{connect.Passed("listing the calendars", "%s", connect.Counted(len(list), "calendar"))}
}

// Browse lists the server's calendars.
func (c *calendar) Browse(ctx context.Context) ([]connect.Choice, error) {
	if !c.onServer() {
		return []connect.Choice{{Kind: "events", Title: "Events and to-dos", Key: "id", Settings: map[string]string{}}}, nil
	}
	client, err := caldav.NewClient(signedIn{c.config}, c.config.Settings["address"])
	if err != nil {
		return nil, err
	}
	principal, err := client.FindCurrentUserPrincipal(ctx)
	if err != nil {
		return nil, plain("finding the user", err)
	}
	home, err := client.FindCalendarHomeSet(ctx, principal)
	if err != nil {
		return nil, plain("finding the user's calendars", err)
	}
	list, err := client.FindCalendars(ctx, home)
	if err != nil {
		return nil, plain("listing the calendars", err)
	}
	var out []connect.Choice
	for _, cal := range list {
		title := cal.Name
		if title == "" {
			title = strings.Trim(cal.Path, "/")
		}
		out = append(out, connect.Choice{Kind: connect.KindName(title, "events"), Title: title, Detail: cal.Description, Key: "id", Settings: map[string]string{"path": cal.Path}})
	}
	return out, nil
}

func plain(tried string, err error) error {
	var u *url.Error
	for e := err; e != nil; {
		t := &fault.Fault{}
		if errors.As(e, &t) {
			return t
		}
		x := &url.Error{}
		if errors.As(e, &x) {
			u = x
		}
		w, ok := e.(interface{ Unwrap() error })
		if !ok {
			break
		}
		e = w.Unwrap()
	}
	if u != nil {
		err = u.Err
	}
	return &fault.Fault{Tried: tried, Said: err.Error(), Do: "check that the address is a CalDAV server's"}
}

type mark struct {
	ETag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"`
	// Told is the end of what has been told out; as the days go by, an unchanged file brings new times.
	Told time.Time `json:"told"`
}

func (c *calendar) file(ctx context.Context, m *mark) ([]*ical.Calendar, *mark, error) {
	h := c.config.Auth()
	if m.ETag != "" {
		h.Set("If-None-Match", m.ETag)
	}
	if m.Modified != "" {
		h.Set("If-Modified-Since", m.Modified)
	}
	res, err := c.config.Env.Get(ctx, c.config.Settings["address"], h)
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	if res.Status == http.StatusNotModified {
		return nil, nil, nil
	}
	cals, err := Decode(res.Body)
	m = &mark{}
	m.ETag, m.Modified = res.Validators()
	return cals, m, err
}

// Decode reads every calendar of a file. A file that ends in the middle is an error.
func Decode(r io.Reader) (out []*ical.Calendar, err error) {
	defer func() {
		if p := recover(); p != nil { // a fault of the parser on foreign bytes
			out, err = nil, &fault.Fault{Tried: "reading the calendar", Said: fmt.Sprint(p)}
		}
	}()
	dec := ical.NewDecoder(r)
	for {
		cal, err := dec.Decode()
		if errors.Is(err, io.EOF) && len(out) > 0 {
			return out, nil
		}
		if err != nil {
			return nil, &fault.Fault{Tried: "reading the calendar", Said: "it is no iCalendar file that can be read: " + err.Error(), Do: "check that the address is the calendar's and not the page's"}
		}
		out = append(out, cal)
	}
}

// Poll reads the calendar. Every time of a recurring entry within the window is a record of its own.
func (c *calendar) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	var last mark
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &last)
	}
	zone := c.config.Env.Workspace.Location()
	window, err := windowOf(src, time.Now(), zone)
	out := connect.Polled{Calls: 1, Whole: true}
	if err != nil {
		return out, err
	}
	var cals []*ical.Calendar
	m := &mark{}
	if c.onServer() {
		cals, err = c.query(ctx, src, window)
	} else {
		if window.to.Sub(last.Told) > 6*time.Hour {
			last.ETag, last.Modified = "", ""
		}
		cals, m, err = c.file(ctx, &last)
	}
	if err != nil {
		return out, err
	}
	if cals == nil && m == nil {
		return connect.Polled{Calls: 1, Same: true, Cursor: raw}, nil
	}
	for _, cal := range cals {
		items, err := window.items(cal)
		if err != nil {
			return out, err
		}
		for _, it := range items {
			if err := emit(it); err != nil {
				return out, err
			}
		}
	}
	out.Forget = window.past
	m.Told = window.to
	out.Cursor, err = json.Marshal(m)
	return out, err
}

func (c *calendar) query(ctx context.Context, src connect.SourceConfig, w *window) ([]*ical.Calendar, error) {
	client, err := caldav.NewClient(signedIn{c.config}, c.config.Settings["address"])
	if err != nil {
		return nil, err
	}
	cals := []*ical.Calendar{}
	for _, comp := range []string{ical.CompEvent, ical.CompToDo} {
		filter := caldav.CompFilter{Name: comp}
		if comp == ical.CompEvent {
			filter.Start, filter.End = w.from.UTC(), w.to.UTC()
		}
		list, err := client.QueryCalendar(ctx, src.Settings["path"], &caldav.CalendarQuery{
			CompRequest: caldav.CalendarCompRequest{Name: "VCALENDAR", AllProps: true, AllComps: true},
			CompFilter:  caldav.CompFilter{Name: "VCALENDAR", Comps: []caldav.CompFilter{filter}},
		})
		if err != nil {
			return nil, plain("reading the calendar", err)
		}
		for _, o := range list {
			cals = append(cals, o.Data)
		}
	}
	return cals, nil
}

var _ webdav.HTTPClient = signedIn{}

func windowOf(src connect.SourceConfig, now time.Time, zone *time.Location) (*window, error) {
	ahead, err := value.ParseSpan(src.Get("ahead", "90d"))
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the settings", Said: err.Error()}
	}
	back, err := value.ParseSpan(src.Get("back", "30d"))
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the settings", Said: err.Error()}
	}
	return &window{from: now.Add(-back), to: now.Add(min(ahead, 3*366*24*time.Hour)), zone: zone}, nil
}

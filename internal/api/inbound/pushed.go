package inbound

import (
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/emersion/go-ical"
	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/store"
)

// fedMost is how many posts a feed has, the newest first.
const fedMost = 100

// fed is a post in a feed.
type fed struct {
	key, title, text, html, link string
	at, changed                  time.Time
}

// showFeed answers GET /feed/{connection}/{key}/{place}.atom and .ics with what was told there. Without a place it is all of it.
func (in *Inbound) showFeed(w http.ResponseWriter, r *http.Request) {
	c := in.keyed(w, r, connect.DoorFeed)
	if c == nil {
		return
	}
	file := chi.URLParam(r, "file")
	place, atom := strings.CutSuffix(file, ".atom")
	if !atom {
		var ok bool
		if place, ok = strings.CutSuffix(file, ".ics"); !ok {
			kit.WriteProblem(w, http.StatusNotFound, "path", "a feed ends in .atom or in .ics")
			return
		}
	}
	if place == "all" {
		place = ""
	}
	posts, err := in.Engine.Store.Fed(r.Context(), c.ID, place, fedMost)
	if err != nil {
		kit.Busy(w)
		return
	}
	list := fedOf(posts)
	w.Header().Set("Cache-Control", "private, max-age=60")
	w.Header().Set("X-Robots-Tag", "noindex")
	title := c.Title
	if place != "" {
		title += ": " + place
	}
	base := strings.TrimSuffix(in.PublicURL, "/") + r.URL.Path
	if atom {
		w.Header().Set("Content-Type", "application/atom+xml; charset=utf-8")
		_, _ = w.Write(atomOf(title, base, list, in.Engine.Now())) //nolint:gosec // every text in it is written by encoding/xml, which escapes it
		return
	}
	w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
	raw, err := icalOf(title, list, in.Engine.Now())
	if err != nil {
		kit.WriteProblem(w, http.StatusInternalServerError, "", err.Error())
		return
	}
	_, _ = w.Write(raw)
}

// fedOf makes entries of posts, the newest first; an edit stands in the place of what it changed.
func fedOf(posts []store.Post) []fed {
	byID := map[int64]int{}
	var out []fed
	for _, p := range posts { // the oldest first
		doc, err := message.Stored(p.Body)
		if err != nil || p.SentAt == nil {
			continue
		}
		r := message.Render(doc, message.Mail)
		f := fed{key: p.Key, title: r.Subject, text: r.Text, html: r.HTML, at: *p.SentAt, changed: *p.SentAt}
		if links := doc.AllLinks(); len(links) > 0 {
			f.link = links[0].To
		}
		if p.Updates != nil {
			if i, ok := byID[*p.Updates]; ok {
				f.key, f.at = out[i].key, out[i].at
				out[i] = f
				byID[p.ID] = i
				continue
			}
		}
		byID[p.ID] = len(out)
		out = append(out, f)
	}
	slices.Reverse(out)
	return out
}

type (
	atomFeed struct {
		XMLName xml.Name    `xml:"http://www.w3.org/2005/Atom feed"`
		ID      string      `xml:"id"`
		Title   string      `xml:"title"`
		Updated string      `xml:"updated"`
		Author  string      `xml:"author>name"`
		Links   []atomLink  `xml:"link"`
		Entries []atomEntry `xml:"entry"`
	}
	atomLink struct {
		Rel  string `xml:"rel,attr,omitempty"`
		Href string `xml:"href,attr"`
	}
	atomEntry struct {
		ID        string     `xml:"id"`
		Title     string     `xml:"title"`
		Published string     `xml:"published"`
		Updated   string     `xml:"updated"`
		Links     []atomLink `xml:"link"`
		Content   atomText   `xml:"content"`
	}
	atomText struct {
		Type string `xml:"type,attr"`
		Text string `xml:",chardata"`
	}
)

// clean takes out what XML has no way to write.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0xFFFE || r == 0xFFFF {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "\uFFFD"))
}

// iri names something by what it is called here, in a way that is the same for ever and holds nothing that no IRI may (RFC 3987).
func iri(what, name string) string {
	return "urn:dorfbote:" + what + ":" + strings.ReplaceAll(url.QueryEscape(clean(name)), "+", "%20")
}

// folded breaks lines of a calendar that are longer than 75 octets (RFC 5545, 3.1), never within a character.
func folded(text string) string {
	var out strings.Builder
	for line := range strings.SplitSeq(strings.TrimSuffix(text, "\r\n"), "\r\n") {
		for room := 75; len(line) > room; room = 74 {
			cut := room
			for cut > 0 && !utf8.RuneStart(line[cut]) {
				cut--
			}
			out.WriteString(line[:cut] + "\r\n ")
			line = line[cut:]
		}
		out.WriteString(line + "\r\n")
	}
	return out.String()
}

// atomOf writes a feed (RFC 4287).
func atomOf(title, self string, list []fed, now time.Time) []byte {
	f := atomFeed{ID: iri("feed", title), Title: clean(title), Updated: now.UTC().Format(time.RFC3339), Author: "Dorfbote", Links: []atomLink{{"self", self}}}
	if len(list) > 0 {
		f.Updated = list[0].changed.UTC().Format(time.RFC3339)
	}
	for _, e := range list {
		entry := atomEntry{
			ID: iri("post", e.key), Title: clean(e.title), Published: e.at.UTC().Format(time.RFC3339), Updated: e.changed.UTC().Format(time.RFC3339),
			Content: atomText{"html", clean(e.html)},
		}
		if e.link != "" {
			entry.Links = []atomLink{{"alternate", e.link}}
		}
		f.Entries = append(f.Entries, entry)
	}
	raw, err := xml.MarshalIndent(f, "", " ")
	if err != nil {
		return []byte(xml.Header)
	}
	return append([]byte(xml.Header), raw...)
}

// icalOf writes a calendar (RFC 5545), in which each post is an event of its moment.
func icalOf(title string, list []fed, now time.Time) ([]byte, error) {
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropProductID, "-//Dorfbote//EN")
	cal.Props.SetText("X-WR-CALNAME", clean(title))
	for _, e := range list {
		ev := ical.NewEvent()
		ev.Props.SetText(ical.PropUID, e.key+"@dorfbote")
		ev.Props.SetDateTime(ical.PropDateTimeStamp, e.changed.UTC())
		ev.Props.SetDateTime(ical.PropDateTimeStart, e.at.UTC())
		ev.Props.SetText(ical.PropSummary, clean(e.title))
		ev.Props.SetText(ical.PropDescription, clean(e.text))
		if e.link != "" {
			ev.Props.Set(&ical.Prop{Name: ical.PropURL, Value: e.link, Params: ical.Params{}})
		}
		cal.Children = append(cal.Children, ev.Component)
	}
	if len(list) == 0 { // a calendar has something in it
		todo := ical.NewEvent()
		todo.Props.SetText(ical.PropUID, "nothing-yet@dorfbote")
		todo.Props.SetDateTime(ical.PropDateTimeStamp, now.UTC())
		todo.Props.SetDateTime(ical.PropDateTimeStart, now.UTC())
		todo.Props.SetText(ical.PropSummary, "Nothing has been told here yet")
		cal.Children = append(cal.Children, todo.Component)
	}
	var b strings.Builder
	if err := ical.NewEncoder(&b).Encode(cal); err != nil {
		return nil, fmt.Errorf("writing the calendar: %w", err)
	}
	return []byte(folded(b.String())), nil
}

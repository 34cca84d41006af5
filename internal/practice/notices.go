package practice

import (
	"encoding/xml"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// The notices of the valley, as a feed, and its holidays, as a calendar: both are written anew with each day, the same
// whenever they are asked for within it.

var noticeTexts = []struct{ title, text, tag string }{
	{"Road over the Mill bridge closed", "From six to ten; tours of the Mill valley go by the upper road.", "roads"},
	{"Hygiene check of the tanks", "The collection point in the Upper valley is checked this week.", "hygiene"},
	{"Ice on the steep stretch", "Chains above Sonnleiten until further notice.", "roads"},
	{"New rule for hoses", "Hoses are changed after ninety days from now on.", "hygiene"},
	{"Market day", "The square is closed to lorries until noon.", "roads"},
	{"Water is turned off", "In the Middle valley between nine and eleven.", "hygiene"},
}

type atomEntry struct {
	ID        string `xml:"id"`
	Title     string `xml:"title"`
	Published string `xml:"published"`
	Updated   string `xml:"updated"`
	Summary   string `xml:"summary"`
	Category  struct {
		Term string `xml:"term,attr"`
	} `xml:"category"`
	Link struct {
		Href string `xml:"href,attr"`
	} `xml:"link"`
}

func (s *Server) noticeRoutes(r chi.Router) {
	r.Get("/notices.atom", s.notices)
	r.Get("/holidays.ics", s.holidays)
}

// noticesKept is how many days of notices the feed holds; one comes about every second day.
const noticesKept = 30

func (s *Server) notices(w http.ResponseWriter, r *http.Request) {
	feed := struct {
		XMLName xml.Name    `xml:"http://www.w3.org/2005/Atom feed"`
		ID      string      `xml:"id"`
		Title   string      `xml:"title"`
		Updated string      `xml:"updated"`
		Entries []atomEntry `xml:"entry"`
	}{ID: "urn:lindental:notices", Title: "Notices of Lindental"}
	today := time.Now().UTC().Truncate(24 * time.Hour)
	for back := range noticesKept {
		day := today.AddDate(0, 0, -back)
		n := day.Unix() / 86400
		if n*7%5 < 2 {
			continue
		}
		t := noticeTexts[n*13%int64(len(noticeTexts))]
		e := atomEntry{ID: fmt.Sprintf("urn:lindental:notice:%d", n), Title: t.title, Summary: t.text, Published: day.Add(5 * time.Hour).Format(time.RFC3339)}
		e.Updated, e.Category.Term, e.Link.Href = e.Published, t.tag, fmt.Sprintf("http://%s/notices.atom#%d", r.Host, n)
		if feed.Updated == "" {
			feed.Updated = e.Updated
		}
		feed.Entries = append(feed.Entries, e)
	}
	w.Header().Set("Content-Type", "application/atom+xml")
	w.Header().Set("ETag", fmt.Sprintf(`"notices-%d"`, today.Unix()/86400))
	if r.Header.Get("If-None-Match") == w.Header().Get("ETag") {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	_, _ = w.Write([]byte(xml.Header))
	_ = xml.NewEncoder(w).Encode(feed)
}

// holidays are invented, two a season.
func (s *Server) holidays(w http.ResponseWriter, _ *http.Request) {
	var b strings.Builder
	b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Lindental//Holidays//EN\r\n")
	for _, h := range []struct{ uid, title, day string }{
		{"new-year", "New Year", "0101"}, {"alp", "Going up to the Alp", "0525"}, {"founders", "Founders' day", "0801"}, {"down", "Coming down from the Alp", "0921"},
		{"cheese", "Day of the cheese", "1130"}, {"year-end", "Year's end", "1231"},
	} {
		fmt.Fprintf(&b, "BEGIN:VEVENT\r\nUID:%s@lindental.example\r\nDTSTAMP:20240101T000000Z\r\nSUMMARY:%s\r\nDTSTART;VALUE=DATE:2024%s\r\nRRULE:FREQ=YEARLY\r\nEND:VEVENT\r\n", h.uid, h.title, h.day)
	}
	b.WriteString("END:VCALENDAR\r\n")
	w.Header().Set("Content-Type", "text/calendar")
	_, _ = w.Write([]byte(b.String()))
}

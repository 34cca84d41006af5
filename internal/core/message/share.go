package message

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
)

// SharedFor is for how long a shared page is shown where the sheet does not say.
const SharedFor = 30 * 24 * time.Hour

// Shared is what a page for people without an account shows: the chosen fields as they were when the message was told.
type Shared struct {
	Fields []SharedField `json:"fields"`
	For    string        `json:"for"` // a span, from when the message was told
	// N is the page's place in the sheet, by which it is renewed: it stays the same whichever links are filled in.
	N *int `json:"n,omitempty"`
}

// SharedField is one field of a shared page.
type SharedField struct {
	Path  string `json:"path"`
	Label string `json:"label"`
	Value string `json:"value"`
}

type shareTemplate struct {
	fields []column
	lasts  time.Duration
}

// compileShare makes a shared page ready. Only fields of the record may be shown, by their paths.
func compileShare(l *LinkSpec, words *formula.Words, path string, problems *report.List) *shareTemplate {
	s := &shareTemplate{lasts: l.For}
	if s.lasts == 0 {
		s.lasts = SharedFor
	}
	for i, t := range l.Share {
		t.S = strings.TrimPrefix(strings.Trim(strings.TrimSpace(t.S), "${} "), "record.")
		p, f := fieldIn(words.Schema, t, "the record", fmt.Sprintf("%s.share[%d]", path, i), problems)
		s.fields = append(s.fields, column{path: p, label: labelOf(f, p)})
	}
	return s
}

// givesAway warns where what heads a page, which is the link's text, shows more than the fields that were chosen.
func (s *shareTemplate) givesAway(text *formula.Template, at report.Text, path string, problems *report.List) {
	for _, name := range text.Reads() {
		shown := name == "now" || slices.ContainsFunc(s.fields, func(c column) bool {
			own := "record." + c.path.String()
			return name == own || strings.HasPrefix(name, own+".")
		})
		if root, _, _ := strings.Cut(name, "."); shown || root == "arrival" {
			continue
		}
		problems.Warn(at.At, path, "", "the page is headed by this text, which shows %s, and that is none of its fields; whoever has the link reads it", name)
	}
}

func (s *shareTemplate) fill(sc *formula.Scope, words *formula.Words) *Shared {
	record := words.Record(sc.Record, words.Schema)
	out := &Shared{For: s.lasts.String()}
	for _, c := range s.fields {
		v, _ := c.path.Get(record)
		out.Fields = append(out.Fields, SharedField{c.path.String(), c.label, shownCell(v, words)})
	}
	return out
}

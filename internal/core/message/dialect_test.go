package message

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
)

var update = flag.Bool("update", false, "write the golden files")

func filled(t testing.TB, record map[string]any) *Document {
	text := func(s string) report.Text { return report.Text{S: s, At: report.Pos{Line: 1, Column: 1}} }
	ref := func(s string) *report.Text { t := text(s); return &t }
	var problems report.List
	m := Compile(&Spec{
		Name: "m", Title: ref("${record.id}: ${record.farm}"), Tone: ref("warning"),
		Body:  ref("# For ${record.farm}\n\n**${record.note}** and *more* by [${record.who}](https://x.example/${record.id}).\n\n- one `${record.note}`\n- two\n\n> said ${record.who}\n\n1. a\n2. b\n"),
		Facts: []FactSpec{{text("Driver"), text("${record.who}")}, {text("Note"), text("${record.note}")}},
		Link:  &LinkSpec{Text: text("Open ${record.id}"), To: text("https://dairy.example/c/${record.id}")},
	}, &formula.Words{}, "messages.m", &problems)
	require.Empty(t, problems.Problems)
	doc, err := m.Fill(&formula.Scope{Record: record})
	require.NoError(t, err)
	return doc
}

func TestDialects(t *testing.T) {
	for name, record := range map[string]map[string]any{
		"plain":   {"id": "COL-1", "farm": "Sonnleiten", "note": "710 litres", "who": "Jonas"},
		"hostile": {"id": "C<1>&\"'", "farm": "<script>alert(1)</script>\n\rBcc: x@y", "note": "**b** [l](javascript:alert(1)) @all `c` <b>", "who": "</td><img src=x onerror=1>"},
		"long":    {"id": "COL-1", "farm": "Sonnleiten", "note": strings.Repeat("long words ", 200), "who": "Żółw"},
	} {
		t.Run(name, func(t *testing.T) {
			doc := filled(t, record)
			var all []Rendered
			for _, d := range Dialects {
				all = append(all, Render(doc, d))
			}
			got, err := json.MarshalIndent(all, "", " ")
			require.NoError(t, err)
			golden := filepath.Join("testdata", "dialects-"+name+".json")
			if *update {
				require.NoError(t, os.WriteFile(golden, append(got, '\n'), 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			assert.Equal(t, string(want), string(got)+"\n")
		})
	}
}

// skeleton is the tags of some HTML, and its text.
func skeleton(t testing.TB, src string) (tags []string, text string) {
	z := html.NewTokenizer(strings.NewReader(src))
	var b strings.Builder
	for {
		switch z.Next() {
		case html.ErrorToken:
			return tags, b.String()
		case html.TextToken:
			b.Write(z.Text()) // as it is before anything is made of it
		case html.StartTagToken, html.SelfClosingTagToken:
			tok := z.Token()
			tag := tok.Data
			for _, a := range tok.Attr {
				tag += " " + a.Key
				if a.Key == "href" {
					require.Regexp(t, "^(https?|mailto|tel):", a.Val)
				}
			}
			tags = append(tags, tag)
		case html.EndTagToken:
			tok := z.Token()
			tags = append(tags, "/"+tok.Data)
		}
	}
}

// Whatever a record holds, a mail has the same tags, a subject is one line, and a text message keeps to its length.
func FuzzDialects(f *testing.F) {
	for _, s := range []string{"x", "<b>", "a\nb", "](javascript:x)", "\"><img>", "&lt;", "**", "\r\nBcc: a", "é", strings.Repeat("w ", 900)} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if !utf8.ValidString(s) || strings.TrimSpace(s) == "" || strings.ContainsRune(s, 0) {
			t.Skip()
		}
		with := filled(t, map[string]any{"id": "i", "farm": s, "note": s, "who": s})
		mail := Render(with, Mail)
		tags, _ := skeleton(t, mail.HTML)
		want, _ := skeleton(t, Render(filled(t, map[string]any{"id": "i", "farm": "x", "note": "x", "who": "x"}), Mail).HTML)
		breaks := strings.Join(tags, " ")
		for strings.Contains(breaks, " br") { // a text's own line ends are breaks
			breaks = strings.Replace(breaks, " br", "", 1)
		}
		require.Equal(t, strings.Join(want, " "), breaks)
		require.NotContains(t, mail.Subject, "\n")
		require.NotContains(t, mail.Subject, "\r")
		require.LessOrEqual(t, utf8.RuneCountInString(Render(with, Plain).Text), plainLimit)
		require.LessOrEqual(t, Render(with, Short).Parts, shortParts)
	})
}

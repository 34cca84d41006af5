package message

import (
	"encoding/json"
	"html"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func marksOf(t testing.TB, text string) *Marks {
	t.Helper()
	m, err := ReadMarks(text)
	require.NoError(t, err)
	return m
}

const (
	angular = `{"bold":["*","*"],"italic":["_","_"],"code":["` + "`" + `","` + "`" + `"],"link":"<{to}|{text}>","mention":"<@{to}>","list":"- ","quote":"> ","escape":"entities"}`
	square  = `{"bold":["[b]","[/b]"],"link":"[url={to}]{text}[/url]","list":"* ","escape":"wide"}`
	slashed = `{"bold":["**","**"],"italic":["//","//"],"link":"[[{to}|{text}]]","line":"\\\\ ","list":"* ","escape":"backslash"}`
)

func TestMarks(t *testing.T) {
	body := ReadMarkdown("# Late\n\n**Much _milk_** from [the farm](https://x.example/a_b*c|d), `x*y`\nand more\n\n- one\n- two\n\n> said\n> so\n\n```\na\nb\n```\n")
	body = append(body, Block{Kind: Paragraph, Inlines: []Inline{{Kind: MentionInline, Text: "Jonas *", To: "U|1"}, {Kind: MentionInline, Text: "- Lea"}}})
	d := &Document{Body: body}
	assert.Equal(t, "*Late*\n\n*Much _milk_* from <https://x.example/a%5Fb%2Ac%7Cd|the farm>, `x＊y`\nand more\n\n- one\n- two\n\n> said\n> so\n\n`a`\n`b`\n\n<@U｜1>&#45; Lea", marksOf(t, angular).Write(d))
	assert.Equal(t, "[b]Late[/b]\n\n[b]Much milk[/b] from [url=https://x.example/a_b*c|d]the farm[/url], x*y\nand more\n\n* one\n* two\n\nsaid\nso\n\na\nb\n\nJonas *- Lea", marksOf(t, square).Write(d))
	assert.Equal(t, "a ［b］", marksOf(t, square).Text("a [b]"))
	assert.Equal(t, `x\\ \* y`, marksOf(t, slashed).Text("x\n* y"))
	for text, want := range map[string]string{
		`{"bold":["b","b"]}`: "bold: a mark holds a sign", `{"bold":["*",""]}`: "bold: ", `{"link":"{text}"}`: "link: ", `{"mention":"@"}`: "mention: ",
		`{"list":" - "}`: "list: ", `{"list":"o "}`: "list: ", `{"quote":"1. "}`: "quote: ", `{"escape":"x"}`: "escape: ", `{"line":"br"}`: "line: ", `{"bolt":["*","*"]}`: "unknown field", `[`: "cannot be read",
	} {
		_, err := ReadMarks(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// read takes the escapes of a text out, and says whether a sign of marks stands in it that is not escaped.
func read(m *Marks, s string) (text string, marked bool) {
	anywhere, _ := m.signs()
	s = strings.ReplaceAll(s, m.Line, "\n")
	switch m.Escape {
	case Entities:
		if strings.ContainsAny(strings.NewReplacer("&#", "", "&amp;", "", "&lt;", "", "&gt;", "", "&quot;", "").Replace(s), strings.NewReplacer("&", "", "#", "", ";", "").Replace(anywhere)) {
			marked = true
		}
		return html.UnescapeString(s), marked
	case Backslash:
		var b strings.Builder
		r := []rune(s)
		for i := 0; i < len(r); i++ {
			if r[i] == '\\' && i+1 < len(r) {
				i++
			} else if strings.ContainsRune(anywhere, r[i]) {
				marked = true
			}
			b.WriteRune(r[i])
		}
		return b.String(), marked
	}
	return strings.Map(func(r rune) rune {
		if r >= '！' && r <= '～' {
			return r - '！' + '!'
		}
		return r
	}, s), strings.ContainsAny(s, anywhere)
}

// Whatever a text holds, and whatever the table, no sign of a mark stands in what is written that is not escaped; and the text is
// read back as it was.
func FuzzMarks(f *testing.F) {
	for _, table := range []string{angular, square, slashed} {
		f.Add(table, "*bold* <https://x|y> [b]x[/b] \\* &#42; - x\n> y")
	}
	f.Add(`{"bold":["a*","*"],"list":"x","escape":"backslash"}`, "\n\\")
	f.Fuzz(func(t *testing.T, table, text string) {
		m, err := ReadMarks(table)
		if err != nil || strings.Trim(m.Line, "\n") != "" && m.Escape != Wide { // a line's own mark is read apart below
			return
		}
		text = strings.Map(func(r rune) rune {
			if r < ' ' && r != '\n' || r >= '！' && r <= '～' || r == 0xFFFD {
				return -1
			}
			return r
		}, strings.ToValidUTF8(text, ""))
		if m.Line != "\n" && strings.Contains(text, "\n") {
			return
		}
		back, marked := read(m, m.Write(&Document{Body: []Block{{Kind: Paragraph, Inlines: []Inline{{Kind: Text, Text: text}}}}}))
		require.False(t, marked, "%q by %s", text, table)
		require.Equal(t, text, back, "by %s", table)
		raw, err := json.Marshal(m)
		require.NoError(t, err)
		_, err = ReadMarks(string(raw))
		require.NoError(t, err, "a table that is read can be written and read again: %s", raw)
	})
}

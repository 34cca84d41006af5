package message

import (
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A text in message styling (XEP-0393) as CommonMark. Its own signs that mark nothing are text.
func TestStylingIsRead(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"bold", "the *late* bus", `the **late** bus`},
		{"italics", "_soon_", `*soon*`},
		{"one in the other", "*_both_*", `***both***`},
		{"code", "run `a*b*`", "run `a*b*`"},
		{"within a word", "a*b*c snake_case_name", `a\*b\*c snake\_case\_name`},
		{"blanks inside", "2 * 3 * 4, * no*", `2 \* 3 \* 4, \* no\*`},
		{"never ends", "*open", `\*open`},
		{"the first end counts", "*a* b*", `**a** b\*`},
		{"over lines", "*a\nb*", "\\*a\\\nb\\*"},
		{"struck stays as written", "~off~", `\~off\~`},
		{"quote", "> as *said*\n> twice\nso what", "> as **said**\\\n> twice\n\nso what"},
		{"quote in a quote", ">> a\n> b", "> > a\n>\n> b"},
		{"code block", "```\n*a*\n> b\n```\nc", "```\n*a*\n> b\n```\n\nc"},
		{"code that never ends", "```\na", "```\na\n```"},
		{"list", "of:\n- a\n• *b*\n1. c\n2. d", "of\\:\n\n- a\n- **b**\n\n1) c\n2) d"},
		{"link", "see (https://a.example/x_y_z), *now*", `see \([https\://a\.example/x\_y\_z](<https://a.example/x_y_z>)\), **now**`},
		{"what other sides read", "# no heading [a](b)\n<b>", "\\# no heading \\[a\\]\\(b\\)\\\n\\<b\\>"},
	} {
		assert.Equal(t, c.want, strings.ReplaceAll(markdownBlocks(ReadStyling(c.text)), "> \n", ">\n"), c.name)
	}
	assert.Equal(t, `\*a\*`, markdownBlocks(ReadMarked("*a*", Unmarked)))
	assert.Equal(t, `*a*`, markdownBlocks(ReadMarked("*a*", "")))
}

// CommonMark as message styling; what has no marks there is text.
func TestStylingIsWritten(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"bold and italics", "**a** *b* ***c***", "*a* _b *c*_"},
		{"heading", "## A *b*", "*A _b_*"},
		{"within a word, where no mark holds", "a**b**c", "abc"},
		{"over lines", "**a\\\nb**", "*a*\n*b*"},
		{"code", "`a_b_`", "`a_b_`"},
		{"list", "1. a\n2. **b**\n   - c", "1. a\n2. *b*\n\n  • c"},
		{"quote", "> a\n>\n> **b**", "> a\n>\n> *b*"},
		{"code block", "```\n*a*\n```", "```\n*a*\n```"},
		{"link", "[**here**](<https://a.example/_x_>)", "*here* (https://a.example/_x_)"},
		{"signs of its own", `\*a\* \_b\_ 3 \* 4 a\_b\_c \~5 min`, "＊a* ＿b_ 3 * 4 a_b_c ~5 min"},
		{"within what is marked", `**a\*b**`, "*a＊b*"},
		{"at the beginning of a line", `\> a`, "＞ a"},
	} {
		assert.Equal(t, c.want, WriteStyling(ReadMarkdown(c.text)), c.name)
	}
	d := &Document{Title: "*late*", Body: ReadMarkdown("**so**"), Facts: []Fact{{"_a_", "`b`"}}, Link: &Link{Text: "Open", To: "https://a.example/_x_"}}
	r := Render(d, Light)
	assert.Equal(t, "＊late*\n\n*so*\n\n＿a_: ｀b`\n\nOpen: https://a.example/_x_", r.Text)
	assert.Equal(t, []string{"links are written out"}, r.Lost)
	d.Body = ReadMarkdown("**" + strings.Repeat("a ", plainLimit) + "a**")
	r = Render(d, Light)
	assert.Equal(t, Light, r.Dialect)
	assert.NotContains(t, r.Text, "*a")
	assert.Contains(t, strings.Join(r.Lost, "; "), "shortened")
}

// A text is only a text in whatever reads message styling, and what is marked stays so.
func FuzzStyling(f *testing.F) {
	for _, s := range []string{"*a* _b_ `c` ~d~", "> a\n```\nb\n```", "a*b _c*d_", "**a**", "*`_~", "* *a*", "_*a*_ *_b_*", "`a` *b`c*", "a\u00a0*b*", "- a\n1. b", "\r*a*"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if s = strings.ToValidUTF8(s, "\uFFFD"); strings.TrimSpace(s) == "" {
			return
		}
		asText := WriteStyling([]Block{TextBlock(s)})
		for _, c := range characters(ReadStyling(asText), "") {
			require.Empty(t, c.marks, "%q", asText)
		}
		require.Equal(t, bones(s), bones(asText))
		once := ReadStyling(s)
		require.Equal(t, characters(once, ""), characters(ReadStyling(WriteStyling(once)), ""), "%q", WriteStyling(once))
	})
}

// bones are the characters of a text without blanks, none of them in its wide form.
func bones(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsSpace(r):
			return -1
		case r >= '！' && r <= '～':
			return r - '！' + '!'
		}
		return r
	}, s)
}

type marked struct {
	character rune
	marks     string
}

// characters are those of blocks, each with how it is marked.
func characters(blocks []Block, within string) (out []marked) {
	add := func(text, marks string) {
		m := []rune(within + marks)
		slices.Sort(m)
		for _, r := range bones(text) {
			out = append(out, marked{r, string(m)})
		}
	}
	for _, b := range blocks {
		switch b.Kind {
		case CodeBlock:
			add(b.Code, "c")
		case Quote:
			out = append(out, characters(b.Blocks, within+">")...)
		case ListBlock:
			for i, item := range b.Items {
				if b.Ordered {
					add(strconv.Itoa(b.Start+i)+".", "")
				} else {
					add("•", "")
				}
				out = append(out, characters(item, within)...)
			}
		default:
			for _, line := range runs(b.Inlines, "", [][]run{nil}) {
				for _, r := range line {
					add(r.text, r.marks)
				}
			}
		}
	}
	return out
}

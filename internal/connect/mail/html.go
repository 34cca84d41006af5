package mail

import (
	"strings"

	"golang.org/x/net/html"
)

// plainText takes the markup away from a message that has no plain text beside it.
func plainText(source string) string {
	var b strings.Builder
	z := html.NewTokenizer(strings.NewReader(source))
	hidden := 0
	for {
		switch z.Next() {
		case html.ErrorToken:
			return strings.TrimSpace(squeeze(b.String()))
		case html.TextToken:
			if hidden == 0 {
				b.Write(z.Text())
			}
		case html.StartTagToken:
			switch name, _ := z.TagName(); string(name) {
			case "script", "style", "head", "title":
				hidden++
			case "br", "p", "div", "li", "tr", "h1", "h2", "h3":
				b.WriteByte('\n')
			}
		case html.SelfClosingTagToken:
			if name, _ := z.TagName(); string(name) == "br" {
				b.WriteByte('\n')
			}
		case html.EndTagToken:
			switch name, _ := z.TagName(); string(name) {
			case "script", "style", "head", "title":
				hidden = max(0, hidden-1)
			}
		}
	}
}

// squeeze leaves one space between words and one empty line between paragraphs.
func squeeze(s string) string {
	var out []string
	blank := false
	for line := range strings.SplitSeq(html.UnescapeString(s), "\n") {
		line = strings.Join(strings.Fields(line), " ")
		if line == "" {
			blank = len(out) > 0
			continue
		}
		if blank {
			out = append(out, "")
		}
		out, blank = append(out, line), false
	}
	return strings.Join(out, "\n")
}

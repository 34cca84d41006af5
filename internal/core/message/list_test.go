package message

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/report"
)

// A line of a list is a template like a text: its links stay links and its marks are read, and what a record says is text.
func TestLinesOfLists(t *testing.T) {
	record := map[string]any{"jobs": []any{
		map[string]any{"id": "J-1", "link": "https://x.example/1", "note": "**b** [y](https://e.example)"},
		map[string]any{"id": "J-2", "link": "javascript:alert(1)", "note": ""},
	}}
	for _, c := range []struct{ each, plain, markdown string }{
		{"[${it.id}](${it.link})", "• J-1\n• J-2", "- [J\\-1](<https://x.example/1>)\n- J\\-2"},
		{"${link(it.id, it.link)} of ${len(record.jobs)}", "• J-1 of 2\n• J-2 of 2", "- [J\\-1](<https://x.example/1>) of 2\n- J\\-2 of 2"},
		{"**${it.id}** `x`", "• J-1 x\n• J-2 x", "- **J\\-1** `x`\n- **J\\-2** `x`"},
		{"${it.note}", "• **b** [y](https://e.example)", "- \\*\\*b\\*\\* \\[y\\]\\(https\\:\\/\\/e\\.example\\)"},
		{"1. ${it.id}", "• 1. J-1\n• 1. J-2", "- 1\\. J\\-1\n- 1\\. J\\-2"},
		{"# ${it.id}", "• # J-1\n• # J-2", "- \\# J\\-1\n- \\# J\\-2"},
		{"- ${it.id}", "• - J-1\n• - J-2", "- \\- J\\-1\n- \\- J\\-2"},
	} {
		list := fill(t, &Spec{List: &ListSpec{Of: report.Text{S: "record.jobs"}, Each: report.Text{S: c.each}}}, record)
		assert.Equal(t, c.plain, list.Plain(), c.each)
		assert.Equal(t, strings.ReplaceAll(c.markdown, `\/`, "/"), list.Markdown(), c.each)
		chip := fill(t, &Spec{Body: str("${bullets(record.jobs, '" + c.each + "')}")}, record)
		assert.Equal(t, list.Body, chip.Body, "bullets() makes the same of %s", c.each)
	}
}

package message

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

func str(s string) *report.Text { return &report.Text{S: s} }

func fill(t testing.TB, s *Spec, record map[string]any) *Document {
	t.Helper()
	var problems report.List
	m := Compile(s, &formula.Words{Workspace: value.DefaultWorkspace()}, "messages.alert", &problems)
	require.False(t, problems.Failed(), "%v", problems.Problems)
	d, err := m.Fill(&formula.Scope{Record: record})
	require.NoError(t, err)
	return d
}

func TestMessages(t *testing.T) {
	record := map[string]any{
		"id": "COL-1", "litres": 1240.0, "evil": "**b** [x](http://e.example) <script> @all\n# h", "link": "https://x.example/a?b=c",
		"bad": "javascript:alert(1)", "list": []any{"one", "two"}, "space": "a b/c", "both": "Ann & Bo=2#+",
	}
	for _, c := range []struct{ name, body, plain, markdown string }{
		{"bold field", "**${record.litres} litres** here", "1240 litres here", "**1240 litres** here"},
		{"markup in a record is text", "${record.evil}", "**b** [x](http://e.example) <script> @all\n# h",
			`\*\*b\*\* \[x\]\(http\:\/\/e\.example\) \<script\> \@all` + "\\\n" + `\# h`},
		{"a link to a field", "[open](${record.link})", "open", "[open](<https://x.example/a?b=c>)"},
		{"a link that is unsafe is its text", "[open](${record.bad})", "open", "open"},
		{"a field inside an address is escaped", "[open](https://x.example/${record.space})", "open", "[open](<https://x.example/a%20b%2Fc>)"},
		{"a field in a query adds no parameter", "[open](https://x.example/?q=${record.both}&z=1#${record.space})", "open", "[open](<https://x.example/?q=Ann%20%26%20Bo%3D2%23%2B&z=1#a%20b%2Fc>)"},
		{"link()", "${link('all', record.link)} of them", "all of them", "[all](<https://x.example/a?b=c>) of them"},
		{"bullets()", "Here:\n\n${bullets(record.list, '${it}!')}", "Here:\n\n• one!\n• two!", "Here\\:\n\n- one\\!\n- two\\!"},
		{"an empty value leaves nothing", "a ${record.none} b\n\n${record.none}", "a  b", "a  b"},
		{"a list of the writer's own", "1. ${record.id}\n2. two", "1. COL-1\n2. two", "1. COL\\-1\n2. two"},
		{"HTML is text", "<b>x</b> & y", "<b>x</b> & y", `\<b\>x\<\/b\> \& y`},
		{"an escaped star", `\* ${record.id}`, "* COL-1", `\* COL\-1`},
		{"code", "`${record.id}`", "COL-1", "`COL-1`"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := fill(t, &Spec{Body: str(c.body)}, record)
			assert.Equal(t, c.plain, d.Plain())
			assert.Equal(t, strings.ReplaceAll(c.markdown, `\/`, "/"), d.Markdown())
		})
	}
}

func TestFactsToneAndLink(t *testing.T) {
	d := fill(t, &Spec{
		Title: str("${record.id}\nwaits"),
		Facts: []FactSpec{{*str("Driver"), *str("${record.driver}")}, {*str("Tour"), *str("${record.none}")}},
		Tone:  str("${record.litres > 5 ? 'urgent' : 'plain'}"),
		Link:  &LinkSpec{Text: *str(""), To: *str("${record.link}")},
	}, map[string]any{"id": "C 1", "driver": "Jonas", "litres": 9.0, "link": "https://x.example/"})
	assert.Equal(t, &Document{Title: "C 1 waits", Body: []Block{}, Facts: []Fact{{"Driver", "Jonas"}}, Tone: "urgent", Link: &Link{Text: "https://x.example/", To: "https://x.example/"}}, d)
}

func TestForgottenReferenceIsFlagged(t *testing.T) {
	words := &formula.Words{Workspace: value.DefaultWorkspace(), Schema: &value.Schema{Fields: []value.Field{{Name: "litres", Type: value.Num}}}}
	for body, flagged := range map[string]bool{
		"{{litres}} l": true, "{litres} l": true, "$litres l": true, "record.litres l": true, "[record.litres]": true, "[litres]": true, "<litres>": true, "{litres} and [litres]": true,
		"[litres](http://x/)": false, "[other]": false, "a [ b": false,
		"${record.litres} l": false, "{other}": false, "$5 for litres": false,
	} {
		var problems report.List
		Compile(&Spec{Body: str(body)}, words, "messages.a", &problems)
		assert.Equal(t, flagged, len(problems.Problems) > 0, body)
		assert.False(t, problems.Failed(), body)
		for n := 0; len(problems.Problems) > 0; n++ { // each is mended by what is offered
			require.Less(t, n, 3)
			body = problems.Problems[0].Mend.Put.(string)
			problems = report.List{}
			Compile(&Spec{Body: str(body)}, words, "messages.a", &problems)
		}
	}
}

// Whatever a record holds, reading the finished message as a channel does gives the very words back.
func FuzzRecordTextStaysText(f *testing.F) {
	for _, s := range []string{"**b**", "# h", "- l", "1. l", "[a](b)", "<a href=x>", "a\n\nb", "    code", "`c`", "&amp;", "@all", "http://x.example", "\\", "a\\\nb", "~~~", "|a|b|", "---", "> q", "\u2028", "a  \nb", "*", "_a_", "![i](x)"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		s = strings.ToValidUTF8(s, "")
		if strings.ContainsAny(s, chipOpen+chipClose+"\x00") {
			return
		}
		d := fill(t, &Spec{Body: str("x **${record.v}** ${record.v} y")}, map[string]any{"v": s})
		back := &Document{Body: ReadMarkdown(d.Markdown())}
		assert.Equal(t, strings.Join(strings.Fields(d.Plain()), " "), strings.Join(strings.Fields(back.Plain()), " "))
		for _, b := range back.Body {
			assert.Equal(t, Paragraph, b.Kind)
			for _, n := range b.Inlines {
				assert.Contains(t, []InlineKind{Text, Strong, Break}, n.Kind)
			}
		}
	})
}

package message

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// What a writer may write beyond paragraphs: code, rules, quotes, pictures, and addresses as they stand.
func TestWhatAWriterMayWrite(t *testing.T) {
	record := map[string]any{"id": "COL-1", "none": "", "code": "a`b", "mail": "a@b.example"}
	for name, c := range map[string]struct{ body, plain string }{
		"a block of code":           {"before\n\n```\nlet x = ${record.id};\n  y\n```", "before\n\nlet x = COL-1;\n  y"},
		"an indented block":         {"before\n\n    one\n    two", "before\n\none\ntwo"},
		"a rule":                    {"one\n\n---\n\ntwo", "one\n\ntwo"},
		"an address as it stands":   {"see <https://x.example/a>", "see https://x.example/a"},
		"a mail address":            {"write to <a@b.example>", "write to a@b.example"},
		"a picture is its words":    {"![a cow](https://x.example/cow.png) here", "a cow here"},
		"a link's words":            {"[**open** it](https://x.example)", "open it"},
		"a link to nothing safe":    {"[open](data:text/html,x)", "open"},
		"a telephone number":        {"[call](tel:+41334021221)", "call"},
		"a break":                   {"one\\\ntwo", "one\ntwo"},
		"emphasis in emphasis":      {"***both*** and *one*", "both and one"},
		"an empty field":            {"a${record.none}b", "ab"},
		"references of characters":  {"&lt;b&gt; &amp; &#228;", "<b> & ä"},
		"code keeps its characters": {"`&lt; \\*`", "&lt; \\*"},
		"headings are lines":        {"# One\n\ntwo", "One\n\ntwo"},
	} {
		assert.Equal(t, c.plain, fill(t, &Spec{Body: str(c.body)}, record).Plain(), name)
	}
}

func TestSafeAddresses(t *testing.T) {
	for in, safe := range map[string]bool{
		"https://x.example": true, "HTTP://x.example/a?b#c": true, " https://x.example ": true, "mailto:a@b.example": true, "tel:+41334021221": true,
		"javascript:alert(1)": false, "JaVaScript:alert(1)": false, "data:text/html,x": false, "file:///etc/passwd": false, "ftp://x.example": false,
		"//x.example": false, "/path": false, "https://": false, "http:x": false, "https://x.example/a b": false, "https://x.example/\n": true, "https://x.example/<": false, `https://x.example/"`: false, "": false, "%zz": false,
	} {
		assert.Equal(t, safe, SafeAddress(in) != "", "%q", in)
	}
}

// A name is referred to as what it is: gathered, or a field of the record.
func TestForgottenReferencesOfGatheredNames(t *testing.T) {
	fields := &value.Schema{Fields: []value.Field{{Name: "litres", Type: value.Num}, {Name: "farm", Type: value.Object, Fields: []value.Field{{Name: "name", Type: value.Text}}}}}
	w := &formula.Words{Workspace: value.DefaultWorkspace(), Schema: fields, Gathered: []formula.Name{
		{Name: "owner", Schema: &value.Schema{Fields: []value.Field{{Name: "phone", Type: value.Text}}}}, {Name: "free"},
	}}
	for text, want := range map[string]string{
		"{litres}":      "${record.litres}",
		"{{litres}}":    "${record.litres}",
		"{farm.name}":   "${record.farm.name}",
		"{owner.phone}": "${owner.phone}",
		"{free.any}":    "${free.any}",
		"{owner.shoes}": "",
		"{nothing}":     "",
	} {
		var problems report.List
		Compile(&Spec{Body: str("say " + text)}, w, "messages.m", &problems)
		if want == "" {
			assert.Empty(t, problems.Problems, text)
			continue
		}
		require.NotEmpty(t, problems.Problems, text)
		assert.Contains(t, problems.Problems[0].Message+problems.Problems[0].Suggestion, want, text)
	}
}

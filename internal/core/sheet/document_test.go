package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is no sheet is told at its place, and as what it was meant to be.
func TestUnreadableTextsAreToldAtTheirPlace(t *testing.T) {
	for src, want := range map[string]string{
		"":                          "1:1: the sheet is empty",
		"a: 1\nb: [1,\n  2\nc: 3\n": "4:2: this is not YAML: did not find expected ',' or ']'",
		"a: 1\n\tb: 2\n":            "2:1: this is not YAML: found a tab character that violates indentation",
		"a:\n  - x\n - y\n":         "3:2: this is not YAML: did not find expected key",
		"a: \"x\nb: 2\n":            "1:4: this is not YAML: found unexpected end of stream",
		"ä: 1\nb: *nowhere\n":       "2:4: this is not YAML: unknown anchor 'nowhere' referenced",
		"{\"a\": 1,\n \"ä\": {\"b\": 2 \"c\": 3}}\n": "2:15: this is not JSON: invalid character '\"' after object key:value pair",
		"ä: 1\nb: \"ü\x01\"\n":                       "2:6: this is not YAML: the control character U+0001 is not allowed; write it as \\x01 between double quotes, or take it out",
		"a: 1\nb\nc: 2\n":                            "2:1: this is not YAML: could not find expected ':'",
		"a: 1\nb: [1}\n":                             "2:6: this is not YAML: did not find expected ',' or ']'",
		"{\"a\": 1,\n":                               "2:1: this is not JSON: unexpected end of JSON input",
		"[1, 2":                                      "1:6: this is not JSON: unexpected end of JSON input",
		"dorfbote: 1\n---\ndorfbote: 1\n":            "2:1: a second sheet begins here; a text holds one",
	} {
		_, problems := Read([]byte(src))
		require.NotEmpty(t, problems.Problems, src)
		p := problems.Problems[0]
		assert.Equal(t, want, itoa(p.At.Line)+":"+itoa(p.At.Column)+": "+p.String(), src)
		if src != "" {
			_, err := Format([]byte(src))
			assert.Error(t, err, src)
		}
	}
}

// What reads well and would do something else than it says is refused.
func TestWhatWouldDoNothingIsRefused(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"dorfbote: 1", "dorfbote: \"1\"", "the version is the number 1, not a text"},
		{"name: ", "name: !secret ", "a sheet has no use for the tag !secret"},
		{"name: ", "name: !!str ", ""},
		{"keep:", "pace: {quiet: {open: []}}\nkeep:", "open has no opening hours in it"},
		{"  otherwise:\n", "  otherwise: {tell: []}\n  x:\n", "otherwise tells nobody"},
		{"  rows:\n", "  rows:\n    - {name: None, when: {field: litres, above: 1}, tell: []}\n", "the row tells nobody"},
		{"  rows:\n", "  rows:\n    - {name: None, when: {field: litres, above: 1}}\n", "the row tells nobody"},
		{"keep:", "gather: [{name: f, value: now, if_fails: {tell: []}}]\nkeep:", "if_fails tells nobody"},
		{"    tone:", "    link: {text: Open, to: \"javascript:alert(1)\"}\n    tone:", "a link goes to http, https, mailto or tel, not to javascript"},
		{"    tone:", "    link: {text: Open, to: \"htps://x/${record.id}\"}\n    tone:", "not to htps; did you mean https?"},
		{"    tone:", "    link: {text: Open, to: \"MAILTO:desk@example.org\"}\n    tone:", ""},
		{"    tone:", "    link: {text: Open, to: \"/x/?a=b:c\"}\n    tone:", ""},
	} {
		src := good
		require.Contains(t, src, c.old)
		src = strings.Replace(src, c.old, c.new, 1)
		_, problems := Read([]byte(src))
		var said []string
		for _, p := range problems.Problems {
			said = append(said, p.String())
		}
		if all := strings.Join(said, "\n"); c.want == "" {
			assert.Empty(t, all, c.new)
		} else {
			assert.Contains(t, all, c.want, c.new)
		}
	}
}

// Whatever text comes, it is read or told, and a place is told that the text has.
func FuzzDocument(f *testing.F) {
	for _, s := range []string{good, "{\"a\": [1}", "a: [\n", "%YAML 1.1\n---\na: &b [*b]", "? [a]\n: {b", "\xff\xfe", "- |\n\t x"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		doc, bad := document(src)
		require.NotEqual(t, (doc == nil), (bad == nil))
		if bad != nil {
			require.GreaterOrEqual(t, bad.at.Line, 1)
			require.GreaterOrEqual(t, bad.at.Column, 1)
			require.LessOrEqual(t, bad.at.Line, strings.Count(string(src), "\n")+strings.Count(string(src), "\r")+2)
		}
	})
}

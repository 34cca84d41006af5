package shape

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

func made(t *testing.T, example string, chosen map[string]Role) (shape string, roles map[string]Role) {
	t.Helper()
	v, err := value.ReadJSON([]byte(example))
	require.NoError(t, err)
	out, leaves := FromExample(v, chosen)
	roles = map[string]Role{}
	for _, l := range leaves {
		roles[l.Path] = l.Is
	}
	text := string(value.AppendJSON(nil, out))
	s, err := Read(text, value.DefaultWorkspace())
	require.NoError(t, err, text)
	_, err = s.Fill(post())
	require.NoError(t, err, text)
	return text, roles
}

// An example becomes a shape of the same structure, in which the post's parts stand where the other side's texts were.
func TestShapesOfExamples(t *testing.T) {
	for name, c := range map[string]struct{ example, want string }{
		"one text carries all":     {`{"text":"Hello"}`, `{"text":"` + strings.ReplaceAll(WholeText, `\`, `\\`) + `"}`},
		"title and text":           {`{"title":"Build broken","message":"Look at it","silent":false}`, `{"title":"${post.title}","message":"${post.text}","silent":false}`},
		"facts":                    {`{"subject":"S","fields":[{"label":"Driver","value":"Jonas"},{"label":"Tour","value":"3"}]}`, `{"subject":"${post.title}","fields":[{"$each":"${post.facts}","$as":{"label":"${it.label}","value":"${it.value}"}}]}`},
		"facts with more to them":  {`{"title":"T","items":[{"name":"a","value":"b","wide":true}]}`, `{"title":"${post.title}","items":[{"$each":"${post.facts}","$as":{"name":"${it.label}","value":"${it.value}","wide":true}}]}`},
		"facts deep inside":        {`{"cards":[{"title":"T","rows":[{"key":"a","text":"b"}]}]}`, `{"cards":[{"title":"${post.title}","rows":[{"$each":"${post.facts}","$as":{"key":"${it.label}","text":"${it.value}"}}]}]}`},
		"sections, each its own":   {`{"title":"T","parts":[{"kind":"head"},{"kind":"text","text":"x"}]}`, `{"title":"${post.title}","parts":[{"kind":"head"},{"kind":"text","text":"${post.text}"}]}`},
		"a link, and a picture's":  {`{"title":"T","open_url":"https://x.example","icon":"https://x.example/i.png"}`, `{"title":"${post.title}","open_url":"${post.link}","icon":"https://x.example/i.png"}`},
		"a room":                   {`{"channel":"#ops","text":"x","title":"y"}`, `{"channel":"${post.place}","text":"${post.text}","title":"${post.title}"}`},
		"the first of two titles":  {`{"a":{"title":"T"},"b":{"title":"U"},"text":"x"}`, `{"a":{"title":"${post.title}"},"b":{"title":"U"},"text":"${post.text}"}`},
		"what would be a formula":  {`{"title":"T","note":"${x}","$id":1}`, `{"title":"${post.title}","note":"$${x}","$$id":1}`},
		"nothing to fill in":       {`{"a":1,"b":[true,null]}`, `{"a":1,"b":[true,null]}`},
		"a list at the outside":    {`[{"title":"T","text":"x"}]`, `[{"title":"${post.title}","text":"${post.text}"}]`},
		"a text as a whole":        {`"hello"`, `"hello"`},
		"texts of another tongue":  {`{"titel":"T","nachricht":"x"}`, `{"titel":"T","nachricht":"x"}`},
		"labels without values":    {`{"title":"T","tags":[{"name":"a"},{"name":"b"}]}`, `{"title":"${post.title}","tags":[{"name":"a"},{"name":"b"}]}`},
		"a text beside its labels": {`{"text":"x","facts":[{"title":"a","value":"b"}]}`, `{"text":"${post.text}","facts":[{"$each":"${post.facts}","$as":{"title":"${it.label}","value":"${it.value}"}}]}`},
	} {
		got, _ := made(t, c.example, nil)
		assert.JSONEq(t, c.want, got, name)
	}
}

// What was guessed wrong is corrected by choosing.
func TestCorrectedExamples(t *testing.T) {
	got, roles := made(t, `{"titel":"T","nachricht":"x","level":"high","title":"never"}`, map[string]Role{"titel": Title, "nachricht": Text, "level": Tone, "title": AsItIs})
	assert.JSONEq(t, `{"titel":"${post.title}","nachricht":"${post.text}","level":"${post.tone}","title":"never"}`, got)
	assert.Equal(t, Title, roles["titel"])
	got, roles = made(t, `{"text":"x","body":"y"}`, map[string]Role{"text": AsItIs})
	assert.Equal(t, map[string]Role{"text": AsItIs, "body": Everything}, map[string]Role{"text": roles["text"], "body": roles["body"]}, got)
	got, _ = made(t, `{"rows":[["a","b"]]}`, map[string]Role{"rows[0][0]": FactLabel, "rows[0][1]": FactValue})
	assert.Contains(t, got, `${it.label}`)
}

// Every example makes a shape that can be read and filled in.
func FuzzExample(f *testing.F) {
	f.Add(`{"title":"a","fields":[{"name":"a","value":"b"}],"$x":"${"}`)
	f.Add(`[[["${a}"]]]`)
	f.Fuzz(func(t *testing.T, example string) {
		v, err := value.ReadJSON([]byte(example))
		if err != nil {
			return
		}
		out, _ := FromExample(v, nil)
		s, err := Of(out, value.DefaultWorkspace())
		if err != nil { // too deep, or too large
			assert.Contains(t, err.Error(), "at most")
			return
		}
		_, err = s.Fill(post())
		require.NoError(t, err)
	})
}

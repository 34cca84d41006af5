package shape

import (
	"fmt"
	"regexp"
	"slices"
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
	out, leaves := FromExample(v, chosen, nil)
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
	// @title stands for what is left out where there is no title, and so on.
	for name, c := range map[string]struct{ example, want string }{
		"one text carries all":     {`{"text":"Hello"}`, `{"text":@all}`},
		"title and text":           {`{"title":"Build broken","message":"Look at it","silent":false}`, `{"title":@title,"message":@text,"silent":false}`},
		"facts":                    {`{"subject":"S","fields":[{"label":"Driver","value":"Jonas"},{"label":"Tour","value":"3"}]}`, `{"subject":@title,"fields":[{"$each":"${post.facts}","$as":{"label":@it.label,"value":"${it.value}"}}]}`},
		"facts with more to them":  {`{"title":"T","items":[{"name":"a","value":"b","wide":true}]}`, `{"title":@title,"items":[{"$each":"${post.facts}","$as":{"name":@it.label,"value":"${it.value}","wide":true}}]}`},
		"facts deep inside":        {`{"cards":[{"title":"T","rows":[{"key":"a","text":"b"}]}]}`, `{"cards":[{"title":@title,"rows":[{"$each":"${post.facts}","$as":{"key":@it.label,"text":"${it.value}"}}]}]}`},
		"facts of title and text":  {`{"message":"T","facts":[{"title":"Customer","text":"Acme"},{"title":"Amount","text":"5"}]}`, `{"message":@text,"facts":[{"$each":"${post.facts}","$as":{"title":@it.label,"text":"${it.value}"}}]}`},
		"facts as lines":           {`{"title":"T","details":["Customer: Acme","Amount: 5"]}`, `{"title":@title,"details":[{"$each":"${post.facts}","$as":"${it.label}: ${it.value}"}]}`},
		"facts as blocks":          {`{"title":"T","blocks":[{"kind":"row","text":"Customer: Acme"},{"kind":"row","text":"Amount: 5"}]}`, `{"title":@title,"blocks":[{"$each":"${post.facts}","$as":{"kind":"row","text":"${it.label}: ${it.value}"}}]}`},
		"facts as couples":         {`{"title":"T","rows":[["Customer","Acme"],["Amount","5"]]}`, `{"title":@title,"rows":[{"$each":"${post.facts}","$as":["${it.label}","${it.value}"]}]}`},
		"texts that are no facts":  {`{"title":"T","tags":["red","blue"],"steps":[{"text":"first"},{"text":"then"}]}`, `{"title":@title,"tags":["red","blue"],"steps":[{"text":@text},{"text":"then"}]}`},
		"sections, each its own":   {`{"title":"T","parts":[{"kind":"head"},{"kind":"text","text":"x"}]}`, `{"title":@title,"parts":[{"kind":"head"},{"kind":"text","text":@text}]}`},
		"a heading of its own":     {`{"text":"x","blocks":[{"type":"header","text":{"type":"plain","text":"Build"}},{"type":"section","text":{"type":"marked","text":"Look"}}]}`, `{"text":@all,"blocks":[{"type":"header","text":{"type":"plain","text":@title}},{"type":"section","text":{"type":"marked","text":@text}}]}`},
		"who posts":                {`{"username":"Build bot","icon_url":"https://x.example/i.png","text":"x","title":"y"}`, `{"username":@sender.name,"icon_url":@sender.picture,"text":@text,"title":@title}`},
		"who posts, as an object":  {`{"author":{"name":"Ada","avatar":"https://x.example/a.png","url":"https://x.example/ada"},"title":"y"}`, `{"author":{"name":@sender.name,"avatar":@sender.picture,"url":@link},"title":@title}`},
		"a link, and a picture's":  {`{"title":"T","open_url":"https://x.example","icon":"https://x.example/i.png"}`, `{"title":@title,"open_url":@link,"icon":"https://x.example/i.png"}`},
		"a room":                   {`{"channel":"#ops","text":"x","title":"y"}`, `{"channel":"${post.place}","text":@text,"title":@title}`},
		"a secret":                 {`{"token":"s3cr3t","text":"x","title":"y"}`, `{"token":@secret,"text":@text,"title":@title}`},
		"the first of two titles":  {`{"a":{"title":"T"},"b":{"title":"U"},"text":"x"}`, `{"a":{"title":@title},"b":{"title":"U"},"text":@text}`},
		"what would be a formula":  {`{"title":"T","note":"${x}","$id":1}`, `{"title":@title,"note":"$${x}","$$id":1}`},
		"nothing to fill in":       {`{"a":1,"b":[true,null]}`, `{"a":1,"b":[true,null]}`},
		"a list at the outside":    {`[{"title":"T","text":"x"}]`, `[{"title":@title,"text":@text}]`},
		"a text as a whole":        {`"hello"`, `"hello"`},
		"texts of another tongue":  {`{"titel":"T","nachricht":"x"}`, `{"titel":"T","nachricht":"x"}`},
		"labels without values":    {`{"title":"T","tags":[{"name":"a"},{"name":"b"}]}`, `{"title":@title,"tags":[{"name":"a"},{"name":"b"}]}`},
		"a text beside its labels": {`{"text":"x","facts":[{"title":"a","value":"b"}]}`, `{"text":@text,"facts":[{"$each":"${post.facts}","$as":{"title":@it.label,"value":"${it.value}"}}]}`},
	} {
		got, _ := made(t, c.example, nil)
		assert.JSONEq(t, leftOut(c.want), got, name)
	}
}

// leftOut writes @part as what stands for a part of the post that is left out where it is empty.
func leftOut(s string) string {
	return regexp.MustCompile(`@([a-z.]+)`).ReplaceAllStringFunc(s, func(m string) string {
		f := "${post." + m[1:] + "}"
		if strings.HasPrefix(m, "@it.") {
			f = "${" + m[1:] + "}"
		}
		return fmt.Sprintf(`{"$when":%q,"$then":%q}`, f, f)
	})
}

// What is empty is not sent, unless it is said that it is always: then it is an empty text. What looks like words of the example is marked.
func TestWhatAnExampleLeavesOut(t *testing.T) {
	v, err := value.ReadJSON([]byte(`{"username":"Build bot","title":"T","text":"x","note":"Customer: Acme","kind":"card","channel":"#a"}`))
	require.NoError(t, err)
	filled := func(always ...string) string {
		made, _ := FromExample(v, nil, always)
		s, err := Of(made, value.DefaultWorkspace())
		require.NoError(t, err)
		out, err := s.Fill(map[string]any{"title": "", "text": "it", "place": "tours", "sender": map[string]any{"name": "", "picture": ""}})
		require.NoError(t, err)
		return string(value.AppendJSON(nil, out))
	}
	assert.JSONEq(t, `{"text":"it","note":"Customer: Acme","kind":"card","channel":"tours"}`, filled())
	assert.JSONEq(t, `{"text":"it","title":"","note":"Customer: Acme","kind":"card","channel":"tours"}`, filled("title"))
	_, leaves := FromExample(v, nil, []string{"title"})
	var stays, always []string
	for _, l := range leaves {
		if l.Stays {
			stays = append(stays, l.Path)
		}
		if l.Always {
			always = append(always, l.Path)
		}
	}
	assert.Equal(t, []string{"note"}, stays)
	assert.Equal(t, []string{"title"}, always)
	_, leaves = FromExample(v, map[string]Role{"note": AsItIs}, nil)
	assert.False(t, slices.ContainsFunc(leaves, func(l Leaf) bool { return l.Stays }), "somebody has said that it stays")
}

// What was guessed wrong is corrected by choosing.
func TestCorrectedExamples(t *testing.T) {
	got, roles := made(t, `{"titel":"T","nachricht":"x","level":"high","title":"never"}`, map[string]Role{"titel": Title, "nachricht": Text, "level": Tone, "title": AsItIs})
	assert.JSONEq(t, leftOut(`{"titel":@title,"nachricht":@text,"level":"${post.tone}","title":"never"}`), got)
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
		out, _ := FromExample(v, nil, nil)
		s, err := Of(out, value.DefaultWorkspace())
		if err != nil { // too deep, or too large
			assert.Contains(t, err.Error(), "at most")
			return
		}
		_, err = s.Fill(post())
		require.NoError(t, err)
	})
}

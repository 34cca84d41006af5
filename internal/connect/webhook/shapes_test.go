package webhook

import (
	"bytes"
	"encoding/json"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

// document is a message whose record tries to be markup everywhere.
func document(evil string) *message.Document {
	return &message.Document{
		Title: evil, Tone: "urgent", Facts: []message.Fact{{Label: evil, Value: evil}}, Link: &message.Link{Text: evil, To: "https://x.example/1"},
		Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Strong, Subs: []message.Inline{{Kind: message.Text, Text: evil}}}}}},
	}
}

// Every ready shape carries all that a message says, whatever a record holds.
func TestReadyShapes(t *testing.T) {
	const evil = `"},{"x":1} **b** <script> ${post.key} \ ` + "\n" + `{{x}}`
	for _, r := range ready {
		address, calls, bodies := taken(t, func(http.ResponseWriter) {})
		d := send(t, map[string]string{"places": "tours " + address + "/in/secret-7", "shape": r.name}, "tours", document(evil))
		require.True(t, d.Taken, "%+v", d)
		body := (*bodies)[0]
		var all string
		if r.form {
			assert.Contains(t, (*calls)[0].Header.Get("Content-Type"), "application/x-www-form-urlencoded")
			fields, err := url.ParseQuery(body)
			require.NoError(t, err)
			assert.Equal(t, evil, fields.Get("title"))
			all = strings.Join(append(fields["fact"], fields.Get("text"), fields.Get("link")), " ")
		} else {
			assert.Equal(t, "application/json", (*calls)[0].Header.Get("Content-Type"))
			require.True(t, json.Valid([]byte(body)), body)
			var v any
			require.NoError(t, json.Unmarshal([]byte(body), &v))
			all = texts(v)
		}
		assert.GreaterOrEqual(t, strings.Count(all, "{{x}}"), 2, "%s: %s", r.name, body)
		assert.Contains(t, all, "https://x.example/1", r.name)
		assert.NotContains(t, d.Address+d.Answer+d.Sent, "secret-7", "the address is a secret")
		assert.Equal(t, "k-1", (*calls)[0].Header.Get(connect.IdempotencyHeader))
	}
}

func texts(v any) string {
	switch x := v.(type) {
	case string:
		return x + " "
	case []any:
		var b strings.Builder
		for _, e := range x {
			b.WriteString(texts(e))
		}
		return b.String()
	case map[string]any:
		var b strings.Builder
		for _, e := range x {
			b.WriteString(texts(e))
		}
		return b.String()
	}
	return ""
}

func byMarks(t testing.TB, name string) connect.Marks {
	t.Helper()
	m, err := marksOf(map[string]string{"marks": name})
	require.NoError(t, err)
	return m
}

// A record's text is only text by whatever marks the other side reads.
func TestMarks(t *testing.T) {
	const evil = "**b** <b>x</b> [l](https://evil.example) _i_"
	for marks, want := range map[string]struct{ title, text string }{
		plainText:  {evil, evil},
		commonMark: {`\*\*b\*\* \<b\>x\<\/b\> \[l\]\(https\:\/\/evil\.example\) \_i\_`, ""},
		asHTML:     {`**b** &lt;b&gt;x&lt;/b&gt; [l](https://evil.example) _i_`, "<p><strong>**b** &lt;b&gt;x&lt;/b&gt; [l](https://evil.example) _i_</strong></p>"},
	} {
		post := connect.Seen(connect.Post{Doc: document(evil), Place: "tours", Key: "k"}, byMarks(t, marks), 0)
		if marks == commonMark {
			title := post["title"].(string)
			assert.Equal(t, evil, message.ReadMarkdown(title)[0].Inlines[0].Text, title)
			assert.Len(t, message.ReadMarkdown(title)[0].Inlines, 1, title)
			strong := message.ReadMarkdown(post["text"].(string))[0].Inlines
			require.Len(t, strong, 1)
			assert.Equal(t, message.Strong, strong[0].Kind)
			continue
		}
		assert.Equal(t, want.title, post["title"], marks)
		assert.Equal(t, want.text, post["text"], marks)
		assert.Equal(t, want.title, post["facts"].([]any)[0].(map[string]any)["value"], marks)
	}
	long := document(strings.Repeat("word ", 100))
	assert.LessOrEqual(t, len([]rune(connect.Seen(connect.Post{Doc: long, Place: "t", Key: "k"}, byMarks(t, plainText), 50)["text"].(string))), 50)
}

// Whatever is in a post, by whatever shape, format and marks, a call is valid, and read back it holds the post's texts as texts.
func FuzzReadyShapes(f *testing.F) {
	f.Add("title", "fact", 0, 0)
	f.Add("\x00\u2028\"}]", "\xff\\", 1, 1)
	f.Add("--dorfbote-7f3a9c1e5b2d4860--\r\nContent-Disposition: x", "\r\n\r\n", 4, 2)
	names := append(readyNames(), ownShape)
	f.Fuzz(func(t *testing.T, title, fact string, n, m int) {
		settings := map[string]string{
			"shape": names[((n%len(names))+len(names))%len(names)], "format": asParts, "body": `{"t": "${post.title}", "f": [{"$each": "${post.facts}", "$as": "${it.value}"}], "picture": "${post.picture}"}`,
			"marks": []string{plainText, commonMark, asHTML, ownMarks}[((m%4)+4)%4], "own_marks": `{"bold":["*","*"],"link":"<{to}|{text}>","escape":"entities"}`,
		}
		s, as, err := shapeOf(connect.Config{Settings: settings, Env: connect.Env{Workspace: value.DefaultWorkspace()}})
		require.NoError(t, err)
		by, err := marksOf(settings)
		require.NoError(t, err)
		d := document("x")
		d.Title, d.Facts[0].Value, d.Picture = title, fact, &message.Picture{From: "https://x.example/p.png"}
		picture := &connect.Picture{Media: "image/png", Ending: ".png", Data: []byte(title)}
		raw, media, err := bodyOf(s, as, connect.Seen(connect.Post{Doc: d, Place: "tours", Key: "k"}, by, 0), picture)
		require.NoError(t, err)
		switch as {
		case asForm:
			_, err := url.ParseQuery(string(raw))
			require.NoError(t, err)
		case asParts:
			_, params, err := mime.ParseMediaType(media)
			require.NoError(t, err)
			form, err := multipart.NewReader(bytes.NewReader(raw), params["boundary"]).ReadForm(1 << 20)
			require.NoError(t, err)
			for field, text := range map[string]string{"t": title, "f": fact} {
				if text == "" { // what is empty is left out of a form
					require.Empty(t, form.Value[field])
				} else {
					require.Equal(t, []string{by.Text(text)}, form.Value[field])
				}
			}
			require.Len(t, form.File["picture"], 1)
			require.EqualValues(t, len(title), form.File["picture"][0].Size)
		default:
			assert.True(t, json.Valid(raw), "%s", raw)
		}
	})
}

// A strict side gets no null: what is empty is left out of a body that was made of an example. Who posts is written by the marks, the
// longest text holds for all of it in one text and for facts, and a secret in the body is not shown.
func TestBodiesOfExamples(t *testing.T) {
	v, err := value.ReadJSON([]byte(`{"token":"x","username":"Bot","heading":"H","text":"T","facts":[{"name":"a","value":"b"}]}`))
	require.NoError(t, err)
	made, _ := shape.FromExample(v, nil, nil)
	address, _, bodies := taken(t, func(http.ResponseWriter) {})
	settings := map[string]string{"places": "a " + address, "shape": ownShape, "body": string(value.AppendJSON(nil, made)), "marks": asHTML, "longest": "20", "body_secret": `s3"cret`}
	w, err := open(connect.Config{Settings: settings, Env: env(t)})
	require.NoError(t, err)
	d := w.Send(t.Context(), connect.Post{Place: "a", Key: "k", Doc: &message.Document{Title: "Only this", Sender: &message.Sender{Name: "<b>Desk"}}})
	require.True(t, d.Taken, "%+v", d)
	assert.JSONEq(t, `{"token":"s3\"cret","username":"&lt;b&gt;Desk","heading":"Only this","facts":[]}`, (*bodies)[0])
	assert.NotContains(t, d.Sent, "cret")
	assert.Contains(t, d.Sent, `"token":"▒▒▒"`)
	_, sent, err := w.Draft(t.Context(), connect.Post{Place: "a", Key: "k", Doc: &message.Document{Title: "x"}})
	require.NoError(t, err)
	assert.NotContains(t, sent, "cret")

	post := connect.Seen(connect.Post{Doc: &message.Document{Title: "<Title>", Facts: []message.Fact{{Label: strings.Repeat("l", 30), Value: strings.Repeat("<", 30)}},
		Body: []message.Block{message.TextBlock(strings.Repeat("word ", 30))}, Link: &message.Link{Text: "Open", To: "https://x.example"}}}, connect.Marks{Text: message.EscapeHTML, Body: (*message.Document).HTMLBody, Mention: connect.NoMarks.Mention}, 40)
	for _, text := range []any{post["all"], post["text"], post["facts"].([]any)[0].(map[string]any)["label"], post["facts"].([]any)[0].(map[string]any)["value"]} {
		assert.LessOrEqual(t, len([]rune(text.(string))), 40, text)
		assert.NotEmpty(t, text)
	}
	assert.Contains(t, post["all"], "https://x.example")
}

package webhook

import (
	"image"
	"image/png"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
)

func env(t testing.TB) connect.Env {
	e, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	return e
}

// What is wrong with the settings is said at its setting, and what to write instead.
func TestSettings(t *testing.T) {
	good := map[string]string{"places": "tours https://chat.example/in/1"}
	for name, c := range map[string]struct {
		with         map[string]string
		place, words string
	}{
		"good":                        {nil, "", ""},
		"several, written any way":    {map[string]string{"places": "a https://x.example/1\n\n b = http://x.example/2\nthe board: https://x.example/3?k=v"}, "", ""},
		"no address":                  {map[string]string{"places": "tours"}, "places", "line 1 has no address"},
		"no name":                     {map[string]string{"places": "a https://x.example/1\nhttps://x.example/2"}, "places", "line 2 has no name"},
		"twice":                       {map[string]string{"places": "a https://x.example/1\na https://x.example/2"}, "places", "line 2: there is a place called a already"},
		"no places":                   {map[string]string{"places": " \n"}, "places", "there is no place yet"},
		"an address that is none":     {map[string]string{"places": "a http:/x"}, "places", "line 1: this is no address"},
		"a name that is a path":       {map[string]string{"places": "a/b https://x.example"}, "places", "line 1 has no name"},
		"one address":                 {map[string]string{"addresses": oneAddress, "address": "https://x.example/{place}/in", "names": "tours, the board"}, "", ""},
		"one address without a place": {map[string]string{"addresses": oneAddress, "address": "https://x.example/in", "names": "tours"}, "address", "write {place} there"},
		"one address without names":   {map[string]string{"addresses": oneAddress, "address": "https://x.example/{place}", "names": ","}, "names", "there is no place yet"},
		"a shape of one's own":        {map[string]string{"shape": ownShape, "body": `{"t":"${post.title}"}`}, "", ""},
		"no JSON":                     {map[string]string{"shape": ownShape, "body": `{"t":}`}, "body", "line 1, column"},
		"a part that is none":         {map[string]string{"shape": ownShape, "body": `{"t":{"u":"${post.titel}"}}`}, "body", "t.u: there is no field titel"},
		"fields without names":        {map[string]string{"shape": ownShape, "format": asForm, "body": `["${post.title}"]`}, "body", "form fields have names"},
		"no such shape":               {map[string]string{"shape": "round"}, "shape", "there is no shape called round"},
		"no JSONPath":                 {map[string]string{"id": "id"}, "id", "is no JSONPath"},
		"half a pattern":              {map[string]string{"id": "~id=("}, "id", "cannot be read"},
		"half a JSONPath":             {map[string]string{"accepted": "$.["}, "accepted", "cannot be read"},
		"half a test of the place":    {map[string]string{"place_fault": "$.["}, "place_fault", "cannot be read"},
		"an edit of nothing":          {map[string]string{"edit_address": "https://x.example/posts", "id": "$.id"}, "edit_address", "write {id} there"},
		"an edit without an id":       {map[string]string{"edit_address": "https://x.example/posts/{id}"}, "id", "replies and edits name the earlier post"},
		"a thread without an id":      {map[string]string{"shape": ownShape, "body": `{"t":"${post.title}","thread":"${post.under}"}`}, "id", "replies and edits name the earlier post"},
		"threads and edits":           {map[string]string{"shape": ownShape, "body": `{"t":"${post.title}","thread":"${post.under}"}`, "edit_address": "https://x.example/{place}/{id}", "id": "$.id"}, "", ""},
		"too short":                   {map[string]string{"longest": "5"}, "longest", "at least 20"},
	} {
		settings := map[string]string{}
		for _, m := range []map[string]string{good, c.with} {
			maps.Copy(settings, m)
		}
		err := Kind().Check(settings)
		if c.place == "" {
			require.NoError(t, err, name)
			continue
		}
		f, ok := fault.Of(err)
		if assert.True(t, ok, "%s: %v", name, err) {
			assert.Equal(t, c.place, f.Place, name)
			assert.Contains(t, fault.Plainly(err), c.words, name)
		}
	}
}

// taken is a side that keeps what it is called with, and answers as it is told.
func taken(t *testing.T, answer func(w http.ResponseWriter)) (address string, calls *[]*http.Request, bodies *[]string) {
	t.Helper()
	calls, bodies = &[]*http.Request{}, &[]string{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		*calls, *bodies = append(*calls, r), append(*bodies, string(raw))
		answer(w)
	}))
	t.Cleanup(s.Close)
	return s.URL, calls, bodies
}

func send(t *testing.T, settings map[string]string, place string, d *message.Document) connect.Delivery {
	t.Helper()
	w, err := open(connect.Config{ID: "hook", Settings: settings, Env: env(t)})
	require.NoError(t, err)
	return w.Send(t.Context(), connect.Post{Place: place, Doc: d, Key: "k-1"})
}

// What an answer means is what the settings say of it.
func TestAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		status   int
		body     string
		settings map[string]string
		taken    bool
		final    bool
		id, link string
		words    string
	}{
		"taken":                       {200, `{"id":7}`, map[string]string{"id": "$.id"}, true, false, "7", "", ""},
		"with a link":                 {201, `{"post":{"id":"a","url":"https://x"}}`, map[string]string{"id": "$.post.id", "link": "$.post.url"}, true, false, "a", "https://x", ""},
		"no JSON":                     {200, "ok", map[string]string{"id": "$.id"}, true, false, "", "", ""},
		"200 to everything, yes":      {200, `{"ok":true}`, map[string]string{"accepted": "$.ok"}, true, false, "", "", ""},
		"200 to everything, no":       {200, `{"ok":false,"error":"no such room"}`, map[string]string{"accepted": "$.ok", "words": "$.error"}, false, true, "", "", "no such room"},
		"not there":                   {200, `{}`, map[string]string{"accepted": "$.ok"}, false, true, "", "", "it was not accepted"},
		"one value":                   {200, `{"status":"Sent"}`, map[string]string{"accepted": `$.status == "sent"`}, true, false, "", "", ""},
		"another value":               {200, `{"status":"queued"}`, map[string]string{"accepted": "$.status == sent"}, false, true, "", "", ""},
		"a page where JSON should be": {200, "<html>", map[string]string{"accepted": "$.ok"}, false, true, "", "", "the answer is not JSON"},
		"XML, yes":                    {200, `<?xml version="1.0"?><result xmlns="urn:x"><code>0</code><id> 7 </id></result>`, map[string]string{"accepted": "/result/code == 0", "id": "/result/id"}, true, false, "7", "", ""},
		"XML, no":                     {200, `<result><code>11</code><text>no such <b>number</b></text></result>`, map[string]string{"accepted": "/result/code == 0", "words": "/result/text"}, false, true, "", "", "no such number"},
		"XML, not there":              {200, `<result/>`, map[string]string{"accepted": "/result/code == 0"}, false, true, "", "", "it was not accepted"},
		"XML, an attribute":           {200, `<result><post id="a&amp;b"/></result>`, map[string]string{"accepted": "/result/post/@id", "id": "/result/post/@id"}, true, false, "a&b", "", ""},
		"a page where XML should be":  {200, "OK 7", map[string]string{"accepted": "/result/code"}, false, true, "", "", "the answer is not XML"},
		"XML that breaks off":         {200, "<result><code>0", map[string]string{"accepted": "/result/code == 0"}, false, true, "", "", "the answer is not XML"},
		"text, yes":                   {200, "OK id=42\n", map[string]string{"accepted": "~^OK", "id": "~id=([0-9]+)"}, true, false, "42", "", ""},
		"text, no":                    {200, "ERR: no credit", map[string]string{"accepted": "~^OK", "words": "~ERR: (.*)"}, false, true, "", "", "no credit"},
		"refused for good":            {400, `{"error":{"text":"too long"}}`, map[string]string{"words": "$.error.text"}, false, true, "", "", "too long"},
		"busy":                        {503, "", nil, false, false, "", "", "503"},
		"too fast":                    {429, `{"error":"slow"}`, map[string]string{"words": "$.error"}, false, false, "", "", "slow"},
		"withdrawn":                   {410, "", nil, false, true, "", "", "410"},
		"elsewhere":                   {302, "", nil, false, true, "", "", "302"},
	} {
		address, _, _ := taken(t, func(w http.ResponseWriter) {
			w.Header().Set("Retry-After", "7")
			w.WriteHeader(c.status)
			_, _ = w.Write([]byte(c.body))
		})
		settings := map[string]string{"places": "tours " + address}
		maps.Copy(settings, c.settings)
		d := send(t, settings, "tours", document("x"))
		assert.Equal(t, []any{c.taken, c.final, c.id, c.link}, []any{d.Taken, d.Final, d.ID, d.Link}, "%s: %+v", name, d)
		assert.Contains(t, d.Answer, c.words, name)
	}
	d := send(t, map[string]string{"places": "tours http://127.0.0.1:1/in"}, "tours", document("x"))
	assert.Equal(t, []any{false, false, 0}, []any{d.Taken, d.Final, d.Status}, "no answer may heal")
	d = send(t, map[string]string{"places": "tours http://127.0.0.1:1/in"}, "board", document("x"))
	assert.True(t, d.Final)
	assert.Contains(t, d.Answer, "there is no place board any more")
}

// The settings say of a refusal whether it is the post's own fault, which is set aside alone, or the place's, where nothing goes any more.
func TestWhoseFaultARefusalIs(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		place  bool
	}{
		"the post's":                  {200, `{"ok":false,"error":"too long"}`, false},
		"the place's":                 {200, `{"ok":false,"error":"Channel_not_found"}`, true},
		"the place's, by a status":    {400, `{"error":"channel_not_found"}`, true},
		"the post's, by a status":     {422, `{"error":"too long"}`, false},
		"the place's, whatever it is": {404, `{"error":"too long"}`, true},
	} {
		address, _, _ := taken(t, func(w http.ResponseWriter) {
			w.WriteHeader(c.status)
			_, _ = w.Write([]byte(c.body))
		})
		d := send(t, map[string]string{"places": "tours " + address, "accepted": "$.ok", "place_fault": "$.error == channel_not_found"}, "tours", document("x"))
		assert.Equal(t, []bool{false, true, c.place}, []bool{d.Taken, d.Final, d.Place}, "%s: %+v", name, d)
	}
}

// One address for all places takes each as one piece of it; how it is signed in to goes with every call.
func TestOneAddress(t *testing.T) {
	address, calls, _ := taken(t, func(http.ResponseWriter) {})
	d := send(t, map[string]string{"addresses": oneAddress, "address": address + "/rooms/{place}/posts", "names": "tours, the board?x=1", "auth": "bearer token", "token": "t-9", "method": "PUT"}, "the board?x=1", document("x"))
	require.True(t, d.Taken, "%+v", d)
	r := (*calls)[0]
	assert.Equal(t, []string{"PUT", "/rooms/the%20board%3Fx=1/posts", "Bearer t-9"}, []string{r.Method, r.URL.EscapedPath(), r.Header.Get("Authorization")})
	assert.Empty(t, r.URL.RawQuery)
}

// The proof posts nothing, and says of an address that was withdrawn who can make a new one.
func TestProof(t *testing.T) {
	for status, good := range map[int]bool{200: true, 404: true, 405: true, 410: false, 401: false, 403: false} {
		address, calls, _ := taken(t, func(w http.ResponseWriter) { w.WriteHeader(status) })
		w, err := open(connect.Config{Settings: map[string]string{"places": "a " + address + "/1\nb " + address + "/2"}, Env: env(t)})
		require.NoError(t, err)
		steps := w.Prove(t.Context())
		require.Len(t, steps, 4)
		assert.Equal(t, good, steps[1].OK, "%d: %+v", status, steps[1])
		if !good {
			assert.NotEmpty(t, steps[1].Do)
		}
		require.Len(t, *calls, 1, "one server is asked once")
		assert.Equal(t, http.MethodHead, (*calls)[0].Method)
		assert.Contains(t, steps[2].Said, "An example")
	}
	w, err := open(connect.Config{Settings: map[string]string{"places": "a http://10.0.0.1/in"}, Env: env(t)})
	require.NoError(t, err)
	steps := w.Prove(t.Context())
	assert.False(t, steps[1].OK)
	assert.Contains(t, steps[1].Said, "private")
}

// A picture is handed over first where the other side wants it so, and named by what it answers; a multipart form carries it; else
// its own address has to do.
func TestPictures(t *testing.T) {
	pictures := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/p.png" {
			_ = png.Encode(w, image.NewGray(image.Rect(0, 0, 4, 4)))
			return
		}
		http.NotFound(w, r)
	}))
	t.Cleanup(pictures.Close)
	address, calls, bodies := taken(t, func(w http.ResponseWriter) { _, _ = w.Write([]byte(`{"id":"pic-9"}`)) })
	own := map[string]string{"places": "tours " + address + "/in/1", "shape": ownShape, "body": `{"t":"${post.title}","pic":"${post.picture}","who":"${post.sender.name}","m":"${post.mentions}"}`}
	send := func(with map[string]string, from string) string {
		settings := maps.Clone(own)
		maps.Copy(settings, with)
		require.NoError(t, check(settings))
		conn, err := Kind().Open(connect.Config{ID: "hook", Settings: settings, Env: env(t)})
		require.NoError(t, err)
		d := document("x")
		d.Picture, d.Sender, d.Mentions = &message.Picture{From: pictures.URL + from, Text: "the hose"}, &message.Sender{Name: "Desk"}, []message.Mentioned{{Name: "Jonas", To: "U1"}}
		got := conn.(connect.Sender).Send(t.Context(), connect.Post{Place: "tours", Key: "k", Doc: d})
		require.True(t, got.Taken, "%+v", got)
		return (*bodies)[len(*bodies)-1]
	}
	assert.JSONEq(t, `{"t":"","pic":"`+pictures.URL+`/p.png","who":"Desk","m":["Jonas"]}`, strings.Replace(send(nil, "/p.png"), `"t":"x"`, `"t":""`, 1))
	before := len(*calls)
	handed := send(map[string]string{"picture_address": address + "/{place}/pictures", "picture_name": "$.id", "marks": ownMarks, "own_marks": `{"bold":["*","*"],"mention":"<@{to}>"}`}, "/p.png")
	assert.Contains(t, handed, `"pic":"pic-9"`)
	assert.Contains(t, handed, `"m":["<@U1>"]`)
	require.Len(t, *calls, before+2)
	assert.Equal(t, "/tours/pictures", (*calls)[before].URL.Path)
	assert.Contains(t, (*bodies)[before], "Content-Type: image/png")
	assert.Contains(t, send(map[string]string{"picture_address": address + "/{place}/pictures", "picture_name": "$.id"}, "/gone.png"), "/gone.png", "what cannot be had is named by its address")
	assert.Contains(t, send(map[string]string{"format": asParts}, "/p.png"), `name="pic"; filename="picture.png"`)
	for _, c := range []struct{ name, v, want string }{{"picture_address", "http://x.example/p", "picture_name"}, {"own_marks", `{"bold":["b","b"]}`, "own_marks: bold"}, {"pace", "0.5", "pace"}} {
		settings := maps.Clone(own)
		settings["marks"], settings[c.name] = ownMarks, c.v
		if c.name != "own_marks" {
			settings["marks"] = plainText
		}
		require.ErrorContains(t, check(settings), c.want)
	}
	assert.Equal(t, []connect.Ability{connect.CanSender, connect.CanPicture, connect.CanMention}, able(own))
	assert.Empty(t, able(map[string]string{"shape": "text only"}))
}

// A webhook can do what its settings say how to: what it cannot is no method of it, so that nobody asks for it.
func TestRepliesAndEdits(t *testing.T) {
	address, calls, bodies := taken(t, func(w http.ResponseWriter) { _, _ = w.Write([]byte(`{"id":"p 7"}`)) })
	places := "tours " + address + "/in/1"
	own := map[string]string{"places": places, "shape": ownShape, "body": `{"t":"${post.title}","thread":"${post.under}"}`, "id": "$.id"}
	for name, c := range map[string]struct {
		with           map[string]string
		edits, replies bool
	}{
		"neither":          {map[string]string{"places": places}, false, false},
		"by its body":      {own, false, true},
		"by an address":    {map[string]string{"places": places, "id": "$.id", "reply_address": address + "/{place}/{id}/replies"}, false, true},
		"edits alone":      {map[string]string{"places": places, "id": "$.id", "edit_address": address + "/posts/{id}"}, true, false},
		"both, and a body": {map[string]string{"places": places, "id": "$.id", "edit_address": address + "/posts/{id}", "reply_address": address + "/r/{id}"}, true, true},
	} {
		conn, err := Kind().Open(connect.Config{ID: "hook", Settings: c.with, Env: env(t)})
		require.NoError(t, err, name)
		_, sends := conn.(connect.Sender)
		e, edits := conn.(connect.Editor)
		r, replies := conn.(connect.Replier)
		require.Equal(t, []bool{true, c.edits, c.replies}, []bool{sends, edits, replies}, name)
		post := connect.Post{Place: "tours", Key: "k-2", Doc: document("x")}
		if replies {
			d := r.Reply(t.Context(), "p 7", post)
			require.True(t, d.Taken, "%s: %+v", name, d)
			last := (*calls)[len(*calls)-1]
			if name == "by its body" {
				assert.Equal(t, "/in/1", last.URL.Path)
				assert.JSONEq(t, `{"t":"x","thread":"p 7"}`, (*bodies)[len(*bodies)-1])
			} else {
				assert.Contains(t, last.URL.EscapedPath(), "p%207", name)
			}
		}
		if edits {
			d := e.Edit(t.Context(), "p 7", post)
			require.True(t, d.Taken, "%s: %+v", name, d)
			last := (*calls)[len(*calls)-1]
			assert.Equal(t, []string{"PUT", "/posts/p%207"}, []string{last.Method, last.URL.EscapedPath()}, name)
		}
	}
	gone, _, _ := taken(t, func(w http.ResponseWriter) { w.WriteHeader(http.StatusNotFound) })
	conn, err := Kind().Open(connect.Config{Settings: map[string]string{"places": places, "id": "$.id", "edit_address": gone + "/{id}"}, Env: env(t)})
	require.NoError(t, err)
	d := conn.(connect.Editor).Edit(t.Context(), "7", connect.Post{Place: "tours", Key: "k", Doc: document("x")})
	assert.Equal(t, connect.InsteadPost, d.Instead, "what is gone is told anew")
}

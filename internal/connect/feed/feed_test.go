package feed_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/feed"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/testdb"
)

const atom = `<?xml version="1.0" encoding="utf-8"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Notices</title><id>n</id><updated>2026-11-20T06:00:00Z</updated>
<entry><id>n-2</id><title>Road closed &amp; icy</title><link href="https://x.example/2"/><published>2026-11-20T06:00:00+01:00</published><updated>2026-11-20T06:00:00Z</updated><summary type="html">&lt;p&gt;The &lt;b&gt;Upper&lt;/b&gt; road&lt;/p&gt;</summary><author><name>Jonas</name></author><category term="roads"/></entry>
<entry><id>n-1</id><title>Hygiene</title><updated>2026-11-19T06:00:00Z</updated></entry></feed>`

func TestFormatsAndEncodings(t *testing.T) {
	for _, c := range []struct{ name, raw, media, title string }{
		{"atom", atom, "application/atom+xml", "Road closed & icy"},
		{"rss", `<rss version="2.0"><channel><title>N</title><item><guid>1</guid><title>Käse</title></item></channel></rss>`, "text/xml", "Käse"},
		{"json feed", `{"version":"https://jsonfeed.org/version/1.1","title":"N","items":[{"id":"1","title":"Käse","content_text":"x"}]}`, "application/feed+json", "Käse"},
		{"declared latin", "<?xml version=\"1.0\" encoding=\"iso-8859-1\"?><rss version=\"2.0\"><channel><title>N</title><item><guid>1</guid><title>K\xe4se</title></item></channel></rss>", "", "Käse"},
		{"declared by the server", "<rss version=\"2.0\"><channel><title>N</title><item><guid>1</guid><title>K\xe4se</title></item></channel></rss>", "text/xml; charset=windows-1252", "Käse"},
		{"says UTF-8 and is not", "<?xml version=\"1.0\" encoding=\"utf-8\"?><rss version=\"2.0\"><channel><title>N</title><item><guid>1</guid><title>K\xe4se \x96 neu</title></item></channel></rss>", "", "Käse – neu"},
		{"no id", `<rss version="2.0"><channel><title>N</title><item><link>https://x.example/1</link><title>A</title></item></channel></rss>`, "", "A"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, err := feed.Parse([]byte(c.raw), c.media)
			require.NoError(t, err)
			it := feed.Item(f.Items[0])
			assert.Equal(t, c.title, it.Record["title"])
			assert.NotEmpty(t, it.Key)
		})
	}
	f, err := feed.Parse([]byte(atom), "")
	require.NoError(t, err)
	r := feed.Item(f.Items[0]).Record
	assert.Equal(t, "The Upper road", r["summary"])
	assert.Equal(t, "2026-11-20T05:00:00Z", r["published"])
	assert.Equal(t, []any{"roads"}, r["categories"])
	_, err = feed.Parse([]byte("<html><body>no feed</body></html>"), "text/html")
	require.ErrorContains(t, err, "no RSS, Atom or JSON feed")
}

// A feed of a real server is asked for only if it has changed.
func TestConditionalGet(t *testing.T) {
	address, folder := peers.Nginx(t)
	file := filepath.Join(folder, "n.atom")
	require.NoError(t, os.WriteFile(file, []byte(atom), 0o644))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(-time.Minute)))
	conn, err := feed.Kind().Open(connect.Config{Settings: map[string]string{"address": address + "/n.atom"}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	assert.True(t, connect.Proved(conn.Prove(context.Background())))
	src := connect.SourceConfig{Settings: map[string]string{"new_by": "by the date it was published"}, Key: "id"}
	var items []connect.Item
	poll := func(cursor json.RawMessage) connect.Polled {
		items = nil
		p, err := conn.(connect.Poller).Poll(context.Background(), src, cursor, func(it connect.Item) error { items = append(items, it); return nil })
		require.NoError(t, err)
		return p
	}
	first := poll(nil)
	require.Len(t, items, 2)
	assert.Equal(t, "n-1", items[0].Key, "the oldest first")
	assert.True(t, poll(first.Cursor).Same)
	later := `<entry><id>old</id><title>Brought up again</title><published>2026-01-01T00:00:00Z</published><updated>2026-11-21T00:00:00Z</updated></entry><entry><id>n-2</id>`
	require.NoError(t, os.WriteFile(file, []byte(replaceFirst(atom, "<entry><id>n-2</id>", later)), 0o644))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(5*time.Second)))
	assert.False(t, poll(first.Cursor).Same)
	require.Len(t, items, 3)
	assert.True(t, items[1].Old || items[2].Old || items[0].Old, "an entry published long ago is not new")
	_, err = conn.(connect.Poller).Poll(context.Background(), src, nil, func(connect.Item) error { return connect.ErrEnough })
	require.ErrorIs(t, err, connect.ErrEnough)
	gone, err := feed.Kind().Open(connect.Config{Settings: map[string]string{"address": address + "/none"}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	steps := gone.Prove(context.Background())
	assert.Contains(t, steps[0].Said, "404")
	assert.Contains(t, steps[0].Do, "check the address")
}

// Entries without an id that share a link are told apart by what they say; dates are read in the feed's zone where they name none, and
// what is left out is said.
func TestEntriesOfCarelessFeeds(t *testing.T) {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		item := func(title, link, date string) {
			fmt.Fprintf(w, "<item><title>%s</title><link>%s</link><pubDate>%s</pubDate></item>", title, link, date)
		}
		_, _ = w.Write([]byte(`<rss version="2.0"><channel><title>N</title>`))
		item("A", "https://x.example/all", "30.11.2026 20:15")
		item("B", "https://x.example/all", "Mon, 30 Nov 2026 20:15:00 EST")
		item("C", "https://x.example/3", "30 Nov 2026 20:15 MEZ")
		item("D", "https://x.example/4", "soon")
		_, _ = w.Write([]byte(`<item><description>neither</description></item><item><description>nor</description></item></channel></rss>`))
	}))
	t.Cleanup(srv.Close)
	conn, err := feed.Kind().Open(connect.Config{Settings: map[string]string{"address": srv.URL}, Env: testdb.Loopback(t, value.Workspace{Zone: zurich, Locale: "de-CH"})})
	require.NoError(t, err)
	said := conn.Prove(context.Background())[0].Said
	assert.Contains(t, said, "left out: 2 entries without an id, a link or a title")
	assert.Contains(t, said, "without a date that can be read: 1 entry")
	at, keys := map[string]any{}, map[string]bool{}
	poll := func() {
		_, err := conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Key: "id"}, nil, func(it connect.Item) error {
			at[it.Record["title"].(string)], keys[it.Key] = it.Record["published"], true
			assert.Equal(t, it.Key, it.Record["id"])
			return nil
		})
		require.NoError(t, err)
	}
	poll()
	assert.Len(t, keys, 4)
	poll()
	assert.Len(t, keys, 4, "they are called the same each time")
	assert.True(t, keys["https://x.example/3"], "a link of its own is enough")
	assert.Equal(t, []any{"2026-11-30T19:15:00Z", "2026-12-01T01:15:00Z", "2026-11-30T19:15:00Z"}, []any{at["A"], at["B"], at["C"]})
}

func replaceFirst(s, old, with string) string {
	for i := 0; i+len(old) <= len(s); i++ {
		if s[i:i+len(old)] == old {
			return s[:i] + with + s[i+len(old):]
		}
	}
	return s
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(atom), "text/xml")
	f.Add([]byte(`{"version":"https://jsonfeed.org/version/1","items":[{"id":1}]}`), "application/json; charset=utf-16")
	f.Fuzz(func(_ *testing.T, raw []byte, media string) {
		if parsed, err := feed.Parse(raw, media); err == nil {
			for _, it := range parsed.Items {
				feed.Item(it)
			}
		}
	})
}

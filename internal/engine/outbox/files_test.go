package outbox

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/semaphore"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// A file that lies at an address goes along where it can be had and carried; elsewhere the message has a link to it. It is fetched
// through the guard, and no more of it than is carried.
func TestFilesFromAddresses(t *testing.T) {
	side := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/plan.pdf":
			_, _ = w.Write([]byte("%PDF-1.7 plan"))
		case "/huge.bin":
			_, _ = w.Write(make([]byte, largestFile+2))
		default:
			http.NotFound(w, r)
		}
	}))
	defer side.Close()
	with := func(env connect.Env) *Outbox {
		h := &host.Host{Env: env, Log: slog.New(slog.DiscardHandler)}
		return &Outbox{Host: h, Links: &links.Links{Host: h}}
	}
	open := with(testdb.Loopback(t, value.DefaultWorkspace()))
	shut, err := connect.NewEnv(value.DefaultWorkspace(), "")
	require.NoError(t, err)
	guarded := with(shut)
	for _, c := range []struct {
		name   string
		o      *Outbox
		kind   string
		from   string
		linked bool
	}{
		{"a mail carries it", open, "mail", side.URL + "/plan.pdf", false},
		{"a chat without files links to it", open, "chat", side.URL + "/plan.pdf", true},
		{"one that is not there", open, "mail", side.URL + "/gone.pdf", true},
		{"one that is too large", open, "mail", side.URL + "/huge.bin", true},
		{"one behind the guard", guarded, "mail", side.URL + "/plan.pdf", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			doc := &message.Document{Attach: []message.File{{Name: "t.csv", Data: []byte("id")}, {Name: "plan.pdf", From: c.from}}}
			got, err := c.o.carried(t.Context(), t.Context(), &store.Connection{Kind: c.kind}, &store.Post{}, doc, &claim{})
			require.NoError(t, err)
			assert.Len(t, doc.Attach, 2, "what is stored stays")
			if c.linked {
				assert.Equal(t, []message.Link{{Text: "plan.pdf", To: c.from}}, got.Links)
				if c.kind == "chat" { // the table would be a link, too, if the outside could reach this installation
					assert.Empty(t, got.Attach)
					assert.Equal(t, "Not attached: t.csv", got.Plain())
					return
				}
				assert.Len(t, got.Attach, 1)
				return
			}
			assert.Empty(t, got.Links)
			assert.Equal(t, message.File{Name: "plan.pdf", Media: "application/pdf", Data: []byte("%PDF-1.7 plan")}, got.Attach[1])
		})
	}
}

// What goes with posts has room for so much at a time: a file for which there is none in time is a link, and what is held is given back
// once the post has gone, whatever became of it.
func TestRoomForWhatGoesAlong(t *testing.T) {
	side := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/gone" {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write(make([]byte, 6<<20))
	}))
	defer side.Close()
	h := &host.Host{Env: testdb.Loopback(t, value.DefaultWorkspace()), Log: slog.New(slog.DiscardHandler)}
	const room = 15 << 20
	o := &Outbox{Host: h, Links: &links.Links{Host: h}, room: semaphore.NewWeighted(room)}
	carry := func(c *claim, path string) *message.Document {
		fetch, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer cancel()
		doc, err := o.carried(t.Context(), fetch, &store.Connection{Kind: "mail"}, &store.Post{}, &message.Document{Attach: []message.File{{Name: "plan.bin", From: side.URL + path}}}, c)
		require.NoError(t, err)
		return doc
	}
	first, second, third := claim{room: o.room}, claim{room: o.room}, claim{room: o.room}
	assert.Len(t, carry(&first, "/plan").Attach, 1)
	late := carry(&second, "/plan")
	assert.Empty(t, late.Attach, "9 MiB are left, and it may have 10")
	assert.Contains(t, late.Plain(), "Not attached, but behind a link: plan.bin")
	assert.Empty(t, carry(&third, "/gone").Attach)
	first.free()
	first.free()
	assert.Len(t, carry(&second, "/plan").Attach, 1, "there is room again")
	second.free()
	third.free()
	assert.True(t, o.room.TryAcquire(room), "all has been given back")
}

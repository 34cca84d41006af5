package outbox

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
			got, err := c.o.carried(t.Context(), t.Context(), &store.Connection{Kind: c.kind}, &store.Post{}, doc)
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

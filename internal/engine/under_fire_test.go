package engine_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	server "github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/peers"
	"dorfbote/internal/store"
)

// taker is a side that takes every post at once and remembers when.
type taker struct {
	mu    sync.Mutex
	taken map[string]time.Time
}

func (k *taker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var p struct{ Title string }
	_ = json.NewDecoder(r.Body).Decode(&p)
	k.mu.Lock()
	k.taken[p.Title] = time.Now()
	k.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

func (k *taker) at(title string) time.Time {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.taken[title]
}

// office is a mail server that takes every mail and keeps none.
type office struct{}

func (office) NewSession(*server.Conn) (server.Session, error) { return office{}, nil }
func (office) Mail(string, *server.MailOptions) error          { return nil }
func (office) Rcpt(string, *server.RcptOptions) error          { return nil }
func (office) Reset()                                          {}
func (office) Logout() error                                   { return nil }
func (office) Data(r io.Reader) error                          { _, err := io.Copy(io.Discard, r); return err }

func openOffice(t *testing.T) (address string) {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := server.NewServer(office{})
	s.Domain, s.ErrorLog = "mail.example", log.New(io.Discard, "", 0)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Close() })
	return l.Addr().String()
}

// Whatever two hundred places of as many connections do in whatever phase of a call, a healthy place has its posts at once. What p50 and
// p99 are is printed; an alert that has to wait for a call of another would be late by seconds.
func TestAHealthyPlaceUnderFire(t *testing.T) {
	if testing.Short() {
		t.Skip("what hangs takes its time")
	}
	const many, posts = 200, 150
	side := httptest.NewServer(&taker{taken: map[string]time.Time{}})
	defer side.Close()
	mails := openOffice(t)
	phases := peers.Phases(t, mails, func(address string) {
		require.NoError(t, smtp.SendMail(address, nil, "a@x.example", []string{"b@x.example"}, bytes.Repeat([]byte("milk\r\n"), 10)))
	})
	require.Greater(t, len(phases), 4, "greeting, hello, sender, recipient, mail")
	faults := []struct{ name, mail, web string }{
		{"nothing wrong", "", ""},
		{"silent from the start", peers.Silent, peers.Silent},
		{"trickling", peers.Trickle, peers.Trickle},
		{"never ended", peers.Lingers, peers.Lingers},
		{"broken off at once", peers.Reset(0), peers.Reset(0)},
		{"cut off within its answer", peers.Cut(phases[1] + 3), peers.Cut(20)},
	}
	for n, at := range phases[1:] {
		faults = append(faults, struct{ name, mail, web string }{fmt.Sprintf("hung in phase %d", n+2), peers.Stall(at), peers.Stall(10 * (n + 1))})
	}
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			w := start(t, true)
			quick := &taker{taken: map[string]time.Time{}}
			healthy := httptest.NewServer(quick)
			defer healthy.Close()
			place := func(id, kind, to string, settings store.Texts) {
				require.NoError(t, w.Store.DB.Create(&store.Connection{ID: id, Kind: kind, Title: id, Settings: settings, CreatedAt: time.Now()}).Error)
				require.NoError(t, w.Store.DB.Create(&store.Destination{Name: to, Connection: id, Title: to}).Error)
			}
			place("quick", "webhook", "quick/in", store.Texts{"places": "in " + healthy.URL, "shape": "title, text and facts"})
			text := "messages: {m: {title: \"${record.id}\"}}\nroute: {otherwise: {tell: [{to: quick/in, message: m}]}}\n"
			if f.mail != "" {
				mail, web := peers.NewLine(t, mails), peers.NewLine(t, side.Listener.Addr().String())
				mail.Spoil(t, f.mail)
				web.Spoil(t, f.web)
				var tells []string
				for n := range many {
					id := fmt.Sprintf("bad%d", n)
					if n%2 == 0 {
						place(id, "mail", id+"/a@x.example", store.Texts{"smtp": mail.Address, "smtp_security": "not at all", "from": "desk@x.example"})
						tells = append(tells, fmt.Sprintf("{to: %q, message: m}", id+"/a@x.example"))
					} else {
						place(id, "webhook", id+"/in", store.Texts{"places": "in http://" + web.Address})
						tells = append(tells, fmt.Sprintf("{to: %q, message: m}", id+"/in"))
					}
				}
				w.only(t, strings.Replace(text, "route: {", "route: {rows: [{when: {field: status, is: late}, tell: ["+strings.Join(tells, ", ")+"]}], ", 1))
				w.take(t, event("0", "late", "late", 900))
				eventually(t, "all have been tried", func() bool {
					var n int64
					return w.Store.DB.Raw("SELECT count(*) FROM posts WHERE destination LIKE 'bad%' AND attempts > 0").Scan(&n).Error == nil && n == many
				})
			} else {
				w.only(t, text)
			}
			took := make([]time.Duration, posts)
			for n := range posts {
				title, began := fmt.Sprintf("H-%d", n), time.Now()
				w.take(t, event(title, title, "fine", 900))
				for quick.at(title).IsZero() && time.Since(began) < 45*time.Second { // a machine may stand still for long
					time.Sleep(500 * time.Microsecond)
				}
				took[n] = quick.at(title).Sub(began)
				require.Positive(t, took[n], "%s has not come", title)
			}
			slices.Sort(took)
			t.Logf("p50 %v, p99 %v", took[posts/2].Round(100*time.Microsecond), took[posts*99/100].Round(100*time.Microsecond))
			assert.Less(t, took[posts/2], 500*time.Millisecond, "the middle one bears a busy machine; one that waits for a call of another does not")
		})
	}
}

package fire

import (
	"context"
	"errors"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/seal"
	"dorfbote/internal/store"
)

// elsewhere tells a webhook's place and mail addresses that the record gives.
const elsewhere = `dorfbote: 1
name: Fire
watch: {source: tours/collections}
keep: {field: litres, above: 500}
messages: {alert: {title: "${record.no}", body: "${record.litres} litres"}}
route:
  take: first
  rows:
    - {name: Upper, when: {field: valley, is: Upper}, tell: [{to: "hook/tours", message: alert}]}
  otherwise: {tell: [{to: "mail/${record.id}@farms.example", message: alert}]}
`

// post is a mail server that notes every mail it took, and whose lines break off or which is busy, now and then.
type post struct {
	mu    sync.Mutex
	ids   map[string][]string // by subject: the Message-IDs that it came under
	wrong int
	spoil func() spoilt
}

func (p *post) NewSession(c *smtp.Conn) (smtp.Session, error) { return &postSession{p, c}, nil }

type postSession struct {
	p *post
	c *smtp.Conn
}

func (s *postSession) Mail(string, *smtp.MailOptions) error { return nil }
func (s *postSession) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s *postSession) Reset()                               {}
func (s *postSession) Logout() error                        { return nil }

func (s *postSession) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	_, _ = io.Copy(io.Discard, m.Body)
	how := s.p.spoil()
	if how == hesitates {
		time.Sleep(200 * time.Millisecond)
	}
	s.p.mu.Lock()
	defer s.p.mu.Unlock()
	if how != answers {
		s.p.wrong++
	}
	if how == fails {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "busy"}
	}
	subject := m.Header.Get("Subject")
	s.p.ids[subject] = append(s.p.ids[subject], m.Header.Get("Message-Id"))
	if how == hangsUp {
		_ = s.c.Conn().Close()
		return errors.New("gone")
	}
	return nil
}

// Servers, workers and PostgreSQL are killed while a webhook's side and a mail server fail, hesitate or lose their answers: everybody
// is told, under one key, and by one Message-ID.
func TestKilledWhileTellingElsewhere(t *testing.T) {
	if testing.Short() {
		t.Skip("kills take their time")
	}
	rounds := number("DORFBOTE_FIRE_ROUNDS", 12)
	dir := temporary(t)
	pg := ownPostgres(t, dir)
	defer func() { pg.Stop() }()
	spoil := func() spoilt {
		switch n := rand.IntN(100); {
		case n < 2:
			return fails
		case n < 4:
			return hesitates
		case n < 6:
			return hangsUp
		}
		return answers
	}
	hook := newSquare(t)
	hook.spoil = spoil
	office := &post{ids: map[string][]string{}, spoil: spoil}
	server := smtp.NewServer(office)
	server.Domain, server.ErrorLog = "mail.example", log.New(io.Discard, "", 0)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close() })
	all := beginWith(t, pg.URL, 2, 3, func(st *store.Store) { prepareElsewhere(t, st, hook.URL, l.Addr().String()) })
	load := newLoad([]string{all[0].addr, all[1].addr}, 4, 2, 20, 40*time.Millisecond)
	load.keys = 40
	for i := range rounds {
		time.Sleep(time.Duration(50+rand.IntN(500)) * time.Millisecond)
		if i%5 == 4 {
			what := i / 5 % 3
			if pg.Kill(what); what != 2 {
				time.Sleep(time.Duration(rand.IntN(600)) * time.Millisecond)
				pg = startAgain(t, pg, dir)
			}
			time.Sleep(time.Second)
			continue
		}
		p := all[rand.IntN(len(all))]
		p.kill()
		p.start(t)
	}
	time.Sleep(time.Second)
	load.end()
	st, err := store.Open(context.Background(), pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	settled(t, st, 120*time.Second)
	calls := map[string]map[string]bool{}
	for _, c := range hook.taken() {
		if calls[c.title] == nil {
			calls[c.title] = map[string]bool{}
		}
		calls[c.title][c.key] = true
	}
	n, repeated := 0, 0
	load.telling.Range(func(key, _ any) bool {
		id := key.(string)
		n++
		switch mails := office.ids[id]; {
		case len(calls[id]) == 0 && len(mails) == 0:
			assert.Fail(t, "nobody was told", id)
		case len(calls[id]) > 0:
			assert.Len(t, calls[id], 1, "%s came under one key", id)
			assert.Empty(t, mails, "%s is told in one place", id)
		default:
			repeated += len(mails) - 1
			for _, m := range mails {
				assert.Equal(t, mails[0], m, "%s is one mail, however often it was tried", id)
			}
		}
		return true
	})
	assert.Equal(t, n, len(calls)+len(office.ids), "nobody is told of anything else")
	var places int64
	require.NoError(t, st.DB.Raw("SELECT count(*) FROM destinations WHERE connection = 'mail'").Scan(&places).Error)
	t.Logf("%d kills: %d arrivals, %d told by webhook, %d by mail to %d addresses (%d mails repeated under their Message-ID), %d and %d spoilt", rounds, load.accepted.Load(), len(calls), len(office.ids), places, repeated, hook.spoiled(), office.wrong)
}

func prepareElsewhere(t *testing.T, st *store.Store, hook, office string) {
	t.Helper()
	box, err := seal.New(fireKey())
	require.NoError(t, err)
	sealed, err := box.Seal(map[string]string{"places": "tours " + hook + "/in/1"}, "hook")
	require.NoError(t, err)
	for _, c := range []store.Connection{
		{ID: "tours", Kind: "hook", Title: "Tours", KeyField: "id"},
		{ID: "hook", Kind: "webhook", Title: "Hook", KeyField: "id", Settings: store.Texts{"shape": "title, text and facts", "id": "$.id"}, Sealed: sealed},
		{ID: "mail", Kind: "mail", Title: "Mail", KeyField: "id", Settings: store.Texts{"smtp": office, "smtp_security": "not at all", "from": "desk@lindental.example"}},
	} {
		c.CreatedAt = time.Now()
		require.NoError(t, st.DB.Create(&c).Error)
	}
	require.NoError(t, st.DB.Create(&store.Destination{Name: "hook/tours", Connection: "hook", Title: "tours"}).Error)
	w := store.Workflow{Name: "Fire", Draft: elsewhere, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, st.DB.Create(&w).Error)
	_, err = st.SwitchOn(context.Background(), w.ID, store.SwitchedOn{Sheet: elsewhere, Source: "tours/collections", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(hook, "http"))
}

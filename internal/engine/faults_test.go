package engine_test

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/engine/poll"
	"dorfbote/internal/peers"
	"dorfbote/internal/practice"
	"dorfbote/internal/testdb"
)

// Whatever becomes of the line, nothing is missed and nothing is told twice.
func TestBadLines(t *testing.T) {
	if testing.Short() {
		t.Skip("slow lines take their time")
	}
	dir := t.TempDir()
	files := httptest.NewServer(http.FileServer(http.Dir(dir)))
	defer files.Close()
	upstream := strings.TrimPrefix(files.URL, "http://")
	write := func(name, text string) {
		tmp := filepath.Join(dir, "."+name)
		require.NoError(t, os.WriteFile(tmp, []byte(text), 0o644))
		require.NoError(t, os.Rename(tmp, filepath.Join(dir, name)))
	}
	pad := strings.Repeat("milk ", 60)
	at := time.Now().Add(72 * time.Hour).UTC().Format("20060102T150405Z")
	u, err := url.Parse(testdb.URL(t))
	require.NoError(t, err)
	orders, err := sql.Open("pgx", u.String())
	require.NoError(t, err)
	defer orders.Close()
	_, err = orders.Exec("CREATE TABLE orders (id int PRIMARY KEY, pad text, updated_at timestamptz NOT NULL DEFAULT clock_timestamp())")
	require.NoError(t, err)
	password, _ := u.User.Password()
	always := func(address string) func(*testing.T) string { return func(*testing.T) string { return address } }
	var mariaOrders *sql.DB
	var box *peers.Mail
	var letters mailFolder
	var square *httptest.Server
	said := 0
	for _, c := range []struct {
		name, kind, key string
		upstream        func(t *testing.T) string // starts what is asked, and gives its address
		settings        func(address string) map[string]string
		source          map[string]string
		grow            func(n int) // makes it hold n records
	}{
		{"rest", "rest", "id", always(upstream), func(a string) map[string]string { return map[string]string{"address": "http://" + a + "/l.json"} }, nil, func(n int) {
			var list []string
			for i := range n {
				list = append(list, fmt.Sprintf(`{"id":"%d","pad":%q}`, i, pad))
			}
			write("l.json", "["+strings.Join(list, ",")+"]")
		}},
		{"feed", "feed", "id", always(upstream), func(a string) map[string]string { return map[string]string{"address": "http://" + a + "/f.xml"} }, nil, func(n int) {
			text := `<rss version="2.0"><channel><title>N</title>`
			for i := range n {
				text += fmt.Sprintf("<item><guid>%d</guid><title>%s</title></item>", i, pad)
			}
			write("f.xml", text+"</channel></rss>")
		}},
		{"table", "table", "id", always(upstream), func(a string) map[string]string { return map[string]string{"address": "http://" + a + "/t.csv"} }, nil, func(n int) {
			text := "id,pad\n"
			for i := range n {
				text += fmt.Sprintf("%d,%s\n", i, pad)
			}
			write("t.csv", text)
		}},
		{"calendar", "calendar", "id", always(upstream), func(a string) map[string]string { return map[string]string{"address": "http://" + a + "/c.ics"} }, nil, func(n int) {
			text := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\n"
			for i := range n {
				text += fmt.Sprintf("BEGIN:VEVENT\r\nUID:%d\r\nDTSTAMP:20261101T000000Z\r\nDTSTART:%s\r\nSUMMARY:%s\r\nEND:VEVENT\r\n", i, at, pad)
			}
			write("c.ics", text+"END:VCALENDAR\r\n")
		}},
		{"PostgreSQL", "sql", "id", always(u.Host), func(a string) map[string]string {
			return map[string]string{"database_kind": "PostgreSQL", "host": a, "database": strings.TrimPrefix(u.Path, "/"), "user": u.User.Username(), "password": password, "encrypted": "never"}
		}, map[string]string{"table": "public.orders", "changed": "updated_at"}, func(n int) {
			for i := range n {
				_, err := orders.Exec("INSERT INTO orders (id, pad) VALUES ($1, $2) ON CONFLICT DO NOTHING", i, pad)
				require.NoError(t, err)
			}
		}},
		{"MariaDB", "sql", "id", func(t *testing.T) string {
			address := peers.MariaDB(t)
			var err error
			mariaOrders, err = sql.Open("mysql", "owner:owner-1@tcp("+address+")/co_op")
			require.NoError(t, err)
			t.Cleanup(func() { mariaOrders.Close() })
			_, err = mariaOrders.Exec("CREATE TABLE orders (id int PRIMARY KEY, pad text, updated_at timestamp(6) NOT NULL DEFAULT now(6))")
			require.NoError(t, err)
			return address
		}, func(a string) map[string]string {
			return map[string]string{"database_kind": "MariaDB", "host": a, "database": "co_op", "user": "reader", "password": "reader-1", "encrypted": "never"}
		}, map[string]string{"table": "co_op.orders", "changed": "updated_at"}, func(n int) {
			for i := range n {
				_, err := mariaOrders.Exec("INSERT IGNORE INTO orders (id, pad) VALUES (?, ?)", i, pad)
				require.NoError(t, err)
			}
		}},
		{"mail", "mail", "id", func(t *testing.T) string {
			box = peers.Dovecot(t)
			letters = mailFolder{dir: filepath.Join(box.Dir, "home/mail"), owner: peers.Account(t, "nobody")}
			return box.IMAP
		}, func(a string) map[string]string {
			return map[string]string{"host": a, "security": "by STARTTLS", "user": "marit", "password": "marit-1"}
		}, map[string]string{"mailbox": "INBOX"}, func(n int) {
			for i := range n {
				letters.put(t, fmt.Sprintf("%d.letter.farm", i), fmt.Sprintf("Message-ID: <m-%d@farm.example>\r\nFrom: kaeser@farm.example\r\nSubject: %d\r\n\r\n%s\r\n", i, i, pad))
			}
		}},
		{"room", "room", "id", func(t *testing.T) string {
			st := testdb.New(t)
			stand, err := practice.New(t.Context(), st.DB, practice.DefaultOptions())
			require.NoError(t, err)
			square = httptest.NewServer(stand.Handler())
			t.Cleanup(square.Close)
			require.NoError(t, st.DB.Exec("INSERT INTO practice.tokens (token, sender) VALUES ('t-1', 'Dorfbote')").Error)
			require.NoError(t, st.DB.Exec("INSERT INTO practice.channels (name, private) VALUES ('#tours', false)").Error)
			return strings.TrimPrefix(square.URL, "http://")
		}, func(a string) map[string]string {
			return map[string]string{"chat": "the square", "address": "http://" + a + "/square", "token": "t-1"}
		}, map[string]string{"room": "#tours"}, func(n int) {
			for ; said < n; said++ {
				res, err := http.Post(square.URL+"/square/channels/tours/say", "application/json", strings.NewReader(fmt.Sprintf(`{"text":%q,"author":"Vera"}`, pad)))
				require.NoError(t, err)
				res.Body.Close()
				require.Less(t, res.StatusCode, 300)
			}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := start(t, false)
			line := peers.NewLine(t, c.upstream(t))
			if box != nil {
				w.Env.TLS = box.TLS
			}
			source := c.kind + "/things"
			w.polled(t, c.kind, source, c.key, c.settings(line.Address), c.source, poll.Begin{How: "everything"})
			n, failures := 0, 0
			for round, how := range []string{peers.Cut(900), peers.Slow, peers.Reset(30), peers.Cut(4000), peers.Thin, peers.Reset(5), peers.Cut(9000)} {
				n += 10
				c.grow(n)
				line.Spoil(t, how)
				ctx, cancel := context.WithTimeout(context.Background(), 4*time.Second)
				if _, err := w.Polls.Poll(ctx, source); err != nil {
					failures++
				}
				cancel()
				line.Mend()
				if round%2 == 1 {
					_, err := w.Polls.Poll(context.Background(), source)
					require.NoError(t, err)
				}
			}
			_, err := w.Polls.Poll(context.Background(), source)
			require.NoError(t, err)
			got := w.told(t, source)
			keys := map[string]bool{}
			for _, g := range got {
				assert.True(t, strings.HasPrefix(g, "created "), g)
				keys[g] = true
			}
			sort.Strings(got)
			assert.Len(t, got, n, "each record makes one arrival")
			assert.Len(t, keys, n)
			assert.Positive(t, failures, "some polls must have failed for this to show anything")
		})
	}
}

// mailFolder is a mailbox as it lies on the server's disk, in the Maildir form.
type mailFolder struct {
	dir   string
	owner *syscall.Credential
}

func (m mailFolder) put(t *testing.T, name, text string) {
	t.Helper()
	for _, sub := range []string{"", "tmp", "new", "cur"} {
		if err := os.Mkdir(filepath.Join(m.dir, sub), 0o755); err == nil {
			peers.Own(t, m.dir, m.owner)
		}
	}
	if seen, _ := filepath.Glob(filepath.Join(m.dir, "*", name+"*")); seen != nil {
		return
	}
	tmp := filepath.Join(m.dir, "tmp", name)
	require.NoError(t, os.WriteFile(tmp, []byte(text), 0o644))
	peers.Own(t, tmp, m.owner)
	require.NoError(t, os.Rename(tmp, filepath.Join(m.dir, "new", name)))
}

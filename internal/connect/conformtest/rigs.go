// Package conformtest is what every kind of connection must pass, whatever it speaks: it describes itself truly, proves
// itself, lists what there is, reads all of it once, believes nothing that broke off, stops when told to, and says of what it
// sent whether it was taken, and of what was not whether trying again may help.
//
// A new kind adds a rig here: something real to speak to.
package conformtest

import (
	"crypto/tls"
	"database/sql"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the peers are spoken to by the drivers that the kinds use
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/practice"
	"dorfbote/internal/testdb"
)

// Reading is a kind that is asked, with something real to ask.
type Reading struct {
	Name, Kind, Key string
	Upstream        func(t testing.TB) string              // starts what is asked, and gives its address
	Settings        func(address string) map[string]string // of a connection to it, directly or over a line
	Source          map[string]string                      // the source's settings
	Grow            func(t testing.TB, n int)              // makes it hold n records
	TLS             *tls.Config                            // by which it is trusted, once it has started
}

// Env gives what the connection reaches it by.
func (r *Reading) Env(t testing.TB) connect.Env {
	env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	env.TLS = r.TLS
	return env
}

// pad makes records long enough for a line to be cut within them.
var pad = strings.Repeat("milk ", 60)

// Readings gives the rigs of all kinds that are asked, a database of each sort being one.
func Readings(t testing.TB) []*Reading {
	out := files(t)
	out = append(out, postgres(t), mariaDB(), letters(), room())
	return out
}

// files are the kinds that read a file by its address.
func files(t testing.TB) []*Reading {
	dir := t.TempDir()
	server := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(server.Close)
	write := func(t testing.TB, name, text string) {
		tmp := filepath.Join(dir, "."+name)
		require.NoError(t, os.WriteFile(tmp, []byte(text), 0o600))
		require.NoError(t, os.Rename(tmp, filepath.Join(dir, name)))
	}
	at := time.Now().Add(72 * time.Hour).UTC().Format("20060102T150405Z")
	file := func(kind, name string, text func(n int) string) *Reading {
		return &Reading{
			Name: kind, Kind: kind, Key: "id",
			Upstream: func(testing.TB) string { return strings.TrimPrefix(server.URL, "http://") },
			Settings: func(a string) map[string]string { return map[string]string{"address": "http://" + a + "/" + name} },
			Grow:     func(t testing.TB, n int) { write(t, name, text(n)) },
		}
	}
	return []*Reading{
		file("rest", "l.json", func(n int) string {
			var list []string
			for i := range n {
				list = append(list, fmt.Sprintf(`{"id":"%d","pad":%q}`, i, pad))
			}
			return "[" + strings.Join(list, ",") + "]"
		}),
		file("feed", "f.xml", func(n int) string {
			var text strings.Builder
			text.WriteString(`<rss version="2.0"><channel><title>N</title>`)
			for i := range n {
				fmt.Fprintf(&text, "<item><guid>%d</guid><title>%s</title></item>", i, pad)
			}
			return text.String() + "</channel></rss>"
		}),
		file("table", "t.csv", func(n int) string {
			var text strings.Builder
			text.WriteString("id,pad\n")
			for i := range n {
				fmt.Fprintf(&text, "%d,%s\n", i, pad)
			}
			return text.String()
		}),
		file("calendar", "c.ics", func(n int) string {
			var text strings.Builder
			text.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\n")
			for i := range n {
				fmt.Fprintf(&text, "BEGIN:VEVENT\r\nUID:%d\r\nDTSTAMP:20261101T000000Z\r\nDTSTART:%s\r\nSUMMARY:%s\r\nEND:VEVENT\r\n", i, at, pad)
			}
			return text.String() + "END:VCALENDAR\r\n"
		}),
	}
}

func postgres(t testing.TB) *Reading {
	u, err := url.Parse(testdb.URL(t))
	require.NoError(t, err)
	db, err := sql.Open("pgx", u.String())
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec("CREATE TABLE orders (id int PRIMARY KEY, pad text, updated_at timestamptz NOT NULL DEFAULT clock_timestamp())")
	require.NoError(t, err)
	password, _ := u.User.Password()
	return &Reading{
		Name: "PostgreSQL", Kind: "sql", Key: "id", Source: map[string]string{"table": "public.orders", "changed": "updated_at"},
		Upstream: func(testing.TB) string { return u.Host },
		Settings: func(a string) map[string]string {
			return map[string]string{"database_kind": "PostgreSQL", "host": a, "database": strings.TrimPrefix(u.Path, "/"), "user": u.User.Username(), "password": password, "encrypted": "never"}
		},
		Grow: func(t testing.TB, n int) {
			_, err := db.Exec("INSERT INTO orders (id, pad) SELECT i, $2 FROM generate_series(0, $1 - 1) AS i ON CONFLICT DO NOTHING", n, pad)
			require.NoError(t, err)
		},
	}
}

func mariaDB() *Reading {
	var db *sql.DB
	return &Reading{
		Name: "MariaDB", Kind: "sql", Key: "id", Source: map[string]string{"table": "co_op.orders", "changed": "updated_at"},
		Upstream: func(t testing.TB) string {
			address := peers.MariaDB(t)
			var err error
			db, err = sql.Open("mysql", "owner:owner-1@tcp("+address+")/co_op")
			require.NoError(t, err)
			t.Cleanup(func() { db.Close() })
			_, err = db.Exec("CREATE TABLE orders (id int PRIMARY KEY, pad text, updated_at timestamp(6) NOT NULL DEFAULT now(6))")
			require.NoError(t, err)
			return address
		},
		Settings: func(a string) map[string]string {
			return map[string]string{"database_kind": "MariaDB", "host": a, "database": "co_op", "user": "reader", "password": "reader-1", "encrypted": "never"}
		},
		Grow: func(t testing.TB, n int) {
			for i := range n {
				_, err := db.Exec("INSERT IGNORE INTO orders (id, pad) VALUES (?, ?)", i, pad)
				require.NoError(t, err)
			}
		},
	}
}

func letters() *Reading {
	var folder mailFolder
	r := &Reading{
		Name: "mail", Kind: "mail", Key: "id", Source: map[string]string{"mailbox": "INBOX"},
		Settings: func(a string) map[string]string {
			return map[string]string{"host": a, "security": "by STARTTLS", "user": "marit", "password": "marit-1"}
		},
		Grow: func(t testing.TB, n int) {
			for i := range n {
				folder.put(t, fmt.Sprintf("%d.letter.farm", i), fmt.Sprintf("Message-ID: <m-%d@farm.example>\r\nFrom: kaeser@farm.example\r\nSubject: %d\r\n\r\n%s\r\n", i, i, pad))
			}
		},
	}
	r.Upstream = func(t testing.TB) string {
		box := peers.Dovecot(t)
		r.TLS = box.TLS
		folder = mailFolder{dir: filepath.Join(box.Dir, "home/mail"), owner: peers.Account(t, "nobody")}
		return box.IMAP
	}
	return r
}

// mailFolder is a mailbox as it lies on the server's disk, in the Maildir form.
type mailFolder struct {
	dir   string
	owner *syscall.Credential
}

func (m mailFolder) put(t testing.TB, name, text string) {
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

func room() *Reading {
	var address string
	said := 0
	return &Reading{
		Name: "room", Kind: "room", Key: "id", Source: map[string]string{"room": "#tours"},
		Upstream: func(t testing.TB) string {
			server := httptest.NewServer(square(t))
			t.Cleanup(server.Close)
			address = server.URL
			return strings.TrimPrefix(address, "http://")
		},
		Settings: func(a string) map[string]string {
			return map[string]string{"chat": "the square", "address": "http://" + a + "/square", "token": "t-1"}
		},
		Grow: func(t testing.TB, n int) {
			for ; said < n; said++ {
				res, err := http.Post(address+"/square/channels/tours/say", "application/json", strings.NewReader(fmt.Sprintf(`{"text":%q,"author":"Vera"}`, pad)))
				require.NoError(t, err)
				res.Body.Close()
				require.Less(t, res.StatusCode, 300)
			}
		},
	}
}

// square is the chat that ships with Dorfbote, with a channel #tours, one that has not let Dorfbote in, and a token.
func square(t testing.TB) http.Handler {
	st := testdb.New(t)
	stand, err := practice.New(t.Context(), st.DB, practice.DefaultOptions())
	require.NoError(t, err)
	require.NoError(t, st.DB.Exec("INSERT INTO practice.tokens (token, sender) VALUES ('t-1', 'Dorfbote')").Error)
	require.NoError(t, st.DB.Exec("INSERT INTO practice.channels (name, private) VALUES ('#tours', false), ('#board', true)").Error)
	return stand.Handler()
}

package sql_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"maps"
	"net/url"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	dbkind "dorfbote/internal/connect/sql"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/testdb"
)

// side is one of the two databases, with a way to write to it.
type side struct {
	settings map[string]string
	owner    *sql.DB
	table    string
	writer   map[string]string // who may write
}

func postgres(t *testing.T) side {
	u, err := url.Parse(testdb.URL(t))
	require.NoError(t, err)
	owner, err := sql.Open("pgx", u.String())
	require.NoError(t, err)
	t.Cleanup(func() { owner.Close() })
	role := "reader_" + strings.TrimPrefix(u.Path, "/")
	for _, q := range []string{
		"CREATE ROLE " + role + " LOGIN PASSWORD 'reader-1'",
		`CREATE TABLE orders (id bigint PRIMARY KEY, customer text, amount numeric(30,10), placed date, extra jsonb, big bigint, paid boolean, updated_at timestamptz NOT NULL DEFAULT now())`,
		"CREATE VIEW open_orders AS SELECT id, customer FROM orders WHERE NOT paid",
		"CREATE TABLE hidden (id int PRIMARY KEY)",
		"GRANT SELECT ON orders, open_orders TO " + role,
	} {
		_, err := owner.Exec(q)
		require.NoError(t, err, q)
	}
	t.Cleanup(func() { _, _ = owner.Exec("DROP OWNED BY " + role); _, _ = owner.Exec("DROP ROLE " + role) })
	password, _ := u.User.Password()
	return side{map[string]string{"database_kind": "PostgreSQL", "host": u.Host, "database": strings.TrimPrefix(u.Path, "/"), "user": role, "password": "reader-1"}, owner, "public.orders", map[string]string{"user": u.User.Username(), "password": password}}
}

func mariaDB(t *testing.T) side {
	address := peers.MariaDB(t)
	owner, err := sql.Open("mysql", "owner:owner-1@tcp("+address+")/co_op?parseTime=true")
	require.NoError(t, err)
	t.Cleanup(func() { owner.Close() })
	for _, q := range []string{
		"CREATE TABLE orders (id bigint PRIMARY KEY, customer varchar(100), amount decimal(30,10), placed date, extra json, big bigint, paid boolean, updated_at timestamp(6) NOT NULL DEFAULT current_timestamp(6))",
		"CREATE VIEW open_orders AS SELECT id, customer FROM orders WHERE NOT paid",
	} {
		_, err := owner.Exec(q)
		require.NoError(t, err, q)
	}
	return side{map[string]string{"database_kind": "MariaDB", "host": address, "database": "co_op", "user": "reader", "password": "reader-1"}, owner, "co_op.orders", map[string]string{"user": "owner", "password": "owner-1"}}
}

func open(t *testing.T, settings map[string]string) connect.Conn {
	t.Helper()
	conn, err := dbkind.Kind().Open(connect.Config{Settings: settings, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return conn
}

func TestBothDatabases(t *testing.T) {
	for name, begin := range map[string]func(*testing.T) side{"PostgreSQL": postgres, "MariaDB": mariaDB} {
		t.Run(name, func(t *testing.T) {
			s := begin(t)
			insert := "INSERT INTO orders (id, customer, amount, placed, extra, big, paid) VALUES (1, 'Käser \U0001F9C0', 12345678901234567890.5, '2026-11-20', '{\"a\": [1]}', 9007199254740993, true), (2, NULL, 3, NULL, NULL, NULL, false)"
			_, err := s.owner.Exec(insert)
			require.NoError(t, err)
			conn := open(t, s.settings)
			steps := conn.Prove(context.Background())
			assert.True(t, connect.Proved(steps), "%+v", steps)
			choices, err := conn.Browse(context.Background())
			require.NoError(t, err)
			kinds := map[string]connect.Choice{}
			for _, c := range choices {
				kinds[c.Kind] = c
			}
			require.Contains(t, kinds, "orders")
			require.Contains(t, kinds, "open_orders")
			assert.NotContains(t, kinds, "hidden", "what may not be read is not offered")
			assert.Equal(t, "id", kinds["orders"].Key)
			assert.Equal(t, map[string]string{"table": s.table, "changed": "updated_at"}, kinds["orders"].Settings)

			src := connect.SourceConfig{Name: "co/orders", Settings: kinds["orders"].Settings, Key: "id"}
			rows, polled := poll(t, conn, src, nil)
			require.Len(t, rows, 2)
			r := rows["1"]
			assert.Equal(t, "Käser \U0001F9C0", r["customer"])
			assert.Equal(t, "12345678901234567890.5000000000", r["amount"], "digits are kept")
			assert.Equal(t, "9007199254740993", r["big"])
			assert.Equal(t, "2026-11-20", r["placed"])
			assert.Equal(t, map[string]any{"a": []any{1.0}}, r["extra"])
			_, _, isMoment := value.ReadMoment(r["updated_at"].(string), time.UTC)
			assert.True(t, isMoment)
			assert.NotContains(t, rows["2"], "customer")
			assert.True(t, polled.Whole)

			// A row that is committed late carries an earlier moment; the overlap finds it.
			tx, err := s.owner.Begin()
			require.NoError(t, err)
			_, err = tx.Exec("INSERT INTO orders (id, customer, paid) VALUES (3, 'late', false)")
			require.NoError(t, err)
			_, err = s.owner.Exec("INSERT INTO orders (id, customer, paid) VALUES (4, 'soon', false)")
			require.NoError(t, err)
			rows, second := poll(t, conn, src, polled.Cursor)
			assert.False(t, second.Whole)
			assert.Contains(t, rows, "4")
			assert.NotContains(t, rows, "3")
			require.NoError(t, tx.Commit())
			rows, _ = poll(t, conn, src, second.Cursor)
			assert.Contains(t, rows, "3")

			// Nothing can be written, whatever the user may do.
			owner := map[string]string{"user": "owner", "password": "owner-1"}
			if name == "MariaDB" {
				writer := open(t, merged(s.settings, owner))
				_, err := writer.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Settings: map[string]string{"table": "orders` WHERE sleep(0); DROP TABLE `orders"}, Key: "id"}, nil, func(connect.Item) error { return nil })
				require.Error(t, err)
			}
			for _, wrong := range []map[string]string{{"password": "no"}, {"database": "none"}, {"host": "127.0.0.1:1"}} {
				steps := open(t, merged(s.settings, wrong)).Prove(context.Background())
				assert.False(t, connect.Proved(steps), wrong)
				assert.NotEmpty(t, steps[0].Do, "%v: %+v", wrong, steps)
				assert.NotContains(t, steps[0].Said+steps[0].Tried, "reader-1")
			}
			_, err = conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Settings: map[string]string{"table": "nothing"}, Key: "id"}, nil, func(connect.Item) error { return nil })
			require.ErrorContains(t, err, "choose the table again")
		})
	}
}

func merged(a, b map[string]string) map[string]string {
	out := map[string]string{}
	maps.Copy(out, a)
	maps.Copy(out, b)
	return out
}

func poll(t *testing.T, conn connect.Conn, src connect.SourceConfig, cursor json.RawMessage) (map[string]map[string]any, connect.Polled) {
	t.Helper()
	rows := map[string]map[string]any{}
	p, err := conn.(connect.Poller).Poll(context.Background(), src, cursor, func(it connect.Item) error {
		rows[it.Key] = it.Record
		return nil
	})
	require.NoError(t, err)
	return rows, p
}

// A trigger that notifies makes changes known at once.
func TestListening(t *testing.T) {
	s := postgres(t)
	conn := open(t, s.settings)
	ctx, cancel := context.WithCancel(context.Background())
	heard, done := make(chan struct{}, 10), make(chan error, 1)
	go func() {
		done <- conn.(connect.Waiter).Wait(ctx, connect.SourceConfig{Settings: map[string]string{"listen": "orders"}}, func() { heard <- struct{}{} })
	}()
	<-heard // it listens now
	_, err := s.owner.Exec("NOTIFY orders")
	require.NoError(t, err)
	select {
	case <-heard:
	case <-time.After(5 * time.Second):
		t.Fatal("the notification was not heard")
	}
	cancel()
	require.NoError(t, <-done)
}

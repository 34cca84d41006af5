// Package sql reads the rows of a PostgreSQL or MariaDB table or view. It writes only where a connection allows it.
package sql

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

const (
	postgres = "PostgreSQL"
	mariaDB  = "MariaDB"
)

// Kind describes databases.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsAsked, Listens: func(settings map[string]string) bool { return settings["listen"] != "" },
		Name: "sql", Title: "Database", Does: "Reads the rows of a table or view in PostgreSQL or MariaDB; it writes only where you allow it",
		Settings: []connect.Setting{
			{Name: "database_kind", Label: "Database", Type: "choice", Options: []string{postgres, mariaDB}, Default: postgres},
			{Name: "host", Label: "Host", Type: "text", Required: true, Help: "a name or an address, with :port where it is not the usual one"},
			{Name: "database", Label: "Name of the database", Type: "text", Required: true},
			{Name: "user", Label: "User", Type: "text", Required: true, Help: "one that may only read is best"},
			{Name: "password", Label: "Password", Type: "secret"},
			{Name: "encrypted", Label: "Encrypted", Type: "choice", Options: []string{"if it can be", "always", "never"}, Default: "if it can be", More: true},
			{Name: "writes", Label: "May be written to", Type: "choice", Options: []string{"no", "yes"}, Default: "no", More: true, Help: "for sheets that add or change rows; the user must be allowed to as well"},
		},
		Source: []connect.Setting{
			{Name: "table", Label: "Table or view", Type: "text", Required: true, Help: "such as public.orders"},
			{Name: "changed", Label: "Column that says when a row was changed", Type: "text", Help: "with it only what has changed is read; without it every row is, each time"},
			{Name: "overlap", Label: "Look back by", Type: "text", Default: "5m", More: true, Help: "rows that are committed late carry an earlier moment; so much is read again each time"},
			{Name: "listen", Label: "Channel of notifications", Type: "text", More: true, Help: "PostgreSQL only: a trigger that calls pg_notify on it makes changes known at once"},
		},
		Quickest: 10 * time.Second, Slowest: 10 * time.Minute,
		Open: open, Write: write, Writable: writable,
	}
}

// database is one connection. Its pool is small, since a source is read by one poll at a time.
type database struct {
	config  connect.Config
	db      *sql.DB
	pgx     *pgx.ConnConfig // of PostgreSQL
	dialect dialect
}

// dialect is what differs between the two.
type dialect struct {
	quote     func(name string) string
	parameter string
	catalogue string // lists tables: schema, name, column, type, whether it belongs to the key
	readOnly  string
}

func open(c connect.Config) (connect.Conn, error) {
	host, port, err := net.SplitHostPort(c.Settings["host"])
	if err != nil {
		host, port = c.Settings["host"], ""
	}
	if host == "" {
		return nil, &fault.Fault{Tried: "reading the settings", Said: "the host is missing"}
	}
	if c.Get("database_kind", postgres) == mariaDB {
		return openMariaDB(c, host, port)
	}
	return openPostgres(c, host, port)
}

func openPostgres(c connect.Config, host, port string) (connect.Conn, error) {
	if port == "" {
		port = "5432"
	}
	mode := map[string]string{"always": "require", "never": "disable"}[c.Settings["encrypted"]]
	if mode == "" {
		mode = "prefer"
	}
	u := url.URL{
		Scheme: "postgres", User: url.UserPassword(c.Settings["user"], c.Settings["password"]), Host: net.JoinHostPort(host, port), Path: "/" + c.Settings["database"],
		RawQuery: url.Values{"sslmode": {mode}, "application_name": {"Dorfbote"}, "default_transaction_read_only": {"on"}, "connect_timeout": {"10"}}.Encode(),
	}
	cfg, err := pgx.ParseConfig(u.String())
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the settings", Said: "the host or the name of the database cannot be read"}
	}
	cfg.DialFunc = c.Env.Dial
	cfg.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil } // the dialler looks it up, and checks what it finds
	db := stdlib.OpenDB(*cfg)
	db.SetMaxOpenConns(3)
	db.SetConnMaxIdleTime(time.Minute)
	return &database{config: c, db: db, pgx: cfg, dialect: dialect{
		quote:     func(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` },
		parameter: "$1",
		readOnly:  "SET default_transaction_read_only = on",
		catalogue: `SELECT n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod),
				coalesce(a.attnum = ANY (i.indkey), false), greatest(c.reltuples, 0)::bigint
			FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
			LEFT JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary
			WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'
				AND has_table_privilege(c.oid, 'SELECT')
			ORDER BY 1, 2, a.attnum LIMIT 20000`,
	}}, nil
}

func openMariaDB(c connect.Config, host, port string) (connect.Conn, error) {
	if port == "" {
		port = "3306"
	}
	cfg := mysql.NewConfig()
	cfg.Net, cfg.Addr, cfg.User, cfg.Passwd, cfg.DBName = "tcp", net.JoinHostPort(host, port), c.Settings["user"], c.Settings["password"], c.Settings["database"]
	cfg.ParseTime, cfg.Loc, cfg.Timeout, cfg.ReadTimeout = true, time.UTC, 10*time.Second, time.Minute
	cfg.Params = map[string]string{"time_zone": "'+00:00'"}
	cfg.DialFunc = c.Env.Dial
	cfg.Logger = quiet{}
	switch c.Settings["encrypted"] {
	case "always":
		cfg.TLS = &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	case "never":
	default:
		cfg.TLSConfig = "preferred"
	}
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the settings", Said: err.Error()}
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(3)
	db.SetConnMaxIdleTime(time.Minute)
	return &database{config: c, db: db, dialect: dialect{
		quote:     func(n string) string { return "`" + strings.ReplaceAll(n, "`", "``") + "`" },
		parameter: "?",
		readOnly:  "SET SESSION TRANSACTION READ ONLY",
		catalogue: `SELECT c.table_schema, c.table_name, c.column_name, c.column_type, c.column_key = 'PRI', coalesce(t.table_rows, 0)
			FROM information_schema.columns c JOIN information_schema.tables t ON t.table_schema = c.table_schema AND t.table_name = c.table_name
			WHERE c.table_schema = DATABASE() ORDER BY 1, 2, c.ordinal_position LIMIT 20000`,
	}}, nil
}

// quiet keeps the driver from writing to a log of its own; its errors are returned as well.
type quiet struct{}

func (quiet) Print(...any) {}

func (d *database) Close() error { return d.db.Close() }

// Prove signs in, looks at the catalogue, and makes sure that nothing can be written.
func (d *database) Prove(ctx context.Context) []connect.ProofStep {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	var version, user string
	query := "SELECT version(), current_user"
	if d.pgx == nil {
		query = "SELECT version(), current_user()"
	}
	tried := "signing in to " + d.config.Settings["host"] + " as " + d.config.Settings["user"]
	if err := d.db.QueryRowContext(ctx, query).Scan(&version, &user); err != nil {
		return []connect.ProofStep{connect.Failed(tried, d.plain(tried, err))}
	}
	short, _, _ := strings.Cut(version, " (")
	steps := []connect.ProofStep{connect.Passed(tried, "signed in to %s", short)}
	list, err := d.Browse(ctx)
	switch {
	case err != nil:
		steps = append(steps, connect.Failed("listing the tables", err))
	case len(list) == 0:
		steps = append(steps, connect.ProofStep{
			Tried: "listing the tables", Said: "there is no table or view that " + user + " may read",
			Do: "grant it: GRANT SELECT ON … TO " + d.config.Settings["user"], Who: "the owner of the database",
		})
	default:
		steps = append(steps, connect.Passed("listing the tables", "%s can be read", map[bool]string{true: "1 table or view", false: fmt.Sprint(len(list), " tables and views")}[len(list) == 1]))
	}
	return steps
}

// plain says what a database meant.
func (d *database) plain(tried string, err error) error {
	var t *fault.Fault
	if errors.As(err, &t) {
		if t.Tried == "" {
			t.Tried = tried
		}
		return t
	}
	out := &fault.Fault{Tried: tried, Said: connect.NoAnswer(err)}
	var pg *pgconn.PgError
	var my *mysql.MySQLError
	switch {
	case errors.As(err, &pg):
		out.Said = pg.Message
		switch {
		case strings.HasPrefix(pg.Code, "28"):
			out.Do, out.Who = "check the user and the password", "the owner of the database"
		case pg.Code == "3D000":
			out.Do = "check the name of the database"
		case pg.Code == "42501":
			out.Do, out.Who = "grant the right: GRANT SELECT ON … TO "+d.config.Settings["user"], "the owner of the table"
		case pg.Code == "42P01":
			out.Do = "choose the table again; it is not there any more"
		case pg.Code == "42703":
			out.Do = "choose the column again; it is not there any more"
		}
	case errors.As(err, &my):
		out.Said = my.Message
		switch my.Number {
		case 1045, 1044, 1698:
			out.Do, out.Who = "check the user, the password and the name of the database", "the owner of the database"
		case 1142, 1143:
			out.Do, out.Who = "grant the right: GRANT SELECT ON … TO "+d.config.Settings["user"], "the owner of the table"
		case 1049:
			out.Do = "check the name of the database"
		case 1146:
			out.Do = "choose the table again; it is not there any more"
		}
	default:
		if op, ok := errors.AsType[*net.OpError](err); ok {
			if errors.As(op.Err, &t) {
				return t
			}
			out.Said, out.Do = "no answer: "+op.Err.Error(), "check that the host is right and reachable from this server"
		}
	}
	return out
}

// Browse lists tables and views with the key and the columns that may say when a row was changed.
func (d *database) Browse(ctx context.Context) ([]connect.Choice, error) {
	rows, err := d.db.QueryContext(ctx, d.dialect.catalogue)
	if err != nil {
		return nil, d.plain("reading the catalogue", err)
	}
	defer rows.Close()
	var out []connect.Choice
	var keys []string
	finish := func() {
		if len(out) == 0 {
			return
		}
		c := &out[len(out)-1]
		if c.Key = strings.Join(keys, "+"); c.Key == "" {
			c.Key = "id"
		}
		keys = nil
	}
	last, count := "", int64(0)
	for rows.Next() {
		var schema, table, col, typ string
		var key bool
		if err := rows.Scan(&schema, &table, &col, &typ, &key, &count); err != nil {
			return nil, err
		}
		if schema+"."+table != last {
			finish()
			last = schema + "." + table
			title := table
			if d.pgx != nil && schema != "public" {
				title = last
			}
			out = append(out, connect.Choice{Kind: connect.KindName(title, "rows"), Title: title, Detail: fmt.Sprintf("about %d rows", count), Settings: map[string]string{"table": last}})
		}
		if key {
			keys = append(keys, col)
		}
		if c := &out[len(out)-1]; isMoment(typ) && saysChanged(col) && c.Settings["changed"] == "" {
			c.Settings["changed"] = col
		}
	}
	finish()
	return out, rows.Err()
}

func isMoment(typ string) bool {
	typ = strings.ToLower(typ)
	return strings.HasPrefix(typ, "timestamp") || strings.HasPrefix(typ, "datetime")
}

func saysChanged(column string) bool {
	c := strings.ToLower(column)
	for _, part := range []string{"updat", "chang", "modif", "mtime", "last_edit", "touched", "geaendert"} {
		if strings.Contains(c, part) {
			return true
		}
	}
	return false
}

package sql

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// cursor is what is remembered from one poll to the next.
type cursor struct {
	Newest time.Time `json:"newest"` // the newest change seen
	Whole  time.Time `json:"whole"`  // when every row was last read
}

// wholeEvery is how often every row is read although there is a column that says what has changed, since a row
// that is gone says nothing.
const wholeEvery = 10 * time.Minute

// Poll reads the rows that have changed since the newest one seen, less the overlap; or every row.
func (d *database) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	var c cursor
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &c)
	}
	changed := src.Settings["changed"]
	now := time.Now().UTC()
	out := connect.Polled{Calls: 1, Whole: changed == "" || c.Newest.IsZero() || now.Sub(c.Whole) >= wholeEvery}
	query := "SELECT * FROM " + d.table(src.Settings["table"])
	var args []any
	if !out.Whole {
		overlap, err := value.ParseSpan(src.Get("overlap", "5m"))
		if err != nil {
			return out, &fault.Fault{Tried: "reading the settings", Said: err.Error()}
		}
		query += " WHERE " + d.dialect.quote(changed) + " >= " + d.dialect.parameter
		args = append(args, c.Newest.Add(-max(overlap, 0)))
	}
	rows := 0
	err := d.read(ctx, query, args, func(record map[string]any, at time.Time) error {
		rows++
		item, err := src.Item(record, keyOf(record, src.Key), rows)
		if err != nil {
			return err
		}
		if at.After(c.Newest) && at.Before(now.Add(time.Hour)) { // a moment far ahead would hide all that comes until then
			c.Newest = at
		}
		item.At = at
		return emit(item)
	}, changed)
	if errors.Is(err, connect.ErrEnough) {
		return out, err
	}
	if err != nil {
		return out, d.plain("reading "+src.Settings["table"], err)
	}
	if out.Whole {
		c.Whole = now
	}
	out.Cursor, err = json.Marshal(c)
	return out, err
}

// keyOf joins the values of a key of several columns, written as a+b.
func keyOf(record map[string]any, key string) string {
	if !strings.Contains(key, "+") {
		return connect.KeyOf(record, key)
	}
	var parts []string
	for col := range strings.SplitSeq(key, "+") {
		part := connect.KeyOf(record, col)
		if part == "" {
			return ""
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, "/")
}

func (d *database) table(name string) string {
	parts := strings.SplitN(name, ".", 2)
	for i := range parts {
		parts[i] = d.dialect.quote(parts[i])
	}
	return strings.Join(parts, ".")
}

func (d *database) read(ctx context.Context, query string, args []any, each func(map[string]any, time.Time) error, changed string) error {
	// What was said once may be silence the next moment: each phase has its time.
	ctx, goesOn, done := patience(ctx)
	defer done()
	conn, err := d.db.Conn(ctx)
	if err != nil {
		return silent(ctx, err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, d.dialect.readOnly); err != nil {
		return silent(ctx, err)
	}
	goesOn(answering)
	rows, err := conn.QueryContext(ctx, query, args...)
	if err != nil {
		return silent(ctx, err)
	}
	defer rows.Close()
	cols, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	cells, into := make([]any, len(cols)), make([]any, len(cols))
	for i := range cells {
		into[i] = &cells[i]
	}
	for rows.Next() {
		goesOn(reading)
		if err := rows.Scan(into...); err != nil {
			return err
		}
		record := make(map[string]any, len(cols))
		var at time.Time
		for i, col := range cols {
			if t, ok := cells[i].(time.Time); ok && col.Name() == changed {
				at = t
			}
			if v := plainValue(cells[i], col.DatabaseTypeName()); v != nil {
				record[col.Name()] = v
			}
		}
		if err := each(record, at); err != nil {
			return err
		}
	}
	return silent(ctx, rows.Err())
}

// How long each phase of reading may take: reaching the server and signing in, its looking for the rows, and from one row to the next,
// which includes what is done with it.
const (
	reaching  = 15 * time.Second
	answering = 40 * time.Second
	reading   = 30 * time.Second
)

// patience gives a context that ends where the phase under way takes too long; goesOn begins the next one.
func patience(ctx context.Context) (waiting context.Context, goesOn func(time.Duration), done func()) {
	waiting, cancel := context.WithCancelCause(ctx)
	over := time.AfterFunc(reaching, func() {
		cancel(&fault.Fault{Said: "the database isn't answering", Do: "check its address and its load; the column that says what has changed needs an index"})
	})
	return waiting, func(d time.Duration) { over.Reset(d) }, func() { over.Stop(); cancel(nil) }
}

// silent gives an error in the words of the phase that took too long, where that is what ended it.
func silent(ctx context.Context, err error) error {
	if f, ok := fault.Of(context.Cause(ctx)); ok && err != nil {
		return f
	}
	return err
}

// plainValue turns a database's value into plain data. Numbers keep their digits.
func plainValue(v any, typ string) any {
	switch x := v.(type) {
	case nil:
		return nil
	case bool, float64:
		return x
	case float32:
		return value.NumberLiteral(fmt.Sprint(x))
	case int64:
		return value.NumberLiteral(strconv.FormatInt(x, 10))
	case time.Time:
		if typ == "DATE" {
			return x.Format("2006-01-02")
		}
		return x.UTC().Format(time.RFC3339Nano)
	case []byte:
		return textValue(string(x), typ)
	case string:
		return textValue(x, typ)
	}
	return clean(fmt.Sprint(v))
}

func textValue(s, typ string) any {
	switch strings.ToUpper(typ) {
	case "NUMERIC", "DECIMAL", "INT", "BIGINT", "SMALLINT", "MEDIUMINT", "TINYINT", "UNSIGNED INT", "UNSIGNED BIGINT", "UNSIGNED SMALLINT", "UNSIGNED TINYINT", "DOUBLE", "FLOAT", "YEAR":
		if n, err := value.ReadJSON([]byte(s)); err == nil {
			return n
		}
	case "TEXT", "LONGTEXT": // how MariaDB keeps JSON
		if !strings.HasPrefix(s, "{") && !strings.HasPrefix(s, "[") {
			break
		}
		fallthrough
	case "JSON", "JSONB":
		if v, err := value.ReadJSON([]byte(s)); err == nil {
			return v
		}
	case "BYTEA", "BLOB", "LONGBLOB", "MEDIUMBLOB", "TINYBLOB", "BINARY", "VARBINARY":
		if !utf8.ValidString(s) {
			return base64.StdEncoding.EncodeToString([]byte(s[:min(len(s), 3000)]))
		}
	}
	return clean(s)
}

func clean(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// Wait listens for notifications, where PostgreSQL sends them, and has the source polled at each.
func (d *database) Wait(ctx context.Context, src connect.SourceConfig, changed func()) error {
	channel := src.Settings["listen"]
	if d.pgx == nil || channel == "" {
		<-ctx.Done()
		return nil
	}
	conn, err := pgx.ConnectConfig(ctx, d.pgx)
	if err != nil {
		return d.plain("listening to "+channel, err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+d.dialect.quote(channel)); err != nil {
		return d.plain("listening to "+channel, err)
	}
	changed() // whatever came before listening began
	for {
		if _, err := conn.WaitForNotification(ctx); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return d.plain("listening to "+channel, err)
		}
		changed()
	}
}

package sql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// writable says whether the connection may be written by.
func writable(c connect.Config, src connect.SourceConfig, _ bool) error {
	if c.Settings["writes"] == "yes" {
		return nil
	}
	return &fault.Fault{Tried: "writing to " + src.Get("table", ""), Said: "this connection only reads", Do: `set "May be written to" to yes in its settings, with a user who may write`}
}

// write adds a row, or changes the one that a key names. It is done only where the connection allows it.
func write(ctx context.Context, c connect.Config, src connect.SourceConfig, w connect.Write) (connect.Written, error) {
	if err := writable(c, src, w.Change); err != nil {
		return connect.Written{Final: true}, err
	}
	conn, err := open(c)
	if err != nil {
		return connect.Written{Final: true}, err
	}
	defer conn.Close()
	d := conn.(*database)
	query, args, err := d.statement(src, w)
	out := connect.Written{Address: c.Settings["host"] + "/" + c.Settings["database"], Sent: query + "\n" + string(value.AppendJSON(nil, w.Set))}
	if err != nil {
		out.Final = true
		return out, err
	}
	one, err := d.db.Conn(ctx)
	if err != nil {
		return out, d.plain("connecting to "+c.Settings["host"], err)
	}
	defer one.Close()
	if _, err := one.ExecContext(ctx, strings.NewReplacer("= on", "= off", "READ ONLY", "READ WRITE").Replace(d.dialect.readOnly)); err != nil {
		return out, err
	}
	return d.run(ctx, one, query, args, w, out)
}

func (d *database) run(ctx context.Context, one *sql.Conn, query string, args []any, w connect.Write, out connect.Written) (connect.Written, error) {
	tx, err := one.BeginTx(ctx, nil)
	if err != nil {
		return out, err
	}
	defer func() { _ = tx.Rollback() }()
	res, err := tx.ExecContext(ctx, query, args...)
	if err != nil {
		if w.Again && !w.Change && strings.Contains(strings.ToLower(err.Error()), "duplicate") {
			out.Answer = "the row was there already: the try before had added it"
			return out, nil
		}
		out.Answer, out.Final = err.Error(), refused(err)
		return out, d.plain("writing", err)
	}
	n, err := res.RowsAffected()
	if err != nil {
		return out, err
	}
	if w.Change && n != 1 && d.pgx != nil || n > 1 { // MariaDB counts only rows that are different afterwards
		out.Final, out.Answer = true, fmt.Sprintf("%d rows have the key %s; nothing was changed", n, w.Key)
		return out, &fault.Fault{Tried: "changing the row " + w.Key, Said: out.Answer}
	}
	out.Answer = fmt.Sprintf("%d row written", n)
	return out, tx.Commit()
}

// refused tells an error of what was written from one of the line or of the moment: a statement that the database
// understood and would not do has a code of its own.
func refused(err error) bool {
	text := err.Error()
	for _, s := range []string{"SQLSTATE 22", "SQLSTATE 23", "SQLSTATE 42", "Error 1", "Error 4"} {
		if strings.Contains(text, s) {
			return !strings.Contains(text, "Error 1205") && !strings.Contains(text, "Error 1213") && !strings.Contains(text, "Error 1040")
		}
	}
	return false
}

func (d *database) statement(src connect.SourceConfig, w connect.Write) (string, []any, error) {
	var args []any
	parameter := func(v any) string {
		args = append(args, cell(v))
		if d.dialect.parameter == "?" {
			return "?"
		}
		return fmt.Sprintf("$%d", len(args))
	}
	var names, places, pairs []string
	for _, name := range value.SortedKeys(w.Set) {
		p := parameter(w.Set[name])
		names, places = append(names, d.dialect.quote(name)), append(places, p)
		pairs = append(pairs, d.dialect.quote(name)+" = "+p)
	}
	table := d.table(src.Get("table", ""))
	if !w.Change {
		return "INSERT INTO " + table + " (" + strings.Join(names, ", ") + ") VALUES (" + strings.Join(places, ", ") + ")", args, nil
	}
	columns := strings.Split(src.Key, "+")
	parts := []string{w.Key}
	if len(columns) > 1 {
		parts = strings.Split(w.Key, "/")
	}
	if len(parts) != len(columns) || src.Key == "" {
		return "", nil, &fault.Fault{Tried: "changing the row " + w.Key, Said: fmt.Sprintf("the key of %s is made of %s", src.Get("table", ""), src.Key)}
	}
	var where []string
	for i, c := range columns {
		where = append(where, d.dialect.quote(c)+" = "+parameter(parts[i]))
	}
	return "UPDATE " + table + " SET " + strings.Join(pairs, ", ") + " WHERE " + strings.Join(where, " AND "), args, nil
}

// cell is a value as the driver takes it; what has parts goes as JSON.
func cell(v any) any {
	switch v.(type) {
	case map[string]any, []any:
		return string(value.AppendJSON(nil, v))
	}
	return v
}

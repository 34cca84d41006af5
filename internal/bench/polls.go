package bench

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/poll"
	"dorfbote/internal/store"
)

// polledRows is how many rows a source has that is polled for measure.
const polledRows = 100_000

// measurePolls polls 100,000 rows from a database and from a file, each in a process of its own, beside a plain loop that
// only reads them.
func measurePolls(ctx context.Context, o Options, database, dir string) ([]Row, error) {
	db, err := sql.Open("pgx", database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, `CREATE TABLE polled AS SELECT i AS id, 'Customer ' || i AS customer, (i * 7 % 5000)::numeric(10,2) AS amount,
		'late' AS status, now() - i * interval '1 second' AS updated_at FROM generate_series(1, `+strconv.Itoa(polledRows)+`) i`); err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "polled.csv")
	if err := writeTable(file); err != nil {
		return nil, err
	}
	var rows []Row
	for _, kind := range []string{"sql", "csv"} {
		var got, plain pollFigures
		for _, m := range []struct {
			how  string
			into *pollFigures
		}{{"poll", &got}, {"plain", &plain}} {
			cmd := exec.CommandContext(ctx, o.Program, "bench-poll", kind, m.how)
			cmd.Env = append(os.Environ(), "DORFBOTE_DATABASE_URL="+database, "DORFBOTE_LOG=warn", "DORFBOTE_ALLOW_PRIVATE=127.0.0.0/8", "DORFBOTE_FOLDER="+dir, "DORFBOTE_KEY_FILE="+filepath.Join(dir, "key"))
			cmd.Stderr = os.Stderr
			raw, err := cmd.Output()
			if err != nil {
				return nil, fmt.Errorf("bench-poll %s %s: %w", kind, m.how, err)
			}
			if err := json.Unmarshal(raw, m.into); err != nil {
				return nil, err
			}
		}
		beside := fmt.Sprintf("a plain reading loop: %s, %d MiB", num(plain.First), plain.Peak)
		rows = append(rows,
			Row{fmt.Sprintf("polling %d rows from %s: rows a second the first time, peak memory", polledRows, kind), fmt.Sprintf("%s, %d MiB", num(got.First), got.Peak), beside},
			Row{"… and again, one row in a hundred changed", num(got.Again), ratio(got.Again/plain.First) + " the plain loop"})
	}
	return rows, nil
}

type pollFigures struct {
	First, Again float64 // rows a second
	Peak         int     // MiB
}

func writeTable(name string) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	fmt.Fprintln(w, "id,customer,amount,status,day")
	for i := range polledRows {
		fmt.Fprintf(w, "%d,Customer %d,%d.50,late,2026-11-20\n", i, i, i*7%5000)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	old := time.Now().Add(-time.Hour)
	return os.Chtimes(name, old, old)
}

// Poll is what bench-poll does: it polls a source, or only reads it, and prints how quick that was.
func Poll(ctx context.Context, out io.Writer, e *engine.Engine, database, kind, how string) error {
	var f pollFigures
	if how == "plain" {
		n, took, err := plainly(ctx, database, e.Env.Folder, kind)
		if err != nil {
			return err
		}
		f.First = float64(n) / took.Seconds()
	} else {
		source, err := polledSource(ctx, e, database, kind)
		if err != nil {
			return err
		}
		began := time.Now()
		tally, err := e.Polls.Poll(ctx, source)
		if err != nil {
			return err
		}
		f.First = float64(tally.Rows) / time.Since(began).Seconds()
		if err := change(ctx, database, e.Env.Folder, kind); err != nil {
			return err
		}
		if err := e.Store.DB.WithContext(ctx).Exec("UPDATE polls SET cursor = NULL WHERE source = ?", source).Error; err != nil {
			return err
		}
		began = time.Now()
		if tally, err = e.Polls.Poll(ctx, source); err != nil {
			return err
		}
		if tally.Updated != polledRows/100 {
			return fmt.Errorf("%d rows were found changed, not %d", tally.Updated, polledRows/100)
		}
		f.Again = float64(tally.Rows) / time.Since(began).Seconds()
	}
	f.Peak = peak()
	return json.NewEncoder(out).Encode(f)
}

func polledSource(ctx context.Context, e *engine.Engine, database, kind string) (string, error) {
	c := store.Connection{ID: "poll-" + kind, Kind: "table", Title: kind, KeyField: "id", Settings: store.Texts{"where": "in a folder"}, CreatedAt: time.Now()}
	k := store.Source{Name: c.ID + "/rows", Connection: c.ID, Title: kind, KeyField: "id", Settings: store.Texts{"file": "polled.csv"}}
	if kind == "sql" {
		cfg := e.Store.Pool.Config().ConnConfig
		c.Kind, c.Settings = "sql", store.Texts{"host": fmt.Sprintf("%s:%d", cfg.Host, cfg.Port), "database": cfg.Database, "user": cfg.User, "encrypted": "never"}
		k.Settings = store.Texts{"table": "public.polled"}
		sealed, err := e.Box.Seal(map[string]string{"password": cfg.Password}, c.ID)
		if err != nil {
			return "", err
		}
		c.Sealed = sealed
	}
	p := store.Poll{Source: k.Name, Connection: c.ID, Start: poll.Begin{How: "now"}.Text(), Every: 60, Quickest: 60, Slowest: 600, DueAt: time.Now().Add(time.Hour)}
	return k.Name, e.Store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return errors.Join(tx.Create(&c).Error, tx.Create(&k).Error, tx.Create(&p).Error)
	})
}

func change(ctx context.Context, database, folder, kind string) error {
	if kind == "sql" {
		db, err := sql.Open("pgx", database)
		if err != nil {
			return err
		}
		defer db.Close()
		_, err = db.ExecContext(ctx, "UPDATE polled SET amount = amount + 1 WHERE id % 100 = 0")
		return err
	}
	name := filepath.Join(folder, "polled.csv")
	raw, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	lines := strings.Split(string(raw), "\n")
	for i := 1; i < len(lines)-1; i += 100 {
		lines[i] = strings.Replace(lines[i], ",late,", ",sent,", 1)
	}
	if err := os.WriteFile(name, []byte(strings.Join(lines, "\n")), 0o644); err != nil {
		return err
	}
	old := time.Now().Add(-time.Minute)
	return os.Chtimes(name, old, old)
}

// plainly reads every row into a map of its fields, and does nothing else.
func plainly(ctx context.Context, database, folder, kind string) (int, time.Duration, error) {
	n := 0
	began := time.Now()
	if kind == "csv" {
		f, err := os.Open(filepath.Join(folder, "polled.csv"))
		if err != nil {
			return 0, 0, err
		}
		defer f.Close()
		r := csv.NewReader(bufio.NewReader(f))
		names, err := r.Read()
		for err == nil {
			var cells []string
			if cells, err = r.Read(); err == nil {
				record := make(map[string]any, len(cells))
				for i, c := range cells {
					record[names[i]] = c
				}
				n++
			}
		}
		if !errors.Is(err, io.EOF) {
			return 0, 0, err
		}
		return n, time.Since(began), nil
	}
	db, err := sql.Open("pgx", database)
	if err != nil {
		return 0, 0, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "SELECT * FROM polled")
	if err != nil {
		return 0, 0, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return 0, 0, err
	}
	cells, into := make([]any, len(names)), make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return 0, 0, err
		}
		record := make(map[string]any, len(names))
		for i, name := range names {
			record[name] = cells[i]
		}
		n++
	}
	return n, time.Since(began), rows.Err()
}

// peak is this process's greatest resident memory, in MiB.
func peak() int {
	raw, _ := os.ReadFile("/proc/self/status")
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, _ := strconv.Atoi(strings.Fields(rest)[0])
			return kb / 1024
		}
	}
	return 0
}

// openTimers is how many timers are open for measure, and timersOver how long it takes for all to come due.
const (
	openTimers = 10_000
	timersOver = 10 * time.Second
)

// measureTimers has 10,000 timers come due within ten seconds, and tells how late each was fired, while the server of the
// other measures works on them.
func measureTimers(ctx context.Context, st *store.Store) (Row, error) {
	const text = "dorfbote: 1\nname: Timers\nwatch: {source: bench/things, due: {field: due}}\nroute: {rows: [{name: Never, when: {field: id, is: none}, tell: [{to: square/#tours, message: m}]}]}\nmessages: {m: {title: x}}\n"
	plan, _, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace()})
	if plan == nil {
		return Row{}, fmt.Errorf("the sheet: %v", problems)
	}
	db := st.DB.WithContext(ctx)
	w := store.Workflow{Name: "Timers", Draft: text, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	if err := db.Create(&w).Error; err != nil {
		return Row{}, err
	}
	_, err := st.SwitchOn(ctx, w.ID, store.SwitchedOn{Sheet: text, Source: plan.Source, Form: plan.Trigger.Form, Since: -1}, func(tx *gorm.DB, w *store.Workflow) error {
		return errors.Join(
			tx.Exec("INSERT INTO watches (workflow, seq, trigger) SELECT ?, coalesce(max(seq), 0), '' FROM arrivals", w.ID).Error,
			tx.Exec(`INSERT INTO records (source, key, data, time) SELECT 'bench/things', i::text, jsonb_build_object('id', i::text, 'due', to_char((now() + interval '3 seconds' + i * ?::float8 * interval '1 second') AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')), now()
				FROM generate_series(1, ?::int) i`, timersOver.Seconds()/openTimers, openTimers).Error,
			tx.Exec("INSERT INTO timers (workflow, key, due_at) SELECT ?, key, (data->>'due')::timestamptz FROM records WHERE source = 'bench/things'", w.ID).Error)
	})
	if err != nil {
		return Row{}, err
	}
	for range 60 {
		time.Sleep(500 * time.Millisecond)
		var left int64
		if err := db.Raw("SELECT count(*) FROM timers WHERE workflow = ? AND NOT spent", w.ID).Scan(&left).Error; err != nil {
			return Row{}, err
		}
		if left == 0 {
			break
		}
	}
	var fired int64
	var p50, p99 float64
	err = db.Raw(`SELECT count(*), coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM received_at - time)), 0), coalesce(percentile_cont(0.99) WITHIN GROUP (ORDER BY extract(epoch FROM received_at - time)), 0)
		FROM arrivals WHERE for_workflow = ?`, w.ID).Row().Scan(&fired, &p50, &p99)
	if err == nil && fired != openTimers {
		err = fmt.Errorf("%d timers fired, not %d", fired, openTimers)
	}
	return Row{
		fmt.Sprintf("%d open timers, a thousand a second: lateness p50 and p99", openTimers),
		ms(time.Duration(p50*float64(time.Second))) + ", " + ms(time.Duration(p99*float64(time.Second))), "exact to a second is asked",
	}, err
}

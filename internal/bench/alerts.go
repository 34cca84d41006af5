package bench

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// How much comes after alerts here.
const (
	openAlerts  = 10_000 // questions that wait, and alerts that nobody has taken
	alertsOver  = 10 * time.Second
	keptPosts   = 3000
	answerCalls = 1000
	callers     = 4
)

const askedSheet = `dorfbote: 1
name: Asked
watch: {source: bench/asked}
ask: [{name: v, of: "square/#tours", message: q, choices: [a, b], within: 7d}]
messages: {q: {title: "${record.id}?"}}
route: {rows: [{name: Never, when: {field: id, is: none}, tell: [{to: "square/#tours", message: q}]}]}
`

const takenSheet = `dorfbote: 1
name: Taken
watch: {source: bench/taken}
messages: {alert: {title: "${record.id}", buttons: [{text: I take it, claim: true}]}, late: {title: "${record.id} is late"}}
route: {otherwise: {tell: [{to: "square/#tours", message: alert}]}}
follow: [{unless: {claimed: true, within: 7d}, tell: [{to: "square/#tours", message: late}]}]
`

const keptSheet = `dorfbote: 1
name: Kept
watch: {source: bench/kept}
messages: {alert: {title: "${record.id} is ${record.status}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: alert, keep_up: {until: {field: status, is: done}}}]}}
`

const answeredSheet = `dorfbote: 1
name: Answered
watch: {called: {takes: [{name: amount, type: number, required: true}]}}
answer: {body: {allowed: "${answers.amount < 500}"}}
`

// measureAlerts has ten thousand questions and ten thousand alerts wait, and come to their ends within ten seconds; it changes posts
// that follow their records, and has callers wait for their answers.
func measureAlerts(ctx context.Context, o Options, st *store.Store, url string) ([]Row, error) {
	ids := map[string]int64{}
	for name, text := range map[string]string{"asked": askedSheet, "taken": takenSheet, "kept": keptSheet, "answered": answeredSheet} {
		id, err := switchedOn(ctx, st, text)
		if err != nil {
			return nil, err
		}
		ids[name] = id
	}
	serve, stop, err := spawn(ctx, o.Program, url, "serve", "--work")
	if err != nil {
		return nil, err
	}
	defer stop()
	m := alertsMeasure{ctx: ctx, db: st.DB.WithContext(ctx), address: serve.address, ids: ids}
	rest := rss(serve.pid)
	if err := errors.Join(m.fill("asked", openAlerts, "x"), m.fill("taken", openAlerts, "x")); err != nil {
		return nil, err
	}
	if err := errors.Join(
		m.until(openAlerts, "SELECT count(*) FROM asks WHERE state = 'open' AND workflow = ?", ids["asked"]),
		m.until(openAlerts, "SELECT count(*) FROM escalations WHERE due_at IS NOT NULL AND workflow = ?", ids["taken"]),
	); err != nil {
		return nil, err
	}
	waiting := rss(serve.pid)
	ends, err := m.lateness("questions that end", "asks", "ends_at", "SELECT a.arrival, a.decided_at FROM asks a WHERE a.workflow = ? AND a.state = 'decided'", ids["asked"])
	if err != nil {
		return nil, err
	}
	told, err := m.lateness("alerts that nobody took", "escalations", "due_at", "SELECT p.arrival, p.created_at FROM posts p WHERE p.workflow = ? AND p.message = 'late'", ids["taken"])
	if err != nil {
		return nil, err
	}
	edits, err := m.edits()
	if err != nil {
		return nil, err
	}
	answers, err := m.answers()
	if err != nil {
		return nil, err
	}
	return append([]Row{{fmt.Sprintf("memory with %d open questions and %d alerts that are to be taken", openAlerts, openAlerts), waiting, "at rest: " + rest}, ends, told, edits}, answers...), nil
}

func switchedOn(ctx context.Context, st *store.Store, text string) (int64, error) {
	plan, _, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace()})
	if plan == nil {
		return 0, fmt.Errorf("the sheet: %v", problems)
	}
	w := store.Workflow{Name: plan.Name, Draft: text, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	if err := st.DB.WithContext(ctx).Create(&w).Error; err != nil {
		return 0, err
	}
	_, err := st.SwitchOn(ctx, w.ID, store.SwitchedOn{Sheet: text, Source: plan.Source, Form: plan.Trigger.Form, Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
	return w.ID, err
}

type alertsMeasure struct {
	ctx     context.Context
	db      *gorm.DB
	address string
	ids     map[string]int64
}

// fill sends so many records of a kind.
func (m alertsMeasure) fill(kind string, n int, status string) error {
	const each = 500
	for from := 0; from < n; from += each {
		records := make([]string, each)
		for i := range records {
			records[i] = fmt.Sprintf(`{"id":"%s-%d","status":%q}`, kind, from+i, status)
		}
		res, err := http.Post(m.address+"/in/bench/"+kind, "application/json", strings.NewReader("["+strings.Join(records, ",")+"]"))
		if err != nil {
			return err
		}
		_ = res.Body.Close()
		if res.StatusCode != http.StatusAccepted {
			return fmt.Errorf("%s: %s", kind, res.Status)
		}
	}
	return nil
}

// until waits until there are so many.
func (m alertsMeasure) until(n int64, query string, args ...any) error {
	var got int64
	for began := time.Now(); time.Since(began) < 3*time.Minute; time.Sleep(50 * time.Millisecond) {
		if err := m.db.Raw(query, args...).Scan(&got).Error; err != nil {
			return err
		}
		if got >= n {
			return nil
		}
	}
	return fmt.Errorf("%d, not %d, of: %s", got, n, query)
}

// lateness has what waits come to its moment, a thousand a second, and tells how late each was seen to.
func (m alertsMeasure) lateness(what, table, moment, done string, workflow int64) (Row, error) {
	set := moment + " = n.at"
	if table == "asks" {
		set += ", due_at = n.at"
	}
	err := errors.Join(
		m.db.Exec("CREATE TABLE IF NOT EXISTS bench_moments (workflow bigint, arrival bigint, at timestamptz, PRIMARY KEY (workflow, arrival))").Error,
		m.db.Exec(fmt.Sprintf("INSERT INTO bench_moments SELECT workflow, arrival, now() + interval '3 seconds' + row_number() OVER (ORDER BY arrival) * ?::float8 * interval '1 second' FROM %s WHERE workflow = ?", table), alertsOver.Seconds()/openAlerts, workflow).Error,
		m.db.Exec(fmt.Sprintf("UPDATE %s t SET %s FROM bench_moments n WHERE n.workflow = t.workflow AND n.arrival = t.arrival AND t.workflow = ?", table, set), workflow).Error,
		m.until(openAlerts, "SELECT count(*) FROM ("+done+") d", workflow))
	if err != nil {
		return Row{}, err
	}
	var p50, p99 float64
	err = m.db.Raw("SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY late), percentile_cont(0.99) WITHIN GROUP (ORDER BY late) FROM (SELECT extract(epoch FROM d.at - n.at) AS late FROM ("+
		done+") d (arrival, at) JOIN bench_moments n ON n.arrival = d.arrival AND n.workflow = ?) x", workflow, workflow).Row().Scan(&p50, &p99)
	return Row{
		fmt.Sprintf("%d %s, a thousand a second: lateness p50 and p99", openAlerts, what),
		ms(time.Duration(p50*float64(time.Second))) + ", " + ms(time.Duration(p99*float64(time.Second))), "exact to a second is asked",
	}, err
}

// edits changes posts that follow their records.
func (m alertsMeasure) edits() (Row, error) {
	sent := "SELECT count(*) FROM posts WHERE workflow = ? AND state = 'sent'"
	if err := errors.Join(m.fill("kept", keptPosts, "new"), m.until(keptPosts, sent, m.ids["kept"])); err != nil {
		return Row{}, err
	}
	began := time.Now()
	if err := errors.Join(m.fill("kept", keptPosts, "late"), m.until(2*keptPosts, sent, m.ids["kept"])); err != nil {
		return Row{}, err
	}
	edits := keptPosts / time.Since(began).Seconds()
	began = time.Now()
	if err := errors.Join(m.fill("taken", openAlerts+keptPosts, "y"), m.until(2*openAlerts+openAlerts+keptPosts, sent, m.ids["taken"])); err != nil {
		return Row{}, err
	}
	posts := (openAlerts + keptPosts) / time.Since(began).Seconds()
	return Row{"edits a second of posts that follow their records, from the change to the square, one channel", num(edits) + ", " + ratio(edits/posts), "new posts the same way: " + num(posts)}, nil
}

// answers has callers wait for their answers: one after the other, and several at once.
func (m alertsMeasure) answers() ([]Row, error) {
	const token = "bench-token"
	sum := sha256.Sum256([]byte(token))
	if err := m.db.Exec("UPDATE workflows SET call_token = ? WHERE id = ?", hex.EncodeToString(sum[:]), m.ids["answered"]).Error; err != nil {
		return nil, err
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	call := func() (time.Duration, error) {
		req, err := http.NewRequestWithContext(m.ctx, http.MethodPost, fmt.Sprintf("%s/call/%d?wait=10s", m.address, m.ids["answered"]), bytes.NewReader([]byte(`{"amount":300}`)))
		if err != nil {
			return 0, err
		}
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		began := time.Now()
		res, err := client.Do(req)
		if err != nil {
			return 0, err
		}
		raw, _ := io.ReadAll(res.Body)
		_ = res.Body.Close()
		if res.StatusCode != http.StatusOK || !bytes.Contains(raw, []byte("true")) {
			return 0, fmt.Errorf("a caller was answered %s: %s", res.Status, raw)
		}
		return time.Since(began), nil
	}
	var rows []Row
	for _, at := range []int{1, callers} {
		var mu sync.Mutex
		var took []time.Duration
		var failed error
		var wg sync.WaitGroup
		for range at {
			wg.Go(func() {
				for range answerCalls / at {
					d, err := call()
					mu.Lock()
					if took = append(took, d); err != nil {
						failed = err
					}
					mu.Unlock()
				}
			})
		}
		wg.Wait()
		if failed != nil {
			return nil, failed
		}
		slices.Sort(took)
		rows = append(rows, Row{fmt.Sprintf("a caller's answer, %d at once, p50 and p99", at), ms(quantile(took, .5)) + ", " + ms(quantile(took, .99)), "goal 50 ms"})
	}
	return rows, nil
}

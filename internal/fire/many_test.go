package fire

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/pgserver"
	"dorfbote/internal/store"
)

// With as many arrivals as DORFBOTE_MANY says, such as 10000000, over four sources and eighty days, one in ten told: how
// long the lists, a trail and Today take to answer. It prints figures; a noisy machine's are not to fail a test by.
func TestManyArrivals(t *testing.T) {
	total := number("DORFBOTE_MANY", 0)
	if total == 0 {
		t.Skip("set DORFBOTE_MANY to how many arrivals, such as 10000000")
	}
	dir, err := os.MkdirTemp("", "dorfbote-many-*")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	ctx := t.Context()
	pg, err := pgserver.Start(ctx, pgserver.Options{Dir: dir + "/pg", Quick: true})
	require.NoError(t, err)
	defer pg.Stop()
	st, err := store.Open(ctx, pg.URL, 8)
	require.NoError(t, err)
	defer st.Close()
	require.NoError(t, st.Migrate(ctx))
	prepare(t, st, "http://127.0.0.1:1")
	began := time.Now()
	for from := 1; from <= total; from += store.PartWidth {
		to := min(from+store.PartWidth-1, total)
		for _, statement := range []string{
			"SELECT hold_arrivals(?), hold_arrivals(?)",
			`INSERT INTO arrivals (seq, source, id, type, time, subject, data, received_at)
				SELECT n, (ARRAY['tours/collections', 'lab/samples', 'counter/orders', 'workshop/jobs'])[1 + n % 4], 'm' || n, 'dorfbote.record.updated', at, 'C-' || n % 20000,
					jsonb_build_object('record', jsonb_build_object('id', 'C-' || n % 20000, 'litres', n % 3000, 'valley', CASE WHEN n % 3 = 0 THEN 'Upper' ELSE 'Mill' END, 'driver', 'Petra'), 'before', jsonb_build_object('id', 'C-' || n % 20000, 'litres', n % 2999)), at
				FROM (SELECT n, now() - interval '80 days' * (1 - n / ` + value.NumberText(float64(total)) + `.0) AS at FROM generate_series(?::bigint, ?::bigint) n) x`,
			`INSERT INTO verdicts (arrival, workflow, version, verdict, route, decided_by, at, decided_at)
				SELECT seq, 1, 1, CASE WHEN seq % 40 = 0 THEN 'told' ELSE 'dropped' END, '', '', time, time FROM arrivals WHERE seq BETWEEN ? AND ? AND seq % 4 = 0`,
		} {
			require.NoError(t, st.DB.Exec(statement, from, to).Error)
		}
	}
	for _, statement := range []string{
		"SELECT setval('arrivals_numbers', (SELECT max(seq) FROM arrivals))",
		"INSERT INTO sources (name, connection, title) SELECT DISTINCT s, 'tours', s FROM unnest(ARRAY['tours/collections', 'lab/samples', 'counter/orders', 'workshop/jobs']) s ON CONFLICT DO NOTHING",
		"INSERT INTO hours SELECT 'arrivals', source, date_trunc('hour', received_at), count(*) FROM arrivals GROUP BY 2, 3",
		"INSERT INTO records (source, key, data, time) SELECT DISTINCT ON (source, subject) source, subject, data->'record', time FROM arrivals WHERE seq > (SELECT max(seq) FROM arrivals) - 400000 ORDER BY source, subject, seq DESC",
		"VACUUM ANALYZE",
	} {
		require.NoError(t, st.DB.Exec(statement).Error)
	}
	var size int64
	require.NoError(t, st.DB.Raw("SELECT pg_database_size(current_database())").Scan(&size).Error)
	t.Logf("%d arrivals written in %.0f s, %d MiB", total, time.Since(began).Seconds(), size>>20)

	e, err := engine.New(st, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	live, cancel := context.WithCancel(ctx)
	defer cancel()
	s, err := api.New(api.Options{Engine: e, Intake: intake.New(live, e.Writer), Hub: notify.NewHub(live, e.Store.Pool, e.Log), Log: e.Log, Web: fstest.MapFS{}})
	require.NoError(t, err)
	server := httptest.NewServer(s.Handler())
	defer server.Close()
	require.NoError(t, st.DB.Create(&store.Person{Email: "a@x.example", Name: "A", Role: "administrator", PasswordHash: auth.HashPassword("secret-1"), CreatedAt: time.Now()}).Error)
	jar, _ := cookiejar.New(nil)
	client := &http.Client{Jar: jar}
	call := func(method, path, body string) (time.Duration, []byte) {
		req, err := http.NewRequest(method, server.URL+path, bytes.NewReader([]byte(body)))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		began := time.Now()
		res, err := client.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		raw, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.Less(t, res.StatusCode, 300, "%s %s", path, raw)
		return time.Since(began), raw
	}
	call("POST", "/api/sign-in", `{"email":"a@x.example","password":"secret-1"}`)
	sheet, _ := json.Marshal(map[string]string{"text": sheetText})
	since := time.Now().AddDate(0, 0, -40).UTC().Format(time.RFC3339)
	for _, c := range [][3]string{
		{"GET", "/api/arrivals", ""}, {"GET", "/api/arrivals?source=lab/samples", ""}, {"GET", "/api/arrivals?key=C-77", ""}, {"GET", "/api/arrivals?verdict=told", ""},
		{"GET", "/api/arrivals?verdict=failed", ""}, {"GET", "/api/arrivals?verdict=ignored", ""}, {"GET", "/api/arrivals?q=nowhere+to+be+found", ""}, {"GET", "/api/arrivals?q=C-123", ""},
		{"GET", "/api/arrivals?since=" + since + "&until=" + since[:10] + "T23:59:59Z", ""}, {"GET", "/api/arrivals?before=5000000", ""}, {"GET", "/api/arrivals/4000000", ""},
		{"GET", "/api/runs/4000000/1", ""}, {"GET", "/api/today", ""}, {"GET", "/api/workflows", ""}, {"GET", "/api/connections", ""}, {"GET", "/api/sources/tours/collections/records", ""}, {"POST", "/api/proof", string(sheet)},
	} {
		var took []time.Duration
		for range 5 {
			d, _ := call(c[0], c[1], c[2])
			took = append(took, d)
		}
		first := took[0]
		slices.Sort(took)
		t.Logf("%6.1f ms (first %6.1f)  %s %s", float64(took[2].Microseconds())/1000, float64(first.Microseconds())/1000, c[0], c[1])
	}
}

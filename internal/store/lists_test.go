package store_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// Lists of arrivals are narrowed by each of their filters alone and together, and paged without a gap or a double.
func TestListsOfArrivals(t *testing.T) {
	st := testdb.New(t)
	ctx := context.Background()
	begin := time.Now().Add(-time.Hour).Truncate(time.Second)
	w := &store.Workflow{Name: "W", Draft: "x", CreatedAt: begin, UpdatedAt: begin}
	require.NoError(t, st.AddWorkflow(ctx, w))
	for i := range 60 {
		source := []string{"a/b", "a/c"}[i%2]
		a := store.Arrival{Source: source, ID: fmt.Sprint(i), Type: "t", Time: begin, Subject: fmt.Sprintf("K-%d", i%10), Data: fmt.Appendf(nil, `{"record":{"id":"K-%d","note":"100%% of %d_"}}`, i%10, i), ReceivedAt: begin.Add(time.Duration(i) * time.Minute)}
		require.NoError(t, st.DB.Omit("seq").Create(&a).Error)
		if i%3 == 0 {
			verdict := []string{"told", "dropped"}[i%2]
			require.NoError(t, st.DB.Create(&store.Verdict{Arrival: a.Seq, Workflow: w.ID, Version: 1, Verdict: verdict, At: begin, DecidedAt: begin}).Error)
		}
	}
	ids := func(f store.ArrivalFilter) (out []string) {
		t.Helper()
		if f.Limit == 0 {
			f.Limit = 100
		}
		rows, _, err := st.Arrivals(ctx, f)
		require.NoError(t, err)
		for _, r := range rows {
			out = append(out, r.ID)
		}
		return out
	}
	assert.Len(t, ids(store.ArrivalFilter{}), 60)
	assert.Equal(t, "59", ids(store.ArrivalFilter{})[0], "the newest first")
	assert.Len(t, ids(store.ArrivalFilter{Source: "a/b"}), 30)
	assert.Equal(t, []string{"53", "43", "33", "23", "13", "3"}, ids(store.ArrivalFilter{Key: "K-3"}))
	assert.Equal(t, []string{"7"}, ids(store.ArrivalFilter{Text: "of 7_"}), "what stands for any text elsewhere is text here")
	assert.Len(t, ids(store.ArrivalFilter{Text: "100% OF"}), 60)
	assert.Empty(t, ids(store.ArrivalFilter{Text: "100_ of"}))
	assert.Len(t, ids(store.ArrivalFilter{Verdict: "told"}), 10)
	assert.Len(t, ids(store.ArrivalFilter{Verdict: "dropped", Workflow: w.ID}), 10)
	assert.Empty(t, ids(store.ArrivalFilter{Verdict: "told", Workflow: w.ID + 1}))
	assert.Equal(t, []string{"12", "11", "10"}, ids(store.ArrivalFilter{Since: begin.Add(10 * time.Minute), Until: begin.Add(12*time.Minute + time.Second)}))
	assert.Equal(t, []string{"6"}, ids(store.ArrivalFilter{Source: "a/b", Verdict: "told", Key: "K-6", Text: "of 6_"}))

	seen, before := map[string]bool{}, int64(0)
	for {
		rows, _, err := st.Arrivals(ctx, store.ArrivalFilter{Limit: 7, Before: before})
		require.NoError(t, err)
		if len(rows) == 0 {
			break
		}
		for _, r := range rows {
			assert.False(t, seen[r.ID], "%s stands twice", r.ID)
			seen[r.ID] = true
		}
		before = rows[len(rows)-1].Seq
	}
	assert.Len(t, seen, 60)
	row, err := st.Arrival(ctx, before)
	require.NoError(t, err)
	assert.Equal(t, "0", row.ID)
	require.Len(t, row.Verdicts, 1)
	assert.Equal(t, "W", row.Verdicts[0].WorkflowName)
}

// Records are found by a text as it stands, and paged by what is newest.
func TestListsOfRecords(t *testing.T) {
	st := testdb.New(t)
	ctx := context.Background()
	begin := time.Now().Add(-time.Hour)
	for i := range 25 {
		require.NoError(t, st.DB.Exec("INSERT INTO records (source, key, data, time) VALUES ('a/b', ?, ?::jsonb, ?)", fmt.Sprintf("K-%02d", i), fmt.Sprintf(`{"n":%d,"name":"Farm 50%% %c"}`, i, 'a'+i), begin.Add(time.Duration(i)*time.Second)).Error)
	}
	keys := func(text string, offset, limit int) (out []string) {
		t.Helper()
		rows, err := st.Records(ctx, "a/b", text, offset, limit)
		require.NoError(t, err)
		for _, r := range rows {
			out = append(out, r.Key)
		}
		return out
	}
	assert.Equal(t, []string{"K-24", "K-23", "K-22"}, keys("", 0, 3))
	assert.Equal(t, []string{"K-21", "K-20"}, keys("", 3, 2))
	assert.Equal(t, []string{"K-02"}, keys("50% c", 0, 10))
	assert.Equal(t, []string{"K-07"}, keys("k-07", 0, 10))
	assert.Empty(t, keys("50_", 0, 10))
	assert.Empty(t, keys("", 25, 10))
	some, err := st.RecordsOf(ctx, "a/b", []string{"K-01", "K-99"})
	require.NoError(t, err)
	assert.Equal(t, map[string]map[string]any{"K-01": {"n": 1.0, "name": "Farm 50% b"}}, some)
	sample, err := st.SampleRecords(ctx, "a/b", 5)
	require.NoError(t, err)
	assert.Len(t, sample, 5)
}

// A workflow's versions are its own, newest first; one that is switched on as it is makes none.
func TestVersions(t *testing.T) {
	st := testdb.New(t)
	ctx := context.Background()
	w := &store.Workflow{Name: "W", Draft: "x", CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, st.AddWorkflow(ctx, w))
	on := func(sheet string) *store.Workflow {
		t.Helper()
		out, err := st.SwitchOn(ctx, w.ID, store.SwitchedOn{Sheet: sheet, Source: "a/b", Since: -1, By: "Marit"}, nothing)
		require.NoError(t, err)
		return out
	}
	assert.Equal(t, 1, on("one").Version)
	assert.Equal(t, 1, on("one").Version)
	assert.Equal(t, 2, on("two").Version)
	require.NoError(t, st.SwitchOff(ctx, w.ID, "Jonas"))
	assert.Equal(t, 3, on("one").Version, "an earlier sheet again is a version of its own")
	list, err := st.Versions(ctx, w.ID)
	require.NoError(t, err)
	var sheets []string
	for _, v := range list {
		sheets = append(sheets, fmt.Sprint(v.Version, " ", v.Sheet))
	}
	assert.Equal(t, []string{"3 one", "2 two", "1 one"}, sheets)
	text, err := st.VersionSheet(ctx, w.ID, 2)
	require.NoError(t, err)
	assert.Equal(t, "two", text)
	named, err := st.WorkflowNamed(ctx, "W")
	require.NoError(t, err)
	assert.Equal(t, []any{w.ID, true, "Marit"}, []any{named.ID, named.IsOn, named.UpdatedBy})
	named, err = st.WorkflowNamed(ctx, "none")
	require.NoError(t, err)
	assert.Nil(t, named)
	before, err := st.LiveMark(ctx, "a/b")
	require.NoError(t, err)
	on("four")
	after, err := st.LiveMark(ctx, "a/b")
	require.NoError(t, err)
	assert.NotEqual(t, before, after, "what was made of what is on holds no longer")
	_, err = st.SwitchOn(ctx, 999, store.SwitchedOn{Sheet: "x", Source: "a/b", Since: -1}, nothing)
	assert.Error(t, err)
}

func nothing(*gorm.DB, *store.Workflow) error { return nil }

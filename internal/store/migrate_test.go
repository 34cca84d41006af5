package store_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// A database filled by the version before is brought up to date: facts that stood in names have columns of their own, what
// cannot be is refused from then on, and nothing is lost.
func TestMigratingAFilledDatabase(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	db := st.DB
	require.NoError(t, st.Back(ctx, 6))
	for _, q := range []string{
		"INSERT INTO connections (id, kind, title) VALUES ('shop', 'hook', 'Shop'), ('square', 'chat', 'Square')",
		"INSERT INTO kinds (source, connection, title) VALUES ('shop/orders', 'shop', 'Orders')",
		"INSERT INTO polls (source, connection, every, quickest, slowest) VALUES ('shop/orders', 'shop', 60, 60, 600)",
		"INSERT INTO destinations (name, connection, title) VALUES ('square/#tours', 'square', '#tours')",
		`INSERT INTO workflows (name, draft, form, is_on, version, source) VALUES
			('caller', 'watch: {source: shop/orders}', '', true, 1, 'shop/orders'), ('called', E'watch: {called: {ask: []}}', '', false, 0, '')`,
		"INSERT INTO workflow_versions (workflow_id, version, sheet) SELECT id, 1, 'x' FROM workflows WHERE name = 'caller'",
		`INSERT INTO arrivals (source, id, type, time, subject, data) SELECT 'shop/orders', 'o' || i, 'dorfbote.created', now(), 'O-' || i % 1000, '{"record": {"id": "O"}}' FROM generate_series(1, 50000) AS i`,
		"INSERT INTO verdicts (arrival, workflow_id, version, verdict, at) SELECT seq, 1, 1, 'told', now() FROM arrivals",
		`INSERT INTO posts (workflow_id, arrival, destination, message, body, key, state) SELECT 1, seq, 'square/#tours', 'm', '{}', 'w1-a' || seq || '-p0', 'sent' FROM arrivals`,
		`INSERT INTO posts (workflow_id, arrival, destination, message, body, key, state) VALUES (1, 1, 'square/#tours', 'm', '{}', 'w1-trial-abc-p0', 'given up')`,
		"INSERT INTO steps (workflow_id, version, arrival, n, name, kind, target, body, key) SELECT 1, 1, min(seq), 0, 's', 'call', 'called', '{}', 'k-1' FROM arrivals",
		`INSERT INTO arrivals (source, id, type, time, subject, data, for_workflow) SELECT 'dorfbote/called', 'w2-step-' || s.id || '-', 'dorfbote.start', now(), '', '{}', 2 FROM steps s`,
		"INSERT INTO timers (workflow_id, key, due_at) VALUES (1, 'O-1', now())",
		"INSERT INTO pace_told (workflow_id, key, at, until, posts) VALUES (1, 'k', now(), now(), '[]')",
	} {
		require.NoError(t, db.Exec(q).Error, q)
	}
	began := time.Now()
	require.NoError(t, st.Migrate(ctx))
	t.Logf("50,000 arrivals, verdicts and posts were brought up to date within %s", time.Since(began).Round(time.Millisecond))
	require.NoError(t, st.UpToDate(ctx))

	src, err := st.SourceNamed(ctx, "shop/orders")
	require.NoError(t, err)
	require.NotNil(t, src)
	assert.Equal(t, "Orders", src.Title)
	polls, err := st.Polls(ctx)
	require.NoError(t, err)
	assert.Contains(t, polls, "shop/orders")
	callable, err := st.Callable(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"called"}, callable, "what a draft is started by is a fact of its own")
	var step store.Step
	require.NoError(t, db.First(&step, "key = 'k-1'").Error)
	require.NotNil(t, step.Calls)
	assert.EqualValues(t, 2, *step.Calls, "a step names the workflow that it calls, not what that is called")
	var started store.Arrival
	require.NoError(t, db.First(&started, "source = 'dorfbote/called'").Error)
	require.NotNil(t, started.ByStep)
	assert.Equal(t, step.ID, *started.ByStep)
	var trials []string
	require.NoError(t, db.Model(&store.Post{}).Where("trial").Pluck("key", &trials).Error)
	assert.Equal(t, []string{"w1-trial-abc-p0"}, trials)
	for table, n := range map[string]int64{"arrivals": 50_001, "verdicts": 50_000, "posts": 50_001, "timers": 1, "pace_told": 1, "workflow_versions": 1} {
		var have int64
		require.NoError(t, db.Raw("SELECT count(*) FROM "+table).Scan(&have).Error)
		assert.Equal(t, n, have, table)
	}
	require.Error(t, db.Exec("UPDATE posts SET state = 'lost' WHERE id = 1").Error, "there are no other states")
	require.Error(t, db.Exec("UPDATE steps SET state = 'lost'").Error)
	require.Error(t, db.Exec("UPDATE workflows SET form = 'sometimes'").Error)

	// And back: who goes back to the version before finds everything there.
	require.NoError(t, st.Back(ctx, 6))
	var kinds int64
	require.NoError(t, db.Raw("SELECT count(*) FROM kinds WHERE source = 'shop/orders'").Scan(&kinds).Error)
	assert.EqualValues(t, 1, kinds)
}

// Secrets that lie open are not left behind unseen: whoever migrates is told what to do.
func TestOpenSecretsStopAMigration(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	require.NoError(t, st.Back(ctx, 6))
	require.NoError(t, st.DB.Exec("INSERT INTO connections (id, kind, title, secret) VALUES ('shop', 'hook', 'Shop', 'very-secret')").Error)
	err := st.Migrate(ctx)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "start the version before this one once")
	assert.NotContains(t, err.Error(), "very-secret")
}

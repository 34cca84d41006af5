// Package testdb gives tests a PostgreSQL: one server for the whole run where DORFBOTE_TEST_DATABASE_URL
// names it, else one for the package, and a database for each test made from a migrated template.
package testdb

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/pgserver"
	"dorfbote/internal/store"
)

// Env names the server that tests share.
const Env = "DORFBOTE_TEST_DATABASE_URL"

var (
	once     sync.Once
	template string
	admin    string
	startErr error
	count    atomic.Int64
)

// New gives an empty, migrated database. It is dropped when the test ends.
func New(t testing.TB) *store.Store {
	t.Helper()
	st, err := store.Open(context.Background(), URL(t), 20)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	return st
}

// URL gives the address of an empty, migrated database.
func URL(t testing.TB) string {
	t.Helper()
	once.Do(start)
	if errors.Is(startErr, pgserver.ErrMissing) {
		t.Skip(startErr)
	}
	require.NoError(t, startErr)
	name := fmt.Sprintf("test_%d_%d", os.Getpid(), count.Add(1))
	require.NoError(t, run(admin, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", name, template)))
	t.Cleanup(func() { _ = run(admin, fmt.Sprintf("DROP DATABASE IF EXISTS %s WITH (FORCE)", name)) })
	return with(admin, name)
}

func start() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	if admin = os.Getenv(Env); admin == "" {
		// The folder lies where the user that PostgreSQL runs as can reach it; the server ends with
		// this process.
		dir := filepath.Join(os.TempDir(), fmt.Sprintf("dorfbote-test-%d", os.Getpid()))
		var s *pgserver.Server
		if s, startErr = pgserver.Start(ctx, pgserver.Options{Dir: dir, Quick: true}); startErr != nil {
			return
		}
		admin = s.URL
	}
	template = fmt.Sprintf("template_%d", os.Getpid())
	if startErr = run(admin, "CREATE DATABASE "+template); startErr != nil {
		return
	}
	var st *store.Store
	if st, startErr = store.Open(ctx, with(admin, template), 4); startErr != nil {
		return
	}
	defer st.Close()
	startErr = st.Migrate(ctx)
}

func run(address, sql string) error {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return err
}

func with(address, database string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	u.Path = "/" + database
	return u.String()
}

// Package store keeps Dorfbote's data in PostgreSQL: models, migrations and queries.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Store is the database. It is safe for use by many goroutines.
type Store struct {
	DB   *gorm.DB
	Pool *pgxpool.Pool // the same connections, for what speaks to PostgreSQL directly
	sql  *sql.DB
	also []func() // closed with it
}

// OnClose has something closed together with the store.
func (s *Store) OnClose(fn func()) { s.also = append(s.also, fn) }

// startingFor is how long a PostgreSQL that says it is just starting, or mending itself after a crash, is waited for.
const startingFor = 30 * time.Second

// Open connects to a database. conns is the most connections it may use; 0 takes the default. A server that answers that
// it is not ready yet is waited for, since it and Dorfbote are often started together; one that does not answer is an
// error at once.
func Open(ctx context.Context, url string, conns int) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("reading DORFBOTE_DATABASE_URL: %w", err)
	}
	if conns > 0 {
		cfg.MaxConns = int32(conns)
	}
	cfg.ConnConfig.ConnectTimeout = 5 * time.Second
	return open(ctx, cfg)
}

func open(ctx context.Context, cfg *pgxpool.Config) (*Store, error) {
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	err = pool.Ping(ctx)
	for began := time.Now(); notYet(err) && time.Since(began) < startingFor && ctx.Err() == nil; err = pool.Ping(ctx) {
		time.Sleep(100 * time.Millisecond)
	}
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("connecting to PostgreSQL at %s: %w", cfg.ConnConfig.Host, err)
	}
	db := stdlib.OpenDBFromPool(pool)
	g, err := gorm.Open(postgres.New(postgres.Config{Conn: joining{db}}), &gorm.Config{
		Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true,
	})
	if err != nil {
		pool.Close()
		return nil, err
	}
	return &Store{DB: g, Pool: pool, sql: db}, nil
}

// notYet tells whether a server answered that it takes no connections at the moment (SQLSTATE 57P03).
func notYet(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && said.Code == "57P03"
}

// Away tells whether an error says that the database cannot be reached, or is about to end or to start: what failed by it may succeed once
// it is back.
func Away(err error) bool {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		return strings.HasPrefix(said.Code, "57P0") || strings.HasPrefix(said.Code, "08")
	}
	var dialled *pgconn.ConnectError
	var broken net.Error
	return errors.As(err, &dialled) || errors.As(err, &broken) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || pgconn.SafeToRetry(err)
}

// Close gives every connection back.
func (s *Store) Close() {
	for _, fn := range s.also {
		fn()
	}
	_ = s.sql.Close()
	s.Pool.Close()
}

//go:embed migrations/*.sql
var migrations embed.FS

// Migrate brings the database up to date. Any number of processes may call it at once.
func (s *Store) Migrate(ctx context.Context) error {
	conn, err := s.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	const lock = 0x646f7266 // one migration at a time
	if _, err := conn.ExecContext(ctx, "SELECT pg_advisory_lock($1)", lock); err != nil {
		return err
	}
	defer func() { _, _ = conn.ExecContext(ctx, "SELECT pg_advisory_unlock($1)", lock) }()

	provider, err := s.provider()
	if err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrating: %w", err)
	}
	migrator, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return err
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrating the job tables: %w", err)
	}
	return nil
}

// Back takes the database back to an earlier migration, and what came with later ones goes. It is for tests of migrations.
func (s *Store) Back(ctx context.Context, version int64) error {
	provider, err := s.provider()
	if err != nil {
		return err
	}
	_, err = provider.DownTo(ctx, version)
	return err
}

// provider knows the migrations, and which of them the database has had.
func (s *Store) provider() (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectPostgres, s.sql, files)
}

// ErrNotMigrated means that the database is not what this version of the program works with.
var ErrNotMigrated = errors.New("the database is not up to date; run 'dorfbote migrate' first")

// UpToDate gives [ErrNotMigrated] where a migration is still to be run.
func (s *Store) UpToDate(ctx context.Context) error {
	var there bool
	if err := s.Pool.QueryRow(ctx, "SELECT to_regclass('goose_db_version') IS NOT NULL AND to_regclass('river_job') IS NOT NULL").Scan(&there); err != nil {
		return err
	}
	if !there {
		return ErrNotMigrated
	}
	provider, err := s.provider()
	if err != nil {
		return err
	}
	pending, err := provider.HasPending(ctx)
	if err == nil && pending {
		err = ErrNotMigrated
	}
	return err
}

// Empty tells whether the database holds nothing at all.
func (s *Store) Empty(ctx context.Context) (empty bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT NOT EXISTS (SELECT FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema'))").Scan(&empty)
	return empty, err
}

// Usable tells whether the database answers and has the tables that requests need.
func (s *Store) Usable(ctx context.Context) (up bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT to_regclass('audit') IS NOT NULL AND to_regclass('sources') IS NOT NULL").Scan(&up)
	return up, err
}

// Tx runs fn in a transaction. raw is the same transaction for statements that take arrays, which
// GORM would take apart, and for jobs that must be inserted with it.
func (s *Store) Tx(ctx context.Context, fn func(tx *gorm.DB, raw *sql.Tx) error) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		raw, err := Raw(tx)
		if err != nil {
			return err
		}
		return fn(tx, raw)
	})
}

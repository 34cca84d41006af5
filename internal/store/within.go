package store

import (
	"context"
	"database/sql"
	"fmt"
	"sync/atomic"

	"gorm.io/gorm"
)

type within struct{}

// Within runs fn in a transaction that every statement joins whose context is the one given to fn, however deep: so what
// is changed and what is written about it are one. An error undoes all of it. A transaction begun within is a part that
// can be undone by itself.
func (s *Store) Within(ctx context.Context, fn func(ctx context.Context) error) error {
	if Current(ctx) != nil {
		return fn(ctx)
	}
	tx, err := s.sql.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after the commit
	if err := fn(context.WithValue(ctx, within{}, tx)); err != nil {
		return err
	}
	return tx.Commit()
}

// Apart gives a context whose statements join no transaction: what they do stays, whatever becomes of it.
func Apart(ctx context.Context) context.Context {
	return context.WithValue(ctx, within{}, (*sql.Tx)(nil))
}

// Current gives the transaction that statements with a context join, nil where there is none.
func Current(ctx context.Context) *sql.Tx {
	tx, _ := ctx.Value(within{}).(*sql.Tx)
	return tx
}

// plain is where statements go that take arrays, which GORM would take apart: into the context's transaction, where there is one.
func (s *Store) plain(ctx context.Context) interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
} {
	if tx := Current(ctx); tx != nil {
		return tx
	}
	return s.sql
}

// joining is the database as GORM sees it: each statement goes into its context's transaction, where there is one.
type joining struct{ db *sql.DB }

func (j joining) pool(ctx context.Context) gorm.ConnPool {
	if tx := Current(ctx); tx != nil {
		return tx
	}
	return j.db
}

// PrepareContext implements gorm.ConnPool.
func (j joining) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return j.pool(ctx).PrepareContext(ctx, query)
}

// ExecContext implements gorm.ConnPool.
func (j joining) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return j.pool(ctx).ExecContext(ctx, query, args...)
}

// QueryContext implements gorm.ConnPool.
func (j joining) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return j.pool(ctx).QueryContext(ctx, query, args...)
}

// QueryRowContext implements gorm.ConnPool.
func (j joining) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return j.pool(ctx).QueryRowContext(ctx, query, args...)
}

// GetDBConn gives the database itself.
func (j joining) GetDBConn() (*sql.DB, error) { return j.db, nil }

// BeginTx implements gorm.ConnPoolBeginner.
func (j joining) BeginTx(ctx context.Context, o *sql.TxOptions) (gorm.ConnPool, error) {
	tx := Current(ctx)
	if tx == nil {
		return j.db.BeginTx(ctx, o)
	}
	p := &part{Tx: tx, ctx: ctx, name: fmt.Sprintf("part_%d", parts.Add(1))}
	_, err := tx.ExecContext(ctx, "SAVEPOINT "+p.name)
	return p, err
}

// parts numbers savepoints, which need names of their own only within a transaction.
var parts atomic.Int64

// part is a transaction within another.
type part struct {
	*sql.Tx
	ctx  context.Context
	name string
	done bool
}

// Commit keeps what was done since, as far as the whole is kept.
func (p *part) Commit() error { return p.end("RELEASE SAVEPOINT ") }

// Rollback undoes what was done since.
func (p *part) Rollback() error { return p.end("ROLLBACK TO SAVEPOINT ") }

func (p *part) end(how string) error {
	if p.done {
		return sql.ErrTxDone
	}
	p.done = true
	_, err := p.ExecContext(p.ctx, how+p.name)
	return err
}

// Raw gives the transaction below GORM's, for statements that take arrays, which GORM would take apart, and for jobs that
// must be inserted with it.
func Raw(tx *gorm.DB) (*sql.Tx, error) {
	switch raw := tx.Statement.ConnPool.(type) {
	case *sql.Tx:
		return raw, nil
	case *part:
		return raw.Tx, nil
	}
	return nil, fmt.Errorf("the transaction is a %T", tx.Statement.ConnPool)
}

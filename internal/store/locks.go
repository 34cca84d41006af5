package store

import (
	"context"
	"database/sql"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// LockKind says what a lock by name is for. Locks are PostgreSQL's advisory locks: a name of each kind is locked by itself.
type LockKind int64

// The locks there are. Where a transaction takes several, it takes them in the order of this list, and several names of
// one kind in the order of the alphabet ([Lock] sees to it): so no two wait for each other.
const (
	LockSource         LockKind = 7  // of a source: whoever holds it gives numbers to its arrivals
	LockDrain          LockKind = 11 // of a destination: whoever holds it sends
	LockRun            LockKind = 12 // of a run: whoever holds it does its steps
	LockListen         LockKind = 13 // of a source: whoever holds it listens to it
	LockReports        LockKind = 14 // of a connection: whoever holds it asks what became of posts
	LockPace           LockKind = 17 // of a workflow: whoever holds it asks and changes what its pace remembers
	LockProcess        LockKind = 19 // of a process, by which others see that it runs
	LockAdministrators LockKind = 23 // two that let each other go at once must not both succeed
	LockPlace          LockKind = 29 // of a destination: whoever holds it gives numbers to its posts
	LockLane           LockKind = 31 // of a lane: whoever holds it decides
	LockGuesses        LockKind = 37 // of one name, so that tries at once are counted one after the other
)

// LockStatement takes locks by names until the transaction ends, for statements sent in batches: $1 are the names, $2 the
// kind.
const LockStatement = "SELECT pg_advisory_xact_lock(hashtextextended(name, $2)) FROM (SELECT DISTINCT unnest($1::text[]) AS name ORDER BY 1) x"

// Lock takes locks by names until the transaction ends. tx is a *sql.Tx, or the ConnPool of a transaction of GORM's.
func Lock(ctx context.Context, tx interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}, kind LockKind, names ...string) error {
	_, err := tx.ExecContext(ctx, LockStatement, names, int64(kind))
	return err
}

// lockTimeout bounds a question about a lock that nobody waits for.
const lockTimeout = 5 * time.Second

const (
	tryLock = "SELECT pg_try_advisory_lock(hashtextextended($1, $2))"
	unlock  = "SELECT pg_advisory_unlock(hashtextextended($1, $2))"
)

// Hold runs do while it holds a lock, if nobody else holds it; mine is false where somebody does. The lock goes with the
// process however it ends.
func (s *Store) Hold(ctx context.Context, kind LockKind, name string, do func() error) (mine bool, err error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Release()
	if err := conn.QueryRow(ctx, tryLock, name, kind).Scan(&mine); err != nil || !mine {
		return false, err
	}
	err = do()
	// It is let go even when the time of whoever holds it has run out; a connection that cannot is thrown away, and the
	// lock with it.
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), lockTimeout)
	defer cancel()
	if _, freeErr := conn.Exec(end, unlock, name, kind); freeErr != nil {
		_ = conn.Conn().Close(end)
		if err == nil {
			err = freeErr
		}
	}
	return true, err
}

// HoldAlone takes a lock on a connection of its own, to be held for long: it goes with the connection, which the caller
// closes. The connection is nil where somebody else holds the lock.
func (s *Store) HoldAlone(ctx context.Context, kind LockKind, name string) (*pgx.Conn, error) {
	conn, err := pgx.ConnectConfig(ctx, s.Pool.Config().ConnConfig.Copy())
	if err != nil {
		return nil, err
	}
	var mine bool
	if err := conn.QueryRow(ctx, tryLock, name, kind).Scan(&mine); err != nil || !mine {
		_ = conn.Close(context.WithoutCancel(ctx))
		return nil, err
	}
	return conn, nil
}

// Locks holds many locks of one kind on one connection of its own, so that they go with the process however it ends.
// Where the connection is lost they are lost too. Whoever uses it asks for no name that it holds already.
type Locks struct {
	store *Store
	kind  LockKind
	mu    sync.Mutex
	conn  *pgx.Conn
	held  map[string]bool
}

// NewLocks gives locks of a kind, of which none is held.
func (s *Store) NewLocks(kind LockKind) *Locks { return &Locks{store: s, kind: kind} }

// Try takes a lock if nobody else has it.
func (l *Locks) Try(ctx context.Context, name string) (mine bool, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, lockTimeout)
	defer cancel()
	if l.conn == nil {
		conn, err := pgx.ConnectConfig(ctx, l.store.Pool.Config().ConnConfig.Copy())
		if err != nil {
			return false, err
		}
		l.conn, l.held = conn, map[string]bool{}
	}
	if err := l.conn.QueryRow(ctx, tryLock, name, l.kind).Scan(&mine); err != nil {
		l.drop()
		return false, err
	}
	if mine {
		l.held[name] = true
	}
	return mine, nil
}

// Holds tells whether a lock is still held: where the connection was lost, it is not.
func (l *Locks) Holds(name string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn != nil && l.held[name]
}

// Free lets go of a lock. Where that cannot be said, the connection is given up, and all of them with it.
func (l *Locks) Free(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil || !l.held[name] {
		return
	}
	delete(l.held, name)
	ctx, cancel := context.WithTimeout(context.Background(), lockTimeout)
	defer cancel()
	if _, err := l.conn.Exec(ctx, unlock, name, l.kind); err != nil {
		l.drop()
	}
}

func (l *Locks) drop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = l.conn.Close(ctx)
	l.conn, l.held = nil, nil
}

// Close gives the connection back, and with it every lock.
func (l *Locks) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		l.drop()
	}
}

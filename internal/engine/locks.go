package engine

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// locks holds a process's lanes by advisory locks on a connection of its own, so that they go with the process however
// it ends. Where the connection is lost they are lost too; a lane that is being decided then finds its mark moved.
type locks struct {
	engine *Engine
	mu     sync.Mutex
	conn   *pgx.Conn
	held   map[string]bool
}

const (
	laneNumber  = 31
	lockTimeout = 5 * time.Second
)

// try takes a lock if nobody else has it.
func (l *locks) try(ctx context.Context, name string) (bool, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, lockTimeout)
	defer cancel()
	if l.conn == nil {
		conn, err := pgx.ConnectConfig(ctx, l.engine.Store.Pool.Config().ConnConfig.Copy())
		if err != nil {
			return false, err
		}
		l.conn, l.held = conn, map[string]bool{}
	}
	var mine bool
	if err := l.conn.QueryRow(ctx, "SELECT pg_try_advisory_lock(hashtextextended($1, $2))", name, laneNumber).Scan(&mine); err != nil {
		l.drop()
		return false, err
	}
	if mine {
		l.held[name] = true
	}
	return mine, nil
}

// free lets go of a lock. Where that cannot be said, the connection is given up, and all of them with it.
func (l *locks) free(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil || !l.held[name] {
		return
	}
	delete(l.held, name)
	ctx, cancel := context.WithTimeout(context.Background(), lockTimeout)
	defer cancel()
	if _, err := l.conn.Exec(ctx, "SELECT pg_advisory_unlock(hashtextextended($1, $2))", name, laneNumber); err != nil {
		l.drop()
	}
}

func (l *locks) drop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = l.conn.Close(ctx)
	l.conn, l.held = nil, nil
}

// end gives the connection back.
func (l *locks) end() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		l.drop()
	}
}

package outbox

import (
	"bytes"
	"encoding/json"
	"sync"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/store"
)

// lines are connections of kinds that keep them between posts, as long as their settings stay the same and something is sent.
type lines struct {
	mu   sync.Mutex
	open map[string]*line
}

type line struct {
	conn  connect.Conn
	of    []byte // the settings it was opened with
	users int
	last  time.Time
}

// lineIdle is after how long without a post a line that is kept is let go.
const lineIdle = 3 * time.Minute

// line opens a connection, or gives the one that is kept. done is to be called when it is no longer used.
func (o *Outbox) line(c *store.Connection) (conn connect.Conn, done func(), err error) {
	k := kinds.Named(c.Kind)
	if k == nil || !k.Keeps {
		if conn, err = o.Sources.OpenConn(c); err != nil {
			return nil, nil, err
		}
		return conn, func() { _ = conn.Close() }, nil
	}
	of, err := json.Marshal(c.Settings)
	if err != nil {
		return nil, nil, err
	}
	of = append(of, c.Sealed...)
	o.lines.mu.Lock()
	defer o.lines.mu.Unlock()
	now := time.Now()
	for id, l := range o.lines.open {
		if stale := id == c.ID && !bytes.Equal(l.of, of); l.users == 0 && (stale || now.Sub(l.last) > lineIdle) {
			delete(o.lines.open, id)
			go func() { _ = l.conn.Close() }()
		}
	}
	l := o.lines.open[c.ID]
	if l == nil || !bytes.Equal(l.of, of) {
		if conn, err = o.Sources.OpenConn(c); err != nil {
			return nil, nil, err
		}
		if l != nil { // it is in use with the settings before; whoever uses it ends it
			return conn, func() { _ = conn.Close() }, nil
		}
		l = &line{conn: conn, of: of}
		if o.lines.open == nil {
			o.lines.open = map[string]*line{}
		}
		o.lines.open[c.ID] = l
	}
	l.users++
	return l.conn, func() {
		o.lines.mu.Lock()
		defer o.lines.mu.Unlock()
		l.users--
		l.last = time.Now()
	}, nil
}

// LetGo ends the lines that are kept, and gives back the locks.
func (o *Outbox) LetGo() {
	o.drains.Close()
	o.lines.mu.Lock()
	defer o.lines.mu.Unlock()
	for id, l := range o.lines.open {
		delete(o.lines.open, id)
		_ = l.conn.Close()
	}
}

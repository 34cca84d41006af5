// Package notify is how processes tell each other, and browsers, that something has changed: by PostgreSQL's LISTEN and
// NOTIFY. A message only says what is stale; who hears it asks for the state. Messages may be missed, for instance while
// the database is away: whoever listens hears [All] when it listens again.
package notify

import (
	"context"
	"database/sql"
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// The topics of messages. Those of the screens are named after what is shown there.
const (
	Arrivals     = "arrivals"     // something came in from a source, and is to be decided
	Decided      = "decided"      // arrivals were decided
	Replied      = "replied"      // the answer to a call is there: of the arrival Seq, by the workflow ID
	Posts        = "posts"        // a post's state changed
	Steps        = "steps"        // a run's step changed
	Workflows    = "workflows"    // a workflow was changed, or switched on or off
	Connections  = "connections"  // a connection or a source was changed, or how it stands
	Destinations = "destinations" // a destination was changed
	Begun        = "begun"        // a source was read for the first time
	People       = "people"       // who is signed in, or may do what
	Today        = "today"        // there is something to be told to people, or no longer
	All          = "all"          // messages may have been missed
)

// Channel is the PostgreSQL channel that messages go through.
const Channel = "dorfbote"

// Message says that something has changed.
type Message struct {
	Topic  string `json:"topic"`
	Source string `json:"source,omitempty"` // for arrivals, connections and begun
	Seq    int64  `json:"seq,omitempty"`    // of an arrival
	ID     int64  `json:"id,omitempty"`     // of a workflow or a post
}

// Text is the message as it is sent, for statements that send it together with something else.
func (m Message) Text() string {
	raw, _ := json.Marshal(m) // of strings and numbers, which cannot fail
	return string(raw)
}

// In tells all processes when a transaction is committed, and nobody where it is not.
func In(ctx context.Context, tx *sql.Tx, m Message) error {
	_, err := tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", Channel, m.Text())
	return err
}

// Listen hands on each message until ctx ends, and [All] whenever it begins to listen. A lost connection is made again.
func Listen(ctx context.Context, db *pgxpool.Pool, log *slog.Logger, each func(Message)) {
	for ctx.Err() == nil {
		if err := listenOnce(ctx, db, each); err != nil && ctx.Err() == nil {
			log.Warn("listening to the database failed; trying again", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(500 * time.Millisecond):
			}
		}
	}
}

func listenOnce(ctx context.Context, db *pgxpool.Pool, each func(Message)) error {
	conn, err := pgx.ConnectConfig(ctx, db.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+Channel); err != nil {
		return err
	}
	each(Message{Topic: All}) // whatever was missed before
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var m Message
		if json.Unmarshal([]byte(n.Payload), &m) == nil {
			each(m)
		}
	}
}

// Hub hands on messages to whoever listens in this process, such as browsers.
type Hub struct {
	mu          sync.Mutex
	subscribers map[chan Message]struct{}
	heeding     []func(Message)
}

// Heed has a function called with every message, for what a process keeps in mind itself. It must not take long.
func (h *Hub) Heed(fn func(Message)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.heeding = append(h.heeding, fn)
}

// NewHub listens until ctx ends.
func NewHub(ctx context.Context, db *pgxpool.Pool, log *slog.Logger) *Hub {
	h := &Hub{subscribers: map[chan Message]struct{}{}}
	go Listen(ctx, db, log, h.send)
	return h
}

func (h *Hub) send(m Message) {
	h.mu.Lock()
	heeding := h.heeding
	h.mu.Unlock()
	for _, fn := range heeding {
		fn(m)
	}
	if m.Topic == Replied { // which concerns no screen
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.subscribers {
		select {
		case ch <- m:
		default: // a slow listener misses messages; it asks for the state anyway
		}
	}
}

// Subscribe gives a channel of messages until cancel is called.
func (h *Hub) Subscribe() (messages <-chan Message, cancel func()) {
	ch := make(chan Message, 64)
	h.mu.Lock()
	h.subscribers[ch] = struct{}{}
	h.mu.Unlock()
	return ch, func() {
		h.mu.Lock()
		delete(h.subscribers, ch)
		h.mu.Unlock()
	}
}

package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Event is what processes tell each other about, and browsers are told, when something has changed.
type Event struct {
	Topic  string `json:"topic"` // arrivals, decided, posts, workflows, destinations, begun, …
	Source string `json:"source,omitempty"`
	Seq    int64  `json:"seq,omitempty"`
	ID     int64  `json:"id,omitempty"`
}

// channelName is the PostgreSQL channel for events.
const channelName = "dorfbote"

func notify(ctx context.Context, tx *sql.Tx, ev Event) error {
	raw, err := json.Marshal(ev)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", channelName, string(raw))
	return err
}

// Tell tells all processes that something has changed.
func (e *Engine) Tell(ctx context.Context, ev Event) {
	raw, _ := json.Marshal(ev)
	if err := e.Store.DB.WithContext(ctx).Exec("SELECT pg_notify(?, ?)", channelName, string(raw)).Error; err != nil {
		e.Log.Warn("telling others failed", "error", err)
	}
}

// Hub hands on events from the database to whoever listens in this process.
type Hub struct {
	engine *Engine
	mu     sync.Mutex
	subs   map[chan Event]struct{}
}

// NewHub starts listening until ctx ends. A lost connection is made again.
func NewHub(ctx context.Context, e *Engine) *Hub {
	h := &Hub{engine: e, subs: map[chan Event]struct{}{}}
	go hear(ctx, e, h.send)
	return h
}

// topicAll says that events may have been missed.
const topicAll = "all"

// hear hands on what processes tell each other, until ctx ends. A lost connection is made again.
func hear(ctx context.Context, e *Engine, each func(Event)) {
	for ctx.Err() == nil {
		if err := hearOnce(ctx, e, each); err != nil && ctx.Err() == nil {
			e.Log.Warn("listening to the database failed; trying again", "error", err)
			wait(ctx, 500*time.Millisecond)
		}
	}
}

func hearOnce(ctx context.Context, e *Engine, each func(Event)) error {
	conn, err := pgx.ConnectConfig(ctx, e.Store.Pool.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+channelName); err != nil {
		return err
	}
	each(Event{Topic: topicAll}) // whatever was missed before
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var ev Event
		if json.Unmarshal([]byte(n.Payload), &ev) == nil {
			each(ev)
		}
	}
}

func (h *Hub) send(ev Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.subs {
		select {
		case ch <- ev:
		default: // a slow listener misses events; it asks for the state anyway
		}
	}
}

// Subscribe gives a channel of events until cancel is called.
func (h *Hub) Subscribe() (events <-chan Event, cancel func()) {
	ch := make(chan Event, 64)
	h.mu.Lock()
	h.subs[ch] = struct{}{}
	h.mu.Unlock()
	return ch, func() {
		h.mu.Lock()
		delete(h.subs, ch)
		h.mu.Unlock()
	}
}

package engine

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Hub hands on events from the database to whoever listens in this process.
type Hub struct {
	engine *Engine
	mu     sync.Mutex
	subs   map[chan Event]struct{}
}

// NewHub starts listening until ctx ends. A lost connection is made again.
func NewHub(ctx context.Context, e *Engine) *Hub {
	h := &Hub{engine: e, subs: map[chan Event]struct{}{}}
	go func() {
		for ctx.Err() == nil {
			if err := h.listen(ctx); err != nil && ctx.Err() == nil {
				e.Log.Warn("listening to the database failed; trying again", "error", err)
				time.Sleep(time.Second)
				h.send(Event{Topic: "all"}) // whatever was missed meanwhile
			}
		}
	}()
	return h
}

func (h *Hub) listen(ctx context.Context) error {
	cfg := h.engine.Store.Pool.Config().ConnConfig
	conn, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return err
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(ctx, "LISTEN "+channelName); err != nil {
		return err
	}
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var ev Event
		if json.Unmarshal([]byte(n.Payload), &ev) == nil {
			h.send(ev)
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

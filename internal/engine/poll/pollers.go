package poll

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// How polls are shared between processes: whoever takes one holds a lease on it, which runs out if the process
// dies. One that is slow to answer leaves its slot to others, so that what hangs holds up nobody; its connection has a share only.
const (
	pollWorkers  = 6
	slowAfter    = 500 * time.Millisecond
	slowMost     = 256 // of one process, those that have a slot included
	shareMost    = 4   // of one connection
	leaseFor     = 45 * time.Second
	leaseRenewal = 15 * time.Second
	pollLook     = 500 * time.Millisecond
)

// Pollers ask the sources that are due, and listen to those that can say when something is new, until ctx ends.
type Pollers struct {
	polls *Polls
	slots chan struct{}
	all   chan struct{}
	busy  sync.WaitGroup
	mu    sync.Mutex
	open  map[string]context.CancelFunc // sources that are listened to by this process
}

// Start asks and listens until ctx ends.
func (q *Polls) Start(ctx context.Context) *Pollers {
	p := &Pollers{polls: q, slots: make(chan struct{}, pollWorkers), all: make(chan struct{}, slowMost), open: map[string]context.CancelFunc{}}
	p.busy.Add(2)
	go p.ask(ctx)
	go p.listen(ctx)
	return p
}

// Wait returns when what was under way has ended.
func (p *Pollers) Wait() { p.busy.Wait() }

// ask takes what is due, one source at a time.
func (p *Pollers) ask(ctx context.Context) {
	defer p.busy.Done()
	for {
		select {
		case <-ctx.Done():
			return
		case p.slots <- struct{}{}:
		}
		select {
		case <-ctx.Done():
			return
		case p.all <- struct{}{}:
		}
		source, err := p.take(ctx)
		if err != nil && ctx.Err() == nil {
			p.polls.Log.Warn("looking for sources to ask failed", "error", err)
		}
		if source == "" {
			<-p.slots
			<-p.all
			select {
			case <-ctx.Done():
				return
			case <-p.polls.now:
			case <-time.After(pollLook):
			}
			continue
		}
		p.busy.Go(func() {
			leave := sync.OnceFunc(func() { <-p.slots })
			slow := time.AfterFunc(slowAfter, leave)
			defer func() {
				slow.Stop()
				leave()
				<-p.all
			}()
			p.poll(ctx, source)
		})
	}
}

func (p *Pollers) take(ctx context.Context) (string, error) {
	var source string
	err := p.polls.Store.DB.WithContext(ctx).Raw(`UPDATE polls SET lease_until = now() + ? * interval '1 second' WHERE source = (
			SELECT p.source FROM polls p JOIN connections c ON c.id = p.connection
			WHERE p.due_at <= now() AND NOT c.paused AND (p.lease_until IS NULL OR p.lease_until < now())
				AND (SELECT count(*) FROM polls o WHERE o.connection = p.connection AND o.lease_until >= now()) < ?
			ORDER BY p.due_at LIMIT 1 FOR UPDATE OF p SKIP LOCKED)
		RETURNING source`, leaseFor.Seconds(), shareMost).Scan(&source).Error
	return source, err
}

func (p *Pollers) poll(ctx context.Context, source string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { // the lease is held as long as the poll goes on
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(leaseRenewal):
				_ = p.polls.Store.DB.WithContext(ctx).Exec("UPDATE polls SET lease_until = now() + ? * interval '1 second' WHERE source = ?", leaseFor.Seconds(), source)
			}
		}
	}()
	if _, err := p.polls.Poll(ctx, source); err != nil && ctx.Err() == nil {
		p.polls.Log.Info("asking a source failed", "source", source, "error", err)
	} else if ctx.Err() != nil { // stopped in the middle: another may go on at once
		end, stop := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer stop()
		_ = p.polls.Store.DB.WithContext(end).Exec("UPDATE polls SET lease_until = NULL WHERE source = ?", source)
	}
}

// CheckNow has a source asked at once.
func (q *Polls) CheckNow(ctx context.Context, source string) error {
	err := q.Store.DB.WithContext(ctx).Exec("UPDATE polls SET due_at = now() WHERE source = ?", source).Error
	select {
	case q.now <- struct{}{}:
	default:
	}
	return err
}

// listen keeps, for every source that can say when something is new, one process listening.
func (p *Pollers) listen(ctx context.Context) {
	defer p.busy.Done()
	for {
		if err := p.relisten(ctx); err != nil && ctx.Err() == nil {
			p.polls.Log.Warn("looking for sources to listen to failed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}

func (p *Pollers) relisten(ctx context.Context) error {
	var list []struct {
		Source, Kind string
		Settings     store.Texts
	}
	err := p.polls.Store.DB.WithContext(ctx).Raw(`SELECT k.name AS source, k.settings, c.kind FROM sources k JOIN connections c ON c.id = k.connection JOIN polls p ON p.source = k.name
		WHERE NOT c.paused AND c.kind IN ?`, kinds.That(func(k *connect.Kind) bool { return k.Listens != nil })).Scan(&list).Error
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range list {
		if !kinds.Named(l.Kind).Listens(l.Settings) {
			continue
		}
		wanted[l.Source] = true
		if p.open[l.Source] != nil {
			continue
		}
		own, cancel := context.WithCancel(ctx)
		p.open[l.Source] = cancel
		p.busy.Go(func() {
			p.hold(own, l.Source)
			p.mu.Lock()
			delete(p.open, l.Source)
			p.mu.Unlock()
		})
	}
	for source, cancel := range p.open {
		if !wanted[source] {
			cancel()
		}
	}
	return nil
}

// hold listens to a source if no other process does. The lock lies on a database connection of its own, so it is
// let go with the process.
func (p *Pollers) hold(ctx context.Context, source string) {
	e := p.polls
	conn, err := e.Store.HoldAlone(ctx, store.LockListen, source)
	if err != nil {
		host.Wait(ctx, 5*time.Second)
		return
	}
	if conn == nil {
		host.Wait(ctx, 10*time.Second)
		return
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if err := p.hear(ctx, source); err != nil && ctx.Err() == nil {
		e.Log.Info("listening to a source failed", "source", source, "error", err)
		var k store.Source
		if e.Store.DB.WithContext(ctx).First(&k, "name = ?", source).Error == nil {
			e.Sources.NoteHealth(ctx, k.Connection, err)
		}
		host.Wait(ctx, 5*time.Second)
	}
}

func (p *Pollers) hear(ctx context.Context, source string) error {
	e := p.polls
	db := e.Store.DB.WithContext(ctx)
	var k store.Source
	var c store.Connection
	if err := db.First(&k, "name = ?", source).Error; err != nil {
		return err
	}
	if err := db.First(&c, "id = ?", k.Connection).Error; err != nil {
		return err
	}
	conn, err := e.Sources.OpenConn(&c)
	if err != nil {
		return err
	}
	defer conn.Close()
	// What changes about the connection or the source is noticed by looking, and listening begins anew.
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go e.watchSettings(ctx, cancel, &c, &k)
	switch x := conn.(type) {
	case connect.Waiter:
		return x.Wait(ctx, sources.SourceOf(&k), func() { _ = e.CheckNow(ctx, source) })
	case connect.Listener:
		return e.deliver(ctx, x, &k, &c)
	}
	<-ctx.Done() // what is only asked after all, by its settings
	return nil
}

func (q *Polls) watchSettings(ctx context.Context, changed func(), c *store.Connection, k *store.Source) {
	for {
		host.Wait(ctx, 2*time.Second)
		if ctx.Err() != nil {
			return
		}
		var same bool
		err := q.Store.DB.WithContext(ctx).Raw(`SELECT c.settings = ?::jsonb AND c.sealed IS NOT DISTINCT FROM ?::bytea AND k.settings = ?::jsonb AND k.key_field = ?
			FROM connections c JOIN sources k ON k.connection = c.id WHERE k.name = ?`, c.Settings, c.Sealed, k.Settings, k.KeyField, k.Name).Scan(&same).Error
		if err == nil && !same {
			changed()
			return
		}
	}
}

// deliver takes in what a listener hands over.
func (q *Polls) deliver(ctx context.Context, l connect.Listener, k *store.Source, c *store.Connection) error {
	var p store.Poll
	if err := q.Store.DB.WithContext(ctx).First(&p, "source = ?", k.Name).Error; err != nil {
		return err
	}
	var cursor json.RawMessage
	if p.Cursor != nil {
		cursor = json.RawMessage(*p.Cursor)
	}
	last := time.Now()
	return l.Listen(ctx, sources.SourceOf(k), cursor, func(items []connect.Item, cursor json.RawMessage) error {
		if len(items) == 0 && time.Since(last) < 10*time.Second {
			return nil
		}
		last = time.Now()
		s := q.newSnapshot(k.Name, nil)
		for _, it := range items {
			if err := s.add(ctx, it); err != nil {
				return err
			}
		}
		if err := s.flush(ctx); err != nil {
			return err
		}
		if err := q.Store.Durable(ctx); err != nil {
			return err
		}
		q.Sources.NoteHealth(ctx, c.ID, nil)
		return q.Store.DB.WithContext(ctx).Exec("UPDATE polls SET cursor = ?::jsonb, begun = true, last_ok = now(), last_at = now(), last_error = '', failures = 0 WHERE source = ?", string(cursor), k.Name).Error
	})
}

package pgserver

import (
	"context"
	"log/slog"
	"sync"
	"syscall"
	"time"
)

// Kept is a server that is started again, on the same folder and port, whenever it ends by itself: whatever killed it, whoever is
// connected to it finds it again within seconds.
type Kept struct {
	URL string

	mu    sync.Mutex
	now   *Server
	ended chan struct{}
	once  sync.Once
	done  chan struct{}
}

// restartEvery is how long is waited between two tries to start a server that ended, which grows up to restartMost.
const (
	restartEvery = 100 * time.Millisecond
	restartMost  = 10 * time.Second
)

// Keep starts a server and keeps it running until Stop.
func Keep(ctx context.Context, o Options, log *slog.Logger) (*Kept, error) {
	s, err := Start(ctx, o)
	if err != nil {
		return nil, err
	}
	k := &Kept{URL: s.URL, now: s, ended: make(chan struct{}), done: make(chan struct{})}
	o.Port = s.port
	go k.watch(context.WithoutCancel(ctx), o, log)
	return k, nil
}

func (k *Kept) watch(ctx context.Context, o Options, log *slog.Logger) {
	defer close(k.done)
	for {
		s := k.now
		select {
		case <-k.ended:
			return
		case err := <-s.done:
			s.done <- err
			log.Error("PostgreSQL ended by itself; it is started again", "error", err)
		}
		_ = s.lock.Close()
		for wait := restartEvery; ; wait = min(2*wait, restartMost) {
			began := time.Now()
			fresh, err := Start(ctx, o)
			if err == nil {
				k.mu.Lock()
				k.now = fresh
				k.mu.Unlock()
				log.Info("PostgreSQL runs again", "after", time.Since(began))
				break
			}
			log.Error("starting PostgreSQL again failed", "error", err)
			select {
			case <-k.ended:
				return
			case <-time.After(wait):
			}
		}
	}
}

func (k *Kept) server() *Server {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now
}

// Stop ends the server, and does not start it again.
func (k *Kept) Stop() {
	k.once.Do(func() { close(k.ended) })
	<-k.done
	k.server().Stop()
}

// Abort ends the server at once, within a second, for when there is no time to wait: at the next start it mends itself.
func (k *Kept) Abort() {
	k.once.Do(func() { close(k.ended) })
	s := k.server()
	for _, sig := range []syscall.Signal{syscall.SIGQUIT, syscall.SIGKILL} {
		_ = s.cmd.Process.Signal(sig)
		select {
		case err := <-s.done:
			s.done <- err
			return
		case <-time.After(500 * time.Millisecond):
		}
	}
}

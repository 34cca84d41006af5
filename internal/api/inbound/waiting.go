package inbound

import (
	"context"
	"sync"
	"time"

	"dorfbote/internal/notify"
)

// mostWaiting is how many callers may wait for an answer in one process at one time. Each holds a connection and nothing else.
const mostWaiting = 5000

// lookAgain is how often a caller's answer is looked for though nobody has said that it is there.
const lookAgain = 15 * time.Second

// awaited is an answer that somebody waits for.
type awaited struct{ arrival, workflow int64 }

// waiting are the callers that wait for answers. One listener wakes them; the database is asked only when an answer is there.
type waiting struct {
	mu  sync.Mutex
	n   int
	all map[awaited][]chan struct{}
}

// enter takes a place among those who wait; ok is false where there is none left.
func (w *waiting) enter() (ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.n >= mostWaiting {
		return false
	}
	w.n++
	return true
}

func (w *waiting) leave() {
	w.mu.Lock()
	w.n--
	w.mu.Unlock()
}

// heed hears what the process is told: an answer that is there wakes whoever waits for it; messages that may have been missed wake all.
func (w *waiting) heed(m notify.Message) {
	if m.Topic != notify.Replied && m.Topic != notify.All {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for a, list := range w.all {
		if m.Topic == notify.All || a == (awaited{m.Seq, m.ID}) {
			for _, ch := range list {
				select {
				case ch <- struct{}{}:
				default:
				}
			}
		}
	}
}

// until calls look until it gives true, at first at once and then whenever the answer may be there; it gives false after a time, or
// when ctx ends.
func (w *waiting) until(ctx context.Context, a awaited, within time.Duration, look func() bool) bool {
	ch := make(chan struct{}, 1)
	w.mu.Lock()
	if w.all == nil {
		w.all = map[awaited][]chan struct{}{}
	}
	w.all[a] = append(w.all[a], ch)
	w.mu.Unlock()
	defer w.forget(a, ch)
	end := time.NewTimer(within)
	defer end.Stop()
	again := time.NewTicker(lookAgain)
	defer again.Stop()
	for {
		if look() {
			return true
		}
		if within <= 0 {
			return false
		}
		select {
		case <-ch:
		case <-again.C:
		case <-end.C:
			return look()
		case <-ctx.Done():
			return false
		}
	}
}

func (w *waiting) forget(a awaited, ch chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	list := w.all[a]
	for i := range list {
		if list[i] == ch {
			list = append(list[:i], list[i+1:]...)
			break
		}
	}
	if w.all[a] = list; len(list) == 0 {
		delete(w.all, a)
	}
}

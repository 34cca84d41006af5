package main

import (
	"runtime"

	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/value"
)

// readAhead parses batches of arrivals on every processor while earlier ones are used. At most a few are ahead, so
// that memory does not grow with the file.
func readAhead(next func() *rehearse.Batch) (ahead func() *rehearse.Batch, stop func()) {
	type waiting struct {
		batch *rehearse.Batch
		ready chan struct{}
	}
	workers := runtime.GOMAXPROCS(0)
	order, todo, end := make(chan waiting, workers+2), make(chan waiting), make(chan struct{})
	go func() {
		defer close(order)
		defer close(todo)
		for b := next(); b != nil; b = next() {
			w := waiting{b, make(chan struct{})}
			select {
			case todo <- w:
			case <-end:
				return
			}
			select {
			case order <- w:
			case <-end:
				return
			}
		}
	}()
	for range workers {
		go func() {
			values := value.NewReader()
			for w := range todo {
				w.batch.Parse(values)
				close(w.ready)
			}
		}()
	}
	ahead = func() *rehearse.Batch {
		w, ok := <-order
		if !ok {
			return nil
		}
		<-w.ready
		return w.batch
	}
	return ahead, func() { close(end) }
}

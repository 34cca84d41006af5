package hooks

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// Log writes down the last requests to hooks, aside from the requests themselves: while many come, only some of
// those that were taken in are noted, and all that were refused as far as there is room.
type Log struct {
	queue   chan store.HookRequest
	pending atomic.Int64 // noted, and not written yet
}

const (
	requestQueue = 512
	requestFlush = 300 * time.Millisecond
	fineAFlush   = 5 // requests that were taken in, noted in one go
	headOfBody   = 500
	keptBody     = 16 << 10 // larger ones are not kept
)

// NewLog keeps the requests of hooks from now on.
func NewLog(e *sources.Sources) *Log {
	l := &Log{queue: make(chan store.HookRequest, requestQueue)}
	go l.write(e)
	return l
}

// Note puts a request into the log, unless it is full.
func (l *Log) Note(r *http.Request, connection string, body []byte, status int, location, problem string) {
	if l == nil {
		return
	}
	if status < 400 && len(l.queue) >= fineAFlush {
		return
	}
	head := strings.ReplaceAll(strings.ToValidUTF8(string(body[:min(len(body), headOfBody)]), "\uFFFD"), "\x00", "\uFFFD")
	media := strings.ToValidUTF8(r.Header.Get("Content-Type"), "\uFFFD")
	kept := []byte{}
	if len(body) <= keptBody {
		kept = body
	}
	l.pending.Add(1)
	select {
	case l.queue <- store.HookRequest{
		Connection: connection, At: time.Now(), Status: status, Problem: problem, Location: location, Media: media[:min(len(media), 200)],
		Path: strings.ToValidUTF8(r.URL.Path, "\uFFFD"), Size: len(body), Head: head, Body: kept,
	}:
	default:
		l.pending.Add(-1)
	}
}

// WaitWritten waits, for a second at most, until what has been noted is written: whoever looks at the log sees what has
// just come.
func (l *Log) WaitWritten() {
	for range 50 {
		if l.pending.Load() <= 0 {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func (l *Log) write(e *sources.Sources) {
	for first := range l.queue {
		time.Sleep(requestFlush)
		list := []store.HookRequest{first}
		for more := true; more; {
			select {
			case r := <-l.queue:
				list = append(list, r)
			default:
				more = false
			}
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		err := e.Store.KeepRequests(ctx, list)
		if err == nil {
			l.judge(ctx, e, list)
			told := map[string]bool{} // whoever looks at a hook sees at once what came, and what was refused
			for _, r := range list {
				if !told[r.Connection] {
					told[r.Connection] = true
					e.Tell(ctx, notify.Message{Topic: notify.Connections, Source: r.Connection})
				}
			}
		}
		cancel()
		l.pending.Add(-int64(len(list)))
		if err != nil {
			e.Log.Debug("noting requests failed", "error", err)
		}
	}
}

// refusedInARow is after how many refused requests in a row, with none between that was taken in, a hook counts as failing:
// anybody can send it something once.
const refusedInARow = 3

// judge says of each connection with new requests how it stands.
func (l *Log) judge(ctx context.Context, e *sources.Sources, list []store.HookRequest) {
	seen := map[string]bool{}
	for i := range list {
		r := list[len(list)-1-i]
		if seen[r.Connection] {
			continue
		}
		seen[r.Connection] = true
		if !refused(r.Status) {
			e.NoteHealth(ctx, r.Connection, nil)
			continue
		}
		last, err := e.Store.LastStatuses(ctx, r.Connection, refusedInARow)
		if err == nil && len(last) == refusedInARow && !slices.ContainsFunc(last, func(s int) bool { return !refused(s) }) {
			e.NoteHealth(ctx, r.Connection, fault.At("", "a request was refused: %s", r.Problem))
		}
	}
}

func refused(status int) bool { return status >= 400 && status != http.StatusServiceUnavailable }

package poll

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// Begin says which records of a source make arrivals when it is read for the first time.
type Begin struct {
	How string    `json:"how" enum:"now,everything,from"`
	Key string    `json:"key,omitempty" doc:"of the record to begin with"`
	At  time.Time `json:"at,omitzero" doc:"when that record was made or changed, where the source says"`
}

// Text is the beginning as it is stored.
func (b Begin) Text() string {
	raw, _ := json.Marshal(b)
	return string(raw)
}

func readBegin(text string) Begin {
	var b Begin
	if json.Unmarshal([]byte(text), &b) != nil || b.How == "" {
		b.How = "now"
	}
	return b
}

// Picks gives the function that decides of each record of a first reading; nil takes every one.
func (b Begin) Picks() func(*connect.Item) bool {
	switch b.How {
	case "everything":
		return nil
	case "from":
		found := false
		return func(it *connect.Item) bool {
			if !b.At.IsZero() && !it.At.IsZero() {
				return !it.At.Before(b.At)
			}
			found = found || it.Key == b.Key
			return found
		}
	}
	return func(*connect.Item) bool { return false }
}

// Poll asks a source once. What it found is durable when it returns without an error.
func (q *Polls) Poll(ctx context.Context, source string) (Tally, error) {
	db := q.Store.DB.WithContext(ctx)
	var p store.Poll
	var k store.Source
	var c store.Connection
	if err := db.First(&p, "source = ?", source).Error; err != nil {
		return Tally{}, err
	}
	if err := db.First(&k, "name = ?", source).Error; err != nil {
		return Tally{}, err
	}
	if err := db.First(&c, "id = ?", k.Connection).Error; err != nil {
		return Tally{}, err
	}
	began := time.Now()
	tally, polled, same, err := q.pollOnce(ctx, &p, &k, &c)
	if ctx.Err() != nil {
		return tally, ctx.Err() // stopped, not failed; the next one begins where this one did
	}
	if err == nil {
		err = q.Store.Durable(ctx)
	}
	q.Sources.NoteHealth(ctx, c.ID, err)
	if noteErr := q.polled(ctx, &p, &k, &c, tally, polled, same, time.Since(began), err); err == nil {
		err = noteErr
	}
	return tally, err
}

func (q *Polls) pollOnce(ctx context.Context, p *store.Poll, k *store.Source, c *store.Connection) (Tally, connect.Polled, bool, error) {
	conn, err := q.Sources.OpenConn(c)
	if err != nil {
		return Tally{}, connect.Polled{}, false, err
	}
	defer conn.Close()
	if _, ok := conn.(connect.Listener); ok { // what is said there comes by itself
		return Tally{}, connect.Polled{Wait: 24 * time.Hour}, true, nil
	}
	poller, ok := conn.(connect.Poller)
	if !ok {
		return Tally{}, connect.Polled{}, false, fmt.Errorf("a connection of the kind %s cannot be asked", c.Kind)
	}
	var begin func(*connect.Item) bool
	if !p.Begun {
		begin = readBegin(p.Start).Picks()
	}
	var cursor json.RawMessage
	if p.Cursor != nil {
		cursor = json.RawMessage(*p.Cursor)
	}
	s := q.newSnapshot(p.Source, begin)
	polled, err := poller.Poll(ctx, sources.SourceOf(k), cursor, func(it connect.Item) error { return s.add(ctx, it) })
	if err != nil {
		return s.tally, polled, false, err
	}
	if polled.Same {
		return s.tally, polled, true, nil
	}
	if err := s.flush(ctx); err != nil {
		return s.tally, polled, false, err
	}
	if polled.Whole && !p.Begun {
		// What is read is another thing now: records that are no longer among it are not gone.
		_, err = s.gone(ctx, func(map[string]any) bool { return true }, nil, nil)
	}
	if polled.Whole && p.Begun {
		if err := q.believable(ctx, p, s); err != nil {
			return s.tally, polled, false, err
		}
		// While a list is read page by page it may shift, and a record slip from one page to another: what is missing
		// from several pages is believed to be gone when it is missing twice.
		doubted := store.Keys{}
		if polled.Calls <= 1 {
			doubted = nil
		}
		p.Missing, err = s.gone(ctx, polled.Forget, doubted, p.Missing)
	}
	return s.tally, polled, false, err
}

// believable doubts a source that lists nothing where it listed something: once may be a slip of the app, and everything
// would be told as gone. Twice is believed.
func (q *Polls) believable(ctx context.Context, p *store.Poll, s *snapshot) error {
	if s.tally.Rows > 0 {
		return nil
	}
	var had int64
	if err := q.Store.DB.WithContext(ctx).Raw("SELECT count(*) FROM (SELECT 1 FROM records WHERE source = ? LIMIT 1) r", p.Source).Scan(&had).Error; err != nil {
		return err
	}
	if had == 0 || p.Suspect {
		return nil
	}
	p.Suspect = true
	return &fault.Fault{Tried: "reading " + p.Source, Said: "it listed nothing at all, where it listed records before", Do: "it is asked once more before all of them count as gone", Wait: 5 * time.Second}
}

// polled writes down how a poll went and when the next one is due.
func (q *Polls) polled(ctx context.Context, p *store.Poll, k *store.Source, c *store.Connection, tally Tally, polled connect.Polled, same bool, took time.Duration, failure error) error {
	now, begins := q.Now(), !p.Begun
	p.LastAt, p.LeaseUntil, p.LastMs, p.LastCalls = &now, nil, int(took.Milliseconds()), max(polled.Calls, 1)
	var wait, around time.Duration // around: not all at the same moment
	if failure != nil {
		p.Failures++
		p.LastError = connect.Storable(failure.Error())
		wait = q.afterFailure(p, failure)
		around = rand.N(wait/10 + time.Millisecond)
		if p.Failures == 3 || p.Failures == 1 && !passing(failure) {
			q.Notice(ctx, store.Notice{What: "cannot be read", Words: failure.Error(), Go: "/connections/" + c.ID, About: p.Source, Owner: c.Owner})
		}
	} else {
		if p.Failures > 0 {
			q.Done(ctx, p.Source, "cannot be read")
		}
		p.Failures, p.LastError, p.LastOK = 0, "", &now
		p.Suspect = false
		if !same {
			p.LastRows = tally.Rows
		}
		if polled.Cursor != nil {
			text := string(polled.Cursor)
			p.Cursor = &text
		}
		quickest, slowest, watched := p.Quickest, p.Slowest, false
		if most := q.watchedEvery(ctx, p, c); most > 0 && most < slowest {
			quickest, slowest, watched = min(quickest, most), most, true
		}
		p.Every = rhythm(p.Every, quickest, slowest, tally.Arrivals() > 0)
		wait = max(time.Duration(p.Every)*time.Second, polled.Wait)
		if len(p.Missing) > 0 {
			wait = max(time.Duration(p.Quickest)*time.Second, polled.Wait)
		}
		if around = rand.N(wait/10 + time.Millisecond); watched && polled.Wait == 0 {
			around = -around // it is promised that so much does not pass
		}
		p.Begun = true
		if polled.Said != "" {
			q.Notice(ctx, store.Notice{What: "is read only in part", Words: value.Capital(polled.Said) + ".", Go: "/connections/" + c.ID, About: p.Source, Owner: c.Owner})
		} else if !same {
			q.Done(ctx, p.Source, "is read only in part")
		}
		if tally.Twice > 0 {
			q.Notice(ctx, store.Notice{What: "has keys that stand twice", Words: fmt.Sprintf("%d rows have a key that an earlier row has as well; only the first counts. Choose a key that is different in every row.", tally.Twice), Go: "/connections/" + c.ID, About: p.Source, Owner: c.Owner})
		} else {
			q.Done(ctx, p.Source, "has keys that stand twice")
		}
	}
	// Where it was asked for meanwhile, it is due again at once: what is new may have come too late for this call.
	err := q.Store.DB.WithContext(ctx).Exec("UPDATE polls SET due_at = ? WHERE source = ? AND due_at = ?", now.Add(wait+around), p.Source, p.DueAt).Error
	if err != nil {
		return err
	}
	err = q.Store.DB.WithContext(ctx).Select("cursor", "begun", "every", "lease_until", "failures", "suspect", "missing", "last_at", "last_ok", "last_error", "last_rows", "last_calls", "last_ms").Updates(p).Error
	if tally.Arrivals() > 0 || begins { // what is only remembered has fields, too
		q.Sources.ForgetSchema(p.Source)
	}
	q.Tell(ctx, notify.Message{Topic: notify.Connections, Source: k.Name})
	if begins && p.Begun { // its records and fields are known now
		q.Tell(ctx, notify.Message{Topic: notify.Begun, Source: k.Name})
	}
	return err
}

// WatchedEvery is how many seconds at most pass between two calls of a source of a kind of connection while a workflow
// that is on watches it; 0 where there is no such promise, or somebody has said how often it is asked.
func WatchedEvery(kind string, p *store.Poll) int {
	if k := kinds.Named(kind); k != nil && !p.Owned {
		return int(k.Watched.Seconds())
	}
	return 0
}

// watchedEvery is the promise for a source that is to be held to now; 0 where no workflow that is on watches it.
func (q *Polls) watchedEvery(ctx context.Context, p *store.Poll, c *store.Connection) int {
	most := WatchedEvery(c.Kind, p)
	if most == 0 {
		return 0
	}
	var on bool
	if err := q.Store.DB.WithContext(ctx).Raw("SELECT EXISTS (SELECT 1 FROM workflows WHERE is_on AND source = ?)", p.Source).Scan(&on).Error; err != nil || !on {
		return 0
	}
	return most
}

// passing tells whether a failure is likely to pass by itself: the other side asked for time.
func passing(err error) bool {
	var t *fault.Fault
	return errors.As(err, &t) && t.Wait > 0
}

// afterFailure backs off: twice as long with each failure in a row, up to half an hour, or as long as the other
// side asked for.
func (q *Polls) afterFailure(p *store.Poll, failure error) time.Duration {
	wait := time.Duration(max(1, p.Quickest)) * time.Second
	wait <<= min(p.Failures-1, 12)
	var t *fault.Fault
	if errors.As(failure, &t) && t.Wait > 0 && p.Failures <= 5 {
		return t.Wait
	}
	return min(wait, 30*time.Minute)
}

// rhythm asks more often while there is something new, and less often while there is not, within the bounds.
func rhythm(every, quickest, slowest int, news bool) int {
	if news {
		every /= 2
	} else {
		every += every/4 + 1
	}
	return min(max(every, quickest, 1), slowest)
}

// Sample reads the first so many records of a source, without remembering or telling anything. enough ends it.
// said is what of it cannot be read.
func (q *Polls) Sample(ctx context.Context, conn connect.Conn, src connect.SourceConfig, most int) (list []connect.Item, more bool, said string, err error) {
	poller, ok := conn.(connect.Poller)
	if !ok {
		return nil, false, "", nil
	}
	src.Look = true
	polled, err := poller.Poll(ctx, src, nil, func(it connect.Item) error {
		if len(list) >= most {
			return connect.ErrEnough
		}
		list = append(list, it)
		return nil
	})
	if errors.Is(err, connect.ErrEnough) {
		return list, true, "", nil
	}
	return list, false, polled.Said, err
}

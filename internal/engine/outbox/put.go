package outbox

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
)

// Row is a post to be inserted; parent is the index in the list of the post it is a reply to. An earlier post, in
// whose thread or place this one belongs, is named by its key.
type Row struct {
	store.Post
	place                 string // the whole of it, where it is too long for a name
	parent                int
	underKey, replacesKey string
	talk                  *message.Talk
}

// Append puts rows behind others; their parents are counted on.
func Append(rows, more []Row) []Row {
	first := len(rows)
	for _, r := range more {
		if r.parent >= 0 {
			r.parent += first
		}
		rows = append(rows, r)
	}
	return rows
}

// KeyOf is the key of the post that a workflow calls by a ref.
func KeyOf(workflow int64, ref string) string { return fmt.Sprintf("w%d-%s", workflow, ref) }

// Rows makes rows of one arrival's posts. Their parents count from the first of them.
func Rows(workflow, seq int64, at time.Time, posts []decide.Post) []Row {
	rows := make([]Row, len(posts))
	key := func(ref string) string { return KeyOf(workflow, ref) }
	for n, p := range posts {
		to, place := store.DestinationName(p.To)
		body, _ := json.Marshal(p.Doc)
		ref := p.Ref
		if ref == "" {
			ref = fmt.Sprintf("%s-p%d", Cause(seq), n)
		}
		row := Row{place: place, parent: p.Under, talk: p.Doc.Talk, Post: store.Post{
			Workflow: workflow, Arrival: seq, Destination: to, Message: p.Message, Body: body, Title: p.Doc.Title,
			Key: key(ref), CreatedAt: at, Cc: p.Cc, Bcc: p.Bcc, Ask: p.Ask, Done: p.Done, Edits: !p.Edits.IsZero(),
		}}
		if p.UnderRef != "" && p.Under < 0 {
			row.underKey = key(p.UnderRef)
		}
		if p.Updates != "" {
			row.replacesKey = key(p.Updates)
		}
		if !p.Expires.IsZero() {
			expires := p.Expires
			row.ExpiresAt = &expires
		}
		rows[n] = row
	}
	return rows
}

func (o *Outbox) insertPosts(ctx context.Context, tx *sql.Tx, rows []Row, send bool) error {
	if len(rows) == 0 {
		return nil
	}
	// Whoever has a destination's lock takes numbers and commits before the next: so a post never appears behind one
	// with a larger number that has been sent already.
	places := map[string]string{}
	for _, p := range rows {
		if places[p.Destination] == "" {
			places[p.Destination] = p.place
		}
	}
	if err := store.Lock(ctx, tx, store.LockPlace, value.SortedKeys(places)...); err != nil {
		return err
	}
	if err := beThere(ctx, tx, places); err != nil {
		return err
	}
	ids, err := reserve(ctx, tx, len(rows))
	if err != nil {
		return err
	}
	if err := o.threads(ctx, tx, rows); err != nil {
		return fmt.Errorf("looking for the thread of a copy: %w", err)
	}
	earlier, err := earlierPosts(ctx, tx, rows, ids)
	if err != nil {
		return err
	}
	n := len(rows)
	workflows, arrivals, under, updates := make([]int64, n), make([]int64, n), make([]*int64, n), make([]*int64, n)
	destinations, messages, bodies, titles, keys := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times, expires, trials, cc, bcc := make([]time.Time, n), make([]*time.Time, n), make([]bool, n), make([]string, n), make([]string, n)
	remotes := make([]string, n)
	asks, done, edits := make([]string, n), make([]bool, n), make([]bool, n)
	for i, p := range rows {
		asks[i], done[i], edits[i], remotes[i] = p.Ask, p.Done, p.Edits, p.UnderRemote
		workflows[i], arrivals[i], destinations[i], messages[i] = p.Workflow, p.Arrival, p.Destination, p.Message
		bodies[i], titles[i], keys[i], times[i], expires[i], trials[i] = string(p.Body), p.Title, p.Key, p.CreatedAt, p.ExpiresAt, p.Trial
		cc[i], bcc[i] = p.Cc, p.Bcc
		under[i], updates[i] = earlier[p.underKey], earlier[p.replacesKey]
		if p.Under != nil {
			under[i] = p.Under
		}
		if p.parent >= 0 {
			under[i] = &ids[p.parent]
		}
	}
	// History was told in its time: it is written as sent and goes nowhere.
	state := "'sent'"
	created, sent := "t.at", "t.at"
	if send {
		state, created, sent = "'waiting'", "now()", "NULL"
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO posts (id, workflow, arrival, destination, message, body, title, under, updates, key, expires_at, trial, cc, bcc, ask, done, edits, under_remote, created_at, sent_at, state)
		OVERRIDING SYSTEM VALUE
		SELECT t.id, t.w, t.a, t.d, t.m, t.b, t.t, t.u, t.r, t.k, t.x, t.y, t.cc, t.bcc, t.ask, t.done, t.edits, t.ur, `+created+`, `+sent+`, `+state+`
		FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[], $5::text[], $6::jsonb[], $7::text[], $8::bigint[], $9::text[], $10::timestamptz[], $11::bigint[], $12::timestamptz[], $13::boolean[], $14::text[], $15::text[], $16::text[], $17::boolean[], $18::boolean[], $19::text[])
			AS t(id, w, a, d, m, b, t, u, k, at, r, x, y, cc, bcc, ask, done, edits, ur)`, ids, workflows, arrivals, destinations, messages, bodies, titles, under, keys, times, updates, expires, trials, cc, bcc, asks, done, edits, remotes)
	if err != nil {
		return fmt.Errorf("writing posts: %w", err)
	}
	return nil
}

// threads finds where copies of what was said in a thread belong: below the copy of what was answered, at the same place; or, where
// one of our posts was answered that is itself a copy, below the message that it is a copy of.
func (o *Outbox) threads(ctx context.Context, tx *sql.Tx, rows []Row) error {
	for i := range rows {
		r := &rows[i]
		if r.talk == nil || r.parent >= 0 || r.underKey != "" || r.replacesKey != "" || r.UnderRemote != "" {
			continue
		}
		if r.talk.Thread != "" {
			var id int64
			err := tx.QueryRowContext(ctx, `SELECT p.id FROM arrivals now JOIN arrivals was ON was.source = now.source AND was.subject = $4 JOIN posts p ON p.arrival = was.seq
				WHERE now.seq = $1 AND p.workflow = $2 AND p.destination = $3 AND p.under IS NULL AND p.updates IS NULL AND NOT p.edits ORDER BY p.id DESC LIMIT 1`, r.Arrival, r.Workflow, r.Destination, r.talk.Thread).Scan(&id)
			if err == nil {
				r.Under = &id
				continue
			}
			if !errors.Is(err, sql.ErrNoRows) {
				return err
			}
		}
		if r.talk.Key == "" {
			continue
		}
		var room string
		err := tx.QueryRowContext(ctx, "SELECT coalesce(data->>'room', '') FROM records WHERE source = $1 AND key = $2", r.talk.Source, r.talk.Key).Scan(&room)
		if errors.Is(err, sql.ErrNoRows) || err == nil && room == "" {
			continue
		}
		if err != nil {
			return err
		}
		to, err := o.Sources.RoomOf(ctx, r.talk.Source, room)
		if err != nil {
			return err
		}
		if to == r.Destination {
			r.UnderRemote = r.talk.Key
		}
	}
	return nil
}

// beThere has the destinations of posts be there: the places that records give are known by their first post. Whoever calls has
// the places' locks.
func beThere(ctx context.Context, tx *sql.Tx, places map[string]string) error {
	names := value.SortedKeys(places)
	whole := make([]string, len(names))
	for i, n := range names {
		whole[i] = places[n]
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO destinations (name, connection, title, place)
		SELECT n, split_part(n, '/', 1), substr(n, strpos(n, '/') + 1), w FROM unnest($1::text[], $2::text[]) AS t(n, w)
		WHERE EXISTS (SELECT 1 FROM connections c WHERE c.id = split_part(n, '/', 1)) AND NOT EXISTS (SELECT 1 FROM destinations d WHERE d.name = n)
		ON CONFLICT DO NOTHING`, names, whole)
	if err != nil {
		return fmt.Errorf("noting where posts go: %w", err)
	}
	return nil
}

// earlierPosts finds the posts in whose thread or place new ones belong, by their keys: among the new ones, or among
// those that are there.
func earlierPosts(ctx context.Context, tx *sql.Tx, rows []Row, ids []int64) (map[string]*int64, error) {
	out := map[string]*int64{}
	var ask []string
	for _, p := range rows {
		for _, key := range []string{p.underKey, p.replacesKey} {
			if key != "" {
				ask = append(ask, key)
			}
		}
	}
	if len(ask) == 0 {
		return out, nil
	}
	found, err := tx.QueryContext(ctx, "SELECT key, id FROM posts WHERE key = ANY ($1)", ask)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var key string
		var id int64
		if err := found.Scan(&key, &id); err != nil {
			return nil, err
		}
		out[key] = &id
	}
	for i := range rows {
		out[rows[i].Key] = &ids[i]
	}
	return out, found.Err()
}

// reserve takes ids for posts, so that replies can name the posts they belong under.
func reserve(ctx context.Context, tx *sql.Tx, n int) ([]int64, error) {
	rows, err := tx.QueryContext(ctx, "SELECT nextval(pg_get_serial_sequence('posts', 'id')) FROM generate_series(1, $1)", n)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var ids []int64
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, rows.Err()
}

// Put writes posts into the outbox, and asks for them to be sent.
func (o *Outbox) Put(ctx context.Context, tx *sql.Tx, rows []Row, send bool) error {
	if err := o.insertPosts(ctx, tx, rows, send); err != nil || !send {
		return err
	}
	told := map[string]bool{}
	for _, p := range rows {
		if told[p.Destination] {
			continue
		}
		told[p.Destination] = true
		if err := o.Jobs.AddIn(ctx, tx, jobs.Drain{Destination: p.Destination}); err != nil {
			return fmt.Errorf("adding the job: %w", err)
		}
	}
	return nil
}

// AnswerMessage is the name of the message that answers whoever gave a command, which no sheet writes.
const AnswerMessage = "answer"

// Cause names an arrival as the cause of posts.
func Cause(seq int64) string { return fmt.Sprintf("a%d", seq) }

// CauseSeq reads an arrival's number from the cause that it was given.
func CauseSeq(cause string) (seq int64) {
	_, _ = fmt.Sscanf(cause, "a%d", &seq)
	return seq
}

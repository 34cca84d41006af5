package intake

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/value"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// RecordsOf reads the records of some keys as they are now.
func RecordsOf(ctx context.Context, tx *sql.Tx, source string, keys []string) (map[string]map[string]any, error) {
	list, err := ScanRecords(tx.QueryContext(ctx, "SELECT key, data::text FROM records WHERE source = $1 AND key = ANY ($2)", source, keys))
	out := map[string]map[string]any{}
	for _, r := range list {
		out[r.Key] = r.Record
	}
	return out, err
}

// LastRecord reads a record as it last was before it was removed; nil where that is not kept.
func LastRecord(ctx context.Context, tx *sql.Tx, source, key string) (map[string]any, error) {
	var data string
	err := tx.QueryRowContext(ctx, `SELECT data::text FROM arrivals WHERE source = $1 AND subject = $2 AND type LIKE 'dorfbote.record.%' ORDER BY seq DESC LIMIT 1`, source, key).Scan(&data)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v, err := value.ReadJSON([]byte(data))
	all, _ := v.(map[string]any)
	if record, ok := all["record"].(map[string]any); ok {
		return record, err
	}
	before, _ := all["before"].(map[string]any)
	return before, err
}

// KeyRecord is a record with its key.
type KeyRecord struct {
	Key    string
	Record map[string]any
}

// ScanRecords reads rows of keys and records.
func ScanRecords(rows *sql.Rows, err error) ([]KeyRecord, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []KeyRecord
	for rows.Next() {
		var key, data string
		if err := rows.Scan(&key, &data); err != nil {
			return nil, err
		}
		v, err := value.ReadJSON([]byte(data))
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		out = append(out, KeyRecord{key, record})
	}
	return out, rows.Err()
}

// InsertFor writes arrivals that are for one workflow: ticks and starts, those that a step has started among them. One that is there already is passed over.
func InsertFor(ctx context.Context, tx *sql.Tx, workflow int64, list []*arrival.Arrival, step *int64) ([]store.Arrival, error) {
	if len(list) == 0 {
		return nil, nil
	}
	n := len(list)
	sources, ids, types, subjects, data, times := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]time.Time, n)
	byID := map[string]store.Arrival{}
	for i, a := range list {
		row := store.Stored(a)
		sources[i], ids[i], types[i], subjects[i], data[i], times[i] = row.Source, row.ID, row.Type, row.Subject, string(row.Data), row.Time
		byID[row.ID] = row
	}
	if err := store.Lock(ctx, tx, store.LockSource, sources...); err != nil {
		return nil, err
	}
	rows, err := tx.QueryContext(ctx, `INSERT INTO arrivals (source, id, type, time, subject, data, for_workflow, by_step)
		SELECT t.*, $7, $8 FROM unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[], $5::text[], $6::jsonb[]) AS t(source, id)
		WHERE NOT EXISTS (SELECT 1 FROM arrivals a WHERE a.source = t.source AND a.id = t.id) RETURNING seq, id`, sources, ids, types, times, subjects, data, workflow, step)
	if err != nil {
		return nil, fmt.Errorf("writing ticks: %w", err)
	}
	defer rows.Close()
	var out []store.Arrival
	for rows.Next() {
		var seq int64
		var id string
		if err := rows.Scan(&seq, &id); err != nil {
			return nil, err
		}
		row := byID[id]
		row.Seq, row.ForWorkflow = seq, &workflow
		out = append(out, row)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return out, toDecide(ctx, tx, out)
}

// toDecide has what was written decided: it lies beyond its source's mark, and the deciders are told.
func toDecide(ctx context.Context, tx *sql.Tx, rows []store.Arrival) error {
	told := map[string]bool{}
	for _, r := range rows { // in the order of their numbers, so that the first of a source is its lowest
		if told[r.Source] {
			continue
		}
		told[r.Source] = true
		if _, err := tx.ExecContext(ctx, "INSERT INTO marks (source, seq) VALUES ($1, $2) ON CONFLICT DO NOTHING", r.Source, r.Seq-1); err != nil {
			return err
		}
		if err := notify.In(ctx, tx, notify.Message{Topic: notify.Arrivals, Source: r.Source, Seq: r.Seq}); err != nil {
			return err
		}
	}
	return nil
}

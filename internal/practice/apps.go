package practice

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/value"
	"dorfbote/internal/practice/world"
)

// record is a stored record of a practice app.
type record struct {
	App       string
	Kind      string
	Key       string
	Data      json.RawMessage
	UpdatedAt time.Time
}

func (record) TableName() string { return "practice.records" }

// fields are those of the record.
func (r *record) fields() map[string]any {
	v, _ := value.ReadJSON(r.Data)
	m, _ := v.(map[string]any)
	return m
}

func (s *Server) kind(app, name string) *world.RecordKind {
	for _, k := range s.kinds {
		if k.App == app && k.Name == name {
			return k
		}
	}
	return nil
}

func (s *Server) appRoutes(r chi.Router) {
	r.Get("/apps", s.listApps)
	r.Post("/apps/{app}/hooks", s.addHook)
	r.Get("/apps/{app}/hooks", s.listHooks)
	s.gateRoutes(r)
	r.Get("/apps/{app}/{kind}/schema", s.withKind(func(w http.ResponseWriter, _ *http.Request, k *world.RecordKind) {
		w.Header().Set("Content-Type", "application/schema+json")
		_, _ = w.Write(k.Schema)
	}))
	r.Get("/apps/{app}/{kind}", s.withKind(s.listRecords))
	r.Post("/apps/{app}/{kind}", s.withKind(s.createRecord))
	r.Get("/apps/{app}/{kind}/{key}", s.withKind(s.getRecord))
	r.Patch("/apps/{app}/{kind}/{key}", s.withKind(s.patchRecord))
	r.Delete("/apps/{app}/{kind}/{key}", s.withKind(s.deleteRecord))
}

func (s *Server) withKind(h func(http.ResponseWriter, *http.Request, *world.RecordKind)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		k := s.kind(chi.URLParam(r, "app"), chi.URLParam(r, "kind"))
		if k == nil {
			problem(w, http.StatusNotFound, "there is no kind of record %s/%s", chi.URLParam(r, "app"), chi.URLParam(r, "kind"))
			return
		}
		h(w, r, k)
	}
}

func (s *Server) listApps(w http.ResponseWriter, _ *http.Request) {
	type kind struct {
		App   string `json:"app"`
		Name  string `json:"kind"`
		Title string `json:"title"`
		Key   string `json:"key"`
	}
	out := []kind{}
	for _, k := range s.kinds {
		out = append(out, kind{k.App, k.Name, k.Fields.Title, k.Key})
	}
	answer(w, http.StatusOK, out)
}

func (s *Server) listRecords(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	limit, offset := number(r, "limit", 50, 500), number(r, "offset", 0, 1<<30)
	q := s.db.WithContext(r.Context()).Where("app = ? AND kind = ?", k.App, k.Name)
	if text := r.URL.Query().Get("q"); text != "" {
		q = q.Where("data::text ILIKE ?", "%"+strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text)+"%")
	}
	var rows []record
	if err := q.Order("updated_at DESC, key DESC").Limit(limit + 1).Offset(offset).Find(&rows).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	more := len(rows) > limit
	if more {
		rows = rows[:limit]
	}
	items := []json.RawMessage{}
	for _, row := range rows {
		items = append(items, row.Data)
	}
	if more {
		next := *r.URL
		v := next.Query()
		v.Set("offset", strconv.Itoa(offset+limit))
		next.RawQuery = v.Encode()
		w.Header().Set("Link", "<"+next.RequestURI()+`>; rel="next"`)
	}
	answer(w, http.StatusOK, map[string]any{"items": items, "more": more})
}

func number(r *http.Request, name string, fallback, most int) int {
	n, err := strconv.Atoi(r.URL.Query().Get(name))
	if err != nil || n < 0 {
		return fallback
	}
	return min(n, most)
}

func (s *Server) getRecord(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	var row record
	if err := s.db.WithContext(r.Context()).First(&row, "app = ? AND kind = ? AND key = ?", k.App, k.Name, chi.URLParam(r, "key")).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no record %s", chi.URLParam(r, "key"))
		return
	}
	answer(w, http.StatusOK, row.Data)
}

func readBody(w http.ResponseWriter, r *http.Request) (map[string]any, bool) {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, "the body is larger than 1 MiB")
		return nil, false
	}
	v, err := value.ReadJSON(raw)
	m, ok := v.(map[string]any)
	if err != nil || !ok {
		problem(w, http.StatusBadRequest, "the body is not a JSON object: %v", err)
		return nil, false
	}
	return m, true
}

func (s *Server) createRecord(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	fields, ok := readBody(w, r)
	if !ok {
		return
	}
	key := text(fields[k.Key])
	if key == "" {
		problem(w, http.StatusBadRequest, "the record has no %s", k.Key)
		return
	}
	s.change(w, r, k, key, func(before map[string]any) (map[string]any, string, error) {
		if before != nil {
			return nil, "", fmt.Errorf("there is a record %s already", key)
		}
		return fields, "created", nil
	})
}

func (s *Server) patchRecord(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	fields, ok := readBody(w, r)
	if !ok {
		return
	}
	if !s.mayChange(w, r, k, chi.URLParam(r, "key"), fields) {
		return
	}
	s.change(w, r, k, chi.URLParam(r, "key"), func(before map[string]any) (map[string]any, string, error) {
		if before == nil {
			return nil, "", gorm.ErrRecordNotFound
		}
		return merged(before, fields), "updated", nil
	})
}

func merged(before, fields map[string]any) map[string]any {
	after := map[string]any{}
	maps.Copy(after, before)
	for name, v := range fields {
		if after[name] = v; v == nil {
			delete(after, name)
		}
	}
	return after
}

func (s *Server) deleteRecord(w http.ResponseWriter, r *http.Request, k *world.RecordKind) {
	s.change(w, r, k, chi.URLParam(r, "key"), func(before map[string]any) (map[string]any, string, error) {
		if before == nil {
			return nil, "", gorm.ErrRecordNotFound
		}
		return nil, "removed", nil
	})
}

func (s *Server) change(w http.ResponseWriter, r *http.Request, k *world.RecordKind, key string, edit func(map[string]any) (map[string]any, string, error)) {
	by := r.Header.Get("X-Practice-By")
	if by == "" {
		if by = "somebody"; strings.HasPrefix(r.UserAgent(), "Dorfbote") {
			by = "Dorfbote"
		}
	}
	after, err := s.apply(r.Context(), k, key, by, edit)
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		problem(w, http.StatusNotFound, "there is no record %s", key)
	case err != nil:
		problem(w, http.StatusConflict, "%v", err)
	case after == nil:
		w.WriteHeader(http.StatusNoContent)
	default:
		answer(w, http.StatusOK, json.RawMessage(value.AppendJSON(nil, after)))
	}
}

// apply changes a record and puts the events for it into the hooks' queues, in one transaction.
func (s *Server) apply(ctx context.Context, k *world.RecordKind, key, by string, edit func(before map[string]any) (after map[string]any, typ string, err error)) (map[string]any, error) {
	var after map[string]any
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var row record
		err := tx.Raw("SELECT * FROM practice.records WHERE app = ? AND kind = ? AND key = ? FOR UPDATE", k.App, k.Name, key).Scan(&row).Error
		if err != nil {
			return err
		}
		var before map[string]any
		if row.Key != "" {
			v, err := value.ReadJSON(row.Data)
			if err != nil {
				return err
			}
			before, _ = v.(map[string]any)
		}
		var typ string
		if after, typ, err = edit(before); err != nil {
			return err
		}
		if after == nil {
			err = tx.Exec("DELETE FROM practice.records WHERE app = ? AND kind = ? AND key = ?", k.App, k.Name, key).Error
		} else {
			err = tx.Exec(`INSERT INTO practice.records (app, kind, key, data) VALUES (?, ?, ?, ?::jsonb)
				ON CONFLICT (app, kind, key) DO UPDATE SET data = excluded.data, updated_at = now()`, k.App, k.Name, key, string(value.AppendJSON(nil, after))).Error
		}
		if err != nil {
			return err
		}
		return s.queueEvent(tx, k, &arrival.Arrival{
			ID: uuid.Must(uuid.NewV7()).String(), Source: k.Source(), Type: "dorfbote.record." + typ, Time: time.Now().UTC(),
			Subject: key, Record: after, Before: before, By: by,
		})
	})
	if err == nil {
		s.hooks.wake()
		s.events.tell(liveEvent{Topic: "records", App: k.App, Kind: k.Name, Key: key})
	}
	return after, err
}

func (s *Server) queueEvent(tx *gorm.DB, k *world.RecordKind, a *arrival.Arrival) error {
	return tx.Exec("INSERT INTO practice.events (hook, event, body) SELECT id, @event, @body FROM practice.hooks WHERE app = @app",
		sql.Named("event", a.ID), sql.Named("body", string(a.AppendJSON(nil))), sql.Named("app", k.App)).Error
}

func text(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case float64:
		return value.NumberText(x)
	}
	return ""
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func problem(w http.ResponseWriter, status int, format string, args ...any) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"status": status, "title": http.StatusText(status), "detail": fmt.Sprintf(format, args...)})
}

package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"gorm.io/gorm/clause"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
)

// takeIn answers POST /in/{connection} and /in/{connection}/{kind}. It says 202 only when the events are
// durable.
func (s *Server) takeIn(w http.ResponseWriter, r *http.Request) {
	c, err := s.hookNamed(r, chi.URLParam(r, "connection"))
	if err != nil {
		busy(w)
		return
	}
	if c == nil {
		writeProblem(w, http.StatusNotFound, "path", "there is no hook "+chi.URLParam(r, "connection")+" here")
		return
	}
	if c.Paused {
		w.Header().Set("Retry-After", "60")
		s.refuse(w, r, c.ID, nil, http.StatusServiceUnavailable, "", "this connection is paused; nothing was taken in, so send it again later")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, hook.MaxBody))
	if err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			s.refuse(w, r, c.ID, nil, http.StatusRequestEntityTooLarge, "body", "the body is larger than 1 MiB; send fewer events at a time")
			return
		}
		writeProblem(w, http.StatusBadRequest, "body", "the body ended before it was complete")
		return
	}
	secret, err := s.Engine.Sources.Secret(c, "signing")
	if err != nil {
		s.refuse(w, r, c.ID, body, http.StatusInternalServerError, "", err.Error())
		return
	}
	h := hook.Hook{Connection: c.ID, Secret: secret, Shape: func(source string) (hook.Shape, error) { return s.shapeOf(r.Context(), c, source) }}
	events, problem := h.Read(r.Header, chi.URLParam(r, "kind"), body, s.Engine.Now().UTC())
	if problem != nil && problem.Status == http.StatusServiceUnavailable {
		busy(w)
		return
	}
	if problem != nil {
		s.refuse(w, r, c.ID, body, problem.Status, problem.Location, problem.Detail)
		return
	}
	for _, e := range events {
		if m := s.learnSource(r.Context(), c, e.Source); m != nil {
			s.requests.note(r, c.ID, body, m.Status, "source", m.Detail)
			sendProblem(w, m)
			return
		}
	}
	receipts := []intake.Receipt{}
	if len(events) > 0 {
		var many *intake.TooManyError
		switch receipts, err = s.Intake.Take(r.Context(), events); {
		case errors.As(err, &many):
			s.refuse(w, r, c.ID, body, http.StatusRequestEntityTooLarge, "body", many.Error())
			return
		case err != nil:
			busy(w)
			return
		}
	}
	s.requests.note(r, c.ID, body, http.StatusAccepted, "", "")
	s.arrived(receipts)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]any{"accepted": len(receipts), "arrivals": receipts})
}

// arrived counts what was taken in, and logs each by its id.
func (s *Server) arrived(receipts []intake.Receipt) {
	known := 0
	for _, r := range receipts {
		if r.Known {
			known++
		}
		s.Log.Debug("taken in", "arrival", r.Seq, "id", r.ID, "known", r.Known)
	}
	s.Meters.Arrived(len(receipts)-known, known)
}

func busy(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "2")
	writeProblem(w, http.StatusServiceUnavailable, "", "events cannot be stored at the moment; send them again, all of them: what was stored already is known by its id")
}

// sourceCache remembers connections and sources, which change rarely and are asked for with every
// event.
type sourceCache struct {
	mu     sync.RWMutex
	known  map[string]bool
	shapes map[string]cachedShape
	hooks  map[string]cachedHook
}

type cachedHook struct {
	c  *store.Connection
	at time.Time
}

type cachedShape struct {
	hook.Shape
	at time.Time
}

// hookHolds is how long what is known of a hook holds: another process may change it.
const hookHolds = 2 * time.Second

func (c *sourceCache) has(source string) bool {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.known[source]
}

func (c *sourceCache) add(source string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil || len(c.known) > 10_000 {
		c.known = map[string]bool{}
	}
	c.known[source] = true
}

// forget has a connection looked at anew.
func (c *sourceCache) forget(connection string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.hooks, connection)
	for source := range c.known {
		if strings.HasPrefix(source, connection+"/") {
			delete(c.known, source)
			delete(c.shapes, source)
		}
	}
}

func (c *sourceCache) forgetShape(source string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.shapes, source)
}

func (s *Server) hookNamed(r *http.Request, id string) (*store.Connection, error) {
	s.sources.mu.RLock()
	have, ok := s.sources.hooks[id]
	s.sources.mu.RUnlock()
	if ok && time.Since(have.at) < hookHolds {
		return have.c, nil
	}
	var row store.Connection
	res := s.store.DB.WithContext(r.Context()).Where("id = ? AND kind = 'hook'", id).Limit(1).Find(&row)
	if res.Error != nil || res.RowsAffected == 0 {
		return nil, res.Error
	}
	s.sources.mu.Lock()
	defer s.sources.mu.Unlock()
	if s.sources.hooks == nil {
		s.sources.hooks = map[string]cachedHook{}
	}
	s.sources.hooks[id] = cachedHook{&row, time.Now()}
	return &row, nil
}

// shapeOf says where a source's records lie in what is sent, and what names them. Of a source that is not known yet, the
// hook's own settings say so.
func (s *Server) shapeOf(ctx context.Context, c *store.Connection, source string) (hook.Shape, error) {
	s.sources.mu.RLock()
	have, ok := s.sources.shapes[source]
	s.sources.mu.RUnlock()
	if ok && time.Since(have.at) < hookHolds {
		return have.Shape, nil
	}
	var row store.Kind
	res := s.store.DB.WithContext(ctx).Limit(1).Find(&row, "source = ?", source)
	switch {
	case res.Error != nil && ok:
		return have.Shape, nil
	case res.Error != nil:
		return hook.Shape{}, res.Error
	case res.RowsAffected == 0:
		return hook.Shape{Record: c.Settings["record"], Key: c.KeyField}, nil
	}
	shape := hook.Shape{Record: row.Settings["record"], Key: row.KeyField}
	s.sources.mu.Lock()
	defer s.sources.mu.Unlock()
	if s.sources.shapes == nil || len(s.sources.shapes) > 10_000 {
		s.sources.shapes = map[string]cachedShape{}
	}
	s.sources.shapes[source] = cachedShape{shape, time.Now()}
	return shape, nil
}

var kindName = regexp.MustCompile(`^[\pL\pN][\pL\pN._-]{0,99}$`)

// learnSource notes a source that is seen for the first time.
func (s *Server) learnSource(ctx context.Context, c *store.Connection, source string) *huma.ErrorModel {
	if s.sources.has(source) {
		return nil
	}
	db := s.store.DB.WithContext(ctx)
	var n int64
	if err := db.Model(&store.Kind{}).Where("connection = ?", c.ID).Count(&n).Error; err != nil {
		return problemModel(http.StatusServiceUnavailable, "", "the database does not answer; try again")
	}
	_, name, _ := strings.Cut(source, "/")
	if !kindName.MatchString(name) {
		return problemModel(http.StatusBadRequest, "source", "the kind of record in "+source+" may hold letters, digits, hyphens, dots and underscores")
	}
	if n >= maxKinds {
		return problemModel(http.StatusBadRequest, "source", errKinds)
	}
	k := store.Kind{Source: source, Connection: c.ID, Title: value.LabelOf(name), KeyField: c.KeyField}
	if at := c.Settings["record"]; at != "" {
		k.Settings = store.Texts{"record": at}
	}
	if err := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&k).Error; err != nil {
		return problemModel(http.StatusServiceUnavailable, "", "the database does not answer; try again")
	}
	s.sources.add(source)
	return nil
}

func problemModel(status int, location, detail string) *huma.ErrorModel {
	m := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail}
	if location != "" {
		m.Errors = []*huma.ErrorDetail{{Location: location, Message: detail}}
	}
	return m
}

func writeProblem(w http.ResponseWriter, status int, location, detail string) {
	sendProblem(w, problemModel(status, location, detail))
}

func sendProblem(w http.ResponseWriter, m *huma.ErrorModel) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(m.Status)
	_ = json.NewEncoder(w).Encode(m)
}

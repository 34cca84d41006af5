package store

import (
	"context"
	"time"
)

// HookRequest is one of the last requests to a hook.
type HookRequest struct {
	ID         int64
	Connection string
	At         time.Time
	Status     int
	Problem    string
	Location   string
	Media      string
	Path       string
	Size       int
	Head       string
	Body       []byte // empty where it is large
}

// KeepRequests writes down requests to hooks.
func (s *Store) KeepRequests(ctx context.Context, list []HookRequest) error {
	return s.DB.WithContext(ctx).Create(&list).Error
}

// LastStatuses gives what the last requests to a hook were answered with, the newest first.
func (s *Store) LastStatuses(ctx context.Context, connection string, most int) ([]int, error) {
	var out []int
	err := s.DB.WithContext(ctx).Raw("SELECT status FROM hook_requests WHERE connection = ? ORDER BY id DESC LIMIT ?", connection, most).Scan(&out).Error
	return out, err
}

// LastRequests gives the last requests to a hook, the newest first. path, where not empty, is the one they came to; with
// bodies, only those whose body was kept.
func (s *Store) LastRequests(ctx context.Context, connection, path string, bodies bool, most int) ([]HookRequest, error) {
	q := s.DB.WithContext(ctx).Where("connection = ?", connection)
	if bodies {
		q = q.Where("length(body) > 0")
	}
	if path != "" {
		q = q.Where("path = ?", path)
	}
	var out []HookRequest
	err := q.Order("id DESC").Limit(most).Find(&out).Error
	return out, err
}

// RefusedRequests gives the last requests to a hook that could not be read, and whose body was kept, the newest first.
func (s *Store) RefusedRequests(ctx context.Context, connection string, most int) ([]HookRequest, error) {
	var out []HookRequest
	err := s.DB.WithContext(ctx).Where("connection = ? AND status IN (400, 422) AND length(body) > 0", connection).Order("id DESC").Limit(most).Find(&out).Error
	return out, err
}

// SettleRequest writes down what came of a request later.
func (s *Store) SettleRequest(ctx context.Context, id int64, status int, problem string) error {
	return s.DB.WithContext(ctx).Exec("UPDATE hook_requests SET status = ?, problem = ?, location = '' WHERE id = ?", status, problem, id).Error
}

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

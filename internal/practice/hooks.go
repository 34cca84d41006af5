package practice

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"gorm.io/gorm"
)

// hookRow is an address that an app sends its events to.
type hookRow struct {
	ID      int64  `json:"id"`
	App     string `json:"app"`
	Address string `json:"address"`
	Secret  string `json:"-"`
}

func (hookRow) TableName() string { return "practice.hooks" }

// eventRow is an event to be delivered, with where it goes.
type eventRow struct {
	ID       int64
	Hook     int64
	Event    string
	Body     string
	Attempts int
	DueAt    time.Time
	Address  string
	Secret   string
}

func (s *Server) addHook(w http.ResponseWriter, r *http.Request) {
	m, ok := readBody(w, r)
	if !ok {
		return
	}
	row := hookRow{App: chi.URLParam(r, "app"), Address: text(m["address"]), Secret: text(m["secret"])}
	if err := s.AddHook(r.Context(), row.App, row.Address, row.Secret); err != nil {
		problem(w, http.StatusBadRequest, "%v", err)
		return
	}
	answer(w, http.StatusCreated, row)
}

// AddHook has an app send its events to an address, signed by Standard Webhooks with the secret.
func (s *Server) AddHook(ctx context.Context, app, address, secret string) error {
	if _, err := standardwebhooks.NewWebhook(secret); err != nil {
		return fmt.Errorf("the secret is no Standard Webhooks secret: %w", err)
	}
	return s.db.WithContext(ctx).Exec(`INSERT INTO practice.hooks (app, address, secret) VALUES (?, ?, ?)
		ON CONFLICT (app, address) DO UPDATE SET secret = excluded.secret`, app, address, secret).Error
}

func (s *Server) listHooks(w http.ResponseWriter, r *http.Request) {
	rows := []hookRow{}
	if err := s.db.WithContext(r.Context()).Where("app = ?", chi.URLParam(r, "app")).Order("id").Limit(100).Find(&rows).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusOK, rows)
}

// sender delivers the apps' events: in order for each hook, again and again until they are taken.
type sender struct {
	db   *gorm.DB
	http *http.Client
	poke chan struct{}
	wg   sync.WaitGroup
}

func newSender(ctx context.Context, db *gorm.DB) *sender {
	s := &sender{db: db, http: &http.Client{Timeout: 15 * time.Second}, poke: make(chan struct{}, 1)}
	s.wg.Add(1)
	go s.loop(ctx)
	return s
}

func (s *sender) wake() {
	select {
	case s.poke <- struct{}{}:
	default:
	}
}

func (s *sender) loop(ctx context.Context) {
	defer s.wg.Done()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		for s.round(ctx) {
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-s.poke:
		}
	}
}

// round delivers the first due event of every hook and tells whether any was taken.
func (s *sender) round(ctx context.Context) bool {
	var rows []eventRow
	err := s.db.WithContext(ctx).Raw(`SELECT DISTINCT ON (e.hook) e.*, h.address, h.secret FROM practice.events e
		JOIN practice.hooks h ON h.id = e.hook ORDER BY e.hook, e.id`).Scan(&rows).Error
	if err != nil {
		return false
	}
	var wg sync.WaitGroup
	taken := make([]bool, len(rows))
	for i, r := range rows {
		if r.DueAt.After(time.Now()) {
			continue
		}
		wg.Go(func() {
			taken[i] = s.deliver(ctx, r)
		})
	}
	wg.Wait()
	for _, t := range taken {
		if t {
			return true
		}
	}
	return false
}

func (s *sender) deliver(ctx context.Context, e eventRow) bool {
	status, err := s.post(ctx, e)
	if err == nil && (status < 300 || status == http.StatusGone) {
		return s.db.WithContext(ctx).Exec("DELETE FROM practice.events WHERE id = ?", e.ID).Error == nil
	}
	if ctx.Err() != nil {
		return false
	}
	wait := min(time.Second<<min(e.Attempts, 8), 2*time.Minute)
	answer := fmt.Sprintf("%d %v", status, err)
	_ = s.db.WithContext(ctx).Exec("UPDATE practice.events SET attempts = attempts + 1, due_at = ?, answer = ? WHERE id = ?", time.Now().Add(wait), answer, e.ID)
	return false
}

func (s *sender) post(ctx context.Context, e eventRow) (int, error) {
	wh, err := standardwebhooks.NewWebhook(e.Secret)
	if err != nil {
		return 0, err
	}
	now := time.Now()
	signature, err := wh.Sign(e.Event, now, []byte(e.Body))
	if err != nil {
		return 0, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, e.Address, bytes.NewReader([]byte(e.Body)))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json")
	req.Header.Set("Webhook-Id", e.Event)
	req.Header.Set("Webhook-Timestamp", strconv.FormatInt(now.Unix(), 10))
	req.Header.Set("Webhook-Signature", signature)
	res, err := s.http.Do(req)
	if err != nil {
		return 0, err
	}
	return res.StatusCode, res.Body.Close()
}

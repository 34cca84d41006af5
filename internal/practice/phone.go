package practice

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"gorm.io/gorm"

	"dorfbote/internal/core/message"
)

// The stand-in gateway and phone: it takes text messages by an HTTP call, shows what came, and reports what became of each.

// textRow is a text message.
type textRow struct {
	ID      int64      `json:"id"`
	Key     *string    `json:"-"`
	Sender  string     `json:"sender"`
	Number  string     `json:"number"`
	Text    string     `json:"text"`
	Parts   int        `json:"parts"`
	State   string     `json:"state"`
	Words   string     `json:"words"`
	Reports string     `json:"-"`
	DueAt   *time.Time `json:"-"`
	At      time.Time  `json:"at"`
}

func (textRow) TableName() string { return "practice.texts" }

var (
	e164     = regexp.MustCompile(`^\+[1-9][0-9]{6,14}$`)
	senderID = regexp.MustCompile(`^([A-Za-z0-9 ]{1,11}|\+[0-9]{6,15})?$`)
)

// How long the phone takes to tell that a message has come, and from how many parts on one is refused.
const (
	reportAfter = 2 * time.Second
	mostParts   = 6
)

func (s *Server) phoneRoutes(r chi.Router) {
	r.Get("/phone/messages", s.listTexts)
	r.Get("/phone/account", s.phoneAccount)
	r.Post("/phone/messages", s.takeText)
}

func (s *Server) listTexts(w http.ResponseWriter, r *http.Request) {
	q := s.db.WithContext(r.Context()).Order("id DESC").Limit(number(r, "limit", 30, 200))
	if before := number(r, "before", 0, 1<<62); before > 0 {
		q = q.Where("id < ?", before)
	}
	list := []textRow{}
	if err := q.Find(&list).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusOK, list)
}

// phoneAccount says of credentials that they are right.
func (s *Server) phoneAccount(w http.ResponseWriter, r *http.Request) {
	if sender := s.senderOf(w, r); sender != "" {
		answer(w, http.StatusOK, map[string]any{"account": sender, "credit": "enough"})
	}
}

// takeText takes a text message. A number that begins with its country's code is wanted; where reports go is said with the message.
func (s *Server) takeText(w http.ResponseWriter, r *http.Request) {
	if s.senderOf(w, r) == "" {
		return
	}
	var in struct {
		To      string `json:"to"`
		From    string `json:"from"`
		Text    string `json:"text"`
		Reports string `json:"reports"`
	}
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
	dec.DisallowUnknownFields()
	err := dec.Decode(&in)
	parts := message.Parts(in.Text)
	switch {
	case err != nil:
		problem(w, http.StatusBadRequest, "the body is not a message: %v", err)
		return
	case !e164.MatchString(in.To):
		problem(w, http.StatusBadRequest, "%q is no number; it begins with + and the country's code", in.To)
		return
	case !senderID.MatchString(in.From):
		problem(w, http.StatusBadRequest, "%q cannot be shown as the sender; it is a number, or at most 11 letters and digits", in.From)
		return
	case strings.TrimSpace(in.Text) == "":
		problem(w, http.StatusBadRequest, "the message is empty")
		return
	case parts > mostParts:
		problem(w, http.StatusRequestEntityTooLarge, "the message has %d parts; at most %d are sent", parts, mostParts)
		return
	}
	row := textRow{Sender: in.From, Number: in.To, Text: in.Text, Parts: parts, State: "sent", At: time.Now()}
	if key := r.Header.Get("Idempotency-Key"); key != "" {
		row.Key = &key
	}
	if u, err := url.Parse(in.Reports); err == nil && u.Host != "" {
		due := time.Now().Add(reportAfter)
		row.Reports, row.DueAt = in.Reports, &due
	}
	err = s.db.WithContext(r.Context()).Create(&row).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		err = s.db.WithContext(r.Context()).First(&row, "key = ?", row.Key).Error
	}
	if err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	s.events.tell(liveEvent{Topic: "texts"})
	answer(w, http.StatusCreated, map[string]any{"message": map[string]any{"id": "t-" + strconv.FormatInt(row.ID, 10), "parts": row.Parts}})
}

// report tells what became of the messages whose time has come: a number that ends in 99 cannot be reached.
func (s *Server) report(ctx context.Context) {
	var due []textRow
	if err := s.db.WithContext(ctx).Where("due_at <= now()").Order("due_at").Limit(50).Find(&due).Error; err != nil {
		return
	}
	for _, t := range due {
		state, words := "delivered", ""
		if strings.HasSuffix(t.Number, "99") {
			state, words = "failed", "the phone cannot be reached"
		}
		body, _ := json.Marshal(map[string]any{"message": fmt.Sprintf("t-%d", t.ID), "status": state, "reason": words})
		err := s.tellReport(ctx, t.Reports, body)
		again := any(nil)
		if err != nil && time.Since(t.At) < time.Hour {
			again = time.Now().Add(10 * time.Second)
		}
		_ = s.db.WithContext(ctx).Exec("UPDATE practice.texts SET state = ?, words = ?, due_at = ? WHERE id = ?", state, words, again, t.ID)
		s.events.tell(liveEvent{Topic: "texts"})
	}
}

func (s *Server) tellReport(ctx context.Context, address string, body []byte) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", res.Status)
	}
	return nil
}

// keepReporting reports until ctx ends.
func (s *Server) keepReporting(ctx context.Context) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.report(ctx)
		}
	}
}

package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/core/message"
	"dorfbote/internal/engine"
	"dorfbote/internal/store"
)

// PostItem is a post in the outbox.
type PostItem struct {
	ID          int64             `json:"id"`
	WorkflowID  int64             `json:"workflow_id"`
	Workflow    string            `json:"workflow"`
	Arrival     int64             `json:"arrival"`
	Destination string            `json:"destination"`
	Message     string            `json:"message"`
	Title       string            `json:"title"`
	Plain       string            `json:"plain"`
	Doc         *message.Document `json:"doc"`
	State       string            `json:"state" enum:"waiting,sent,refused,given up,dropped,expired"`
	Attempts    int               `json:"attempts"`
	Status      int               `json:"status" doc:"HTTP status of the last answer; 0 for none"`
	Answer      string            `json:"answer" doc:"the other side's words"`
	Key         string            `json:"key" doc:"idempotency key"`
	Under       *int64            `json:"under"`
	Updates     *int64            `json:"updates" doc:"the earlier post that this one is put in the place of"`
	CreatedAt   time.Time         `json:"created_at"`
	SentAt      *time.Time        `json:"sent_at"`
}

// DestinationItem is a place that posts go to.
type DestinationItem struct {
	Name     string     `json:"name"`
	Title    string     `json:"title"`
	Private  bool       `json:"private"`
	Paused   bool       `json:"paused"`
	Reason   string     `json:"reason" doc:"why it is paused, in the other side's words"`
	Waiting  int64      `json:"waiting"`
	Sent     int64      `json:"sent" doc:"in the last 24 hours"`
	LastSent *time.Time `json:"last_sent"`
}

type postsInput struct {
	State       string `query:"state" enum:"waiting,sent,refused,given up,dropped,expired,"`
	Destination string `query:"destination"`
	Workflow    int64  `query:"workflow"`
	Arrival     int64  `query:"arrival"`
	Before      int64  `query:"before"`
	Limit       int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

type resumeInput struct {
	Body struct {
		Name string `json:"name"`
	}
}

func (s *Server) outboxRoutes() {
	register(s, op("list-posts", http.MethodGet, "/api/posts", "The outbox, newest first", "Outbox"), anyone, s.listPosts)
	register(s, op("send-again", http.MethodPost, "/api/posts/{id}/again", "Send a refused or given-up post again", "Outbox"), editors, s.sendAgain)
	register(s, op("drop-post", http.MethodPost, "/api/posts/{id}/drop", "Drop a post that is not sent", "Outbox"), editors, s.dropPost)
	register(s, op("list-destinations", http.MethodGet, "/api/destinations", "Where posts go", "Outbox"), anyone, s.listDestinations)
	register(s, op("resume-destination", http.MethodPost, "/api/destinations/resume", "Send what waits for a paused destination", "Outbox"), editors, s.resume)
}

func (s *Server) postItems(rows []store.PostRow) []PostItem {
	items := make([]PostItem, 0, len(rows))
	for _, p := range rows {
		it := PostItem{
			ID: p.ID, WorkflowID: p.WorkflowID, Workflow: p.Workflow, Arrival: p.Arrival, Destination: p.Destination, Message: p.Message, Title: p.Title,
			State: p.State, Attempts: p.Attempts, Status: p.Status, Answer: p.Answer, Key: p.Key, Under: p.Under, Updates: p.Updates, CreatedAt: p.CreatedAt, SentAt: p.SentAt,
		}
		var doc message.Document
		if json.Unmarshal(p.Body, &doc) == nil {
			it.Doc, it.Plain = &doc, doc.Plain()
		}
		items = append(items, it)
	}
	return items
}

func (s *Server) listPosts(ctx context.Context, _ *Person, in *postsInput) (*listOutput[PostItem], error) {
	rows, err := s.store.Posts(ctx, store.PostFilter{
		State: in.State, Destination: in.Destination, Workflow: in.Workflow, Arrival: in.Arrival, Before: in.Before, Limit: in.Limit + 1,
	})
	next := int64(0)
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		next = rows[len(rows)-1].ID
	}
	return list(s.postItems(rows), next), err
}

// move puts a post into another state. A person has looked at it: it no longer expires by itself.
func (s *Server) move(ctx context.Context, id int64, to string, from ...string) (*struct{}, error) {
	var p store.Post
	res := s.store.DB.WithContext(ctx).Raw("UPDATE posts SET state = ?, expires_at = NULL WHERE id = ? AND state IN ? RETURNING *", to, id, from).Scan(&p)
	if res.Error != nil {
		return nil, res.Error
	}
	if p.ID == 0 {
		return nil, huma.Error409Conflict("the post is not in a state in which this can be done")
	}
	s.Engine.Tell(ctx, engine.Event{Topic: "posts", ID: id})
	if to == store.Waiting {
		return nil, s.Engine.Wake(ctx, p.Destination)
	}
	return nil, nil
}

func (s *Server) sendAgain(ctx context.Context, _ *Person, in *idInput) (*struct{}, error) {
	return s.move(ctx, in.ID, store.Waiting, store.Refused, store.GivenUp, store.Dropped, store.Expired)
}

func (s *Server) dropPost(ctx context.Context, _ *Person, in *idInput) (*struct{}, error) {
	return s.move(ctx, in.ID, store.Dropped, store.Waiting, store.Refused, store.GivenUp)
}

func (s *Server) listDestinations(ctx context.Context, _ *Person, _ *struct{}) (*listOutput[DestinationItem], error) {
	rows, err := s.store.Destinations(ctx)
	items := make([]DestinationItem, 0, len(rows))
	for _, d := range rows {
		items = append(items, DestinationItem{d.Name, d.Title, d.Private, d.Paused, d.Reason, d.Waiting, d.Sent, d.LastSent})
	}
	return list(items, 0), err
}

// resume lets a paused destination be sent to again: what was refused when it paused goes first.
func (s *Server) resume(ctx context.Context, _ *Person, in *resumeInput) (*struct{}, error) {
	db := s.store.DB.WithContext(ctx)
	res := db.Exec("UPDATE destinations SET paused = false, reason = '', failures = 0, not_before = NULL WHERE name = ?", in.Body.Name)
	if res.Error != nil {
		return nil, res.Error
	}
	if res.RowsAffected == 0 {
		return nil, huma.Error404NotFound("there is no destination " + in.Body.Name)
	}
	if err := db.Exec("UPDATE posts SET state = 'waiting' WHERE destination = ? AND state = 'refused'", in.Body.Name).Error; err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, engine.Event{Topic: "destinations"})
	return nil, s.Engine.Wake(ctx, in.Body.Name)
}

// ReadDocument reads a stored post's message.
func ReadDocument(body json.RawMessage) (*message.Document, error) {
	var doc message.Document
	err := json.Unmarshal(body, &doc)
	return &doc, err
}

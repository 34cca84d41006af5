package api

import (
	"context"
	"net/http"
	"time"

	"dorfbote/internal/engine"
	"dorfbote/internal/store"
)

// TodayBody is what needs a person, and how the day goes.
type TodayBody struct {
	Needs    []Need       `json:"needs"`
	Channels []ChannelDay `json:"channels"`
	Latest   []PostItem   `json:"latest"`
	Arrivals int64        `json:"arrivals" doc:"so far today"`
	Told     int64        `json:"told" doc:"arrivals told about so far today"`
	Next     []NextUp     `json:"next" doc:"what timers and the calendar will start next"`
}

// NextUp is a moment at which a workflow will start.
type NextUp struct {
	At         time.Time `json:"at"`
	WorkflowID int64     `json:"workflow_id"`
	Name       string    `json:"name"`
	Form       string    `json:"form"`
	Key        string    `json:"key" doc:"of the record; empty for the calendar"`
}

// Need is something that waits for a person.
type Need struct {
	ID    int64  `json:"id" doc:"of a notice, which can be taken away; 0 for the rest"`
	What  string `json:"what"`
	Words string `json:"words"`
	Go    string `json:"go" doc:"where in the application it is seen to"`
}

// ChannelDay compares a channel's posts so far today with the usual by this hour.
type ChannelDay struct {
	Name  string  `json:"name"`
	Today int64   `json:"today"`
	Usual float64 `json:"usual" doc:"by this hour, over the last four weeks"`
}

type todayOutput struct{ Body TodayBody }

// noticed adds what has been noticed and concerns the person, and what is next on the calendar.
func (s *Server) noticed(ctx context.Context, who *Person, out *TodayBody) error {
	db := s.store.DB.WithContext(ctx)
	var list []store.Notice
	if err := db.Where("done_at IS NULL AND (owner IS NULL OR owner = ?)", who.ID).Order("at DESC").Limit(30).Find(&list).Error; err != nil {
		return err
	}
	for _, n := range list {
		out.Needs = append(out.Needs, Need{ID: n.ID, What: n.About + " " + n.What, Words: n.Words, Go: n.Go})
	}
	return db.Raw(`SELECT t.due_at AS at, w.id AS workflow_id, w.name, w.form, t.key FROM timers t JOIN workflows w ON w.id = t.workflow_id
		WHERE NOT t.spent AND w.is_on AND w.form <> 'silent' ORDER BY t.due_at LIMIT 8`).Scan(&out.Next).Error
}

type noticeInput struct {
	ID int64 `path:"id"`
}

// dismiss takes a notice away; it comes back if what it tells of does.
func (s *Server) dismiss(ctx context.Context, _ *Person, in *noticeInput) (*struct{}, error) {
	err := s.store.DB.WithContext(ctx).Exec("UPDATE notices SET done_at = now() WHERE id = ?", in.ID).Error
	s.Engine.Tell(ctx, engine.Event{Topic: "today"})
	return nil, err
}

func (s *Server) todayRoutes() {
	register(s, op("dismiss-notice", http.MethodPost, "/api/notices/{id}/done", "Take a notice away", "Today"), editors, s.dismiss)
	register(s, op("today", http.MethodGet, "/api/today", "What needs a person today", "Today"), anyone, s.today)
}

func (s *Server) today(ctx context.Context, who *Person, _ *struct{}) (*todayOutput, error) {
	now := time.Now().In(s.Engine.Workspace.Location())
	start := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	out := &todayOutput{Body: TodayBody{Needs: []Need{}, Channels: []ChannelDay{}, Next: []NextUp{}}}
	db := s.store.DB.WithContext(ctx)
	destinations, err := s.store.Destinations(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range destinations {
		if d.Paused {
			out.Body.Needs = append(out.Body.Needs, Need{What: d.Name + " is paused", Words: d.Reason, Go: "/outbox?destination=" + urlQuery(d.Name)})
		}
	}
	if err := s.noticed(ctx, who, &out.Body); err != nil {
		return nil, err
	}
	var failed []struct {
		WorkflowID int64
		Name       string
		N          int64
		Error      string
	}
	err = db.Raw(`SELECT v.workflow_id, w.name, count(*) AS n, max(v.error) AS error FROM verdicts v JOIN workflows w ON w.id = v.workflow_id
		WHERE v.verdict = 'failed' AND v.at > ? GROUP BY 1, 2 ORDER BY 3 DESC LIMIT 10`, now.Add(-24*time.Hour)).Scan(&failed).Error
	if err != nil {
		return nil, err
	}
	for _, f := range failed {
		out.Body.Needs = append(out.Body.Needs, Need{What: f.Name + " failed on " + plural(f.N, "arrival", "arrivals"), Words: f.Error, Go: "/arrivals?verdict=failed"})
	}
	err = db.Raw(`SELECT d.name, count(p.id) FILTER (WHERE p.sent_at >= @start) AS today,
			count(p.id) FILTER (WHERE p.sent_at < @start AND (p.sent_at AT TIME ZONE @zone)::time <= (CAST(@now AS timestamptz) AT TIME ZONE @zone)::time) / 28.0 AS usual
		FROM destinations d LEFT JOIN posts p ON p.destination = d.name AND p.state = 'sent' AND p.sent_at > CAST(@start AS timestamptz) - interval '28 days'
		GROUP BY d.name ORDER BY d.name`, map[string]any{"start": start, "now": now, "zone": now.Location().String()}).Scan(&out.Body.Channels).Error
	if err != nil {
		return nil, err
	}
	if err := db.Raw("SELECT count(*) FROM arrivals WHERE received_at >= ?", start).Scan(&out.Body.Arrivals).Error; err != nil {
		return nil, err
	}
	if err := db.Raw("SELECT count(*) FROM verdicts WHERE verdict = 'told' AND at >= ?", start).Scan(&out.Body.Told).Error; err != nil {
		return nil, err
	}
	posts, err := s.store.Posts(ctx, store.PostFilter{Limit: 8})
	out.Body.Latest = s.postItems(posts)
	return out, err
}

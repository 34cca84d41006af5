package history

import (
	"context"
	"encoding/json"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

func urlQuery(s string) string { return url.QueryEscape(s) }

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
	State       string            `json:"state" enum:"waiting,held,sent,refused,given up,dropped,expired"`
	Attempts    int               `json:"attempts"`
	Status      int               `json:"status" doc:"HTTP status of the last answer; 0 for none"`
	Answer      string            `json:"answer" doc:"the other side's words"`
	Key         string            `json:"key" doc:"idempotency key"`
	Under       *int64            `json:"under"`
	Updates     *int64            `json:"updates" doc:"the earlier post that this one is put in the place of"`
	Private     bool              `json:"private,omitempty" doc:"it went to one person, and its text is not for whoever looks"`
	Cc          string            `json:"cc"`
	Bcc         string            `json:"bcc"`
	Link        string            `json:"link" doc:"to the post, where the other side gives one"`
	Report      string            `json:"report" enum:"sent,delivered,failed," doc:"what the other side told later of a post that it had taken"`
	ReportWords string            `json:"report_words"`
	ReportAt    *time.Time        `json:"report_at"`
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
	Refused  int64      `json:"refused" doc:"refused posts that a person has yet to see to"`
	Shut     string     `json:"shut" doc:"why it would take no post, as the other side said when it was asked last; empty where it would"`
	HeldBy   string     `json:"held_by" doc:"the person who paused it; empty where the other side's refusal did"`
	// PerMinute is the person's, Bears the other side's.
	PerMinute int        `json:"per_minute" doc:"how many posts a minute are sent at most; 0 is as fast as it goes"`
	Bears     float64    `json:"bears" doc:"how many a minute the other side was seen to bear, learnt from being asked to wait; 0 where it never asked"`
	NotBefore *time.Time `json:"not_before" doc:"the next post goes no earlier"`
	Failures  int        `json:"failures" doc:"tries in a row that failed"`
	Oldest    *time.Time `json:"oldest" doc:"since when the oldest waiting post waits"`
}

type postsInput struct {
	State       string `query:"state" enum:"waiting,held,sent,refused,given up,dropped,expired,"`
	Destination string `query:"destination"`
	Workflow    int64  `query:"workflow"`
	Arrival     int64  `query:"arrival"`
	ID          int64  `query:"post" doc:"this one alone"`
	Q           string `query:"q" doc:"text in the title"`
	Before      int64  `query:"before"`
	Limit       int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

func (hi *History) outboxRoutes() {
	kit.Register(hi.Kit, kit.Op("list-posts", http.MethodGet, "/api/posts", "The outbox, newest first", "Outbox"), kit.Anyone, hi.listPosts)
	kit.Register(hi.Kit, kit.Op("get-post", http.MethodGet, "/api/posts/{id}", "One post: its body as it was sent, what was answered, every attempt", "Outbox"), kit.Anyone, hi.getPost)
	kit.Register(hi.Kit, kit.Op("list-destinations", http.MethodGet, "/api/destinations", "Where posts go", "Outbox"), kit.Anyone, hi.listDestinations)
	kit.Register(hi.Kit, kit.Op("get-post-file", http.MethodGet, "/api/posts/{id}/files/{n}", "A file that goes, or went, with a post, as it does", "Outbox"), kit.Anyone, hi.getPostFile)
	hi.outboxActs()
}

// postItems shows posts to somebody.
func (hi *History) postItems(ctx context.Context, who *kit.Person, rows []store.PostRow) ([]PostItem, error) {
	private, err := hi.private(ctx, who, rows)
	if err != nil {
		return nil, err
	}
	items := make([]PostItem, 0, len(rows))
	for _, p := range rows {
		it := PostItem{
			ID: p.ID, WorkflowID: p.Workflow, Workflow: p.WorkflowName, Arrival: p.Arrival, Destination: p.Destination, Message: p.Message, Title: p.Title,
			State: p.State, Attempts: p.Attempts, Status: p.Status, Answer: p.Answer, Key: p.Key, Under: p.Under, Updates: p.Updates, CreatedAt: p.CreatedAt, SentAt: p.SentAt,
			Cc: p.Cc, Bcc: p.Bcc, Link: p.Link, Report: p.Report, ReportWords: p.ReportWords, ReportAt: p.ReportAt,
		}
		var doc message.Document
		if private[p.ID] {
			it.Title, it.Answer, it.Link, it.ReportWords, it.Private = "", "", "", "", true
		} else if json.Unmarshal(p.Body, &doc) == nil {
			for i, f := range doc.Attach { // which have an address of their own
				doc.Attach[i].Size, doc.Attach[i].Data, doc.Attach[i].Cells = len(f.Data), nil, nil
			}
			it.Doc, it.Plain = &doc, doc.Plain()
		}
		items = append(items, it)
	}
	return items, nil
}

// private tells which posts somebody may not read: a viewer those to one person's own address, unless a team of theirs has the workflow.
func (hi *History) private(ctx context.Context, who *kit.Person, rows []store.PostRow) (map[int64]bool, error) {
	out := map[int64]bool{}
	if who.Role != store.Viewer {
		return out, nil
	}
	own, err := hi.Engine.Sources.OwnPlaces(ctx)
	if err != nil {
		return nil, err
	}
	var flows []int64
	for _, p := range rows {
		connection, _, _ := strings.Cut(p.Destination, "/")
		if own[connection] {
			out[p.ID] = true
			flows = append(flows, p.Workflow)
		}
	}
	if len(flows) == 0 {
		return out, nil
	}
	theirs, err := hi.Store.OfOwnTeams(ctx, who.ID, flows)
	for _, p := range rows {
		if theirs[p.Workflow] {
			delete(out, p.ID)
		}
	}
	return out, err
}

func (hi *History) listPosts(ctx context.Context, who *kit.Person, in *postsInput) (*kit.List[PostItem], error) {
	rows, err := hi.Store.Posts(ctx, store.PostFilter{
		State: in.State, Destination: in.Destination, Workflow: in.Workflow, Arrival: in.Arrival, ID: in.ID, Text: in.Q, Before: in.Before, Limit: in.Limit + 1,
	})
	next := int64(0)
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		next = rows[len(rows)-1].ID
	}
	if err != nil {
		return nil, err
	}
	items, err := hi.postItems(ctx, who, rows)
	return kit.ListOf(items, next), err
}

func (hi *History) listDestinations(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[DestinationItem], error) {
	rows, err := hi.Store.Destinations(ctx, sources.Listed())
	items := make([]DestinationItem, 0, len(rows))
	for _, d := range rows {
		it := DestinationItem{
			Name: d.Name, Title: d.Title, Private: d.Private, Paused: d.Paused, Reason: d.Reason, Waiting: d.Waiting, Sent: d.Sent, LastSent: d.LastSent,
			Refused: d.Refused, HeldBy: d.HeldBy, Shut: d.Shut, PerMinute: d.PerMinute, NotBefore: d.NotBefore, Failures: d.Failures, Oldest: d.Oldest,
		}
		if d.SpacingMs > 0 {
			it.Bears = float64(time.Minute/time.Millisecond) / float64(d.SpacingMs)
		}
		items = append(items, it)
	}
	return kit.ListOf(items, 0), err
}

// AttemptItem is one try of a post or a step.
type AttemptItem struct {
	At      time.Time `json:"at"`
	TookMs  int       `json:"took_ms"`
	Status  int       `json:"status" doc:"of HTTP; 0 when no answer came"`
	Address string    `json:"address" doc:"what was called"`
	Sent    string    `json:"sent" doc:"the body as it went out"`
	Answer  string    `json:"answer" doc:"as it came, shortened"`
	Open    bool      `json:"open,omitempty" doc:"it has begun, and its answer isn't known yet"`
}

type postOutput struct {
	Body struct {
		Post     PostItem      `json:"post"`
		Tried    []AttemptItem `json:"tried" doc:"the last 100, newest first"`
		Arrival  string        `json:"arrival" doc:"the key of the record that it tells of"`
		NotUntil *time.Time    `json:"not_until" doc:"of a post that waits: its destination is left alone until then"`
	}
}

// withhold leaves out of tries what was sent and answered.
func withhold(tried []AttemptItem) {
	for i := range tried {
		tried[i].Sent, tried[i].Answer, tried[i].Address = "", "", ""
	}
}

func (hi *History) getPost(ctx context.Context, who *kit.Person, in *kit.IDInput) (*postOutput, error) {
	rows, err := hi.Store.Posts(ctx, store.PostFilter{ID: in.ID, Limit: 1})
	if err != nil || len(rows) == 0 {
		return nil, kit.OrMissing(err)
	}
	out := &postOutput{}
	items, err := hi.postItems(ctx, who, rows)
	if err != nil {
		return nil, err
	}
	out.Body.Post = items[0]
	if out.Body.Tried, err = hi.tried(hi.Store.AttemptsOfPost(ctx, in.ID, attemptsShown)); err != nil {
		return nil, err
	}
	if items[0].Private {
		withhold(out.Body.Tried)
	}
	if out.Body.Arrival, err = hi.Store.SubjectOf(ctx, rows[0].Arrival); err != nil {
		return nil, err
	}
	if rows[0].State == store.Waiting {
		out.Body.NotUntil, err = hi.Store.NotUntil(ctx, rows[0].Destination)
	}
	return out, err
}

// attemptsShown is how many tries of a post or a step are shown.
const attemptsShown = 100

// tried shows the tries of a post or a step.
func (hi *History) tried(rows []store.Attempt, err error) ([]AttemptItem, error) {
	items := make([]AttemptItem, 0, len(rows))
	for _, a := range rows {
		items = append(items, AttemptItem{At: a.At, TookMs: a.TookMs, Status: a.Status, Address: a.Address, Sent: a.Sent, Answer: a.Answer, Open: a.Open})
	}
	return items, err
}

type postFileInput struct {
	ID int64 `path:"id"`
	N  int   `path:"n" minimum:"0" doc:"its place among the post's files"`
}

type postFileOutput struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (hi *History) getPostFile(ctx context.Context, who *kit.Person, in *postFileInput) (*postFileOutput, error) {
	rows, err := hi.Store.Posts(ctx, store.PostFilter{ID: in.ID, Limit: 1})
	if err != nil || len(rows) == 0 {
		return nil, kit.OrMissing(err)
	}
	private, err := hi.private(ctx, who, rows)
	if err != nil {
		return nil, err
	}
	if private[in.ID] {
		return nil, huma.Error403Forbidden("this went to one person; viewers see it only where a team of theirs has the workflow")
	}
	doc, err := message.Stored(rows[0].Body)
	if err != nil || in.N >= len(doc.Attach) {
		return nil, kit.OrMissing(err)
	}
	f := doc.Attach[in.N]
	if f, err = hi.Engine.Outbox.File(ctx, &rows[0].Post, f); err != nil {
		return nil, err
	}
	return &postFileOutput{f.Media, mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}), f.Data}, nil
}

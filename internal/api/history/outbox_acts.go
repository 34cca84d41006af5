package history

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// What can be done with posts, and from which states.
var postActs = map[string]struct {
	to   string
	from []string
}{
	"again":   {store.Waiting, []string{store.Refused, store.GivenUp, store.Dropped, store.Expired, store.Held}},
	"drop":    {store.Dropped, []string{store.Waiting, store.Refused, store.GivenUp, store.Held}},
	"hold":    {store.Held, []string{store.Waiting, store.Refused}},
	"release": {store.Waiting, []string{store.Held}},
}

// mostAtOnce bounds how many posts one act is done with.
const mostAtOnce = 10_000

type manyInput struct {
	Body struct {
		Do  string  `json:"do" enum:"again,drop,hold,release" doc:"send again, drop, hold back, or let go on"`
		IDs []int64 `json:"ids,omitempty" maxItems:"10000" doc:"these posts; without any, those that the filter leaves"`
		// The filter.
		State       string `json:"state,omitempty" enum:"waiting,held,refused,given up,dropped,expired"`
		Destination string `json:"destination,omitempty"`
		Workflow    int64  `json:"workflow,omitempty"`
	}
}

type manyOutput struct {
	Body struct {
		Done   int64 `json:"done"`
		Passed int64 `json:"passed" doc:"left alone, since they are not in a state in which this can be done"`
	}
}

type resumeInput struct {
	Body struct {
		Name string   `json:"name"`
		Only *[]int64 `json:"only,omitempty" maxItems:"10000" doc:"of what waited and was refused, send only these posts; the others are dropped. Without it, everything is sent, in order"`
	}
}

type pauseInput struct {
	Body struct {
		Name   string `json:"name"`
		Reason string `json:"reason,omitempty" maxLength:"300"`
	}
}

type rateInput struct {
	Body struct {
		Name      string `json:"name"`
		PerMinute int    `json:"per_minute" minimum:"0" maximum:"60000" doc:"0 is as fast as it goes"`
		Forget    bool   `json:"forget,omitempty" doc:"forget as well what the other side was seen to bear"`
	}
}

func (hi *History) outboxActs() {
	one := func(do string) func(context.Context, *kit.Person, *kit.IDInput) (*struct{}, error) {
		return func(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
			return hi.actOn(ctx, in.ID, do)
		}
	}
	kit.Changes(hi.Kit, kit.Op("send-again", http.MethodPost, "/api/posts/{id}/again", "Send a refused or given-up post again", "Outbox"), kit.Editors, kit.ByID[struct{}](kit.AboutPost), one("again"))
	kit.Changes(hi.Kit, kit.Op("drop-post", http.MethodPost, "/api/posts/{id}/drop", "Drop a post that is not sent", "Outbox"), kit.Editors, kit.ByID[struct{}](kit.AboutPost), one("drop"))
	kit.Changes(hi.Kit, kit.Op("hold-post", http.MethodPost, "/api/posts/{id}/hold", "Hold a post back; those behind it go on", "Outbox"), kit.Editors, kit.ByID[struct{}](kit.AboutPost), one("hold"))
	kit.Changes(hi.Kit, kit.Op("release-post", http.MethodPost, "/api/posts/{id}/release", "Let a held post go on", "Outbox"), kit.Editors, kit.ByID[struct{}](kit.AboutPost), one("release"))
	kit.Changes(hi.Kit, kit.Op("act-on-posts", http.MethodPost, "/api/outbox/many", "Do something with many posts at once", "Outbox"), kit.Editors, kit.Act[manyInput, manyOutput](kit.AboutPost, func(in *manyInput) string { return in.Body.Do + " many" }), hi.actOnMany)
	kit.Changes(hi.Kit, kit.Op("resume-destination", http.MethodPost, "/api/destinations/resume", "Send what waits for a paused destination", "Outbox"), kit.Editors, kit.About[resumeInput, struct{}](kit.AboutDestination, func(in *resumeInput) string { return in.Body.Name }), hi.resume)
	kit.Register(hi.Kit, kit.Op("ask-destination", http.MethodPost, "/api/destinations/ask", "Ask the other side whether a destination would take a post", "Outbox"), kit.Editors, hi.askDestination)
	kit.Changes(hi.Kit, kit.Op("pause-destination", http.MethodPost, "/api/destinations/pause", "Send nothing to a destination for now", "Outbox"), kit.Editors, kit.About[pauseInput, struct{}](kit.AboutDestination, func(in *pauseInput) string { return in.Body.Name }), hi.pause)
	kit.Changes(hi.Kit, kit.Op("pace-destination", http.MethodPost, "/api/destinations/rate", "Set how many posts a minute a destination gets", "Outbox"), kit.Editors, kit.About[rateInput, struct{}](kit.AboutDestination, func(in *rateInput) string { return in.Body.Name }), hi.setRate)
}

// actOn puts a post into another state. A person has looked at it: it no longer expires by itself.
func (hi *History) actOn(ctx context.Context, id int64, do string) (*struct{}, error) {
	act := postActs[do]
	var p store.Post
	res := hi.Store.DB.WithContext(ctx).Raw("UPDATE posts SET state = ?, expires_at = NULL WHERE id = ? AND state IN ? RETURNING *", act.to, id, act.from).Scan(&p)
	if res.Error != nil {
		return nil, res.Error
	}
	if p.ID == 0 {
		return nil, hi.cannot(ctx, id, act.from)
	}
	return nil, hi.moved(ctx, act.to, []store.Post{p})
}

// cannot says why something cannot be done with a post.
func (hi *History) cannot(ctx context.Context, id int64, from []string) error {
	var state string
	if err := hi.Store.DB.WithContext(ctx).Raw("SELECT state FROM posts WHERE id = ?", id).Scan(&state).Error; err != nil {
		return err
	}
	if state == "" {
		return gorm.ErrRecordNotFound
	}
	return huma.Error409Conflict("the post is " + state + "; this can be done with one that is " + strings.Join(from, " or "))
}

// moved wakes whatever waits for posts that are in another state now.
func (hi *History) moved(ctx context.Context, to string, posts []store.Post) error {
	places := map[string]bool{}
	runs := map[jobs.Follow]bool{}
	for _, p := range posts {
		places[p.Destination] = true
		runs[jobs.Follow{Arrival: p.Arrival, Workflow: p.Workflow}] = true
	}
	if to == store.Waiting {
		for name := range places {
			if err := hi.Engine.Outbox.Wake(ctx, name); err != nil {
				return err
			}
		}
	}
	if to == store.Dropped && len(runs) <= 100 { // for more, the sweep sees to it
		for run := range runs {
			if err := hi.Engine.Follow.Follow(ctx, run.Arrival, run.Workflow); err != nil {
				return err
			}
		}
	}
	ev := notify.Message{Topic: notify.Posts}
	if len(posts) == 1 {
		ev.ID = posts[0].ID
	}
	hi.Engine.Tell(ctx, ev)
	hi.Engine.Tell(ctx, notify.Message{Topic: notify.Destinations})
	return nil
}

func (hi *History) actOnMany(ctx context.Context, _ *kit.Person, in *manyInput) (*manyOutput, error) {
	b := in.Body
	act := postActs[b.Do]
	q := hi.Store.DB.WithContext(ctx).Table("posts").Select("id")
	switch {
	case len(b.IDs) > 0:
		q = q.Where("id IN ?", b.IDs)
	case b.State == "" && b.Destination == "" && b.Workflow == 0:
		return nil, huma.Error422UnprocessableEntity("say which posts: give ids, or a state, a destination or a workflow")
	}
	if b.State != "" {
		q = q.Where("state = ?", b.State)
	}
	if b.Destination != "" {
		q = q.Where("destination = ?", b.Destination)
	}
	if b.Workflow > 0 {
		q = q.Where("workflow = ?", b.Workflow)
	}
	out := &manyOutput{}
	var posts []store.Post
	err := hi.Store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var ids []int64
		if err := q.Order("id").Limit(mostAtOnce).Scan(&ids).Error; err != nil || len(ids) == 0 {
			return err
		}
		if err := tx.Raw("UPDATE posts SET state = ?, expires_at = NULL WHERE id IN ? AND state IN ? RETURNING id, destination, arrival, workflow", act.to, ids, act.from).Scan(&posts).Error; err != nil {
			return err
		}
		out.Body.Done, out.Body.Passed = int64(len(posts)), int64(len(ids)-len(posts))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, hi.moved(ctx, act.to, posts)
}

type askInput struct {
	Body struct {
		Name string `json:"name"`
	}
}

type askOutput struct {
	Body struct {
		Shut string `json:"shut" doc:"why it would take no post, and what to do; empty where it would"`
	}
}

func (hi *History) askDestination(ctx context.Context, _ *kit.Person, in *askInput) (*askOutput, error) {
	if err := hi.Engine.Sources.AskDestinations(ctx, []string{in.Body.Name}); err != nil {
		return nil, err
	}
	d, err := hi.Store.Destination(ctx, in.Body.Name)
	if err != nil {
		return nil, err
	}
	out := &askOutput{}
	out.Body.Shut = d.Shut
	return out, nil
}

var errNoDestination = huma.Error404NotFound("there is no such destination")

func (hi *History) setDestination(ctx context.Context, name string, set map[string]any) error {
	res := hi.Store.DB.WithContext(ctx).Model(&store.Destination{}).Where("name = ?", name).Updates(set)
	if res.Error == nil && res.RowsAffected == 0 {
		return errNoDestination
	}
	hi.Engine.Tell(ctx, notify.Message{Topic: notify.Destinations})
	return res.Error
}

// resume lets a paused destination be sent to again: what was refused when it paused goes first.
func (hi *History) resume(ctx context.Context, _ *kit.Person, in *resumeInput) (*struct{}, error) {
	name := in.Body.Name
	var gone []store.Post
	err := hi.Store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		res := tx.Exec("UPDATE destinations SET paused = false, reason = '', held_by = '', failures = 0, not_before = NULL WHERE name = ?", name)
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return errNoDestination
		}
		if in.Body.Only != nil {
			err := tx.Raw("UPDATE posts SET state = 'dropped' WHERE destination = ? AND state IN ('waiting', 'refused') AND NOT id = ANY (?::bigint[]) RETURNING id, destination, arrival, workflow",
				name, store.BigInts(*in.Body.Only)).Scan(&gone).Error
			if err != nil {
				return err
			}
		}
		if err := tx.Exec("UPDATE posts SET state = 'waiting', expires_at = NULL WHERE destination = ? AND state = 'refused'", name).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE notices SET done_at = now() WHERE about = ? AND done_at IS NULL", name).Error
	})
	if err != nil {
		return nil, err
	}
	if err := hi.moved(ctx, store.Dropped, gone); err != nil {
		return nil, err
	}
	hi.Engine.Tell(ctx, notify.Message{Topic: notify.Today})
	return nil, hi.Engine.Outbox.Wake(ctx, name)
}

func (hi *History) pause(ctx context.Context, who *kit.Person, in *pauseInput) (*struct{}, error) {
	reason := strings.TrimSpace(in.Body.Reason)
	if reason == "" {
		reason = "paused by " + who.Name
	}
	return nil, hi.setDestination(ctx, in.Body.Name, map[string]any{"paused": true, "reason": reason, "held_by": who.Name})
}

func (hi *History) setRate(ctx context.Context, _ *kit.Person, in *rateInput) (*struct{}, error) {
	// A time that the rate until now has set holds no more; one that the other side has asked for does.
	set := map[string]any{"per_minute": in.Body.PerMinute, "not_before": gorm.Expr("CASE WHEN failures > 0 THEN not_before END")}
	if in.Body.Forget {
		set["spacing_ms"], set["spaced_at"] = 0, nil
	}
	if err := hi.setDestination(ctx, in.Body.Name, set); err != nil {
		return nil, err
	}
	return nil, hi.Engine.Outbox.Wake(ctx, in.Body.Name)
}

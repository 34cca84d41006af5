package history

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// mostAtOnce bounds how many posts one act is done with.
const mostAtOnce = 10_000

type manyInput struct {
	Body struct {
		Do  store.Act `json:"do" enum:"again,drop,hold,release" doc:"send again, drop, hold back, or let go on"`
		IDs []int64   `json:"ids,omitempty" maxItems:"10000" doc:"these posts; without any, those that the filter leaves"`
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
	one := func(do store.Act) func(context.Context, *kit.Person, *kit.IDInput) (*struct{}, error) {
		return func(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
			return hi.actOn(ctx, in.ID, do)
		}
	}
	kit.Changes(hi.Kit, kit.Op("send-again", http.MethodPost, "/api/posts/{id}/again", "Send a refused or given-up post again", "Outbox"), kit.Editors, kit.ByID[struct{}](store.AboutPost), one(store.SendAgain))
	kit.Changes(hi.Kit, kit.Op("make-anew", http.MethodPost, "/api/posts/{id}/anew", "Make a refused post anew from the version that is on, and send it", "Outbox"), kit.Editors, kit.ByID[struct{}](store.AboutPost), hi.anew)
	kit.Changes(hi.Kit, kit.Op("drop-post", http.MethodPost, "/api/posts/{id}/drop", "Drop a post that is not sent", "Outbox"), kit.Editors, kit.ByID[struct{}](store.AboutPost), one(store.Drop))
	kit.Changes(hi.Kit, kit.Op("hold-post", http.MethodPost, "/api/posts/{id}/hold", "Hold a post back; those behind it go on", "Outbox"), kit.Editors, kit.ByID[struct{}](store.AboutPost), one(store.Hold))
	kit.Changes(hi.Kit, kit.Op("release-post", http.MethodPost, "/api/posts/{id}/release", "Let a held post go on", "Outbox"), kit.Editors, kit.ByID[struct{}](store.AboutPost), one(store.Release))
	kit.Changes(hi.Kit, kit.Op("act-on-posts", http.MethodPost, "/api/outbox/many", "Do something with many posts at once", "Outbox"), kit.Editors, kit.Act[manyInput, manyOutput](store.AboutPost, func(in *manyInput) string { return string(in.Body.Do) + " many" }), hi.actOnMany)
	kit.Changes(hi.Kit, kit.Op("resume-destination", http.MethodPost, "/api/destinations/resume", "Send what waits for a paused destination", "Outbox"), kit.Editors, kit.About[resumeInput, struct{}](store.AboutDestination, func(in *resumeInput) string { return in.Body.Name }), hi.resume)
	kit.Register(hi.Kit, kit.Op("ask-destination", http.MethodPost, "/api/destinations/ask", "Ask the other side whether a destination would take a post", "Outbox"), kit.Editors, hi.askDestination)
	kit.Changes(hi.Kit, kit.Op("pause-destination", http.MethodPost, "/api/destinations/pause", "Send nothing to a destination for now", "Outbox"), kit.Editors, kit.About[pauseInput, struct{}](store.AboutDestination, func(in *pauseInput) string { return in.Body.Name }), hi.pause)
	kit.Changes(hi.Kit, kit.Op("pace-destination", http.MethodPost, "/api/destinations/rate", "Set how many posts a minute a destination gets", "Outbox"), kit.Editors, kit.About[rateInput, struct{}](store.AboutDestination, func(in *rateInput) string { return in.Body.Name }), hi.setRate)
}

// actOn does something with one post.
func (hi *History) actOn(ctx context.Context, id int64, do store.Act) (*struct{}, error) {
	posts, _, err := hi.Store.ActOn(ctx, do, []int64{id}, store.PostFilter{}, 1)
	if err != nil {
		return nil, err
	}
	if len(posts) == 0 {
		state, err := hi.Store.PostState(ctx, id)
		if err != nil {
			return nil, err
		}
		return nil, huma.Error409Conflict("the post is " + state + "; this can be done with one that is " + strings.Join(do.From(), " or "))
	}
	return nil, hi.moved(ctx, do.To(), posts)
}

// anew has a post say what the version that is on makes of its arrival, and sends it.
func (hi *History) anew(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	p, err := hi.Engine.Decider.Anew(ctx, in.ID)
	if f, ok := fault.Of(err); ok {
		return nil, huma.Error409Conflict(f.Error())
	}
	if errors.Is(err, store.ErrState) {
		return nil, huma.Error409Conflict("the post is " + p.State + "; this can be done with one that is " + strings.Join(store.SendAgain.From(), " or "))
	}
	if err != nil {
		return nil, err
	}
	return nil, hi.moved(ctx, store.Waiting, []store.Post{*p})
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

// others are the workflows of teams that somebody is not in.
func (hi *History) others(ctx context.Context, who *kit.Person) ([]int64, error) {
	if who.Role == store.Administrator {
		return nil, nil
	}
	return hi.Store.OfOtherTeams(ctx, who.ID)
}

// touchedPosts enters in the audit log which posts were acted on, and how they stood.
func touchedPosts(ctx context.Context, do store.Act, posts []store.Post) {
	if len(posts) == 0 {
		return
	}
	ids, was := make([]int64, len(posts)), map[string][]int64{}
	for i, p := range posts {
		ids[i] = p.ID
		was[p.Was] = append(was[p.Was], p.ID)
	}
	kit.Touched(ctx, map[string]any{"posts": was}, map[string]any{"posts": map[string][]int64{do.To(): ids}})
}

func (hi *History) actOnMany(ctx context.Context, who *kit.Person, in *manyInput) (*manyOutput, error) {
	b := in.Body
	if len(b.IDs) == 0 && b.State == "" && b.Destination == "" && b.Workflow == 0 {
		return nil, huma.Error422UnprocessableEntity("say which posts: give ids, or a state, a destination or a workflow")
	}
	but, err := hi.others(ctx, who)
	if err != nil {
		return nil, err
	}
	posts, of, err := hi.Store.ActOn(ctx, b.Do, b.IDs, store.PostFilter{State: b.State, Destination: b.Destination, Workflow: b.Workflow, But: but}, mostAtOnce)
	if err != nil {
		return nil, err
	}
	if of == 0 && len(but) > 0 {
		mine, err := hi.Store.CountPosts(ctx, b.IDs, store.PostFilter{State: b.State, Destination: b.Destination, Workflow: b.Workflow})
		if err != nil {
			return nil, err
		}
		if mine > 0 {
			return nil, huma.Error403Forbidden("these posts belong to other teams; one of them or an administrator can do this")
		}
	}
	touchedPosts(ctx, b.Do, posts)
	out := &manyOutput{}
	out.Body.Done, out.Body.Passed = int64(len(posts)), int64(of-len(posts))
	return out, hi.moved(ctx, b.Do.To(), posts)
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

// destinationSet tells everyone that a destination is another now; of one that is not there, it says so.
func (hi *History) destinationSet(ctx context.Context, err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return errNoDestination
	}
	hi.Engine.Tell(ctx, notify.Message{Topic: notify.Destinations})
	return err
}

// resume lets a paused destination be sent to again: what was refused when it paused goes first.
func (hi *History) resume(ctx context.Context, _ *kit.Person, in *resumeInput) (*struct{}, error) {
	name := in.Body.Name
	gone, err := hi.Store.ResumeDestination(ctx, name, in.Body.Only)
	if err != nil {
		return nil, hi.destinationSet(ctx, err)
	}
	touchedPosts(ctx, store.Drop, gone)
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
	return nil, hi.destinationSet(ctx, hi.Store.PauseDestination(ctx, in.Body.Name, reason, who.Name))
}

func (hi *History) setRate(ctx context.Context, _ *kit.Person, in *rateInput) (*struct{}, error) {
	if err := hi.destinationSet(ctx, hi.Store.RateDestination(ctx, in.Body.Name, in.Body.PerMinute, in.Body.Forget)); err != nil {
		return nil, err
	}
	return nil, hi.Engine.Outbox.Wake(ctx, in.Body.Name)
}

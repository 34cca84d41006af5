package decide

import (
	"fmt"
	"slices"
	"time"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Verdicts of what comes after an alert.
const (
	Escalated Verdict = "followed" // it was not taken care of in time, and others are told
	Claimed   Verdict = "claimed"  // somebody looks after it
)

// StepName is what an entry of Follow is called in outcomes.
func StepName(n int) string { return fmt.Sprintf("follow[%d]", n) }

// Escalate looks, at its moment, whether what entry n of Follow waits for has come true, and tells others where it has not. The
// scope is of the record as it is then, and says whether the alert was claimed or answered. needed is false where there is
// nothing to tell. A condition that fails is one that does not hold: an alert is rather told once too often.
func Escalate(p *sheet.Plan, n int, sc *formula.Scope, known map[string]Answered) (out Outcome, needed bool) {
	if n >= len(p.Follow) || p.Follow[n].Escalate == nil {
		return Outcome{}, false
	}
	f := &p.Follow[n]
	out = Outcome{Verdict: Escalated, Step: StepName(n)}
	g, err := gather(p, sc)
	if err == nil || onlyPeople(f.Unless) {
		know(p, sc, known)
		switch f.Unless.Eval(sc) {
		case cond.True:
			return out, false
		case cond.Broken:
			path, why := f.Unless.Decider(sc)
			out.Failures = append(out.Failures, Failure{path, why.Error()})
		}
	}
	if err != nil {
		out = gatherFailed(p, g, sc, err)
		out.Step = StepName(n)
		if out.Verdict == Told {
			out.Verdict = Escalated
		}
		return out, true
	}
	if !compose(p, &out, f.Escalate.Tell, sc) {
		out.Step = StepName(n)
		return out, true
	}
	if len(out.Posts) == 0 && len(out.Failures) > 0 {
		out.Verdict, out.Where, out.Error = Failed, out.Failures[0].Where, out.Failures[0].Error
		out.Failures = nil
	}
	return out, true
}

// onlyPeople tells whether a condition asks only what people did, so that what could not be gathered does not matter to it.
func onlyPeople(n cond.Node) bool {
	only := true
	cond.Walk(n, func(n cond.Node) {
		if parts := cond.PartsOf(n); parts.Group == "" && !cond.IsHappened(n) {
			only = false
		}
	})
	return only
}

// Quieted holds what comes outside the opening hours, and obeys nothing else of the pace. name tells the posts apart from those
// that the same cause has made before.
func Quieted(p *sheet.Plan, mem Memory, cause, name string, now time.Time, out Outcome) Outcome {
	for i := range out.Posts {
		out.Posts[i].Ref = refOf(cause+"-"+name, i)
	}
	if p.Pace == nil || len(out.Posts) == 0 {
		return out
	}
	posts := out.Posts
	out.Posts = nil
	place := make([]int, len(posts))
	for i, post := range posts {
		if place[i] = -1; post.Under >= 0 {
			if place[post.Under] >= 0 {
				post.Under = place[post.Under]
				out.Posts = append(out.Posts, post)
			}
			continue
		}
		if !late(p.Pace, post, now) {
			place[i] = len(out.Posts)
			out.Posts = append(out.Posts, post)
			continue
		}
		w := Waiting{Ref: post.Ref, Cause: cause, At: now, Row: out.Row, To: post.To, Post: post, Step: out.Step}
		for _, r := range posts[i+1:] {
			if r.Under == i {
				r.Under = 0
				w.Replies = append(w.Replies, r)
			}
		}
		w.Due, _ = p.Pace.Open.NextOpen(now)
		mem.Hold(w)
	}
	if len(out.Posts) == 0 {
		out.Verdict = Held
	}
	return out
}

// Again gives the posts of an alert that a button of later tells again, by its words: those that have it, with what is in their
// threads. Nothing is told again where the alert was claimed, its record is gone, or what a post follows its record until holds.
func Again(p *sheet.Plan, posts []Post, button string, sc *formula.Scope, removed bool) []Post {
	if sc.Claimed || removed {
		return nil
	}
	gathered := false
	var out []Post
	place := map[int]int{}
	for i, post := range posts {
		if post.Under >= 0 {
			if at, ok := place[post.Under]; ok {
				post.Under = at
				out = append(out, again(post))
			}
			continue
		}
		if !slices.ContainsFunc(post.Doc.Buttons, func(b message.Button) bool {
			return b.Does == message.DoesLater && value.Fold(b.Text) == value.Fold(button)
		}) {
			continue
		}
		if t := tellOf(p, post); t != nil && t.KeepUp != nil {
			if !gathered {
				_, _ = gather(p, sc)
				gathered = true
			}
			if t.KeepUp.Until.Eval(sc) == cond.True {
				continue
			}
		}
		place[i] = len(out)
		out = append(out, again(post))
	}
	return out
}

// tellOf finds what a post was made for: of one that comes from elsewhere, the tell that has its message follow the record.
func tellOf(p *sheet.Plan, post Post) *sheet.PlanTell {
	found := post.tell
	if found == nil {
		p.EachTell(func(t *sheet.PlanTell) {
			if t.KeepUp != nil && t.Message != nil && t.Message.Name == post.Message {
				found = t
			}
		})
	}
	return found
}

func again(post Post) Post {
	post.Ref, post.Updates, post.UnderRef, post.Expires = "", "", "", time.Time{}
	return post
}

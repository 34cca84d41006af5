package decide

import (
	"fmt"
	"slices"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
)

// The verdicts of a pace.
const (
	Repeated Verdict = "repeated" // folded into an earlier post
	Held     Verdict = "held"     // waits for opening hours or for a digest
	Released Verdict = "released" // what waited for opening hours is told now
	Digested Verdict = "digest"   // what waited for a digest is told now, in one post
	Expired  Verdict = "expired"  // it was worth telling only until a moment that has passed
)

// DigestMessage is the name of the message of a digest, which no sheet writes.
const DigestMessage = "digest"

// Earlier is what a pace remembers of an arrival that was told: when, and by which posts.
type Earlier struct {
	At    time.Time  `json:"at"`
	Posts []ToldPost `json:"posts"`
}

// ToldPost is one of its posts. Ref names it for the caller.
type ToldPost struct {
	To      string `json:"to"`
	Message string `json:"message"`
	Ref     string `json:"ref"`
	Gone    bool   `json:"gone,omitempty"` // it went in a digest, so there is no post of its own
}

// Window is a destination's span of a limit or a digest.
type Window struct {
	End   time.Time
	Posts int
}

// Waiting is what is held for one destination: a post with the replies in its thread.
type Waiting struct {
	Ref     string    `json:"ref"`           // of the post
	Key     string    `json:"key,omitempty"` // that it is repeated under
	Cause   string    `json:"cause"`
	At      time.Time `json:"at"` // of the arrival
	Row     string    `json:"row"`
	To      string    `json:"to"`
	Due     time.Time `json:"due"`
	Digest  bool      `json:"digest"`
	Post    Post      `json:"post"`
	Replies []Post    `json:"replies,omitempty"`
	Order   int64     `json:"order"` // given by the memory: what is held first comes first
	// Step is the entry of Follow that it comes of; such a post waits for the hours alone.
	Step string `json:"step,omitempty"`
}

// Memory is what the pace of one workflow remembers from arrival to arrival.
type Memory interface {
	// Told gives what was last told under a key.
	Told(key string) (Earlier, bool)
	SetTold(key string, t Earlier, until time.Time)
	Window(to string) (Window, bool)
	SetWindow(to string, w Window)
	// Held gives what is held by the ref of its post.
	Held(ref string) (Waiting, bool)
	// Hold adds what is to be held, or puts it in the place of what is held under its ref.
	Hold(w Waiting)
	// Due lists what is held up to a moment, by the moments, and in the order in which it was held.
	Due(upTo time.Time) []Waiting
	// Let takes away what is no longer held.
	Unhold(ref string)
}

// Later is what a pace tells at a moment of its own: what waited for opening hours, or a digest.
type Later struct {
	At     time.Time
	Causes []string // of the arrivals that it tells of
	// Gone are the refs of the posts that a digest tells of, which are none of their own from now on.
	Gone []string
	Outcome
}

// refOf names a post by what caused it and its number.
func refOf(cause string, n int) string { return fmt.Sprintf("%s-p%d", cause, n) }

// Paced makes of an outcome what the workflow's pace makes of it: at once, folded into what was told before, or held.
// Everything that is due up to the moment has to be let go before, by [LetGo].
func Paced(p *sheet.Plan, mem Memory, cause string, sc *formula.Scope, out Outcome) Outcome {
	if p.Pace == nil || out.Verdict != Told || len(out.Posts) == 0 {
		return out
	}
	withRefs(cause, out)
	for i := range out.Posts {
		if p.Pace.UsefulFor > 0 {
			out.Posts[i].Expires = sc.Now.Add(p.Pace.UsefulFor)
		}
	}
	key, err := repeatKey(p.Pace, p.Terms, sc)
	if err != nil {
		return failure("pace.repeat.key", err)
	}
	if key != "" {
		if t, ok := mem.Told(key); ok && !sc.Now.After(t.At.Add(p.Pace.Within)) {
			return fold(p.Pace, mem, key, t, cause, sc.Now, out)
		}
		t := Earlier{At: sc.Now}
		for _, post := range out.Posts {
			if post.Under < 0 {
				t.Posts = append(t.Posts, ToldPost{To: post.To, Message: post.Message, Ref: post.Ref})
			}
		}
		mem.SetTold(key, t, sc.Now.Add(p.Pace.Within))
	}
	return measure(p.Pace, mem, key, cause, sc.Now, out)
}

// repeatKey is "" where the arrival repeats nothing.
func repeatKey(pace *sheet.PlanPace, words *formula.Words, sc *formula.Scope) (string, error) {
	if pace.Key == nil {
		return "", nil
	}
	return pace.Key.Text(sc, words)
}

// fold makes a repeated arrival change, or reply to, what has been told of it before. A post for a destination that
// has not been told of it goes into the thread of none, and is dropped.
func fold(pace *sheet.PlanPace, mem Memory, key string, t Earlier, cause string, now time.Time, out Outcome) Outcome {
	o := Outcome{Verdict: Repeated, Row: out.Row, Failures: out.Failures, More: out.More}
	anew := false
	for _, post := range out.Posts {
		if post.Under >= 0 {
			continue // what hung under the first post hangs there already
		}
		for i := range t.Posts {
			earlier := &t.Posts[i]
			if earlier.To != post.To || earlier.Message != post.Message && len(t.Posts) > 1 {
				continue
			}
			anew = foldOne(pace, mem, &o, earlier, Waiting{Ref: post.Ref, Key: key, Cause: cause, At: now, Row: out.Row, To: post.To, Post: post}, now) || anew
			break
		}
	}
	if anew {
		mem.SetTold(key, t, t.At.Add(pace.Within))
	}
	return o
}

// foldOne folds one post into the one that was told earlier. It tells whether it stands in that one's place from now on.
func foldOne(pace *sheet.PlanPace, mem Memory, o *Outcome, earlier *ToldPost, w Waiting, now time.Time) (anew bool) {
	held, waits := mem.Held(earlier.Ref)
	switch {
	case waits && urgent(pace, w.Post): // what is urgent passes, and takes along what waits
		mem.Unhold(earlier.Ref)
		replies := held.Replies
		if pace.Then == sheet.FoldReply { // what was held goes as it is, and this under it
			w.Post.Under, w.Post.UnderRef = 0, earlier.Ref
			replies = append(slices.Clip(replies), w.Post)
		} else {
			held.Post.Doc, held.Post.Message, held.Post.Expires = w.Post.Doc, w.Post.Message, w.Post.Expires
		}
		o.Releases = append(o.Releases, Later{At: now, Causes: []string{held.Cause}, Outcome: Outcome{Verdict: Released, Row: held.Row, Posts: append([]Post{held.Post}, replies...)}})
	case pace.Then == sheet.FoldDrop:
	case earlier.Gone: // there is no post to change or to reply to: the newer text goes like any other, with the next digest
		earlier.Ref, earlier.Message, earlier.Gone = w.Ref, w.Post.Message, false
		if hold(pace, mem, &w, now) {
			mem.Hold(w)
		} else {
			o.Posts = append(o.Posts, w.Post)
		}
		return true
	case pace.Then == sheet.FoldUpdate && waits:
		held.Post.Doc, held.Post.Message = w.Post.Doc, w.Post.Message
		mem.Hold(held)
	case pace.Then == sheet.FoldUpdate:
		w.Post.Updates = earlier.Ref
		o.Posts = append(o.Posts, w.Post)
	case waits && held.Digest: // a digest has no threads: it is a line of its own
		w.Due, w.Digest, w.Key = held.Due, true, ""
		mem.Hold(w)
	case waits:
		w.Post.Under, w.Post.UnderRef = 0, earlier.Ref
		held.Replies = append(held.Replies, w.Post)
		mem.Hold(held)
	default:
		w.Post.UnderRef, w.Post.UnderMessage, w.Key = earlier.Ref, earlier.Message, ""
		if late(pace, w.Post, now) {
			untilOpen(pace, &w, now)
			mem.Hold(w)
			break
		}
		o.Posts = append(o.Posts, w.Post)
	}
	return false
}

// measure lets through what the hours and the limit allow, and holds the rest. A post takes its replies along.
func measure(pace *sheet.PlanPace, mem Memory, key, cause string, now time.Time, out Outcome) Outcome {
	place := make([]int, len(out.Posts)) // where a post stands among those let through; -1 for held
	posts := out.Posts
	out.Posts = nil
	for i, post := range posts {
		if post.Under >= 0 {
			place[i] = place[post.Under]
			if place[i] >= 0 {
				post.Under = place[i]
				out.Posts = append(out.Posts, post)
			}
			continue
		}
		w := Waiting{Ref: post.Ref, Key: key, Cause: cause, At: now, Row: out.Row, To: post.To, Post: post}
		for _, r := range posts[i+1:] {
			if r.Under == i {
				r.Under = 0
				w.Replies = append(w.Replies, r)
			}
		}
		if hold(pace, mem, &w, now) {
			place[i] = -1
			mem.Hold(w)
			continue
		}
		place[i] = len(out.Posts)
		out.Posts = append(out.Posts, post)
	}
	if len(out.Posts) == 0 {
		out.Verdict = Held
	}
	return out
}

// hold tells whether a post has to wait, and until when. What goes in a digest waits for that alone, which keeps to the
// hours itself.
func hold(pace *sheet.PlanPace, mem Memory, w *Waiting, now time.Time) bool {
	switch {
	case urgent(pace, w.Post):
		return false
	case !pace.Digest && late(pace, w.Post, now):
		untilOpen(pace, w, now)
		return true
	}
	return full(pace, mem, w, now)
}

// untilOpen has a post wait for the hours. It could not have gone before, so its use is counted from then.
func untilOpen(pace *sheet.PlanPace, w *Waiting, now time.Time) {
	w.Due, _ = pace.Open.NextOpen(now)
	if pace.UsefulFor > 0 {
		w.Post.Expires = w.Due.Add(pace.UsefulFor)
		for i := range w.Replies {
			w.Replies[i].Expires = w.Post.Expires
		}
	}
}

func urgent(pace *sheet.PlanPace, post Post) bool { return pace.Urgent && post.Doc.Tone == "urgent" }

// late tells whether a post comes outside the hours and has to wait for them.
func late(pace *sheet.PlanPace, post Post, now time.Time) bool {
	return !urgent(pace, post) && !pace.Open.Open(now)
}

// full tells whether the destination has had its posts, so that the rest waits for a digest.
func full(pace *sheet.PlanPace, mem Memory, w *Waiting, now time.Time) bool {
	if pace.Posts == 0 && !pace.Digest || w.Post.UnderRef != "" { // a reply stays with its post
		return false
	}
	win, ok := mem.Window(w.To)
	if !ok || !now.Before(win.End) {
		win = Window{End: windowEnd(pace, now)}
	}
	if !pace.Digest && win.Posts < pace.Posts {
		win.Posts++
		mem.SetWindow(w.To, win)
		return false
	}
	mem.SetWindow(w.To, win)
	w.Digest, w.Due = true, opened(pace, win.End) // a digest does not come outside the hours either
	return true
}

// windowEnd is when a window ends that begins at a moment: that of a limit by its span, that of a digest when the digest
// comes, at the first moment of the hours from its time on.
func windowEnd(pace *sheet.PlanPace, from time.Time) time.Time {
	switch {
	case pace.Posts > 0:
		return from.Add(pace.Per)
	case pace.Every > 0:
		return opened(pace, from.Add(pace.Every))
	}
	// A digest whose time has passed while nothing was open is still to come.
	for at := pace.DigestAt(from.Add(-8 * 24 * time.Hour)); !at.IsZero() && !at.After(from); {
		if opens := opened(pace, at); opens.After(from) {
			return opens
		}
		next := pace.DigestAt(at)
		if !next.After(at) {
			break
		}
		at = next
	}
	return opened(pace, pace.DigestAt(from))
}

func opened(pace *sheet.PlanPace, at time.Time) time.Time {
	if open, ok := pace.Open.NextOpen(at); ok {
		return open
	}
	return at
}

package decide

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
)

// Kept is a post that follows its record.
type Kept struct {
	Ref     string              `json:"ref"`  // of the post
	Key     string              `json:"key"`  // of the record
	Path    string              `json:"path"` // of the tell on the sheet
	Message string              `json:"message"`
	To      string              `json:"to"`
	Cc      string              `json:"cc,omitempty"`
	Bcc     string              `json:"bcc,omitempty"`
	At      time.Time           `json:"at"`   // when the post was made
	Ends    time.Time           `json:"ends"` // after which it is left as it is
	Sum     string              `json:"sum"`  // of the document as it was told last
	Answers map[string]Answered `json:"answers,omitempty"`
}

// withRefs gives the posts of an outcome their refs.
func withRefs(cause string, out Outcome) {
	for i := range out.Posts {
		if out.Posts[i].Ref == "" {
			out.Posts[i].Ref = refOf(cause, i)
		}
	}
}

// KeepUp names the posts of an outcome, and lists those that follow their record from now on. It is to be called before
// [Paced]; where the pace folds the outcome into what was told before, nothing is kept up.
func KeepUp(p *sheet.Plan, cause, key string, sc *formula.Scope, out Outcome) []Kept {
	withRefs(cause, out)
	if key == "" || out.Verdict != Told {
		return nil
	}
	var kept []Kept
	for _, post := range out.Posts {
		if post.tell == nil || post.tell.KeepUp == nil || post.Under >= 0 || post.tell.KeepUp.Until.Eval(sc) == cond.True {
			continue
		}
		kept = append(kept, Kept{Ref: post.Ref, Key: key, Path: post.tell.Path, Message: post.Message, To: post.To, Cc: post.Cc, Bcc: post.Bcc,
			At: sc.Now, Ends: sc.Now.Add(post.tell.KeepUp.For), Sum: sumOf(post.Doc), Answers: out.Answers})
	}
	return kept
}

func sumOf(d *message.Document) string {
	raw, _ := json.Marshal(d)
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:16])
}

// Conclude makes of an outcome what keeping up and the pace make of it, and names what follows its record from now on. following
// is true where an earlier post follows the record still: then that one is edited, by [Follow], and there is no second. mem may be
// nil where the workflow has no pace.
func Conclude(p *sheet.Plan, mem Memory, following bool, cause, key string, sc *formula.Scope, out Outcome) (Outcome, []Kept) {
	if following && (out.Verdict == Told || out.Verdict == Asked) {
		return Outcome{Verdict: Repeated, Row: out.Row, Answers: out.Answers, Reply: out.Reply}, nil
	}
	if out.Verdict != Told {
		return out, nil
	}
	kept, told := KeepUp(p, cause, key, sc, out), out
	if p.Pace != nil {
		out = Paced(p, mem, cause, sc, out)
		out.Answers, out.Reply = told.Answers, told.Reply
	}
	if out.Verdict != Told && out.Verdict != Held {
		return out, nil
	}
	return out, kept
}

// Following tells whether any of what has been told of a record follows it still at a moment.
func Following(kept []Kept, at time.Time) bool {
	return slices.ContainsFunc(kept, func(k Kept) bool { return !at.After(k.Ends) })
}

// Followed is what comes of posts that follow one record, after something has come of it.
type Followed struct {
	Posts    []Post    // the edits, and posts for items of a list that are new
	Fresh    []Post    // the latter alone, also those that are held
	Left     []Kept    // what is kept up still
	Failures []Failure // what could not be made anew; those posts are left as they are for now
}

// After gives the posts behind those that the arrival itself makes.
func (f Followed) After(first []Post) []Post {
	posts := slices.Clone(f.Posts)
	for i := range posts {
		if posts[i].Under >= 0 {
			posts[i].Under += len(first)
		}
	}
	return slices.Concat(first, posts)
}

// following makes the posts that follow one record anew, after something has come of it.
type following struct {
	p       *sheet.Plan
	mem     Memory // nil where the workflow has no pace
	sc      *formula.Scope
	cause   string
	removed bool
	out     Followed
}

// Follow makes what has been told of a record anew, of the record as it is on a scope. cause is what something has come of it by;
// removed is true where the record is gone: it is as it last was then, and this is the last edit. mem may be nil where the workflow
// has no pace.
func Follow(p *sheet.Plan, mem Memory, kept []Kept, cause string, sc *formula.Scope, removed bool) Followed {
	f := following{p: p, mem: mem, sc: sc, cause: cause, removed: removed}
	failed, err := gather(p, sc)
	lists := map[string][]Kept{} // of tells with each, by their paths
	var paths []string
	for _, k := range kept {
		t := tellAt(p, k.Path)
		if t == nil || t.KeepUp == nil || t.Message == nil || sc.Now.After(k.Ends) {
			continue
		}
		if err != nil {
			f.out.Failures = append(f.out.Failures, Failure{failed.Path, err.Error()})
			f.out.Left = append(f.out.Left, k)
			continue
		}
		if t.Each != nil {
			if lists[k.Path] == nil {
				paths = append(paths, k.Path)
			}
			lists[k.Path] = append(lists[k.Path], k)
			continue
		}
		know(p, sc, k.Answers)
		f.one(t, k, sc)
	}
	for nth, path := range paths {
		know(p, sc, lists[path][0].Answers)
		f.each(nth, tellAt(p, path), lists[path])
	}
	return f.out
}

// over tells whether this is the last edit of a tell's posts.
func (f *following) over(t *sheet.PlanTell) bool {
	return f.removed || t.KeepUp.Until.Eval(f.sc) == cond.True
}

// one makes a post anew, of what is on a scope.
func (f *following) one(t *sheet.PlanTell, k Kept, sc *formula.Scope) {
	done := f.over(t)
	doc, err := t.Message.Fill(sc)
	if f.removed && t.Message.Copies() {
		doc, err = message.TakenBack(), nil
	}
	if err != nil && !done {
		if !errors.Is(err, message.ErrSkip) {
			f.out.Failures = append(f.out.Failures, Failure{"messages." + k.Message, err.Error()})
		}
		f.out.Left = append(f.out.Left, k)
		return
	}
	if err != nil { // it is over, and there is nothing that could be said of it
		return
	}
	connection, _, _ := strings.Cut(k.To, "/")
	doc = doc.For(connection)
	sum := sumOf(doc)
	if f.mem != nil {
		if w, held := f.mem.Held(k.Ref); held { // it is changed where it waits
			if sum != k.Sum {
				w.Post.Doc = doc
				f.mem.Hold(w)
			}
			if k.Sum = sum; !done {
				f.out.Left = append(f.out.Left, k)
			}
			return
		}
	}
	if rule, _ := ruleOf(f.p, connection); rule.Any || slices.Contains(rule.Can, "edit") {
		if sum != k.Sum {
			f.out.Posts = append(f.out.Posts, Post{To: k.To, Cc: k.Cc, Bcc: k.Bcc, Message: k.Message, Doc: doc, Under: -1, Done: done, Updates: k.Ref, Edits: k.At})
		}
		k.Sum = sum
	} else if done && sum != k.Sum { // what is told once is told of what has changed since the post went
		f.out.Posts = append(f.out.Posts, Post{To: k.To, Cc: k.Cc, Bcc: k.Bcc, Message: k.Message, Doc: doc, Under: -1, Done: done, UnderRef: k.Ref, UnderMessage: k.Message})
	}
	if !done {
		f.out.Left = append(f.out.Left, k)
	}
}

// each has the posts of a list follow its items, each by its address: one that is still there is made anew, one that is new gets a
// post, and of one that went stays what was told.
func (f *following) each(nth int, t *sheet.PlanTell, kept []Kept) {
	list, err := t.Each.List(f.sc)
	if err != nil {
		f.out.Failures = append(f.out.Failures, Failure{t.Path + ".each", err.Error()})
		f.out.Left = append(f.out.Left, kept...)
		return
	}
	var fresh []Post
	told := 0
	for n, it := range list {
		var one Outcome
		own := f.p.Terms.With(f.sc, it)
		r, some := whom(f.p, &one, t, own, fmt.Sprintf("item %d: ", n+1))
		still := slices.IndexFunc(kept, func(k Kept) bool { return some && k.To == r.to })
		switch {
		case still >= 0:
			f.one(t, kept[still], own)
			kept = slices.Delete(slices.Clone(kept), still, still+1)
			told++
		case some && told < t.Most && !f.over(t):
			if _, ok := tellOne(&one, t, r, own); !ok { // the message cannot be made of it, which is that item's alone
				one = Outcome{Failures: []Failure{{one.Where, one.Error}}}
			}
			if len(one.Posts) > 0 {
				told++
			}
			fresh = Followed{Posts: one.Posts}.After(fresh)
		}
		f.out.Failures = append(f.out.Failures, one.Failures...)
	}
	for _, k := range kept { // of items that went
		switch done := f.over(t); {
		case f.removed && t.Message.Copies():
			f.one(t, k, f.sc)
		case !done:
			f.out.Left = append(f.out.Left, k)
		}
	}
	f.begin(nth, fresh)
}

// begin tells items that are new; those posts follow the record, too.
func (f *following) begin(nth int, posts []Post) {
	if len(posts) == 0 {
		return
	}
	fresh := Outcome{Verdict: Told, Posts: posts}
	out := Quieted(f.p, f.mem, f.cause, fmt.Sprintf("n%d", nth), f.sc.Now, fresh)
	f.out.Fresh = Followed{Posts: fresh.Posts}.After(f.out.Fresh)
	f.out.Left = append(f.out.Left, KeepUp(f.p, f.cause, f.sc.Subject, f.sc, fresh)...)
	f.out.Posts = Followed{Posts: out.Posts}.After(f.out.Posts)
}

func tellAt(p *sheet.Plan, path string) *sheet.PlanTell {
	var found *sheet.PlanTell
	p.EachTell(func(t *sheet.PlanTell) {
		if t.Path == path {
			found = t
		}
	})
	return found
}

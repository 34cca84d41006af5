package decide

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
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
	Posts    []Post    // the edits
	Left     []Kept    // what is kept up still
	Failures []Failure // what could not be made anew; those posts are left as they are for now
}

// Follow makes what has been told of a record anew, of the record as it is on a scope. removed is true where the record is gone:
// it is as it last was then, and this is the last edit. mem may be nil where the workflow has no pace.
func Follow(p *sheet.Plan, mem Memory, kept []Kept, sc *formula.Scope, removed bool) Followed {
	var out Followed
	failed, err := gather(p, sc)
	for _, k := range kept {
		t := tellAt(p, k.Path)
		if t == nil || t.KeepUp == nil || t.Message == nil || sc.Now.After(k.Ends) {
			continue
		}
		if err != nil {
			out.Failures = append(out.Failures, Failure{failed.Path, err.Error()})
			out.Left = append(out.Left, k)
			continue
		}
		know(p, sc, k.Answers)
		done := removed || t.KeepUp.Until.Eval(sc) == cond.True
		doc, fillErr := t.Message.Fill(sc)
		if fillErr != nil && !done {
			if !errors.Is(fillErr, message.ErrSkip) {
				out.Failures = append(out.Failures, Failure{"messages." + k.Message, fillErr.Error()})
			}
			out.Left = append(out.Left, k)
			continue
		}
		if fillErr != nil { // it is over, and there is nothing that could be said of it
			continue
		}
		connection, _, _ := strings.Cut(k.To, "/")
		doc = doc.For(connection)
		sum := sumOf(doc)
		post := Post{To: k.To, Cc: k.Cc, Bcc: k.Bcc, Message: k.Message, Doc: doc, Under: -1, Done: done}
		if mem != nil {
			if w, held := mem.Held(k.Ref); held { // it is changed where it waits
				if sum != k.Sum {
					w.Post.Doc = doc
					mem.Hold(w)
				}
				if k.Sum = sum; !done {
					out.Left = append(out.Left, k)
				}
				continue
			}
		}
		rule, _ := ruleOf(p, connection)
		switch edits := rule.Any || slices.Contains(rule.Can, "edit"); {
		case edits && (sum != k.Sum || done):
			post.Updates, post.Edits = k.Ref, k.At
			out.Posts = append(out.Posts, post)
		case !edits && done:
			post.UnderRef, post.UnderMessage = k.Ref, k.Message
			out.Posts = append(out.Posts, post)
		}
		if k.Sum = sum; !done {
			out.Left = append(out.Left, k)
		}
	}
	return out
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

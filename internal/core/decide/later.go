package decide

import (
	"fmt"
	"sort"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
)

// LetGo tells what has waited long enough by a moment. It is to be called before anything is decided at that moment,
// and when the moment has come.
func LetGo(p *sheet.Plan, mem Memory, upTo time.Time) []Later {
	if p.Pace == nil {
		return nil
	}
	var out []Later
	for {
		due := mem.Due(upTo)
		if len(due) == 0 {
			return out
		}
		// One moment after the other: what is released at one may fill the window that ends at the next.
		at := due[0].Due
		n := sort.Search(len(due), func(i int) bool { return due[i].Due.After(at) })
		out = append(out, letGoAt(p, mem, at, due[:n])...)
	}
}

func letGoAt(p *sheet.Plan, mem Memory, at time.Time, due []Waiting) []Later {
	var out []Later
	digests, gone := map[string][]Waiting{}, map[string][]string{}
	var order []string
	for _, w := range due {
		mem.Unhold(w.Ref)
		if w.Digest {
			if digests[w.To] == nil {
				order = append(order, w.To)
			}
			digests[w.To] = append(digests[w.To], w)
			for _, r := range w.Replies {
				if r.UnderRef != "" { // a repeat, which a digest tells on a line of its own; details in a thread it does not
					digests[w.To] = append(digests[w.To], Waiting{Cause: w.Cause, At: w.At, Row: w.Row, To: w.To, Post: r})
				}
			}
			wentInDigest(p.Pace, mem, w)
			gone[w.To] = append(gone[w.To], w.Ref)
			continue
		}
		again := w
		again.Digest = false
		if w.Step == "" && full(p.Pace, mem, &again, at) {
			mem.Hold(again)
			continue
		}
		posts := append([]Post{w.Post}, w.Replies...)
		if n := len(out) - 1; n >= 0 && out[n].Causes[0] == w.Cause && out[n].Step == w.Step { // one arrival's posts to several destinations
			for i := range posts {
				if posts[i].Under >= 0 {
					posts[i].Under += len(out[n].Posts)
				}
			}
			out[n].Posts = append(out[n].Posts, posts...)
			continue
		}
		out = append(out, Later{At: at, Causes: []string{w.Cause}, Outcome: Outcome{Verdict: Released, Row: w.Row, Step: w.Step, Posts: posts}})
	}
	for _, to := range order {
		digest := digestOf(p, at, to, digests[to])
		digest.Gone = gone[to]
		out = append(out, digest)
	}
	return out
}

// wentInDigest remembers of what is told in a digest that it has no post of its own.
func wentInDigest(pace *sheet.PlanPace, mem Memory, w Waiting) {
	if w.Key == "" {
		return
	}
	t, ok := mem.Told(w.Key)
	for i := range t.Posts {
		if ok && t.Posts[i].Ref == w.Ref {
			t.Posts[i].Gone = true
			mem.SetTold(w.Key, t, t.At.Add(pace.Within))
			return
		}
	}
}

// The most lines that a digest spells out.
const digestLines = 40

// digestOf makes one post of many. Its tone is the gravest of theirs.
func digestOf(p *sheet.Plan, at time.Time, to string, list []Waiting) Later {
	later := Later{At: at, Outcome: Outcome{Verdict: Digested, Row: list[0].Row}}
	doc := &message.Document{Tone: list[0].Post.Doc.Tone, Facts: []message.Fact{}}
	block := message.Block{Kind: message.ListBlock}
	known := map[string]bool{}
	for i, w := range list {
		if !known[w.Cause] {
			known[w.Cause] = true
			later.Causes = append(later.Causes, w.Cause)
		}
		if graver(w.Post.Doc.Tone, doc.Tone) {
			doc.Tone = w.Post.Doc.Tone
		}
		if i < digestLines {
			block.Items = append(block.Items, []message.Block{{Kind: message.Paragraph, Inlines: digestLine(w.Post.Doc)}})
		}
	}
	noun := "messages"
	if len(list) == 1 {
		noun = "message"
	}
	doc.Title = fmt.Sprintf("%s: %d %s", p.Name, len(list), noun)
	if !p.Pace.Digest {
		doc.Title = fmt.Sprintf("%s: %d more %s", p.Name, len(list), noun)
	}
	doc.Body = []message.Block{block}
	if more := len(list) - digestLines; more > 0 {
		doc.Body = append(doc.Body, message.TextBlock(fmt.Sprintf("and %d more", more)))
	}
	post := Post{To: to, Message: DigestMessage, Doc: doc, Under: -1, Ref: list[0].Ref + "-digest"}
	if p.Pace.UsefulFor > 0 {
		post.Expires = at.Add(p.Pace.UsefulFor)
	}
	later.Posts = []Post{post}
	return later
}

// digestLine is one message on one line: its title, or else what it says, linked to where the message leads.
func digestLine(d *message.Document) []message.Inline {
	text := d.Title
	if text == "" {
		text = formula.Shorten(d.Plain(), 120)
	}
	line := []message.Inline{{Kind: message.Text, Text: text}}
	if d.Link != nil && d.Link.To != "" {
		line = []message.Inline{{Kind: message.Anchor, To: d.Link.To, Subs: line}}
	}
	return line
}

func graver(a, b string) bool {
	rank := func(t string) int {
		for i, known := range message.Tones {
			if t == known {
				return i
			}
		}
		return 0
	}
	return rank(a) > rank(b)
}

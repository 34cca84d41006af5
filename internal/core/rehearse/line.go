// Package rehearse runs a sheet over past arrivals with a virtual clock. Nothing is sent.
package rehearse

import (
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
)

// Line is one line of a rehearsal's outcomes, as formats.md describes it.
type Line struct {
	Arrival string // the arrival's id; of a tick, the record's key
	Tick    string // due, lasts, silent or schedule, where a timer or the calendar caused the line
	At      time.Time
	// Later is true where the line tells of what was held before: Arrivals are those that it tells of.
	Later    bool
	Arrivals []string
	decide.Outcome
}

// AppendJSON writes the line as JSON, without a line end.
func (l Line) AppendJSON(b []byte) []byte {
	str := func(name, s string) {
		b = append(b, name...)
		b = value.AppendJSON(b, s)
	}
	moment := l.At // an arrival's as it was written
	if l.Tick != "" || l.Later {
		moment = moment.UTC() // as most arrivals are written, so that lines sort and compare as text
	}
	at := moment.Format(time.RFC3339Nano)
	str(`{"arrival":`, l.Arrival)
	if l.Tick != "" {
		str(`,"tick":`, l.Tick)
		str(`,"key":`, l.Arrival)
	}
	if len(l.Arrivals) > 1 {
		b = append(b, `,"arrivals":[`...)
		for i, id := range l.Arrivals {
			if i > 0 {
				b = append(b, ',')
			}
			b = value.AppendJSON(b, id)
		}
		b = append(b, ']')
	}
	str(`,"at":`, at)
	str(`,"verdict":`, string(l.Verdict))
	if l.Step != "" {
		str(`,"step":`, l.Step)
	}
	if l.Ask != "" {
		str(`,"ask":`, l.Ask)
	}
	if l.Row != "" {
		str(`,"row":`, l.Row)
	}
	if l.DecidedBy != "" {
		str(`,"decided_by":`, l.DecidedBy)
	}
	if len(l.Answers) > 0 && l.Verdict != decide.Asked {
		b = append(b, `,"answers":`...)
		answers := map[string]any{}
		for name, a := range l.Answers {
			answers[name] = a.JSON()
		}
		b = value.AppendJSON(b, answers)
	}
	if l.Where != "" {
		str(`,"where":`, l.Where)
		str(`,"error":`, l.Error)
	}
	if len(l.Failures) > 0 {
		b = append(b, `,"failures":`...)
		b = value.AppendJSON(b, failuresOf(l.Failures))
	}
	if l.More > 0 {
		b = append(b, `,"more":`...)
		b = value.AppendJSON(b, float64(l.More))
	}
	if l.Reply != nil {
		b = append(b, `,"answer":`...)
		b = value.AppendJSON(b, map[string]any{"status": float64(l.Reply.Status), "body": l.Reply.Body})
	}
	b = append(b, `,"posts":[`...)
	for i, p := range l.Posts {
		if i > 0 {
			b = append(b, ',')
		}
		str(`{"to":`, p.To)
		if p.Cc != "" {
			str(`,"cc":`, p.Cc)
		}
		if p.Bcc != "" {
			str(`,"bcc":`, p.Bcc)
		}
		str(`,"at":`, at)
		str(`,"message":`, p.Message)
		str(`,"tone":`, p.Doc.Tone)
		str(`,"title":`, p.Doc.Title)
		str(`,"plain":`, p.Doc.Plain())
		b = append(b, `,"facts":[`...)
		for j, f := range p.Doc.Facts {
			if j > 0 {
				b = append(b, ',')
			}
			b = value.AppendJSON(b, []any{f.Label, f.Value})
		}
		b = append(b, `],"link":`...)
		if p.Doc.Link != nil {
			b = value.AppendJSON(b, p.Doc.Link.To)
		} else {
			b = append(b, "null"...)
		}
		b = append(b, `,"under":`...)
		switch {
		case p.Under >= 0:
			b = value.AppendJSON(b, l.Posts[p.Under].Message)
		case p.UnderRef != "":
			b = value.AppendJSON(b, p.UnderMessage)
		default:
			b = append(b, "null"...)
		}
		b = appendParts(b, p.Doc)
		if !p.Edits.IsZero() {
			str(`,"edits":`, p.Edits.Format(time.RFC3339Nano))
		}
		if p.Done {
			b = append(b, `,"done":true`...)
		}
		if p.Updates != "" && p.Edits.IsZero() { // an earlier post is put up to date in its place
			b = append(b, `,"updates":true`...)
		}
		b = append(b, '}')
	}
	b = append(b, ']')
	if len(l.Steps) > 0 && (l.Verdict == decide.Told || l.Verdict == decide.Held) {
		b = append(b, `,"follow":`...)
		b = value.AppendJSON(b, stepsOf(l.Steps))
	}
	return append(b, '}')
}

func failuresOf(list []decide.Failure) []any {
	out := make([]any, len(list))
	for i, f := range list {
		out[i] = map[string]any{"where": f.Where, "error": f.Error}
	}
	return out
}

// appendParts writes the parts of a message beyond its text, each only where it is set.
func appendParts(b []byte, d *message.Document) []byte {
	part := func(name string, v any) {
		b = append(b, `,"`+name+`":`...)
		b = value.AppendJSON(b, v)
	}
	if len(d.Links) > 0 {
		var links []any
		for _, l := range d.AllLinks() {
			if l.Share != nil {
				fields := make([]any, len(l.Share.Fields))
				for i, f := range l.Share.Fields {
					fields[i] = f.Path
				}
				links = append(links, map[string]any{"text": l.Text, "share": fields})
				continue
			}
			links = append(links, map[string]any{"text": l.Text, "to": l.To})
		}
		part("links", links)
	}
	if d.Sender != nil {
		sender := map[string]any{}
		if d.Sender.Name != "" {
			sender["name"] = d.Sender.Name
		}
		if d.Sender.Picture != "" {
			sender["picture"] = d.Sender.Picture
		}
		part("sender", sender)
	}
	if d.Picture != nil {
		part("picture", map[string]any{"text": d.Picture.Text})
	}
	if len(d.Attach) > 0 {
		var names []any
		for _, f := range d.Attach {
			names = append(names, f.Name)
		}
		part("attach", names)
	}
	if len(d.Buttons) > 0 {
		buttons := make([]any, len(d.Buttons))
		for i, x := range d.Buttons {
			buttons[i] = map[string]any{"text": x.Text, "does": x.Does}
		}
		part("buttons", buttons)
	}
	if len(d.Mentions) > 0 {
		var names []any
		for _, m := range d.Mentions {
			names = append(names, m.Name)
		}
		part("mentions", names)
	}
	return b
}

// stepsOf says what would follow on the posts.
func stepsOf(steps []decide.Step) []any {
	var out []any
	for _, s := range steps {
		for _, set := range s.Many {
			out = append(out, map[string]any{"name": s.Name, "does": s.How, "target": s.Target, "set": set})
		}
		if len(s.Many) > 0 {
			continue
		}
		step := map[string]any{"name": s.Name, "does": s.How, "target": s.Target, "set": s.Set}
		if s.Key != "" {
			step["key"] = s.Key
		}
		if s.Error != "" {
			step["error"] = s.Error
		}
		out = append(out, step)
	}
	return out
}

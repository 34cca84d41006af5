package decide

import (
	"fmt"
	"net/url"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/summary"
	"dorfbote/internal/core/value"
)

// gatherFailed is what becomes of an arrival for which something could not be gathered: it fails, or another branch
// tells of it. That branch's route is called after what failed.
func gatherFailed(p *sheet.Plan, g *sheet.PlanGather, sc *formula.Scope, err error) Outcome {
	if g.Tell == nil {
		return failure(g.Path, err)
	}
	out := Outcome{Verdict: Told, Row: g.Name + " failed"}
	if !compose(p, &out, g.Tell.Tell, sc) {
		return out
	}
	if len(out.Posts) == 0 && len(out.Failures) > 0 {
		return failure(g.Path, err)
	}
	out.Where, out.Error = g.Path, err.Error()
	return out
}

// summarise shortens the texts of some fields.
func summarise(s *sheet.PlanSummary, words *formula.Words, sc *formula.Scope) (any, error) {
	var parts []string
	for _, t := range s.Of {
		text, err := t.Text(sc, words)
		if err != nil {
			return nil, err
		}
		if text = strings.TrimSpace(text); text != "" {
			parts = append(parts, text)
		}
	}
	if len(parts) == 0 {
		return nil, nil
	}
	return summary.Of(strings.Join(parts, "\n"), s.Words), nil
}

// ask calls a service and reads its answer.
func ask(h *sheet.PlanHTTP, words *formula.Words, sc *formula.Scope) (any, error) {
	if sc.Outside == nil {
		return nil, errNoOutside
	}
	req := formula.Request{Method: h.Method}
	var b strings.Builder
	for _, p := range h.URL.Parts() {
		if p.Formula == nil {
			b.WriteString(p.Text)
			continue
		}
		v, err := p.Formula.Run(sc)
		if err != nil {
			return nil, err
		}
		// A value is one piece of the address: it can neither end the path nor begin another part.
		b.WriteString(strings.ReplaceAll(url.QueryEscape(words.Show(v)), "+", "%20"))
	}
	req.URL = b.String()
	for _, x := range h.Headers {
		v, err := x.Value.Text(sc, words)
		if err != nil {
			return nil, err
		}
		req.Headers = append(req.Headers, [2]string{x.Name, strings.NewReplacer("\r", " ", "\n", " ").Replace(v)})
	}
	if h.Body != nil {
		v, err := fillBody(h.Body, words, sc)
		if err != nil {
			return nil, err
		}
		req.Body = value.AppendJSON(nil, v)
	}
	res, err := sc.Outside.Fetch(req)
	if err != nil {
		return nil, err
	}
	return readAnswer(h, res)
}

func readAnswer(h *sheet.PlanHTTP, res formula.Answer) (any, error) {
	text := strings.TrimSpace(string(res.Body))
	if res.Status < 200 || res.Status > 299 {
		return nil, fmt.Errorf("the service answered %d: %s", res.Status, formula.Shorten(text, 200))
	}
	var v any = text
	if strings.Contains(res.Media, "json") || strings.HasPrefix(text, "{") || strings.HasPrefix(text, "[") {
		read, err := value.ReadJSON(res.Body)
		if err != nil && strings.Contains(res.Media, "json") {
			return nil, fmt.Errorf("the answer is no JSON: %w", err)
		}
		if err == nil {
			v = read
		}
	}
	if h.Pick == nil {
		return v, nil
	}
	switch found := h.Pick.Get(v); len(found) {
	case 0:
		return nil, nil
	case 1:
		return found[0], nil
	default:
		return found, nil
	}
}

// fillBody fills a body's texts in. A text that is one formula gives that formula's value, with its type.
func fillBody(b *sheet.PlanBody, words *formula.Words, sc *formula.Scope) (any, error) {
	switch {
	case b.Text != nil:
		if f := b.Text.Whole(); f != nil {
			v, err := f.Run(sc)
			return f.Plain(v), err
		}
		return b.Text.Text(sc, words)
	case b.List != nil:
		out := make([]any, len(b.List))
		for i, e := range b.List {
			v, err := fillBody(e, words, sc)
			if err != nil {
				return nil, err
			}
			out[i] = v
		}
		return out, nil
	case b.Map != nil:
		out := make(map[string]any, len(b.Map))
		for _, e := range b.Map {
			v, err := fillBody(e.Value, words, sc)
			if err != nil {
				return nil, err
			}
			out[e.Name] = v
		}
		return out, nil
	}
	return b.Raw, nil
}

// Package form is Dorfbote's own hosted form: its questions, and what people answer.
package form

import (
	"encoding/json"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Kind describes forms.
func Kind() *connect.Kind {
	return &connect.Kind{
		Reads: connect.ReadsCalled, Door: connect.DoorForm, Schema: schema,
		Name: "form", Title: "Form", Does: "Asks people a few questions on a page of its own; each set of answers is a record, and can be mended by its link",
		Source: []connect.Setting{
			{Name: "title", Label: "Title", Type: "text", Required: true},
			{Name: "intro", Label: "Introduction", Type: "long"},
			{Name: "thanks", Label: "Said afterwards", Type: "long"},
			{Name: "limit", Label: "Answers an hour from one address", Type: "number", Default: "10", More: true},
			{Name: "closed", Label: "Closed", Type: "yes/no", More: true},
			{Name: "fields", Label: "Questions", Type: "questions"},
		},
		Single: "answers", Key: "id", Appends: true,
	}
}

// Types are the types of questions a form may ask.
var Types = []value.Type{value.Text, "long text", "email", value.Num, sheet.WholeNumber, value.YesNo, value.Date, value.Moment, value.Choice, value.Choices, value.Link}

// Limits of a form and of what is answered.
const (
	maxQuestions = 60
	maxAnswer    = 10_000
)

// Read reads a form's questions as they are stored, and checks them.
func Read(text string) ([]sheet.Question, error) {
	var list []sheet.Question
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	if err := json.Unmarshal([]byte(text), &list); err != nil {
		return nil, fmt.Errorf("the questions cannot be read: %w", err)
	}
	if len(list) > maxQuestions {
		return nil, fmt.Errorf("a form has at most %d questions", maxQuestions)
	}
	seen := map[string]bool{"id": true}
	for i := range list {
		q := &list[i]
		known := false
		for _, t := range Types {
			known = known || t == q.Type
		}
		switch {
		case strings.TrimSpace(q.Label) == "":
			return nil, fmt.Errorf("question %d has no text", i+1)
		case q.Name == "":
			q.Name = nameFrom(q.Label)
		}
		switch {
		case seen[q.Name]:
			return nil, fmt.Errorf("two questions are called %s", q.Name)
		case !known:
			return nil, fmt.Errorf("there is no type %q for the question %q", q.Type, q.Label)
		case (q.Type == value.Choice || q.Type == value.Choices) && len(q.Options) == 0:
			return nil, fmt.Errorf("the question %q has no choices", q.Label)
		}
		seen[q.Name] = true
	}
	return list, nil
}

// nameFrom makes a field's name of a question.
func nameFrom(label string) string {
	s := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '_'
	}, label), "_")
	for strings.Contains(s, "__") {
		s = strings.ReplaceAll(s, "__", "_")
	}
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		s = "q_" + s
	}
	return s[:min(len(s), 40)]
}

// Answers makes a record of what was sent, or says by question what is wrong.
func Answers(questions []sheet.Question, sent url.Values, zone *time.Location) (record map[string]any, wrong map[string]string) {
	record, wrong = map[string]any{}, map[string]string{}
	for _, q := range questions {
		v, problem := answer(q, sent[q.Name], zone)
		if problem == "" && q.Required && (value.Empty(v) || v == false) {
			problem = "Please answer this."
		}
		if problem != "" {
			wrong[q.Name] = problem
		} else if v != nil {
			record[q.Name] = v
		}
	}
	return record, wrong
}

func answer(q sheet.Question, sent []string, zone *time.Location) (any, string) {
	first := ""
	if len(sent) > 0 {
		first = strings.ReplaceAll(strings.TrimSpace(strings.ReplaceAll(sent[0], "\r\n", "\n")), "\x00", "")
	}
	if len(first) > maxAnswer || !utf8.ValidString(first) {
		return nil, "This is too long, or no text."
	}
	if q.Type == value.Choices {
		var list []any
		for _, s := range sent {
			if !has(q.Options, s) {
				return nil, "Please choose from the list."
			}
			list = append(list, s)
		}
		if list == nil {
			return nil, ""
		}
		return list, ""
	}
	if q.Type == value.YesNo {
		return first != "" && first != "no", ""
	}
	if first == "" {
		return nil, ""
	}
	switch q.Type {
	case value.Num, sheet.WholeNumber:
		n, ok := value.ReadNumber(first, value.Workspace{Locale: "en", Zone: zone})
		switch {
		case q.Type == sheet.WholeNumber && (!ok || !n.Whole()):
			return nil, "Please write a whole number, such as 3."
		case !ok:
			return nil, "Please write a number."
		}
		if n.Exact != "" {
			return n.Exact, ""
		}
		return n.Float, ""
	case value.Date, value.Moment:
		at, _, ok := value.ReadMoment(first, zone)
		if !ok {
			return nil, "Please write a date, such as 2026-11-20."
		}
		if q.Type == value.Date {
			return at.Format("2006-01-02"), ""
		}
		return at.Format(time.RFC3339), ""
	case value.Choice:
		if !has(q.Options, first) {
			return nil, "Please choose from the list."
		}
	case "email":
		if a, err := mail.ParseAddress(first); err != nil || a.Address != first {
			return nil, "Please write an address, such as a.person@example.org."
		}
	case value.Link:
		if u, err := url.Parse(first); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return nil, "Please write an address, such as https://example.org."
		}
	}
	return first, ""
}

func has(list []string, s string) bool {
	return slices.Contains(list, s)
}

// schema makes the schema of a form's settings, whose questions it checks.
func schema(title string, settings map[string]string) (string, error) {
	questions, err := Read(settings["fields"])
	if err != nil {
		return "", err
	}
	return Schema(title, questions), nil
}

// Schema describes the answers as a JSON Schema, so that they have types and labels from the beginning.
func Schema(title string, questions []sheet.Question) string {
	props := map[string]any{"id": map[string]any{"type": "string", "title": "Id"}}
	for _, q := range questions {
		p := map[string]any{"title": q.Label, "type": "string"}
		switch q.Type {
		case value.Num:
			p["type"] = "number"
		case sheet.WholeNumber:
			p["type"] = "integer"
		case value.YesNo:
			p["type"] = "boolean"
		case value.Date:
			p["format"] = "date"
		case value.Moment:
			p["format"] = "date-time"
		case value.Link:
			p["format"] = "uri"
		case "email":
			p["format"] = "email"
		case value.Choice:
			p["enum"] = texts(q.Options)
		case value.Choices:
			p["type"], p["items"] = "array", map[string]any{"enum": texts(q.Options)}
		}
		props[q.Name] = p
	}
	return string(value.AppendJSON(nil, map[string]any{"title": title, "type": "object", "properties": props}))
}

func texts(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

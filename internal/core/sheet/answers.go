package sheet

import (
	"fmt"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// WholeNumber is the type of a question whose answer is a number without a fraction. As a field it is a number.
const WholeNumber value.Type = "whole number"

// Answers checks what was answered against the questions, and reads each answer by its type. The error is a [*fault.Fault]
// whose place is the question.
func Answers(ask []Question, given map[string]any, ws value.Workspace) (map[string]any, error) {
	out := map[string]any{}
	known := map[string]bool{}
	for _, q := range ask {
		known[q.Name] = true
		v, problem := q.Read(given[q.Name], ws)
		if problem != "" {
			return nil, &fault.Fault{Place: q.Name, Said: problem}
		}
		if v != nil {
			out[q.Name] = v
		}
	}
	for name := range given {
		if !known[name] {
			names := make([]string, len(ask))
			for i, q := range ask {
				names[i] = q.Name
			}
			problem := fmt.Sprintf("nothing called %s is asked for", name)
			if near := value.Nearest(name, names); near != "" {
				problem += "; did you mean " + near + "?"
			}
			return nil, &fault.Fault{Place: name, Said: problem}
		}
	}
	return out, nil
}

// Read reads an answer by the question's type: a number may be text as it is written in the workspace's locale, yes and no
// may be words. nil is no answer. The problem, in words, is "" where there is none.
func (q *Question) Read(v any, ws value.Workspace) (answer any, problem string) {
	if value.Empty(v) {
		if q.Required {
			return nil, fmt.Sprintf("%q must be answered", q.Label)
		}
		return nil, ""
	}
	if answer, problem = q.read(v, ws); problem != "" {
		return nil, fmt.Sprintf("%q: %s", q.Label, problem)
	}
	return answer, ""
}

func (q *Question) read(v any, ws value.Workspace) (any, string) {
	text, isText := v.(string)
	switch q.Type {
	case value.Num, value.Money, WholeNumber:
		n, ok := value.ReadNumber(v, ws)
		switch {
		case q.Type == WholeNumber && (!ok || !n.Whole()):
			return nil, "a whole number is needed, such as 3"
		case !ok:
			return nil, "a number is needed"
		case n.Exact != "":
			return n.Exact, ""
		}
		return n.Float, ""
	case value.YesNo:
		if b, ok := v.(bool); ok {
			return b, ""
		}
		switch value.Fold(text) {
		case "yes", "true":
			return true, ""
		case "no", "false":
			return false, ""
		}
		return nil, "yes or no is needed"
	case value.Date, value.Moment:
		if _, _, ok := value.ReadMoment(text, ws.Location()); isText && ok {
			return text, ""
		}
		return nil, "a date is needed, such as 2026-11-20"
	case value.Span:
		if _, err := value.ParseSpan(text); isText && err == nil {
			return text, ""
		}
		return nil, "a span of time is needed, such as 2h"
	case value.Choice:
		for _, o := range q.Options {
			if isText && value.Fold(o) == value.Fold(text) {
				return o, ""
			}
		}
		return nil, "it is none of the choices"
	case value.Choices:
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, e := range list {
			s, _ := e.(string)
			known := false
			for _, o := range q.Options {
				known = known || o == s
			}
			if !known {
				return nil, "one of the answers is none of the choices"
			}
		}
		return list, ""
	}
	if !isText {
		return nil, "text is needed, not " + value.Describe(v)
	}
	return text, ""
}

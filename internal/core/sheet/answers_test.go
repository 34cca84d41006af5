package sheet

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/value"
)

func TestAnswersAreReadByTheirTypes(t *testing.T) {
	ws := value.Workspace{Zone: time.UTC, Locale: "en"}
	for _, c := range []struct {
		kind    value.Type
		given   any
		want    any
		problem string
	}{
		{value.Num, 2.5, 2.5, ""},
		{value.Num, "1,240.5", 1240.5, ""},
		{value.Num, "many", nil, "a number is needed"},
		{value.Num, true, nil, "a number is needed"},
		{WholeNumber, 3.0, 3.0, ""},
		{WholeNumber, "1,240", 1240.0, ""},
		{WholeNumber, "3.0", 3.0, ""},
		{WholeNumber, 2.5, nil, "a whole number is needed"},
		{WholeNumber, "2.5", nil, "a whole number is needed"},
		{WholeNumber, "12345678901234567891", "12345678901234567891", ""},
		{WholeNumber, "12345678901234567891.5", nil, "a whole number is needed"},
		{WholeNumber, []any{3.0}, nil, "a whole number is needed"},
		{value.Money, "€ 12.50", 12.5, ""},
		{value.YesNo, "Yes", true, ""},
		{value.YesNo, false, false, ""},
		{value.YesNo, 1.0, nil, "yes or no is needed"},
		{value.Date, "2026-11-20", "2026-11-20", ""},
		{value.Date, "soon", nil, "a date is needed"},
		{value.Date, 20261120.0, nil, "a date is needed"},
		{value.Span, "2h", "2h", ""},
		{value.Span, 2.0, nil, "a span of time is needed"},
		{value.Choice, "upper", "Upper", ""},
		{value.Choice, "Lower", nil, "none of the choices"},
		{value.Choices, []any{"Upper"}, []any{"Upper"}, ""},
		{value.Choices, "Mill", []any{"Mill"}, ""},
		{value.Choices, []any{"Upper", 3.0}, nil, "none of the choices"},
		{value.Text, "words", "words", ""},
		{value.Text, 3.0, nil, "text is needed, not a number"},
		{value.Text, map[string]any{}, nil, "text is needed, not an object"},
		{value.Link, 3.0, nil, "text is needed"},
	} {
		q := Question{Name: "n", Label: "How many", Type: c.kind, Options: []string{"Upper", "Mill"}}
		got, problem := q.Read(c.given, ws)
		assert.Equal(t, c.want, got, "%s %v", c.kind, c.given)
		if c.problem == "" {
			assert.Empty(t, problem, "%s %v", c.kind, c.given)
		} else {
			assert.Contains(t, problem, c.problem, "%s %v", c.kind, c.given)
		}
	}
}

// An attachment is a table or a file from an address.
func TestAttachments(t *testing.T) {
	for attach, want := range map[string]string{
		`[{from: "${record.plan}"}]`:                                        "",
		`[{name: "plan.pdf", from: "https://x.example/${record.id}"}]`:      "",
		`[{name: "open.csv", table: {of: open, columns: [id]}}]`:            "",
		`[{name: "open.csv"}]`:                                              "give one of table and from",
		`[{name: "x.csv", from: "x", table: {of: open, columns: [id]}}]`:    "take out table or from",
		`[{table: {of: open, columns: [id]}}]`:                              "needs a name that ends in .csv or .xlsx",
		`[{name: "open.pdf", table: {of: open, columns: [id]}}]`:            "a table is attached as .csv or .xlsx",
		`[{name: "open.csv", tabel: {of: open, columns: [id]}, from: "x"}]`: "did you mean table?",
	} {
		_, _, problems := Compile([]byte("dorfbote: 1\nname: T\nwatch: {source: a/b}\ngather: [{name: open, find: {source: a/b, take: all}}]\nmessages: {m: {title: x, attach: "+attach+"}}\nroute: {otherwise: {tell: [{to: mail/a@x.example, message: m}]}}\n"), Known{Workspace: value.DefaultWorkspace()})
		said := ""
		for _, p := range problems {
			said += p.String() + "\n"
		}
		if want == "" {
			assert.Empty(t, said, attach)
			continue
		}
		assert.Contains(t, said, want, attach)
	}
}

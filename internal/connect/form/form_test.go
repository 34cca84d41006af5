package form

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

func zurich(t testing.TB) *time.Location {
	zone, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	return zone
}

func TestQuestions(t *testing.T) {
	for name, c := range map[string]struct{ text, wrong string }{
		"none":                   {"", ""},
		"spaces":                 {"  ", ""},
		"one":                    {`[{"label":"Who?","type":"text"}]`, ""},
		"no list":                {`{"label":"Who?"}`, "the questions cannot be read"},
		"no text":                {`[{"label":" ","type":"text"}]`, "question 1 has no text"},
		"two of a name":          {`[{"name":"a","label":"A","type":"text"},{"name":"a","label":"B","type":"text"}]`, "two questions are called a"},
		"the key's name":         {`[{"name":"id","label":"Id","type":"text"}]`, "two questions are called id"},
		"a name made of a label": {`[{"label":"Who?","type":"text"},{"label":"who","type":"text"}]`, "two questions are called who"},
		"an unknown type":        {`[{"label":"Who?","type":"colour"}]`, `there is no type "colour" for the question "Who?"`},
		"a choice of nothing":    {`[{"label":"Which?","type":"choice"}]`, `the question "Which?" has no choices`},
		"choices of nothing":     {`[{"label":"Which?","type":"choices","options":[]}]`, `the question "Which?" has no choices`},
		"too many":               {"[" + strings.Repeat(`{"label":"x","type":"text"},`, maxQuestions) + `{"label":"x","type":"text"}]`, "at most 60 questions"},
	} {
		_, err := Read(c.text)
		if c.wrong == "" {
			require.NoError(t, err, name)
			continue
		}
		require.ErrorContains(t, err, c.wrong, name)
	}
	list, err := Read(`[{"label":"Wie viele Käse?","type":"number"},{"label":"2nd visit","type":"text"},{"label":"???","type":"text"},{"label":"` + strings.Repeat("long ", 30) + `","type":"text"}]`)
	require.NoError(t, err)
	assert.Equal(t, []string{"wie_viele_k_se", "q_2nd_visit", "q_"}, []string{list[0].Name, list[1].Name, list[2].Name})
	assert.LessOrEqual(t, len(list[3].Name), 40)
}

func ask(typ value.Type, required bool) []sheet.Question {
	return []sheet.Question{{Name: "q", Label: "Q", Type: typ, Required: required, Options: []string{"Upper", "Mill"}}}
}

// What is answered becomes a value of the question's type, or is refused in words that say what to write.
func TestAnswers(t *testing.T) {
	for _, c := range []struct {
		typ      value.Type
		required bool
		sent     []string
		want     any
		wrong    string
	}{
		{value.Text, false, nil, nil, ""},
		{value.Text, true, nil, nil, "Please answer this."},
		{value.Text, true, []string{"  "}, nil, "Please answer this."},
		{value.Text, true, []string{" Ona "}, "Ona", ""},
		{value.Text, false, []string{"a\x00b"}, "ab", ""},
		{value.Text, false, []string{"a\xff"}, nil, "This is too long, or no text."},
		{value.Text, false, []string{strings.Repeat("x", maxAnswer+1)}, nil, "This is too long, or no text."},
		{"long text", false, []string{"one\r\ntwo"}, "one\ntwo", ""},
		{value.Num, false, []string{"1,240.5"}, 1240.5, ""},
		{value.Num, false, []string{"many"}, nil, "Please write a number."},
		{value.Num, false, []string{"9007199254740993"}, "9007199254740993", ""},
		{sheet.WholeNumber, false, []string{"3"}, 3.0, ""},
		{sheet.WholeNumber, false, []string{"3.5"}, nil, "Please write a whole number, such as 3."},
		{sheet.WholeNumber, true, []string{"0"}, 0.0, ""},
		{value.YesNo, false, []string{"yes"}, true, ""},
		{value.YesNo, false, []string{"no"}, false, ""},
		{value.YesNo, false, nil, false, ""},
		{value.YesNo, true, nil, nil, "Please answer this."},
		{value.Date, false, []string{"2026-11-20"}, "2026-11-20", ""},
		{value.Date, false, []string{"20.11."}, nil, "Please write a date, such as 2026-11-20."},
		{value.Moment, false, []string{"2026-11-20T07:30"}, "2026-11-20T07:30:00+01:00", ""},
		{value.Moment, false, []string{"2026-07-20T07:30"}, "2026-07-20T07:30:00+02:00", ""},
		{value.Choice, false, []string{"Mill"}, "Mill", ""},
		{value.Choice, false, []string{"mill"}, nil, "Please choose from the list."},
		{value.Choices, false, []string{"Mill", "Upper"}, []any{"Mill", "Upper"}, ""},
		{value.Choices, false, []string{"Mill", "Lower"}, nil, "Please choose from the list."},
		{value.Choices, false, nil, nil, ""},
		{value.Choices, true, nil, nil, "Please answer this."},
		{"email", false, []string{"a.person@example.org"}, "a.person@example.org", ""},
		{"email", false, []string{"A Person <a.person@example.org>"}, nil, "Please write an address, such as a.person@example.org."},
		{"email", false, []string{"a.person"}, nil, "Please write an address, such as a.person@example.org."},
		{value.Link, false, []string{"https://example.org/a"}, "https://example.org/a", ""},
		{value.Link, false, []string{"javascript:alert(1)"}, nil, "Please write an address, such as https://example.org."},
		{value.Link, false, []string{"example.org"}, nil, "Please write an address, such as https://example.org."},
	} {
		record, wrong := Answers(ask(c.typ, c.required), url.Values{"q": c.sent, "other": {"not asked for"}}, zurich(t))
		assert.Equal(t, c.wrong, wrong["q"], "%s %q", c.typ, c.sent)
		assert.Equal(t, c.want, record["q"], "%s %q", c.typ, c.sent)
		assert.NotContains(t, record, "other")
	}
}

// The schema promises what the answers hold.
func TestSchemaOfAnswers(t *testing.T) {
	for typ, want := range map[value.Type]value.Type{
		value.Text: value.Text, "long text": value.Text, "email": "", value.Num: value.Num, sheet.WholeNumber: value.Num, value.YesNo: value.YesNo,
		value.Date: value.Date, value.Moment: value.Moment, value.Choice: value.Choice, value.Link: value.Link, value.Choices: "",
	} {
		text := Schema("Visits", ask(typ, false))
		require.True(t, json.Valid([]byte(text)), typ)
		schema, err := value.ReadSchema([]byte(text))
		require.NoError(t, err, typ)
		f, _, ok := schema.Find(value.ParsePath("q"))
		require.True(t, ok, typ)
		assert.Equal(t, "Q", f.Label, typ)
		if want != "" {
			assert.Equal(t, want, f.Type, typ)
		}
		if typ == value.Choice || typ == value.Choices {
			assert.Contains(t, text, `["Upper","Mill"]`)
		}
	}
	_, err := schema("Visits", map[string]string{"fields": "["})
	require.Error(t, err)
	text, err := schema("Visits", map[string]string{"fields": `[{"label":"Who?","type":"text"}]`})
	require.NoError(t, err)
	assert.Contains(t, text, `"who"`)
}

// Whatever is sent, an answer that is taken is of its question's type and of characters that can be stored.
func FuzzAnswers(f *testing.F) {
	for i := range Types {
		f.Add(i, "7", "Mill")
	}
	f.Fuzz(func(t *testing.T, n int, first, second string) {
		typ := Types[((n%len(Types))+len(Types))%len(Types)]
		record, wrong := Answers(ask(typ, n%2 == 0), url.Values{"q": {first, second}}, time.UTC)
		if wrong["q"] != "" {
			assert.Nil(t, record["q"])
			return
		}
		raw, err := json.Marshal(record)
		require.NoError(t, err)
		assert.True(t, utf8.Valid(raw))
		assert.NotContains(t, fmt.Sprint(record["q"]), "\x00")
		switch v := record["q"].(type) {
		case nil:
		case float64:
			assert.Contains(t, []value.Type{value.Num, sheet.WholeNumber}, typ)
		case bool:
			assert.Equal(t, value.YesNo, typ)
		case []any:
			assert.Equal(t, value.Choices, typ)
			for _, e := range v {
				assert.Contains(t, []any{"Upper", "Mill"}, e)
			}
		}
	})
}

package formula

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

// What a formula cannot do with what it is given is said in words, with no trace of the machine inside.
func TestWhatFormulasRefuse(t *testing.T) {
	record := map[string]any{"text": "seven", "n": 7.0, "list": []any{1.0}, "obj": map[string]any{"a": 1.0}, "yes": true}
	for text, want := range map[string]string{
		`money(record.text, "CHF")`:              `"seven" is not a number`,
		`number(record.text)`:                    `"seven" is not a number`,
		`number(record.n, 30)`:                   "the decimals of number() are a number from 0 to 20",
		`number(record.n, record.text)`:          "the decimals of number() are a number from 0 to 20",
		`percent(record.text)`:                   `"seven" is not a number`,
		`plural(record.text, "a", "b")`:          `"seven" is not a number`,
		`date(record.text)`:                      `"seven" is not a date or moment`,
		`ago(record.n)`:                          `"7" is not a date or moment`,
		`words(record.n)`:                        "words() needs a span of time, such as now - record.due, not a number",
		`words(record.text)`:                     "is not a span of time",
		`shorten(record.text, 0)`:                "the length of shorten() is a number of at least 1",
		`shorten(record.text, record.obj)`:       "the length of shorten() is a number of at least 1",
		`phone(record.text, "CH")`:               `"seven" is not a possible telephone number in CH`,
		`bullets(record.n, "${it}")`:             "bullets() needs a list first",
		`bullets(record.list, "${it.x.y + 1}")`:  "",
		`int(record.text)`:                       "seven",
		`record.list[9] + 1`:                     "there is no element [9] in a list of 1, counted from 0; get(list, 9) is empty there",
		`record.list[-3]`:                        "there is no element [-",
		`get(record.list, 9)`:                    "",
		`record.text + record.n`:                 "",
		`record.n / 0 > 1 ? "big" : record.none`: "",
	} {
		w := &Words{Workspace: value.DefaultWorkspace()}
		f, err := Compile(text, w)
		require.NoError(t, err, text)
		_, err = f.Run(&Scope{Record: record, Now: time.Unix(0, 0)})
		if want == "" {
			if err != nil {
				assert.NotContains(t, err.Error(), "runtime error", text)
			}
			continue
		}
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want, text)
		assert.NotContains(t, err.Error(), "\n", text)
	}
}

// A condition needs yes or no.
func TestFormulasOfConditions(t *testing.T) {
	for text, c := range map[string]struct {
		holds bool
		wrong string
	}{
		"record.n > 1":           {true, ""},
		"record.n < 1":           {false, ""},
		"record.yes":             {true, ""},
		"record.none":            {false, "gave an empty value where yes or no was needed"},
		"record.text":            {false, "gave seven where yes or no was needed"},
		"record.n":               {false, "gave 7 where yes or no was needed"},
		"record.n > record.none": {false, ""},
	} {
		f, err := Compile(text, &Words{Workspace: value.DefaultWorkspace()})
		require.NoError(t, err, text)
		holds, err := f.Bool(&Scope{Record: map[string]any{"n": 7.0, "text": "seven", "yes": true}})
		assert.Equal(t, c.holds, holds, text)
		if c.wrong != "" {
			require.Error(t, err, text)
			assert.Contains(t, err.Error(), c.wrong, text)
		}
	}
}

// An error names its place in the text, and what was meant.
func TestWhereAFormulaIsWrong(t *testing.T) {
	for text, c := range map[string]struct {
		offset  int
		meant   string
		message string
	}{
		"record.n >":         {-1, "", "unexpected token"},
		"1 + wrods(now)":     {4, "words", "wrods"},
		"recodr.n":           {0, "record", "recodr"},
		"record.n ++ 1":      {-1, "", ""},
		`"open`:              {-1, "", ""},
		"(1":                 {-1, "", ""},
		"record.n > 1 and":   {-1, "", ""},
		"upper(record.text,": {-1, "", ""},
		"é + recodr.n":       {-1, "", ""},
	} {
		_, err := Compile(text, &Words{Workspace: value.DefaultWorkspace()})
		var fe *Error
		if text == "record.n ++ 1" && err == nil {
			continue
		}
		require.ErrorAs(t, err, &fe, text)
		if c.offset >= 0 {
			assert.Equal(t, c.offset, fe.Offset, text)
		}
		assert.LessOrEqual(t, fe.Offset, len([]rune(text)), text)
		assert.Equal(t, c.meant, fe.Suggestion, text)
		assert.Contains(t, fe.Message, c.message, text)
		if c.meant != "" {
			assert.Contains(t, fe.Error(), "did you mean "+c.meant+"?")
		}
	}
}

func TestShownValues(t *testing.T) {
	ws := value.DefaultWorkspace()
	for _, c := range []struct {
		v    any
		want string
	}{
		{nil, ""}, {"a", "a"}, {true, "yes"}, {false, "no"}, {7.0, "7"}, {7.25, "7.25"}, {[]any{"a", 1.0}, "a, 1"}, {90 * time.Minute, "1 h 30 min"},
		{map[string]any{"amount": 12.5, "currency": "CHF"}, "CHF"},
	} {
		assert.Contains(t, Show(c.v, ws), c.want, "%#v", c.v)
	}
}

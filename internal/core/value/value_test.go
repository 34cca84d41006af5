package value

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbersKeepTheirDigits(t *testing.T) {
	for in, want := range map[string]any{
		"1": 1.0, "0.1": 0.1, "1.10": 1.1, "1e3": 1000.0, "-0": 0.0, "9007199254740992": 9007199254740992.0, "0.1000000000000000055511151231257827": "0.1000000000000000055511151231257827",
		"9007199254740993": "9007199254740993", "1234567890123456789": "1234567890123456789", "1e999": "1e999", "123456789012345.6": 123456789012345.6,
	} {
		got, err := ReadJSON([]byte(in))
		require.NoError(t, err)
		assert.Equal(t, want, got, in)
	}
}

func TestBadJSONSaysWhere(t *testing.T) {
	for in, want := range map[string]string{
		"":                        "line 1, column 1: there is nothing here",
		"{\"a\":1,\n \"a\":2}":    `line 2, column 2 (at /a): duplicate`,
		`{"a":`:                   "column 6",
		`{"a":1} x`:               "column 9",
		"{\"a\":\"\xff\"}":        "invalid UTF-8",
		strings.Repeat("[", 5000): "nested deeper than 100 levels",
		`[1,]`:                    "column 3",
		`{'a':1}`:                 "column 2",
	} {
		_, err := ReadJSON([]byte(in))
		require.Error(t, err, in)
		assert.Contains(t, err.Error(), want)
	}
}

func TestReadNumberByLocale(t *testing.T) {
	for _, c := range []struct {
		text, locale string
		want         float64
		ok           bool
	}{
		{"1,240.5", "en", 1240.5, true}, {"1.240,5", "de", 1240.5, true}, {"1’240.5", "de-CH", 1240.5, true}, {"1 240,5", "fr", 1240.5, true},
		{"1,24", "en", 0, false}, {"CHF 1,240.50", "en", 1240.5, true}, {"12 EUR", "en", 12, true}, {"€5", "en", 5, true}, {"-3", "en", -3, true},
		{"", "en", 0, false}, {"late", "en", 0, false}, {"1e3", "en", 1000, true}, {"1,2,3", "en", 0, false}, {"0x10", "en", 0, false}, {"5 km", "en", 0, false},
	} {
		n, ok := ReadNumber(c.text, Workspace{Locale: c.locale})
		assert.Equal(t, c.ok, ok, c.text)
		if ok {
			assert.InDelta(t, c.want, n.Float, 1e-9, c.text)
		}
	}
}

func TestSpans(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "45m": 45 * time.Minute, "2h": 2 * time.Hour, "3d": 72 * time.Hour, "1h30m": 90 * time.Minute, "PT90M": 90 * time.Minute, "P1DT2H": 26 * time.Hour, "P2W": 14 * 24 * time.Hour,
	} {
		d, err := ParseSpan(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, d, text)
	}
	for _, bad := range []string{"", "2", "h", "P", "PT", "P1M", "P1Y", "2 hours", "99999999999w"} {
		_, err := ParseSpan(bad)
		assert.Error(t, err, bad)
	}
}

func TestInstantsAroundAClockChange(t *testing.T) {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	now := time.Date(2026, 10, 26, 12, 0, 0, 0, zurich) // the clocks went back on the 25th
	for text, want := range map[string]string{
		"today": "2026-10-26T00:00:00+01:00", "today-2d": "2026-10-24T00:00:00+02:00", "now-2d": "2026-10-24T13:00:00+02:00", "2026-10-24": "2026-10-24T00:00:00+02:00",
	} {
		in, err := ParseInstant(text, zurich)
		require.NoError(t, err)
		assert.Equal(t, want, in.At(now, zurich).In(zurich).Format(time.RFC3339), text)
	}
}

func TestLearning(t *testing.T) {
	l := NewLearner()
	for _, r := range []map[string]any{
		{"d": "2026-11-20", "m": "2026-11-20T05:00:00Z", "x": "2026-11-20", "n": 1.0, "phone": "0331234", "mixed": 1.0, "b": true, "l": []any{map[string]any{"k": 1.0}}, "o": map[string]any{"name": "a"}, "e": "", "link": "https://x.example/1", "maybe": "http://x.example"},
		{"d": "2026-11-21", "m": "2026-11-20", "x": "soon", "n": "1,200", "phone": "0335678", "mixed": "many", "b": nil, "link": "HTTP://x.example/a?b=c#d", "maybe": "see http://x.example"},
	} {
		l.See(r)
	}
	got := map[string]Type{}
	for _, f := range l.Schema().Fields {
		got[f.Name] = f.Type
	}
	assert.Equal(t, map[string]Type{"d": Date, "m": Moment, "x": Text, "n": Num, "phone": Text, "mixed": Any, "b": YesNo, "l": List, "o": Object, "e": Any, "link": Link, "maybe": Text}, got)
	f, many, ok := l.Schema().Find(ParsePath("l.k"))
	assert.True(t, ok && many && f.Type == Num)
}

// Lists of name-value pairs are fields by name: in paths, and in what is learnt.
func TestPairs(t *testing.T) {
	record := map[string]any{"custom": []any{map[string]any{"name": "Tour", "value": "North"}, map[string]any{"name": "Litres", "value": 12.0}}, "lines": []any{map[string]any{"name": "Gouda"}}}
	v, many := ParsePath("custom.Litres").Get(record)
	assert.Equal(t, 12.0, v)
	assert.False(t, many)
	v, many = ParsePath("custom.name").Get(record)
	assert.Equal(t, []any{"Tour", "Litres"}, v)
	assert.True(t, many)
	l := NewLearner()
	l.See(record)
	f, many, ok := l.Schema().Find(ParsePath("custom.Litres"))
	assert.True(t, ok && !many && f.Type == Num)
	for _, list := range [][]any{nil, {1.0}, {map[string]any{"name": "a"}}, {map[string]any{"name": 1.0, "value": 2.0}}, {map[string]any{"name": "a", "value": 1.0}, "b"}} {
		_, ok := Pairs(list)
		assert.False(t, ok, list)
	}
}

func TestSchema(t *testing.T) {
	k, err := ReadSchema([]byte(`{"title":"T","$defs":{"p":{"type":"object","properties":{"name":{"type":"string"},"email":{"type":"string"}}}},"properties":{
		"a":{"type":["string","null"],"format":"date-time"},"b":{"enum":["x","y",null]},"c":{"type":"array","items":{"enum":["r"]}},"d":{"$ref":"#/$defs/p"},
		"e":{"anyOf":[{"type":"null"},{"type":"integer"}]},"f":{"type":"number","x-currency":"CHF"},"g":{"type":"string","format":"duration"},"h":{"type":"boolean"}}}`))
	require.NoError(t, err)
	got := map[string]Type{}
	for _, f := range k.Fields {
		got[f.Name] = f.Type
	}
	assert.Equal(t, map[string]Type{"a": Moment, "b": Choice, "c": Choices, "d": Person, "e": Num, "f": Money, "g": Span, "h": YesNo}, got)
	_, err = ReadSchema([]byte(`{"type":"object"}`))
	assert.Error(t, err)
}

func TestChanged(t *testing.T) {
	assert.Equal(t, []string{"a", "gone", "new"}, Changed(
		map[string]any{"a": 1.0, "same": []any{1.0}, "e": "", "gone": "x", "nil": nil},
		map[string]any{"a": 2.0, "same": []any{1.0}, "e": nil, "new": true}))
}

func FuzzReadJSON(f *testing.F) {
	for _, s := range []string{`{"a":[1,null,"x",1e400]}`, `"\u0000"`, `[[[]]]`, `{"a":{"b":-0.10}}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		v, err := ReadJSON(data)
		if err != nil {
			return
		}
		again, err := ReadJSON(AppendJSON(nil, v))
		require.NoError(t, err)
		assert.Equal(t, v, again)
	})
}

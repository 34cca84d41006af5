package formula

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

func words(locale string) *Words {
	return &Words{
		Workspace: value.Workspace{Zone: time.FixedZone("X", 3600), Locale: locale},
		Schema: &value.Schema{Fields: []value.Field{
			{Name: "id", Type: value.Text}, {Name: "litres", Type: value.Num}, {Name: "due", Type: value.Moment}, {Name: "note", Type: value.Text},
			{Name: "lines", Type: value.List, Fields: []value.Field{{Name: "cheese", Type: value.Text}, {Name: "kilos", Type: value.Num}}},
			{Name: "farm", Type: value.Object, Fields: []value.Field{{Name: "name", Type: value.Text}}},
		}},
	}
}

func scope() *Scope {
	now := time.Date(2026, 11, 20, 6, 40, 0, 0, time.UTC)
	return &Scope{
		Record: map[string]any{
			"id": "COL-1", "litres": "1,240", "due": "2026-11-20T05:20:00Z",
			"lines": []any{map[string]any{"cheese": "Senn", "kilos": 4.0}, map[string]any{"cheese": "Rauch", "kilos": 2.0}},
		},
		Before: map[string]any{"id": "COL-1", "litres": 900.0}, Now: now,
		Arrival: Arrival{ID: "a-1", At: now, Kind: "updated", Source: "tours/collections", By: "Jonas"},
	}
}

func TestFormulas(t *testing.T) {
	for text, want := range map[string]any{
		`record.litres * 2`:                    2480.0,
		`record.litres > 1000 and "x" != "y"`:  true,
		`words(now - record.due)`:              "1 h 20 min",
		`ago(record.due)`:                      "1 h 20 min ago",
		`date(record.due, "d MMM yyyy HH:mm")`: "20 Nov 2026 06:20",
		`date(record.due, "EEEE 'at' H")`:      "Friday at 6",
		`money(1240.5, "EUR")`:                 "€1,240.50",
		`money(-1240, "JPY")`:                  "-¥1,240",
		`money(1240.5, record.nothing)`:        "1240.5",
		`number(1240.456, 2)`:                  "1,240.46",
		`percent(0.256)`:                       "25.6%",
		`plural(1, "farm", "farms")`:           "1 farm",
		`plural(3, "farm", "farms")`:           "3 farms",
		`or(record.note, "none")`:              "none",
		`or(record.id, "none") + (record.litres > 1 or false ? "!" : "")`: "COL-1!",
		`shorten("a long enough text", 10)`:                               "a long en…",
		`phone("033 402 12 21", "CH")`:                                    "+41334021221",
		`mask("CH9300762011623852957")`:                                   "•••••••••••••••••2957",
		`slug("Äussere Matt, Straße 4")`:                                  "aussere-matt-strasse-4",
		`record.other.name`:                                               nil, // through something empty is empty
		`record.note ?? "none"`:                                           "none",
		`changed`:                                                         []any{"due", "lines", "litres"},
		`arrival.by + arrival.kind`:                                       "Jonasupdated",
		`len(filter(record.lines, .kilos > 3))`:                           1,
		`before.litres`:                                                   900.0,
		`date(record.note)`:                                               nil,
	} {
		t.Run(text, func(t *testing.T) {
			w := words("en")
			w.Schema.Learnt = true
			f, err := Compile(text, w)
			require.NoError(t, err)
			got, err := f.Run(scope())
			require.NoError(t, err)
			assert.Equal(t, want, got)
		})
	}
}

func TestLocales(t *testing.T) {
	for locale, want := range map[string]string{"en": "€1,240.50", "de": "1.240,50\u00a0€", "fr": "1\u202f240,50\u00a0€", "de-CH": "EUR\u00a01’240.50"} {
		f, err := Compile(`money(1240.5, "EUR")`, words(locale))
		require.NoError(t, err)
		got, err := f.Run(scope())
		require.NoError(t, err)
		if locale == "fr" {
			assert.Len(t, []rune(got.(string)), len([]rune(want)))
			continue
		}
		assert.Equal(t, want, got, locale)
	}
}

func TestImpureFunctionsAreGone(t *testing.T) {
	_, err := Compile(`now()`, words("en"))
	require.Error(t, err)
	f, err := Compile(`now`, words("en"))
	require.NoError(t, err)
	got, err := f.Run(scope())
	require.NoError(t, err)
	assert.True(t, scope().Now.Equal(got.(time.Time)))
}

func TestTemplates(t *testing.T) {
	for text, want := range map[string]string{
		"${record.id}: ${record.litres} l": "COL-1: 1240 l",
		"no $ formula { here }":            "no $ formula { here }",
		"$${record.id}":                    "${record.id}",
		`${bullets(record.lines, "${it.cheese} of ${record.id}")}`: "• Senn of COL-1\n• Rauch of COL-1",
		`${"}" + '{'}`:    "}{",
		"${record.note}|": "|",
		"${record.due}":   "20 Nov 2026 06:20",
	} {
		t.Run(text, func(t *testing.T) {
			w := words("en")
			tmpl, wrong := ParseTemplate(text, w)
			require.Empty(t, wrong)
			got, err := tmpl.Text(scope(), w)
			require.NoError(t, err)
			assert.Equal(t, want, got)
		})
	}
	_, wrong := ParseTemplate("ä ${record.litrs} and ${wrods(1)} and ${open", words("en"))
	require.Len(t, wrong, 3)
	assert.Equal(t, []int{11, 24, 38}, []int{wrong[0].Offset, wrong[1].Offset, wrong[2].Offset}[:3])
	assert.Equal(t, "litres", wrong[0].Suggestion)
	assert.Equal(t, "words", wrong[1].Suggestion)
}

func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"${record.id}", "a ${", "${bullets(record.lines, \"${it}\")}", "$${", "${'}'}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		w := words("en")
		tmpl, wrong := ParseTemplate(text, w)
		if len(wrong) == 0 {
			_, _ = tmpl.Text(scope(), w)
		}
	})
}

// Decimals are reckoned as people reckon them, and rounded half up, away from zero; nothing is minus zero.
func TestDecimals(t *testing.T) {
	sc := &Scope{Record: map[string]any{"a": 22.61, "b": 36.19, "n": 3.0, "list": []any{0.1, 0.2, 0.3}, "text": "x"}, Now: time.Unix(1_800_000_000, 0)}
	w := &Words{Workspace: value.Workspace{Zone: time.UTC, Locale: "en"}}
	for text, want := range map[string]any{
		"record.b - record.a": 13.58, "record.b - record.a == 13.58": true, "0.1 + 0.2": 0.3, "0.1 + 0.2 == 0.3": true, "1.1 * 1.1": 1.21, "0.7 * 3": 2.1, "4.35 * 100": 435.0,
		"1.005 * 1000": 1005.0, "sum(record.list)": 0.6, "0.3 - 0.1": 0.2, "1 + 2": 3, "7 - 2 * 3": 1, "record.n * 2": 6.0, "record.text + \"y\"": "xy", "0.1 * 0.1": 0.01,
		"[5, 6, 7][1 + 1]": 7, "record.n / 4": 0.75, "2 ** 3 - 0.5": 7.5,
		`number(0.125, 2)`: "0.13", `number(0.135, 2)`: "0.14", `number(2.5, 0)`: "3", `number(-2.5, 0)`: "-3", `number(1.005, 2)`: "1.01", `number(-0.001, 2)`: "0.00", `number(999.995, 2)`: "1,000.00",
		`money(-0.004, "EUR")`: "€0.00", `money(1.005, "EUR")`: "€1.01", `money(-1.005, "EUR")`: "-€1.01", `money(2.5, "JPY")`: "¥3", `percent(0.1255)`: "12.6%", `number(0.1 + 0.2)`: "0.3",
	} {
		f, err := Compile(text, w)
		require.NoError(t, err, text)
		got, err := f.Run(sc)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

func TestShortenAndSlug(t *testing.T) {
	for _, c := range []struct {
		in   string
		n    int
		want string
	}{
		{"short", 10, "short"}, {"exactly 10", 10, "exactly 10"}, {"a longer text than fits", 10, "a longer…"}, {"abcdefghijkl", 5, "abcd…"},
		{"👩‍👩‍👧‍👦👩‍👩‍👧‍👦👩‍👩‍👧‍👦", 2, "👩‍👩‍👧‍👦…"}, {"👩‍👩‍👧‍👦👩‍👩‍👧‍👦", 2, "👩‍👩‍👧‍👦👩‍👩‍👧‍👦"}, {"🇨🇭🇨🇭🇨🇭", 2, "🇨🇭…"}, {"e\u0301e\u0301e\u0301e\u0301", 3, "e\u0301e\u0301…"}, {"áb", 1, "…"}, {"", 3, ""}, {"한국어입니다", 4, "한국어…"},
	} {
		assert.Equal(t, c.want, Shorten(c.in, c.n), "%q to %d", c.in, c.n)
	}
	for in, want := range map[string]string{
		"Straße GROẞ": "strasse-gross", "Ærø Łódź Đà Þór": "aero-lodz-da-thor", "Café – Zürich": "cafe-zurich", "  --x--  ": "x", "œuvre İstanbul ı": "oeuvre-istanbul-i", "日本": "",
	} {
		assert.Equal(t, want, Slug(in), in)
	}
}

// What is a list of objects is told by their values, not as JSON; and a label is known where the name is wanted.
func TestObjectsAndLabels(t *testing.T) {
	ws := value.Workspace{Zone: time.UTC, Locale: "en"}
	assert.Equal(t, "Senn 4, Rauch 2 yes", Show([]any{map[string]any{"cheese": "Senn", "kilos": 4.0}, map[string]any{"cheese": "Rauch", "kilos": 2.0, "ripe": true}}, ws))
	assert.Equal(t, "Upper", Show(map[string]any{"name": "Upper", "n": 1.0}, ws))
	assert.Equal(t, `{"deep":{"n":1}}`, Show(map[string]any{"deep": map[string]any{"n": 1.0}}, ws), "there is nothing else to tell")

	k := &value.Schema{Fields: []value.Field{{Name: "city", Label: "Town", Type: value.Text}, {Name: "farm", Type: value.Object, Fields: []value.Field{{Name: "nr", Label: "Number"}}}}}
	for said, want := range map[string]string{"Town": "city", "TOWN": "city", "Number": "farm.nr", "citty": "city", "zzz": ""} {
		assert.Equal(t, want, k.Near(said), said)
	}
	_, err := Compile(`record.Town + "!"`, &Words{Workspace: ws, Schema: k})
	assert.EqualError(t, err, "there is no field Town; did you mean city?")
}

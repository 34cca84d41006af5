package formula

import (
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/expr-lang/expr"
	"github.com/rivo/uniseg"
	"golang.org/x/text/number"
	"golang.org/x/text/unicode/norm"

	"dorfbote/internal/core/value"
)

// Rich is a value that is more than text in a message: a list or a link.
type Rich interface{ Plain() string }

// Bullets is a list made by bullets(list, template).
type Bullets []Line

// Plain gives one line an item.
func (b Bullets) Plain() string {
	lines := make([]string, len(b))
	for i, l := range b {
		lines[i] = "• " + l.Plain()
	}
	return strings.Join(lines, "\n")
}

// Line is a template filled in for one element of a list, in its pieces: what a value says is no markup, what stands
// between the values is.
type Line []Piece

// Piece is a part of a line: text of the template, or a value of a formula with its text.
type Piece struct {
	Text   string
	Value  any
	Filled bool // it is a value
}

// Plain gives the line's text.
func (l Line) Plain() string {
	var b strings.Builder
	for _, p := range l {
		b.WriteString(p.Text)
	}
	return b.String()
}

// Anchor is a link made by link(text, address).
type Anchor struct{ Text, To string }

// Plain gives the link's text.
func (a Anchor) Plain() string { return a.Text }

var functionNames = []string{"words", "ago", "date", "money", "number", "percent", "plural", "bullets", "link", "or", "shorten", "phone", "mask", "slug", "person", "mention", "on_duty", "rows", "group", "when_became"}

type params = []any

// functions are what formulas may call beyond the language's own. An empty first argument gives an
// empty result, so that a message leaves nothing in its place.
func functions(w *Words) []expr.Option {
	ws := w.Workspace
	def := func(name string, least, most int, fn func(params) (any, error)) expr.Option {
		return expr.Function(name, func(p ...any) (any, error) {
			if len(p) < least || len(p) > most {
				return nil, fmt.Errorf("%s takes %d arguments, not %d", strings.ReplaceAll(name, orName, "or"), least, len(p))
			}
			return fn(p)
		})
	}
	pass := func(name string, least, most int, fn func(params) (any, error)) expr.Option {
		return def(name, least, most, func(p params) (any, error) {
			if value.Empty(p[0]) {
				return nil, nil
			}
			return fn(p)
		})
	}
	return append(personFunctions(w), []expr.Option{
		pass("words", 1, 1, func(p params) (any, error) {
			d, err := asSpan(p[0])
			return value.Words(d), err
		}),
		pass("ago", 2, 2, func(p params) (any, error) {
			t, err := asMoment(p[0], ws)
			now, _ := p[1].(time.Time)
			if err != nil {
				return nil, err
			}
			if d := now.Sub(t); d < 0 {
				return "in " + value.Words(-d), nil
			} else {
				return value.Words(d) + " ago", nil
			}
		}),
		pass("date", 1, 2, func(p params) (any, error) {
			t, err := asMoment(p[0], ws)
			pattern := DefaultDatePattern
			if len(p) == 2 {
				pattern = Show(p[1], ws)
			}
			return FormatDate(t.In(ws.Location()), pattern, ws.Locale), err
		}),
		pass("money", 2, 2, func(p params) (any, error) {
			n, err := asNumber(p[0], ws)
			return formatMoney(n, Show(p[1], ws), ws.Locale), err
		}),
		pass("number", 1, 2, func(p params) (any, error) {
			n, err := asNumber(p[0], ws)
			if err != nil {
				return nil, err
			}
			if len(p) == 1 {
				return value.Printer(ws.Locale).Sprint(number.Decimal(value.Round(n, 3))), nil
			}
			places, err := asNumber(p[1], ws)
			if err != nil || places < 0 || places > 20 {
				return nil, errors.New("the decimals of number() are a number from 0 to 20")
			}
			return value.Printer(ws.Locale).Sprint(number.Decimal(value.Round(n, int(places)), number.Scale(int(places)))), nil
		}),
		pass("percent", 1, 1, func(p params) (any, error) {
			n, err := asNumber(p[0], ws)
			return value.Printer(ws.Locale).Sprint(number.Percent(value.Round(n, 3), number.MaxFractionDigits(1))), err
		}),
		pass("plural", 3, 3, func(p params) (any, error) {
			n, err := asNumber(p[0], ws)
			word := Show(p[2], ws)
			if n == 1 || n == -1 {
				word = Show(p[1], ws)
			}
			return value.NumberText(n) + " " + word, err
		}),
		def("bullets", 3, 3, func(p params) (any, error) { return w.bullets(p) }),
		pass("link", 2, 2, func(p params) (any, error) { return Anchor{Text: Show(p[0], ws), To: Show(p[1], ws)}, nil }),
		def(orName, 2, 2, func(p params) (any, error) {
			if value.Empty(p[0]) {
				return p[1], nil
			}
			return p[0], nil
		}),
		pass("shorten", 2, 2, func(p params) (any, error) {
			n, err := asNumber(p[1], ws)
			if err != nil || n < 1 {
				return nil, errors.New("the length of shorten() is a number of at least 1")
			}
			return Shorten(Show(p[0], ws), int(n)), nil
		}),
		pass("phone", 2, 2, func(p params) (any, error) {
			text, region := Show(p[0], ws), Show(p[1], ws)
			e164, err := value.Phone(text, region)
			if errors.Is(err, value.ErrNoPhone) {
				return nil, fmt.Errorf("%q %w in %s", text, err, region)
			}
			if err != nil {
				return nil, fmt.Errorf("%q %w", text, err)
			}
			return e164, nil
		}),
		pass("mask", 1, 1, func(p params) (any, error) { return mask(Show(p[0], ws)), nil }),
		pass("slug", 1, 1, func(p params) (any, error) { return Slug(Show(p[0], ws)), nil }),
		def("rows", 2, 2, func(p params) (any, error) { return rowsOf(p, ws) }),
		def("when_became", 3, 3, w.whenBecame),
		def("group", 2, 2, func(p params) (any, error) { return groupOf(p, ws) }),
	}...)
}

func (w *Words) bullets(p params) (any, error) {
	list, ok := p[0].([]any)
	if !ok && !value.Empty(p[0]) {
		return nil, errors.New("bullets() needs a list first")
	}
	if len(list) == 0 {
		return nil, nil
	}
	own := *w
	own.Sources = nil // which are collected while a sheet is compiled
	tmpl, wrong := ParseTemplate(Show(p[1], w.Workspace), &own)
	if len(wrong) > 0 {
		return nil, wrong[0]
	}
	outer, _ := p[2].(map[string]any)
	return each(list, tmpl, outer)
}

// Each fills a template in for each element of a list, which the template calls "it". What is empty is left out.
func (w *Words) Each(list []any, tmpl *Template, sc *Scope) (Bullets, error) {
	return each(list, tmpl, w.env(sc))
}

func each(list []any, tmpl *Template, outer map[string]any) (Bullets, error) {
	env := make(map[string]any, len(outer)+1)
	maps.Copy(env, outer)
	var out Bullets
	for _, it := range list {
		env["it"] = it
		line, err := tmpl.line(env)
		if err != nil {
			return nil, err
		}
		if line.Plain() != "" {
			out = append(out, line)
		}
	}
	return out, nil
}

func asNumber(v any, ws value.Workspace) (float64, error) {
	if n, ok := value.ReadNumber(v, ws); ok {
		return n.Float, nil
	}
	return 0, fmt.Errorf("%q is not a number", Show(v, ws))
}

func asMoment(v any, ws value.Workspace) (time.Time, error) {
	switch x := v.(type) {
	case time.Time:
		return x, nil
	case string:
		if t, _, ok := value.ReadMoment(x, ws.Location()); ok {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a date or moment", Show(v, ws))
}

func asSpan(v any) (time.Duration, error) {
	switch x := v.(type) {
	case time.Duration:
		return x, nil
	case string:
		return value.ParseSpan(x)
	}
	return 0, fmt.Errorf("words() needs a span of time, such as now - record.due, not %s", value.Describe(v))
}

// Shorten cuts text to at most n characters, as people count them, the last being an ellipsis where something was cut. It
// cuts between words where one ends near enough, and never within a character that several code points make up.
func Shorten(s string, n int) string {
	if len(s) <= n {
		return s
	}
	kept, count := 0, 0
	for rest, state := s, -1; rest != ""; {
		var cluster string
		cluster, rest, _, state = uniseg.FirstGraphemeClusterInString(rest, state)
		if count++; count == n && rest != "" { // there is one more than fits beside the ellipsis
			break
		}
		kept += len(cluster)
	}
	if kept == len(s) {
		return s
	}
	cut := s[:kept]
	if i := strings.LastIndexFunc(cut, unicode.IsSpace); utf8.RuneCountInString(cut[:max(i, 0)]) > utf8.RuneCountInString(cut)*2/3 {
		cut = cut[:i]
	}
	return strings.TrimRightFunc(cut, unicode.IsSpace) + "…"
}

// mask hides all but the last quarter, at most four characters, of what must not be read by all.
func mask(s string) string {
	r := []rune(s)
	show := min(4, len(r)/4)
	for i := range r[:len(r)-show] {
		if !unicode.IsSpace(r[i]) {
			r[i] = '•'
		}
	}
	return string(r)
}

// unaccented are letters that are no letter with an accent, as they are written without them.
var unaccented = strings.NewReplacer("ß", "ss", "æ", "ae", "œ", "oe", "ø", "o", "ł", "l", "đ", "d", "ð", "d", "þ", "th", "ħ", "h", "ı", "i", "ŋ", "n")

// Slug makes a lower-case name of ASCII letters, digits and hyphens.
func Slug(s string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(unaccented.Replace(strings.ToLower(strings.ReplaceAll(s, "ẞ", "ss")))) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case unicode.Is(unicode.Mn, r):
		default:
			if b.Len() > 0 && !strings.HasSuffix(b.String(), "-") {
				b.WriteByte('-')
			}
		}
	}
	return strings.TrimSuffix(b.String(), "-")
}

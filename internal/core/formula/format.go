package formula

import (
	"fmt"
	"strings"
	"time"

	"golang.org/x/text/currency"
	"golang.org/x/text/language"
	"golang.org/x/text/number"

	"dorfbote/internal/core/value"
)

// DefaultDatePattern is how a moment is written where nothing else is said.
const DefaultDatePattern = "d MMM yyyy HH:mm"

// FormatDate writes a moment by a Unicode LDML pattern: y M d E a H h m s S x X z and quoted text.
// Names are English.
func FormatDate(t time.Time, pattern string) string {
	var b strings.Builder
	p := []rune(pattern)
	for i := 0; i < len(p); {
		c := p[i]
		if c == '\'' {
			i = quoted(&b, p, i+1)
			continue
		}
		n := 1
		for i+n < len(p) && p[i+n] == c {
			n++
		}
		if !dateField(&b, t, c, n) {
			b.WriteString(string(p[i : i+n]))
		}
		i += n
	}
	return b.String()
}

// quoted writes the text between quotes; a doubled quote stands for itself.
func quoted(b *strings.Builder, p []rune, i int) int {
	if i < len(p) && p[i] == '\'' {
		b.WriteByte('\'')
		return i + 1
	}
	for ; i < len(p); i++ {
		if p[i] != '\'' {
			b.WriteRune(p[i])
		} else if i+1 < len(p) && p[i+1] == '\'' {
			b.WriteByte('\'')
			i++
		} else {
			return i + 1
		}
	}
	return i
}

func dateField(b *strings.Builder, t time.Time, c rune, n int) bool {
	num := func(v int) { fmt.Fprintf(b, "%0*d", n, v) }
	switch c {
	case 'y', 'u':
		if n == 2 {
			num(t.Year() % 100)
		} else {
			num(t.Year())
		}
	case 'M', 'L':
		switch {
		case n >= 4:
			b.WriteString(t.Month().String())
		case n == 3:
			b.WriteString(t.Month().String()[:3])
		default:
			num(int(t.Month()))
		}
	case 'd':
		num(t.Day())
	case 'D':
		num(t.YearDay())
	case 'w':
		_, week := t.ISOWeek()
		num(week)
	case 'E', 'c':
		if n == 4 {
			b.WriteString(t.Weekday().String())
		} else {
			b.WriteString(t.Weekday().String()[:3])
		}
	case 'a':
		b.WriteString(t.Format("PM"))
	case 'H':
		num(t.Hour())
	case 'h':
		num((t.Hour()+11)%12 + 1)
	case 'm':
		num(t.Minute())
	case 's':
		num(t.Second())
	case 'S':
		digits := fmt.Sprintf("%09d", t.Nanosecond())
		b.WriteString((digits + strings.Repeat("0", n))[:n])
	case 'z', 'v':
		b.WriteString(t.Format("MST"))
	case 'x', 'X', 'Z':
		if _, off := t.Zone(); c == 'X' && off == 0 {
			b.WriteByte('Z')
		} else if n == 3 || n == 5 {
			b.WriteString(t.Format("-07:00"))
		} else {
			b.WriteString(t.Format("-0700"))
		}
	default:
		return false
	}
	return true
}

// formatMoney writes an amount with its currency as the locale does, with the decimals that the
// currency has.
func formatMoney(amount float64, code, locale string) string {
	unit, err := currency.ParseISO(strings.ToUpper(strings.TrimSpace(code)))
	if err != nil {
		return value.NumberText(amount) + " " + code
	}
	scale, _ := currency.Standard.Rounding(unit)
	amount = value.Round(amount, scale)
	sign := ""
	if amount < 0 {
		sign, amount = "-", -amount
	}
	digits := value.Printer(locale).Sprint(number.Decimal(amount, number.Scale(scale)))
	symbol := value.Printer(locale).Sprint(currency.NarrowSymbol(unit))
	tag, _ := language.Parse(locale)
	base, _ := tag.Base()
	region, _ := tag.Region()
	switch {
	case base.String() == "en" || base.String() == "ja" || base.String() == "zh":
		if len([]rune(symbol)) > 1 {
			symbol += "\u00a0" // a code is kept off the digits, a sign is not
		}
		return sign + symbol + digits
	case region.String() == "CH" || region.String() == "AT" || base.String() == "nl":
		return symbol + "\u00a0" + sign + digits
	}
	return sign + digits + "\u00a0" + symbol
}

package formula

import (
	"fmt"
	"strings"
	"time"

	"golang.org/x/text/language"
)

// DefaultDatePattern is how a moment is written where nothing else is said.
const DefaultDatePattern = "d MMM yyyy HH:mm"

// FormatDate writes a moment by a Unicode LDML pattern (UTS 35): G y Y u Q q M L w D d F E e c a H h K k m s S z v O x X Z
// and quoted text; other letters stand as they are. Months, days, quarters and eras have the names of the locale's
// language, in English, German, French and Italian, and English ones in others. Weeks are those of ISO 8601.
func FormatDate(t time.Time, pattern, locale string) string {
	names := namesOf(locale)
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
		if text, ok := dateField(t, c, n, names); ok {
			b.WriteString(text)
		} else {
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
		switch {
		case p[i] != '\'':
			b.WriteRune(p[i])
		case i+1 < len(p) && p[i+1] == '\'':
			b.WriteByte('\'')
			i++
		default:
			return i + 1
		}
	}
	return i
}

// mostDigits bounds how far a number is filled with zeros.
const mostDigits = 20

// dateField writes one field of a pattern; ok is false where the letter is none.
func dateField(t time.Time, c rune, n int, names *dateNames) (text string, ok bool) {
	if text, ok = numberField(t, c, n); ok {
		return text, true
	}
	switch c {
	case 'G':
		return names.eras[width(n)], true
	case 'Q', 'q':
		return names.quarter((int(t.Month())+2)/3, n), true
	case 'M', 'L':
		return names.month(int(t.Month()), n, c == 'L'), true
	case 'E', 'e', 'c':
		return names.day(t.Weekday(), n, c), true
	case 'a':
		return t.Format("PM"), true
	case 'z', 'v':
		if n == 4 {
			return "GMT" + offset(t, "-07:00", ""), true
		}
		return t.Format("MST"), true
	case 'O', 'x', 'X', 'Z':
		return zoneField(t, c, n), true
	}
	return "", false
}

func numberField(t time.Time, c rune, n int) (string, bool) {
	var v int
	switch c {
	case 'y', 'u':
		v = t.Year()
	case 'Y':
		v, _ = t.ISOWeek()
	case 'd':
		v = t.Day()
	case 'D':
		v = t.YearDay()
	case 'F':
		v = (t.Day()-1)/7 + 1
	case 'w':
		_, v = t.ISOWeek()
	case 'H':
		v = t.Hour()
	case 'K':
		v = t.Hour() % 12
	case 'h':
		v = (t.Hour()+11)%12 + 1
	case 'k':
		v = (t.Hour()+23)%24 + 1
	case 'm':
		v = t.Minute()
	case 's':
		v = t.Second()
	case 'S':
		digits := fmt.Sprintf("%09d", t.Nanosecond())
		return (digits + strings.Repeat("0", min(n, mostDigits)))[:min(n, mostDigits)], true
	default:
		return "", false
	}
	if (c == 'y' || c == 'Y') && n == 2 {
		v %= 100
	}
	return fmt.Sprintf("%0*d", min(n, mostDigits), v), true
}

// zoneField writes how far a moment's zone is from UTC: O and ZZZZ as GMT+1, x, X and Z as ISO 8601 does.
func zoneField(t time.Time, c rune, n int) string {
	_, off := t.Zone()
	switch {
	case c == 'O' && n < 4:
		if off%3600 == 0 {
			return "GMT" + strings.Replace(strings.Replace(offset(t, "-07", ""), "+0", "+", 1), "-0", "-", 1)
		}
		return "GMT" + strings.Replace(strings.Replace(offset(t, "-07:00", ""), "+0", "+", 1), "-0", "-", 1)
	case c == 'O', c == 'Z' && n == 4:
		return "GMT" + offset(t, "-07:00", "")
	case c == 'Z' && n < 4:
		return t.Format("-0700")
	case c == 'Z':
		return offset(t, "-07:00", "Z")
	case c == 'X' && off == 0:
		return "Z"
	case n == 1 && off%3600 == 0:
		return t.Format("-07")
	case n == 3 || n == 5:
		return t.Format("-07:00")
	}
	return t.Format("-0700")
}

// offset writes the distance from UTC, or what stands for none.
func offset(t time.Time, layout, none string) string {
	if _, off := t.Zone(); off == 0 {
		return none
	}
	return t.Format(layout)
}

// dateNames are the names of a language, as the Common Locale Data Repository has them: wide, abbreviated and narrow, by
// themselves (alone) and within a date.
type dateNames struct {
	months, monthsShort, monthsAlone, monthsNarrow  [12]string
	days, daysShort, daysAlone, daysNarrow, daysTwo [7]string // from Sunday
	eras                                            [3]string // abbreviated, wide, narrow
	quarters                                        [4]string
	quarterLetter                                   string
}

// width turns the length of a field into wide (1), narrow (2) or abbreviated (0).
func width(n int) int {
	switch n {
	case 4:
		return 1
	case 5:
		return 2
	}
	return 0
}

func (d *dateNames) quarter(q, n int) string {
	switch n {
	case 3:
		return fmt.Sprintf("%s%d", d.quarterLetter, q)
	case 4:
		return d.quarters[q-1]
	case 5:
		n = 1
	}
	return fmt.Sprintf("%0*d", min(n, mostDigits), q)
}

func (d *dateNames) month(m, n int, alone bool) string {
	switch {
	case n < 3 || n > 5:
		return fmt.Sprintf("%0*d", min(n, mostDigits), m)
	case n == 4:
		return d.months[m-1]
	case n == 5:
		return d.monthsNarrow[m-1]
	case alone:
		return d.monthsAlone[m-1]
	}
	return d.monthsShort[m-1]
}

func (d *dateNames) day(w time.Weekday, n int, c rune) string {
	switch {
	case c != 'E' && n < 3: // its number in the week, which begins on Monday
		return fmt.Sprintf("%0*d", n, (int(w)+6)%7+1)
	case n == 4:
		return d.days[w]
	case n == 5:
		return d.daysNarrow[w]
	case n == 6:
		return d.daysTwo[w]
	case c == 'c':
		return d.daysAlone[w]
	}
	return d.daysShort[w]
}

func namesOf(locale string) *dateNames {
	tag, err := language.Parse(locale)
	if err == nil {
		base, _ := tag.Base()
		if names, ok := namesIn[base.String()]; ok {
			return names
		}
	}
	return namesIn["en"]
}

func twelve(list string) (out [12]string) { copy(out[:], strings.Fields(list)); return out }
func seven(list string) (out [7]string)   { copy(out[:], strings.Fields(list)); return out }

var namesIn = map[string]*dateNames{
	"en": {
		months:       twelve("January February March April May June July August September October November December"),
		monthsShort:  twelve("Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec"),
		monthsAlone:  twelve("Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec"),
		monthsNarrow: twelve("J F M A M J J A S O N D"),
		days:         seven("Sunday Monday Tuesday Wednesday Thursday Friday Saturday"),
		daysShort:    seven("Sun Mon Tue Wed Thu Fri Sat"),
		daysAlone:    seven("Sun Mon Tue Wed Thu Fri Sat"),
		daysNarrow:   seven("S M T W T F S"),
		daysTwo:      seven("Su Mo Tu We Th Fr Sa"),
		eras:         [3]string{"AD", "Anno Domini", "A"},
		quarters:     [4]string{"1st quarter", "2nd quarter", "3rd quarter", "4th quarter"}, quarterLetter: "Q",
	},
	"de": {
		months:       twelve("Januar Februar März April Mai Juni Juli August September Oktober November Dezember"),
		monthsShort:  twelve("Jan. Feb. März Apr. Mai Juni Juli Aug. Sept. Okt. Nov. Dez."),
		monthsAlone:  twelve("Jan Feb Mär Apr Mai Jun Jul Aug Sep Okt Nov Dez"),
		monthsNarrow: twelve("J F M A M J J A S O N D"),
		days:         seven("Sonntag Montag Dienstag Mittwoch Donnerstag Freitag Samstag"),
		daysShort:    seven("So. Mo. Di. Mi. Do. Fr. Sa."),
		daysAlone:    seven("So Mo Di Mi Do Fr Sa"),
		daysNarrow:   seven("S M D M D F S"),
		daysTwo:      seven("So. Mo. Di. Mi. Do. Fr. Sa."),
		eras:         [3]string{"n. Chr.", "n. Chr.", "n. Chr."},
		quarters:     [4]string{"1. Quartal", "2. Quartal", "3. Quartal", "4. Quartal"}, quarterLetter: "Q",
	},
	"fr": {
		months:       twelve("janvier février mars avril mai juin juillet août septembre octobre novembre décembre"),
		monthsShort:  twelve("janv. févr. mars avr. mai juin juil. août sept. oct. nov. déc."),
		monthsAlone:  twelve("janv. févr. mars avr. mai juin juil. août sept. oct. nov. déc."),
		monthsNarrow: twelve("J F M A M J J A S O N D"),
		days:         seven("dimanche lundi mardi mercredi jeudi vendredi samedi"),
		daysShort:    seven("dim. lun. mar. mer. jeu. ven. sam."),
		daysAlone:    seven("dim. lun. mar. mer. jeu. ven. sam."),
		daysNarrow:   seven("D L M M J V S"),
		daysTwo:      seven("di lu ma me je ve sa"),
		eras:         [3]string{"ap. J.-C.", "après Jésus-Christ", "ap. J.-C."},
		quarters:     [4]string{"1er trimestre", "2e trimestre", "3e trimestre", "4e trimestre"}, quarterLetter: "T",
	},
	"it": {
		months:       twelve("gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre"),
		monthsShort:  twelve("gen feb mar apr mag giu lug ago set ott nov dic"),
		monthsAlone:  twelve("gen feb mar apr mag giu lug ago set ott nov dic"),
		monthsNarrow: twelve("G F M A M G L A S O N D"),
		days:         seven("domenica lunedì martedì mercoledì giovedì venerdì sabato"),
		daysShort:    seven("dom lun mar mer gio ven sab"),
		daysAlone:    seven("dom lun mar mer gio ven sab"),
		daysNarrow:   seven("D L M M G V S"),
		daysTwo:      seven("dom lun mar mer gio ven sab"),
		eras:         [3]string{"d.C.", "dopo Cristo", "dC"},
		quarters:     [4]string{"1º trimestre", "2º trimestre", "3º trimestre", "4º trimestre"}, quarterLetter: "T",
	},
}

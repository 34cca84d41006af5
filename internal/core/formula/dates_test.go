package formula

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestDatesByPattern(t *testing.T) {
	zurich, half, utc := time.FixedZone("CET", 3600), time.FixedZone("IST", 19800), time.UTC
	evening := time.Date(2026, 3, 5, 0, 7, 9, 120_000_000, time.UTC)
	for _, c := range []struct {
		zone            *time.Location
		locale, pattern string
		want            string
	}{
		{utc, "en", "d MMM yyyy HH:mm", "5 Mar 2026 00:07"},
		{utc, "en", "yy y yyyyy YYYY", "26 2026 02026 2026"},
		{utc, "en", "G GGGG GGGGG", "AD Anno Domini A"},
		{utc, "en", "Q QQ QQQ QQQQ QQQQQ", "1 01 Q1 1st quarter 1"},
		{utc, "en", "M MM MMM MMMM MMMMM", "3 03 Mar March M"},
		{utc, "en", "E EEE EEEE EEEEE EEEEEE", "Thu Thu Thursday T Th"},
		{utc, "en", "c cc ccc cccc ccccc e ee", "4 04 Thu Thursday T 4 04"},
		{utc, "en", "H K h k HH KK hh kk a", "0 0 12 24 00 00 12 24 AM"},
		{utc, "en", "s ss S SSS SSSSSS", "9 09 1 120 120000"},
		{utc, "en", "D w F 'o''clock' ''", "64 10 1 o'clock '"},
		{utc, "en", "x xx xxx xxxx xxxxx", "+00 +0000 +00:00 +0000 +00:00"},
		{utc, "en", "X XX XXX XXXX XXXXX", "Z Z Z Z Z"},
		{utc, "en", "Z ZZ ZZZ ZZZZ ZZZZZ", "+0000 +0000 +0000 GMT Z"},
		{zurich, "en", "x xx xxx X XX XXX", "+01 +0100 +01:00 +01 +0100 +01:00"},
		{zurich, "en", "Z ZZZZ ZZZZZ O OOOO z zzzz", "+0100 GMT+01:00 +01:00 GMT+1 GMT+01:00 CET GMT+01:00"},
		{half, "en", "x X O", "+0530 +0530 GMT+5:30"},
		{utc, "de-CH", "EEEE, d. MMMM y; E d. MMM; LLL ccc", "Donnerstag, 5. März 2026; Do. 5. März; Mär Do"},
		{utc, "de", "QQQQ G", "1. Quartal n. Chr."},
		{utc, "fr-CH", "EEEE d MMMM; E d MMM; QQQ EEEEEE", "jeudi 5 mars; jeu. 5 mars; T1 je"},
		{utc, "it", "EEEE d MMMM; E d MMM; MMMMM G", "giovedì 5 marzo; gio 5 mar; M d.C."},
		{utc, "pt-BR", "EEEE", "Thursday"},
		{utc, "", "MMMM", "March"},
	} {
		assert.Equal(t, c.want, FormatDate(evening.In(c.zone).Add(-offsetOf(c.zone)), c.pattern, c.locale), "%s in %q", c.pattern, c.locale)
	}
}

func offsetOf(zone *time.Location) time.Duration {
	_, off := time.Date(2026, 3, 5, 0, 0, 0, 0, zone).Zone()
	return time.Duration(off) * time.Second
}

// Every name is there, in every language.
func TestDateNamesAreWhole(t *testing.T) {
	for language, d := range namesIn {
		for m := range 12 {
			for _, list := range [][12]string{d.months, d.monthsShort, d.monthsAlone, d.monthsNarrow} {
				assert.NotEmpty(t, list[m], "%s, month %d", language, m+1)
			}
		}
		for w := range 7 {
			for _, list := range [][7]string{d.days, d.daysShort, d.daysAlone, d.daysNarrow, d.daysTwo} {
				assert.NotEmpty(t, list[w], "%s, day %d", language, w)
			}
		}
	}
}

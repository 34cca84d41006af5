// Package usual compares how much comes with what usually does at this hour of this weekday.
package usual

import "time"

// Weeks is over how many weeks the usual is taken.
const Weeks = 4

// Hours is how many came within each hour, by the hour's beginning in UTC.
type Hours map[time.Time]int64

// Between gives how many came between two moments. Of an hour that is only partly between them, that part counts.
func (h Hours) Between(from, to time.Time) float64 {
	sum := 0.0
	for at := from.UTC().Truncate(time.Hour); at.Before(to); at = at.Add(time.Hour) {
		n := h[at]
		if n == 0 {
			continue
		}
		begin, end := at, at.Add(time.Hour)
		if begin.Before(from) {
			begin = from
		}
		if end.After(to) {
			end = to
		}
		sum += float64(n) * end.Sub(begin).Hours()
	}
	return sum
}

// Expected gives how many usually come between two moments: the mean of the same hours of the same weekdays, by the
// clock of a zone, in the weeks before. Weeks from before known, which is when counting began, are left out.
func (h Hours) Expected(from, to, known time.Time, loc *time.Location) (n float64, weeks int) {
	for k := 1; k <= Weeks; k++ {
		f, t := from.In(loc).AddDate(0, 0, -7*k), to.In(loc).AddDate(0, 0, -7*k)
		if f.Before(known) {
			break
		}
		n += h.Between(f, t)
		weeks++
	}
	if weeks > 0 {
		n /= float64(weeks)
	}
	return n, weeks
}

// How far from the usual is worth a look: so much more or less, and by at least so many.
const (
	muchMore, atLeastMore = 2.5, 4
	muchLess, usualAtAll  = 0.25, 4
)

// Unusual tells whether a count is far from the usual: "more", "less" or "".
func Unusual(n, usual float64) string {
	switch {
	case n > usual*muchMore && n >= usual+atLeastMore:
		return "more"
	case usual >= usualAtAll && n < usual*muchLess:
		return "less"
	}
	return ""
}

// silentFrom is how many arrivals must usually have come by now for a source to be called silent.
const silentFrom = 6

// Silent tells whether a source of which nothing has come since last is silent: by now, several usually come. expected
// is how many.
func (h Hours) Silent(last, now, known time.Time, loc *time.Location) (expected float64, silent bool) {
	if last.IsZero() || now.Sub(last) > 14*24*time.Hour { // it has stopped for good, which a person knows by now
		return 0, false
	}
	expected, weeks := h.Expected(last, now, known, loc)
	return expected, weeks >= 2 && expected >= silentFrom
}

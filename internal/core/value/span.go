package value

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

var (
	shortSpan = regexp.MustCompile(`^([+-]?)((?:\d+(?:\.\d+)?[wdhms])+)$`)
	spanPart  = regexp.MustCompile(`(\d+(?:\.\d+)?)([wdhmsWDHMS])`)
	isoSpan   = regexp.MustCompile(`^([+-]?)P(?:(\d+)W)?(?:(\d+(?:\.\d+)?)D)?(?:T((?:\d+(?:\.\d+)?[HMS])+))?$`)
)

var spanUnits = map[string]time.Duration{
	"w": 7 * 24 * time.Hour, "d": 24 * time.Hour, "h": time.Hour, "m": time.Minute, "s": time.Second,
}

// ParseSpan reads a span of time: "90s", "45m", "2h", "3d", "1h30m", "2w" or ISO 8601 ("PT90M",
// "P1DT2H"). A day is 24 hours. Months and years are refused, since they have no length of their own.
func ParseSpan(text string) (time.Duration, error) {
	s := strings.TrimSpace(text)
	if m := shortSpan.FindStringSubmatch(s); m != nil {
		return sumSpan(m[1], m[2])
	}
	if m := isoSpan.FindStringSubmatch(strings.ToUpper(s)); m != nil && m[2]+m[3]+m[4] != "" {
		parts := strings.ToLower(m[4])
		if m[3] != "" {
			parts = m[3] + "d" + parts
		}
		if m[2] != "" {
			parts = m[2] + "w" + parts
		}
		return sumSpan(m[1], parts)
	}
	return 0, fmt.Errorf("%q is not a span of time; write it like 90s, 45m, 2h, 3d, 1h30m or PT90M", text)
}

func sumSpan(sign, parts string) (time.Duration, error) {
	var total float64
	for _, p := range spanPart.FindAllStringSubmatch(parts, -1) {
		n, err := strconv.ParseFloat(p[1], 64)
		if err != nil {
			return 0, err
		}
		total += n * float64(spanUnits[strings.ToLower(p[2])])
	}
	if total > float64(1<<62) {
		return 0, fmt.Errorf("%s is longer than 146 years", parts)
	}
	if sign == "-" {
		total = -total
	}
	return time.Duration(total), nil
}

// Words says a span in readable form with its two largest units: "1 h 20 min", "3 d 4 h", "45 s".
func Words(d time.Duration) string {
	sign := ""
	if d < 0 {
		sign, d = "minus ", -d
	}
	switch {
	case d < time.Second:
		return "0 s"
	case d < time.Minute:
		return sign + fmt.Sprintf("%d s", d/time.Second)
	case d < time.Hour:
		return sign + two(int64(d/time.Minute), "min", int64(d%time.Minute/time.Second), "s")
	case d < 24*time.Hour:
		return sign + two(int64(d/time.Hour), "h", int64(d%time.Hour/time.Minute), "min")
	}
	return sign + two(int64(d/(24*time.Hour)), "d", int64(d%(24*time.Hour)/time.Hour), "h")
}

func two(a int64, unitA string, b int64, unitB string) string {
	if b == 0 {
		return fmt.Sprintf("%d %s", a, unitA)
	}
	return fmt.Sprintf("%d %s %d %s", a, unitA, b, unitB)
}

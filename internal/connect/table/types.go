package table

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/core/value"
)

// columnSeen is what is found out about a column in a first pass: text in a file says nothing of types, so a column
// is of a type only if every value in it reads as one.
type columnSeen struct {
	values       int
	point, comma int // read as numbers, with a decimal point or a decimal comma
	pointOnly    int
	commaOnly    int
	iso, dotted  int
	slashed      int
	dayFirst     int // slashed, with a first part above twelve
	monthFirst   int
	truth        int
	alreadyTyped int
}

var (
	plainNumber = regexp.MustCompile(`^-?(?:0|[1-9][0-9.,'’\x{00a0}\x{202f} ]*)(?:[.,][0-9]+)?$`)
	dottedDate  = regexp.MustCompile(`^(\d{1,2})\.(\d{1,2})\.(\d{4})(?:[ T](\d{1,2}):(\d{2})(?::(\d{2}))?)?$`)
	slashedDate = regexp.MustCompile(`^(\d{1,2})/(\d{1,2})/(\d{4})(?:[ T](\d{1,2}):(\d{2})(?::(\d{2}))?)?$`)
)

var (
	pointSpace = value.Workspace{Locale: "en", Zone: time.UTC}
	commaSpace = value.Workspace{Locale: "de", Zone: time.UTC}
)

func (c *columnSeen) see(v any) {
	s, isText := v.(string)
	if v == nil || isText && strings.TrimSpace(s) == "" {
		return
	}
	c.values++
	if !isText {
		c.alreadyTyped++
		return
	}
	s = strings.TrimSpace(s)
	if plainNumber.MatchString(s) && len(s) <= 24 {
		p, okP := value.ReadNumber(s, pointSpace)
		q, okQ := value.ReadNumber(s, commaSpace)
		okP, okQ = okP && p.Exact == "", okQ && q.Exact == ""
		if okP {
			c.point++
		}
		if okQ {
			c.comma++
		}
		if okP && !okQ {
			c.pointOnly++
		}
		if okQ && !okP {
			c.commaOnly++
		}
	}
	switch {
	case dottedDate.MatchString(s):
		c.dotted++
	case slashedDate.MatchString(s):
		c.slashed++
		m := slashedDate.FindStringSubmatch(s)
		a, _ := strconv.Atoi(m[1])
		b, _ := strconv.Atoi(m[2])
		if a > 12 {
			c.dayFirst++
		}
		if b > 12 {
			c.monthFirst++
		}
	default:
		if _, _, ok := value.ReadMoment(s, time.UTC); ok {
			c.iso++
		}
	}
	switch strings.ToLower(s) {
	case "true", "false":
		c.truth++
	}
}

// reading is how a column's text is read.
type reading int

const (
	asText reading = iota
	asPointNumber
	asCommaNumber
	asDotted
	asDayFirst
	asMonthFirst
	asTruth
)

// readings decides for all columns together: whoever writes a decimal comma in one column does so in all.
func readings(cols []columnSeen, decimal string, ws value.Workspace) []reading {
	comma := decimal == "comma"
	if decimal != "comma" && decimal != "point" {
		point := 0
		for _, c := range cols {
			if c.comma == c.values && c.commaOnly > 0 {
				comma = true
			}
			if c.point == c.values && c.pointOnly > 0 {
				point++
			}
		}
		comma = comma && point == 0 || comma && strings.HasPrefix(ws.Locale, "de") || !comma && point == 0 && localComma(ws)
	}
	out := make([]reading, len(cols))
	for i, c := range cols {
		switch {
		case c.values == 0 || c.alreadyTyped == c.values:
		case comma && c.comma == c.values, c.comma == c.values && c.commaOnly > 0:
			out[i] = asCommaNumber
		case c.point == c.values:
			out[i] = asPointNumber
		case c.dotted == c.values:
			out[i] = asDotted
		case c.slashed == c.values && c.dayFirst > 0 && c.monthFirst == 0, c.slashed == c.values && c.monthFirst == 0 && ws.Locale != "en-US":
			out[i] = asDayFirst
		case c.slashed == c.values && c.dayFirst == 0:
			out[i] = asMonthFirst
		case c.truth == c.values:
			out[i] = asTruth
		}
	}
	return out
}

// localComma tells whether the workspace writes a decimal comma.
func localComma(ws value.Workspace) bool {
	n, ok := value.ReadNumber("1,5", ws)
	return ok && n.Float == 1.5
}

// read gives a cell's value.
func (r reading) read(v any) any {
	s, ok := v.(string)
	if !ok {
		return v
	}
	s = strings.TrimSpace(s)
	if s == "" {
		return nil
	}
	switch r {
	case asPointNumber, asCommaNumber:
		ws := pointSpace
		if r == asCommaNumber {
			ws = commaSpace
		}
		if n, ok := value.ReadNumber(s, ws); ok && n.Exact == "" {
			return n.Float
		}
	case asDotted:
		return isoDate(dottedDate.FindStringSubmatch(s), 3, 2, 1, s)
	case asDayFirst:
		return isoDate(slashedDate.FindStringSubmatch(s), 3, 2, 1, s)
	case asMonthFirst:
		return isoDate(slashedDate.FindStringSubmatch(s), 3, 1, 2, s)
	case asTruth:
		return strings.EqualFold(s, "true")
	}
	return s
}

// isoDate writes the parts of a date, named by their places in the match, as ISO 8601. What is no date stays as
// it was.
func isoDate(m []string, year, month, day int, as string) any {
	if m == nil {
		return as
	}
	n := make([]int, len(m))
	for i := 1; i < len(m); i++ {
		n[i], _ = strconv.Atoi(m[i])
	}
	t := time.Date(n[year], time.Month(n[month]), n[day], n[4], n[5], n[6], 0, time.UTC)
	if t.Day() != n[day] || int(t.Month()) != n[month] || n[4] > 23 || n[5] > 59 || n[6] > 59 {
		return as
	}
	if m[4] == "" {
		return t.Format("2006-01-02")
	}
	return fmt.Sprintf("%sT%02d:%02d:%02d", t.Format("2006-01-02"), n[4], n[5], n[6])
}

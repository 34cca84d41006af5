package calendar

import (
	"strconv"
	"strings"

	"dorfbote/internal/core/fault"

	"github.com/teambition/rrule-go"
)

// fitting refuses what RFC 5545 (3.3.10) does not allow in a rule, or leaves without a meaning.
func fitting(r *rrule.ROption, parts map[string]string) error {
	refuse := func(part, format string, args ...any) error {
		return fault.At(part, format, args...)
	}
	for part, least := range map[string]int{"INTERVAL": 1, "COUNT": 1} {
		if text, ok := parts[part]; ok {
			if n, err := strconv.Atoi(text); err != nil || n < least {
				return refuse(part, "%s=%s is no whole number of at least %d", part, text, least)
			}
		}
	}
	if len(r.Bysecond) > 0 {
		for _, n := range r.Bysecond {
			if n != 0 {
				return refuse("BYSECOND", "a schedule keeps to whole minutes; leave BYSECOND out")
			}
		}
	}
	for _, b := range []struct {
		part        string
		list        []int
		least, most int
		back        bool // counted from the end as well
	}{
		{"BYMINUTE", r.Byminute, 0, 59, false}, {"BYHOUR", r.Byhour, 0, 23, false}, {"BYMONTH", r.Bymonth, 1, 12, false},
		{"BYMONTHDAY", r.Bymonthday, 1, 31, true}, {"BYYEARDAY", r.Byyearday, 1, 366, true}, {"BYWEEKNO", r.Byweekno, 1, 53, true}, {"BYSETPOS", r.Bysetpos, 1, 366, true},
	} {
		for _, n := range b.list {
			if b.back && n < 0 {
				n = -n
			}
			if n < b.least || n > b.most {
				return refuse(b.part, "%s=%s: the numbers are from %d to %d", b.part, parts[b.part], b.least, b.most)
			}
		}
	}
	ordinal := false
	for day := range strings.SplitSeq(parts["BYDAY"], ",") {
		if len(day) <= 2 {
			continue
		}
		n, err := strconv.Atoi(strings.TrimPrefix(day[:len(day)-2], "+"))
		if err != nil || n == 0 || n > 53 || n < -53 {
			return refuse("BYDAY", "%s: the number before a day counts it from the first, or from the last with a minus", day)
		}
		ordinal = true
	}
	freq := parts["FREQ"]
	switch {
	case ordinal && r.Freq != rrule.MONTHLY && r.Freq != rrule.YEARLY:
		return refuse("BYDAY", "a number before a day, as in %s, stands with MONTHLY and YEARLY, not with %s", parts["BYDAY"], freq)
	case ordinal && len(r.Byweekno) > 0:
		return refuse("BYDAY", "a number before a day, as in %s, does not stand beside BYWEEKNO", parts["BYDAY"])
	case r.Freq == rrule.WEEKLY && len(r.Bymonthday) > 0:
		return refuse("BYMONTHDAY", "BYMONTHDAY does not stand with WEEKLY")
	case r.Freq != rrule.YEARLY && len(r.Byweekno) > 0:
		return refuse("BYWEEKNO", "BYWEEKNO stands with YEARLY, not with %s", freq)
	case (r.Freq == rrule.DAILY || r.Freq == rrule.WEEKLY || r.Freq == rrule.MONTHLY) && len(r.Byyearday) > 0:
		return refuse("BYYEARDAY", "BYYEARDAY does not stand with %s", freq)
	}
	others := len(r.Bymonth) + len(r.Bymonthday) + len(r.Byyearday) + len(r.Byweekno) + len(r.Byweekday) + len(r.Byhour) + len(r.Byminute) + len(r.Bysecond)
	if len(r.Bysetpos) > 0 && (others == 0 || r.Freq >= rrule.HOURLY && len(r.Byminute) == 0) {
		return refuse("BYSETPOS", "there is nothing for BYSETPOS to pick from; it stands with parts such as BYDAY")
	}
	return nil
}

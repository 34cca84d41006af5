package calendar

import (
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/teambition/rrule-go"
)

// Words reads the schedule back in plain English, such as "every second Tuesday at 07:00". A rule too
// particular for that is told as it is written.
func (s *Schedule) Words() string {
	if s.cron != nil {
		return cronWords(s.text)
	}
	o := s.rule
	if len(o.Byyearday)+len(o.Byweekno)+len(o.Byeaster)+len(o.Bysecond) > 0 {
		return "by the rule " + s.text
	}
	out := s.often()
	if out == "" {
		return "by the rule " + s.text
	}
	switch {
	case o.Count == 1:
		out += ", once"
	case o.Count > 1:
		out += fmt.Sprintf(", %d times", o.Count)
	case !o.Until.IsZero():
		out += ", until " + o.Until.Format("2 January 2006")
	}
	return out
}

var ordinals = map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last", -2: "last but one", -3: "last but two"}

func (s *Schedule) often() string {
	o := s.rule
	n := max(1, o.Interval)
	days, ordinal, plain := s.dayWords()
	if !plain {
		return ""
	}
	switch o.Freq {
	case rrule.MINUTELY, rrule.HOURLY:
		if len(o.Byweekday)+len(o.Bymonthday)+len(o.Bymonth)+len(o.Byhour)+len(o.Byminute)+len(o.Bysetpos) > 0 {
			return ""
		}
		if o.Freq == rrule.MINUTELY {
			return every(n, "minute")
		}
		return every(n, "hour") + fmt.Sprintf(" at minute %02d", s.start.Minute())
	case rrule.DAILY:
		if len(o.Bysetpos)+len(o.Bymonthday) > 0 || ordinal {
			return ""
		}
		if days != "" && n == 1 {
			return "every " + days + s.months() + s.times()
		}
		if days != "" {
			return ""
		}
		return every(n, "day") + s.months() + s.times()
	case rrule.WEEKLY:
		if len(o.Bysetpos)+len(o.Bymonthday) > 0 || ordinal {
			return ""
		}
		if days == "" {
			days = s.start.Weekday().String()
		}
		switch {
		case n == 1:
			return "every " + days + s.months() + s.times()
		case n == 2 && len(o.Byweekday) <= 1:
			return "every second " + days + s.months() + s.times()
		case days == "weekday":
			days = "weekdays"
		case days == "day":
			days = "every day"
		}
		return every(n, "week") + " on " + days + s.months() + s.times()
	case rrule.MONTHLY, rrule.YEARLY:
		on := s.monthDays(days, ordinal)
		if on == "" {
			return ""
		}
		if o.Freq == rrule.YEARLY {
			months := s.months()
			if months == "" && len(o.Byweekday)+len(o.Bymonthday) > 0 {
				return ""
			}
			if months == "" {
				months = " in " + s.start.Month().String()
			}
			return every(n, "year") + months + " on " + on + s.times()
		}
		return every(n, "month") + s.months() + " on " + on + s.times()
	}
	return ""
}

func every(n int, unit string) string {
	switch n {
	case 1:
		return "every " + unit
	case 2:
		return "every second " + unit
	}
	return fmt.Sprintf("every %d %ss", n, unit)
}

var dayNames = []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}

// dayWords says the days of the week; ordinal tells that they are counted within the month. plain is false for days that are too
// particular to be said.
func (s *Schedule) dayWords() (words string, ordinal, plain bool) {
	var names []string
	set := map[int]bool{}
	for _, d := range s.rule.Byweekday {
		if d.N() != 0 {
			name, known := ordinals[d.N()]
			if !known {
				return "", true, false
			}
			ordinal = true
			names = append(names, "the "+name+" "+dayNames[d.Day()])
			continue
		}
		set[d.Day()] = true
	}
	if ordinal {
		return joined(names), true, len(set) == 0
	}
	weekdays := set[0] && set[1] && set[2] && set[3] && set[4]
	switch {
	case len(set) == 7:
		return "day", false, true
	case len(set) == 5 && weekdays:
		return "weekday", false, true
	case len(set) == 2 && set[5] && set[6]:
		return "Saturday and Sunday", false, true
	}
	for i, name := range dayNames {
		if set[i] {
			names = append(names, name)
		}
	}
	return joined(names), false, true
}

func (s *Schedule) monthDays(days string, ordinal bool) string {
	o := s.rule
	switch {
	case len(o.Bysetpos) == 1 && days != "" && !ordinal && len(o.Bymonthday) == 0:
		name, ok := ordinals[o.Bysetpos[0]]
		if days == "weekday" {
			days = "workday"
		}
		if !ok || strings.ContainsAny(days, ", ") {
			return ""
		}
		return "the " + name + " " + days
	case len(o.Bysetpos) > 0:
		return ""
	case len(o.Bymonthday) > 0 && days == "":
		var names []string
		for _, d := range o.Bymonthday {
			if d < 0 {
				name, ok := ordinals[d]
				if !ok {
					return ""
				}
				names = append(names, "the "+name+" day")
				continue
			}
			names = append(names, "day "+strconv.Itoa(d))
		}
		return joined(names)
	case len(o.Bymonthday) > 0:
		return ""
	case ordinal:
		return days
	case days != "":
		return "every " + days
	}
	return "day " + strconv.Itoa(s.start.Day())
}

func (s *Schedule) months() string {
	if len(s.rule.Bymonth) == 0 {
		return ""
	}
	names := make([]string, len(s.rule.Bymonth))
	for i, m := range s.rule.Bymonth {
		names[i] = monthName(m)
	}
	return " in " + joined(names)
}

func monthName(m int) string {
	return []string{"", "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"}[max(0, min(m, 12))]
}

func (s *Schedule) times() string {
	hours, minutes := s.rule.Byhour, s.rule.Byminute
	if len(hours) == 0 {
		hours = []int{s.start.Hour()}
	}
	if len(minutes) == 0 {
		minutes = []int{s.start.Minute()}
	}
	var list []string
	for _, h := range hours {
		for _, m := range minutes {
			list = append(list, fmt.Sprintf("%02d:%02d", h, m))
		}
	}
	sort.Strings(list)
	return " at " + joined(list)
}

func joined(names []string) string {
	switch len(names) {
	case 0:
		return ""
	case 1:
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// cronWords says the commonest forms; the rest is told as written.
func cronWords(text string) string {
	f := strings.Fields(text)
	var m, h int
	if n, _ := fmt.Sscanf(f[0]+" "+f[1], "%d %d", &m, &h); n != 2 || fmt.Sprintf("%d %d", m, h) != strings.TrimLeft(f[0], "0")+" "+f[1] && f[0]+" "+f[1] != fmt.Sprintf("%d %d", m, h) || f[2] != "*" || f[3] != "*" {
		return "by cron " + text
	}
	at := fmt.Sprintf(" at %02d:%02d", h, m)
	switch strings.ToUpper(f[4]) {
	case "*":
		return "every day" + at
	case "1-5", "MON-FRI":
		return "every weekday" + at
	case "0", "7", "SUN":
		return "every Sunday" + at
	}
	if len(f[4]) == 1 && f[4] >= "1" && f[4] <= "6" {
		return "every " + dayNames[f[4][0]-'1'] + at
	}
	return "by cron " + text
}

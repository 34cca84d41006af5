package calendar

import (
	"testing"
	"time"

	"dorfbote/internal/core/fault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zoneNamed(t *testing.T, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func clockAt(text string) time.Time {
	t, err := time.Parse("2006-01-02T15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

// A start that the clock skips stays the rule's wall time for all its other moments; on the day itself it is moved on by the
// gap, in every zone.
func TestAStartWithinAGap(t *testing.T) {
	for _, c := range []struct {
		zone, start, rule, after string
		want                     []string
	}{
		{"Europe/Zurich", "2026-03-29T02:30", "FREQ=DAILY", "2026-03-28T12:00:00Z", []string{"2026-03-29T03:30:00+02:00", "2026-03-30T02:30:00+02:00", "2026-03-31T02:30:00+02:00"}},
		{"America/New_York", "2026-03-08T02:30", "FREQ=DAILY", "2026-03-08T00:00:00Z", []string{"2026-03-08T03:30:00-04:00", "2026-03-09T02:30:00-04:00"}},
		{"Europe/Zurich", "2026-03-28T02:30", "FREQ=MINUTELY;INTERVAL=45", "2026-03-29T00:00:00Z", []string{"2026-03-29T01:45:00+01:00", "2026-03-29T03:15:00+02:00", "2026-03-29T03:30:00+02:00", "2026-03-29T04:00:00+02:00"}},
		{"Europe/Zurich", "2026-10-25T02:30", "FREQ=DAILY", "2026-10-24T12:00:00Z", []string{"2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"}},
	} {
		s, err := ByRule(clockAt(c.start), c.rule, zoneNamed(t, c.zone))
		require.NoError(t, err)
		at, _ := time.Parse(time.RFC3339, c.after)
		var got []string
		for _, m := range s.Upcoming(at, len(c.want), nil) {
			got = append(got, m.Format(time.RFC3339))
		}
		assert.Equal(t, c.want, got, c.rule+" in "+c.zone)
	}
}

// Half an hour is skipped on Lord Howe; what is moved on by it does not hide what comes before.
func TestCronWithinAGap(t *testing.T) {
	s, err := ByCron("10,35 2 * * *", zoneNamed(t, "Australia/Lord_Howe"))
	require.NoError(t, err)
	at, _ := time.Parse(time.RFC3339, "2026-10-03T12:00:00Z")
	var got []string
	for _, m := range s.Upcoming(at, 4, nil) {
		got = append(got, m.Format(time.RFC3339))
	}
	assert.Equal(t, []string{"2026-10-04T02:35:00+11:00", "2026-10-04T02:40:00+11:00", "2026-10-05T02:10:00+11:00", "2026-10-05T02:35:00+11:00"}, got)
}

// UNTIL in UTC is a moment: the hour that the clock shows twice does not make it another.
func TestUntilInUTC(t *testing.T) {
	zone := zoneNamed(t, "Europe/Zurich")
	for _, c := range []struct {
		until string
		want  int
	}{
		{"20261025T003000Z", 8}, {"20261025T013000Z", 8}, {"20261025T020000Z", 9}, {"20261025T005959Z", 8}, {"20261024T220000Z", 3},
	} {
		s, err := ByRule(clockAt("2026-10-24T23:00"), "FREQ=MINUTELY;INTERVAL=30;UNTIL="+c.until, zone)
		require.NoError(t, err)
		got := s.Upcoming(clockAt("2026-10-24T12:00"), 50, nil)
		assert.Len(t, got, c.want, "%s: %v", c.until, got)
		end, _ := time.Parse("20060102T150405Z", c.until)
		for _, m := range got {
			assert.False(t, m.After(end), "%s is after %s", m, c.until)
		}
		assert.Equal(t, got, s.Between(clockAt("2026-10-24T12:00"), clockAt("2026-10-26T00:00"), 100))
	}
}

// 7 is Sunday as 0 is, wherever it stands; a step over all days counts as restricted, so that the days are joined by or.
func TestCronsDays(t *testing.T) {
	for text, want := range map[string]string{
		"0 7 * * 7": "Sun", "0 7 * * 0": "Sun", "0 7 * * 5-7": "Sun Fri Sat", "0 7 * * 1,7": "Sun Mon", "0 7 * * 6-7": "Sun Sat", "0 7 * * 1-7/2": "Sun Mon Wed Fri",
		"0 7 * * 0-7": "Sun Mon Tue Wed Thu Fri Sat", "0 7 * * 7-7": "Sun", "0 7 * * FRI-SUN": "Sun Fri Sat", "0 7 * * SAT,SUN": "Sun Sat", "0 7 * * 1-5": "Mon Tue Wed Thu Fri",
		"0 7 * * 3-7/4": "Sun Wed", "0 7 * * 0-6/3": "Sun Wed Sat",
	} {
		s, err := ByCron(text, time.UTC)
		require.NoError(t, err, text)
		days := map[time.Weekday]bool{}
		for _, m := range s.Upcoming(clockAt("2026-11-22T00:00"), 7, nil) {
			if m.Before(clockAt("2026-11-29T00:00")) {
				days[m.Weekday()] = true
			}
		}
		got := ""
		for d := time.Sunday; d <= time.Saturday; d++ {
			if days[d] {
				got += " " + d.String()[:3]
			}
		}
		assert.Equal(t, " "+want, got, text)
	}
	for _, text := range []string{"0 7 * * 8", "0 7 * * 7-8", "0 7 30 2 *", "TZ=UTC 0 7 * *", "0 7 * * 5-7/0"} {
		_, err := ByCron(text, time.UTC)
		require.Error(t, err, text)
	}
	s, err := ByCron("0 7 13 * */2", time.UTC)
	require.NoError(t, err)
	got := s.Upcoming(clockAt("2026-11-11T12:00"), 3, nil)
	assert.Equal(t, []int{12, 13, 14}, []int{got[0].Day(), got[1].Day(), got[2].Day()}, "the 13th, or every other day from Sunday")
}

// What does not go together in RFC 5545 is refused, with the part that is meant.
func TestRulesThatAreRefused(t *testing.T) {
	for rule, part := range map[string]string{
		"FREQ=DAILY;INTERVAL=0": "INTERVAL", "FREQ=DAILY;INTERVAL=-1": "", "FREQ=DAILY;COUNT=0": "COUNT", "FREQ=MONTHLY;BYDAY=0MO": "BYDAY", "FREQ=DAILY;BYSECOND=30": "BYSECOND",
		"FREQ=WEEKLY;BYMONTHDAY=13": "BYMONTHDAY", "FREQ=WEEKLY;BYDAY=1MO": "BYDAY", "FREQ=DAILY;BYDAY=-1FR": "BYDAY", "FREQ=MONTHLY;BYWEEKNO=7": "BYWEEKNO", "FREQ=YEARLY;BYWEEKNO=7;BYDAY=1MO": "BYDAY",
		"FREQ=MONTHLY;BYYEARDAY=100": "BYYEARDAY", "FREQ=DAILY;BYYEARDAY=100": "BYYEARDAY", "FREQ=MONTHLY;BYSETPOS=1": "BYSETPOS", "FREQ=DAILY;BYHOUR=24": "", "FREQ=DAILY;BYMONTH=13": "",
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30": "", "FREQ=DAILY;UNTIL=20200101T000000Z": "", "FREQ=HOURLY;INTERVAL=2;BYHOUR=3": "", "FREQ=SECONDLY": "FREQ",
	} {
		_, err := ByRule(clockAt("2026-11-26T00:00"), rule, time.UTC)
		var e *fault.Fault
		if assert.ErrorAs(t, err, &e, rule) && part != "" {
			assert.Equal(t, part, e.Place, "%s: %v", rule, err)
		}
	}
	for _, rule := range []string{
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "FREQ=YEARLY;BYDAY=20MO", "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU", "FREQ=YEARLY;BYYEARDAY=-1", "FREQ=DAILY;BYSECOND=0",
		"FREQ=HOURLY;BYMINUTE=0,20,40;BYSETPOS=-1", "FREQ=MONTHLY;BYMONTHDAY=31", "FREQ=DAILY;UNTIL=20261126",
	} {
		_, err := ByRule(clockAt("2026-11-26T00:00"), rule, time.UTC)
		assert.NoError(t, err, rule)
	}
}

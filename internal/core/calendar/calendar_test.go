package calendar

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zone(t *testing.T, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func wall(text string) time.Time {
	t, err := time.Parse("2006-01-02T15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

func moments(s *Schedule, after time.Time, n int) []string {
	var out []string
	for _, at := range s.Upcoming(after, n, nil) {
		out = append(out, at.Format("2006-01-02T15:04-07:00"))
	}
	return out
}

// The examples of RFC 5545, 3.8.5.3, that run at most once a minute; all start on 2 September 1997 at 9 in New York
// unless they say otherwise. Only the days are listed, as far as the RFC lists them.
func TestRFC5545Examples(t *testing.T) {
	ny := zone(t, "America/New_York")
	for _, c := range []struct{ rule, start, want string }{
		{"FREQ=DAILY;COUNT=10", "", "09-02 09-03 09-04 09-05 09-06 09-07 09-08 09-09 09-10 09-11 ."},
		{"FREQ=DAILY;INTERVAL=2", "", "09-02 09-04 09-06 09-08 09-10 09-12 09-14 09-16 09-18 09-20"},
		{"FREQ=DAILY;INTERVAL=10;COUNT=5", "", "09-02 09-12 09-22 10-02 10-12 ."},
		{"FREQ=WEEKLY;COUNT=10", "", "09-02 09-09 09-16 09-23 09-30 10-07 10-14 10-21 10-28 11-04 ."},
		{"FREQ=WEEKLY;UNTIL=19971224T000000Z", "", "09-02 09-09 09-16 09-23 09-30 10-07 10-14 10-21 10-28 11-04 11-11 11-18 11-25 12-02 12-09 12-16 12-23 ."},
		{"FREQ=WEEKLY;INTERVAL=2;WKST=SU", "", "09-02 09-16 09-30 10-14 10-28 11-11 11-25 12-09 12-23"},
		{"FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "", "09-02 09-04 09-09 09-11 09-16 09-18 09-23 09-25 09-30 10-02 ."},
		{"FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "", "09-02 09-04 09-16 09-18 09-30 10-02 10-14 10-16 ."},
		{"FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "1997-09-05T09:00", "09-05 10-03 11-07 12-05 01-02 02-06 03-06 04-03 05-01 06-05 ."},
		{"FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "1997-09-07T09:00", "09-07 09-28 11-02 11-30 01-04 01-25 03-01 03-29 05-03 05-31 ."},
		{"FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "1997-09-22T09:00", "09-22 10-20 11-17 12-22 01-19 02-16 ."},
		{"FREQ=MONTHLY;BYMONTHDAY=-3", "1997-09-28T09:00", "09-28 10-29 11-28 12-29 01-29 02-26"},
		{"FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "", "09-02 09-15 10-02 10-15 11-02 11-15 12-02 12-15 01-02 01-15 ."},
		{"FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "1997-09-30T09:00", "09-30 10-01 10-31 11-01 11-30 12-01 12-31 01-01 01-31 02-01 ."},
		{"FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15", "1997-09-10T09:00", "09-10 09-11 09-12 09-13 09-14 09-15 03-10 03-11 03-12 03-13 ."},
		{"FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "1997-06-10T09:00", "06-10 07-10 06-10 07-10 06-10 07-10 06-10 07-10 06-10 07-10 ."},
		{"FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200", "1997-01-01T09:00", "01-01 04-10 07-19 01-01 04-09 07-18 01-01 04-10 07-19 01-01 ."},
		{"FREQ=YEARLY;BYDAY=20MO", "1997-05-19T09:00", "05-19 05-18 05-17"},
		{"FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "1997-05-12T09:00", "05-12 05-11 05-17"},
		{"FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "", "02-13 03-13 11-13 08-13 10-13"},
		{"FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "1997-09-13T09:00", "09-13 10-11 11-08 12-13 01-10 02-07 03-07"},
		{"FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "1996-11-05T09:00", "11-05 11-07 11-02"},
		{"FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "1997-09-04T09:00", "09-04 10-07 11-06 ."},
		{"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "1997-09-29T09:00", "09-29 10-30 11-27 12-30 01-29 02-26 03-30"},
		{"FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "2007-01-15T09:00", "01-15 01-30 02-15 03-15 03-30 ."},
		{"FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "1997-08-05T09:00", "08-05 08-10 08-19 08-24 ."},
		{"FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "1997-08-05T09:00", "08-05 08-17 08-19 08-31 ."},
	} {
		t.Run(c.rule, func(t *testing.T) {
			if c.start == "" {
				c.start = "1997-09-02T09:00"
			}
			s, err := ByRule(wall(c.start), "RRULE:"+c.rule, ny)
			require.NoError(t, err)
			want := strings.Fields(c.want)
			ends := want[len(want)-1] == "."
			if ends {
				want = want[:len(want)-1]
			}
			var got []string
			for _, at := range s.Upcoming(s.Start().Add(-time.Second), len(want)+1, nil) {
				assert.Equal(t, 9, at.Hour(), "9 in New York, summer and winter")
				got = append(got, at.Format("01-02"))
			}
			if !ends {
				got = got[:len(want)]
			}
			assert.Equal(t, want, got)
		})
	}
}

// A local time that a clock change skips is moved on by the gap; one that it repeats happens once, the first time.
func TestClockChangesInFourZones(t *testing.T) {
	for _, c := range []struct {
		zone, at, rule, after string
		want                  []string
	}{
		{"Europe/Zurich", "2026-01-01T02:30", "FREQ=DAILY", "2026-03-28T00:00", []string{"2026-03-28T02:30+01:00", "2026-03-29T03:30+02:00", "2026-03-30T02:30+02:00"}},
		{"Europe/Zurich", "2026-01-01T02:30", "FREQ=DAILY", "2026-10-24T00:00", []string{"2026-10-24T02:30+02:00", "2026-10-25T02:30+02:00", "2026-10-26T02:30+01:00"}},
		{"America/New_York", "2026-01-01T02:15", "FREQ=DAILY", "2026-03-07T00:00", []string{"2026-03-07T02:15-05:00", "2026-03-08T03:15-04:00", "2026-03-09T02:15-04:00"}},
		{"America/New_York", "2026-01-01T01:15", "FREQ=DAILY", "2026-10-31T00:00", []string{"2026-10-31T01:15-04:00", "2026-11-01T01:15-04:00", "2026-11-02T01:15-05:00"}},
		{"Australia/Lord_Howe", "2026-01-01T02:10", "FREQ=DAILY", "2026-10-03T00:00", []string{"2026-10-03T02:10+10:30", "2026-10-04T02:40+11:00", "2026-10-05T02:10+11:00"}},
		{"Australia/Lord_Howe", "2026-01-01T01:40", "FREQ=DAILY", "2026-04-04T00:00", []string{"2026-04-04T01:40+11:00", "2026-04-05T01:40+11:00", "2026-04-06T01:40+10:30"}},
		{"Africa/Cairo", "2026-01-01T00:30", "FREQ=DAILY", "2026-04-22T12:00", []string{"2026-04-23T00:30+02:00", "2026-04-24T01:30+03:00", "2026-04-25T00:30+03:00"}},
		{"Europe/Zurich", "2026-01-01T00:30", "FREQ=HOURLY", "2026-03-29T00:00", []string{"2026-03-29T00:30+01:00", "2026-03-29T01:30+01:00", "2026-03-29T03:30+02:00", "2026-03-29T04:30+02:00"}},
	} {
		t.Run(c.zone+" "+c.after, func(t *testing.T) {
			z := zone(t, c.zone)
			s, err := ByRule(wall(c.at), c.rule, z)
			require.NoError(t, err)
			assert.Equal(t, c.want, moments(s, InZone(wall(c.after), z), len(c.want)))
		})
	}
	z := zone(t, "Europe/Zurich")
	s, err := ByCron("30 2 * * *", z)
	require.NoError(t, err)
	assert.Equal(t, []string{"2026-03-29T03:30+02:00", "2026-03-30T02:30+02:00"}, moments(s, InZone(wall("2026-03-28T03:00"), z), 2))
}

func TestWordsAndRefusals(t *testing.T) {
	z := zone(t, "Europe/Zurich")
	for rule, want := range map[string]string{
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=TU":                    "every second Tuesday at 07:00",
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1":      "every month on the last workday at 07:00",
		"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR":                   "every weekday at 07:00",
		"FREQ=DAILY":                                         "every day at 07:00",
		"FREQ=DAILY;INTERVAL=3;COUNT=4":                      "every 3 days at 07:00, 4 times",
		"FREQ=MONTHLY;BYMONTHDAY=1,15":                       "every month on day 1 and day 15 at 07:00",
		"FREQ=MONTHLY;BYDAY=2WE":                             "every month on the second Wednesday at 07:00",
		"FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=24":               "every year in December on day 24 at 07:00",
		"FREQ=WEEKLY;BYDAY=TU,FR;BYHOUR=7,19;UNTIL=20261224": "every Tuesday and Friday at 07:00 and 19:00, until 24 December 2026",
		"FREQ=HOURLY;INTERVAL=2":                             "every second hour at minute 00",
		"FREQ=YEARLY;BYWEEKNO=20":                            "by the rule FREQ=YEARLY;BYWEEKNO=20",
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TU,WE,TH,FR":        "every second week on weekdays at 07:00",
		"FREQ=WEEKLY;INTERVAL=3;BYDAY=SA,SU":                 "every 3 weeks on Saturday and Sunday at 07:00",
	} {
		s, err := ByRule(wall("2026-11-03T07:00"), rule, z)
		require.NoError(t, err, rule)
		assert.Equal(t, want, s.Words())
	}
	for text, want := range map[string]string{"0 7 * * 1-5": "every weekday at 07:00", "30 6 * * *": "every day at 06:30", "0 7 * * 7": "every Sunday at 07:00", "*/5 * * * *": "by cron */5 * * * *"} {
		s, err := ByCron(text, z)
		require.NoError(t, err, text)
		assert.Equal(t, want, s.Words())
	}
	for _, bad := range []string{"", "FREQ=", "FREQ=DAYLY", "BYDAY=TU", "FREQ=DAILY;FREQ=DAILY", "FREQ=SECONDLY", "FREQ=DAILY;COUNT=2;UNTIL=20261224", "FREQ=DAILY;UNTIL=soon", "FREQ=WEEKLY;BYDAY=XX", "FREQ=DAILY;BYMONTH=13"} {
		_, err := ByRule(wall("2026-11-03T07:00"), bad, z)
		require.Error(t, err, bad)
	}
	for _, bad := range []string{"", "* * * *", "* * * * * *", "61 * * * *", "@daily", "TZ=UTC 0 7 * *"} {
		_, err := ByCron(bad, z)
		assert.Error(t, err, bad)
	}
}

func TestDaysAreLeftOutAndOldRulesStayQuick(t *testing.T) {
	z := zone(t, "Europe/Zurich")
	s, err := ByRule(wall("1990-01-01T00:00"), "FREQ=MINUTELY;INTERVAL=7", z)
	require.NoError(t, err)
	at := s.Upcoming(InZone(wall("2026-11-03T07:00"), z), 1, nil)[0]
	assert.Zero(t, int(Wall(at).Sub(wall("1990-01-01T00:00")).Minutes())%7)
	s, err = ByRule(wall("2026-11-02T07:00"), "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", z)
	require.NoError(t, err)
	skip := func(day time.Time) bool { return day.Day() == 3 }
	next, err := s.Next(InZone(wall("2026-11-02T08:00"), z), skip)
	require.NoError(t, err)
	assert.Equal(t, "2026-11-04", next.Format("2006-01-02"))
	last, ok := s.Last(InZone(wall("2026-11-03T08:00"), z), skip)
	assert.True(t, ok)
	assert.Equal(t, "2026-11-02", last.Format("2006-01-02"))
	_, err = s.Next(next, func(time.Time) bool { return true })
	assert.ErrorIs(t, err, ErrNever)
}

func TestOpeningHours(t *testing.T) {
	z := zone(t, "Europe/Zurich")
	at := func(s string) time.Time { return InZone(wall(s), z) }
	weekdays := [7]bool{false, true, true, true, true, true, false}
	h := Hours{Zone: z, Spans: []Opening{{Days: weekdays, From: 5 * 60, To: 20 * 60}}}
	night := Hours{Zone: z, Spans: []Opening{{Days: weekdays, From: 22 * 60, To: 6 * 60}}}
	for _, c := range []struct {
		h        Hours
		from     string
		d        time.Duration
		want     string
		openThen bool
	}{
		{h, "2026-11-20T06:00", 6 * time.Hour, "2026-11-20T12:00", true}, // a Friday
		{h, "2026-11-20T19:00", 6 * time.Hour, "2026-11-23T10:00", true}, // over the weekend
		{h, "2026-11-21T12:00", 0, "2026-11-23T05:00", true},             // the next opening
		{h, "2026-11-20T12:00", 0, "2026-11-20T12:00", true},             // open already
		{night, "2026-11-21T05:30", 0, "2026-11-21T05:30", true},         // Friday's night
		{night, "2026-11-21T06:00", time.Hour, "2026-11-23T23:00", true}, // Saturday has none
		{h, "2026-10-23T19:30", time.Hour, "2026-10-26T05:30", true},     // over the change of clocks
	} {
		then, ok := c.h.After(at(c.from), c.d)
		require.True(t, ok)
		assert.Equal(t, c.want, then.In(z).Format("2006-01-02T15:04"), c.from)
		assert.Equal(t, c.openThen, c.h.Open(then))
	}
	_, ok := Hours{Zone: z, Spans: []Opening{{From: 60, To: 120}}}.NextOpen(at("2026-11-20T06:00"))
	assert.False(t, ok)
	for _, bad := range []string{"", "5", "25:00", "12:60", "24:01", "-1:00"} {
		_, err := ReadClock(bad)
		assert.Error(t, err, bad)
	}
}

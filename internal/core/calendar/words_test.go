package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a schedule says of itself is what it does; a rule that would need more words than it has signs is told as written.
func TestWordsOfRules(t *testing.T) {
	for rule, words := range map[string]string{
		"FREQ=MINUTELY;INTERVAL=15":                          "every 15 minutes",
		"FREQ=HOURLY":                                        "every hour at minute 05",
		"FREQ=HOURLY;INTERVAL=2":                             "every second hour at minute 05",
		"FREQ=HOURLY;BYDAY=MO":                               "",
		"FREQ=DAILY":                                         "every day at 07:05",
		"FREQ=DAILY;INTERVAL=3":                              "every 3 days at 07:05",
		"FREQ=DAILY;BYDAY=MO,TU,WE,TH,FR":                    "every weekday at 07:05",
		"FREQ=DAILY;BYDAY=SA,SU;BYMONTH=7,8":                 "every Saturday and Sunday in July and August at 07:05",
		"FREQ=DAILY;INTERVAL=2;BYDAY=MO":                     "",
		"FREQ=DAILY;BYMONTHDAY=13":                           "",
		"FREQ=DAILY;BYHOUR=7,12;BYMINUTE=0,30":               "every day at 07:00, 07:30, 12:00 and 12:30",
		"FREQ=WEEKLY":                                        "every Tuesday at 07:05",
		"FREQ=WEEKLY;INTERVAL=2":                             "every second Tuesday at 07:05",
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=TU,TH":                 "every second week on Tuesday and Thursday at 07:05",
		"FREQ=WEEKLY;INTERVAL=3;BYDAY=MO,TU,WE,TH,FR":        "every 3 weeks on weekdays at 07:05",
		"FREQ=WEEKLY;INTERVAL=3;BYDAY=MO,TU,WE,TH,FR,SA,SU":  "every 3 weeks on every day at 07:05",
		"FREQ=WEEKLY;BYDAY=MO,WE;UNTIL=20271224T000000":      "every Monday and Wednesday at 07:05, until 24 December 2027",
		"FREQ=WEEKLY;COUNT=1":                                "every Tuesday at 07:05, once",
		"FREQ=WEEKLY;COUNT=4":                                "every Tuesday at 07:05, 4 times",
		"FREQ=MONTHLY":                                       "every month on day 3 at 07:05",
		"FREQ=MONTHLY;BYMONTHDAY=1,15":                       "every month on day 1 and day 15 at 07:05",
		"FREQ=MONTHLY;BYMONTHDAY=-1":                         "every month on the last day at 07:05",
		"FREQ=MONTHLY;BYMONTHDAY=-9":                         "",
		"FREQ=MONTHLY;BYDAY=1MO":                             "every month on the first Monday at 07:05",
		"FREQ=MONTHLY;BYDAY=2TU,-1FR":                        "every month on the second Tuesday and the last Friday at 07:05",
		"FREQ=MONTHLY;BYDAY=-4MO":                            "",
		"FREQ=MONTHLY;BYDAY=MO":                              "every month on every Monday at 07:05",
		"FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13":                "",
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1":      "every month on the last workday at 07:05",
		"FREQ=MONTHLY;BYDAY=MO;BYSETPOS=2":                   "every month on the second Monday at 07:05",
		"FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=2":                "",
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=7":       "",
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=1,-1":    "",
		"FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1":               "every 3 months on day 1 at 07:05",
		"FREQ=YEARLY":                                        "every year in November on day 3 at 07:05",
		"FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=6":                 "every year in January on day 6 at 07:05",
		"FREQ=YEARLY;BYMONTHDAY=6":                           "",
		"FREQ=YEARLY;BYYEARDAY=100":                          "",
		"FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO":                   "",
		"FREQ=YEARLY;INTERVAL=2;BYMONTH=9;BYDAY=MO,TU,WE,TH": "every second year in September on every Monday, Tuesday, Wednesday and Thursday at 07:05",
	} {
		s, err := ByRule(clockAt("2026-11-03T07:05"), rule, time.UTC) // a Tuesday
		require.NoError(t, err, rule)
		if words == "" {
			words = "by the rule " + rule
		}
		assert.Equal(t, words, s.Words(), rule)
	}
}

func TestWordsOfCron(t *testing.T) {
	for cron, words := range map[string]string{
		"0 7 * * *":       "every day at 07:00",
		"05 7 * * *":      "every day at 07:05",
		"0 7 * * 1-5":     "every weekday at 07:00",
		"0 7 * * mon-fri": "every weekday at 07:00",
		"30 18 * * 0":     "every Sunday at 18:30",
		"30 18 * * 7":     "every Sunday at 18:30",
		"30 18 * * SUN":   "every Sunday at 18:30",
		"30 18 * * 3":     "every Wednesday at 18:30",
		"30 18 * * 1,3":   "by cron 30 18 * * 1,3",
		"*/5 * * * *":     "by cron */5 * * * *",
		"0 7 1 * *":       "by cron 0 7 1 * *",
		"0 7 * 6 *":       "by cron 0 7 * 6 *",
		"0 7-9 * * *":     "by cron 0 7-9 * * *",
	} {
		s, err := ByCron(cron, time.UTC)
		require.NoError(t, err, cron)
		assert.Equal(t, words, s.Words(), cron)
	}
}

// Every moment of a schedule bears what its words say of the day of the week.
func TestWordsHold(t *testing.T) {
	for rule, days := range map[string][]time.Weekday{
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=TU,TH":            {time.Tuesday, time.Thursday},
		"FREQ=MONTHLY;BYDAY=2TU,-1FR":                   {time.Tuesday, time.Friday},
		"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1": {time.Monday, time.Tuesday, time.Wednesday, time.Thursday, time.Friday},
		"FREQ=DAILY;BYDAY=SA,SU":                        {time.Saturday, time.Sunday},
	} {
		s, err := ByRule(clockAt("2026-11-03T07:05"), rule, time.UTC)
		require.NoError(t, err)
		for _, at := range s.Upcoming(clockAt("2026-11-03T00:00"), 60, nil) {
			if at.Equal(clockAt("2026-11-03T07:05")) {
				continue // the first moment is the start itself
			}
			assert.Contains(t, days, at.Weekday(), rule)
			assert.Equal(t, "07:05", at.Format("15:04"), rule)
		}
	}
}

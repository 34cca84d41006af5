package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever the rule, its next moments are found, or found to be missing, without counting to the end of time.
func TestRareRulesAreBounded(t *testing.T) {
	at := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	for rule, want := range map[string]string{
		"FREQ=MINUTELY":                                  "2026-11-26T00:01:00Z",
		"FREQ=MINUTELY;BYMONTH=2;BYMONTHDAY=29":          "2028-02-29T00:00:00Z",
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYDAY=MO":   "2044-02-29T00:00:00Z",
		"FREQ=DAILY;COUNT=30000":                         "2026-11-27T00:00:00Z",
		"FREQ=DAILY;INTERVAL=2;BYDAY=TU;BYMONTHDAY=13":   "2027-07-13T00:00:00Z",
		"FREQ=MINUTELY;BYHOUR=5;BYMINUTE=3;COUNT=100000": "2026-11-26T05:03:00Z",
		"FREQ=YEARLY;INTERVAL=100":                       "2070-01-01T00:00:00Z",
	} {
		s, err := ByRule(time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC), rule, time.UTC)
		require.NoError(t, err, rule)
		next, err := s.Next(at, nil)
		require.NoError(t, err, rule)
		assert.Equal(t, want, next.Format(time.RFC3339), rule)
	}
	for _, rule := range []string{"FREQ=MINUTELY;BYMONTH=2;BYMONTHDAY=30", "FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30", "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30", "FREQ=MINUTELY;INTERVAL=1440;BYHOUR=5", "FREQ=MINUTELY;INTERVAL=60;BYMINUTE=30", "FREQ=YEARLY;BYYEARDAY=366;BYMONTHDAY=1",
		"FREQ=MINUTELY;COUNT=100001", "FREQ=MINUTELY;BYSETPOS=2;BYHOUR=4"} {
		_, err := ByRule(time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC), rule, time.UTC)
		assert.Error(t, err, rule)
	}
}

// What is gone through at once is what is found one by one, over clock changes too.
func TestBetweenIsNextAgainAndAgain(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	for _, rule := range []string{"FREQ=MINUTELY;INTERVAL=17", "FREQ=HOURLY;INTERVAL=5", "FREQ=DAILY;COUNT=200", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SU,MO;BYHOUR=2;BYMINUTE=30", "FREQ=MONTHLY;BYMONTHDAY=-1"} {
		s, err := ByRule(time.Date(2025, 9, 28, 2, 30, 0, 0, time.UTC), rule, zone)
		require.NoError(t, err)
		for _, from := range []time.Time{time.Date(2026, 3, 27, 0, 0, 0, 0, time.UTC), time.Date(2025, 10, 24, 0, 0, 0, 0, time.UTC)} {
			to := from.AddDate(0, 0, 5)
			var want []time.Time
			for at := from.Add(-time.Second); ; {
				next, err := s.Next(at, nil)
				if err != nil || next.After(to) {
					break
				}
				want, at = append(want, next), next
			}
			got := s.Between(from, to, 10_000)
			require.Len(t, got, len(want), rule)
			for i := range got {
				require.True(t, want[i].Equal(got[i]), "%s: %s is not %s", rule, got[i], want[i])
			}
		}
	}
}

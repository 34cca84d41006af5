package usual

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAgainstTheUsual(t *testing.T) {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	at := func(s string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04", s, zurich)
		require.NoError(t, err)
		return v
	}
	// Eight every Wednesday from nine to ten by the local clock, over the change of the clocks on 25 October.
	h := Hours{}
	for _, day := range []string{"2026-10-21", "2026-10-28", "2026-11-04", "2026-11-11", "2026-11-18"} {
		h[at(day+" 09:00").UTC()] = 8
	}
	known := at("2026-09-01 00:00")
	for _, c := range []struct {
		name, from, to, known string
		expected              float64
		weeks                 int
	}{
		{"the whole hour", "2026-11-25 09:00", "2026-11-25 10:00", "", 8, 4},
		{"half of it", "2026-11-25 08:00", "2026-11-25 09:30", "", 4, 4},
		{"another weekday", "2026-11-24 09:00", "2026-11-24 10:00", "", 0, 4},
		{"over the change of the clocks", "2026-11-04 09:00", "2026-11-04 10:00", "", 4, 4},
		{"weeks from before counting began do not count", "2026-11-25 09:00", "2026-11-25 10:00", "2026-11-10 00:00", 8, 2},
		{"nothing is known", "2026-11-25 09:00", "2026-11-25 10:00", "2026-11-24 00:00", 0, 0},
	} {
		since := known
		if c.known != "" {
			since = at(c.known)
		}
		n, weeks := h.Expected(at(c.from), at(c.to), since, zurich)
		assert.InDelta(t, c.expected, n, 0.001, c.name)
		assert.Equal(t, c.weeks, weeks, c.name)
	}
	_, silent := h.Silent(at("2026-11-25 08:30"), at("2026-11-25 09:50"), known, zurich)
	assert.True(t, silent, "six and more have usually come by ten to ten")
	_, silent = h.Silent(at("2026-11-25 08:30"), at("2026-11-25 09:20"), known, zurich)
	assert.False(t, silent)
	_, silent = h.Silent(at("2026-11-25 10:30"), at("2026-11-26 08:00"), known, zurich)
	assert.False(t, silent, "nothing ever comes at night")
	for _, c := range []struct {
		n, usual float64
		want     string
	}{{0, 0, ""}, {3, 0, ""}, {4, 0, "more"}, {20, 7, "more"}, {17, 7, ""}, {1, 8, "less"}, {2, 8, ""}, {0, 3, ""}} {
		assert.Equal(t, c.want, Unusual(c.n, c.usual), "%v of %v", c.n, c.usual)
	}
}

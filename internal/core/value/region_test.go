package value

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRegion(t *testing.T) {
	for _, c := range []struct{ zone, locale, want string }{
		{"Europe/Zurich", "en", "CH"}, {"Europe/Zurich", "de-AT", "AT"}, {"America/New_York", "", "US"}, {"UTC", "en", ""}, {"UTC", "fr-CA", "CA"}, {"Europe/Berlin", "no such", "DE"},
	} {
		zone, err := time.LoadLocation(c.zone)
		require.NoError(t, err)
		assert.Equal(t, c.want, Workspace{Zone: zone, Locale: c.locale}.Region(), c)
	}
}

package value

import (
	_ "embed" // the list of zones
	"strings"
	"sync"

	"golang.org/x/text/language"
)

// zones is which country a zone belongs to, after the public zone.tab of the IANA time zone database.
//
//go:embed zones.txt
var zones string

var countryOf = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(zones) {
		if country, zone, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			out[zone] = country
		}
	}
	return out
})

// Region is the workspace's country by ISO 3166, by which a telephone number without its country's code is read: the one that
// the locale names, as de-CH does, else that of the zone; "" where neither says.
func (w Workspace) Region() string {
	if tag, err := language.Parse(w.Locale); err == nil {
		if _, _, region := tag.Raw(); region.String() != "ZZ" && region.IsCountry() {
			return region.String()
		}
	}
	return countryOf()[w.Location().String()]
}

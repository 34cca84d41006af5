package value

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

	"github.com/nyaruka/phonenumbers"
)

// ErrNoPhone is that of a text that cannot be a telephone number at all.
var ErrNoPhone = errors.New("is not a possible telephone number")

// Phone reads a telephone number, however it was typed, and gives it as E.164 has it. region is the country (ISO 3166-1) whose numbers stand
// without its code; "" is none. A number of which its country has none, such as one with a digit too few, is refused, too. The words of the
// errors go on from the number.
func Phone(text, region string) (e164 string, err error) {
	n, err := phonenumbers.Parse(text, region)
	if err != nil || !phonenumbers.IsPossibleNumber(n) && !strings.HasPrefix(strings.TrimSpace(text), "+") {
		return "", ErrNoPhone
	}
	if !phonenumbers.IsValidNumber(n) || strings.ContainsFunc(text, unicode.IsLetter) {
		return "", fmt.Errorf("is not a valid telephone number in %s; check its digits", phonenumbers.GetRegionCodeForCountryCode(int(n.GetCountryCode())))
	}
	return phonenumbers.Format(n, phonenumbers.E164), nil
}

package formula

import (
	"strings"

	"golang.org/x/text/currency"
	"golang.org/x/text/language"
	"golang.org/x/text/number"

	"dorfbote/internal/core/value"
)

// formatMoney writes an amount with its currency as the locale does, with the decimals that the
// currency has.
func formatMoney(amount float64, code, locale string) string {
	unit, err := currency.ParseISO(strings.ToUpper(strings.TrimSpace(code)))
	if err != nil {
		return strings.TrimRight(value.NumberText(amount)+" "+code, " ") // no currency is made up where there is none
	}
	scale, _ := currency.Standard.Rounding(unit)
	amount = value.Round(amount, scale)
	sign := ""
	if amount < 0 {
		sign, amount = "-", -amount
	}
	digits := value.Printer(locale).Sprint(number.Decimal(amount, number.Scale(scale)))
	symbol := value.Printer(locale).Sprint(currency.NarrowSymbol(unit))
	tag, _ := language.Parse(locale)
	base, _ := tag.Base()
	region, _ := tag.Region()
	switch {
	case base.String() == "en" || base.String() == "ja" || base.String() == "zh":
		if len([]rune(symbol)) > 1 {
			symbol += "\u00a0" // a code is kept off the digits, a sign is not
		}
		return sign + symbol + digits
	case region.String() == "CH" || region.String() == "AT" || base.String() == "nl":
		return symbol + "\u00a0" + sign + digits
	}
	return sign + digits + "\u00a0" + symbol
}

// GroupNumber writes a number as the locale does, with so many decimals.
func GroupNumber(v float64, decimals int, locale string) string {
	return value.Printer(locale).Sprint(number.Decimal(value.Round(v, decimals), number.Scale(decimals)))
}

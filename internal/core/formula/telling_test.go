package formula

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/value"
)

// An amount is told with its currency wherever one is known, and no currency is made up.
func TestTelling(t *testing.T) {
	amount := value.Field{Name: "amount", Type: value.Money, Currency: "CHF"}
	for _, c := range []struct {
		field value.Field
		among []value.Field
		want  string
	}{
		{value.Field{Name: "name", Type: value.Text}, nil, "${record.name}"},
		{value.Field{Name: "first name", Type: value.Text}, nil, `${record["first name"]}`},
		{value.Field{Name: "user.login", Type: value.Text}, nil, "${record.user.login}"},
		{value.Field{Name: "at", Type: value.Moment}, nil, `${date(record.at, "d MMM HH:mm")}`},
		{amount, nil, `${money(record.amount, "CHF")}`},
		{amount, []value.Field{{Name: "currency", Type: value.Choice}}, `${money(record.amount, record.currency)}`},
		{amount, []value.Field{{Name: "currency", Type: value.Text}, {Name: "amount_currency", Type: value.Text}}, `${money(record.amount, record.amount_currency)}`},
		{amount, []value.Field{{Name: "currency", Type: value.Num}}, `${money(record.amount, "CHF")}`},
		{value.Field{Name: "amount", Type: value.Money}, nil, "${record.amount}"},
	} {
		assert.Equal(t, c.want, Telling(c.field, c.among))
	}
}

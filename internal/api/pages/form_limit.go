package pages

import (
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"
	"golang.org/x/time/rate"
)

// formLimit bounds answers by form and address. It is this process's own; several processes allow as many times more.
type formLimit struct {
	byAddress *expirable.LRU[string, *rate.Limiter]
}

const (
	formLimitUsual = 10     // answers an hour
	formAddresses  = 50_000 // that are remembered at once
)

func newFormLimit() *formLimit {
	return &formLimit{expirable.NewLRU[string, *rate.Limiter](formAddresses, nil, time.Hour)}
}

// allow counts an answer. So many within an hour are allowed at once, and one more as each hour's share of time passes.
func (l *formLimit) allow(form, address string, limit int) bool {
	if limit <= 0 {
		limit = formLimitUsual
	}
	key := form + " " + address
	of, ok := l.byAddress.Get(key)
	if !ok || of.Burst() != limit {
		of = rate.NewLimiter(rate.Every(time.Hour/time.Duration(limit)), limit)
		l.byAddress.Add(key, of)
	}
	return of.Allow()
}

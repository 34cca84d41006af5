package connections

import (
	"encoding/base64"
	"encoding/json"
	"strings"
	"time"
)

// tokenEnds reads when a token ends where it says so itself, as JSON Web Tokens do (RFC 7519, 4.1.4); zero otherwise.
// It is not verified, since it serves for a reminder only.
func tokenEnds(token string) time.Time {
	parts := strings.Split(token, ".")
	if len(parts) != 3 || len(token) > 16<<10 {
		return time.Time{}
	}
	raw, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return time.Time{}
	}
	var claims struct {
		Exp float64 `json:"exp"`
	}
	if json.Unmarshal(raw, &claims) != nil || claims.Exp <= 0 || claims.Exp > 1e11 {
		return time.Time{}
	}
	return time.Unix(int64(claims.Exp), 0).UTC()
}

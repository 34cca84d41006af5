package connect

import (
	"context"
	"net/http"
	"time"

	"dorfbote/internal/core/fault"
)

// thereTimeout bounds asking whether somebody is there.
const thereTimeout = 10 * time.Second

// IsThere asks whether an address answers, by a call that changes nothing. host is what is shown of the address, which may hold a
// secret; of is whose address it is, such as "the gateway".
func IsThere(ctx context.Context, env Env, address, host, of string, header http.Header) ProofStep {
	tried := "asking whether " + host + " is there"
	ctx, cancel := context.WithTimeout(ctx, thereTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, address, nil)
	if err != nil {
		return Failed(tried, fault.At("", "this is no address that can be called"))
	}
	if header != nil {
		req.Header = header
	}
	req.Header.Set("User-Agent", Agent)
	res, err := env.HTTP.Do(req)
	if err != nil {
		if f, ok := fault.Of(err); ok {
			return Failed(tried, f)
		}
		return ProofStep{Tried: tried, Said: "no answer: " + NoAnswer(err), Do: "check the address of " + of}
	}
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden:
		return ProofStep{Tried: tried, Said: "it answers " + res.Status, Do: "check how it is signed in to; some servers answer so to anything but a post: then send one post to try", Who: "whoever gave the address"}
	case http.StatusGone:
		return ProofStep{Tried: tried, Said: "it answers " + res.Status + ": the address of " + of + " has been withdrawn", Do: "have a new one made", Who: "whoever gave the address"}
	}
	return Passed(tried, "it answers; whether it takes posts is seen when the first is sent")
}

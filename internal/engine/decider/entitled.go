package decider

import (
	"context"
	"slices"
	"strings"

	"dorfbote/internal/core/place"
)

// noAccount stands for whoever may answer where no account is known to be theirs; no account has such an address.
const noAccount = "nobody"

// entitled are the mail addresses, in small letters, of the accounts that may answer for places that are one person's own: the address
// itself, and those that the people book has of that person now. For a room there are none: whoever is there may answer.
func (de *Decider) entitled(ctx context.Context, places ...string) (map[string][]string, error) {
	book, err := de.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, asked := range places {
		connection, to, _ := strings.Cut(asked, "/")
		add := func(address string) {
			if address = strings.ToLower(address); strings.Contains(address, "@") && !strings.ContainsAny(address, " ,") && !slices.Contains(out[asked], address) {
				out[asked] = append(out[asked], address)
			}
		}
		rule, _ := de.Sources.Reaches(connection)
		if rule.Form == place.Mail {
			add(to)
		}
		if p := book.At(connection, to); p != nil {
			for _, a := range p.Addresses {
				add(a.Address)
			}
		}
		if len(out[asked]) == 0 && rule.Form == place.Number {
			out[asked] = []string{noAccount} // it is somebody's own, and whose is not known here
		}
	}
	return out, nil
}

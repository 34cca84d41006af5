package alerts

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// by says who presses a button, and refuses whom it is not for.
func (al *Alerts) by(ctx context.Context, p *store.Post, b *message.Button, who Who) (string, error) {
	book, err := al.Sources.People(ctx)
	if err != nil {
		return "", err
	}
	connection, place, _ := strings.Cut(p.Destination, "/")
	own := al.ownAddress(ctx, connection, place)
	switch {
	case b.Who != "":
		return al.allowed(ctx, book, connection, place, own, b, who)
	case who.Native != "":
		return who.Native, nil
	case who.Account != nil:
		return who.Account.Name, nil
	}
	if person := book.At(connection, place); person != nil {
		return person.Called(), nil
	}
	if own {
		return place, nil
	}
	return "somebody in " + place, nil
}

// Places are where an account is reached, and the rooms, in which whoever is there may answer.
type Places struct {
	// Own are the places that are the account's own: those with its mail address, and all that the people book has of the person
	// with that address.
	Own   []string
	rooms map[string]bool // by connections
}

// MayAnswer tells whether the account may answer what was put to a place.
func (p *Places) MayAnswer(destination string) bool {
	connection, _, _ := strings.Cut(destination, "/")
	return p.rooms[connection] || slices.Contains(p.Own, destination)
}

// PlacesOf finds where an account is reached, by its mail address.
func (al *Alerts) PlacesOf(ctx context.Context, email string) (*Places, error) {
	out := &Places{Own: []string{}, rooms: map[string]bool{}}
	list, err := al.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		kind := kinds.Named(c.Kind)
		if kind == nil || kind.Sends == nil {
			continue
		}
		if out.rooms[c.ID] = !kind.Sends.OwnPlaces; kind.Sends.Form == place.Mail {
			out.Own = append(out.Own, c.ID+"/"+email, c.ID+"/"+strings.ToLower(email))
		}
	}
	book, err := al.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	if p := book.Find(email); p != nil {
		for _, a := range p.Addresses {
			out.Own = append(out.Own, a.Connection+"/"+a.Address)
		}
	}
	return out, nil
}

// ownAddress tells whether a place is one person's own: a mail address, a number; not a room.
func (al *Alerts) ownAddress(ctx context.Context, connection, place string) bool {
	c, err := al.Store.Connection(ctx, connection)
	if err != nil || c == nil {
		return false
	}
	kind := kinds.Named(c.Kind)
	return kind != nil && kind.Sends != nil && kind.Sends.OwnPlaces && !strings.Contains(place, ", ")
}

// allowed says who presses a button that is for some people only.
func (al *Alerts) allowed(ctx context.Context, book *people.Book, connection, place string, own bool, b *message.Button, who Who) (string, error) {
	emails, names, by := []string{}, []string{}, ""
	var person *people.Person
	switch {
	case who.Account != nil && who.Native == "":
		by, emails, names = who.Account.Name, append(emails, who.Account.Email), append(names, who.Account.Name)
		person = book.Find(who.Account.Email)
	case who.Native != "":
		by, names = who.Native, append(names, who.Native)
		if person = book.At(connection, "@"+who.Native); person == nil {
			person = book.At(connection, who.Native)
		}
	case own:
		by, emails = place, append(emails, place)
		person = book.At(connection, place)
	}
	if person != nil {
		by, names = person.Called(), append(names, person.Called(), person.ID)
		for _, a := range person.Addresses {
			emails = append(emails, a.Address)
		}
	}
	team, isTeam := strings.CutPrefix(b.Who, "team:")
	if by == "" {
		return "", &Refused{Words: fmt.Sprintf("This button is for %s. Sign in, so that it is known who you are.", audience(b.Who)), SignIn: true}
	}
	var ok bool
	if isTeam {
		var err error
		if ok, err = al.Store.InTeam(ctx, strings.TrimSpace(team), names, emails); err != nil {
			return "", err
		}
	} else {
		meant := book.Find(b.Who)
		ok = meant != nil && meant == person || slices.ContainsFunc(append(names, emails...), func(s string) bool { return value.Fold(s) == value.Fold(b.Who) })
	}
	if !ok {
		return "", &Refused{Words: fmt.Sprintf("This button is for %s, and not for %s.", audience(b.Who), by), SignIn: who.Account == nil && who.Native == ""}
	}
	return by, nil
}

func audience(who string) string {
	if team, ok := strings.CutPrefix(who, "team:"); ok {
		return "the team " + strings.TrimSpace(team)
	}
	return who
}

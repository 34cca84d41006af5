package main

import (
	"encoding/json"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// surroundings are what a sheet is checked against where there is no database: the connections that posts go over, and the
// people book.
type surroundings struct{ connections, people string }

func (s *surroundings) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&s.connections, "connections", "", `what posts can go over, as JSON: {"square": {"kind": "chat", "places": ["#tours"]}, "mail": {"kind": "mail"}}; without, any place is taken`)
	cmd.Flags().StringVar(&s.people, "people", "", "the people book, as CSV headed id,name,prefers and a column for each connection; without, any person is taken")
}

// read adds them to what is known.
func (s *surroundings) read(known *sheet.Known) error {
	if s.people != "" {
		raw, err := os.ReadFile(s.people)
		if err != nil {
			return inputError{err}
		}
		list, err := people.ReadCSV(string(raw))
		if err != nil {
			return wrongInput("%s: %v", s.people, err)
		}
		if known.People, err = people.New(list); err != nil {
			return wrongInput("%s: %v", s.people, err)
		}
	}
	if s.connections == "" {
		return nil
	}
	raw, err := os.ReadFile(s.connections)
	if err != nil {
		return inputError{err}
	}
	rules, err := rulesOf(raw)
	if err != nil {
		return wrongInput("%s: %v", s.connections, err)
	}
	names := value.SortedKeys(rules)
	known.Reaches = func(connection string) (place.Rule, bool) {
		r, ok := rules[connection]
		return r, ok
	}
	known.Connections = func() []string { return names }
	return nil
}

// rulesOf reads what posts can go over.
func rulesOf(raw []byte) (map[string]place.Rule, error) {
	var list map[string]struct {
		Kind     string            `json:"kind"`
		Places   []string          `json:"places"`
		Settings map[string]string `json:"settings"`
	}
	if err := json.Unmarshal(raw, &list); err != nil {
		return nil, wrongInput(`it is an object with a kind for each connection, such as {"mail": {"kind": "mail"}}: %v`, err)
	}
	out := map[string]place.Rule{}
	for _, name := range value.SortedKeys(list) {
		c := list[name]
		k := kindCalled(c.Kind)
		if other := kinds.Named(c.Kind); k == nil && other != nil || k != nil && c.Settings != nil && k.Mute != nil && k.Mute(c.Settings) != "" {
			continue // it is only read, as export --connections has those, too
		}
		if k == nil {
			return nil, wrongInput("%s: posts go over no kind of connection called %q; it is one of %s", name, c.Kind, strings.Join(sending(), ", "))
		}
		rule := k.Rule(c.Settings, c.Places)
		if c.Places != nil {
			rule.Form = place.Listed
		} else if rule.Form == place.Listed {
			rule.Form = place.Free
		}
		out[name] = rule
	}
	return out, nil
}

func sending() []string {
	return kinds.That(func(k *connect.Kind) bool { return k.Sends != nil })
}

// kindCalled finds a kind that posts go over by its name or its title.
func kindCalled(name string) *connect.Kind {
	all := kinds.All()
	i := slices.IndexFunc(all, func(k *connect.Kind) bool {
		return k.Sends != nil && (strings.EqualFold(k.Name, name) || strings.EqualFold(k.Title, name))
	})
	if i < 0 {
		return nil
	}
	return all[i]
}

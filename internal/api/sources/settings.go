package sources

import (
	"maps"
	"net/url"
	"slices"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// Split parts settings from secrets, and refuses what the kind does not ask for.
func Split(k *connect.Kind, given map[string]string) (settings store.Texts, secrets map[string]string, err error) {
	settings, secrets = store.Texts{}, map[string]string{}
	known := map[string]connect.Setting{}
	for _, f := range k.Settings {
		known[f.Name] = f
	}
	for name, v := range given {
		f, ok := known[name]
		switch {
		case !ok:
			return nil, nil, kit.Invalid("body.settings."+name, "a %s has no setting %s", k.Title, name)
		case len(v) > 20_000:
			return nil, nil, kit.Invalid("body.settings."+name, "%s is too long", f.Label)
		case f.Type == "secret" || f.Type == "addresses":
			secrets[name] = v
		case f.Type == "choice" && v != "" && !slices.Contains(f.Options, v):
			return nil, nil, kit.Invalid("body.settings."+name, "%s is one of %s, not %q", f.Label, strings.Join(f.Options, ", "), v)
		default:
			settings[name] = strings.TrimSpace(v)
		}
	}
	return settings, secrets, nil
}

// applies tells whether a setting is asked for, given the others.
func applies(f connect.Setting, settings map[string]string, all []connect.Setting) bool {
	return f.When == "" || holds(f.When, settings, all)
}

// holds tells whether a setting has one of some values, written as name=a,b.
func holds(when string, settings map[string]string, all []connect.Setting) bool {
	name, values, _ := strings.Cut(when, "=")
	have := settings[name]
	for _, other := range all {
		if other.Name == name && have == "" {
			have = other.Default
		}
	}
	return slices.Contains(strings.Split(values, ","), have)
}

// Check refuses settings that are wrong for their kind beyond what each of them asks for.
func Check(k *connect.Kind, settings, secrets map[string]string) error {
	if k.Check == nil {
		return nil
	}
	all := map[string]string{}
	maps.Copy(all, settings)
	maps.Copy(all, secrets)
	err := k.Check(all)
	if f, ok := fault.Of(err); ok {
		return kit.Invalid("body.settings."+f.Place, "%s", fault.Plainly(f))
	}
	return err
}

// Complete refuses settings that lack something that is needed.
func Complete(fields []connect.Setting, settings, secrets map[string]string) error {
	for _, f := range fields {
		if (f.Required || f.Needed != "" && holds(f.Needed, settings, fields)) && f.Default == "" && settings[f.Name] == "" && secrets[f.Name] == "" && applies(f, settings, fields) {
			return kit.Invalid("body.settings."+f.Name, "%s is missing", f.Label)
		}
	}
	return nil
}

// sourceSettings keeps what a kind asks of its sources and refuses the rest.
func sourceSettings(k *connect.Kind, given map[string]string) (store.Texts, error) {
	settings, _, err := Split(&connect.Kind{Title: k.Title + "'s source", Settings: k.Source}, given)
	return settings, err
}

// Place is where a connection's secrets are sent.
func Place(settings map[string]string) string {
	host := settings["host"]
	if _, domain, ok := strings.Cut(settings["user"], "@"); ok && host == "" {
		host = domain // a chat's server is found by the user's name
	}
	if u, err := url.Parse(settings["address"]); err == nil {
		return u.Scheme + "://" + u.Host + " " + host // another path is the same place
	}
	return settings["address"] + " " + host
}

// KeepSecrets adds what is sealed already to the secrets that were given. One is only ever sent to where it was given
// for: where the settings lead elsewhere it must be given again.
func KeepSecrets(k *connect.Kind, was, now, have, given map[string]string) error {
	for _, name := range value.SortedKeys(have) {
		if given[name] != "" {
			continue
		}
		if Place(was) != Place(now) {
			label := name
			for _, f := range k.Settings {
				if f.Name == name {
					label = f.Label
				}
			}
			return kit.Invalid("body.settings."+name, "the connection leads elsewhere now, so %s must be given again", label)
		}
		given[name] = have[name]
	}
	return nil
}

package connections

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/sources"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

type makeInput struct {
	Body struct {
		ID       string            `json:"id" minLength:"1" maxLength:"40" doc:"a short name of lower-case letters, digits and hyphens"`
		Kind     string            `json:"kind,omitempty" default:"hook"`
		Title    string            `json:"title" minLength:"1" maxLength:"100"`
		Settings map[string]string `json:"settings,omitempty"`
		KeyField string            `json:"key_field,omitempty" doc:"of a hook: which field names a record; id where nothing is said"`
		Signed   bool              `json:"signed,omitempty" doc:"of a hook: take in only events signed by Standard Webhooks"`
	}
}

type changeInput struct {
	ID   string `path:"id"`
	Body struct {
		SecretExpires *time.Time        `json:"secret_expires,omitempty" doc:"when its secret ends, so that Today tells in time; the year 1 is never"`
		Title         string            `json:"title,omitempty" maxLength:"100"`
		Settings      map[string]string `json:"settings,omitempty" doc:"those to change; a secret that is not named stays as it is"`
		KeyField      string            `json:"key_field,omitempty"`
		Paused        *bool             `json:"paused,omitempty"`
		Renew         bool              `json:"renew,omitempty" doc:"of a hook: make a new signing secret"`
	}
}

var shortName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

func newSigningSecret() string {
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	return "whsec_" + base64.StdEncoding.EncodeToString(raw)
}

// settingsOf finds a kind, and sorts what was filled in for it into settings and secrets.
func settingsOf(kind string, given map[string]string) (k *connect.Kind, settings, secrets map[string]string, err error) {
	if k = kinds.Named(kind); k == nil {
		return nil, nil, nil, kit.Invalid("body.kind", "there is no kind of connection %s", kind)
	}
	settings, secrets, err = sources.Split(k, given)
	return k, settings, secrets, err
}

func (s *Connections) createConnection(ctx context.Context, who *kit.Person, in *makeInput) (*connectionOutput, error) {
	if !shortName.MatchString(in.Body.ID) || slices.Contains([]string{"dorfbote", sheet.Me, sheet.Person}, in.Body.ID) {
		return nil, kit.Invalid("body.id", "the short name may hold lower-case letters, digits and hyphens, and is not dorfbote, me or person")
	}
	k, settings, secrets, err := settingsOf(in.Body.Kind, in.Body.Settings)
	if err != nil {
		return nil, err
	}
	if err := sources.Complete(k.Settings, settings, secrets); err != nil {
		return nil, err
	}
	if err := sources.Check(k, settings, secrets); err != nil {
		return nil, err
	}
	c := store.Connection{ID: in.Body.ID, Kind: k.Name, Title: in.Body.Title, KeyField: in.Body.KeyField, Settings: settings, Owner: &who.ID, CreatedAt: s.Engine.Now()}
	if c.KeyField == "" {
		c.KeyField = settings["key_field"]
	}
	if c.KeyField == "" {
		c.KeyField = "id"
	}
	if k.Signs && (in.Body.Signed || settings["signed"] == "yes") {
		secrets["signing"] = newSigningSecret()
	}
	made := ""
	if k.Makes && secrets["signing"] == "" {
		made = newSigningSecret()
		secrets["signing"] = made
	}
	if k.Keyed {
		secrets["door"] = rand.Text()
	}
	if c.Sealed, err = s.Engine.Box.Seal(secrets, c.ID); err != nil {
		return nil, err
	}
	if err := s.Store.AddConnection(ctx, &c); err != nil {
		return nil, err
	}
	if k.Sends != nil && k.Sends.Listed() {
		s.askPlaces(ctx, c.ID)
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections})
	out, err := s.connection(ctx, c.ID)
	if err == nil {
		if out.Body.Secret = secrets["signing"]; k.Makes {
			out.Body.Secret = made // one that was given is known to whoever gave it
		}
	}
	return out, err
}

// askPlaces has the places that a connection sends to known. Where it does not answer, they are asked for again later.
func (s *Connections) askPlaces(ctx context.Context, id string) {
	if err := s.Engine.Sources.AskChannels(ctx, id); err != nil {
		s.Log.Info("listing the places of a connection failed", "connection", id, "error", err)
	}
}

func (s *Connections) changeConnection(ctx context.Context, _ *kit.Person, in *changeInput) (*connectionOutput, error) {
	fresh, kind := "", ""
	err := s.Store.ChangeConnection(ctx, in.ID, func(c *store.Connection) error {
		k := kinds.Named(c.Kind)
		if k == nil {
			return gorm.ErrRecordNotFound
		}
		kind = c.Kind
		settings, secrets, err := sources.Split(k, in.Body.Settings)
		if err != nil {
			return err
		}
		now := maps.Clone(c.Settings)
		if now == nil {
			now = store.Texts{}
		}
		maps.Copy(now, settings)
		if in.Body.Renew && k.Signs {
			fresh = newSigningSecret()
			secrets["signing"] = fresh
		}
		if in.Body.Renew && k.Keyed {
			secrets["door"] = rand.Text()
		}
		if err := s.sealAnew(k, c, now, secrets); err != nil {
			return err
		}
		if k.Check != nil && len(in.Body.Settings) > 0 {
			have, err := s.Engine.Box.Open(c.Sealed, c.ID)
			if err != nil {
				return err
			}
			if err := sources.Check(k, now, have); err != nil {
				return err
			}
		}
		c.Settings = now
		if in.Body.Title != "" {
			c.Title = in.Body.Title
		}
		if k := cmp.Or(in.Body.KeyField, settings["key_field"]); k != "" {
			c.KeyField = k
		}
		if in.Body.Paused != nil {
			c.Paused = *in.Body.Paused
		}
		for _, v := range secrets {
			if end := tokenEnds(v); !end.IsZero() {
				c.SecretExpires = &end
			}
		}
		if e := in.Body.SecretExpires; e != nil {
			if c.SecretExpires = e; e.Year() < 2000 {
				c.SecretExpires = nil
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	s.Hooks.Forget(in.ID)
	s.TakeRefused(ctx, in.ID)
	if k := kinds.Named(kind); len(in.Body.Settings) > 0 && k.Sends != nil && k.Sends.Listed() {
		s.askPlaces(ctx, in.ID)
	}
	if in.Body.Paused != nil && !*in.Body.Paused {
		if err := s.goOn(ctx, in.ID); err != nil {
			return nil, err
		}
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections})
	out, err := s.connection(ctx, in.ID)
	if err == nil {
		out.Body.Secret = fresh
	}
	return out, err
}

// sealAnew seals secrets that were changed, with those that stay.
func (s *Connections) sealAnew(k *connect.Kind, c *store.Connection, now store.Texts, secrets map[string]string) error {
	if k.Makes && secrets["signing"] != "" { // both hold for a while, so that the other side can be told in peace
		have, err := s.Engine.Box.Open(c.Sealed, c.ID)
		if err != nil {
			return err
		}
		secrets["signing_before"], now["before_until"] = have["signing"], s.Engine.Now().Add(connect.BothFor).UTC().Format(time.RFC3339)
	}
	// Without need nothing is sealed anew: with a wrong key, what is sealed stays for the right one.
	if len(secrets) == 0 && sources.Place(now) == sources.Place(c.Settings) {
		return nil
	}
	have, err := s.Engine.Box.Open(c.Sealed, c.ID)
	if err != nil && len(secrets) == 0 {
		return err
	}
	if err := sources.KeepSecrets(k, c.Settings, now, have, secrets); err != nil {
		return err
	}
	c.Sealed, err = s.Engine.Box.Seal(secrets, c.ID)
	return err
}

// goOn has everything done that a pause has held up.
func (s *Connections) goOn(ctx context.Context, id string) error {
	if err := s.Store.DueOf(ctx, id); err != nil {
		return err
	}
	names, err := s.Store.DestinationNames(ctx, id)
	if err != nil {
		return err
	}
	for _, n := range names {
		if err := s.Engine.Outbox.Wake(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

func (s *Connections) deleteConnection(ctx context.Context, _ *kit.Person, in *connectionInput) (*struct{}, error) {
	uses, err := s.Sources.Uses(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if len(uses) > 0 {
		names := make([]string, len(uses))
		for i, u := range uses {
			names[i] = u.Name
		}
		return nil, huma.Error409Conflict("the connection is used by " + strings.Join(names, ", ") + "; move them to another connection first")
	}
	if err := s.Store.DeleteConnection(ctx, in.ID); err != nil {
		return nil, err
	}
	s.Hooks.Forget(in.ID)
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections})
	return nil, nil
}

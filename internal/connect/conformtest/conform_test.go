package conformtest

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
)

func TestEveryKindThatIsAsked(t *testing.T) {
	if testing.Short() {
		t.Skip("real servers take their time")
	}
	rigs := Readings(t)
	for _, k := range kinds.That(func(k *connect.Kind) bool { return k.Reads == connect.ReadsAsked }) {
		assert.True(t, slices.ContainsFunc(rigs, func(r *Reading) bool { return r.Kind == k }), "%s has a rig", k)
	}
	for _, r := range rigs {
		t.Run(r.Name, func(t *testing.T) { CheckReading(t, r) })
	}
}

func TestEveryKindThatSends(t *testing.T) {
	rigs := Sendings()
	for _, k := range kinds.That(func(k *connect.Kind) bool { return k.Sends != nil }) {
		assert.True(t, slices.ContainsFunc(rigs, func(s *Sending) bool { return s.Kind == k }), "%s has a rig", k)
	}
	for _, s := range rigs {
		t.Run(s.Kind, func(t *testing.T) { CheckSending(t, s) })
	}
}

// Whatever the other side does in whatever phase of a conversation: hang, cut it off, break it off, trickle, or not end it.
func TestUnderFire(t *testing.T) {
	if testing.Short() {
		t.Skip("what hangs takes its time")
	}
	waits := map[string]func(*testing.T){} // all at once: most of it is waiting
	for _, s := range Sendings() {
		if !s.Local {
			waits["sending "+s.Kind] = SendingUnderFire(t, s)
		}
	}
	for _, r := range Readings(t) {
		waits["reading "+r.Name] = ReadingUnderFire(t, r)
	}
	for name, wait := range waits {
		t.Run(name, wait)
	}
}

// What a kind says of itself is so: its forms can be filled in, and what it opens can do what it claims.
func TestEveryKindDescribesItselfTruly(t *testing.T) {
	types := []string{"text", "address", "secret", "choice", "number", "yes/no", "long", "questions", "addresses", "shape", "marks"}
	names := map[string]bool{}
	for _, k := range kinds.All() {
		t.Run(k.Name, func(t *testing.T) {
			assert.False(t, names[k.Name], "its name is its own")
			names[k.Name] = true
			assert.NotEmpty(t, k.Title)
			assert.NotEmpty(t, k.Does)
			for _, list := range [][]connect.Setting{k.Settings, k.Source} {
				known := map[string]connect.Setting{}
				for _, s := range list {
					assert.NotContains(t, known, s.Name, "each setting stands once")
					assert.NotEmpty(t, s.Label)
					assert.Contains(t, types, s.Type)
					assert.Equal(t, s.Type == "choice", len(s.Options) > 0, "%s: choices have options, and nothing else has", s.Name)
					if s.Default != "" && s.Type == "choice" {
						assert.Contains(t, s.Options, s.Default)
					}
					known[s.Name] = s
				}
				for _, s := range list {
					if s.When == "" {
						continue
					}
					name, values, ok := strings.Cut(s.When, "=")
					require.True(t, ok, s.When)
					other, there := known[name]
					if !there { // a source's setting may depend on its connection's
						for _, c := range k.Settings {
							if c.Name == name {
								other, there = c, true
							}
						}
					}
					require.True(t, there, "%s is asked for by %s, which there is", s.Name, name)
					for v := range strings.SplitSeq(values, ",") {
						if other.Type == "choice" {
							assert.Contains(t, other.Options, v, s.Name)
						}
					}
				}
			}
			if k.Reads == connect.ReadsCalled {
				assert.NotEmpty(t, k.Door, "what calls has a door")
			}
			if k.Reads == connect.ReadsAsked {
				assert.Positive(t, k.Quickest)
				assert.GreaterOrEqual(t, k.Slowest, k.Quickest)
			}
			assert.Equal(t, k.Writable != nil || k.Write != nil, k.Write != nil, "who says what can be written writes")
			if k.Open == nil {
				assert.Nil(t, k.Sends)
				assert.NotEqual(t, connect.ReadsAsked, k.Reads)
				return
			}
			env, err := connect.NewEnv(value.DefaultWorkspace(), "")
			require.NoError(t, err)
			settings := map[string]string{}
			for _, s := range k.Settings {
				if settings[s.Name] = s.Default; s.Default == "" && s.Required {
					settings[s.Name] = map[string]string{"text": "x", "address": "https://app.example", "secret": "https://s.example", "number": "100", "addresses": "x https://app.example/in/1", "shape": "{}"}[s.Type]
				}
			}
			conn, err := k.Open(connect.Config{ID: "x", Settings: settings, Env: env})
			require.NoError(t, err, "opening makes no calls")
			defer conn.Close()
			if k.Reads == connect.ReadsAsked {
				_, polls := conn.(connect.Poller)
				_, listens := conn.(connect.Listener)
				assert.True(t, polls || listens)
			}
			if k.Sends == nil || k.Mute != nil && k.Mute(settings) != "" {
				return
			}
			assert.Contains(t, message.Dialects, k.Sends.Dialect)
			_, sends := conn.(connect.Sender)
			_, edits := conn.(connect.Editor)
			_, replies := conn.(connect.Replier)
			assert.True(t, sends)
			assert.Equal(t, slices.Contains(k.Sends.Can, connect.CanEdit), edits)
			assert.Equal(t, slices.Contains(k.Sends.Can, connect.CanReply), replies)
		})
	}
}

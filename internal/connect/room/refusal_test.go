package room

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

// What a server refuses stays refused, unless it says that waiting helps or that it is unwell; everything else may heal.
func TestRefusals(t *testing.T) {
	for _, c := range []struct {
		err    error
		final  bool
		answer string
	}{
		{refusedBy(stanza.Error{Type: stanza.Auth, Condition: stanza.RegistrationRequired, Text: map[string]string{"en": "members only"}}, &fault.Fault{Tried: "joining tours@x"}), true, "joining tours@x: registration required: members only"},
		{refusedBy(stanza.Error{Type: stanza.Cancel, Condition: stanza.ItemNotFound}, &fault.Fault{}), true, "item not found"},
		{refusedBy(stanza.Error{Type: stanza.Wait, Condition: stanza.ResourceConstraint}, &fault.Fault{}), false, "resource constraint"},
		{refusedBy(stanza.Error{Type: stanza.Cancel, Condition: stanza.InternalServerError}, &fault.Fault{}), false, "internal server error"},
		{refusedBy(stanza.Error{Type: stanza.Cancel, Condition: stanza.RemoteServerNotFound}, &fault.Fault{}), false, "remote server not found"},
		{&fault.Fault{Tried: "signing in as desk@x", Said: "not authorized"}, false, "signing in as desk@x: not authorized"},
		{errors.New("broken pipe"), false, "no answer: broken pipe"},
	} {
		d := unsaid(connect.Delivery{}, c.err)
		assert.Equal(t, c.final, d.Final, c.answer)
		assert.Contains(t, d.Answer, c.answer)
		assert.False(t, d.Taken)
	}
}

package fault

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWords(t *testing.T) {
	lost := errors.New("the line was cut")
	for name, c := range map[string]struct {
		fault          Fault
		whole, plainly string
	}{
		"what came back":   {Fault{Said: "no answer"}, "no answer", "no answer"},
		"a place":          {Fault{Place: "data.record", Said: "is missing"}, "data.record: is missing", "is missing"},
		"another error":    {Fault{Place: "line 3", Err: lost}, "line 3: the line was cut", "the line was cut"},
		"words before it":  {Fault{Said: "no answer", Err: lost}, "no answer", "no answer"},
		"what to do":       {Fault{Tried: "calling a.example", Said: "no answer.", Do: "check the address"}, "calling a.example: no answer. check the address", "no answer; check the address"},
		"who":              {Fault{Tried: "joining", Said: "forbidden", Do: "let it in", Who: "the owner"}, "joining: forbidden. let it in (the owner can grant it)", "forbidden; let it in"},
		"who, and nothing": {Fault{Said: "forbidden", Who: "the owner"}, "forbidden (the owner can grant it)", "forbidden"},
	} {
		assert.Equal(t, c.whole, c.fault.Error(), name)
		assert.Equal(t, c.plainly, Plainly(&c.fault), name)
		assert.Equal(t, c.plainly, Plainly(fmt.Errorf("while asking: %w", &c.fault)), name)
	}
	assert.Equal(t, "the line was cut", Plainly(lost))
}

func TestOf(t *testing.T) {
	lost := errors.New("the line was cut")
	f, ok := Of(fmt.Errorf("while reading: %w", In("body", lost)))
	assert.True(t, ok)
	assert.Equal(t, "body", f.Place)
	require.ErrorIs(t, f, lost)
	_, ok = Of(lost)
	assert.False(t, ok)
	assert.Equal(t, &Fault{Place: "UNTIL", Said: "7 is no time"}, At("UNTIL", "%d is no time", 7))
}

func TestSentence(t *testing.T) {
	for in, out := range map[string]string{"a": "a.", "a...": "a.", "a?": "a?", "a!": "a!", "a…": "a…", " ": "", " a. ": "a."} {
		assert.Equal(t, out, Sentence(in))
	}
}

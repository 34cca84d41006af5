package script

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the child answers to one line is one line, whatever the line is; its words name lines of the script and none of its own.
func TestWhatTheChildAnswers(t *testing.T) {
	for name, c := range map[string]struct{ line, value, wrong string }{
		"a value":              {`{"script":"result = 1 + n","names":{"n":2}}`, "3", ""},
		"exact numbers":        {`{"script":"result = n","names":{"n":9007199254740993}}`, "9007199254740993", ""},
		"text":                 {`{"script":"result = s + \"ä\"","names":{"s":"ö"}}`, `"öä"`, ""},
		"a record":             {`{"script":"result = {\"b\": r[\"a\"], \"a\": None}","names":{"r":{"a":[true]}}}`, `{"a":null,"b":[true]}`, ""},
		"json itself":          {`{"script":"result = json.decode(\"[1]\")[0]"}`, "1", ""},
		"no request":           {`hello`, "", "invalid character"},
		"names that are none":  {`{"script":"result = 1","names":{"n":nope}}`, "", "invalid character"},
		"nothing":              {`{"script":""}`, "", "sets nothing called result"},
		"no script":            {`{"script":"result ="}`, "", "line 1"},
		"a fault in a call":    {`{"script":"def f(x):\n  return x.none\n\nresult = f(1)"}`, "", "line 2"},
		"what cannot be given": {`{"script":"result = len"}`, "", "result: "},
		"no end":               {`{"script":"while True:\n  pass"}`, "", "the script took more than 2000000 steps"},
		"no end by calls":      {`{"script":"def f():\n  return f()\nresult = f()"}`, "", ""},
	} {
		a := run([]byte(c.line))
		if c.value != "" {
			assert.Empty(t, a.Error, name)
			assert.Equal(t, c.value, string(a.Value), name)
			continue
		}
		assert.Nil(t, a.Value, name)
		assert.NotEmpty(t, a.Error, name)
		assert.Contains(t, a.Error, c.wrong, name)
		assert.NotContains(t, a.Error, "script:", name)
		raw, err := json.Marshal(a)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "\n", name)
	}
	assert.NotContains(t, run([]byte(`{"script":"x = 1\nresult = y"}`)).Error, "starlark")
	assert.True(t, strings.HasPrefix(run([]byte(`{"script":"x = 1\nresult = 1 // 0"}`)).Error, "line 2: "))
}

// A child that has died is started anew for the next script.
func TestAChildThatDies(t *testing.T) {
	r := &Runner{}
	defer r.Close()
	v, err := r.Run("result = 1", nil)
	require.NoError(t, err)
	assert.Equal(t, 1.0, v)
	r.stop()
	v, err = r.Run("result = 2", nil)
	require.NoError(t, err)
	assert.Equal(t, 2.0, v)
	r.Close()
	r.Close()
}

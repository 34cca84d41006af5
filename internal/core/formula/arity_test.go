package formula

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

// Every function says what it takes where it is given too little or too much, before anything runs.
func TestHowManyArgumentsFunctionsTake(t *testing.T) {
	w := &Words{Workspace: value.DefaultWorkspace()}
	require.Len(t, takes, len(functionNames))
	for _, name := range functionNames {
		key := name
		if name == "or" {
			key = orName
		}
		spec, ok := takes[key]
		require.True(t, ok, name)
		for n := range 6 {
			args := []string{`"7"`, `"EUR"`, `"b"`, `"c"`, `"d"`}[:n]
			if name == "bullets" && n > 0 {
				args[0] = "[1]"
			}
			if n > 1 && (name == "number" || name == "shorten") {
				args[1] = "2"
			}
			if n > 0 && name == "on_duty" {
				args[0] = `"rota/events"`
			}
			_, err := Compile(name+"("+strings.Join(args, ", ")+")", w)
			if n >= spec.least && n <= spec.most {
				require.NoError(t, err, "%s with %d", name, n)
				continue
			}
			require.Error(t, err, "%s with %d", name, n)
			assert.Contains(t, err.Error(), "is called as "+spec.call[:strings.Index(spec.call, "(")], "%s with %d", name, n)
		}
	}
	_, err := Compile(`"a" + money(record.amount)`, w)
	var fe *Error
	require.ErrorAs(t, err, &fe)
	assert.Equal(t, 6, fe.Offset)
	assert.Equal(t, `money is called as money(number, "EUR"); here it has 1 argument`, fe.Message)
}

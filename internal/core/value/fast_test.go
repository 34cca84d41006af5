package value

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The reader for many values gives what the one for one gives, and refuses what it refuses, in the same words.
func sameReading(t *testing.T, r *Reader, data []byte) {
	want, wantErr := ReadJSON(data)
	got, err := r.Read(data)
	if wantErr != nil {
		require.Equal(t, wantErr, err)
		return
	}
	require.NoError(t, err)
	require.Equal(t, want, got)
}

func TestReaderIsReadJSON(t *testing.T) {
	r := NewReader()
	for _, s := range []string{
		`{"a":1,"b":[true,false,null,"x",""],"c":{"d":-0.5e3}}`, ` [ ] `, `{}`, `"é\u00e9\n"`, `"\ud83d\ude00"`, `{"a":1,"a":2}`, `{"a":{"b":1,"b":1}}`,
		`0`, `-0`, `-`, `01`, `1.`, `.5`, `1e`, `1e+`, `1e400`, `9007199254740993`, `123456789012345`, `1234567890123456`, `0.1`, `1.10`, `-12`,
		`{"a":1`, `[1,]`, `{"a":1,}`, `[1 2]`, `tru`, `truex`, `nul`, `"abc`, "\"a\nb\"", "\"\xff\"", "\"\x00\"", `{"a" 1}`, `{1:2}`, `1 2`, ``, `   `, `{"a":"this text is longer than what is kept once, by far"}`,
	} {
		t.Run(s, func(t *testing.T) {
			sameReading(t, r, []byte(s))
			sameReading(t, r, []byte(s)) // what is kept changes nothing
		})
	}
	deep := make([]byte, 0, 400)
	for range 150 {
		deep = append(deep, '[')
	}
	for range 150 {
		deep = append(deep, ']')
	}
	sameReading(t, r, deep)
	a, _ := r.Read([]byte(`{"k":"v"}`))
	b, _ := r.Read([]byte(`{"k":"w"}`))
	assert.Equal(t, map[string]any{"k": "v"}, a)
	assert.Equal(t, map[string]any{"k": "w"}, b)
}

func FuzzReader(f *testing.F) {
	for _, s := range []string{`{"a":[1,2.5,"x"],"b":{"c":null}}`, `"\u0000"`, `[[[[]]]]`, `{"a":1,"a":1}`} {
		f.Add([]byte(s))
	}
	r := NewReader()
	f.Fuzz(func(t *testing.T, data []byte) { sameReading(t, r, data) })
}

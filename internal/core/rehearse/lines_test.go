package rehearse

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/fault"
)

func all(string) bool { return true }

// A line that is too long, or breaks off, is named; an empty file and a file without a last newline are whole.
func TestLinesOfAFile(t *testing.T) {
	one := event("1", "2026-11-20T06:00:00Z", "late", "", "")
	for name, c := range map[string]struct{ file, wrong string }{
		"empty":                   {"", ""},
		"only empty lines":        {"\n\n \n", ""},
		"without a last newline":  {one, ""},
		"Windows lines":           {one + "\r\n" + one + "\r\n", ""},
		"a line that is too long": {one + "\n" + strings.Repeat("x", MaxLine+10) + "\n", "line 2: is longer than"},
		"a line that breaks off":  {one + "\n" + one[:20], "line 2: line 1"},
		"no JSON":                 {"hello\n", "line 1: line 1, column 1"},
		"a list":                  {"[]\n", "line 1: (event): a CloudEvent is a JSON object, not a list"},
	} {
		_, err := Look(strings.NewReader(c.file), nil, all)
		if c.wrong == "" {
			require.NoError(t, err, name)
			continue
		}
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.wrong, name)
		f, ok := fault.Of(err)
		require.True(t, ok, name)
		assert.True(t, strings.HasPrefix(f.Place, "line "), name)
	}
}

type seeks struct {
	io.Reader
	fails bool
}

func (s seeks) Seek(int64, int) (int64, error) {
	if s.fails {
		return 0, errors.New("it cannot be read from its beginning")
	}
	return 0, nil
}

// A file that cannot be read says so with the line, whenever it fails.
func TestAFileThatCannotBeRead(t *testing.T) {
	_, err := Look(seeks{strings.NewReader(""), true}, nil, all)
	require.ErrorContains(t, err, "from its beginning")
	one := event("1", "2026-11-20T06:00:00Z", "late", "", "")
	_, err = Look(seeks{io.MultiReader(strings.NewReader(one+"\n"+one[:9]), iotest.ErrReader(errors.New("the disk is gone"))), false}, nil, all)
	assert.ErrorContains(t, err, "line 2: the disk is gone")
}

// Arrivals of any order come out in the order of time, and those of one moment in the order of the file.
func TestOrderOfAFile(t *testing.T) {
	const simple = "dorfbote: 1\nname: x\nwatch: {source: tours/collections}\nmessages: {m: {title: t}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n"
	lines := []string{
		event("d", "2026-11-20T06:30:00Z", "late", "", ""), event("b", "2026-11-20T06:10:00Z", "late", "", ""), event("c", "2026-11-20T06:10:00Z", "late", "", ""),
		event("a", "2026-11-20T07:00:00+01:00", "late", "", ""),
	}
	var ids []string
	for _, l := range run(t, simple, lines...) {
		ids = append(ids, l[len(`{"arrival":"`):len(`{"arrival":"`)+1])
	}
	assert.Equal(t, []string{"a", "b", "c", "d"}, ids)
}

// What stands twice within reach counts once; what is beyond it is news again, and memory stays bounded.
func TestRecentIDs(t *testing.T) {
	r := newRecent(3)
	for _, id := range []string{"a", "b", "c"} {
		assert.True(t, r.add("s", id))
		assert.False(t, r.add("s", id))
	}
	assert.True(t, r.add("other", "a"), "an id is one source's own")
	assert.True(t, r.add("s", "a"), "beyond its reach")
	assert.False(t, r.add("s", "c"))
	assert.LessOrEqual(t, len(r.set), 3)
}

// A file that is read ahead gives the same as one that is not.
func TestReadingAhead(t *testing.T) {
	var file bytes.Buffer
	for i := range 3000 {
		file.WriteString(event(string(rune('a'+i%26))+time.Duration(i).String(), time.Date(2026, 11, 20, 6, 0, i, 0, time.UTC).Format(time.RFC3339), "late", "", "") + "\n")
	}
	stopped := false
	ahead := func(next func() *Batch) (func() *Batch, func()) {
		var list []*Batch
		for b := next(); b != nil; b = next() {
			list = append(list, b)
		}
		return func() *Batch {
			if len(list) == 0 {
				return nil
			}
			b := list[0]
			list = list[1:]
			return b
		}, func() { stopped = true }
	}
	plain, err := Look(bytes.NewReader(file.Bytes()), nil, all)
	require.NoError(t, err)
	read, err := Look(bytes.NewReader(file.Bytes()), ahead, all)
	require.NoError(t, err)
	assert.True(t, stopped)
	assert.Equal(t, plain.Learners["tours/collections"].Schema(), read.Learners["tours/collections"].Schema())
}

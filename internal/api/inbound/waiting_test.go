package inbound

import (
	"context"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/notify"
)

// Whoever waits is woken by their own answer, or where messages may have been missed, and looks no more often than that.
func TestWaitingForAnswers(t *testing.T) {
	var w waiting
	var looked [3]atomic.Int64
	var there [3]atomic.Bool
	var done sync.WaitGroup
	for n := range 3 {
		done.Go(func() {
			got := w.until(t.Context(), awaited{int64(n), 7}, time.Minute, func() bool { looked[n].Add(1); return there[n].Load() })
			assert.True(t, got)
		})
	}
	counts := func(want ...int64) {
		require.Eventually(t, func() bool {
			for n := range 3 {
				if looked[n].Load() != want[n] {
					return false
				}
			}
			return true
		}, 10*time.Second, time.Millisecond)
	}
	counts(1, 1, 1)
	w.heed(notify.Message{Topic: notify.Posts, Seq: 1, ID: 7})
	w.heed(notify.Message{Topic: notify.Replied, Seq: 1, ID: 8})
	there[1].Store(true)
	w.heed(notify.Message{Topic: notify.Replied, Seq: 1, ID: 7})
	counts(1, 2, 1)
	there[0].Store(true)
	there[2].Store(true)
	w.heed(notify.Message{Topic: notify.All})
	done.Wait()
	assert.Empty(t, w.all, "nobody is kept who waits no more")

	assert.False(t, w.until(t.Context(), awaited{}, 0, func() bool { return false }), "who does not want to wait does not")
	looks := 0
	assert.True(t, w.until(t.Context(), awaited{}, time.Millisecond, func() bool { looks++; return looks == 2 }), "it is looked once more at the end")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	assert.False(t, w.until(gone, awaited{}, time.Minute, func() bool { return false }))
}

// No more than so many wait at one time.
func TestTooManyWait(t *testing.T) {
	var w waiting
	for range mostWaiting {
		require.True(t, w.enter())
	}
	assert.False(t, w.enter())
	w.leave()
	assert.True(t, w.enter())
}

// Lines of calendars are broken within 75 octets and never within a character; what was broken is whole again without the breaks.
func TestFolded(t *testing.T) {
	for _, line := range []string{"SUMMARY:short", "SUMMARY:" + strings.Repeat("Käse ", 60), "X:" + strings.Repeat("🧀", 50), strings.Repeat("a", 75), strings.Repeat("a", 76), ""} {
		text := "BEGIN:VEVENT\r\n" + line + "\r\nEND:VEVENT\r\n"
		got := folded(text)
		for one := range strings.SplitSeq(strings.TrimSuffix(got, "\r\n"), "\r\n") {
			assert.LessOrEqual(t, len(one), 75)
			assert.Equal(t, one, strings.ToValidUTF8(one, "?"))
		}
		assert.Equal(t, text, strings.ReplaceAll(got, "\r\n ", ""))
	}
}

// What names a feed or a post is the same each time, and holds nothing that no IRI may.
func TestIRI(t *testing.T) {
	for name, want := range map[string]string{"A feed": "urn:dorfbote:feed:A%20feed", "a+b/c": "urn:dorfbote:feed:a%2Bb%2Fc", "<\"{}>": "urn:dorfbote:feed:%3C%22%7B%7D%3E", "Käse": "urn:dorfbote:feed:K%C3%A4se"} {
		assert.Equal(t, want, iri("feed", name))
	}
}

package rehearse

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// paced runs a pace over arrivals written as "id time key [tone]" and gives each line as "time arrival verdict: posts",
// a post as to, title and how it hangs together with others.
func paced(t *testing.T, pace, until string, arrivals ...string) []string {
	t.Helper()
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	src := `dorfbote: 1
name: T
watch: {source: lab/samples}
messages:
  m: {title: "${record.id} ${record.n}", tone: "${record.tone}"}
  d: {title: detail}
route:
  rows:
    - {name: both, when: {field: way, is: both}, tell: [{to: sq/a, message: m}, {to: sq/b, message: m}]}
    - {name: thread, when: {field: way, is: thread}, tell: [{to: sq/a, message: m, reply: d}]}
  otherwise: {tell: [{to: sq/a, message: m}]}
pace: ` + pace + "\n"
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.Workspace{Zone: zurich, Locale: "en"}})
	require.NotNil(t, plan, "%v", problems)
	var file strings.Builder
	for i, line := range arrivals {
		f := strings.Fields(line)
		tone, way := "plain", ""
		for _, word := range f[3:] {
			if word == "urgent" || word == "warning" {
				tone = word
			} else {
				way = word
			}
		}
		fmt.Fprintf(&file, `{"specversion":"1.0","id":%q,"source":"lab/samples","type":"dorfbote.record.updated","time":"2026-11-%s:00Z","subject":%[3]q,"data":{"record":{"id":%[3]q,"n":%[4]d,"tone":%[5]q,"way":%[6]q}}}`+"\n",
			f[0], f[1], f[2], i, tone, way)
	}
	in := strings.NewReader(file.String())
	scout, err := Look(in, nil, func(string) bool { return false })
	require.NoError(t, err)
	var end time.Time
	if until != "" {
		end, err = time.Parse("2006-01-02T15:04Z", "2026-11-"+until+"Z")
		require.NoError(t, err)
	}
	var got []string
	require.NoError(t, scout.Run(in, plan, end, machine(plan, nil, nil, func(l Line) error {
		s := l.At.UTC().Format("02T15:04") + " " + l.Arrival + " " + string(l.Verdict)
		for _, p := range l.Posts {
			s += " [" + strings.TrimPrefix(p.To, "sq/") + " " + p.Doc.Title
			if p.Doc.Tone != "plain" {
				s += " " + p.Doc.Tone
			}
			switch {
			case p.Under >= 0:
				s += " under " + l.Posts[p.Under].Doc.Title
			case p.UnderRef != "":
				s += " under " + p.UnderRef
			case p.Updates != "":
				s += " for " + p.Updates
			}
			s += "]"
		}
		got = append(got, s)
		return nil
	})))
	return got
}

func TestPace(t *testing.T) {
	const (
		drop   = `{repeat: {key: "${record.id}", within: 2h}}`
		update = `{repeat: {key: "${record.id}", within: 2h, then: update}}`
		reply  = `{repeat: {key: "${record.id}", within: 2h, then: reply}}`
		// 05:00 to 20:00 in Zurich is 04:00 to 19:00 in UTC; 20 November 2026 is a Friday.
		quiet = `{quiet: {open: [{days: [mon, tue, wed, thu, fri], from: "05:00", to: "20:00"}], urgent: pass}}`
		hold  = `{quiet: {open: [{days: [mon, tue, wed, thu, fri], from: "05:00", to: "20:00"}]}}`
		limit = `{limit: {posts: 2, per: 1h}}`
	)
	for _, c := range []struct {
		name, pace     string
		arrivals, want []string
	}{
		{"a repeat is dropped", drop, []string{"1 20T08:00 A", "2 20T09:00 A", "3 20T09:30 B"}, []string{"20T08:00 1 told [a A 0]", "20T09:00 2 repeated", "20T09:30 3 told [a B 2]"}},
		{"the span ends counted from what was told, not from its repeats", drop, []string{"1 20T08:00 A", "2 20T09:59 A", "3 20T10:00 A", "4 20T10:01 A", "5 20T11:00 A"},
			[]string{"20T08:00 1 told [a A 0]", "20T09:59 2 repeated", "20T10:00 3 repeated", "20T10:01 4 told [a A 3]", "20T11:00 5 repeated"}},
		{"an empty key repeats nothing", `{repeat: {key: "${record.way}", within: 2h}}`, []string{"1 20T08:00 A", "2 20T08:01 A"}, []string{"20T08:00 1 told [a A 0]", "20T08:01 2 told [a A 1]"}},
		{"a repeat updates the post", update, []string{"1 20T08:00 A", "2 20T09:00 A urgent"}, []string{"20T08:00 1 told [a A 0]", "20T09:00 2 repeated [a A 1 urgent for 1-p0]"}},
		{"each of two posts is updated", update, []string{"1 20T08:00 A both", "2 20T09:00 A both"}, []string{"20T08:00 1 told [a A 0] [b A 0]", "20T09:00 2 repeated [a A 1 for 1-p0] [b A 1 for 1-p1]"}},
		{"a repeat replies", reply, []string{"1 20T08:00 A thread", "2 20T09:00 A thread"}, []string{"20T08:00 1 told [a A 0] [a detail under A 0]", "20T09:00 2 repeated [a A 1 under 1-p0]"}},
		{"quiet hours hold", quiet, []string{"1 20T18:59 A", "2 20T19:00 A thread", "3 20T20:00 A urgent", "4 21T08:00 B", "5 23T04:00 C"},
			[]string{"20T18:59 1 told [a A 0]", "20T19:00 2 held", "20T20:00 3 told [a A 2 urgent]", "21T08:00 4 held", "23T04:00 2 released [a A 1] [a detail under A 1]", "23T04:00 4 released [a B 3]", "23T04:00 5 told [a C 4]"}},
		{"urgent waits unless it may pass", hold, []string{"1 20T20:00 A urgent"}, []string{"20T20:00 1 held", "23T04:00 1 released [a A 0 urgent]"}},
		{"one arrival's posts are released together", hold, []string{"1 20T20:00 A both"}, []string{"20T20:00 1 held", "23T04:00 1 released [a A 0] [b A 0]"}},
		{"the limit is for each destination, and the rest comes in one digest", limit, []string{"1 20T08:00 A", "2 20T08:10 B warning", "3 20T08:20 C warning", "4 20T08:30 D both", "5 20T08:59 E", "6 20T09:00 F"},
			[]string{"20T08:00 1 told [a A 0]", "20T08:10 2 told [a B 1 warning]", "20T08:20 3 held", "20T08:30 4 told [b D 3]", "20T08:59 5 held", "20T09:00 3 digest [a T: 3 more messages warning]", "20T09:00 6 told [a F 5]"}},
		{"a limit of the next hour begins with the next post", limit, []string{"1 20T08:00 A", "2 20T09:30 B", "3 20T10:15 C", "4 20T10:20 D"}, []string{"20T08:00 1 told [a A 0]", "20T09:30 2 told [a B 1]", "20T10:15 3 told [a C 2]", "20T10:20 4 held", "20T10:30 4 digest [a T: 1 more message]"}},
		{"what is released counts", `{limit: {posts: 1, per: 1h}, quiet: {open: [{from: "05:00", to: "20:00"}]}}`, []string{"1 20T20:00 A", "2 20T21:00 B", "3 21T04:30 C"},
			[]string{"20T20:00 1 held", "20T21:00 2 held", "21T04:00 1 released [a A 0]", "21T04:30 3 held", "21T05:00 2 digest [a T: 2 more messages]"}},
		{"no digest outside the hours", `{limit: {posts: 1, per: 1h}, quiet: {open: [{from: "05:00", to: "20:00"}]}}`, []string{"1 20T18:30 A", "2 20T18:40 B"},
			[]string{"20T18:30 1 told [a A 0]", "20T18:40 2 held", "21T04:00 2 digest [a T: 1 more message]"}},
		{"a held post is brought up to date while it waits", `{repeat: {key: "${record.id}", within: 24h, then: update}, quiet: {open: [{from: "05:00", to: "20:00"}]}}`, []string{"1 20T20:00 A", "2 20T21:00 A"},
			[]string{"20T20:00 1 held", "20T21:00 2 repeated", "21T04:00 1 released [a A 1]"}},
		{"a reply waits with the post that it belongs to, or for the hours", `{repeat: {key: "${record.id}", within: 24h, then: reply}, quiet: {open: [{from: "05:00", to: "20:00"}]}}`, []string{"1 20T18:00 A", "2 20T21:00 A", "3 20T22:00 B", "4 20T23:00 B"},
			[]string{"20T18:00 1 told [a A 0]", "20T21:00 2 repeated", "20T22:00 3 held", "20T23:00 4 repeated", "21T04:00 2 released [a A 1 under 1-p0]", "21T04:00 3 released [a B 2] [a B 3 under B 2]"}},
		{"a digest every so often", `{digest: {every: 4h}}`, []string{"1 20T08:00 A", "2 20T11:59 B", "3 20T12:00 C"}, []string{"20T08:00 1 held", "20T11:59 2 held", "20T12:00 1 digest [a T: 2 messages]", "20T12:00 3 held", "20T16:00 3 digest [a T: 1 message]"}},
		{"a digest at times of the day", `{digest: {at: ["07:00", "16:00"]}}`, []string{"1 20T05:00 A", "2 20T06:00 B", "3 20T18:00 C"}, []string{"20T05:00 1 held", "20T06:00 1 digest [a T: 1 message]", "20T06:00 2 held", "20T15:00 2 digest [a T: 1 message]", "20T18:00 3 held", "21T06:00 3 digest [a T: 1 message]"}},
		{"a digest whose time passes while nothing is open comes when the hours begin, the same day", `{digest: {at: "07:00"}, quiet: {open: [{from: "08:00", to: "20:00"}]}}`, []string{"1 20T05:00 A", "2 20T06:30 B", "3 20T07:30 C"},
			[]string{"20T05:00 1 held", "20T06:30 2 held", "20T07:00 1 digest [a T: 2 messages]", "20T07:30 3 held", "21T07:00 3 digest [a T: 1 message]"}},
		{"what is told by night goes in the morning's digest", `{digest: {at: "07:00"}, quiet: {open: [{from: "08:00", to: "20:00"}]}}`, []string{"1 20T22:00 A"}, []string{"20T22:00 1 held", "21T07:00 1 digest [a T: 1 message]"}},
		{"an update after its digest has gone goes with the next", `{repeat: {key: "${record.id}", within: 24h, then: update}, digest: {every: 4h}}`, []string{"1 20T08:00 A", "2 20T11:00 A", "3 20T13:00 A", "4 20T14:00 A", "5 20T18:00 A"},
			[]string{"20T08:00 1 held", "20T11:00 2 repeated", "20T12:00 1 digest [a T: 1 message]", "20T13:00 3 repeated", "20T14:00 4 repeated", "20T17:00 3 digest [a T: 1 message]", "20T18:00 5 repeated", "20T22:00 5 digest [a T: 1 message]"}},
		{"a reply to what waits for a digest, and to what went in one, is a line of a digest", `{repeat: {key: "${record.id}", within: 24h, then: reply}, digest: {every: 4h}}`, []string{"1 20T08:00 A", "2 20T09:00 A", "3 20T13:00 A"},
			[]string{"20T08:00 1 held", "20T09:00 2 repeated", "20T12:00 1 digest [a T: 2 messages]", "20T13:00 3 repeated", "20T17:00 3 digest [a T: 1 message]"}},
		{"an urgent repeat of what waits passes, and takes it along", `{repeat: {key: "${record.id}", within: 24h, then: update}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}`, []string{"1 20T20:00 A", "2 20T21:00 A urgent", "3 20T22:00 A"},
			[]string{"20T20:00 1 held", "20T21:00 1 released [a A 1 urgent]", "20T21:00 2 repeated", "20T22:00 3 repeated [a A 2 for 1-p0]"}},
		{"the same where repeats are dropped", `{repeat: {key: "${record.id}", within: 24h}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}`, []string{"1 20T20:00 A", "2 20T21:00 A urgent", "3 20T22:00 A urgent"},
			[]string{"20T20:00 1 held", "20T21:00 1 released [a A 1 urgent]", "20T21:00 2 repeated", "20T22:00 3 repeated"}},
		{"a key that cannot be made fails", `{repeat: {key: "${record.n / 0 > 1 ? record.id.x.y + 1 : int(record.id)}", within: 2h}}`, []string{"1 20T08:00 A"}, []string{"20T08:00 1 failed"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, paced(t, c.pace, "", c.arrivals...))
		})
	}
	t.Run("the clock stops", func(t *testing.T) {
		assert.Equal(t, []string{"20T20:00 1 held"}, paced(t, hold, "22T12:00", "1 20T20:00 A"))
	})
}

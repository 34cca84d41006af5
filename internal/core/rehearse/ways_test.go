package rehearse

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// service answers what it is told to, and notes what it was asked.
type service struct {
	formula.Answer
	err   error
	asked []formula.Request
}

func (s *service) Elapsed() time.Duration { return 0 }

func (s *service) Script(src string, names map[string]any) (any, error) {
	if strings.Contains(src, "fail") {
		return nil, errors.New("script: fail")
	}
	return names["record"].(map[string]any)["id"], nil
}

func (s *service) Fetch(r formula.Request) (formula.Answer, error) {
	s.asked = append(s.asked, r)
	return s.Answer, s.err
}

func TestEveryWayToGatherAndItsFailure(t *testing.T) {
	const head = `dorfbote: 1
name: T
watch: {source: tours/collections}
gather:
  - name: x
`
	const tail = `
messages:
  m: {title: "${record.id}: ${x}"}
  sorry: {title: "nothing for ${record.id}"}
route:
  otherwise: {tell: [{to: square/#tours, message: m}]}
`
	const record = `{"id":"C 1/2?","note":"The pump broke. Milk ran out on the floor. Nobody saw it. The pump is old.","n":9007199254740993,"empty":null}`
	ok := formula.Answer{Status: 200, Media: "application/json", Body: []byte(`{"price":{"litre":0.72},"ids":[7,8]}`)}
	for _, c := range []struct {
		name, way string
		service   service
		want      string // verdict, row, title or where and error
		url, body string
	}{
		{"a piece of an address cannot leave its place", `http: {url: "http://p/a/${record.id}?of=${record.id}", pick: $.price.litre}`, service{Answer: ok}, "told otherwise C 1/2?: 0.72", "http://p/a/C%201%2F2%3F?of=C%201%2F2%3F", ""},
		{"several picked are a list", `http: {url: "http://p/", pick: "$.ids[*]"}`, service{Answer: ok}, "told otherwise C 1/2?: 7, 8", "http://p/", ""},
		{"nothing picked is empty", `http: {url: "http://p/", pick: $.none}`, service{Answer: ok}, "told otherwise C 1/2?:", "http://p/", ""},
		{"a body is JSON, with its types", `http: {url: "http://p/", method: POST, body: {id: "${record.id}", n: "${record.n}", say: "a \"${record.id}\"x", l: [1, true, null], e: "${record.empty}"}, pick: "$.ids[0]"}`,
			service{Answer: ok}, "told otherwise C 1/2?: 7", "http://p/", `{"e":null,"id":"C 1/2?","l":[1,true,null],"n":"9007199254740993","say":"a \"C 1/2?\"x"}`},
		{"text is text", `http: {url: "http://p/"}`, service{Answer: formula.Answer{Status: 200, Media: "text/plain", Body: []byte(" fine\n")}}, "told otherwise C 1/2?: fine", "http://p/", ""},
		{"a refusal fails", `http: {url: "http://p/"}`, service{Answer: formula.Answer{Status: 404, Body: []byte("no such")}}, "failed gather[0] the service answered 404: no such", "http://p/", ""},
		{"what is said to be JSON must be", `http: {url: "http://p/"}`, service{Answer: formula.Answer{Status: 200, Media: "application/json", Body: []byte("<p>")}}, "failed gather[0] the answer is no JSON", "http://p/", ""},
		{"no answer fails", `http: {url: "http://p/"}`, service{err: errors.New("asking p: refused")}, "failed gather[0] asking p: refused", "http://p/", ""},
		{"or is empty", "http: {url: \"http://p/\"}\n    if_fails: empty", service{err: errors.New("no")}, "told otherwise C 1/2?:", "http://p/", ""},
		{"or another branch tells", "http: {url: \"http://p/\"}\n    if_fails: {tell: [{to: square/#board, message: sorry}]}", service{err: errors.New("no")}, "told x failed nothing for C 1/2?", "http://p/", ""},
		{"a script", `script: "result = record['id']"`, service{}, "told otherwise C 1/2?: C 1/2?", "", ""},
		{"a script that fails", `script: "result = fail(1)"`, service{}, "failed gather[0] script: fail", "", ""},
		{"a value that fails has its path too", "value: record.id / 2\n    if_fails: empty", service{}, "told otherwise C 1/2?:", "", ""},
		{"a summary keeps whole sentences", `summary: {of: note, words: 8}`, service{}, "told otherwise C 1/2?: The pump broke. The pump is old.", "", ""},
		{"a summary of nothing is empty", `summary: {of: [empty]}`, service{}, "told otherwise C 1/2?:", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			in := strings.NewReader(`{"specversion":"1.0","id":"a1","source":"tours/collections","type":"dorfbote.record.created","time":"2026-11-20T06:00:00Z","subject":"C1","data":{"record":` + record + `}}`)
			scout, err := Look(in, nil, func(string) bool { return true })
			require.NoError(t, err)
			plan, _, problems := sheet.Compile([]byte(head+"    "+c.way+tail), sheet.Known{Workspace: value.DefaultWorkspace()})
			require.NotNil(t, plan, "%v", problems)
			var got string
			m := NewMachine(plan, nil, func(l Line) error {
				if got = string(l.Verdict) + " "; len(l.Posts) > 0 {
					got += l.Row + " " + l.Posts[0].Doc.Title
				} else {
					got += l.Where + " " + l.Error
				}
				return nil
			})
			m.Outside(&c.service)
			require.NoError(t, scout.Run(in, plan, time.Time{}, m))
			assert.True(t, strings.HasPrefix(got, c.want) && (len(got) == len(c.want) || strings.HasPrefix(c.want, "failed")), "wanted %q, got %q", c.want, got)
			if c.url != "" {
				require.Len(t, c.service.asked, 1)
				assert.Equal(t, c.url, c.service.asked[0].URL)
				assert.Equal(t, c.body, string(c.service.asked[0].Body))
			}
		})
	}
}

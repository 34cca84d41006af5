package worth

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

var known = sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(string) *value.Schema {
	return &value.Schema{Fields: []value.Field{
		{Name: "id", Label: "Id", Type: value.Text}, {Name: "litres", Label: "Litres", Type: value.Num}, {Name: "valley", Label: "Valley", Type: value.Text},
	}}
}}

const head = `dorfbote: 1
name: Late
watch: {source: tours/collections%s}
%s
messages:
  alert: {title: "${record.id}"%s}
route: {otherwise: {tell: [{to: "square/#tours", message: alert%s}]}}
%s
`

func text(keep string) string { return fmt.Sprintf(head, "", keep, "", "", "") }

// alerts are as many as there are numbers; those from a bound on were of use.
func alerts(n int, useful func(i int) bool, record func(i int) map[string]any) (out []Alert) {
	for i := range n {
		out = append(out, Alert{Record: record(i), Led: useful(i)})
	}
	return out
}

func litres(i int) map[string]any {
	return map[string]any{"id": fmt.Sprint(i), "litres": float64(500 + 13*i), "valley": []string{"Upper", "Mill", "Lower"}[i%3]}
}

func TestBoundsThatStandAreMoved(t *testing.T) {
	for _, c := range []struct {
		name, keep, path, words, now string
		useful                       func(i int) bool
	}{
		{"to where what was of use begins", "keep: {field: litres, above: 400}", "keep", "Litres is at least 1020, not above 400", `{"at_least":1020,"field":"litres"}`, func(i int) bool { return i >= 40 }},
		{"of several, the one that tells apart", "keep: {all: [{field: valley, is_not: Far}, {field: litres, at_least: 500}]}", "keep.all[1]", "Litres is at least 1020, not at least 500", `{"all":[{"field":"valley","is_not":"Far"},{"at_least":1020,"field":"litres"}]}`, func(i int) bool { return i >= 40 }},
		{"from above", "keep: {field: litres, below: 2000}", "keep", "Litres is at most 690, not below 2000", `{"at_most":690,"field":"litres"}`, func(i int) bool { return i < 15 }},
	} {
		t.Run(c.name, func(t *testing.T) {
			list := alerts(60, c.useful, litres)
			found, err := Propose([]byte(text(c.keep)), known, list)
			require.NoError(t, err)
			require.NotEmpty(t, found)
			p := found[0]
			assert.Equal(t, []string{Threshold, c.path, c.words}, []string{p.Kind, p.Path, p.Words})
			keep, err := json.Marshal(p.Sheet["keep"])
			require.NoError(t, err)
			assert.JSONEq(t, c.now, string(keep))
			assert.Contains(t, p.Because, "every one that was of use still would")
		})
	}
}

func TestWhatIsProposed(t *testing.T) {
	useful := func(i int) bool { return i%3 == 0 && i > 30 } // all of them Upper
	for _, c := range []struct {
		name   string
		text   string
		alerts []Alert
		kinds  []string
	}{
		{"values that nobody needs are left out, where no bound stands", text(""), alerts(60, useful, litres), []string{LeaveOut, Digest}},
		{"a bound is added", text(""), alerts(60, func(i int) bool { return i >= 45 }, litres), []string{Narrow, Digest}},
		{"nothing is made of too little", text("keep: {field: litres, above: 400}"), alerts(4, func(i int) bool { return i == 3 }, litres), nil},
		{"where everything was of use, there is nothing to say", text("keep: {field: litres, above: 400}"), alerts(60, func(int) bool { return true }, litres), nil},
		{"where nothing was of use, no bound says where it begins", text("keep: {field: litres, above: 400}"), alerts(60, func(int) bool { return false }, litres), []string{Digest}},
		{"a record without the number says nothing", text("keep: {any: [{field: litres, above: 400}, {field: valley, is: Mill}]}"), append(alerts(30, func(i int) bool { return i%4 == 0 }, litres), Alert{Record: map[string]any{"valley": "Mill"}, Led: true}), []string{Digest}},
		{"one of several ways to be told is no bound", text("keep: {any: [{field: litres, above: 400}, {field: valley, is: Mill}]}"), alerts(9, func(i int) bool { return i > 7 }, litres), nil},
		{"a digest there is already", fmt.Sprintf(head, "", "", "", "", `pace: {digest: {at: "07:00"}}`), alerts(60, func(int) bool { return false }, litres), nil},
		{"what is acted on as it comes goes in no digest", fmt.Sprintf(head, "", "", ", buttons: [{text: I take it, claim: true}]", "", ""), alerts(60, func(int) bool { return false }, litres), nil},
		{"nor what is kept up", fmt.Sprintf(head, "", "", "", ", keep_up: {until: {field: litres, above: 9000}}", ""), alerts(60, func(int) bool { return false }, litres), nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			found, err := Propose([]byte(c.text), known, c.alerts)
			require.NoError(t, err)
			var kinds []string
			for _, p := range found {
				kinds = append(kinds, p.Kind)
				raw, err := json.Marshal(p.Sheet)
				require.NoError(t, err)
				plan, _, problems := sheet.Compile(raw, known)
				require.NotNil(t, plan, "%v", problems)
			}
			assert.Equal(t, c.kinds, kinds)
		})
	}
}

// Whatever the numbers, a bound keeps all that was of use, and leaves out as many others as it says.
func FuzzABoundKeepsWhatWasOfUse(f *testing.F) {
	f.Add([]byte{1, 200, 3, 90, 250, 17, 31}, uint8(0x55))
	f.Fuzz(func(t *testing.T, numbers []byte, which uint8) {
		var list []Alert
		for i, n := range numbers {
			list = append(list, Alert{Record: map[string]any{"litres": (float64(n) - 100) * 1.7}, Led: which>>(i%8)&1 == 1})
		}
		at := finder{alerts: list, ws: value.DefaultWorkspace(), schema: nil}
		for _, side := range []string{"at_least", "at_most"} {
			was := -1e9
			if side == "at_most" {
				was = 1e9
			}
			b, gone, ok := at.bound("litres", side, &was)
			if !ok {
				continue
			}
			left := 0
			for _, a := range list {
				keeps := b.keeps(a.Record["litres"].(float64))
				if a.Led && !keeps {
					t.Fatalf("%v leaves out %v, which was of use", b, a.Record)
				}
				if !keeps {
					left++
				}
			}
			if left != gone {
				t.Fatalf("%v leaves out %d, not %d", b, left, gone)
			}
		}
	})
}

package main

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ran runs a command as a shell does, and gives its exit code and what it wrote.
func ran(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	wasOut, wasErr := os.Stdout, os.Stderr
	defer func() { os.Stdout, os.Stderr = wasOut, wasErr }()
	catch := func(to **os.File) func() string {
		r, w, err := os.Pipe()
		require.NoError(t, err)
		*to = w
		text := make(chan string)
		go func() {
			raw, _ := io.ReadAll(r)
			text <- string(raw)
		}()
		return func() string {
			w.Close()
			return <-text
		}
	}
	o, e := catch(&os.Stdout), catch(&os.Stderr)
	code = run(context.Background(), args)
	return code, o(), e()
}

// written puts a file into a folder of its own.
func written(t *testing.T, name, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

const orders = `dorfbote: 1
name: Orders
watch: {source: shop/orders}
keep: {field: total, above: 100}
messages: {m: {title: "${record.id}"}}
route: {otherwise: {tell: [{to: "chat/#a", message: m}]}}
`

const ordersSchema = `{"type":"object","properties":{"id":{"type":"string"},"total":{"type":"number"}}}`

func TestExitCodes(t *testing.T) {
	good, bad := written(t, "good.yaml", orders), written(t, "bad.yaml", strings.Replace(orders, "above", "abov", 1))
	schema := written(t, "schema.json", ordersSchema)
	for _, c := range []struct {
		args   []string
		code   int
		inOut  string
		inErrs string
	}{
		{[]string{"check", good}, 0, "", ""},
		{[]string{"check", bad}, 1, "bad.yaml:4:22: there is no operator abov; did you mean above?", ""},
		{[]string{"check", good, bad}, 1, "bad.yaml:4:22", ""},
		{[]string{"check", good, "none.yaml"}, 1, "", "none.yaml"},
		{[]string{"check"}, 2, "", "Run 'dorfbote --help'"},
		{[]string{"check", "--zone", "Mars", good}, 2, "", "is not an IANA time zone"},
		{[]string{"check", "--fields", "shop/orders", good}, 2, "", "write it as KIND=SCHEMA"},
		{[]string{"check", "--fields", "shop/orders=none.json", good}, 1, "", "none.json"},
		{[]string{"check", "--fields", "shop/orders=" + good, good}, 1, "", "good.yaml"},
		{[]string{"check", "--fields", "orders=" + schema, good}, 0, "", ""},
		{[]string{"chek", good}, 2, "", "unknown command"},
		{[]string{"check", "--no-such-flag", good}, 2, "", "unknown flag"},
		{[]string{"rehearse", "--sheet", good}, 2, "", "arrivals"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", "none.jsonl"}, 1, "", "none.jsonl"},
		{[]string{"rehearse", "--sheet", "none.yaml", "--arrivals", good}, 1, "", "none.yaml"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", good}, 1, "", "line 1"},
		{[]string{"rehearse", "--sheet", bad, "--arrivals", written(t, "a.jsonl", "")}, 1, "", "bad.yaml:4:22"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", written(t, "a.jsonl", ""), "--until", "noon"}, 2, "", "is not an RFC 3339 time"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", written(t, "a.jsonl", ""), "--records", "x"}, 2, "", "write it as KIND=F"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", written(t, "a.jsonl", ""), "--records", "a/b=none.jsonl"}, 1, "", "none.jsonl"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", written(t, "a.jsonl", ""), "--records", "a/b=" + written(t, "r.jsonl", "{}\n[]\n")}, 1, "", "line 2: a record is a JSON object, not a list"},
		{[]string{"rehearse", "--sheet", good, "--arrivals", written(t, "a.jsonl", "")}, 0, "", ""},
		{[]string{"version"}, 0, "dorfbote", ""},
		{[]string{"openapi"}, 0, `"openapi"`, ""},
		{[]string{"apply", "none.yaml"}, 1, "", "none.yaml"},
		{[]string{"apply", written(t, "no.yaml", "nme: x\n")}, 1, "", "no.yaml:1:1"},
		{[]string{"apply", "--url", "http://127.0.0.1:1", good}, 1, "", "signing in at http://127.0.0.1:1"},
		{[]string{"export", "--url", "http://127.0.0.1:1"}, 1, "", "signing in at http://127.0.0.1:1"},
		{[]string{}, 0, "Usage", ""},
	} {
		code, out, errs := ran(t, c.args...)
		at := strings.Join(c.args, " ")
		assert.Equal(t, c.code, code, "%s: %s%s", at, out, errs)
		assert.Contains(t, out, c.inOut, at)
		assert.Contains(t, errs, c.inErrs, at)
	}
}

// A field that the schema does not have is an error where the schema is given, and warnings let a sheet pass.
func TestCheckingAgainstASchema(t *testing.T) {
	sheet := written(t, "s.yaml", strings.Replace(orders, "total", "totl", 1))
	code, out, _ := ran(t, "check", "--fields", "shop/orders="+written(t, "s.json", `{"type":"object","additionalProperties":false,"properties":{"id":{"type":"string"},"total":{"type":"number"}}}`), sheet)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, ":4:15: the records have no field totl; did you mean total?")
	never := written(t, "n.yaml", strings.Replace(orders, "{field: total, above: 100}", "{all: [{field: total, above: 100}, {field: total, below: 50}]}", 1))
	code, out, _ = ran(t, "check", never)
	assert.Equal(t, 0, code, "what can never hold may be meant")
	assert.Contains(t, out, "warning: this can never hold")
}

func order(id, at, total string) string {
	return `{"specversion":"1.0","id":"` + id + `","source":"shop/orders","type":"dorfbote.record.created","time":"` + at + `","subject":"` + id + `","data":{"record":{"id":"` + id + `","total":` + total + `,"by":"p"}}}` + "\n"
}

// The same sheet over the same arrivals is the same to the byte; each outcome is a line of JSON.
func TestRehearsing(t *testing.T) {
	sheet := written(t, "s.yaml", orders)
	var file strings.Builder
	for i := range 500 {
		file.WriteString(order("o"+strings.Repeat("i", i%7)+string(rune('a'+i%26)), "2026-11-20T06:00:00Z", map[bool]string{true: "150", false: "50"}[i%3 == 0]))
	}
	arrivals := written(t, "a.jsonl", file.String())
	code, first, errs := ran(t, "rehearse", "--sheet", sheet, "--arrivals", arrivals)
	require.Equal(t, 0, code, errs)
	_, again, _ := ran(t, "rehearse", "--sheet", sheet, "--arrivals", arrivals)
	assert.Equal(t, first, again)
	told, all := 0, strings.Split(strings.TrimSpace(first), "\n")
	for _, l := range all {
		var o struct{ Verdict string }
		require.NoError(t, json.Unmarshal([]byte(l), &o), l)
		if o.Verdict == "told" {
			told++
		}
	}
	assert.Positive(t, told)
	assert.Less(t, told, len(all))
}

// What is looked up comes from --records: records, or events that bear them, by the field that names them.
func TestRehearsingWithRecords(t *testing.T) {
	sheet := written(t, "s.yaml", strings.Replace(strings.Replace(orders, "messages: {m: {title: \"${record.id}\"}}", "gather: [{name: who, find: {source: shop/people, where: {field: id, is: \"${record.by}\"}, take: one}}]\nmessages: {m: {title: \"${record.id} ${who.phone}\"}}", 1), "above: 100", "above: 1", 1))
	arrivals := written(t, "a.jsonl", order("o1", "2026-11-20T06:00:00Z", "150"))
	for name, records := range map[string]string{
		"records": `{"id":"q","phone":"1"}` + "\n\n" + `{"id":"p","phone":"2"}` + "\n",
		"events":  `{"specversion":"1.0","id":"1","source":"shop/people","type":"dorfbote.record.created","time":"2026-11-01T00:00:00Z","subject":"p","data":{"record":{"id":"p","phone":"2"}}}`,
	} {
		code, out, errs := ran(t, "rehearse", "--sheet", sheet, "--arrivals", arrivals, "--records", "shop/people="+written(t, "r.jsonl", records))
		require.Equal(t, 0, code, errs)
		assert.Contains(t, out, `"title":"o1 2"`, name)
	}
}

// Arrivals come from standard input as well, and a schedule runs until it is told to stop.
func TestRehearsingAScheduleAndStandardInput(t *testing.T) {
	sheet := written(t, "s.yaml", "dorfbote: 1\nname: Mornings\nwatch: {schedule: {start: \"2026-11-20T07:00\", rule: \"FREQ=DAILY\"}}\nmessages: {m: {title: \"${arrival.at}\"}}\nroute: {otherwise: {tell: [{to: \"chat/#a\", message: m}]}}\n")
	code, out, errs := ran(t, "rehearse", "--sheet", sheet, "--arrivals", written(t, "a.jsonl", ""), "--zone", "Europe/Zurich", "--until", "2026-11-23T05:59:59Z")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, 3, strings.Count(out, `"verdict":"told"`))
	assert.Contains(t, out, "2026-11-20T06:00:00Z", "seven in Zurich")

	was := os.Stdin
	defer func() { os.Stdin = was }()
	in, err := os.Open(written(t, "in.jsonl", order("o1", "2026-11-20T06:00:00Z", "150")))
	require.NoError(t, err)
	defer in.Close()
	os.Stdin = in
	code, out, errs = ran(t, "rehearse", "--sheet", written(t, "o.yaml", orders), "--arrivals", "-")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, `"title":"o1"`)
}

// Several sheets stand in one file as YAML documents, each with its own lines.
func TestDocuments(t *testing.T) {
	docs := documents("---\n" + orders + "---\n\n--- \n" + orders)
	require.Len(t, docs, 2)
	assert.Equal(t, []int{1, 10}, []int{docs[0].line, docs[1].line})
	assert.Equal(t, orders, docs[1].text)
	code, _, errs := ran(t, "apply", written(t, "two.yaml", orders+"---\n"+strings.Replace(orders, "name:", "nme:", 1)))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "two.yaml:9:1", "its place in the file")
	code, _, errs = ran(t, "apply", "--url", deaf(t, 200, "{}"), written(t, "one.yaml", orders), written(t, "other.yaml", orders))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, `both hold a sheet named "Orders"`)
}

func deaf(t *testing.T, status int, body string) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/api/sign-in" {
			w.WriteHeader(status)
		}
		_, _ = w.Write([]byte(body))
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// What the server says is said to whoever applies.
func TestWhatTheServerRefuses(t *testing.T) {
	code, _, errs := ran(t, "apply", "--url", deaf(t, 422, `{"detail":"nothing was written","errors":[{"message":"there is no team X"}]}`), written(t, "one.yaml", orders))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "it answered 422: nothing was written: there is no team X")
	code, _, errs = ran(t, "export", "--connections", "--url", deaf(t, 502, "<html>"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "it answered 502")
	code, _, errs = ran(t, "export", "--url", deaf(t, 502, "<html>"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "it answered 502")
	code, out, errs := ran(t, "apply", "--url", deaf(t, 200, `{"items":[{"name":"Orders","did":"made","on":true},{"name":"B","did":"changed","problems":2}]}`), written(t, "one.yaml", orders))
	require.Equal(t, 0, code, errs)
	assert.Equal(t, "Orders: made, switched on\nB: changed, but it cannot run: it has 2 errors there\n", out)
}

func TestFileNames(t *testing.T) {
	used := map[string]bool{}
	var names []string
	for i, name := range []string{"Late collections", "Late, collections!", "???", "Käse"} {
		names = append(names, fileName(remoteWorkflow{ID: int64(i + 1), Name: name}, used))
	}
	assert.Equal(t, []string{"late-collections.yaml", "late-collections-2.yaml", "3.yaml", "kase.yaml"}, names)
}

// A record given beside the arrivals is known by the field that its app names it by.
func TestKeysOfRecords(t *testing.T) {
	for _, c := range []struct {
		source string
		record map[string]any
		want   string
	}{
		{"shop/x", map[string]any{"id": "a", "key": "b"}, "a"},
		{"shop/x", map[string]any{"number": 7.0}, "7"},
		{"shop/x", map[string]any{"name": "n"}, "n"},
		{"shop/x", map[string]any{"id": "", "name": "n"}, "n"},
		{"shop/x", map[string]any{"other": true}, `{"other":true}`},
		{"tours/farms", map[string]any{"number": 3.0, "name": "Matt"}, "3"},
	} {
		assert.Equal(t, c.want, keyOf(c.source, c.record), "%v", c.record)
	}
}

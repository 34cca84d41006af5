package api_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
)

// page gets a page, or sends a form to it, as a stranger's browser does.
func (c *client) page(path string, sent url.Values) (int, string) {
	c.t.Helper()
	var res *http.Response
	var err error
	if sent == nil {
		res, err = http.Get(c.base + path)
	} else {
		res, err = http.PostForm(c.base+path, sent)
	}
	require.NoError(c.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return res.StatusCode, string(raw)
}

func withForm(t *testing.T) *client {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"gate","kind":"form","title":"Gate"}`)
	c.ok("POST", "/api/connections/gate/sources", `{"kind":"answers","title":"Visits","settings":{"title":"A <visit>","intro":"Please say who comes.","limit":"100","fields":`+quoted(`[
		{"name":"who","label":"Who?","type":"text","required":true},{"name":"when","label":"When?","type":"moment"},{"name":"day","label":"Which day?","type":"date"},
		{"name":"many","label":"How many?","type":"whole number"},{"name":"litres","label":"Litres","type":"number"},{"name":"valley","label":"Which valley?","type":"choice","options":["Upper","Mill"]},
		{"name":"cheeses","label":"Which cheeses?","type":"choices","options":["Senn","Rauch"]},{"name":"lunch","label":"Lunch?","type":"yes/no"},{"name":"mail","label":"Mail","type":"email"},
		{"name":"site","label":"Site","type":"link"},{"name":"note","label":"Note","type":"long text","help":"Anything else."}]`)+`}}`)
	return c
}

// The answers of a form are a record of the types that it asks for; by their link they can be seen and changed.
func TestAFormsAnswersAreTakenInAndMended(t *testing.T) {
	c := withForm(t)
	status, page := c.page("/form/gate", nil)
	require.Equal(t, 200, status)
	assert.Contains(t, page, "A &lt;visit&gt;", "a title is text")
	for _, part := range []string{"Please say who comes.", `type="datetime-local"`, `type="date"`, `inputmode="numeric"`, `type="radio"`, `type="checkbox"`, `type="email"`, `type="url"`, "<textarea", "Anything else."} {
		assert.Contains(t, page, part)
	}

	status, page = c.page("/form/gate", url.Values{"who": {""}, "many": {"3.5"}, "valley": {"Lower"}, "note": {"<b>hello"}})
	require.Equal(t, 422, status)
	for _, part := range []string{"Some answers are missing or cannot be read.", "Please answer this.", "Please write a whole number", "Please choose from the list.", "&lt;b&gt;hello"} {
		assert.Contains(t, page, part)
	}
	status, _ = c.page("/form/gate", url.Values{"who": {"a machine"}, "web_site": {"http://spam.example"}})
	assert.Equal(t, 200, status, "a machine is told that all is well")

	answers := url.Values{"who": {"Ona"}, "when": {"2026-11-20T07:30"}, "day": {"2026-11-21"}, "many": {"3"}, "litres": {"12.5"}, "valley": {"Mill"}, "cheeses": {"Senn", "Rauch"}, "lunch": {"yes"}, "mail": {"ona@x.example"}, "site": {"https://x.example"}, "note": {"one\r\ntwo"}}
	status, page = c.page("/form/gate", answers)
	require.Equal(t, 200, status)
	link := regexp.MustCompile(`/form/gate/mend/[\w-]+`).FindString(page)
	require.NotEmpty(t, link)
	_, list := c.call("GET", "/api/sources/gate/answers/records", "")
	require.Len(t, items(list), 1, "what the machine sent is no record")
	record := items(list)[0]["record"].(map[string]any)
	assert.Equal(t, []any{"Ona", "2026-11-21", 3.0, 12.5, "Mill", []any{"Senn", "Rauch"}, true, "one\ntwo"}, []any{record["who"], record["day"], record["many"], record["litres"], record["valley"], record["cheeses"], record["lunch"], record["note"]})

	status, page = c.page(link, nil)
	require.Equal(t, 200, status)
	for _, part := range []string{`value="Ona"`, `value="2026-11-21"`, `value="Mill" checked`, `value="Senn" checked`, `value="yes" checked`, `value="12.5"`, "Change the answers"} {
		assert.Contains(t, page, part)
	}
	assert.Regexp(t, `value="2026-11-20T0\d:30"`, page)
	answers.Set("who", "Ona and Ben")
	answers.Del("lunch")
	status, page = c.page(link, answers)
	require.Equal(t, 200, status)
	assert.Contains(t, page, "Your answers have been changed.")
	assert.NotContains(t, page, "/mend/", "the link stays the one it was")
	_, list = c.call("GET", "/api/sources/gate/answers/records", "")
	require.Len(t, items(list), 1)
	record = items(list)[0]["record"].(map[string]any)
	assert.Equal(t, []any{"Ona and Ben", false}, []any{record["who"], record["lunch"]})
	assert.NotEmpty(t, record["changed"])
	_, arrivals := c.call("GET", "/api/arrivals?source=gate/answers", "")
	assert.Len(t, items(arrivals), 2)
}

func TestFormsThatAreNotThere(t *testing.T) {
	c := withForm(t)
	for path, status := range map[string]int{"/form/none": 404, "/form/square": 404, "/form/gate/mend/guessed": 404} {
		got, page := c.page(path, nil)
		assert.Equal(t, status, got, path)
		assert.NotContains(t, page, "panic")
		got, _ = c.page(path, url.Values{"who": {"Ona"}})
		assert.Equal(t, status, got, path)
	}
	res, err := http.Post(c.base+"/form/gate", "application/x-www-form-urlencoded", strings.NewReader("who=%zz"))
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 400, res.StatusCode)

	c.ok("PATCH", "/api/sources/gate/answers", `{"settings":{"closed":"yes"}}`)
	status, page := c.page("/form/gate", nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, html.UnescapeString(page), "This form is closed.")
	status, _ = c.page("/form/gate", url.Values{"who": {"Ona"}})
	assert.Equal(t, 403, status)
	var n int64
	require.NoError(t, c.st.DB.Raw("SELECT count(*) FROM arrivals WHERE source = 'gate/answers'").Scan(&n).Error)
	assert.Zero(t, n)
	status, _ = c.call("PATCH", "/api/sources/gate/answers", `{"settings":{"fields":"[{\"label\":\"\",\"type\":\"text\"}]"}}`)
	assert.Equal(t, 422, status, "questions that cannot be asked are refused")
}

// A form's answers are kept in a table that it makes: a column for each question, and a sheet that adds each answer as a row.
func TestAFormMakesTheTableOfItsAnswers(t *testing.T) {
	c := withForm(t)
	chat := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusCreated)
		_, _ = io.WriteString(w, `{"id":"1"}`)
	}))
	defer chat.Close()
	require.NoError(t, c.st.DB.Exec("UPDATE connections SET settings = ? WHERE id = 'square'", store.Texts{"address": chat.URL}).Error)
	status, said := c.call("POST", "/api/sources/till/receipts/table", `{"channel":"square/#tours"}`)
	assert.Equal(t, 404, status, "%v", said)
	c.ok("POST", "/api/connections", `{"id":"till","kind":"hook","title":"Till"}`)
	c.ok("POST", "/api/connections/till/sources", `{"kind":"receipts"}`)
	status, said = c.call("POST", "/api/sources/till/receipts/table", `{"channel":"square/#tours"}`)
	assert.Equal(t, 409, status, "%v", said)
	made := c.ok("POST", "/api/sources/gate/answers/table", `{"channel":"square/#tours"}`)
	assert.Equal(t, []any{"tables/visits", "visits.csv"}, []any{made["source"], made["file"]})
	again := c.ok("POST", "/api/sources/gate/answers/table", `{"channel":"square/#tours"}`)
	assert.Equal(t, []any{"tables/visits-2", "visits-2.csv"}, []any{again["source"], again["file"]}, "the first is left as it is")
	file := filepath.Join(c.folder, "visits.csv")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "id,who,when,day,many,litres,valley,cheeses,lunch,mail,site,note\r\n", string(raw))
	sheet, err := json.Marshal(made["sheet"])
	require.NoError(t, err)
	w := c.ok("POST", "/api/workflows", `{"sheet":`+string(sheet)+`}`)
	c.ok("POST", fmt.Sprintf("/api/workflows/%v/on", w["id"]), `{}`)
	status, _ = c.page("/form/gate", url.Values{"who": {"=Ona, the \"vet\""}, "many": {"3"}, "valley": {"Mill"}, "cheeses": {"Senn", "Rauch"}, "lunch": {"yes"}, "day": {"2026-12-01"}})
	require.Equal(t, 200, status)
	var rows [][]string
	require.Eventually(t, func() bool {
		raw, err := os.ReadFile(file)
		if err != nil {
			return false
		}
		rows, err = csv.NewReader(bytes.NewReader(raw)).ReadAll()
		return err == nil && len(rows) == 2
	}, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, []string{`'=Ona, the "vet"`, "", "2026-12-01", "3", "", "Mill", "Senn, Rauch", "yes"}, rows[1][1:9])
}

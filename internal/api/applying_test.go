package api_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Sheets are applied all or none, switching on included: where the last cannot be switched on, the first has not changed.
func TestSheetsAreAppliedAllOrNone(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","kind":"hook","title":"Shop"}`)
	c.ok("POST", "/in/shop/orders", `{"id":"O-1","total":7}`)
	one, two := strings.Replace(text, "name: Late", "name: One", 1), strings.Replace(text, "name: Late", "name: Two", 1)
	apply := func(on bool, sheets ...string) (int, map[string]any) {
		var list []string
		for i, s := range sheets {
			list = append(list, fmt.Sprintf(`{"text":%s,"from":"%d.yaml"}`, quoted(s), i))
		}
		return c.call("POST", "/api/apply", fmt.Sprintf(`{"on":%v,"sheets":[%s]}`, on, strings.Join(list, ",")))
	}
	state := func() (out []string) {
		require.NoError(t, c.st.DB.Raw("SELECT name || ' ' || is_on || ' ' || version || ' ' || md5(draft) FROM workflows ORDER BY id").Scan(&out).Error)
		return out
	}
	status, out := apply(true, one, two)
	require.Equal(t, 200, status, "%v", out)
	before := state()
	require.Len(t, before, 2)

	changed := strings.Replace(one, "above: 5", "above: 6", 1)
	for name, bad := range map[string]string{
		"cannot be switched on": strings.Replace(two, "shop/orders", "shop/nothing", 1),
		"cannot be read":        "dorfbote: 1\nname: [",
		"twice":                 changed,
	} {
		status, out = apply(true, changed, bad)
		assert.Equal(t, 422, status, name)
		assert.Contains(t, strings.ToLower(fmt.Sprint(out["detail"])), "nothing was written", name)
		assert.Equal(t, before, state(), name)
	}
	audited := c.audited()
	status, out = apply(true, one, two)
	require.Equal(t, 200, status)
	assert.Equal(t, "unchanged", out["items"].([]any)[0].(map[string]any)["did"])
	assert.Equal(t, before, state())
	assert.Equal(t, audited, c.audited(), "what changes nothing leaves no entry")
}

// A move to another connection is all or none, switching on included.
func TestAMoveThatFailsHalfwayMovesNothing(t *testing.T) {
	c := start(t)
	c.signIn()
	for _, id := range []string{"shop", "shop2"} {
		c.ok("POST", "/api/connections", fmt.Sprintf(`{"id":%q,"kind":"hook","title":%q}`, id, id))
		c.ok("POST", "/in/"+id+"/orders", `{"id":"O-1","total":7}`)
	}
	for _, name := range []string{"One", "Two"} {
		id := c.ok("POST", "/api/workflows", sheetBody(strings.Replace(text, "name: Late", "name: "+name, 1)))["id"]
		c.ok("POST", fmt.Sprintf("/api/workflows/%v/on", id), "")
	}
	require.NoError(t, c.st.DB.Exec("ALTER TABLE workflow_versions ADD CONSTRAINT none CHECK (version = 1 OR workflow = 1)").Error)
	status, _ := c.call("POST", "/api/connections/shop/move", `{"to":"shop2","apply":true}`)
	assert.Equal(t, 500, status)
	var moved int64
	require.NoError(t, c.st.DB.Raw("SELECT count(*) FROM workflows WHERE draft LIKE '%shop2/%' OR version > 1 OR source LIKE 'shop2/%'").Scan(&moved).Error)
	assert.Zero(t, moved)
}

// What the database cannot say now is no "there is no such thing".
func TestAFaultOfTheDatabaseIsNot404(t *testing.T) {
	c := start(t)
	c.signIn()
	admin := c.as("mo", "administrator")
	require.NoError(t, c.st.DB.Exec("ALTER TABLE team_people RENAME TO team_people_away").Error)
	status, _ := admin.call("PATCH", "/api/people/1", `{"name":"B"}`)
	assert.Equal(t, 500, status)
	require.NoError(t, c.st.DB.Exec("ALTER TABLE posts RENAME TO posts_away").Error)
	status, _ = admin.call("GET", "/api/posts/1", "")
	assert.Equal(t, 500, status)
}

// One refused request does not make a hook count as failing; three in a row do.
func TestOneBadCallDoesNotMakeAHookFailing(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","kind":"hook","title":"Shop"}`)
	failing := func() bool { return c.ok("GET", "/api/connections/shop", "")["failing_since"] != nil }
	c.call("POST", "/in/shop/orders", `{`)
	assert.False(t, failing())
	c.call("POST", "/in/shop/orders", `{`)
	assert.False(t, failing())
	c.call("POST", "/in/shop/orders", `{`)
	assert.True(t, failing())
	c.ok("POST", "/in/shop/orders", `{"id":"O-1"}`)
	assert.False(t, failing())
}

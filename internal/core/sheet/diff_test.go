package sheet

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDifferences(t *testing.T) {
	for _, c := range []struct {
		old, new string
		want     []string
	}{
		{"", "", nil},
		{"above: 500", "above: 800", []string{"Keep| changed|litres is above 500|litres is above 800"}},
		{"    - {field: litres, above: 500}", "    - {field: litres, above: 500}\n    - {field: status, is: late}", []string{"Keep| added||status is late"}},
		{"    - {field: litres, above: 500}", "    - {field: status, is: late}", []string{"Keep| removed|litres is above 500|", "Keep| added||status is late"}},
		{"  all:\n    - {field: litres, above: 500}", "  none:\n    - {field: litres, above: 500}", []string{"Keep| changed|litres is above 500|none of: litres is above 500"}},
		{"became: late", "is: late", []string{"Watch|when changed|status became late|status is late"}},
		{"name: Much", "name: Lots", []string{"Route|Much when removed|litres is at least 2000|", "Route|Much removed|tells square/#board alert|", "Route|Lots when added||litres is at least 2000", "Route|Lots added||tells square/#board alert"}},
		{"square/#board", "square/#tours", []string{"Route|Much changed|tells square/#board alert|tells square/#tours alert"}},
		{"tone: warning", "tone: urgent", []string{"Tell|alert tone changed|warning|urgent"}},
		{"name: Late\n", "name: Late\nnote: New\n", []string{"Sheet|note added||New"}},
		{"route:", "pace: {repeat: {key: \"${record.id}\", within: 2h}}\nroute:", []string{"Pace|repeat key added||${record.id}", "Pace|repeat within added||2h"}},
		{"keep:", "gather: [{name: f, find: {source: tours/farms, where: {field: id, is: x}, take: all, limit: 3}}]\nkeep:", []string{"Gather|f added||looks up all of tours/farms where id is x, limit 3"}},
	} {
		t.Run(c.new, func(t *testing.T) {
			var got []string
			for _, d := range Differences([]byte(good), []byte(strings.Replace(good, c.old, c.new, 1))) {
				got = append(got, fmt.Sprintf("%s|%s|%s|%s", d.Band, strings.TrimLeft(d.What+" "+d.Kind, ""), d.Was, d.Now))
			}
			assert.Equal(t, c.want, got)
		})
	}
	assert.Empty(t, Differences([]byte("a: ["), []byte("a: [")))
}

// What is asked, what a caller is answered and the rows of tables are told apart by their bands.
func TestDifferencesOfWhatComesAfter(t *testing.T) {
	was := `dorfbote: 1
name: T
watch: {called: {}}
tables: {rooms: [{from: "#tours", to: far/tours}, {from: "#lab", to: far/lab}]}
ask: [{name: v, of: "mail/a@x.example", message: q, choices: [a, b], within: 1d, when: {formula: "true"}}]
answer: {status: 200, body: {ok: "${v.choice}"}}
messages: {q: {title: x, buttons: [{text: Take it, claim: true}]}}
follow: [{unless: {claimed: true, within: 15m}, tell: [{to: a/b, message: q}]}]
`
	now := strings.NewReplacer(`{from: "#lab", to: far/lab}`, `{from: "#lab", to: far/cellar}, {from: "#board", to: far/board}`, "within: 1d", "within: 2d", "status: 200", "status: 201", "Take it", "I do", "within: 15m", "within: 30m").Replace(was)
	var got []string
	for _, c := range Differences([]byte(was), []byte(now)) {
		got = append(got, fmt.Sprintf("%s | %s | %s | %s → %s", c.Band, c.What, c.Kind, c.Was, c.Now))
	}
	assert.Equal(t, []string{
		"Gather | table rooms | changed | #lab, to far/lab → #lab, to far/cellar",
		"Gather | table rooms | added |  → #board, to far/board",
		"Ask | v within | changed | 1d → 2d",
		"Answer | status | changed | 200 → 201",
		"Tell | q buttons | changed | claim yes, text Take it → claim yes, text I do",
		"Follow up | Step 1 unless within | changed | 15m → 30m",
	}, got)
	assert.Empty(t, Differences([]byte(now), []byte(now)))
}

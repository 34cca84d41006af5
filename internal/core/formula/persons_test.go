package formula

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/value"
)

func lindental(t *testing.T) *people.Book {
	t.Helper()
	list, err := people.ReadCSV("id,name,prefers,mail\nja,Jonas,mail,jonas@lindental.example\nle,Lea,mail,lea@lindental.example\np1,Peter,,\np2,Peter,,\n")
	require.NoError(t, err)
	book, err := people.New(list)
	require.NoError(t, err)
	return book
}

func TestPersons(t *testing.T) {
	w := &Words{Workspace: value.DefaultWorkspace(), Sources: &Sources{}}
	sc := &Scope{Now: time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC), Record: map[string]any{
		"owner": "jonas", "who": map[string]any{"name": "Lea", "email": "LEA@lindental.example"}, "none": "", "list": []any{"ja"},
	}}
	sc.People = lindental(t)
	for text, want := range map[string]any{
		`person(record.owner).mail`:                        "jonas@lindental.example",
		`person(record.who).id`:                            "le",
		`person("Peter")`:                                  nil, // several are nobody
		`person("Peter").mail`:                             nil,
		`person(record.none)`:                              nil,
		`mention(record.none)`:                             nil,
		`bullets(record.list, "${mention(it)}")`:           "• Jonas",
		`or(person("x"), "nobody")`:                        "nobody",
		`person(person("ja")).name`:                        "Jonas",
		`[1, 2] | map(person("le").name + "" + string(#))`: "Lea1, Lea2",
	} {
		f, err := Compile(text, w)
		require.NoError(t, err, text)
		v, err := f.Run(sc)
		require.NoError(t, err, text)
		if want == nil {
			assert.Empty(t, Show(v, w.Workspace), text)
			continue
		}
		assert.Equal(t, want, Show(v, w.Workspace), text)
	}
	f, err := Compile(`mention(record.owner)`, w)
	require.NoError(t, err)
	v, err := f.Run(sc)
	require.NoError(t, err)
	assert.Equal(t, "ja", v.(Mention).Person.ID)
	f, err = Compile(`mention("Somebody")`, w)
	require.NoError(t, err)
	v, err = f.Run(&Scope{})
	require.NoError(t, err)
	assert.Equal(t, Mention{Text: "Somebody"}, v, "of nobody it is that text")
}

func TestWhoIsOnDuty(t *testing.T) {
	ws := value.Workspace{Zone: time.FixedZone("", 3600), Locale: "en"}
	w := &Words{Workspace: ws, Sources: &Sources{}}
	f, err := Compile(`on_duty("rota/events").id`, w)
	require.NoError(t, err)
	assert.Equal(t, []string{"rota/events"}, w.Sources.Names)
	for _, wrong := range []string{`on_duty(record.rota)`, `on_duty("rota")`} {
		_, err := Compile(wrong, w)
		require.ErrorContains(t, err, "on_duty() takes a calendar's source", wrong)
	}
	event := func(id, title, start, end string) map[string]any {
		return map[string]any{"id": id, "title": title, "start": start, "end": end}
	}
	events := []map[string]any{
		event("a", "Lea", "2026-11-27T00:00:00+01:00", "2026-11-28T00:00:00+01:00"),
		event("c", "Jonas", "2026-11-27T08:00:00+01:00", "2026-11-27T10:00:00+01:00"),
		event("b", "Nobody we know", "2026-11-27T12:00:00+01:00", "2026-11-27T13:00:00+01:00"),
		event("d", "jonas", "2026-11-29", ""),
		{"id": "e", "summary": "Lea", "title": "Jonas", "start": "2026-11-29", "all_day": true},
	}
	for at, want := range map[string]string{
		"2026-11-27T07:59:59+01:00": "le", "2026-11-27T08:00:00+01:00": "ja", "2026-11-27T09:59:59+01:00": "ja", "2026-11-27T10:00:00+01:00": "le",
		"2026-11-27T12:30:00+01:00": "", "2026-11-28T00:00:00+01:00": "", "2026-11-29T10:00:00+01:00": "ja", "2026-11-30T00:00:00+01:00": "",
	} {
		now, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		sc := &Scope{Now: now}
		sc.People, sc.Find = lindental(t), func(string) []map[string]any { return events }
		v, err := f.Run(sc)
		require.NoError(t, err)
		assert.Equal(t, want, Show(v, ws), at)
	}
}

package shape

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

func post() map[string]any {
	return map[string]any{
		"title": "COL-1 \"waits\"", "text": "**1240** litres\nin the valley", "tone": "warning", "link": "", "place": "tours", "key": "k-1", "under": "",
		"facts":    []any{map[string]any{"label": "Driver", "value": "Jonas"}, map[string]any{"label": "Tour", "value": ""}},
		"links":    []any{map[string]any{"text": "Open", "to": "https://x.example/1"}},
		"mentions": []any{}, "picture": "", "sender": map[string]any{"name": "Tour desk"},
	}
}

func filled(t *testing.T, shape string) string {
	t.Helper()
	s, err := Read(shape, value.DefaultWorkspace())
	require.NoError(t, err, shape)
	v, err := s.Fill(post())
	require.NoError(t, err, shape)
	return string(value.AppendJSON(nil, v))
}

func TestShapes(t *testing.T) {
	for name, c := range map[string]struct{ shape, want string }{
		"a text":                         {`{"text":"${post.title}: ${post.text}"}`, `{"text":"COL-1 \"waits\": **1240** litres\nin the valley"}`},
		"a whole formula keeps its type": {`{"n":"${len(post.facts)}","yes":"${post.tone == 'warning'}","none":"${post.link}","list":"${post.mentions}"}`, `{"list":null,"n":2,"none":null,"yes":true}`},
		"within a text it is text":       {`{"n":"${len(post.facts)} facts","none":"-${post.link}-"}`, `{"n":"2 facts","none":"--"}`},
		"constants":                      {`{"a":1,"b":true,"c":null,"d":[],"e":{},"f":"x"}`, `{"a":1,"b":true,"c":null,"d":[],"e":{},"f":"x"}`},
		"a list made of a list":          {`{"fields":{"$each":"${post.facts}","$as":{"title":"${it.label}","value":"${it.value}","of":"${post.place}"}}}`, `{"fields":[{"of":"tours","title":"Driver","value":"Jonas"},{"of":"tours","title":"Tour","value":null}]}`},
		"within a list it stands in it":  {`[{"type":"head"},{"$each":"${post.facts}","$as":"${it.label}"},{"type":"foot"}]`, `[{"type":"head"},"Driver","Tour",{"type":"foot"}]`},
		"of nothing nothing is made":     {`{"a":{"$each":"${post.mentions}","$as":"${it}"},"b":[{"$each":"${post.mentions}","$as":"${it}"}]}`, `{"a":[],"b":[]}`},
		"left out where it is empty":     {`{"a":{"$when":"${post.link}","$then":{"to":"${post.link}"}},"b":[1,{"$when":"${post.picture}","$then":2},3],"c":{"$when":"${post.title}","$then":"yes"}}`, `{"b":[1,3],"c":"yes"}`},
		"left out where it is no":        {`{"a":{"$when":"${post.tone == 'plain'}","$then":1},"b":{"$when":"${post.tone == 'warning'}","$then":1}}`, `{"b":1}`},
		"left out of what is repeated":   {`{"$each":"${post.facts}","$as":{"$when":"${it.value}","$then":"${it.label}"}}`, `["Driver"]`},
		"repeats within repeats":         {`{"$each":"${post.facts}","$as":{"l":"${it.label}","in":{"$each":"${post.links}","$as":"${it.text}"},"after":"${it.label}"}}`, `[{"after":"Driver","in":["Open"],"l":"Driver"},{"after":"Tour","in":["Open"],"l":"Tour"}]`},
		"keys that begin with a dollar":  {`{"$$schema":"x","$$$each":"y"}`, `{"$$each":"y","$schema":"x"}`},
		"it in a text of its own":        {`{"a":"${'it' + post.key + \"it\"}"}`, `{"a":"itk-1it"}`},
		"a dollar that is text":          {`{"a":"$${post.title}","b":"5 $"}`, `{"a":"${post.title}","b":"5 $"}`},
		"nothing at all":                 {`{"$when":"${post.link}","$then":1}`, `null`},
		"objects as they are":            {`{"s":"${post.sender}"}`, `{"s":{"name":"Tour desk"}}`},
	} {
		assert.JSONEq(t, c.want, filled(t, c.shape), name)
	}
}

func TestShapesThatAreRefused(t *testing.T) {
	for name, c := range map[string]struct{ shape, place, words string }{
		"no such name":             {`{"a":{"b":["${title}"]}}`, "a.b[0]", "there is no name title"},
		"no such part of a post":   {`{"a":"${post.titel}"}`, "a", "there is no field titel"},
		"a formula that is open":   {`{"a":"${post.title"}`, "a", "is not closed"},
		"a repeat of no formula":   {`{"$each":"post.facts","$as":1}`, "$each", "this is one formula"},
		"a repeat of a constant":   {`{"$each":[1],"$as":1}`, "$each", "this is one formula"},
		"a repeat of nothing":      {`{"x":{"$each":"${post.facts}"}}`, "x", "$each stands with $as and nothing else"},
		"more beside a condition":  {`{"$when":"${post.link}","$then":1,"more":2}`, "", "$when stands with $then and nothing else"},
		"an unknown part":          {`{"$repeat":"${post.facts}"}`, "", "a key that begins with $ is written $$repeat"},
		"then without its when":    {`{"$then":1}`, "", "there is nothing called $then"},
		"a thousand levels":        {strings.Repeat("[", 60) + strings.Repeat("]", 60), strings.Repeat("[0]", 41), "at most 40 deep"},
		"ten thousand parts":       {"[" + strings.Repeat("1,", 5000) + "1]", "[1999]", "at most 2000 parts"},
		"it, outside a repeat":     {`{"a":"${it.label}"}`, "a", "there is nothing called it here"},
		"it, beside a repeat":      {`{"$each":"${it.facts}","$as":1}`, "$each", "there is nothing called it here"},
		"a fault within $as":       {`{"$each":"${post.facts}","$as":{"x":"${it +}"}}`, "$as.x", ""},
		"the record is not known":  {`{"a":"${recodr.id}"}`, "a", "recodr"},
		"a formula with a mistake": {`{"a":"${post.title +}"}`, "a", "unexpected token"},
	} {
		_, err := Read(c.shape, value.DefaultWorkspace())
		f, ok := fault.Of(err)
		if assert.True(t, ok, "%s: %v", name, err) {
			assert.Equal(t, c.place, f.Place, name)
			assert.Contains(t, f.Error(), c.words, name)
		}
	}
	_, err := Read(`{"a":}`, value.DefaultWorkspace())
	var je *value.JSONError
	require.ErrorAs(t, err, &je)
	s, err := Read(`{"x":{"$each":"${post.title}","$as":1}}`, value.DefaultWorkspace())
	require.NoError(t, err)
	_, err = s.Fill(post())
	require.ErrorContains(t, err, "x.$each: this is no list, but text")
	s, err = Read(`{"x":[{"n":"${int(post.title)}"}]}`, value.DefaultWorkspace())
	require.NoError(t, err)
	_, err = s.Fill(post())
	require.ErrorContains(t, err, "x[0].n: ")
}

// A list of lists makes so much and no more.
func TestWhatAShapeMakesIsBounded(t *testing.T) {
	s, err := Read(`{"$each":"${post.facts}","$as":{"$each":"${post.facts}","$as":{"$each":"${post.facts}","$as":"x"}}}`, value.DefaultWorkspace())
	require.NoError(t, err)
	p := post()
	many := make([]any, 200)
	for i := range many {
		many[i] = map[string]any{"label": "a"}
	}
	p["facts"] = many
	_, err = s.Fill(p)
	require.ErrorContains(t, err, "more than 20000 values")
}

// Whatever a post holds, what a shape gives is JSON of the shape's own structure, and the post's texts stand in it as they are.
func FuzzShape(f *testing.F) {
	f.Add("title", "text", "value")
	f.Add(`"},{"x":"`, "\\\n\x00\u2028", "${post.key}")
	f.Fuzz(func(t *testing.T, title, text, fact string) {
		s, err := Read(`{"t":"${post.title}","b":"> ${post.text} <","f":[{"$each":"${post.facts}","$as":{"v":"${it.value}"}}]}`, value.DefaultWorkspace())
		require.NoError(t, err)
		p := post()
		p["title"], p["text"], p["facts"] = title, text, []any{map[string]any{"value": fact}}
		v, err := s.Fill(p)
		require.NoError(t, err)
		raw := value.AppendJSON(nil, v)
		var got struct {
			T *string
			B string
			F []struct{ V *string }
		}
		require.NoError(t, json.Unmarshal(raw, &got), "%s", raw)
		if !utf8.ValidString(title) || !utf8.ValidString(text) || !utf8.ValidString(fact) {
			return
		}
		same := func(want string, got *string) {
			if got == nil {
				assert.Empty(t, strings.TrimSpace(want))
				return
			}
			assert.Equal(t, want, *got)
		}
		same(title, got.T)
		assert.Equal(t, "> "+text+" <", got.B)
		require.Len(t, got.F, 1)
		same(fact, got.F[0].V)
	})
}

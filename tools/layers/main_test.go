package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFindings(t *testing.T) {
	layers := [][]string{{"internal/core/a", "internal/core/b"}, {"internal/c"}}
	a, b, c := pkg{ImportPath: "internal/core/a"}, pkg{ImportPath: "internal/core/b"}, pkg{ImportPath: "internal/c", Imports: []string{module + "internal/core/a", "fmt"}}
	for name, w := range map[string]struct {
		all    []pkg
		layers [][]string
		wrong  string
	}{
		"all is well":         {all: []pkg{a, b, c}},
		"upward":              {all: []pkg{{ImportPath: "internal/core/a", Imports: []string{module + "internal/c"}}, b, c}, wrong: "internal/core/a imports internal/c, which does not stand below it"},
		"sideways":            {all: []pkg{{ImportPath: "internal/core/a", Imports: []string{module + "internal/core/b"}}, b, c}, wrong: "internal/core/a imports internal/core/b, which does not stand below it"},
		"unknown":             {all: []pkg{a, b, c, {ImportPath: "internal/c/d"}}, wrong: "internal/c/d stands in no layer; give it one in tools/layers"},
		"gone":                {all: []pkg{a, c}, wrong: "internal/core/b stands in a layer and is no package"},
		"twice":               {all: []pkg{a, b, c}, layers: append(layers, []string{"internal/core/b"}), wrong: "internal/core/b stands in two layers"},
		"the core's outside":  {all: []pkg{a, {ImportPath: "internal/core/b", Deps: []string{"net/http/httptest"}}, c}, wrong: "internal/core/b reaches net/http/httptest, which the core does not"},
		"alike, but no outer": {all: []pkg{a, {ImportPath: "internal/core/b", Deps: []string{"net/httpx"}}, c}},
	} {
		t.Run(name, func(t *testing.T) {
			if w.layers == nil {
				w.layers = layers
			}
			wrong, edges := findings(w.all, w.layers)
			if w.wrong == "" {
				assert.Empty(t, wrong)
				assert.Equal(t, 1, edges)
			} else {
				assert.Equal(t, []string{w.wrong}, wrong)
			}
		})
	}
}

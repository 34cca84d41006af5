package summary

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	const report = "The cooling of vehicle 4 failed on the Mill tour. The driver heard a noise, e.g. from the fan, at 05:40.\nIt rained. The cooling compressor of vehicle 4 has to be replaced before the next Mill tour."
	for _, c := range []struct {
		name, text string
		words      int
		want       string
	}{
		{"a short text stays", "  All  is\twell. ", 10, "All is well."},
		{"nothing", "", 10, ""},
		{"the telling sentences, in their order", report, 26, "The cooling of vehicle 4 failed on the Mill tour. The cooling compressor of vehicle 4 has to be replaced before the next Mill tour."},
		{"one sentence", report, 12, "The cooling of vehicle 4 failed on the Mill tour. It rained."},
		{"a long sentence is cut", "One two three, four five six seven", 3, "One two three …"},
		{"an abbreviation ends nothing", "Milk, approx. ninety litres, was lost. Nobody saw it happen at all.", 7, "Milk, approx. ninety litres, was lost."},
		{"no words", report, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, Of(c.text, c.words)) })
	}
}

// A summary is no longer than asked, of the text's own words, and the same each time.
func FuzzOf(f *testing.F) {
	f.Add("One. Two three. Four!", 3)
	f.Add("Käse\nMilch? e.g. so", 2)
	f.Fuzz(func(t *testing.T, text string, words int) {
		if !utf8.ValidString(text) || words > 1000 {
			return
		}
		got := Of(text, words)
		if got != Of(text, words) {
			t.Fatal("not the same twice")
		}
		for w := range strings.FieldsSeq(got) {
			if w != "…" && !strings.Contains(text, strings.TrimRight(w, ",;:")) {
				t.Fatalf("%q is not of the text", w)
			}
		}
	})
}

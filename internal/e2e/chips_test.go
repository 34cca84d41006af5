package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// A formula that is typed into a chip stands there whole, however slowly or fast it is typed and in whatever kind of text the chip is;
// nothing of it goes anywhere else.
func TestFormulasAreTypedIntoChips(t *testing.T) {
	page, _ := enter(t)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go("/workflows"))
	p.press("a", "Late collections")
	p.sees(`section[aria-label="Tell"]`, "Text")
	texts := func() map[string]string {
		all, err := browser.Eval[map[string]string](p.Page, `Object.fromEntries([...document.querySelectorAll('.composer .chip-text')].map(e => [e.id, [...e.querySelectorAll('span[data-lexical-text], .chip')].filter(n => !n.classList.contains('chip')).map(n => n.innerText).join('|')]))`)
		require.NoError(t, err)
		return all
	}
	for n, c := range []struct {
		text string
		slow time.Duration
		keys string
	}{
		{"msg-title", 0, `upper(record.id) + " / " + (record.litres > 1000 ? "much" : "little")`},
		{"msg-title", 60 * time.Millisecond, `"№ " + shorten(record.id, 40)`},
		{"msg-body", 0, `words(now - record.due) + "!"`},
		{"msg-body", 60 * time.Millisecond, `number(record.litres * 1.5, 1)`},
		{"msg-fact-0", 0, `or(record.driver, "nobody yet")`},
		{"msg-fact-0", 60 * time.Millisecond, `upper(record.valley)`},
		{"msg-link", 40 * time.Millisecond, `record.link + "?from=" + slug(record.valley)`},
	} {
		t.Run(fmt.Sprint(n, " ", c.text), func(t *testing.T) {
			before := texts()
			require.NoError(t, p.Click("#"+c.text+" .chip"))
			require.NoError(t, p.Until(`document.querySelector('.chipformat input.chip-formula')`))
			require.NoError(t, p.Click(`.chipformat input.chip-formula`))
			require.NoError(t, p.Keys(kb.End))
			old, err := browser.Eval[string](p.Page, `document.querySelector('.chipformat input.chip-formula').value`)
			require.NoError(t, err)
			for range []rune(old) {
				require.NoError(t, p.Keys(kb.Backspace))
			}
			for _, r := range c.keys {
				require.NoError(t, p.Keys(string(r)))
				time.Sleep(c.slow)
			}
			got, err := browser.Eval[string](p.Page, `document.querySelector('.chipformat input.chip-formula')?.value ?? 'it is closed'`)
			require.NoError(t, err)
			assert.Equal(t, c.keys, got)
			has, err := browser.Eval[string](p.Page, fmt.Sprintf(`document.querySelector('#%s .chip')?.dataset.formula ?? 'no chip'`, c.text))
			require.NoError(t, err)
			assert.Equal(t, c.keys, has)
			assert.Equal(t, before, texts(), "nothing was typed beside the chips")
			focus, err := browser.Eval[bool](p.Page, `document.activeElement.closest('.chip-formula') !== null`)
			require.NoError(t, err)
			assert.True(t, focus)
			require.NoError(t, p.Click(`[aria-label="Done with the chip"]`))
		})
	}
}

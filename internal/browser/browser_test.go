package browser_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/browser"
)

// A press comes to what it is for, once, where the page moves it about for a while or pushes it away under the press.
func TestPressesComeToWhatTheyAreFor(t *testing.T) {
	for name, script := range map[string]string{
		"moved about": `const ends = Date.now() + 1500;
			const move = () => { if (Date.now() < ends) { b.style.top = 300 * Math.random() + 'px'; setTimeout(move, 5) } };
			move();`,
		"pushed away": `window.addEventListener('mousedown', () => {
				b.style.top = '300px';
			}, {capture: true, once: true});`,
	} {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "text/html")
				_, _ = w.Write([]byte(`<button id="b" style="position: absolute; top: 0; left: 9px">Go</button><script>
					window.pressed = 0;
					const b = document.getElementById('b');
					b.onclick = () => window.pressed++;
					` + script + `</script>`))
			}))
			defer server.Close()
			p, err := browser.Open(context.Background(), server.URL)
			if errors.Is(err, browser.ErrMissing) {
				t.Skip(err)
			}
			require.NoError(t, err)
			defer p.Close()
			require.NoError(t, p.ClickText("button", "Go"))
			pressed, err := browser.Eval[int](p, "window.pressed")
			require.NoError(t, err)
			assert.Equal(t, 1, pressed)
		})
	}
}

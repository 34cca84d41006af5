// Package browser drives a headless Chromium, for the tests of the real interface and for the README's
// pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// ErrMissing means that there is no Chromium.
var ErrMissing = errors.New("there is no Chromium on this machine; 'apt-get install chromium' brings it")

// Page is a page in a browser of its own. Its methods wait for what they need, up to stepTimeout.
type Page struct {
	ctx   context.Context
	close func()
	base  string

	mu       sync.Mutex
	troubles []string
	received int64
}

const stepTimeout = 45 * time.Second

// Open starts a browser and goes to the address.
func Open(ctx context.Context, address string) (*Page, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, ErrMissing
	}
	dir, err := os.MkdirTemp("", "dorfbote-chromium-*")
	if err != nil {
		return nil, err
	}
	opts := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck,
		chromedp.UserDataDir(dir), chromedp.WindowSize(1280, 800),
	}
	for _, flag := range []string{"disable-quic", "disable-background-networking", "disable-component-update", "disable-sync", "disable-extensions",
		"disable-dev-shm-usage", "hide-scrollbars", "force-prefers-reduced-motion"} {
		opts = append(opts, chromedp.Flag(flag, true))
	}
	p := &Page{base: address}
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, opts...)
	tab, endTab := chromedp.NewContext(allocator, chromedp.WithListener(p.hear))
	p.ctx = tab
	p.close = func() { endTab(); endAllocator(); _ = os.RemoveAll(dir) }
	// The browser lives as long as the context of its first call, so that one has no time limit.
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		p.Close()
		return nil, fmt.Errorf("starting Chromium: %w", err)
	}
	_, err1 := chromedp.Call(tab, network.Enable, network.EnableParams{})
	_, err2 := chromedp.Call(tab, cdplog.Enable, cdp.Empty{})
	if err := errors.Join(err1, err2); err != nil {
		p.Close()
		return nil, err
	}
	return p, p.Go("")
}

// Line is how the browser reaches the application, and how fast it is.
type Line struct {
	BytesASecond float64
	Latency      time.Duration
	Slower       float64 // how many times slower the processor is than this machine's
}

// Slow has the browser reach the application over a line, with nothing kept from before.
func (p *Page) Slow(l Line) error {
	_, err1 := chromedp.Call(p.ctx, network.SetCacheDisabled, network.SetCacheDisabledParams{CacheDisabled: true})
	_, err2 := chromedp.Call(p.ctx, network.EmulateNetworkConditionsByRule, network.EmulateNetworkConditionsByRuleParams{MatchedNetworkConditions: []*network.Conditions{{
		Latency: float64(l.Latency.Milliseconds()), DownloadThroughput: l.BytesASecond, UploadThroughput: l.BytesASecond,
	}}})
	_, err3 := chromedp.Call(p.ctx, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: l.Slower})
	return errors.Join(err1, err2, err3)
}

// Received is how many bytes have come over the wire so far, headers included.
func (p *Page) Received() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.received
}

// Close ends the browser.
func (p *Page) Close() { p.close() }

// hear notes console errors, exceptions, failed requests and requests to other hosts.
func (p *Page) hear(ev any) {
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		p.note("exception: %s %s", e.ExceptionDetails.Text, e.ExceptionDetails.URL)
	case *runtime.EventConsoleAPICalled:
		if e.Type == runtime.ConsoleAPICalledTypeError || e.Type == runtime.ConsoleAPICalledTypeAssert {
			var parts []string
			for _, a := range e.Args {
				parts = append(parts, string(a.Value)+a.Description)
			}
			p.note("console: %s", strings.Join(parts, " "))
		}
	case *cdplog.EventEntryAdded:
		// Asking who is signed in is answered 401 before anybody is.
		if e.Entry.Level == "error" && !strings.HasSuffix(e.Entry.URL, "/api/me") {
			p.note("log: %s %s", e.Entry.Text, e.Entry.URL)
		}
	case *network.EventRequestWillBeSent:
		if u := e.Request.URL; !strings.HasPrefix(u, p.base) && !strings.HasPrefix(u, "data:") && !strings.HasPrefix(u, "about:") && !strings.HasPrefix(u, "blob:") {
			p.note("request to another host: %s", u)
		}
	case *network.EventLoadingFinished:
		p.mu.Lock()
		p.received += int64(e.EncodedDataLength)
		p.mu.Unlock()
	case *network.EventResponseReceived:
		if e.Response.Status >= 500 {
			p.note("answer %d from %s", e.Response.Status, e.Response.URL)
		}
	}
}

func (p *Page) note(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.troubles = append(p.troubles, fmt.Sprintf(format, args...))
}

// Troubles lists what has gone wrong in the page so far.
func (p *Page) Troubles() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.troubles...)
}

func (p *Page) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, stepTimeout)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Go opens a path of the application.
func (p *Page) Go(path string) error {
	if err := p.do(chromedp.Navigate(p.base + path)); err != nil {
		return fmt.Errorf("opening %s: %w", path, err)
	}
	return nil
}

// Visit goes to an application at another address.
func (p *Page) Visit(address string) error {
	p.base = address
	return p.Go("")
}

// Eval runs JavaScript and gives its value.
func Eval[T any](p *Page, js string) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, stepTimeout)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](js, chromedp.EvalAwaitPromise))
}

// Until waits for a JavaScript expression to hold. The error says what the page showed instead.
func (p *Page) Until(js string) error {
	end := time.Now().Add(stepTimeout)
	for {
		ok, err := Eval[bool](p, "!!("+js+")")
		if ok {
			return nil
		}
		if time.Now().After(end) {
			text, _ := Eval[string](p, "document.body.innerText.slice(0, 3000)")
			if err == nil {
				err = errors.New("it never held")
			}
			return fmt.Errorf("waited in vain for %s: %w; troubles of the page: %q; it shows:\n%s", js, err, p.Troubles(), text)
		}
		time.Sleep(30 * time.Millisecond)
	}
}

func find(selector string) string { return fmt.Sprintf("document.querySelector(%q)", selector) }

// UntilText waits for an element to hold a text.
func (p *Page) UntilText(selector, text string) error {
	return p.Until(fmt.Sprintf("[...document.querySelectorAll(%q)].some(e => e.innerText.includes(%q) || (e.value ?? '').includes(%q))", selector, text, text))
}

// Click presses an element as a mouse would.
func (p *Page) Click(selector string) error {
	if err := p.Until(find(selector) + " && !" + find(selector) + ".disabled"); err != nil {
		return err
	}
	for range 3 {
		hit, err := p.aim(selector, stepTimeout)
		if hit || err != nil {
			return err
		}
	}
	return fmt.Errorf("pressing %s: it moves away again and again", selector)
}

// aim presses an element once it stands still, and says whether the press came to it: what a page draws meanwhile may push it away
// under the press, which then goes to whatever stands there instead.
func (p *Page) aim(selector string, within time.Duration) (hit bool, err error) {
	_, err = Eval[bool](p, fmt.Sprintf(`new Promise(still => {
		const one = () => document.querySelector(%q);
		const under = e => [...(one()?.getClientRects() ?? [])].some(r => e.clientX >= r.left && e.clientX <= r.right && e.clientY >= r.top && e.clientY <= r.bottom);
		window.__press?.over.abort(); // what it listened for
		const press = window.__press = {over: new AbortController()}, once = {capture: true, once: true, signal: press.over.signal};
		window.addEventListener('mousedown', e => { press.missed = !under(e) }, once);
		window.addEventListener('click', e => { press.missed ||= !!one() && !under(e) }, once);
		const until = Date.now() + 3000;
		const look = was => {
			const r = one()?.getBoundingClientRect(), now = r && r.top + ' ' + r.left;
			if (now === was || Date.now() > until) still(true); else setTimeout(look, 30, now);
		};
		look('');
	})`, selector))
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(p.ctx, within)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Click(chromedp.CSS(selector), chromedp.NodeVisible)); err != nil {
		return false, err
	}
	// A page that was left by the press knows nothing of it any more.
	return Eval[bool](p, "!window.__press?.missed")
}

// pressWithin is how long an element is waited for that was found: one that a page has drawn anew meanwhile never comes.
const pressWithin = 8 * time.Second

// ClickText presses the first element of a kind with exactly this text. One that the page draws anew before it is pressed is looked
// for again.
func (p *Page) ClickText(selector, text string) error {
	const mark = "data-pressed-next"
	js := fmt.Sprintf("[...document.querySelectorAll(%q)].find(e => e.innerText.trim() === %q && !e.disabled)", selector, text)
	for range 3 {
		if err := p.Until(js); err != nil {
			return err
		}
		if _, err := Eval[bool](p, "!!"+js+"?.setAttribute('"+mark+"', '')"); err != nil {
			return err
		}
		hit, err := p.aim("["+mark+"]", pressWithin)
		if err == nil {
			_, err = Eval[bool](p, "document.querySelectorAll('["+mark+"]').forEach(e => e.removeAttribute('"+mark+"')) ?? true")
			if hit || err != nil {
				return err
			}
			continue
		}
		there, evalErr := Eval[bool](p, "!!document.querySelector('["+mark+"]')")
		if evalErr != nil || there {
			return fmt.Errorf("pressing %q: %w", text, errors.Join(err, evalErr))
		}
	}
	return fmt.Errorf("pressing %q: the page draws it anew or moves it again and again", text)
}

// Fill replaces what stands in an input by typing.
func (p *Page) Fill(selector, text string) error {
	if err := p.Until(find(selector)); err != nil {
		return err
	}
	if _, err := Eval[bool](p, "(e => { e.focus(); if (e.isContentEditable) document.execCommand('selectAll'); else e.select(); return true })("+find(selector)+")"); err != nil {
		return err
	}
	return p.do(chromedp.KeyEvent(text))
}

// Keys types keys where the focus is.
func (p *Page) Keys(keys string) error { return p.do(chromedp.KeyEvent(keys)) }

// Choose opens a select by its label and takes the option with this text. A select that a page draws anew as it is pressed
// does not open, so it is pressed again.
func (p *Page) Choose(label, option string) error {
	selector := fmt.Sprintf(`.ant-select:has(input[aria-label=%q])`, label)
	js := fmt.Sprintf("[...document.querySelectorAll('.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option')].find(e => e.innerText.trim() === %q || e.title === %q)", option, option)
	for range 3 {
		if err := p.Click(selector); err != nil {
			return err
		}
		for range 25 {
			if there, err := Eval[bool](p, "!!"+js); err != nil {
				return err
			} else if there {
				_, err := Eval[bool](p, js+".click() ?? true")
				return err
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	return p.Until(js)
}

// Picture gives the page as a PNG.
func (p *Page) Picture() ([]byte, error) {
	ctx, cancel := context.WithTimeout(p.ctx, stepTimeout)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// SignIn signs a person in.
func (p *Page) SignIn(email, password string) error {
	if err := p.Fill("#email", email); err != nil {
		return err
	}
	if err := p.Fill("#password", password); err != nil {
		return err
	}
	if err := p.ClickText("button", "Sign in"); err != nil {
		return err
	}
	return p.Until(find(".topbar"))
}

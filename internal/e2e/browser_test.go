package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/demo"
	"mossledger.example/moss/internal/lab"
)

// browser is a tab of headless Chromium at a service.
type browser struct {
	t    *testing.T
	ctx  context.Context
	url  string
	axe  string
	dark bool
}

func newBrowser(t *testing.T, url string) *browser {
	t.Helper()
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if found, err := exec.LookPath(name); err == nil {
			path = found
			break
		}
	}
	if path == "" {
		lab.LeaveOut(t, "there is no Chromium on this machine")
	}
	options := append([]chromedp.ExecAllocatorOption{}, chromedp.Headless, chromedp.NoSandbox, chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck, chromedp.ExecPath(path), chromedp.UserDataDir(t.TempDir()))
	for _, flag := range []string{"disable-gpu", "disable-quic", "disable-background-networking", "disable-component-update", "disable-sync", "disable-dev-shm-usage"} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancelTab := chromedp.NewContext(allocator)
	t.Cleanup(cancelTab)
	axe, err := os.ReadFile(filepath.Join("..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err, "run 'make console' first")
	b := &browser{t: t, ctx: ctx, url: url, axe: string(axe)}
	b.do(chromedp.EmulateViewport(1280, 800))
	return b
}

// signedIn is a browser in which the demonstration's user has signed in.
func signedIn(t *testing.T, d *demo.Demo) *browser {
	b := newBrowser(t, d.URL)
	b.open("/", "Sign in")
	b.fill("input[autocomplete=username]", demo.UserName)
	b.fill("input[type=password]", demo.UserPassword)
	b.press("Sign in")
	b.see("Overview")
	return b
}

func (b *browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, actions...))
}

func evaluate[T any](b *browser, script string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err, script)
	return v
}

// open goes to a page of the console and waits until a text is there.
func (b *browser) open(path, text string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.url + path))
	b.see(text)
}

// see waits until a text stands on the page.
func (b *browser) see(text string) {
	b.t.Helper()
	raw, err := json.Marshal(text)
	require.NoError(b.t, err)
	found := evaluate[bool](b, fmt.Sprintf(`new Promise(resolve => {
		const want = %s, limit = Date.now() + 20000
		const look = () => {
			if (document.body && document.body.innerText.includes(want)) resolve(true)
			else if (Date.now() > limit) resolve(false)
			else setTimeout(look, 50)
		}
		look()
	})`, raw))
	require.True(b.t, found, "the page does not show %q:\n%s", text, evaluate[string](b, "document.body.innerText"))
}

// unsee waits until a text stands on the page no more.
func (b *browser) unsee(text string) {
	b.t.Helper()
	require.True(b.t, evaluate[bool](b, fmt.Sprintf(`new Promise(resolve => {
		const limit = Date.now() + 20000
		const look = () => {
			if (!document.body.innerText.includes(%q)) resolve(true)
			else if (Date.now() > limit) resolve(false)
			else setTimeout(look, 50)
		}
		look()
	})`, text)), "the page still shows %q", text)
}

// press clicks the button or link with a text, or whose text goes on after it with
// a comma: what a button will do stands on it in numbers.
func (b *browser) press(text string) {
	b.t.Helper()
	raw, err := json.Marshal(text)
	require.NoError(b.t, err)
	require.True(b.t, evaluate[bool](b, fmt.Sprintf(`new Promise(resolve => {
		const want = %s, limit = Date.now() + 20000
		const look = () => {
			const named = (e) => e.innerText.trim() === want || e.innerText.trim().startsWith(want + ',') || e.getAttribute('aria-label') === want
			const e = [...document.querySelectorAll('button, a, .ant-tabs-tab-btn, .ant-segmented-item, .ant-dropdown-menu-item')].filter(e => named(e) && !e.disabled && e.offsetParent !== null).at(-1)
			if (e) {
				e.click()
				resolve(true)
			} else if (Date.now() > limit) resolve(false)
			else setTimeout(look, 50)
		}
		look()
	})`, raw)), "there is no button %q among:\n%s", text, evaluate[string](b, "[...document.querySelectorAll('button')].map(e => e.innerText.trim() + (e.disabled ? ' (off)' : '')).filter(Boolean).join('\\n')"))
}

// fill types into the field with a label or placeholder.
func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.do(chromedp.SendKeys(chromedp.CSS(selector), text))
}

// choose picks the option of a select that begins with a text, once it is there.
func (b *browser) choose(selector, text string) {
	b.t.Helper()
	found := evaluate[bool](b, fmt.Sprintf(`new Promise((done) => {
		const limit = Date.now() + 20000
		let opened = false
		const look = () => {
			const select = document.querySelector(%q)?.closest('.ant-select')
			if (select && !opened) {
				select.querySelector('.ant-select-selector').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))
				opened = true
			}
			const option = [...document.querySelectorAll('.ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option')].find((o) => o.innerText.trim().startsWith(%q))
			if (option) {
				option.click()
				done(true)
			} else if (Date.now() > limit) done(false)
			else setTimeout(look, 50)
		}
		look()
	})`, selector, text))
	require.True(b.t, found, "there is no option %q of %s", text, selector)
}

// accessible runs axe: nothing may be found.
func (b *browser) accessible(page string) {
	b.t.Helper()
	evaluate[bool](b, b.axe+"; true")
	// A colour that is on its way to another is not what people read.
	found := evaluate[[]string](b, `Promise.allSettled(document.getAnimations().filter(a => a.playState === 'running' && a.effect.getComputedTiming().endTime !== Infinity).map(a => a.finished)).then(() => axe.run(document, { resultTypes: ['violations'] }).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ' ' + n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')))))`)
	require.Empty(b.t, found, "%s (dark %v)", page, b.dark)
}

// shot takes a picture for the documentation, when one is asked for.
func (b *browser) shot(name string) {
	b.t.Helper()
	folder := os.Getenv("MOSS_SCREENSHOTS")
	if folder == "" {
		return
	}
	raw, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b.t, err)
	require.NoError(b.t, os.MkdirAll(folder, 0o755))
	require.NoError(b.t, os.WriteFile(filepath.Join(folder, name+".png"), raw, 0o644))
}

// page checks and shoots a page, light and dark.
func (b *browser) page(path, text, name string) {
	b.t.Helper()
	for _, dark := range []bool{false, true} {
		b.setDark(dark)
		b.open(path, text)
		b.do(chromedp.WaitReady(chromedp.CSS("main")))
		b.settle()
		b.accessible(path)
		if dark == strings.HasSuffix(name, "-dark") {
			b.shot(name)
		}
	}
	b.setDark(false)
}

func (b *browser) setDark(dark bool) {
	word := "light"
	if dark {
		word = "dark"
	}
	b.dark = dark
	evaluate[bool](b, "localStorage.setItem('moss-shade', '"+word+"'); true")
}

// settle waits until a page is at rest before a picture: nothing is loading, and
// for ten looks neither its text nor what it has fetched changes. A page that
// never rests is drawn after five seconds as it is.
func (b *browser) settle() {
	evaluate[bool](b, `new Promise((done) => {
		const end = Date.now() + 5000
		let last = '', same = 0
		const look = () => {
			const now = document.body.innerHTML.length + '/' + performance.getEntriesByType('resource').length
			same = now === last && !document.querySelector('[aria-busy="true"]') ? same + 1 : 0
			last = now
			if (same >= 10 || Date.now() > end) done(true)
			else setTimeout(look, 40)
		}
		look()
	})`)
}

package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
)

const chromium = "/usr/bin/chromium-headless-shell"

// browser is one headless Chromium with a page of its own.
type browser struct {
	t       testing.TB
	ctx     context.Context
	url     string
	mu      sync.Mutex
	console []string // guarded by mu: errors and warnings that the page wrote
}

// allocator returns a context in which a Chromium is started, and what stops it.
func allocator(t testing.TB, profile string, more ...chromedp.ExecAllocatorOption) (context.Context, context.CancelFunc) {
	t.Helper()
	if _, err := os.Stat(chromium); err != nil {
		t.Fatalf("%s is missing: run `make deps`", chromium)
	}
	opts := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	opts = append(opts, chromedp.ExecPath(chromium), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(1280, 800), chromedp.UserDataDir(profile), chromedp.Flag("lang", "en-GB"))
	return chromedp.NewExecAllocator(context.Background(), append(opts, more...)...)
}

// shared is the Chromium of all tests, started by the first that asks for one.
var shared struct {
	once sync.Once
	ctx  context.Context
	stop func()
}

// closeShared stops the browser of all tests, if one was started.
func closeShared() {
	if shared.stop != nil {
		shared.stop()
	}
}

// open opens a page in a browser context of its own: no test sees the cookies of another. The test fails if the page writes errors or warnings
// to its console. With more options, the browser is one of its own.
func open(t testing.TB, url string, more ...chromedp.ExecAllocatorOption) *browser {
	t.Helper()
	var ctx context.Context
	var cancel context.CancelFunc
	if len(more) > 0 {
		actx, stop := allocator(t, t.TempDir(), more...)
		t.Cleanup(stop)
		ctx, cancel = chromedp.NewContext(actx)
	} else {
		shared.once.Do(func() {
			profile, err := os.MkdirTemp("", "widelark-e2e-")
			require.NoError(t, err)
			actx, stop := allocator(t, profile)
			var cancel context.CancelFunc
			shared.ctx, cancel = chromedp.NewContext(actx)
			shared.stop = func() {
				cancel()
				stop()
				_ = os.RemoveAll(profile)
			}
			require.NoError(t, chromedp.Do(shared.ctx))
		})
		require.NotNil(t, shared.ctx, "the browser did not start")
		ctx, cancel = chromedp.NewContext(shared.ctx, chromedp.WithNewBrowserContext())
	}
	ctx, expire := context.WithTimeout(ctx, 5*time.Minute)
	b := &browser{t: t, ctx: ctx, url: url}
	t.Cleanup(func() {
		expire()
		cancel()
	})
	messages := chromedp.Console(ctx)
	go func() {
		for message, err := range messages {
			if err != nil {
				return
			}
			if message.Type == chromedp.ConsoleError || message.Type == chromedp.ConsoleWarning || message.IsException() {
				b.mu.Lock()
				b.console = append(b.console, string(message.Type)+": "+message.Text+" "+message.URL)
				b.mu.Unlock()
			}
		}
	}()
	b.do(chromedp.EmulateViewport(1280, 800))
	return b
}

func (b *browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, actions...))
}

// goTo opens an address of the console.
func (b *browser) goTo(path string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.url + path))
}

// signIn goes through the sign-in page.
func (b *browser) signIn(name, password string) {
	b.t.Helper()
	b.goTo("/")
	b.fill(`input[name=name]`, name)
	b.fill(`input[name=password]`, password)
	b.press("Sign in")
	b.see("h1", "Lists")
}

// fill types text into a field, in place of what is there.
func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(chromedp.CSS(selector)), chromedp.Focus(chromedp.CSS(selector)))
	b.eval(`document.querySelector(` + strconv.Quote(selector) + `).select()`)
	b.do(chromedp.KeyEvent(text))
}

// try asks the try bar, as by the keyboard alone: "/" leads to it, Enter asks.
func (b *browser) try(url string) {
	b.t.Helper()
	b.eval(`document.activeElement.blur()`)
	b.do(chromedp.KeyEvent("/"))
	b.await(`document.activeElement.id === 'try-url'`, "the key / does not lead to the try bar")
	b.fill("#try-url", url) // in place of the "/" that the driver, unlike a keyboard, types all the same
	b.do(chromedp.KeyEvent(kb.Enter))
}

// press clicks the button or link of that name, once it is there and can be clicked. While a dialog or a menu is open,
// only what is in it counts.
func (b *browser) press(name string) {
	b.t.Helper()
	b.await(`(() => {
		const wanted = `+strconv.Quote(name)+`
		const scope = document.querySelector('[role=dialog], [role=menu]') ?? document
		const found = [...scope.querySelectorAll('button, a, [role=menuitem]')].find((e) =>
			(e.getAttribute('aria-label') ?? e.textContent).trim() === wanted && !e.disabled && e.offsetParent !== null)
		if (!found) return false
		if (found.getAttribute('aria-haspopup') === 'menu') {
			found.dispatchEvent(new PointerEvent('pointerdown', { bubbles: true, button: 0 }))
		} else found.click()
		return true
	})()`, "no button "+name)
}

// caret puts the caret of the text editor on the line that holds a text.
func (b *browser) caret(text string) {
	b.t.Helper()
	b.await(`(() => {
		const line = [...document.querySelectorAll('.cm-line')].find((e) => e.textContent.includes(`+strconv.Quote(text)+`))
		if (!line) return false
		const { left, top } = line.getBoundingClientRect()
		for (const type of ['mousedown', 'mouseup']) {
			line.dispatchEvent(new MouseEvent(type, { bubbles: true, button: 0, detail: 1, clientX: left + 2, clientY: top + 8 }))
		}
		return true
	})()`, "no line with "+text)
}

// see waits until an element that matches the selector holds the text.
func (b *browser) see(selector, text string) {
	b.t.Helper()
	b.await(`[...document.querySelectorAll(`+strconv.Quote(selector)+`)].some((e) => e.textContent.includes(`+strconv.Quote(text)+`))`,
		selector+" never says "+text)
}

// gone waits until no element matches the selector.
func (b *browser) gone(selector string) {
	b.t.Helper()
	b.await(`document.querySelector(`+strconv.Quote(selector)+`) === null`, selector+" stays")
}

// awaited resolves with true as soon as the expression holds, and with false after a second. The page looks again whenever it has
// changed, which costs far less than asking it from outside.
const awaited = `new Promise((resolve) => {
	const holds = () => { try { return Boolean(%s) } catch { return false } }
	if (holds()) return resolve(true)
	let queued = 0
	const end = (is) => { observer.disconnect(); clearInterval(often); clearTimeout(queued); clearTimeout(over); resolve(is) }
	const look = () => { queued = 0; if (holds()) end(true) }
	const observer = new MutationObserver(() => { queued ||= setTimeout(look, 10) })
	observer.observe(document, { subtree: true, childList: true, attributes: true, characterData: true })
	const often = setInterval(look, 200)
	const over = setTimeout(() => end(false), 1000)
})`

// await waits until an expression holds in the page.
func (b *browser) await(expression, otherwise string) {
	b.t.Helper()
	deadline := time.Now().Add(time.Minute)
	for {
		// A page that is left takes the promise with it: what follows is asked anew.
		ok, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(awaited, expression), chromedp.EvalAwaitPromise))
		if err == nil && ok {
			return
		}
		if time.Now().After(deadline) || b.ctx.Err() != nil {
			text, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
			b.picture(filepath.Join(os.TempDir(), "widelark-e2e-failure.png"))
			b.t.Fatalf("%s; the page says:\n%s", otherwise, text)
		}
		if err != nil {
			time.Sleep(20 * time.Millisecond)
		}
	}
}

func (b *browser) eval(expression string) {
	b.t.Helper()
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool]("("+expression+", true)"))
	require.NoError(b.t, err)
}

// picture saves what the window shows.
func (b *browser) picture(file string) {
	b.t.Helper()
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(file, png, 0o644))
}

// accessible runs the axe rules on the page as it stands.
func (b *browser) accessible(page string) {
	b.t.Helper()
	there, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`typeof axe === 'object'`))
	require.NoError(b.t, err)
	if !there { // the page was loaded anew
		source, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
		require.NoError(b.t, err)
		_, err = chromedp.Run(b.ctx, chromedp.Evaluate[int](string(source)+";0"))
		require.NoError(b.t, err)
	}
	found, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](
		`axe.run(document, { resultTypes: ['violations'], preload: false }).then((r) => r.violations.map((v) => v.id + ': ' + v.nodes.map((n) => n.html + ' ' + n.failureSummary).join(' | ')))`, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err)
	assert.Empty(b.t, found, "%s", page)
}

// quiet fails the test where the page wrote errors or warnings.
func (b *browser) quiet() {
	b.t.Helper()
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(b.t, strings.Join(b.console, "\n"))
}

// forget drops what the page wrote so far.
func (b *browser) forget() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.console = nil
}

func signedIn(t testing.TB, s *testkit.Service) *browser {
	t.Helper()
	b := open(t, s.URL)
	b.signIn(testkit.Name, testkit.Password)
	return b
}

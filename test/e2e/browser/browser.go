// Package browser drives the console in headless Chromium, as somebody would who sees it: by the names of buttons, by the keyboard, by what the page
// says.
package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/security"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/chromedp/chromedp/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
)

// Page is a page in headless Chromium, with cookies of its own.
type Page struct {
	T       testing.TB
	ctx     context.Context
	URL     string
	mu      sync.Mutex
	console []string // guarded by mu: errors and warnings that the page wrote
}

// shared is the Chromium of all tests of the process: the one that all packages share, or one that the first test that asks has started.
var shared struct {
	once sync.Once
	ctx  context.Context
	stop []func()
}

// CloseShared leaves the browser, and stops it if it was started here.
func CloseShared() {
	for i := len(shared.stop) - 1; i >= 0; i-- {
		shared.stop[i]()
	}
}

func startShared(t testing.TB) {
	address := os.Getenv(testkit.SharedBrowser)
	if address == "" {
		profile, err := os.MkdirTemp("", "widelark-e2e-")
		require.NoError(t, err)
		var stop func()
		address, stop, err = testkit.StartBrowser(profile)
		require.NoError(t, err)
		shared.stop = append(shared.stop, func() { _ = os.RemoveAll(profile) }, stop)
	}
	attached, leave := remote.NewAllocator(context.Background(), address)
	ctx, cancel := chromedp.NewContext(attached)
	shared.ctx, shared.stop = ctx, append(shared.stop, leave, cancel)
	require.NoError(t, chromedp.Do(ctx))
}

// Open opens a page in a browser context of its own: no test sees the cookies of another. What the page writes to its console as an error or a
// warning is kept for [Page.Quiet].
func Open(t testing.TB, url string) *Page {
	t.Helper()
	return open(t, url)
}

// OpenThrough is Open with a browser that is told of a proxy, and takes the certificates that it makes.
func OpenThrough(t testing.TB, proxy string) *Page {
	t.Helper()
	b := open(t, "", func(p *target.CreateBrowserContextParams) { p.ProxyServer = "http://" + proxy })
	b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, security.SetIgnoreCertificateErrors, security.SetIgnoreCertificateErrorsParams{Ignore: true})
		return err
	}))
	return b
}

// OpenByPAC opens a page in a browser of its own that has its proxy from a PAC file, and signs in there. The test is skipped where no such browser is installed.
func OpenByPAC(t testing.TB, pac, name, password string) *Page {
	t.Helper()
	program := testkit.WholeChromium()
	if program == "" {
		t.Skip("there is no Chromium that reads PAC files: install Debian's chromium")
	}
	address, stop, err := testkit.StartChromium(program, t.TempDir(), "--proxy-pac-url="+pac, "--ignore-certificate-errors")
	require.NoError(t, err)
	t.Cleanup(stop)
	attached, leave := remote.NewAllocator(t.Context(), address)
	t.Cleanup(leave)
	ctx, cancel := chromedp.NewContext(attached)
	t.Cleanup(cancel)
	b := &Page{T: t, ctx: ctx}
	b.Do()
	paused, asked := chromedp.Events(ctx, fetch.RequestPaused), chromedp.Events(ctx, fetch.AuthRequired)
	go func() {
		for e, err := range paused {
			if err != nil {
				return
			}
			_, _ = chromedp.Call(ctx, fetch.ContinueRequest, fetch.ContinueRequestParams{RequestID: e.RequestID})
		}
	}()
	go func() {
		for e, err := range asked {
			if err != nil {
				return
			}
			_, _ = chromedp.Call(ctx, fetch.ContinueWithAuth, fetch.ContinueWithAuthParams{RequestID: e.RequestID, AuthChallengeResponse: &fetch.AuthChallengeResponse{
				Response: fetch.AuthChallengeResponseResponseProvideCredentials, Username: name, Password: password,
			}})
		}
	}()
	handle := true
	_, err = chromedp.Call(ctx, fetch.Enable, fetch.EnableParams{HandleAuthRequests: &handle})
	require.NoError(t, err)
	return b
}

// OpenByDNS opens a page in a browser of its own that asks for names over HTTPS alone (RFC 8484). The test is skipped where no such browser is installed.
func OpenByDNS(t testing.TB, template string) *Page {
	t.Helper()
	program := testkit.WholeChromium()
	if program == "" {
		t.Skip("there is no Chromium that can be told of a resolver: install Debian's chromium")
	}
	profile := t.TempDir()
	state, err := json.Marshal(map[string]any{"dns_over_https": map[string]string{"mode": "secure", "templates": template}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(profile, "Local State"), state, 0o600))
	address, stop, err := testkit.StartChromium(program, profile, "--ignore-certificate-errors")
	require.NoError(t, err)
	t.Cleanup(stop)
	attached, leave := remote.NewAllocator(t.Context(), address)
	t.Cleanup(leave)
	ctx, cancel := chromedp.NewContext(attached)
	t.Cleanup(cancel)
	b := &Page{T: t, ctx: ctx}
	b.Do()
	return b
}

func open(t testing.TB, url string, options ...chromedp.CreateBrowserContextOption) *Page {
	t.Helper()
	shared.once.Do(func() { startShared(t) })
	require.NotNil(t, shared.ctx, "the browser did not start")
	ctx, cancel := chromedp.NewContext(shared.ctx, chromedp.WithNewBrowserContext(options...))
	ctx, expire := context.WithTimeout(ctx, 5*time.Minute)
	b := &Page{T: t, ctx: ctx, URL: url}
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
	b.Do(chromedp.EmulateViewport(1280, 800), chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		// The pages of all tests share one window, which gives only one of them the focus: without it, keys are lost.
		_, err := cdp.Call(ctx, t, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true})
		return err
	}))
	return b
}

// Do carries out actions on the page.
func (b *Page) Do(actions ...chromedp.Action[chromedp.Void]) {
	b.T.Helper()
	require.NoError(b.T, chromedp.Do(b.ctx, actions...))
}

// Elsewhere has the page believe that it is shown in another time zone.
func (b *Page) Elsewhere(zone string) {
	b.T.Helper()
	b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetTimezoneOverride, emulation.SetTimezoneOverrideParams{TimezoneID: zone})
		return err
	}))
}

// Passkeys gives the page a device that keeps passkeys, with somebody at it who confirms whatever is asked.
func (b *Page) Passkeys() {
	b.T.Helper()
	_, err := chromedp.Call(b.ctx, webauthn.Enable, webauthn.EnableParams{})
	require.NoError(b.T, err)
	_, err = chromedp.Call(b.ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
		Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
		AutomaticPresenceSimulation: true,
	}})
	require.NoError(b.T, err)
}

// GoTo opens an address of the console.
func (b *Page) GoTo(path string) {
	b.T.Helper()
	b.Do(chromedp.Navigate(b.URL + path))
}

// SignIn goes through the sign-in page.
func (b *Page) SignIn(name, password string) {
	b.T.Helper()
	b.GoTo("/")
	b.Fill(`input[name=name]`, name)
	b.Fill(`input[name=password]`, password)
	b.Press("Sign in")
	b.Await(`document.querySelector("nav[aria-label=\"Wide Lark\"] li") !== null && document.querySelector("main h1, main h2") !== null`, "nobody is signed in")
}

// Fill gives a field a text in place of what is there, once it is there and can be typed into. The field is told of an input, as by typing, and
// filled again if the page draws it anew before it has kept the text.
func (b *Page) Fill(selector, text string) {
	b.T.Helper()
	b.Await(`(() => {
		const field = document.querySelector(`+strconv.Quote(selector)+`)
		const text = `+strconv.Quote(text)+`
		if (!field || field.disabled || field.offsetParent === null) return false
		field.focus()
		if (document.activeElement !== field) return false
		if (field.value !== text) {
			Object.getOwnPropertyDescriptor(Object.getPrototypeOf(field), 'value').set.call(field, text)
			field.dispatchEvent(new Event('input', { bubbles: true }))
		}
		return field.isConnected && field.value === text
	})()`, "no field "+selector)
}

// Choose chooses a value of a list of choices, once it is there.
func (b *Page) Choose(selector, value string) {
	b.T.Helper()
	b.Await(`(() => {
		const field = document.querySelector(`+strconv.Quote(selector)+`)
		if (!field) return false
		field.value = `+strconv.Quote(value)+`
		field.dispatchEvent(new Event('change', { bubbles: true }))
		return field.value === `+strconv.Quote(value)+`
	})()`, "no choice "+selector)
}

// Try asks the try bar, as by the keyboard alone: "/" leads to it, Enter asks.
func (b *Page) Try(url string) {
	b.T.Helper()
	b.Eval(`document.activeElement.blur()`)
	b.Do(chromedp.KeyEvent("/"))
	b.Await(`document.activeElement.id === 'try-url'`, "the key / does not lead to the try bar")
	b.Fill("#try-url", url) // in place of the "/" that the driver, unlike a keyboard, types all the same
	b.Do(chromedp.KeyEvent(kb.Enter))
}

// Press clicks the button or link of that name, once it is there and can be clicked. While a dialog or a menu is open,
// only what is in it counts.
func (b *Page) Press(name string) {
	b.T.Helper()
	b.Await(`(() => {
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

// Tick ticks the box whose label is or contains a text, once it is there. A box that is ticked stays so, also if the page is asked again.
func (b *Page) Tick(label string) {
	b.T.Helper()
	b.Await(`(() => {
		const wanted = `+strconv.Quote(label)+`
		const scope = document.querySelector('[role=dialog]') ?? document
		const box = [...scope.querySelectorAll('input[type=checkbox]')].find((e) => (e.getAttribute('aria-label') ?? e.closest('label')?.textContent ?? '').includes(wanted))
		if (box && !box.checked) box.click()
		return box?.checked
	})()`, "no box "+label)
}

// Caret puts the caret of the text editor on the line that holds a text.
func (b *Page) Caret(text string) {
	b.T.Helper()
	b.Await(`(() => {
		const line = [...document.querySelectorAll('.cm-line')].find((e) => e.textContent.includes(`+strconv.Quote(text)+`))
		if (!line) return false
		const { left, top } = line.getBoundingClientRect()
		for (const type of ['mousedown', 'mouseup']) {
			line.dispatchEvent(new MouseEvent(type, { bubbles: true, button: 0, detail: 1, clientX: left + 2, clientY: top + 8 }))
		}
		return true
	})()`, "no line with "+text)
}

// See waits until an element that matches the selector holds the text.
func (b *Page) See(selector, text string) {
	b.T.Helper()
	b.Await(`[...document.querySelectorAll(`+strconv.Quote(selector)+`)].some((e) => e.textContent.includes(`+strconv.Quote(text)+`))`,
		selector+" never says "+text)
}

// Gone waits until no element matches the selector.
func (b *Page) Gone(selector string) {
	b.T.Helper()
	b.Await(`document.querySelector(`+strconv.Quote(selector)+`) === null`, selector+" stays")
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

// Await waits until an expression holds in the page.
func (b *Page) Await(expression, otherwise string) {
	b.T.Helper()
	deadline := time.Now().Add(time.Minute)
	for {
		// A page that is left takes the promise with it: what follows is asked anew.
		ok, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(awaited, expression), chromedp.EvalAwaitPromise))
		if err == nil && ok {
			return
		}
		if time.Now().After(deadline) || b.ctx.Err() != nil {
			text, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
			b.Picture(filepath.Join(os.TempDir(), "widelark-e2e-failure.png"))
			b.mu.Lock()
			console := strings.Join(b.console, "\n")
			b.mu.Unlock()
			b.T.Fatalf("%s; the page says:\n%s\nand its console:\n%s", otherwise, text, console)
		}
		if err != nil {
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// Text returns the text of the first element that matches the selector, once there is one.
func (b *Page) Text(selector string) string {
	b.T.Helper()
	b.Await(`document.querySelector(`+strconv.Quote(selector)+`) !== null`, "no "+selector)
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector(`+strconv.Quote(selector)+`).textContent`))
	require.NoError(b.T, err)
	return text
}

// Texts returns what the elements that match the selector are called: by their label or, without one, their text.
func (b *Page) Texts(selector string) []string {
	b.T.Helper()
	texts, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](
		`[...document.querySelectorAll(`+strconv.Quote(selector)+`)].filter((e) => e.checkVisibility()).map((e) => (e.ariaLabel || e.textContent).trim().replace(/\s+/g, ' '))`))
	require.NoError(b.T, err)
	return texts
}

// Eval runs an expression in the page, once the elements that it asks for are there.
func (b *Page) Eval(expression string) {
	b.T.Helper()
	b.Await(`(() => {
		try {
			(`+expression+`)
		} catch (e) {
			if (e instanceof TypeError) return false
			throw e
		}
		return true
	})()`, "nothing to do this with: "+expression)
}

// Picture saves what the window shows.
func (b *Page) Picture(file string) {
	b.T.Helper()
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b.T, err)
	require.NoError(b.T, os.WriteFile(file, png, 0o644))
}

// Accessible runs the axe rules on the page as it stands.
func (b *Page) Accessible(page string) {
	b.T.Helper()
	there, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`typeof axe === 'object'`))
	require.NoError(b.T, err)
	if !there { // the page was loaded anew
		root, err := testkit.Root()
		require.NoError(b.T, err)
		source, err := os.ReadFile(filepath.Join(root, "console/node_modules/axe-core/axe.min.js"))
		require.NoError(b.T, err)
		_, err = chromedp.Run(b.ctx, chromedp.Evaluate[int](string(source)+";0"))
		require.NoError(b.T, err)
	}
	found, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]string](
		`axe.run(document, { resultTypes: ['violations'], preload: false }).then((r) => r.violations.map((v) => v.id + ': ' + v.nodes.map((n) => n.html + ' ' + n.failureSummary).join(' | ')))`, chromedp.EvalAwaitPromise))
	require.NoError(b.T, err)
	assert.Empty(b.T, found, "%s", page)
}

// Quiet fails the test where the page wrote errors or warnings.
func (b *Page) Quiet() {
	b.T.Helper()
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Empty(b.T, strings.Join(b.console, "\n"))
}

// Forget drops what the page wrote of a failure that was expected. The browser tells of it a moment after the page shows it, so Forget waits for that, for some seconds at most.
func (b *Page) Forget() {
	for end := time.Now().Add(3 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		b.mu.Lock()
		if len(b.console) > 0 || time.Now().After(end) {
			b.console = nil
			b.mu.Unlock()
			return
		}
		b.mu.Unlock()
	}
}

// SignedIn opens a page of a service, signed in.
func SignedIn(t testing.TB, s *testkit.Service) *Page {
	t.Helper()
	b := Open(t, s.URL)
	b.SignIn(testkit.Name, testkit.Password)
	return b
}

package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// browser is one tab of a browser of its own. Whatever its pages complain of,
// and every request that fails or leaves the service, fails the test.
type browser struct {
	t     testing.TB
	ctx   context.Context
	url   string
	mu    sync.Mutex
	wrong []string
	allow []string // complaints that belong to the test
}

func newBrowser(t testing.TB, url string) *browser {
	t.Helper()
	exe := "/usr/lib/chromium/chromium-headless-shell"
	if _, err := os.Stat(exe); err != nil {
		t.Fatalf("chromium is not installed: %v; run: make needs-test", err)
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(exe), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.UserDataDir(t.TempDir()))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	b := &browser{t: t, ctx: ctx, url: url}
	if err := chromedp.Do(ctx); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cancel()
		stop()
		b.mu.Lock()
		defer b.mu.Unlock()
		for _, w := range b.wrong {
			t.Errorf("the browser complains: %s", w)
		}
	})
	if err := chromedp.Listen(ctx, b.heard); err != nil {
		t.Fatal(err)
	}
	b.do(call(network.Enable, network.EnableParams{}), call(log.Enable, cdp.Empty{}),
		call(emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{Width: 1280, Height: 800, DeviceScaleFactor: 1}))
	return b
}

// call makes an action of a command of the browser's protocol.
func call[P, R any](cmd cdp.Command[P, R], params P) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, cmd, params)
		return err
	})
}

func (b *browser) heard(ev any) {
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		what := "exception: " + e.ExceptionDetails.Text
		if x := e.ExceptionDetails.Exception; x != nil {
			what += " " + x.Description + string(x.Value)
		}
		b.note(what)
	case *runtime.EventConsoleAPICalled:
		if e.Type == runtime.ConsoleAPICalledTypeError || e.Type == runtime.ConsoleAPICalledTypeWarning {
			raw, _ := json.Marshal(e.Args)
			b.note("console: " + string(raw))
		}
	case *log.EventEntryAdded:
		if e.Entry.Level == log.EntryLevelError {
			b.note("log: " + e.Entry.Text + " " + e.Entry.URL)
		}
	case *network.EventRequestWillBeSent:
		if u := e.Request.URL; !strings.HasPrefix(u, b.url) && !strings.HasPrefix(u, "data:") && !strings.HasPrefix(u, "about:") {
			b.note("a request leaves the service: " + u)
		}
	}
}

// allows takes a complaint for part of the test.
func (b *browser) allows(what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.allow = append(b.allow, what)
}

func (b *browser) note(what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, a := range b.allow {
		if strings.Contains(what, a) {
			return
		}
	}
	b.wrong = append(b.wrong, what)
}

func (b *browser) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		b.t.Fatalf("%v; %s shows\n%s", err, b.at(), b.text())
	}
}

// js asks the page for a value; the next page, where this one goes while it is asked.
func js[T any](b *browser, expression string) T {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, time.Minute)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	for err != nil && strings.Contains(err.Error(), "navigated or closed") && ctx.Err() == nil { // the page before went meanwhile
		v, err = chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	}
	if err != nil {
		b.t.Fatalf("%s: %v", expression, err)
	}
	return v
}

func (b *browser) text() string { b.t.Helper(); return js[string](b, `document.body?.innerText ?? ""`) }

func (b *browser) open(path string) { b.t.Helper(); b.do(chromedp.Navigate(b.url + path)) }

// click clicks what reads so: a link, button or summary.
func (b *browser) click(text string) {
	b.t.Helper()
	b.do(chromedp.Click(fmt.Sprintf(`//*[self::a or self::button or self::summary][contains(normalize-space(.), %q) or @aria-label=%q]`, text, text), often))
}

// often is how often a page is asked again whether it has what is waited for: oftener
// costs the pages that the tests beside this one look at.
var often = chromedp.RetryInterval(60 * time.Millisecond)

// see waits until the page shows a text.
func (b *browser) see(text string) {
	b.t.Helper()
	pause := 20 * time.Millisecond
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(pause) {
		if js[bool](b, fmt.Sprintf(`(document.body?.innerText ?? "").includes(%s)`, quoted(text))) {
			return
		}
		pause = min(pause*3/2, 150*time.Millisecond)
	}
	b.t.Fatalf("the page never shows %q, but\n%s", text, b.text())
}

// quoted is a text as a page's script has it.
func quoted(text string) string {
	raw, _ := json.Marshal(text)
	return string(raw)
}

func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(selector, often))
	b.clear(fmt.Sprintf(`document.querySelector(%q)`, selector))
	b.do(chromedp.SendKeys(selector, text, often))
}

// clear empties a field, as selecting all and deleting does.
func (b *browser) clear(element string) {
	b.t.Helper()
	js[bool](b, `(e => { e.value = ''; return e.dispatchEvent(new Event('input', {bubbles: true})) })(`+element+`)`)
}

// paste fills a field at once, as a long text is.
func (b *browser) paste(selector, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(selector, often))
	js[bool](b, fmt.Sprintf(`(e => { e.value = %q; return e.dispatchEvent(new Event('input', {bubbles: true})) })(document.querySelector(%q))`, text, selector))
}

// choose picks a value of a select.
func (b *browser) choose(selector, value string) {
	b.t.Helper()
	js[bool](b, fmt.Sprintf(`(e => { e.value = %q; return e.dispatchEvent(new Event('change', {bubbles: true})) })(document.querySelector(%q))`, value, selector))
}

func (b *browser) key(keys string) { b.t.Helper(); b.do(chromedp.KeyEvent(keys)) }

func (b *browser) signIn(user, password string) {
	b.t.Helper()
	b.allows("401")
	b.open("/")
	b.fill(`input[name=user]`, user)
	b.fill(`input[name=password]`, password)
	b.click("Sign in")
	b.do(chromedp.WaitVisible(`header nav`, often))
}

// more opens a menu and does what stands in it.
func (b *browser) more(menu, deed string) {
	b.t.Helper()
	b.click(menu)
	b.do(chromedp.Click(fmt.Sprintf(`//*[@role="menu"]//button[contains(normalize-space(.), %q)]`, deed), often))
}

// send types the name that a push asks for and sends it.
func (b *browser) send(name string) {
	b.t.Helper()
	b.fill(`input[name=confirm]`, name)
	b.do(chromedp.Click(`[aria-label="Send it"] button.button-main`, often))
}

// at is where the browser is, without the service's address.
func (b *browser) at() string {
	b.t.Helper()
	return strings.TrimPrefix(js[string](b, `location.href`), b.url)
}

func (b *browser) size(w, h int64, theme string) {
	b.t.Helper()
	b.do(call(emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{Width: w, Height: h, DeviceScaleFactor: 1, Mobile: w < 600}))
	js[string](b, fmt.Sprintf(`localStorage.setItem('theme', %[1]q); document.documentElement.dataset.theme = %[1]q`, theme))
}

// shot keeps a picture of the page where MAGPIE_SHOTS says, if it does.
func (b *browser) shot(name string) {
	b.t.Helper()
	dir := os.Getenv("MAGPIE_SHOTS")
	if dir == "" {
		return
	}
	b.do(chromedp.Sleep(400 * time.Millisecond))
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644); err != nil {
		b.t.Fatal(err)
	}
}

// clipped lists what does not fit: a page wider than its window, what reaches out of the
// window, and text that is cut off by what holds it, unless that scrolls or says so by an
// ellipsis.
func (b *browser) clipped() []string {
	b.t.Helper()
	return js[[]string](b, `(() => {
  const out = [], wide = document.documentElement.clientWidth
  const page = document.documentElement.scrollWidth - wide
  if (page > 0) out.push('the page is ' + page + ' pixels too wide')
  const scrolls = e => /auto|scroll/.test(getComputedStyle(e).overflowX)
  for (const e of document.querySelectorAll('body *')) {
    const at = e.getBoundingClientRect(), style = getComputedStyle(e)
    if (!at.width || !at.height || style.visibility === 'hidden' || e.closest('.sr-only, [aria-hidden=true], svg, select') || style.position === 'fixed') continue
    if (e.scrollWidth > e.clientWidth + 1 && /hidden|clip/.test(style.overflowX) && style.textOverflow !== 'ellipsis' && style.webkitLineClamp === 'none' && e.clientWidth)
      out.push(e.tagName + '.' + e.className + ' cuts off ' + (e.scrollWidth - e.clientWidth) + ' pixels of: ' + e.innerText.slice(0, 60))
    let holder = e.parentElement
    while (holder && !scrolls(holder)) holder = holder.parentElement
    if (!holder && at.right > wide + 1 && !e.children.length) out.push(e.tagName + ' ends ' + Math.round(at.right - wide) + ' pixels beyond the window: ' + e.innerText?.slice(0, 60))
    if (!e.children.length && e.innerText?.trim()) {
      const cell = e.closest('[role=gridcell], [role=columnheader], button, dd, dt')
      if (cell && e !== cell && !scrolls(cell)) {
        const c = cell.getBoundingClientRect()
        if (at.right > c.right + 2 && getComputedStyle(cell).overflowX === 'visible' && !e.closest('.line-clamp-2, .line-clamp-3'))
          out.push('runs ' + Math.round(at.right - c.right) + ' pixels out of its cell: ' + e.innerText.slice(0, 60))
      }
    }
  }
  return [...new Set(out)].slice(0, 8)
})()`)
}

// nameless lists what can be reached and has no name in the accessibility tree.
func (b *browser) nameless() (out []string) {
	b.t.Helper()
	tree, err := chromedp.Call(b.ctx, accessibility.GetFullAXTree, accessibility.GetFullAXTreeParams{})
	if err != nil {
		b.t.Fatal(err)
	}
	for _, n := range tree.Nodes {
		if n.Ignored || n.Role == nil {
			continue
		}
		var role, name string
		_ = json.Unmarshal(n.Role.Value, &role)
		if n.Name != nil {
			_ = json.Unmarshal(n.Name.Value, &name)
		}
		switch role {
		case "button", "link", "textbox", "searchbox", "checkbox", "combobox", "tab", "spinbutton", "region", "dialog":
			if strings.TrimSpace(name) == "" {
				out = append(out, fmt.Sprintf("%s %d", role, n.BackendDOMNodeID))
			}
		}
	}
	return out
}

// walked goes through the page by Tab alone and lists what is wrong with that: controls
// that are never reached, focus that cannot be seen (WCAG 2.2, 2.4.7) or lies under
// something (2.4.11), and what is too small to be hit (2.5.8). The bar above a page is the same on
// all: with bar it is gone through, too.
func (b *browser) walked(bar bool) (wrong []string) {
	b.t.Helper()
	total := js[int](b, fmt.Sprintf(`(() => {
  document.activeElement?.blur(); window.scrollTo(0, 0); window.getSelection().removeAllRanges()
  const root = %v ? document : document.querySelector('main')
  if (root !== document) { root.tabIndex = -1; root.focus({ preventScroll: true }) }
  const found = [...root.querySelectorAll('a[href], button, input, select, textarea, summary, [tabindex]')].filter(e => e.tabIndex >= 0 && !e.disabled &&
    e.checkVisibility({visibilityProperty: true}) && !(e.type === 'radio' && !e.checked) && !e.closest('[inert]'))
  // Of a long list its first rows stand for all.
  const few = found.slice(0, root === document ? 60 : 45)
  few.forEach(e => { e.dataset.awaited = e.innerText?.trim().split('\n')[0] || e.ariaLabel || e.name || e.tagName })
  return few.length
})()`, bar))
	for range total + 10 {
		b.do(call(input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: "rawKeyDown", Key: "Tab", Code: "Tab", WindowsVirtualKeyCode: 9}))
		fault := js[string](b, `(() => {
  const e = document.activeElement
  e?.scrollIntoViewIfNeeded(false) // a list that is still being drawn may have moved it
  if (!e || e === document.body || !('awaited' in e.dataset)) return ''
  const name = e.tagName + ' ' + e.dataset.awaited
  delete e.dataset.awaited
  const box = e.getBoundingClientRect(), style = getComputedStyle(e)
  if ((style.outlineStyle === 'none' || parseFloat(style.outlineWidth) === 0) && style.boxShadow === 'none') return name + ': nothing shows that it has focus'
  const x = Math.min(Math.max(box.left + box.width / 2, 0), innerWidth - 1), ys = [box.top + 2, box.top + box.height / 2, box.bottom - 2]
  const seen = ys.some(y => { const at = document.elementFromPoint(x, y); return at && (e.contains(at) || at.contains(e)) })
  const drawn = e.closest('figure, svg, [aria-label="What happened besides"]') // to scale, so that marks may lie on each other
  if (!seen && !drawn) return name + ': has focus and lies under something, or out of sight: ' + Math.round(box.top) + ' to ' + Math.round(box.bottom)
  // What is drawn to scale is as small as it is; a list or keys reach the same.
  const hit = e.labels?.[0]?.getBoundingClientRect() ?? box // a click on a label is one on what it names
  if (e.matches('button, input, select, [role=button]') && !drawn && ![hit, box].some(b => b.width >= 24 && b.height >= 24))
    return name + ': is ' + Math.round(hit.width) + ' by ' + Math.round(hit.height) + ' pixels'
  return ''
})()`)
		if fault != "" {
			wrong = append(wrong, fault)
		}
	}
	return append(wrong, js[[]string](b, `[...document.querySelectorAll('[data-awaited]')].filter(e => e.checkVisibility()).slice(0, 5).map(e => e.tagName + ' ' + e.dataset.awaited + ': Tab never reaches it')`)...)
}

// clickIn clicks a button that reads or is called exactly so; in a dialog, where one is open.
func clickIn(text string) chromedp.Action[chromedp.Void] {
	exact := fmt.Sprintf(`button[normalize-space(.)=%q or @aria-label=%q]`, text, text)
	return chromedp.Click(`(//*[@role="dialog"]//`+exact+` | //`+exact+`[not(//*[@role="dialog"])])[1]`, often)
}

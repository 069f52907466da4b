package testkit

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"strconv"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Page is a page in a headless browser.
type Page struct {
	t   testing.TB
	ctx context.Context
}

// patience is how long a page may take to show what it should, on a machine that is busy with other tests.
const patience = time.Minute

// Browse opens a browser window of that size. The test is skipped where no browser is installed.
func Browse(t testing.TB, width, height int) *Page {
	t.Helper()
	path, err := exec.LookPath("chromium-headless-shell") // which has no window to draw for nobody
	if err != nil {
		path, err = exec.LookPath("chromium")
	}
	if err != nil {
		t.Skip("no Chromium is installed: apt-get install chromium-headless-shell")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-prefers-reduced-motion", true))
	allocator, stop := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(stop)
	ctx, end := chromedp.NewContext(allocator)
	t.Cleanup(end)
	p := &Page{t, ctx}
	require.NoError(t, chromedp.Do(ctx)) // the browser lives as long as the context of its first action
	p.do(chromedp.EmulateViewport(int64(width), int64(height)))
	return p
}

func (p *Page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	require.NoError(p.t, chromedp.Do(ctx, steps...))
}

// Open goes to an address.
func (p *Page) Open(url string) {
	p.t.Helper()
	p.do(chromedp.Navigate(url))
}

// Eval evaluates an expression in the page.
func Eval[T any](p *Page, expression string) T {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	require.NoError(p.t, err, expression)
	return v
}

// Await waits until an expression is true, also across pages, and shows the page's text when it never is.
func (p *Page) Await(expression string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	for {
		ok, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("!!("+expression+")"))
		if ok {
			return
		}
		if ctx.Err() != nil { // any other error is that of a page that is just going away
			require.NoError(p.t, errors.Join(ctx.Err(), err), "waiting for %s on the page:\n%s", expression, Eval[string](p, text))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// text is a JavaScript expression for what the page shows; between two pages there is none.
const text = `(document.body?.innerText ?? "")`

// AwaitText waits until the page shows these words.
func (p *Page) AwaitText(words string) {
	p.t.Helper()
	p.Await(text + ".includes(" + strconv.Quote(words) + ")")
}

// control is a JavaScript expression for the form field that a label with that text belongs to, or that is labelled so itself.
func control(label string) string {
	return "([...document.querySelectorAll('input, select, textarea')].find(e => e.ariaLabel === " + strconv.Quote(
		label,
	) + ") ?? [...document.querySelectorAll('label')].find(l => l.textContent.startsWith(" + strconv.Quote(
		label,
	) + ") || l.querySelector('span')?.textContent === " +
		strconv.Quote(
			label,
		) + ")?.querySelector('input, select, textarea'))"
}

// Fill gives a field its value as a user would: the page hears of it.
func (p *Page) Fill(label, value string) {
	p.t.Helper()
	field := control(label)
	p.Await(
		field + ` && (` + field + `.tagName !== "SELECT" || [...` + field + `.options].some(o => o.value === ` + strconv.Quote(value) + `))`,
	)
	Eval[bool](p, `(() => { const f = `+field+`;
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), "value").set.call(f, `+strconv.Quote(value)+`);
		f.dispatchEvent(new Event(f.tagName === "SELECT" ? "change" : "input", { bubbles: true })); return true; })()`)
}

// Click clicks the button or link with that text or label, once it can be clicked.
func (p *Page) Click(name string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("button, a, summary, label")].find(e => (e.textContent.trim() === ` + strconv.Quote(name) +
		` || e.ariaLabel === ` + strconv.Quote(name) + `) && !e.disabled)`
	p.Await(find)
	Eval[bool](p, "(() => { "+find+".click(); return true; })()")
}

// Upload chooses a file of this computer in the only field for files, once it is there.
func (p *Page) Upload(file string) {
	p.t.Helper()
	p.Await(`document.querySelector("input[type=file]")`)
	p.do(chromedp.SetUploadFiles("input[type=file]", []string{file}))
}

// Press presses a key.
func (p *Page) Press(key string) {
	p.t.Helper()
	p.do(chromedp.KeyEvent(key))
}

// Picture writes what the window shows to a PNG file, once nothing moves in it.
func (p *Page) Picture(file string) {
	p.t.Helper()
	p.Await(`document.getAnimations().every(a => a.playState !== "running")`)
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(file, png, 0o644))
}

// Package browser_test drives the console, the sign-in pages and the stand-ins in headless Chromium, as people do.
package browser_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate/demo"
	"innergate/testbed"
	"innergate/web"
)

var browser context.Context

func TestMain(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	if chromium() == "" && os.Getenv("INNERGATE_BROWSER") != "required" {
		fmt.Println("Chromium is not installed; the browser tests are skipped")
		return 0
	}
	folder, err := os.MkdirTemp("", "innergate-chromium-")
	if err != nil {
		fmt.Println(err)
		return 1
	}
	defer os.RemoveAll(folder)
	allocator, stop := chromedp.NewExecAllocator(
		context.Background(), chromedp.ExecPath(chromium()), chromedp.UserDataDir(folder), chromedp.Headless,
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("ignore-certificate-errors", true),
		chromedp.Flag("host-resolver-rules", "MAP *.example 127.0.0.1"), chromedp.Flag("force-color-profile", "srgb"),
		chromedp.Flag("hide-scrollbars", true),
	)
	defer stop()
	first, end := chromedp.NewContext(allocator)
	defer end()
	// The browser lives as long as the context of the first call, which must have no time limit.
	if err := chromedp.Do(first); err != nil {
		fmt.Println("Chromium does not start:", err)
		return 1
	}
	browser = first
	return m.Run()
}

func chromium() string {
	for _, name := range []string{"chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// patience is how long something may take on a machine that has much else to do. What is there at once takes none of
// it.
const patience = 2 * time.Minute

// page is one tab with cookies of its own.
type page struct {
	t   testing.TB
	ctx context.Context
}

func newPage(t testing.TB) *page {
	t.Helper()
	tab, closeTab := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(closeTab)
	ctx, cancel := context.WithTimeout(tab, 6*time.Minute)
	t.Cleanup(cancel)
	p := &page{t, ctx}
	p.size(1280, 800)
	return p
}

func (p *page) size(width, height int64) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, chromedp.EmulateViewport(width, height)))
}

func (p *page) open(address string) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, chromedp.Navigate(address)))
}

// eval reads something of the page. Where the page goes away meanwhile, it is read of the one that comes.
func eval[T any](p *page, js string) T {
	p.t.Helper()
	for deadline := time.Now().Add(patience); ; time.Sleep(40 * time.Millisecond) {
		v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](js))
		if err != nil && wentAway(err) && time.Now().Before(deadline) {
			continue
		}
		require.NoError(p.t, err, "%.300s", js)
		return v
	}
}

// wentAway tells that a page was left while it was asked, and did not answer.
func wentAway(err error) bool {
	for _, text := range []string{"navigated or closed", "context was destroyed", "Cannot find context"} {
		if strings.Contains(err.Error(), text) {
			return true
		}
	}
	return false
}

// act does something with what an expression finds, in one step, as soon as it is there: between finding and doing, a
// page can't go away.
func (p *page) act(find, do string) {
	p.t.Helper()
	p.wait("(e=>e?(" + do + ",true):false)(" + find + ")")
}

// wait waits until an expression is true, and shows the page's text where it does not become so.
func (p *page) wait(js string) {
	p.t.Helper()
	deadline := time.Now().Add(patience)
	for {
		v, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("!!("+js+")"))
		if err == nil && v {
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf(
				"did not come about: %s\n%v\nat %s:\n%s", js, err, eval[string](p, "location.href"),
				eval[string](p, "document.body.innerText.slice(-2600)"),
			)
		}
		select {
		case <-p.ctx.Done():
			p.t.Fatalf("the page's time is over, waiting for %s", js)
		case <-time.After(40 * time.Millisecond):
		}
	}
}

func quote(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err)
	}
	return string(b)
}

// see waits for a text on the page.
func (p *page) see(text string) {
	p.t.Helper()
	p.wait("document.body.innerText.includes(" + quote(text) + ")")
}

// press clicks the button or link with this text, once it is there and not disabled.
func (p *page) press(text string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("button,a,summary")].find(e=>e.innerText.trim().split("\n")[0].trim()===` + quote(
		text,
	) + `&&!e.disabled&&e.offsetParent!==null)`
	p.act(find, "setTimeout(()=>e.click())") // the answer comes before the page goes
}

// field finds the control with this label.
func field(label string) string {
	return `[...document.querySelectorAll("input,textarea")].find(e=>(` +
		`[...(e.labels??[])].some(l=>l.innerText.trim()===` + quote(label) + `)||e.getAttribute("aria-label")===` + quote(label) +
		`)&&e.offsetParent!==null)`
}

// fill types into the field with this label, or chooses where it is a list.
func (p *page) fill(label, value string) {
	p.t.Helper()
	find := field(label)
	p.wait(find)
	if eval[bool](p, `(`+find+`)?.getAttribute("role")==="combobox"`) {
		p.choose(find, value)
		return
	}
	if eval[bool](p, `!!(`+find+`)?.closest(".el-input-tag")`) {
		p.list(find, strings.Fields(value))
		return
	}
	p.act(
		find,
		`(e.focus(),e.value=`+quote(
			value,
		)+`,e.dispatchEvent(new Event("input",{bubbles:true})),e.dispatchEvent(new Event("change",{bubbles:true})))`,
	)
}

// list puts these values into a field that takes several, in place of what was there.
func (p *page) list(find string, values []string) {
	p.t.Helper()
	tags := `(` + find + `).closest(".el-input-tag")`
	for eval[int](p, tags+`.querySelectorAll(".el-tag__close").length`) > 0 {
		p.act(tags+`.querySelector(".el-tag__close")`, "e.click()")
	}
	for _, v := range values {
		p.act(find, `(e.focus(),e.value=`+quote(v)+`,e.dispatchEvent(new Event("input",{bubbles:true})))`)
		p.act(find, `e.dispatchEvent(new KeyboardEvent("keydown",{key:"Enter",code:"Enter",bubbles:true}))`)
	}
}

// saved saves what changed on the page, and waits until it is.
func (p *page) saved() {
	p.t.Helper()
	p.wait(`document.querySelector(".save-bar")?.innerText.includes("not saved yet")`)
	p.press("Save")
	p.settled()
}

// settled waits until nothing on the page is unsaved.
func (p *page) settled() {
	p.t.Helper()
	p.wait(`/^(Saved|Kept|Proposed)/m.test(document.querySelector(".save-bar [role=status]")?.innerText??"")`)
}

// choose opens the list that an expression finds, and takes what begins with this text.
func (p *page) choose(find, value string) {
	p.t.Helper()
	p.act(find, `e.closest(".el-select__wrapper").click()`)
	option := `(e=>{const all=[...(document.getElementById(e?.getAttribute("aria-controls"))?.querySelectorAll("[role=option]")??[])];` +
		`return all.find(o=>o.innerText.trim()===` + quote(value) + `)??all.find(o=>o.innerText.trim().startsWith(` + quote(value) +
		`))})(` + find + `)`
	p.act(option, "e.click()")
}

// search types into the list with this label that is filled by what is searched for, and takes what begins so.
func (p *page) search(label, text, begins string) {
	p.t.Helper()
	p.act(field(label), `(e.closest(".el-select__wrapper").click(),e.focus(),e.value=`+quote(text)+
		`,e.dispatchEvent(new Event("input",{bubbles:true})))`)
	p.act(`(e=>[...(document.getElementById(e?.getAttribute("aria-controls"))?.querySelectorAll("[role=option]")??[])]`+
		`.find(o=>o.innerText.trim().startsWith(`+quote(begins)+`)))(`+field(label)+`)`, "e.click()")
}

// step opens a step of connecting.
func (p *page) step(id string) {
	p.t.Helper()
	p.click(`.steps a[href="#` + id + `"]`)
	p.wait(`document.querySelector("#` + id + ` .el-collapse-item__content")?.offsetParent`)
}

// agree presses the button of a question that the console asks before something that has a price.
func (p *page) agree(yes string) {
	p.t.Helper()
	p.act(`[...document.querySelectorAll(".el-message-box button")].find(e=>e.innerText.trim()===`+quote(yes)+
		`&&e.offsetParent!==null&&!e.closest("[class*=leave-active]"))`, "setTimeout(()=>e.click())")
}

// drop drops a file on the field that takes the other side's documents.
func (p *page) drop(name, content string) {
	p.t.Helper()
	p.act(
		`document.querySelector(".take")`,
		`(d=>(d.items.add(new File([`+quote(
			content,
		)+`],`+quote(
			name,
		)+`,{type:"text/xml"})),e.dispatchEvent(new DragEvent("drop",{dataTransfer:d,bubbles:true,cancelable:true}))))(new DataTransfer())`,
	)
}

// label types into the field that a page for people labels so.
func (p *page) label(label, value string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("label")].find(l=>l.innerText.trim()===` + quote(label) + `)?.querySelector("input,textarea")`
	p.act(find, "e.value="+quote(value))
}

// click presses what a selector finds, once it is there.
func (p *page) click(selector string) {
	p.t.Helper()
	p.act(`document.querySelector(`+quote(selector)+`)`, "setTimeout(()=>e.click())")
}

// upload chooses a file in the field with this label.
func (p *page) upload(label, name, content string) {
	p.t.Helper()
	find := `document.querySelector("[data-upload=" + ` + quote(quote(label)) + ` + "] input[type=file]")`
	p.act(
		find,
		`(d=>(d.items.add(new File([`+quote(
			content,
		)+`],`+quote(
			name,
		)+`)),e.files=d.files,e.dispatchEvent(new Event("change",{bubbles:true}))))(new DataTransfer())`,
	)
}

// signIn signs in to the console.
func (p *page) signIn(w *demo.World) {
	p.t.Helper()
	p.open(w.URL + "/console/")
	p.fill("Name", w.Name)
	p.fill("Password", w.Password)
	p.press("Sign in")
	p.see("Newest sign-ins")
}

// shot keeps a picture where INNERGATE_SHOTS names a folder.
func (p *page) shot(name string) {
	p.t.Helper()
	folder := os.Getenv("INNERGATE_SHOTS")
	if folder == "" {
		return
	}
	p.wait(`document.fonts.status==="loaded"&&document.getAnimations().every(a=>a.playState!=="running")`)
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(filepath.Join(folder, name+".png"), png, 0o600))
}

// axeSource is axe-core, which comes with the console's packages.
var axeSource = sync.OnceValues(func() (string, error) {
	b, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	return string(b), err
})

// accessibles are the pages that were held against axe-core's rules, so that each is so once.
var accessibles sync.Map

// sameness tells pages apart: by the address without identifiers, whether a dialog is open, their width and their colours.
const sameness = `[location.pathname.replace(/[^/]{20,}|\d+/g,"*"),location.search,document.querySelectorAll("[role=dialog]").length,` +
	`innerWidth,document.documentElement.className,matchMedia("(prefers-color-scheme: dark)").matches].join(" ")`

// accessible holds the page against axe-core's rules for WCAG 2.2 AA, unless one like it was so already.
func (p *page) accessible() {
	p.t.Helper()
	axe, err := axeSource()
	require.NoError(p.t, err, "axe-core comes with the console's packages: run npm ci in web")
	// What is still unfolding is judged when it is there; what turns for as long as something lasts is not waited for.
	p.wait(`document.getAnimations().every(a=>a.playState!=="running"||a.effect?.getTiming().iterations===Infinity)`)
	if _, done := accessibles.LoadOrStore(eval[string](p, sameness), true); done {
		return
	}
	for again := true; again; { // where the page went away meanwhile, it begins anew with the one that came
		if !eval[bool](p, "!!window.axe") {
			eval[bool](p, axe+";true")
		}
		// In the dark only colours differ from what was looked at in the light.
		eval[bool](p, `!window.axe||(window.__axe=null,axe.run(document,{runOnly:document.documentElement.classList.contains("dark")?`+
			`["color-contrast"]:["wcag2a","wcag2aa","wcag21a","wcag21aa","wcag22aa"],resultTypes:["violations"]})`+
			`.then(r=>{window.__axe=r.violations.map(v=>v.id+": "+v.nodes.map(n=>n.target.join(" ")+" "+`+
			`n.failureSummary.replace(/\s+/g," ")).join("; "))}),true)`)
		p.wait("window.__axe||!window.axe")
		again = eval[bool](p, "!window.__axe")
	}
	found := eval[[]string](p, "window.__axe")
	require.Empty(p.t, found, "at %s", eval[string](p, "location.pathname"))
}

// slots are the tabs that are worked in at the same time.
var slots = make(chan struct{}, 2)

// beside lets a test run beside one other.
func beside(t *testing.T) {
	t.Parallel()
	slots <- struct{}{}
	t.Cleanup(func() { <-slots })
}

func world(t testing.TB, secure bool) *demo.World {
	t.Helper()
	o := demo.Options{Folder: t.TempDir(), Console: web.Console(), Version: "test"}
	if os.Getenv("INNERGATE_LOG") != "" {
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	if secure {
		config, _, err := demo.SelfSignedTLS()
		require.NoError(t, err)
		o.TLS = config
	}
	w := testbed.World(t, o)
	return w
}

// become chooses who to be on the stand-in provider's page.
func (p *page) become(name string) {
	p.t.Helper()
	p.see("choose who you are")
	p.press(name)
}

func link(p *page) string {
	p.wait(`document.querySelector("[data-rehearse]")?.href`)
	href := eval[string](p, `document.querySelector("[data-rehearse]").href`)
	require.True(p.t, strings.Contains(href, "/rehearse/"))
	return href
}

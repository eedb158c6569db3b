package browser_test

import (
	"os"
	"strings"
	"testing"
	"time"
	"github.com/chromedp/chromedp"
)

func TestZZLook(t *testing.T) {
	if os.Getenv("LOOK_URL") == "" { t.Skip() }
	p := newPage(t)
	p.open(os.Getenv("LOOK_URL") + "/console/")
	p.see("Sign in")
	p.fill("Name", "Fenna")
	p.fill("Password", os.Getenv("LOOK_PASSWORD"))
	p.press("Sign in")
	p.see("Traces")
	dark := os.Getenv("LOOK_DARK") != ""
	for _, line := range strings.Split(strings.TrimSpace(os.Getenv("LOOK")), "\n") {
		f := strings.SplitN(line, " ", 4) // name WxH path js
		w, h := int64(1280), int64(800)
		if f[1] == "820" { w, h = 820, 1180 }
		if f[1] == "390" { w, h = 390, 844 }
		p.size(w, h)
		p.open(os.Getenv("LOOK_URL") + "/console" + f[2])
		if dark { eval[bool](p, `document.documentElement.classList.add("dark")??true`) }
		time.Sleep(900 * time.Millisecond)
		if len(f) == 4 { eval[bool](p, "("+f[3]+")??true"); time.Sleep(900 * time.Millisecond) }
		png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		if err != nil { t.Fatal(err) }
		os.WriteFile("/tmp/shots/"+f[0]+".png", png, 0o644)
	}
}

package browser_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestFirstVisitOnAPhone comes in by the page of tiles, by an application's own address, and by a deep link.
func TestFirstVisitOnAPhone(t *testing.T) {
	beside(t)
	w := world(t, true)
	for name, visit := range map[string]func(p *page){
		"by the portal": func(p *page) {
			p.open(w.URL + "/")
			p.see("Where do you have your account?")
			p.accessible()
			p.shot("portal-choose-phone")
			p.press("Saltmere Staff")
			p.become("Tamsin Kerr")
			p.see("Your applications")
			p.see("Harbour master's desk")
			p.accessible()
			p.shot("portal-phone")
			p.size(1280, 800)
			p.shot("portal")
			p.act(`[...document.querySelectorAll("button.pin")].find(e=>e.ariaLabel==="Keep Dockhand in front")`,
				"setTimeout(()=>e.click())")
			p.wait(`document.querySelector(".tile b")?.innerText==="Dockhand"`)
			p.press("Tamsin Kerr")
			p.see("Where you are signed in")
			p.see("tamsin.kerr@saltmere.example")
			p.accessible()
			p.shot("account")
			p.size(390, 844)
			p.shot("account-phone")
			p.press("Your applications")
			p.act(`[...document.querySelectorAll(".tile a")].find(e=>e.querySelector("b").innerText==="Harbour master's desk")`,
				"setTimeout(()=>e.click())")
			p.see("Good day, tkerr.")
			p.shot("berths-phone")
			assert.Equal(t, w.BerthsURL+"/harbour-master", eval[string](p, "location.href"))
			p.press("Sign out")
			p.see("You are signed out")
			p.accessible()
			p.shot("signed-out-phone")
			p.open(w.BerthsURL + "/")
			p.see("Where do you have your account?")
		},
		"by the application's address": func(p *page) {
			p.open(w.BerthsURL)
			p.see("Sign in to Berth Board")
			p.press("Northquay Stevedores")
			p.press("Ivo Tamm")
			p.see("Good day,")
			p.open(w.BerthsURL + "/harbour-master")
			p.see("This part of the application is not open to you.")
			p.accessible()
			p.shot("guard-refused-phone")
		},
		"by a deep link": func(p *page) {
			p.open(w.BerthsURL + "/boats/grey-heron?day=2026-11-27&view=list")
			p.see("Sign in to Berth Board")
			p.press("Saltmere Staff")
			p.become("Mira Voss")
			p.see("Good day, mvoss.")
			assert.Equal(t, w.BerthsURL+"/boats/grey-heron?day=2026-11-27&view=list", eval[string](p, "location.href"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPage(t)
			p.size(390, 844)
			visit(p)
		})
	}
}

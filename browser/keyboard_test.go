package browser_test

import (
	"testing"

	"innergate/client"
	"innergate/core/access"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keys presses keys one after the other, as a keyboard does.
func (p *page) keys(keys ...string) {
	p.t.Helper()
	for _, k := range keys {
		require.NoError(p.t, chromedp.Do(p.ctx, chromedp.KeyEvent(k)))
	}
}

// tabTo goes on with the tabulator key until the focus is at what is called so: by its label, its text, or what it leads
// to. What can't be reached so within a page's length can't be reached.
func (p *page) tabTo(name string) {
	p.t.Helper()
	const at = `(e=>(e.getAttribute("aria-label")||[...(e.labels??[])].map(l=>l.innerText).join(" ")||e.innerText||"")` +
		`.replace(/^[^A-Za-z]+/,""))` +
		`(document.activeElement)`
	for range 160 {
		if p.t.Failed() {
			return
		}
		p.keys(kb.Tab)
		if eval[bool](p, at+`.startsWith(`+quote(name)+`)`) {
			return
		}
	}
	p.t.Fatalf("the keyboard does not reach %q", name)
}

// TestAnApplicationIsConnectedByKeyboardAlone goes from the sign-in to an open application and never touches the mouse.
func TestAnApplicationIsConnectedByKeyboardAlone(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.open(w.URL + "/console/")
	p.see("Sign in")
	p.tabTo("Name")
	p.keys(w.Name)
	p.tabTo("Password")
	p.keys(w.Password, kb.Enter)
	p.see("What needs somebody")
	p.tabTo("Applications")
	p.keys(kb.Enter)
	p.see("What people sign in to.")
	p.tabTo("Connect an application")
	p.keys(kb.Enter)
	p.see("Begin with whatever you have")
	p.tabTo("Name")
	p.keys("Pilot Board")
	p.tabTo("Make the draft")
	p.keys(kb.Enter)
	p.see("Connect Pilot Board")

	// Its values, which are kept while they are typed.
	p.tabTo("Take theirs")
	p.keys(kb.Enter)
	p.wait(`document.activeElement.closest("#take")`)
	p.tabTo("Entity ID")
	p.keys("https://pilots.saltmere.example/sp")
	p.tabTo("ACS URLs")
	p.keys("https://pilots.saltmere.example/acs", kb.Enter)
	p.wait(`document.querySelector(".steps").innerText.includes("entity ID and ACS URL held")`)
	p.settled()

	// A rule with a step, moved to the front.
	p.tabTo("Map")
	p.unfold()
	for i, name := range []string{"uid", "mail"} {
		p.tabTo("Add a rule")
		p.keys(kb.Enter)
		n := string(rune('1' + i))
		p.wait(`document.querySelector('[aria-label="Name of rule ` + n + `"]')`)
		p.backTo("Name of rule " + n)
		p.keys(name)
		p.tabTo("Sources of rule " + n)
		p.keys(map[string]string{"uid": "preferred_username", "mail": "email"}[name])
	}
	p.tabTo("Add a step to rule 2")
	p.keys("lower", kb.Enter)
	p.wait(`document.querySelector('[aria-label="Step 1 of rule 2: lower"]')`)
	p.backTo("Move rule 2")
	p.keys(kb.ArrowUp)
	p.wait(`document.querySelector('[aria-label="Step 1 of rule 1: lower"]')`)
	p.settled()

	p.tabTo("Who gets in")
	p.unfold()
	p.tabTo("Saltmere Staff")
	p.keys(" ")
	p.tabTo("Who may come in")
	p.keys(kb.Enter, kb.ArrowDown, kb.Enter)
	p.wait(`document.querySelector(".steps").innerText.includes("saltmere-staff")`)
	p.settled()
	p.tabTo("Open")
	p.unfold()
	p.tabTo("Open for everyone")
	p.keys(kb.Enter)
	p.see("Saltmere Staff")
	p.tabTo("Do it now")
	p.keys(kb.Enter)
	p.wait(`document.querySelector(".steps").innerText.includes("everyone")`)
	p.accessible()

	a, err := w.Client().Application(t.Context(), "pilot-board")
	require.NoError(t, err)
	assert.Equal(t, access.Everyone, a.Reach)
	assert.Equal(t, access.Everybody, a.Access.To)
	assert.Equal(t, "mail", a.Mapping[0].Set)
	list, err := w.Client().Applications(t.Context(), client.Page{Search: "pilots.saltmere.example"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
}

// backTo goes back with the tabulator key until the focus is at what is called so.
func (p *page) backTo(name string) {
	p.t.Helper()
	for range 60 {
		if eval[bool](p, `(document.activeElement.getAttribute("aria-label")??"").startsWith(`+quote(name)+`)`) {
			return
		}
		require.NoError(p.t, chromedp.Do(p.ctx, chromedp.KeyEvent(kb.Tab, chromedp.KeyModifiers(chromedp.ModifierShift))))
	}
	p.t.Fatalf("the keyboard does not go back to %q", name)
}

// unfold opens the step whose head has the focus, where it is not open already.
func (p *page) unfold() {
	p.t.Helper()
	const expanded = `document.activeElement.getAttribute("aria-expanded")==="true"`
	if !eval[bool](p, expanded) {
		p.keys(kb.Enter)
	}
	p.wait(expanded)
}

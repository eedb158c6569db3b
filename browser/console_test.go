package browser_test

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"testing"

	"innergate/api"
	"innergate/client"
	"innergate/demo"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEngineersFirstMorning connects a second application from a metadata file dropped on the page, rehearses both
// flows, and reads the traces.
func TestEngineersFirstMorning(t *testing.T) {
	beside(t)
	for _, secure := range []bool{false, true} {
		name := "http on loopback"
		if secure {
			name = "TLS on host names"
		}
		t.Run(name, func(t *testing.T) {
			w := world(t, secure)
			p := newPage(t)
			p.signIn(w)
			p.press("Applications")
			p.see("Crew Rota")
			p.press("Connect an application")
			p.see("Begin with whatever you have")
			metadata, err := w.Desk.Metadata()
			require.NoError(t, err)
			p.drop("desk.xml", string(metadata))
			p.see("This was understood")
			p.see(w.DeskURL + "/acs")
			p.shot("take-theirs")
			p.press("Make the draft from it")
			p.see("Connect Ticket Desk")
			p.step("take")
			p.fill("Start address", w.DeskURL+"/sign-in")
			p.settled()
			p.step("who")
			p.act(`document.querySelector("#who input[value=saltmere-staff]")`, "e.click()")
			p.wait(`document.querySelector(".steps").innerText.includes("nobody is assigned")`)
			p.fill("Who may come in", "everybody for whom a provider vouches")
			p.settled()
			p.wait(`document.querySelector(".steps").innerText.includes("saltmere-staff")`)
			p.step("rehearse")
			p.press("Make a rehearsal link")
			href := link(p)

			tester := newPage(t)
			tester.open(href)
			tester.see("Rehearsal: sign in to Ticket Desk")
			tester.accessible()
			tester.press("Begin")
			tester.become("Zoë Öberg")
			tester.see("Ticket Desk: you are signed in")
			tester.see("persistent")
			p.wait(`document.querySelector("#rehearse").innerText.includes("signed in")`)

			// The link has one use, in one browser.
			other := newPage(t)
			other.open(href)
			other.see("This link is no longer good")

			// An unsolicited response, for Crew Rota.
			p.open(w.URL + "/console/applications/crew-rota?station=rehearse")
			p.see("IdP-initiated")
			eval[bool](p, `document.querySelector("input[value=idp]").click()??true`)
			p.press("Make a rehearsal link")
			tester = newPage(t)
			tester.open(link(p))
			tester.press("Begin")
			tester.become("Mira Voss")
			tester.see("Crew Rota: you are signed in")
			assert.Equal(t, "mvoss", eval[string](tester, `document.querySelector("#nameid").innerText`))
			assert.Equal(t, "the identity provider", eval[string](tester, `document.querySelector("#begun").innerText`))
			p.wait(`document.querySelector(".el-table")?.innerText.includes("Mira Voss")`)
			eval[bool](p, `document.querySelector(".el-table a").click()??true`)
			p.see("person at the provider")
			p.see("Exactly one assertion")
			for _, step := range []string{"receive", "match", "decide", "issue"} {
				p.see(step)
			}
			eval[bool](p, `[...document.querySelectorAll(".stop")].find(e=>e.querySelector("b").innerText==="match").click()??true`)
			p.see("urn:oid:2.16.840.1.113730.3.1.241")
			p.shot("trace-good")

			// A draft stays closed to everybody else.
			visitor := newPage(t)
			visitor.open(w.DeskURL + "/sign-in")
			visitor.see("Ticket Desk did not sign you in")
			p.open(w.URL + "/console/applications/ticket-desk/connect")
			p.see("Open for everyone")
			p.press("Open for everyone")
			p.press("Do it now")
			p.wait(`document.querySelector("#open").innerText.includes("Back to draft")`)
			visitor.open(w.DeskURL + "/sign-in")
			visitor.become("Iris Vale")
			visitor.see("Ticket Desk: you are signed in")
		})
	}
}

// TestMistakeIsExplained makes the provider name another audience and reads the explanation on the person's page and in
// the trace.
func TestMistakeIsExplained(t *testing.T) {
	beside(t)
	w := world(t, false)
	w.Staff.SetMistake("audience")
	visitor := newPage(t)
	visitor.open(w.RotaURL + "/sign-in")
	visitor.become("Mira Voss")
	visitor.see("You could not be signed in to Crew Rota")
	visitor.see("The assertion is meant for somebody else")
	reference := eval[string](visitor, `document.querySelector(".ref").innerText`)
	assert.NotContains(t, eval[string](visitor, "document.body.innerText"), "saml/sp", "the person's page shows no evidence")
	visitor.accessible()
	visitor.size(390, 844)
	visitor.shot("refused-phone")

	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/traces/" + reference)
	p.see("Copy a message for them")
	p.see("something was added at the end")
	p.see("saml.audience-mismatch")
	p.see("not reached")
	p.accessible()
	p.shot("trace-refused")

	// Two of its panels stand side by side, also for whoever gets the address.
	p.press("Pin")
	p.see("Side by side")
	p.act(`[...document.querySelectorAll("button.arrow")].find(e=>e.innerText.includes("AuthnRequest"))`, "e.click()")
	p.press("Pin")
	p.wait(`document.querySelectorAll(".pins > section").length===2`)
	p.accessible()
	p.open(eval[string](p, "location.href"))
	p.wait(`document.querySelectorAll(".pins > section").length===2`)
	eval[bool](p, `(document.querySelector(".pinned").scrollIntoView(),true)`)
	p.shot("trace-pinned")
	p.act(`document.querySelector(".pins button")`, "e.click()")
	p.wait(`document.querySelectorAll(".pins > section").length===1`)

	// The application gets the protocol's own answer when the person goes back.
	visitor.press("Go back to Crew Rota")
	visitor.see("Crew Rota did not sign you in")
}

func TestFirstAdministrator(t *testing.T) {
	beside(t)
	w := world(t, false)
	list, err := w.Gate.Console.Administrators(context.Background())
	require.NoError(t, err)
	require.Len(t, list.Items, 1)

	fresh := emptyGate(t)
	p := newPage(t)
	p.open(fresh.url + "/console/")
	p.see("There is no administrator yet")
	p.open(fresh.setup)
	p.see("Become the first administrator")
	p.accessible()
	p.fill("Name", "Fenna")
	p.fill("Password", "short")
	p.press("Set up")
	p.see("fewer than 12 characters")
	p.fill("Password", "ebb and flood tide")
	p.press("Set up")
	p.see("Begin with either side")
	p.accessible()
	p.shot("overview-empty")

	again := newPage(t)
	again.open(fresh.setup)
	again.fill("Name", "Mallory")
	again.fill("Password", "a quite long password")
	again.press("Set up")
	again.see("was used already")
}

// TestEveryPage opens each page, holds it against axe-core in light and dark, and sees that the content security policy
// stopped nothing.
func TestEveryPage(t *testing.T) {
	beside(t)
	w := world(t, false)
	visitor := newPage(t)
	visitor.open(w.RotaURL + "/sign-in")
	visitor.become("Mira Voss")
	visitor.see("you are signed in")
	list, err := w.Gate.Traces.Traces(context.Background(), page1, noFilter)
	require.NoError(t, err)
	reference := list.Items[0].Reference

	pages := []struct{ path, text, shot string }{
		{"/", "Newest sign-ins", "overview-plain"},
		{"/applications", "Weekly duty lists", "applications"},
		{"/applications/new", "Begin with whatever you have", "connect-new"},
		{"/applications/crew-rota", "displayName", "application"},
		{"/applications/crew-rota?station=application-trust", "Its metadata address", "application-trust"},
		{"/applications/crew-rota?station=access", "Back to draft", ""},
		{"/applications/crew-rota?station=rehearse", "Make a rehearsal link", "rehearse"},
		{"/applications/crew-rota?station=mapping-in", "Change it on the page", ""},
		{"/applications/crew-rota/connect", "Give ours", "connect"},
		{"/applications/crew-rota/exchange", "SSO URL", ""},
		{"/providers", "Saltmere Staff", "providers"},
		{"/providers/new", "You have only its name", ""},
		{"/providers/saltmere-staff", "Crew Rota", "provider-saml"},
		{"/providers/northquay-stevedores", "Client secrets that the provider gave us", "provider"},
		{"/providers/saltmere-staff?station=mapping-in", "urn:oid:2.5.4.42", ""},
		{"/providers/saltmere-staff/exchange", "ACS URL", ""},
		{"/traces", reference, "traces"},
		{"/traces/" + reference, "ask", "trace-saml"},
		{"/people", "Mira Voss", ""},
		{"/people/new", "A new person", ""},
		{"/groups", "Skippers.", ""},
		{"/rule-sets", "What the company's applications call roles.", ""},
		{"/people-settings", "Person types", ""},
		{"/providers/saltmere-staff?station=matching", "ferry-crew", "matching"},
		{"/providers/harbour-register", "Stands on the sign-in page", "register"},
		{"/keyring", "Certificates of partners", ""},
		{"/sources", "Add a source", ""},
		{"/templates", "Role pairs", ""},
		{"/journal", "created", "journal"},
		{"/history", "Crew Rota", ""},
		{"/files", "Seal a secret", ""},
		{"/proposals", "Nothing waits", ""},
		{"/batches", "Look at them", ""},
		{"/moves", "Plan a move", ""},
		{"/report", "Berth Board", ""},
		{"/settings", "Make a token", "settings-plain"},
		{"/nowhere", "nothing at this address", ""},
		{"/applications/nobody", "no application of this name", ""},
	}
	signIn := newPage(t)
	signIn.open(w.URL + "/console/sign-in")
	signIn.see("Console for administrators")
	signIn.accessible()
	signIn.shot("sign-in")
	const halves = 2
	for half := range halves {
		t.Run(fmt.Sprintf("part %d", half+1), func(t *testing.T) {
			t.Parallel()
			p := newPage(t)
			p.signIn(w)
			first := scripts(p)
			assert.Less(t, total(first, nil), 250e3, "the first page's scripts, compressed")
			for i := half; i < len(pages); i += halves {
				everyWay(p, w, pages[i].path, pages[i].text, pages[i].shot, first)
			}
		})
	}
}

// everyWay looks at a page in light and dark and at each width: it is accessible, nothing of it is blocked, and it is no
// wider than the screen and not too heavy.
func everyWay(p *page, w *demo.World, path, text, shot string, first map[string]float64) {
	t := p.t
	t.Helper()
	p.open(w.URL + "/console" + path)
	eval[bool](p, `(window.__blocked=[],document.addEventListener("securitypolicyviolation",e=>`+
		`window.__blocked.push(e.violatedDirective+" "+e.blockedURI)),true)`)
	shown := quote(text)
	p.wait("document.body.textContent.includes(" + shown + ") || " +
		"[...document.querySelectorAll('input,textarea')].some(i=>i.value.includes(" + shown + "))")
	assert.Less(t, total(scripts(p), first), 120e3, "what %s adds to them", path)
	for _, theme := range []string{"light", "dark"} {
		eval[bool](p, `(document.documentElement.classList.toggle("dark",`+quote(theme)+`==="dark"),true)`)
		p.wait(`document.getAnimations().every(a=>a.playState!=="running")`) // colours fade over
		p.accessible()
		require.Empty(t, eval[[]string](p, "window.__blocked"), path)
		p.shot(cmp.Or(shot, "page"+strings.NewReplacer("/", "-", "?", "-", "=", "-").Replace(path)) +
			map[string]string{"light": "", "dark": "-dark"}[theme])
	}
	eval[bool](p, `(document.documentElement.classList.remove("dark"),true)`)
	for _, width := range []int64{820, 640, 390} { // 640 is what is left of 1280 at twice the size
		p.size(width, 1180)
		assert.LessOrEqual(t, eval[int64](p, "document.documentElement.scrollWidth"), width, "%s is wider than the screen", path)
		p.accessible()
		p.shot(fmt.Sprintf("narrow-%d%s", width, strings.NewReplacer("/", "-", "?", "-", "=", "-").Replace(path)))
	}
	p.size(1280, 800)
}

// scripts are what the page has loaded of them: by address, the octets that came over the network.
func scripts(p *page) map[string]float64 {
	return eval[map[string]float64](p, `Object.fromEntries(performance.getEntriesByType("resource").filter(e=>e.name.endsWith(".js"))`+
		`.map(e=>[new URL(e.name).pathname,e.encodedBodySize]))`)
}

func total(of, without map[string]float64) (sum float64) {
	for name, octets := range of {
		if _, known := without[name]; !known {
			sum += octets
		}
	}
	return sum
}

func TestPaletteFindsAnything(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	// What is typed at once, before the field has the focus, is searched for.
	eval[bool](p, `dispatchEvent(new KeyboardEvent("keydown",{key:"k",ctrlKey:true}))`)
	p.wait(`[..."rotta"].forEach(key=>document.body.dispatchEvent(new KeyboardEvent("keydown",{key,bubbles:true})))??true`)
	p.wait(`document.querySelector(".el-dialog input")?.value==="rotta"`)
	p.fill("Name, entity ID, trace number or fingerprint", "rota")
	p.wait(`document.querySelector(".el-dialog a.on")`)
	eval[bool](p, `document.querySelector(".el-dialog input").dispatchEvent(new KeyboardEvent("keydown",{key:"Enter",bubbles:true}))`)
	p.wait(`location.pathname==="/console/applications/crew-rota"`)
}

// TestOverviewSaysWhatNeedsSomebody plants mistakes and proposes a change: both stand on the first page, the worst first, and
// lead to where they are dealt with.
func TestOverviewSaysWhatNeedsSomebody(t *testing.T) {
	beside(t)
	w := world(t, false)
	w.Staff.SetMistake("expired")
	_ = demo.NewWalker(nil).SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss") // the page below says that it was refused
	w.Staff.SetMistake("")
	_, err := w.Plant(t.Context())
	require.NoError(t, err)
	a, err := w.Client().Application(t.Context(), "dockhand")
	require.NoError(t, err)
	a.Name = "Dockhand of the piers"
	_, err = w.Client().Propose(t.Context(), api.NewProposal{Kind: "application", Slug: "dockhand", Application: &a.Application})
	require.NoError(t, err)
	p := newPage(t)
	p.signIn(w)
	p.see("What needs somebody")
	p.see("a change is proposed")
	p.accessible()
	p.shot("overview")
	p.see("1 refused today")
	p.see("refused in seven days, 0 in those before")
	p.press("Dockhand of the piers: a change is proposed")
	p.see("Dockhand of the piers")
}

// TestLeavingAsksAboutWhatIsNotSaved adds a rule and goes elsewhere: the page asks, stays when that is wanted, and loses the
// rule only on demand.
func TestLeavingAsksAboutWhatIsNotSaved(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/crew-rota?station=mapping-out")
	p.press("Add a rule")
	p.see("changed, not saved yet")
	p.press("Providers")
	p.see("What you changed here is not saved yet.")
	p.accessible()
	p.agree("Stay here")
	p.see("changed, not saved yet")
	p.press("What changes")
	p.see("mapping[4]")
	assert.Equal(t, "/console/applications/crew-rota", eval[string](p, "location.pathname"))
	p.press("Providers")
	p.agree("Leave it unsaved")
	p.see("Who vouches for people.")
}

// TestOneOfSeveralProvidersIsChosen looks at the way through the second of an application's providers.
func TestOneOfSeveralProvidersIsChosen(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/cargo-ledger?station=provider-trust")
	p.see("Trust: what is held of Saltmere Staff")
	p.press("Northquay Stevedores")
	p.see("Trust: what is held of Northquay Stevedores")
	p.see("ID token, checked with its key set")
	p.accessible()
	p.shot("passage-several")
	assert.Contains(t, eval[string](p, "location.search"), "through=northquay-stevedores")
}

// TestStoredScriptStaysText gives an application a name and description full of markup.
func TestStoredScriptStaysText(t *testing.T) {
	beside(t)
	w := world(t, false)
	a, err := w.Client().Application(context.Background(), "crew-rota")
	require.NoError(t, err)
	c := a.Application
	c.Name = `<img src=x onerror="window.__pwned=1">`
	c.Description = `"><script>window.__pwned=1</script>`
	_, err = w.Client().PutApplication(context.Background(), c, 0)
	require.NoError(t, err)
	p := newPage(t)
	p.signIn(w)
	for _, path := range []string{"/applications", "/applications/crew-rota", "/applications/crew-rota/exchange"} {
		p.open(w.URL + "/console" + path)
		p.see("<img src=x")
		assert.False(t, eval[bool](p, "!!window.__pwned"))
	}
	w.Staff.SetMistake("denied")
	p.open(w.RotaURL + "/sign-in")
	p.become("Mira Voss")
	p.see("Go back to")
	assert.False(t, eval[bool](p, "!!window.__pwned"))
}

// TestManyAreChangedAtOnce gives a tag to all applications and closes two of them, sees what each became, hides a column,
// and finds its filter again on return.
func TestManyAreChangedAtOnce(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications")
	p.see("Crew Rota")
	p.act(`document.querySelector('[aria-label="Choose all that are shown"],[aria-label="Choose all that are shown"] input')`, "e.click()")
	p.fill("Tag", "harbour")
	p.press("Add it")
	p.see("have the tag harbour")
	list, err := w.Client().Applications(t.Context(), client.Page{})
	require.NoError(t, err)
	for _, a := range list.Items {
		assert.Contains(t, a.Tags, "harbour")
	}
	for _, name := range []string{"Crew Rota", "Berth Board"} {
		p.act(`document.querySelector('[aria-label="Choose `+name+`"],[aria-label="Choose `+name+`"] input')`, "e.click()")
	}
	p.see("2 chosen")
	p.press("Close")
	p.agree("Close them")
	p.see("2 closed")
	p.fill("Reach", "closed")
	p.wait(`document.querySelectorAll("tbody tr").length === 2`)
	p.press("Columns")
	p.act(`[...document.querySelectorAll(".el-popover label")].find(e=>e.innerText.trim()==="Speaks")?.querySelector("input")`, "e.click()")
	p.wait(`![...document.querySelectorAll("th")].some(e=>e.innerText.trim()==="Speaks")`)
	p.accessible()
	p.open(w.URL + "/console/providers")
	p.see("Who vouches for people.")
	p.open(w.URL + "/console/applications")
	p.wait(`document.querySelectorAll("tbody tr").length === 2 && location.search.includes("reach=closed")`)
	assert.False(t, eval[bool](p, `[...document.querySelectorAll("th")].some(e=>e.innerText.trim()==="Speaks")`))

	// From the search the arrow goes into the list, and enter opens what it is at.
	p.act("document.body", `e.dispatchEvent(new KeyboardEvent("keydown",{key:"/",bubbles:true,cancelable:true}))`)
	p.wait(`document.activeElement?.type === "search"`)
	p.keys(kb.ArrowDown, kb.ArrowDown)
	p.wait(`document.activeElement?.matches("tbody tr:nth-child(2) a")`)
	p.keys(kb.Enter)
	p.see("Newest sign-ins")
}

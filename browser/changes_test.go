package browser_test

import (
	"strings"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/demo"
)

// speaking has the browser ask for a language.
func (p *page) speaking(language string) {
	p.t.Helper()
	_, err := chromedp.Call(
		p.ctx,
		emulation.SetUserAgentOverride,
		emulation.SetUserAgentOverrideParams{UserAgent: eval[string](p, "navigator.userAgent"), AcceptLanguage: language},
	)
	require.NoError(p.t, err)
}

// TestAPartnerHandsOverWithoutAnAccount has the engineer of Ticket Desk take our values and leave theirs, on a phone,
// in both languages.
func TestAPartnerHandsOverWithoutAnAccount(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx, c := t.Context(), w.Client()
	_, err := c.AddApplication(
		ctx,
		config.Application{
			Slug:      "ticket-desk",
			Name:      "Ticket Desk",
			Kind:      "saml",
			Contact:   "desk@saltmere.example",
			Providers: []string{"saltmere-staff"},
			Access:    access.Policy{To: access.Everybody},
			StartURL:  w.DeskURL + "/sign-in",
			SAML:      &config.SAMLApplication{SPInitiatedOnly: true},
		},
	)
	require.NoError(t, err)
	ours := newPage(t)
	ours.signIn(w)
	ours.open(w.URL + "/console/applications/ticket-desk/exchange")
	ours.fill("What you ask for", "Your metadata, please. We would like to rehearse on Tuesday.")
	ours.press("Make a link")
	ours.see("It is shown only now.")
	link := eval[string](
		ours,
		`[...document.querySelectorAll(".made .mono, .made code")].map(e=>e.innerText.trim()).find(x=>x.includes("/handover/"))`,
	)
	require.Contains(t, link, w.URL+"/handover/")

	p := newPage(t)
	p.size(390, 844)
	p.open(link)
	p.see("You need no account here.")
	p.accessible()
	p.shot("handover-first-phone")
	p.press("Open the page")
	p.see("Your metadata, please.")
	p.see("IdP entity ID")
	p.accessible()
	p.shot("handover-phone")
	p.label("What you hold", "Issuer: "+w.URL+"/saml/idp\nSSO URL: "+w.URL+"/saml/idp/sso/")
	p.click(`form[action*="/compare"] button`)
	p.see("Something differs.")
	p.accessible()
	p.shot("handover-compare-phone")
	p.label("Address, metadata or values", "this is nothing")
	p.press("See what you understand")
	p.see("not well-formed XML")
	p.label("Address, metadata or values", w.DeskURL+"/metadata")
	p.press("See what you understand")
	p.see("This is what we understood")
	p.see(w.DeskURL + "/acs")
	p.accessible()
	p.label("A remark for us", "Signed requests come from us.")
	p.press("Leave it with you")
	p.see("What you left waits for somebody here")
	p.shot("handover-left-phone")
	a, err := c.Application(ctx, "ticket-desk")
	require.NoError(t, err)
	assert.Empty(t, a.SAML.EntityID, "nothing has changed yet")

	// She tries it with her own test account, before anything was approved.
	p.press("Try a sign-in")
	p.become("Vera Lund")
	p.see("This rehearsal ends here, before the application")
	p.open(link)
	p.see("It came through")
	p.see("What the application gets")
	p.accessible()
	eval[bool](p, `(document.querySelector("#yours h3").scrollIntoView(),true)`)
	p.shot("handover-tried-phone")
	assert.NotContains(t, eval[string](p, "document.body.innerText"), w.Password)
	p.speaking("de")
	p.open(link)
	p.see("Unsere Werte")
	p.see("Wartet auf einen Blick")
	p.accessible()
	p.shot("handover-phone-de")

	// Our engineer sees what was left as a difference, and takes it.
	ours.open(w.URL + "/console/proposals")
	ours.see("the other side of Ticket Desk")
	ours.accessible()
	ours.shot("proposals")
	ours.press("Ticket Desk")
	ours.see("saml.entityId")
	ours.accessible()
	ours.shot("proposed-change")
	ours.press("Make the change now")
	ours.see("made")
	ours.wait(`!document.body.innerText.includes("Make the change now")`)
	a, err = c.Application(ctx, "ticket-desk")
	require.NoError(t, err)
	assert.Equal(t, w.DeskURL+"/saml", a.SAML.EntityID)
	ours.open(w.URL + "/console/applications/ticket-desk/exchange")
	ours.see("what was left")
	ours.accessible()
	ours.shot("handover-links")

	// The link is for three browsers. A fourth has come too late, and revoking ends it for all.
	for range 2 {
		other := newPage(t)
		other.open(link)
		other.press("Open the page")
		other.see("Your metadata, please.")
	}
	late := newPage(t)
	late.open(link)
	late.see("This link is over")
	late.open(w.URL + "/handover/made-up")
	late.see("This link is over")
	ours.press("revoke")
	ours.wait(`document.body.innerText.includes("revoked")`)
	p.open(link)
	p.see("Dieser Link ist vorbei")
	p.shot("handover-over-phone-de")
}

// TestConfigurationGoesOutIsChangedAndTakenBack walks the pages of files and history.
func TestConfigurationGoesOutIsChangedAndTakenBack(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx, c := t.Context(), w.Client()
	require.NoError(t, w.Week(ctx))
	text, err := c.ExportConfig(ctx)
	require.NoError(t, err)
	at := strings.Index(text, "slug: cargo-ledger")
	changed := text[:at] + strings.Replace(
		strings.Replace(text[at:], "to: everybody", "to: assigned", 1), "name: Cargo Ledger", "name: Cargo Book", 1,
	)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/files")
	p.fill("Or paste", strings.Replace(changed, "startUrl:", "startUlr:", 1))
	p.press("See what would happen")
	p.see(`"startUrl" is`)
	p.shot("files-wrong")
	p.fill("Or paste", changed)
	p.press("See what would happen")
	p.see("people lose access to Cargo")
	p.see("Nothing was changed yet.")
	p.accessible()
	eval[bool](p, `(document.querySelector(".result").scrollIntoView({block:"end"}),true)`)
	p.shot("files")
	p.fill("Remark", "only those who are assigned")
	p.press("Load it")
	p.see("Loaded")
	p.open(w.URL + "/console/history")
	p.see("only those who are assigned")
	p.accessible()
	p.press("access.to, name")
	p.see("What it changed")
	p.shot("history-plain")
	p.open(w.URL + "/console/history?kind=application&slug=cargo-ledger")
	p.press("made")
	p.see("From it to what holds now")
	p.press("See what bringing it back would do")
	p.see("Nothing was changed yet.")
	p.accessible()
	p.shot("history")
	p.press("Bring it back")
	p.see("Brought back")
	a, err := c.Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	assert.Equal(t, []string{"Cargo Ledger", access.Everybody}, []string{a.Name, a.Access.To})
	p.open(w.URL + "/console/journal")
	p.press("Verify the chain")
	p.see("fit one after the other")
	p.accessible()

	// A change of what is open is proposed by one and approved by another.
	p.open(w.URL + "/console/proposals")
	p.act(`document.querySelector(".el-checkbox input")`, "e.click()")
	p.wait(`document.querySelector(".el-checkbox input").checked`)
	p.open(w.URL + "/console/applications/crew-rota?station=access")
	p.see("a second person is wanted here")
	p.accessible()
	for theme, dark := range map[string]string{"": "false", "-dark": "true"} {
		eval[bool](p, `(document.documentElement.classList.toggle("dark",`+dark+`),true)`)
		p.open(w.URL + "/console/report")
		eval[bool](p, `(document.documentElement.classList.toggle("dark",`+dark+`),true)`)
		p.see("Berth Board")
		p.accessible()
		p.shot("report" + theme)
	}
}

// TestAMoveInTheConsole plans a move, opens its wave, and sees it go back.
func TestAMoveInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx := t.Context()
	clients, err := w.Fleet(ctx)
	require.NoError(t, err)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/moves")
	p.see("Nothing is being moved.")
	p.accessible()

	// Two are chosen in the list of applications, which takes them along.
	p.open(w.URL + "/console/applications?search=a")
	p.act(`document.querySelector('[aria-label="Choose Anchor Watch"],[aria-label="Choose Anchor Watch"] input')`, "e.click()")
	p.fill("Search by name or entity ID", "Jetty")
	p.act(`document.querySelector('[aria-label="Choose Jetty Lights"],[aria-label="Choose Jetty Lights"] input')`, "e.click()")
	p.see("2 chosen")
	p.accessible()
	p.shot("many")
	p.press("Move them…")
	p.see("Plan a move")
	p.see("Anchor Watch")
	p.see("Jetty Lights")
	p.fill("Name", "To the north quay")
	p.wait(`document.body.innerText.includes("Saltmere Staff")`)
	p.fill("To", "Northquay Stevedores")
	p.press("Plan it")
	p.see("Wave 1")
	for _, user := range demo.Lent[:2] {
		for _, c := range []int{0, 9} {
			require.NoError(t, w.Walker().SignIn(ctx, clients[c].Base+"/sign-in", user))
		}
	}
	p.see("2 people, 2 sign-ins")
	p.press("Open it now")
	p.see("signed in ·")
	require.NoError(t, w.Walker().SignIn(ctx, clients[0].Base+"/sign-in", "mvoss"))
	require.NoError(t, w.Walker().SignIn(ctx, clients[9].Base+"/sign-in", "zoberg"))
	p.see("Something differs for 1 person")
	p.see("quay-guest")
	p.accessible()
	p.shot("move")
	p.open(w.URL + "/console/moves")
	p.see("0 of 2")
	p.accessible()
	p.shot("moves")

	// People who try it both ways need no account either.
	_, err = w.Client().PlanWave(ctx, "to-the-north-quay", 1, api.PlanWave{})
	require.NoError(t, err)
	trial, err := w.Client().NewTrial(ctx, "to-the-north-quay", api.NewTrial{Application: "jetty-lights"})
	require.NoError(t, err)
	q := newPage(t)
	q.size(390, 844)
	q.open(trial.Link)
	q.see("First with")
	q.accessible()
	q.shot("side-by-side-phone")
	q.press("Begin")
	q.become("Callum Dunn")
	q.see("Go on to Northquay Stevedores")
	q.press("Go on to Northquay Stevedores")
	q.press("Callum Dunn")
	q.see("both sign-ins came through")
	q.accessible()

	// Many at once.
	p.open(w.URL + "/console/batches")
	p.fill("They come from", "a list in CSV")
	p.fill(
		"List",
		"name,url,providers\nTicket Desk,"+w.DeskURL+"/metadata,saltmere-staff\nLost,"+w.DeskURL+"/nowhere,saltmere-staff\nRota again,"+
			w.RotaURL+"/metadata,\nbroken line",
	)
	p.accessible()
	p.shot("batches")
	p.press("Look at them")
	p.see("1 ready")
	p.see("It is there already as Crew Rota")
	p.accessible()
	p.shot("batch")
	p.press("Make drafts of what is ready")
	p.see("1 made")
	held, err := w.Client().Application(ctx, "ticket-desk")
	require.NoError(t, err)
	assert.Equal(t, access.Draft, held.Reach)
}

// TestAnOpenIDProviderHandsOverItsSecret has the engineer of Northquay leave a client ID and a secret on a phone; our
// engineer sees that one came, and not which.
func TestAnOpenIDProviderHandsOverItsSecret(t *testing.T) {
	beside(t)
	w := world(t, false)
	h, err := w.Client().NewHandover(t.Context(), "providers", "northquay-stevedores", api.NewHandover{})
	require.NoError(t, err)
	p := newPage(t)
	p.size(390, 844)
	p.open(h.Link)
	p.press("Open the page")
	p.see("The client secret")
	p.label("The client ID that you gave us", "gate-two")
	p.act(`document.querySelector("input[name=client_secret]")`, `e.value="nq-4f9c1e7ab2d84c60-second"`)
	p.accessible()
	eval[bool](p, `(document.querySelector("#yours").scrollIntoView(),true)`)
	p.shot("handover-openid-phone")
	p.press("Leave it with you")
	p.see("with a client secret")
	require.NotContains(t, eval[string](p, "document.documentElement.outerHTML"), "4f9c1e7ab2d84c60")
	ours := newPage(t)
	ours.signIn(w)
	ours.open(w.URL + "/console/proposals")
	ours.press("Northquay Stevedores")
	ours.see("A client secret came with it.")
	ours.accessible()
	ours.shot("proposed-secret")
}

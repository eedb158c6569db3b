package browser_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
)

// TestBridgesInTheBrowser signs in over every pair of protocols, with cookies as browsers keep them and by TLS under
// host names of several sites.
func TestBridgesInTheBrowser(t *testing.T) {
	beside(t)
	w := world(t, true)
	for _, b := range []struct{ name, provider, person, app, sees string }{
		{"SAML to OpenID Connect", "Saltmere Staff", "Zoë Öberg", "Cargo Ledger", "zoe.oberg@saltmere.example"},
		{"OpenID Connect to OpenID Connect", "Northquay Stevedores", "Lene Ås", "Cargo Ledger", "lene.aas@northquay.example"},
		{"OAuth 2.0 to OpenID Connect", "Lantern Pass", "Henk Mole", "Cargo Ledger", "henk.mole@post.example"},
	} {
		t.Run(b.name, func(t *testing.T) {
			p := newPage(t)
			p.open(w.LedgerURL + "/")
			p.press("Sign in")
			p.see("Where do you have your account?")
			p.press(b.provider)
			p.become(b.person)
			p.see(b.app + ": you are signed in")
			p.see(b.sees)
		})
	}
	ctx, c := context.Background(), w.Client()
	rota, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	changed := rota.Application
	changed.Providers = []string{"saltmere-staff", "northquay-stevedores", "lantern-pass"}
	_, err = c.PutApplication(ctx, changed, 0)
	require.NoError(t, err)
	for _, b := range []struct{ name, provider, person, sees string }{
		{"SAML to SAML", "Saltmere Staff", "Mira Voss", "mvoss"},
		{"OpenID Connect to SAML", "Northquay Stevedores", "Ivo Tamm", "ivo.tamm@northquay.example"},
		{"OAuth 2.0 to SAML", "Lantern Pass", "Asta Norr", "asta.norr@post.example"},
	} {
		t.Run(b.name, func(t *testing.T) {
			p := newPage(t)
			p.open(w.RotaURL + "/")
			p.press("Sign in")
			p.press(b.provider)
			p.become(b.person)
			p.see("Crew Rota: you are signed in")
			p.see(b.sees)
		})
	}
	t.Run("by form_post on both sides", func(t *testing.T) {
		quay, err := c.Provider(ctx, "northquay-stevedores")
		require.NoError(t, err)
		byForm := quay.Provider
		byForm.OIDC.AnswerByForm = true
		_, err = c.PutProvider(ctx, byForm, 0)
		require.NoError(t, err)
		w.Ledger.Ask.Set("response_mode", "form_post")
		defer w.Ledger.Ask.Del("response_mode")
		p := newPage(t)
		p.open(w.LedgerURL + "/sign-in")
		p.press("Northquay Stevedores")
		p.become("Paul Okoro")
		p.see("Cargo Ledger: you are signed in")
	})
}

// TestPersonConfirmsATool sees the page that stands before a program on people's own machines.
func TestPersonConfirmsATool(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.size(390, 844)
	p.open(w.DockhandURL + "/")
	p.press("Sign in")
	p.become("Jonas Hale")
	p.see("Go on to Dockhand?")
	p.see("a program on this computer")
	p.accessible()
	p.shot("confirm-phone")
	p.press("Don’t go on")
	p.see("Dockhand did not sign you in")
	p.see("access_denied")
	p.press("Try again")
	p.see("Go on to Dockhand?") // and not on the way there, where a form that sends itself has such a button too
	p.press("Go on")
	p.see("Dockhand: you are signed in")
}

// TestOpenIDProviderIsConnectedInTheConsole connects Northquay Stevedores anew from nothing but its issuer, and
// rehearses it.
func TestOpenIDProviderIsConnectedInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx, c := context.Background(), w.Client()
	p := newPage(t)
	p.signIn(w)
	p.press("Providers")
	p.press("Connect a provider")
	p.fill("Take theirs", w.NorthquayURL)
	p.press("Understand it")
	p.see("This was understood")
	p.see(w.NorthquayURL + "/token")
	p.accessible()
	p.shot("take-issuer")
	p.press("Make the draft from it")
	p.see("OpenID Connect provider")
	p.see("Our client ID at the provider is missing")
	list, err := c.Providers(ctx, client.Page{Limit: 50})
	require.NoError(t, err)
	slug := ""
	for _, x := range list.Items {
		if x.Reach == access.Draft && x.OIDC != nil {
			slug = x.Slug
		}
	}
	require.NotEmpty(t, slug)
	// The other side registers us with what the sheet says.
	w.Northquay.Clients[0].RedirectURIs = append(w.Northquay.Clients[0].RedirectURIs, w.URL+"/oidc/callback/"+slug)
	p.press("Values, field by field")
	p.fill("Our client ID there", "saltmere-gate")
	p.saved()
	p.see("Our client secret at")
	p.fill("The secret", "this-is-not-the-right-one")
	p.press("Store it")
	p.press("Try this secret")
	p.see("refused")
	p.fill("The next secret", w.Northquay.Clients[0].Secret)
	p.press("Store it as the next one")
	p.see("Switch to it")
	eval[bool](p, `[...document.querySelectorAll("button")].filter(b=>b.innerText.trim()==="Try this secret")[1].click()??true`)
	p.see("takes the secret")
	p.accessible()
	p.shot("secrets")
	p.press("Switch to it")
	p.wait(`!document.body.innerText.includes("Switch to it")`)
	p.open(w.URL + "/console/providers/" + slug + "?station=matching")
	p.fill("A subject that nobody here is", "is created at the first sign-in")
	p.saved()
	ledger, err := c.Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	changed := ledger.Application
	changed.Providers = append(changed.Providers, slug)
	_, err = c.PutApplication(ctx, changed, 0)
	require.NoError(t, err)
	r, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "cargo-ledger", Provider: slug, Flow: "sp"})
	require.NoError(t, err)
	tester := newPage(t)
	tester.open(r.Link)
	tester.press("Begin")
	tester.become("Lene Ås")
	tester.see("Cargo Ledger: you are signed in")
	r, err = c.Rehearsal(ctx, r.ID)
	require.NoError(t, err)
	require.Len(t, r.Traces, 1)
	p.open(w.URL + "/console/traces/" + r.Traces[0].Reference)
	p.see("Token request")
	p.see("Token response")
	p.press("Token response")
	p.see("not shown")
	p.accessible()
	p.shot("trace")
	text := eval[string](p, "document.body.innerText")
	assert.NotContains(t, text, w.Northquay.Clients[0].Secret)
	assert.NotContains(t, text, w.Ledger.Secret)
}

// TestOpenIDApplicationIsConnectedInTheConsole makes a client from its own metadata, gives it a secret, and looks at
// its sheet.
func TestOpenIDApplicationIsConnectedInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.press("Applications")
	p.press("Connect an application")
	p.drop(
		"client.json",
		`{"client_name":"Tide Archive","redirect_uris":["https://archive.example/answer"],`+
			`"post_logout_redirect_uris":["https://archive.example/"],"client_uri":"https://archive.example/",`+
			`"policy_uri":"https://archive.example/privacy","scope":"openid profile email"}`,
	)
	p.see("This was understood")
	p.press("Make the draft from it")
	p.see("Connect Tide Archive")
	p.press("Make a secret")
	p.see("Copy it now; it is shown once.")
	secret := eval[string](p, `document.querySelector(".fresh .mono, .fresh code, .fresh pre").innerText.trim()`)
	assert.True(t, strings.HasPrefix(secret, "igs_"), secret)
	p.press("Make a second one")
	p.see("Two are the most")
	p.accessible()
	p.press("Whole exchange sheet")
	p.see("Discovery URL")
	p.see("tide-archive")
	p.accessible()
	p.shot("exchange-openid")
	assert.NotContains(t, eval[string](p, "document.body.innerText"), secret, "no sheet holds a secret")
	p.open(w.URL + "/console/applications/cargo-ledger?station=application-trust")
	p.see("Client secrets that it holds")
	p.accessible()
	p.shot("application-openid")
	for _, path := range []string{"/console/applications", "/console/providers"} {
		p.open(w.URL + path)
		p.see("OpenID Connect")
		p.accessible()
	}
}

// TestAdministratorComesInThroughAProvider gives a role by a rule, signs in with it, and takes the rule away again.
func TestAdministratorComesInThroughAProvider(t *testing.T) {
	beside(t)
	w := world(t, false)
	owner := newPage(t)
	owner.signIn(w)
	owner.open(w.URL + "/console/settings")
	owner.see("Nobody comes in through a provider yet")
	owner.fill("For whom this provider vouches", "Saltmere Staff")
	owner.fill("has the value", "ferry-office")
	owner.fill("gets the role", "engineer:")
	owner.press("Add the rule")
	owner.see("groups = ferry-office")
	owner.accessible()
	owner.shot("settings")
	office, crew := newPage(t), newPage(t)
	office.open(w.URL + "/console/")
	office.see("Sign in with Saltmere Staff")
	office.accessible()
	office.shot("sign-in-console")
	office.press("Sign in with Saltmere Staff")
	office.become("Tamsin Kerr")
	office.see("Newest sign-ins")
	office.see("Tamsin Kerr")
	crew.open(w.URL + "/console/")
	crew.press("Sign in with Saltmere Staff")
	crew.become("Rowan Pike")
	crew.see("You may not look after this gate")
	owner.press("Take away")
	owner.agree("Take it away")
	owner.see("Nobody comes in through a provider yet")
	office.open(w.URL + "/console/applications")
	office.see("Password")
}

package server_test

import (
	"context"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"innergate/core/config"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/demo"
	"innergate/gate/ground"
)

// change changes an application's configuration through the API.
func change(t testing.TB, w *demo.World, f func(*config.Application)) {
	t.Helper()
	a, err := w.Client().Application(context.Background(), "crew-rota")
	require.NoError(t, err)
	c := a.Application
	f(&c)
	_, err = w.Client().PutApplication(context.Background(), c, a.Revision)
	require.NoError(t, err)
}

func changeProvider(t testing.TB, w *demo.World, f func(*config.Provider)) {
	t.Helper()
	p, err := w.Client().Provider(context.Background(), "saltmere-staff")
	require.NoError(t, err)
	c := p.Provider
	f(&c)
	_, err = w.Client().PutProvider(context.Background(), c, p.Revision)
	require.NoError(t, err)
}

// asked makes a request in Crew Rota's name.
func asked(w *demo.World, f func(*saml.Asked)) saml.Asked {
	s := saml.Asked{Issuer: saml.EntityID(w.Rota.EntityID()), Destination: w.URL + "/saml/idp/sso", ACS: w.Rota.ACS(), Now: time.Now()}
	f(&s)
	return s
}

// ask sends it by HTTP-POST, as a form of another site.
func ask(t testing.TB, w *demo.World, f func(*saml.Asked)) *demo.Walker {
	t.Helper()
	_, doc, err := saml.NewAuthnRequest(asked(w, f), nil)
	require.NoError(t, err)
	b := demo.NewWalker(nil)
	require.NoError(
		t,
		b.Post(context.Background(), w.URL+"/saml/idp/sso", url.Values{"SAMLRequest": {saml.EncodePost(doc)}, "RelayState": {"week 47"}}),
	)
	return b
}

func TestRequestByPost(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	change(t, w, func(a *config.Application) { a.SAML.RequireSignedRequests = false })
	b := ask(t, w, func(*saml.Asked) {})
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.Contains(t, b.Text, "SAMLResponse")
	require.NoError(t, b.Onward(ctx))
	// The application did not send this request itself and says so; the gate answered it.
	assert.Contains(t, b.Text, "we did not send the request")
	x := newest(t, w)
	assert.Equal(t, "signed-in", x.Outcome)
	assert.Equal(t, "HTTP-POST", x.Entries[0].Message.Binding)
	assert.Equal(t, "week 47", x.Entries[0].Message.RelayState)
}

// TestWishesAreAnswered sends wishes that can't be met: the application gets the protocol's own error at once.
func TestWishesAreAnswered(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	change(t, w, func(a *config.Application) { a.SAML.RequireSignedRequests = false })
	zero := 0
	for _, c := range []struct {
		name string
		ask  func(*saml.Asked)
		code string
		says string
	}{
		{"passive, without a session", func(s *saml.Asked) { s.IsPassive = true }, "saml.status-no-passive", "NoPassive"},
		{"another NameID format", func(s *saml.Asked) { s.NameIDFormat = saml.FormatEmail }, "saml.nameid-policy", "InvalidNameIDPolicy"},
		{"no further provider", func(s *saml.Asked) { s.ProxyCount = &zero }, "saml.proxy-refused", "ProxyCountExceeded"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := ask(t, w, c.ask)
			require.NoError(t, b.Onward(ctx))
			assert.Contains(t, b.Text, c.says)
			assert.Equal(t, c.code, newest(t, w).Code)
		})
	}
	// A stronger context than the provider proves is refused when its answer comes.
	b := ask(t, w, func(s *saml.Asked) {
		s.RequestedContext = &saml.RequestedContext{Comparison: "exact", Classes: []string{"urn:oasis:names:tc:SAML:2.0:ac:classes:X509"}}
	})
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "saml.context-not-proven", newest(t, w).Code)
	// A subject that differs from the one asked for.
	b = ask(t, w, func(s *saml.Asked) { s.Subject = &saml.NameID{Value: "mvoss"} })
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"jhale"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "saml.subject-differs", newest(t, w).Code)
}

func TestEveryWayOfSigningAndEncrypting(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	for _, sign := range []string{"assertion", "response", "both"} {
		for _, encrypt := range []string{"", "assertion"} {
			for _, binding := range []string{"HTTP-Redirect", "HTTP-POST"} {
				change(t, w, func(a *config.Application) { a.SAML.Sign, a.SAML.Encrypt = sign, encrypt })
				changeProvider(t, w, func(p *config.Provider) { p.SAML.RequestBinding = binding })
				b := demo.NewWalker(nil)
				require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))
				assert.Equal(t, "zoberg", b.Inner("nameid"), "%s %s %s: %s", sign, encrypt, binding, b.Text)
			}
		}
	}
	change(t, w, func(a *config.Application) { a.SAML.Encrypt, a.SAML.ContentEncryption = "assertion", xmlsig.AES128GCM })
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))
	assert.Equal(t, "zoberg", b.Inner("nameid"))
	x := newest(t, w)
	assert.Contains(t, x.Entries[len(x.Entries)-1].Opened, "zoberg", "the trace shows what was encrypted")
}

func TestStrangersAreRefused(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	known := demo.NewWalker(nil)
	require.NoError(t, known.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	changeProvider(t, w, func(p *config.Provider) { p.Admission = "refuse" })
	again := demo.NewWalker(nil)
	require.NoError(t, again.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "mvoss", again.Inner("nameid"), "who is known stays known")
	stranger := demo.NewWalker(nil)
	require.NoError(t, stranger.SignIn(ctx, w.RotaURL+"/sign-in", "jhale"))
	assert.Equal(t, "match.stranger", newest(t, w).Code)
	// The same identifier from another provider is another person.
	changeProvider(t, w, func(p *config.Provider) { p.SAML.NameIDFormat = saml.FormatTransient })
	transient := demo.NewWalker(nil)
	require.NoError(t, transient.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "match.transient", newest(t, w).Code)
}

// TestChoiceOfProviders gives the application a second provider and lets the person choose.
func TestChoiceOfProviders(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	p, err := w.Client().Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	second := p.Provider
	second.Slug, second.Name = "harbour-staff", "Harbour Staff"
	copied := *second.SAML
	copied.EntityID += "/other"
	second.SAML = &copied
	_, err = w.Client().AddProvider(ctx, second)
	require.NoError(t, err)
	change(t, w, func(a *config.Application) { a.Providers = []string{"saltmere-staff", "harbour-staff"} })
	b := demo.NewWalker(nil)
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	require.Contains(t, b.Text, "Where do you have your account?")
	other := demo.NewWalker(nil)
	form := b.Find(func(n *html.Node) bool { return n.Data == "form" })
	require.NoError(t, other.Post(ctx, w.URL+attribute(form, "action"), url.Values{"provider": {"saltmere-staff"}}))
	assert.Equal(t, "browser.lost", newest(t, w).Code, "the choice belongs to its browser")
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"saltmere-staff"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "mvoss", b.Inner("nameid"), b.Text)
	// An answer of one provider at another's address.
	b = demo.NewWalker(nil)
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"saltmere-staff"}}))
	require.NoError(t, b.Onward(ctx))
	w.Staff.Forget()
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	values := url.Values{}
	for n := range b.Find(func(n *html.Node) bool { return n.Data == "form" }).Descendants() {
		if n.Type == html.ElementNode && n.Data == "input" {
			values.Set(attribute(n, "name"), attribute(n, "value"))
		}
	}
	require.NoError(t, b.Post(ctx, w.URL+"/saml/sp/harbour-staff/acs", values))
	assert.Equal(t, "saml.other-provider", newest(t, w).Code)
	require.NoError(t, b.Submit(ctx, nil))
	assert.Contains(t, b.Text, "did not sign you in")
	assert.Contains(t, b.Text, "AuthnFailed")
}

func TestReachActsAtOnce(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	b := atProvider(t, w, "mvoss")
	require.NoError(t, w.Client().SetReach(ctx, "applications", "crew-rota", "closed"))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "reach.application-closed", newest(t, w).Code, "also for who is on the way")
	require.NoError(t, w.Client().SetReach(ctx, "applications", "crew-rota", "everyone"))
	require.NoError(t, w.Client().SetReach(ctx, "providers", "saltmere-staff", "closed"))
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "reach.provider-closed", newest(t, w).Code)
}

// TestJournalIsWhole changes a few things and walks the chain of hashes.
func TestJournalIsWhole(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	change(t, w, func(a *config.Application) { a.Description = "Duty lists." })
	require.NoError(t, w.Client().SetReach(ctx, "applications", "crew-rota", "closed"))
	verdict, err := w.Gate.VerifyJournal(ctx, "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole, verdict.Broken)
	assert.GreaterOrEqual(t, verdict.Lines, int64(7))
	lines, err := w.Gate.Journal(ctx, ground.System, page1, "")
	require.NoError(t, err)
	assert.Equal(t, "changed", lines.Items[0].Action)
	assert.Equal(t, "token demo", lines.Items[0].Who)
	assert.True(t, strings.Contains(lines.Items[0].After, `"closed"`) && strings.Contains(lines.Items[0].Before, `"everyone"`))
}

// TestHostHeaderIsNotBelieved: addresses that are handed out come from the public URL alone.
func TestHostHeaderIsNotBelieved(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	doc, err := w.Gate.Exchange.OurMetadata(ctx, "", "", false)
	require.NoError(t, err)
	_, body := send(t, hostClient("evil.example", w.URL), "GET", "http://evil.example/saml/idp/metadata", "", "")
	assert.NotContains(t, body, "evil.example")
	assert.Contains(t, string(doc), w.URL)
}

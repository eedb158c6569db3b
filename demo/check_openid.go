package demo

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"innergate/client"
)

// checkBridges signs in over every pair of protocols: what a provider says in one of them is understood by an
// application that speaks another.
func checkBridges(ctx context.Context, w *World, step func(string, ...any)) error {
	for _, b := range []struct{ provider, user, words, name, mail string }{
		{"saltmere-staff", "mvoss", "SAML to OpenID Connect", "Mira Voss", "mira.voss@saltmere.example"},
		{"northquay-stevedores", "lene.aas", "OpenID Connect to OpenID Connect", "Lene Ås", "lene.aas@northquay.example"},
		{"lantern-pass", "70047", "OAuth 2.0 to OpenID Connect", "Henk Mole", "henk.mole@post.example"},
	} {
		walker := w.Walker()
		walker.Provider = b.provider
		if err := walker.SignIn(ctx, w.LedgerURL+"/sign-in", b.user); err != nil {
			return err
		}
		if walker.Inner("claim-email") != b.mail || walker.Inner("claim-name") != b.name || walker.Inner("subject") == "" {
			return fmt.Errorf("%s: Cargo Ledger should have received %s:\n%s", b.words, b.mail, strings.TrimSpace(walker.Text))
		}
		if err := newestHeld(ctx, w); err != nil {
			return fmt.Errorf("%s: %w", b.words, err)
		}
		step("%s: Cargo Ledger received %s", b.words, b.mail)
	}
	for _, b := range []struct{ provider, user, words, nameid string }{
		{"northquay-stevedores", "ivo.tamm", "OpenID Connect to SAML", "ivo.tamm@northquay.example"},
		{"lantern-pass", "70012", "OAuth 2.0 to SAML", "70012@lantern.example"},
	} {
		if err := w.throughProvider(ctx, "crew-rota", b.provider, func() error {
			walker := w.Walker()
			if err := walker.SignIn(ctx, w.RotaURL+"/sign-in", b.user); err != nil {
				return err
			}
			if walker.Inner("nameid") != b.nameid {
				return fmt.Errorf("%s: Crew Rota should have received %s:\n%s", b.words, b.nameid, strings.TrimSpace(walker.Text))
			}
			return newestHeld(ctx, w)
		}); err != nil {
			return err
		}
		step("%s: Crew Rota received %s", b.words, b.nameid)
	}
	return nil
}

// throughProvider lets an application use one provider alone for a while.
func (w *World) throughProvider(ctx context.Context, app, provider string, do func() error) error {
	c := w.Client()
	a, err := c.Application(ctx, app)
	if err != nil {
		return err
	}
	before, changed := a.Application, a.Application
	changed.Providers = []string{provider}
	if _, err := c.PutApplication(ctx, changed, 0); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	_, err = c.PutApplication(ctx, before, 0)
	return err
}

// newestHeld sees that the newest sign-in ended well and that each of its checks held.
func newestHeld(ctx context.Context, w *World) error {
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil {
		return err
	}
	if len(list.Items) != 1 || list.Items[0].Outcome != "signed-in" {
		return fmt.Errorf("the newest trace should be of a sign-in that ended well: %+v", list.Items)
	}
	t, err := w.Client().Trace(ctx, list.Items[0].Reference)
	if err != nil {
		return err
	}
	for _, e := range t.Entries {
		if e.Check != nil && !e.Check.OK {
			return fmt.Errorf("the check %s did not hold", e.Check.Name)
		}
	}
	return nil
}

// checkTool signs in to the command-line tool: on a loopback port that nobody has registered, after the person has
// confirmed it.
func checkTool(ctx context.Context, w *World, step func(string, ...any)) error {
	walker := w.Walker()
	if err := walker.SignIn(ctx, w.DockhandURL+"/sign-in", "jhale"); err != nil {
		return err
	}
	if walker.Inner("claim-preferred_username") != "jhale" {
		return fmt.Errorf("the tool Dockhand should be signed in as jhale:\n%s", strings.TrimSpace(walker.Text))
	}
	step("Dockhand, a command-line tool, is signed in on its loopback address, after the person has confirmed it")
	return nil
}

// checkStrength has Cargo Ledger demand more than a provider can prove.
func checkStrength(ctx context.Context, w *World, step func(string, ...any)) error {
	defer func() { w.Ledger.Ask = url.Values{} }()
	for _, c := range []struct {
		ask            url.Values
		provider, code string
	}{
		{url.Values{"prompt": {"none"}}, "", "login_required"},
		{url.Values{"claims": {`{"id_token":{"acr":{"essential":true,"values":["harbour-gold"]}}}`}}, "northquay-stevedores",
			"unmet_authentication_requirements"},
		{url.Values{"max_age": {"0"}}, "lantern-pass", "unmet_authentication_requirements"},
	} {
		w.Ledger.Ask = c.ask
		walker := w.Walker()
		walker.Provider = c.provider
		if err := walker.SignIn(ctx, w.LedgerURL+"/sign-in", "lene.aas"); err != nil {
			return err
		}
		if strings.HasSuffix(w.URL, "//"+walker.Address.Host) { // the gate's own page, with the way back to the application
			back := walker.Link("Go back to Cargo Ledger")
			if back == "" {
				return fmt.Errorf("the page should lead back to Cargo Ledger:\n%s", walker.Text)
			}
			if err := walker.Get(ctx, back); err != nil {
				return err
			}
		}
		if !strings.Contains(walker.Text, "the provider answered "+c.code) {
			return fmt.Errorf("with %v Cargo Ledger should have been told %s:\n%s", c.ask, c.code, strings.TrimSpace(walker.Text))
		}
	}
	step("what a provider can't prove is an error at the application, never dropped")
	return nil
}

// checkOpenIDRefusal has the provider make mistakes and sees that they are explained.
func checkOpenIDRefusal(ctx context.Context, w *World, step func(string, ...any)) error {
	defer w.Northquay.SetMistake("")
	for _, c := range []struct{ mistake, code string }{{"audience", "oidc.audience"}, {"client-expired", "oidc.client-secret-expired"},
		{"userinfo-subject", "oidc.userinfo-subject"}} {
		w.Northquay.SetMistake(c.mistake)
		walker := w.Walker()
		walker.Provider = "northquay-stevedores"
		if err := walker.SignIn(ctx, w.LedgerURL+"/sign-in", "paul.okoro"); err != nil {
			return err
		}
		list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
		if err != nil {
			return err
		}
		if len(list.Items) != 1 || list.Items[0].Code != c.code {
			return fmt.Errorf("the mistake %s should be refused as %s: %+v", c.mistake, c.code, list.Items)
		}
	}
	step("an ID token for another client, an expired secret and another's UserInfo are refused and explained")
	return nil
}

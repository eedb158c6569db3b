package demo

import (
	"context"
	"fmt"
	"strings"

	"innergate/client"
	contexts "innergate/core/bridge"
	"innergate/core/saml"
	"innergate/standin"
)

// newestSays holds the newest trace against an outcome and a code.
func (w *World) newestSays(ctx context.Context, outcome, code string) error {
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil {
		return err
	}
	if len(list.Items) != 1 || list.Items[0].Outcome != outcome || list.Items[0].Code != code {
		return fmt.Errorf("the newest trace should be %s %s: %+v", outcome, code, list.Items)
	}
	return nil
}

// checkContexts signs in to Crew Rota while it demands a context, as many applications do, through a provider that says none: it is refused
// until the provider's table says what its sign-ins stand for.
func checkContexts(ctx context.Context, w *World, step func(string, ...any)) error {
	before := w.Rota.Habits()
	defer w.Rota.Behave(before)
	w.Rota.Behave(standin.ApplicationHabits{Context: saml.ContextPassword})
	try := func() (*Walker, error) {
		walker := w.Walker()
		err := walker.SignIn(ctx, w.RotaURL+"/sign-in", "lene.aas")
		return walker, err
	}
	return w.throughProvider(ctx, "crew-rota", "northquay-stevedores", func() error {
		if _, err := try(); err != nil {
			return err
		}
		if err := w.newestSays(ctx, "refused", "oidc.context-unmet"); err != nil {
			return err
		}
		step("Crew Rota demands a context that Northquay Stevedores does not say: refused and explained")
		c := w.Client()
		p, err := c.Provider(ctx, "northquay-stevedores")
		if err != nil {
			return err
		}
		before, changed := p.Provider, p.Provider
		changed.Contexts = []contexts.Meaning{{Means: saml.ContextPassword}}
		if _, err := c.PutProvider(ctx, changed, 0); err != nil {
			return err
		}
		walker, err := try()
		if err != nil {
			return err
		}
		if walker.Inner("nameid") == "" {
			return fmt.Errorf("the application Crew Rota should have received somebody:\n%s", strings.TrimSpace(walker.Text))
		}
		step("with a line in the provider's table of contexts Crew Rota gets what it demands")
		_, err = c.PutProvider(ctx, before, 0)
		return err
	})
}

// checkUnsignedLogout has Crew Rota sign out without a signature.
func checkUnsignedLogout(ctx context.Context, w *World, step func(string, ...any)) error {
	before := w.Rota.Habits()
	defer w.Rota.Behave(before)
	w.Rota.Behave(standin.ApplicationHabits{Context: before.Context, UnsignedLogout: true})
	walker := w.Walker()
	if err := walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"); err != nil {
		return err
	}
	if err := walker.Get(ctx, w.RotaURL+"/sign-out"); err != nil {
		return err
	}
	if err := w.newestSays(ctx, "refused", "saml.logout-unsigned"); err != nil {
		return err
	}
	if !strings.Contains(walker.Text, "Sign out here") {
		return fmt.Errorf("the page should offer to sign out at the gate:\n%s", strings.TrimSpace(walker.Text))
	}
	step("an unsigned LogoutRequest is refused, explained, and there is a way to sign out all the same")
	return nil
}

// checkUnfetchedCode has Cargo Ledger never come for its tokens.
func checkUnfetchedCode(ctx context.Context, w *World, step func(string, ...any)) error {
	w.Ledger.LeaveCodes(true)
	defer w.Ledger.LeaveCodes(false)
	walker := w.Walker()
	walker.Provider = "saltmere-staff"
	if err := walker.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"); err != nil {
		return err
	}
	if err := w.newestSays(ctx, "waiting", ""); err != nil {
		return err
	}
	step("Cargo Ledger got a code and does not come for its tokens: the trace does not say that somebody signed in")
	return nil
}

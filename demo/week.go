package demo

import (
	"context"
	"math/rand/v2"
	"time"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
)

// Week makes a week of sign-ins, good and bad, as they would have been: the clocks of the gate and of the stand-ins go
// back, and come forward with each of them. Where there are sign-ins already it does nothing.
func (w *World) Week(ctx context.Context) error {
	held, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil || len(held.Items) > 0 {
		return err
	}
	defer w.back.Store(0)
	defer w.Staff.SetMistake("")
	defer w.Northquay.SetMistake("")
	r := rand.New(rand.NewPCG(7, 1923)) // the same week each time
	now := time.Now()
	for day := 7; day >= 1; day-- {
		for _, hour := range []int{5, 6, 7, 8, 12, 13, 17, 20} {
			at := now.Add(-time.Duration(day)*24*time.Hour + time.Duration(hour)*time.Hour + time.Duration(r.IntN(50))*time.Minute)
			w.back.Store(int64(now.Sub(at)))
			user, address, provider := people[r.IntN(len(people))].user, w.RotaURL, ""
			if r.IntN(3) == 0 {
				address, provider = w.LedgerURL, "saltmere-staff"
			}
			switch {
			case day == 3 && hour >= 12 && hour <= 13: // the company's provider was set up anew, and named another audience for two hours
				w.Staff.SetMistake("audience")
			case day == 5 && hour == 8:
				w.Staff.SetMistake("expired")
			case day == 2 && hour == 20:
				w.Staff.SetMistake("no-attributes")
			default:
				w.Staff.SetMistake("")
			}
			b := w.Walker()
			b.Provider = provider
			_ = b.SignIn(ctx, address+"/sign-in", user) // a refusal is what some of them are for
			if err := ctx.Err(); err != nil {
				return err
			}
		}
	}
	return nil
}

// Mistake is one that was planted for a newcomer to find.
type Mistake struct{ Try, Hint string }

// Plant makes five mistakes that real engineers make, and says how to meet each of them.
func (w *World) Plant(ctx context.Context) ([]Mistake, error) {
	c := w.Client()
	rota, err := c.Application(ctx, "crew-rota")
	if err != nil {
		return nil, err
	}
	a := rota.Application
	for i := range a.SAML.ACS {
		a.SAML.ACS[i].Location += "/" // entered by hand, with a slash too many
	}
	a.SAML.Metadata = nil
	if _, err := c.PutApplication(ctx, a, 0); err != nil {
		return nil, err
	}
	ledger, err := c.Application(ctx, "cargo-ledger")
	if err != nil {
		return nil, err
	}
	l := ledger.Application
	l.OIDC.RedirectURIs = []string{w.LedgerURL + "/callback"} // a guess, instead of what the client sends
	if _, err := c.PutApplication(ctx, l, 0); err != nil {
		return nil, err
	}
	desk, err := c.Understand(ctx, "application", "", api.TakeIn{URL: w.DeskURL + "/metadata"})
	if err != nil {
		return nil, err
	}
	d := *desk.App
	d.Slug, d.Name, d.Providers = "ticket-desk", "Ticket Desk", []string{"saltmere-staff"}
	d.Reach, d.StartURL, d.Access = access.Everyone, w.DeskURL+"/", access.Policy{To: access.Assigned} // nobody is
	if _, err := c.AddApplication(ctx, d); err != nil {
		return nil, err
	}
	north, err := c.Provider(ctx, "northquay-stevedores")
	if err != nil {
		return nil, err
	}
	n := north.Provider
	n.OIDC.Issuer += "/" // entered by hand; the provider calls itself without
	if _, err := c.PutProvider(ctx, n, 0); err != nil {
		return nil, err
	}
	w.Lantern.SetSecret(clientID, "a text that the provider changed without a word")
	return []Mistake{
		{
			w.RotaURL + "/sign-in, as anybody",
			"Crew Rota",
		}, {w.LedgerURL + "/sign-in", "Cargo Ledger"}, {w.DeskURL + "/sign-in, as anybody", "Ticket Desk"},
		{
			"Cargo Ledger through Northquay Stevedores, once its own mistake is mended",
			"Northquay Stevedores",
		}, {"Cargo Ledger through Lantern Pass", "Lantern Pass"},
	}, nil
}

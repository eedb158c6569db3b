package demo

import (
	"context"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/standin"
)

// clientID is the gate's at the demo's OpenID providers.
const clientID = "saltmere-gate"

// openidStandins starts the providers and applications that speak OpenID Connect and OAuth 2.0.
func (w *World) openidStandins(o Options) error {
	var err error
	if w.Northquay, err = standin.NewOpenID("Northquay Stevedores", w.NorthquayURL, stevedores()); err != nil {
		return err
	}
	if w.Lantern, err = standin.NewOpenID("Lantern Pass", w.LanternURL, travellers()); err != nil {
		return err
	}
	w.Lantern.Plain = true
	w.Northquay.Clients = []standin.Registered{{ID: clientID, RedirectURIs: []string{w.URL + "/oidc/callback/northquay-stevedores"}}}
	w.Lantern.Clients = []standin.Registered{
		{
			ID:           clientID,
			SecretID:     "7c1b6f0e-52d7-4c1c-9d36-0a4be5f1b9c2",
			Method:       "client_secret_post",
			RedirectURIs: []string{w.URL + "/oidc/callback/lantern-pass"},
		},
	}
	w.Ledger, w.Dockhand = standin.NewClient("Cargo Ledger", w.LedgerURL), standin.NewClient("Dockhand", w.DockhandURL)
	w.Ledger.ID, w.Dockhand.ID, w.Dockhand.Tool = "cargo-ledger", "dockhand", true
	w.LedgerAccounts = standin.NewAccounts(w.LedgerURL+"/scim/v2", "")
	for _, c := range []*standin.Client{w.Ledger, w.Dockhand} {
		c.Issuer, c.Transport, c.Recorder = w.URL, w.transport, o.Recorder
		if o.Now != nil {
			c.Now = o.Now
		}
	}
	for _, p := range []*standin.OpenID{w.Northquay, w.Lantern} {
		p.Recorder = o.Recorder
		if o.Now != nil {
			p.Now = o.Now
		}
		w.closers = append(w.closers, p.Close)
	}
	stop, err := w.Dockhand.Listen()
	if err != nil {
		return err
	}
	w.closers = append(w.closers, stop)
	return nil
}

// secrets hands the client secrets over: those of the providers to the gate, the gate's to Cargo Ledger.
func (w *World) secrets(ctx context.Context) error {
	given := map[string]string{
		"northquay-stevedores": w.Northquay.Clients[0].Secret, "lantern-pass": w.Lantern.Clients[0].Secret,
		"harbour-office": w.Office.Secret,
	}
	service, err := w.quaysideService()
	if err != nil {
		return err
	}
	if given["quayside-desk"], err = w.Quayside.Keytab(service); err != nil {
		return err
	}
	for slug, secret := range given {
		held, err := w.Gate.Partners.Secrets(ctx, "provider", slug)
		if err != nil {
			return err
		}
		if len(held.Items) > 0 {
			continue
		}
		if _, err := w.Gate.Partners.KeepSecret(ctx, ground.System, slug, api.TheirSecret{Value: secret}); err != nil {
			return err
		}
	}
	if w.Ledger.Secret != "" {
		return nil
	}
	held, err := w.Gate.Partners.Secrets(ctx, "application", "cargo-ledger")
	if err != nil {
		return err
	}
	for _, s := range held.Items {
		if err := w.Gate.Partners.DeleteSecret(ctx, ground.System, "application", "cargo-ledger", s.ID); err != nil {
			return err
		}
	}
	made, err := w.Gate.Partners.NewSecret(ctx, ground.System, "cargo-ledger", api.NewSecret{Days: 365})
	if err != nil {
		return err
	}
	w.Ledger.Secret = made.Secret
	return nil
}

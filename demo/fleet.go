package demo

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"
	"time"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/standin"
)

// fleetNames are the small applications of the company's boats.
var fleetNames = []string{
	"Anchor Watch",
	"Bilge Log",
	"Chart Room",
	"Deck Stores",
	"Engine Hours",
	"Fender Count",
	"Gangway Pass",
	"Hawser Book",
	"Ice Report",
	"Jetty Lights",
}

// Lent are people of Saltmere Staff who have an account at Northquay Stevedores as well, by user name.
var Lent = []string{"mvoss", "zoberg", "cdunn"}

// Fleet adds ten small OpenID Connect applications, to which people sign in with Saltmere Staff, and gives some of the
// staff accounts at Northquay Stevedores: a company that is about to move from one provider to the other. The first
// five get mail address and name of a person; the others groups as well, and these are called otherwise at Northquay.
func (w *World) Fleet(ctx context.Context) ([]*standin.Client, error) {
	if err := w.lend(ctx); err != nil {
		return nil, err
	}
	var out []*standin.Client
	for i, name := range fleetNames {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		c := standin.NewClient(name, "http://"+l.Addr().String())
		c.ID, c.Issuer, c.Transport = config.Slug(name), w.URL, w.transport
		s := &http.Server{Handler: c.Handler(), ReadHeaderTimeout: 10 * time.Second}
		w.closers = append(w.closers, func() { s.Close() })
		go s.Serve(l) // ends with Close
		a := config.Application{
			Slug:        c.ID,
			Name:        name,
			Description: "A small application of the boats.",
			Contact:     "fleet@saltmere.example",
			Tags:        []string{"fleet"},
			Kind:        config.KindOIDC,
			Reach:       access.Everyone,
			Providers:   []string{"saltmere-staff"},
			Access:      access.Policy{To: access.Everybody},
			StartURL:    c.Base + "/sign-in",
			OIDC: &config.OIDCApplication{
				ClientID:       c.ID,
				RedirectURIs:   []string{c.Base + "/answer"},
				PostLogoutURIs: []string{c.Base + "/signed-out"},
				Scopes:         []string{"openid", "profile", "email"},
			},
			Mapping: claims.Mapping{{Set: "email", From: claims.Names{"email"}}, {Set: "given_name", From: claims.Names{"given_name"}}},
		}
		c.Scopes = a.OIDC.Scopes
		if i >= len(fleetNames)/2 {
			a.OIDC.Scopes = append(a.OIDC.Scopes, "groups")
			a.Mapping = append(a.Mapping, claims.Rule{Set: "groups", From: claims.Names{"groups"}})
			c.Scopes = a.OIDC.Scopes
		}
		held, err := w.Gate.Checkups.Application(ctx, c.ID)
		switch {
		case err != nil: // it is not there yet
			_, err = w.Gate.Configuration.SaveApplication(ctx, ground.System, "", a, 0)
		default:
			a.Providers = held.Providers
			_, err = w.Gate.Configuration.SaveApplication(ctx, ground.System, c.ID, a, 0)
		}
		if err != nil {
			return nil, fmt.Errorf("%s can't be connected: %w", name, err)
		}
		old, err := w.Gate.Partners.Secrets(ctx, "application", c.ID)
		if err != nil {
			return nil, err
		}
		for _, s := range old.Items {
			if err := w.Gate.Partners.DeleteSecret(ctx, ground.System, "application", c.ID, s.ID); err != nil {
				return nil, err
			}
		}
		made, err := w.Gate.Partners.NewSecret(ctx, ground.System, c.ID, api.NewSecret{Days: 30})
		if err != nil {
			return nil, err
		}
		c.Secret = made.Secret
		out = append(out, c)
	}
	return out, nil
}

// lend gives people of the staff accounts at Northquay Stevedores, and has the gate find them by their mail address.
func (w *World) lend(ctx context.Context) error {
	for _, p := range people {
		if slices.Contains(Lent, p.user) &&
			!slices.ContainsFunc(w.Northquay.People, func(x standin.Person) bool { return x.ID == p.user }) {
			w.Northquay.People = append(
				w.Northquay.People,
				standin.Person{
					ID:   p.user,
					Name: p.given + " " + p.family,
					Role: p.role + ", lent",
					Claims: map[string]any{
						"given_name":     p.given,
						"family_name":    p.family,
						"email":          p.mail,
						"email_verified": true,
						"roles":          []string{"quay-guest"},
					},
				},
			)
		}
	}
	held, err := w.Gate.Checkups.Provider(ctx, "northquay-stevedores")
	if err != nil {
		return err
	}
	p := held.Provider
	if slices.Contains(p.Matching.Domains, "saltmere.example") {
		return nil
	}
	matching := *p.Matching
	matching.Domains = append(slices.Clone(matching.Domains), "saltmere.example")
	p.Matching = &matching
	_, err = w.Gate.Configuration.SaveProvider(ctx, ground.System, p.Slug, p, 0)
	return err
}

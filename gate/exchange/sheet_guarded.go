package exchange

import (
	"context"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/jose"
	"innergate/core/sheet"
	"innergate/gate/partners"
)

// guardedSheet is what the engineer of an application behind the gate needs from us.
func (g *Room) guardedSheet(ctx context.Context, a *partners.Application) (*api.ExchangeSheet, error) {
	o := a.Guarded
	s := &api.ExchangeSheet{
		Title:      "For the engineer of " + a.Name,
		Role:       "The gate stands in front of " + a.Name + ": people reach it through the gate alone.",
		Metadata:   o.PublicURL,
		Attributes: []api.SheetAttribute{},
		Downloads:  []api.Download{},
	}
	s.Values = []api.Value{
		link("Public address", "where people open the application; its name must lead to the gate", o.PublicURL, "public"),
		note(
			"Who may reach the application", "",
			"only the gate: whoever reaches an inner address by another way can claim to be anybody. Close it to all other hosts.",
		),
	}
	for _, u := range o.Upstreams {
		s.Values = append(s.Values, link("Inner address", "where the gate sends what it lets through", u, "upstream"))
	}
	carried := "header"
	switch o.Pass {
	case config.PassNothing:
		s.Values = append(s.Values, note("Identity", "", "none is passed on"))
	case config.PassHeaders:
		s.Values = append(
			s.Values,
			note("Identity", "", "in the headers below; what a browser sends under their names, in any spelling, is taken away"),
		)
	case config.PassToken:
		carried = "claim"
		s.Values = append(
			s.Values,
			text(
				"Header with the signed token",
				"a JWT, good for a minute; check signature, issuer, audience, expiry, and that typ is "+jose.TypeGuard,
				o.TokenHeaderName(), "token-header",
			),
			link("Issuer", "the claim iss", g.partners.Issuer(), "issuer"),
			text("Audience", "the claim aud", o.PublicURL, "audience"),
			link(
				"Key set (JWKS)", "the keys that sign tokens, the next one already among them",
				g.PublicURL+"/oidc/keys", "jwks",
			),
			text("Signature", "the algorithm to expect, and no other", jose.ES256, "algorithm"),
		)
	case config.PassBasic:
		s.Values = append(
			s.Values,
			note(
				"Identity", "",
				"as HTTP basic credentials: the user name that the mapping sets as username, and the password that the gate keeps",
			),
		)
	}
	host := "the application's own (the inner address)"
	if o.KeepHost {
		host = "the public one"
	}
	s.Values = append(
		s.Values,
		note("Host header", "", host),
		note(
			"Where people are", "",
			"X-Forwarded-For is the person's network address, X-Forwarded-Host and X-Forwarded-Proto are of the public address",
		),
	)
	if o.SignOutPath != "" {
		s.Values = append(s.Values, text("Path that signs out", "the gate takes it; link to it", o.SignOutPath, "sign-out"))
	}
	s.Values = append(
		s.Values,
		link("Start address", "begins a sign-in as the tile does; for links on other pages", g.StartLocation(a.Slug), ""),
	)
	if o.Pass != config.PassNothing {
		for _, r := range a.Whole {
			if r.Set == "" {
				continue
			}
			s.Attributes = append(
				s.Attributes,
				api.SheetAttribute{Name: r.Set, NameFormat: carried, Required: r.Required, Meaning: sheet.MeaningOf(r), Sample: r.Sample()},
			)
		}
	}
	s.Steps = stepsFor(s, a.Steps)
	s.Markdown = sheetText(s, "We pass on")
	var err error
	s.HandedOut, err = g.handOuts(ctx, "application", a.ID, factsOf(s))
	return s, err
}

package exchange

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/oidc"
	"innergate/core/sheet"
	"innergate/gate/partners"
)

func text(name, hint, value, field string) api.Value {
	return api.Value{Name: name, Hint: hint, Value: value, Kind: "text", Field: field}
}

// note is something to know, which nobody copies.
func note(name, hint, value string) api.Value {
	return api.Value{Name: name, Hint: hint, Value: value, Kind: "note"}
}

func link(name, hint, value, field string) api.Value {
	return api.Value{Name: name, Hint: hint, Value: value, Kind: "url", Field: field}
}

// clientSheet is what the engineer of an OpenID Connect application needs from us.
func (g *Room) clientSheet(ctx context.Context, a *partners.Application) (*api.ExchangeSheet, error) {
	o := a.OIDC
	offered, err := g.grants.Discovery(ctx)
	if err != nil {
		return nil, err
	}
	s := &api.ExchangeSheet{
		Title:      "For the engineer of " + a.Name,
		Role:       "We are the OpenID provider (OP); " + a.Name + " is the client (relying party).",
		Metadata:   oidc.DiscoveryURL(g.partners.Issuer()),
		Attributes: []api.SheetAttribute{},
	}
	s.Values = []api.Value{
		link(
			"Issuer", "also called authority, provider URL; most libraries need nothing but this and the client",
			g.partners.Issuer(), "issuer",
		),
		link("Discovery URL", "also called metadata address, well-known configuration", s.Metadata, "discovery"),
		text("Client ID", "also called application ID", o.ClientID, "client-id"),
		text("Client authentication", "how the client proves who it is at the token endpoint", o.Authentication, "method"),
	}
	if o.HasSecret() {
		s.Values = append(
			s.Values,
			note(
				"Client secret", "",
				"handed over apart from this sheet; it is shown only once, when it is made on the application's page",
			),
		)
	}
	s.Values = append(
		s.Values,
		link("Authorization endpoint", "also called sign-in URL", offered.Authorization, "authorization"),
		link("Token endpoint", "also called access token URL", offered.Token, "token"),
		link("UserInfo endpoint", "also called profile URL", offered.UserInfo, "userinfo"),
		link(
			"Key set (JWKS)",
			"the keys that sign tokens, the next one already among them; fetch it again when a token names a key that you do not hold",
			offered.Keys, "jwks",
		),
		link("End session endpoint", "also called logout URL", offered.EndSession, "end-session"),
	)
	if o.DeviceGrant {
		s.Values = append(s.Values, link("Device authorization endpoint", "for signing in on another device", offered.Device, "device"))
	}
	if o.Introspection {
		s.Values = append(s.Values, link("Introspection endpoint", "tells about an access token", offered.Introspection, "introspection"))
	}
	for _, u := range o.RedirectURIs {
		s.Values = append(
			s.Values,
			link("Redirect URI that we hold", "also called callback, return address; compared letter by letter", u, "redirect"),
		)
	}
	for _, u := range o.PostLogoutURIs {
		s.Values = append(s.Values, link("Post-logout redirect URI that we hold", "compared letter by letter", u, "post-logout"))
	}
	s.Values = append(
		s.Values,
		text(
			"Scopes",
			"ask for these and no more: each asks for what is named below, and what is not asked for is not handed on",
			sheet.ScopesText(o.Scopes), "scopes",
		),
		note("Flow", "response_type=code", "authorization code with PKCE (S256); no other flow is given"),
		text("ID token signature", "the algorithm to expect, and no other", o.Algorithm, "algorithm"),
		note(
			"Subject",
			"the claim sub",
			map[string]string{"pairwise": "random, stable, different at each application",
				"public": "random, stable, the same at every application", "profile": "the profile's " + a.Subject.From}[a.Subject.Source],
		),
		link("Start address", "begins a sign-in as the tile does; for links on other pages", g.StartLocation(a.Slug), ""),
		link(
			"Sign-out address",
			"a plain address to which people are sent when they have signed out, without any protocol",
			g.PublicURL+"/sign-out", "",
		),
	)
	for _, r := range a.Whole {
		meaning := sheet.MeaningOf(r)
		scope := sheet.ScopeOf(r.Set)
		if scope != "" && !slices.Contains(o.Scopes, scope) {
			meaning += fmt.Sprintf(" (not sent: the client may not have the scope %s)", scope)
		}
		s.Attributes = append(
			s.Attributes,
			api.SheetAttribute{Name: r.Set, NameFormat: scope, Required: r.Required, Meaning: meaning, Sample: r.Sample()},
		)
	}
	s.Downloads = []api.Download{
		{Name: "Discovery document", Hint: "JSON", URL: s.Metadata, File: g.Host() + "-openid-configuration.json"},
		{Name: "Key set", Hint: "JSON", URL: offered.Keys, File: g.Host() + "-jwks.json"},
	}
	s.Steps = stepsFor(s, a.Steps)
	s.Markdown = sheetText(s, "We send")
	s.HandedOut, err = g.handOuts(ctx, "application", a.ID, factsOf(s))
	return s, err
}

// openidSheet is what a provider's engineer needs to register us as a client.
func (g *Room) openidSheet(ctx context.Context, p *partners.Provider) (*api.ExchangeSheet, error) {
	c := p.OIDC
	s := &api.ExchangeSheet{
		Title:      "For the engineer of " + p.Name,
		Role:       "We are the client (relying party); " + p.Name + " is the OpenID provider (OP).",
		Metadata:   g.CallbackLocation(p.Slug),
		Attributes: []api.SheetAttribute{},
	}
	if p.Kind == config.KindOAuth2 {
		s.Role = "We are the client; " + p.Name + " is the authorization server."
	}
	s.Values = []api.Value{
		link("Redirect URI", "also called callback, return address; enter it exactly so", g.CallbackLocation(p.Slug), "redirect"),
		text("Display name", "what people see there", "Inner Gate of "+g.Host(), "name"),
		text("Host", "where a form wants only the domain", g.Host(), "host"),
		link("Home page", "where a form wants one", g.PublicURL+"/", "home"),
		link("Privacy policy", "where a form wants one", g.PublicURL+"/about/privacy", "privacy"),
		link("Terms of service", "where a form wants them", g.PublicURL+"/about/terms", "terms"),
		note("Application type", "also called client type", "web application, confidential client"),
		note("Flow", "also called grant type, response type", "authorization code (response_type=code) with PKCE (S256)"),
		text("Client authentication", "how we prove who we are at the token endpoint", c.Method(), "method"),
		text(
			"Scopes",
			"what we ask for; nothing more is needed, and a provider that reviews scopes need review no others",
			cmpText(sheet.ScopesText(p.AskedScopes()), "none"), "scopes",
		),
	}
	if c.ClientID != "" {
		s.Values = append(s.Values, text("Client ID that we hold", "as you gave it to us", c.ClientID, "client-id"))
	}
	if c.Method() == oidc.AuthPrivateKey {
		s.Values = append(
			s.Values,
			link(
				"Our key set (JWKS)", "the keys that sign our client assertions, the next one already among them",
				g.PublicURL+"/oidc/callback/"+p.Slug+"/keys", "jwks",
			),
		)
	}
	if p.Kind == config.KindOIDC {
		s.Values = append(
			s.Values,
			link(
				"Post-logout redirect URI", "where you send people when they have signed out",
				g.signout.SignedOutLocation(p.Slug), "post-logout",
			),
			link(
				"Back-channel logout URI", "where you tell us that somebody has signed out",
				g.CallbackLocation(p.Slug)+"/logout", "back-channel",
			),
		)
	}
	s.Values = append(
		s.Values,
		link(
			"Sign-out address",
			"a plain address to which people are sent when they have signed out, without any protocol",
			g.PublicURL+"/sign-out", "",
		),
	)
	profile := claims.Sample()
	for _, r := range p.Whole {
		if len(r.From) == 0 {
			continue
		}
		meaning := claims.InWords(r.Set)
		if len(r.From) > 1 {
			meaning += ", or as " + strings.Join(r.From[1:], ", ")
		}
		s.Attributes = append(
			s.Attributes,
			api.SheetAttribute{
				Name:       r.From[0],
				NameFormat: sheet.ScopeOf(r.From[0]),
				Required:   r.Required,
				Meaning:    meaning,
				Sample:     profile.First(r.Set),
			},
		)
	}
	s.Downloads = []api.Download{}
	s.Steps = stepsFor(s, p.Steps)
	s.Markdown = sheetText(s, "We want")
	var err error
	s.HandedOut, err = g.handOuts(ctx, "provider", p.ID, factsOf(s))
	return s, err
}

func cmpText(value, other string) string {
	if value == "" {
		return other
	}
	return value
}

// factsOf lists what a partner learns from a sheet and may hold on to.
func factsOf(s *api.ExchangeSheet) []sheet.Fact {
	var out []sheet.Fact
	for _, v := range s.Values {
		if v.Field != "" {
			out = append(out, sheet.Fact{Name: v.Name, Value: v.Value})
		}
	}
	return out
}

// SheetFacts lists what a sheet hands out, and to whom.
func (g *Room) SheetFacts(ctx context.Context, kind, slug string) ([]sheet.Fact, string, error) {
	if kind == "application" {
		if a, err := g.partners.Application(ctx, slug); err == nil && a.OIDC != nil {
			s, err := g.clientSheet(ctx, a)
			if err != nil {
				return nil, "", err
			}
			return factsOf(s), a.ID, nil
		} else if err == nil && a.Guarded != nil {
			s, err := g.guardedSheet(ctx, a)
			if err != nil {
				return nil, "", err
			}
			return factsOf(s), a.ID, nil
		}
	} else if p, err := g.partners.Provider(ctx, slug); err == nil && p.OIDC != nil {
		s, err := g.openidSheet(ctx, p)
		if err != nil {
			return nil, "", err
		}
		return factsOf(s), p.ID, nil
	}
	entity, approval, _, err := g.ourEntity(ctx, kind, slug)
	if err != nil {
		return nil, "", err
	}
	return sheet.HandedOut(entity), approval.Owner(), nil
}

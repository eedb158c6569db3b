package watch

import (
	"fmt"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/takein"
	"innergate/gate/ground"
)

const wellKnown = "/.well-known/openid-configuration"

func nothingUnderstood() *api.Understood {
	return &api.Understood{Entities: []api.EntityChoice{}, Problems: []saml.Problem{}, Proposed: map[string]string{}}
}

// understandOpenID reads a discovery document for a provider, new or held.
func (g *Room) understandOpenID(p config.Provider, text []byte, issuer string) (*api.Understood, error) {
	u := nothingUnderstood()
	u.Role = "op"
	if o, err := jose.ReadObject(text); err == nil && (o.Has("redirect_uris") || o.Has("keys")) {
		what := "a client's metadata; it belongs to an application"
		if o.Has("keys") {
			what = "a key set; its address belongs into the field for the key set, and the discovery document names it"
		}
		u.Problems = append(u.Problems, saml.Problem{Code: "oidc.wrong-document", Message: "This is " + what + ".", Fatal: true})
		return u, nil
	}
	before := difference.Flat(p)
	expected := issuer
	if strings.ContainsAny(issuer, "{}") {
		expected = ""
	}
	d, remarks, err := oidc.ReadDiscovery(text, "")
	if err == nil && expected != "" && d.Issuer != expected && !strings.ContainsAny(d.Issuer, "{}") {
		err = explain.New(explain.OIDCDiscoveryIssuer, explain.Pair("issuer", expected, d.Issuer))
	}
	if err != nil {
		u.Problems = append(u.Problems, takein.ProblemOf(err))
		return u, nil
	}
	for _, r := range remarks {
		u.Problems = append(u.Problems, saml.Problem{Code: r.Code, Message: r.Detail})
	}
	u.Chosen = d.Issuer
	if p.OIDC == nil {
		p.OIDC = &config.OIDCProvider{}
	}
	s := p.OIDC
	if p.SAML != nil && p.SAML.EntityID != "" || p.Kind == config.KindOAuth2 {
		u.Problems = append(
			u.Problems,
			saml.Problem{
				Code: "oidc.other-kind",
				Message: fmt.Sprintf(
					"This is the discovery document of an OpenID provider, and %s is set up to speak another protocol. Add it as a "+
						"new provider.",
					p.Name,
				),
				Fatal: true,
			},
		)
		return u, nil
	}
	p.Kind, p.SAML = config.KindOIDC, nil
	if p.Name == "" {
		p.Name = address.Host(d.Issuer)
		p.Slug = config.Slug(p.Name)
		u.Proposed["name"] = p.Name
	}
	s.Issuer, s.AuthorizationEndpoint, s.TokenEndpoint, s.UserInfoEndpoint, s.KeysURL, s.EndSessionEndpoint = d.Issuer, d.Authorization,
		d.Token, d.UserInfo, d.Keys, d.EndSession
	s.IssuerInAnswer, s.AuthMethods = d.IssuerInAnswer, slices.DeleteFunc(
		slices.Clone(d.AuthMethods),
		func(m string) bool { return len(m) > 100 },
	)
	if strings.ContainsAny(d.Issuer, "{}") && expected != "" && len(s.AcceptedIssuers) == 0 {
		s.AcceptedIssuers = []string{expected}
		u.Proposed["oidc.acceptedIssuers"] = expected
	}
	if len(p.Mapping) == 0 {
		p.Mapping = claims.IncomingOIDC()
	}
	if err := p.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	u.Provider, u.Changes = &p, ground.Changes(before, difference.Flat(p))
	return u, nil
}

// understandClient reads a client's own metadata (RFC 7591) for an application, new or held.
func (g *Room) understandClient(a config.Application, text []byte) (*api.Understood, error) {
	u := nothingUnderstood()
	u.Role = "rp"
	if o, err := jose.ReadObject(text); err == nil && o.Has("authorization_endpoint") {
		u.Problems = append(
			u.Problems,
			saml.Problem{
				Code: "oidc.wrong-document",
				Message: "This is the discovery document of an OpenID provider; here an application's values are needed. Did you mean " +
					"to add it on the other side?",
				Fatal: true,
			},
		)
		return u, nil
	}
	before := difference.Flat(a)
	c, err := takein.ClientMetadata(text)
	if err != nil {
		u.Problems = append(u.Problems, takein.ProblemOf(err))
		return u, nil
	}
	if a.SAML != nil && a.SAML.EntityID != "" {
		u.Problems = append(
			u.Problems,
			saml.Problem{
				Code: "oidc.other-kind",
				Message: fmt.Sprintf(
					"This is the metadata of an OpenID Connect client, and %s is set up to speak SAML. Add it as a new application.",
					a.Name,
				),
				Fatal: true,
			},
		)
		return u, nil
	}
	if a.OIDC == nil {
		if a.Name != "" {
			c.Name, c.Slug = a.Name, a.Slug
		}
		c.Reach, c.Providers, c.StartURL, c.Description, c.Contact, c.Tags = a.Reach, a.Providers, a.StartURL, a.Description, a.Contact,
			a.Tags
		a = *c
	} else {
		// What we chose stays: client ID, consent, what it may do.
		n, s := c.OIDC, a.OIDC
		if len(s.RedirectURIs) == 0 && len(n.Scopes) > 0 {
			s.Scopes = n.Scopes // nobody chose them yet
		}
		s.RedirectURIs, s.PostLogoutURIs, s.Keys, s.KeysURL, s.Native = n.RedirectURIs, n.PostLogoutURIs, n.Keys, n.KeysURL, n.Native
		s.HomePage, s.Privacy, s.Terms, s.InitiateLogin, s.BackChannelLogout, s.FrontChannelLogout, s.SectorIdentifier = n.HomePage,
			n.Privacy, n.Terms, n.InitiateLogin, n.BackChannelLogout, n.FrontChannelLogout, n.SectorIdentifier
		if n.Authentication != "" {
			s.Authentication = n.Authentication
		}
		if n.Algorithm != "" {
			s.Algorithm = n.Algorithm
		}
	}
	if a.StartURL == "" && len(a.OIDC.RedirectURIs) > 0 && !a.OIDC.Native {
		if root := address.Origin(a.OIDC.RedirectURIs[0]); root != "" {
			a.StartURL, a.GuessedStart = root+"/", root+"/"
			u.Proposed["startUrl"] = a.StartURL
		}
	}
	if err := a.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	u.Chosen = a.OIDC.ClientID
	u.App, u.Changes = &a, ground.Changes(before, difference.Flat(a))
	return u, nil
}

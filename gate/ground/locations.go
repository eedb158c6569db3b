package ground

import (
	"net/url"
	"strings"

	"innergate/core/saml"
)

// IDPEntityID is our entity ID towards applications.
func (g *Ground) IDPEntityID() saml.EntityID { return saml.EntityID(g.PublicURL + "/saml/idp") }

// SPEntityID is our entity ID towards providers.
func (g *Ground) SPEntityID() saml.EntityID { return saml.EntityID(g.PublicURL + "/saml/sp") }

// SSOLocation is our address for AuthnRequests.
func (g *Ground) SSOLocation() string { return g.PublicURL + "/saml/idp/sso" }

// ACSLocation is our address for a provider's responses.
func (g *Ground) ACSLocation(provider string) string {
	return g.PublicURL + "/saml/sp/" + provider + "/acs"
}

// StartLocation is our address at which an application is begun as from a tile.
func (g *Ground) StartLocation(application string) string {
	return g.PublicURL + "/start/" + application
}

// Secure tells whether people come by TLS, as far as the public URL says.
func (g *Ground) Secure() bool { return strings.HasPrefix(g.PublicURL, "https://") }

// Host is the gate's host name.
func (g *Ground) Host() string {
	if u, err := url.Parse(g.PublicURL); err == nil {
		return u.Hostname()
	}
	return g.PublicURL
}

// CallbackLocation is our redirect URI at a provider. Each provider has one of its own, so that no answer is taken for
// another provider's (RFC 9700, section 4.4).
func (g *Ground) CallbackLocation(provider string) string {
	return g.PublicURL + "/oidc/callback/" + provider
}

// SLOLocation is our address for a provider's logout messages.
func (g *Ground) SLOLocation(provider string) string {
	return g.PublicURL + "/saml/sp/" + provider + "/slo"
}

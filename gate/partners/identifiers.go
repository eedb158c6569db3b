package partners

import (
	"strings"
	"time"

	"innergate/core/config"
	"innergate/core/saml"
)

// SLOAddress is our address for an application's logout messages.
func (g *Room) SLOAddress(a *Application) string {
	return strings.TrimSuffix(g.SSOAddress(a), "sso") + "slo"
}

// IDPEntity is our entity ID towards an application.
func (g *Room) IDPEntity(a *Application) saml.EntityID {
	if a.SAML.OwnEntityID {
		return saml.EntityID(g.PublicURL + "/saml/idp/" + a.Slug)
	}
	return g.IDPEntityID()
}

// SSOAddress is our address for an application's requests.
func (g *Room) SSOAddress(a *Application) string {
	if a.SAML.OwnEntityID {
		return g.PublicURL + "/saml/idp/" + a.Slug + "/sso"
	}
	return g.SSOLocation()
}

// SPEntity is our entity ID towards a provider.
func (g *Room) SPEntity(p *Provider) saml.EntityID {
	if p.SAML.OwnEntityID {
		return saml.EntityID(g.PublicURL + "/saml/sp/" + p.Slug)
	}
	return g.SPEntityID()
}

// OurIDs are entity IDs that nobody else may have.
func (g *Room) OurIDs() []string { return []string{string(g.IDPEntityID()), string(g.SPEntityID())} }

// Skew is by how much clocks may differ; 0 stands for a minute.
func Skew(seconds int) time.Duration {
	if seconds == 0 {
		seconds = 60
	}
	return time.Duration(seconds) * time.Second
}

// SignsOutAtProvider says whether a sign-out at this application goes on to the provider.
func (a *Application) SignsOutAtProvider() bool {
	return a.SignOut == "" || a.SignOut == config.SignOutProvider
}

package partners

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/store"
)

const (
	// SettingConsole names the setting of who may come in to the console; ConsoleID and PortalID stand for the
	// gate's own pages as applications.
	SettingConsole = "console-access"
	// ConsoleID stands for the gate itself where people sign in to look after it: the console and the command line are
	// its application.
	ConsoleID    = "the-gate-itself"
	consoleHours = 8
)

// ConsoleAccess tells who may come in to the console through providers.
func (g *Room) ConsoleAccess(ctx context.Context) (*api.ConsoleAccess, error) {
	s, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", SettingConsole)
	if err != nil {
		return nil, err
	}
	out := &api.ConsoleAccess{}
	if s.Value != "" {
		if err := json.Unmarshal([]byte(s.Value), out); err != nil {
			return nil, err
		}
	}
	if out.Rules == nil {
		out.Rules = []api.AccessRule{}
	}
	return out, nil
}

// ConsoleApplication is the gate as an application of its own: a public client that people's own machines and the
// console use.
func (g *Room) ConsoleApplication(ctx context.Context) (*Application, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	if a, ok := c.Apps.Load(ConsoleID); ok {
		return a.(*Application), nil
	}
	rules, err := g.ConsoleAccess(ctx)
	if err != nil {
		return nil, err
	}
	a := &Application{ID: ConsoleID, approval: keyring.Ourselves, Rules: rules.Rules}
	a.Application = config.Application{
		Slug:     ConsoleID,
		Name:     "Inner Gate",
		Kind:     config.KindOIDC,
		Reach:    access.Everyone,
		Subject:  config.Subject{Source: "pairwise"},
		StartURL: g.PublicURL + "/console/",
		OIDC: &config.OIDCApplication{
			ClientID: config.ConsoleClient, Native: true, RedirectURIs: []string{"http://127.0.0.1/callback", "http://[::1]/callback"},
			Authentication: oidc.AuthNone, Scopes: []string{oidc.ScopeOpenID}, Algorithm: jose.ES256, DeviceGrant: true,
			AccessMinutes: consoleHours * 60, SessionHours: consoleHours,
		},
	}
	for _, r := range rules.Rules {
		if !slices.Contains(a.Providers, r.Provider) {
			a.Providers = append(a.Providers, r.Provider)
		}
	}
	if a.Outbound, err = a.Mapping.Compile(); err != nil {
		return nil, err
	}
	if a.Policy, err = (access.Policy{To: access.Everybody}).Compile(); err != nil {
		return nil, err
	}
	c.Apps.Store(ConsoleID, a)
	return a, nil
}

// RoleOf is the highest role that the rules give to somebody whom a provider vouched for, or nothing.
func RoleOf(rules []api.AccessRule, provider string, profile claims.Bag) string {
	best := ""
	for _, r := range rules {
		if r.Provider == provider && slices.Contains(profile[r.Attribute], r.Value) && (best == "" || ground.Allows(r.Role, best)) {
			best = r.Role
		}
	}
	return best
}

// PortalID stands for the gate's own page of tiles, where people sign in to see it.
const PortalID = "the-page-of-tiles"

// PortalApplication is the page of tiles as an application: open to everybody who can sign in anywhere.
func (g *Room) PortalApplication(ctx context.Context) (*Application, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	if a, ok := c.Apps.Load(PortalID); ok {
		return a.(*Application), nil
	}
	a := &Application{ID: PortalID, approval: keyring.Ourselves}
	a.Application = config.Application{
		Slug:     PortalID,
		Name:     "your applications",
		Kind:     config.KindPortal,
		Reach:    access.Everyone,
		Subject:  config.Subject{Source: "transient"},
		StartURL: g.PublicURL + "/",
		Access:   access.Policy{To: access.Everybody},
	}
	if err := g.Store.Read(ctx).Model(&store.Provider{}).Where("reach IN ?",
		[]string{string(access.Everyone), string(access.InCircle)}).Order("slug").Limit(200).Pluck("slug", &a.Providers).Error; err != nil {
		return nil, store.Clear(err)
	}
	if a.Outbound, err = a.Mapping.Compile(); err != nil {
		return nil, err
	}
	if a.Policy, err = a.Access.Compile(); err != nil {
		return nil, err
	}
	c.Apps.Store(PortalID, a)
	return a, nil
}

// ProbeMark begins the ID of an application that stands for trying a provider alone.
const ProbeMark = "probe:"

// Probe is the application with which a provider is tried alone. It gets nothing: the rehearsal ends at the gate.
func (g *Room) Probe(ctx context.Context, id string) (*Application, error) {
	p, err := g.ProviderByID(ctx, strings.TrimPrefix(id, ProbeMark))
	if err != nil {
		return nil, err
	}
	a := &Application{ID: id, approval: keyring.Ourselves}
	a.Application = config.Application{
		Slug:      "",
		Name:      p.Name + ", alone",
		Kind:      config.KindOIDC,
		Reach:     access.Everyone,
		Providers: []string{p.Slug},
		Subject:   config.Subject{Source: "transient"},
		OIDC:      &config.OIDCApplication{},
	}
	if a.Outbound, err = a.Mapping.Compile(); err != nil {
		return nil, err
	}
	a.Policy, err = (access.Policy{To: access.Everybody}).Compile()
	return a, err
}

package gate

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/store"
)

const (
	settingConsole = "console-access"
	// consoleID stands for the gate itself where people sign in to look after it: the console and the command line are its application.
	consoleID    = "the-gate-itself"
	consoleHours = 8
)

// ConsoleAccess tells who may come in to the console through providers.
func (g *Gate) ConsoleAccess(ctx context.Context) (*api.ConsoleAccess, error) {
	var s store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingConsole).Limit(1).Find(&s).Error; err != nil {
		return nil, store.Clear(err)
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

// SetConsoleAccess replaces the rules.
func (g *Gate) SetConsoleAccess(ctx context.Context, who Actor, a api.ConsoleAccess) error {
	before, err := g.ConsoleAccess(ctx)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.writeConsoleAccess(tx, who, *before, a) })
}

func (g *Gate) writeConsoleAccess(tx *gorm.DB, who Actor, before, a api.ConsoleAccess) error {
	if len(a.Rules) > 100 {
		return badRequest("rules", "100 rules are the most.", "")
	}
	for i, r := range a.Rules {
		if !Allows(r.Role, RoleViewer) {
			return badRequest("role-unknown", fmt.Sprintf("%q is no role that can be given here; owner, engineer and viewer are.", r.Role), "")
		}
		if r.Attribute == "" || r.Value == "" || len(r.Attribute) > 200 || len(r.Value) > 1000 {
			return badRequest("rules", fmt.Sprintf("Rule %d needs an attribute of the profile and the value that it must have.", i+1), "Name the attribute as the provider's mapping sets it, such as groups.")
		}
		if err := knownProviders(tx, []string{r.Provider}); err != nil {
			return err
		}
	}
	return g.writeSetting(tx, who, settingConsole, "who may come in to the console", before, a)
}

// consoleApplication is the gate as an application of its own: a public client that people's own machines and the console use.
func (g *Gate) consoleApplication(ctx context.Context) (*application, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return nil, err
	}
	if a, ok := c.apps.Load(consoleID); ok {
		return a.(*application), nil
	}
	rules, err := g.ConsoleAccess(ctx)
	if err != nil {
		return nil, err
	}
	a := &application{id: consoleID, rules: rules.Rules}
	a.Application = config.Application{Slug: consoleID, Name: "Inner Gate", Kind: config.KindOIDC, Reach: access.Everyone, Subject: config.Subject{Source: "pairwise"}, StartURL: g.PublicURL + "/console/", OIDC: &config.OIDCApplication{
		ClientID: config.ConsoleClient, Native: true, RedirectURIs: []string{"http://127.0.0.1/callback", "http://[::1]/callback"}, Authentication: oidc.AuthNone, Scopes: []string{oidc.ScopeOpenID}, Algorithm: jose.ES256, DeviceGrant: true, AccessMinutes: consoleHours * 60, SessionHours: consoleHours,
	}}
	for _, r := range rules.Rules {
		if !slices.Contains(a.Providers, r.Provider) {
			a.Providers = append(a.Providers, r.Provider)
		}
	}
	if a.mapping, err = a.Mapping.Compile(); err != nil {
		return nil, err
	}
	if a.policy, err = (access.Policy{To: access.Everybody}).Compile(); err != nil {
		return nil, err
	}
	c.apps.Store(consoleID, a)
	return a, nil
}

// roleOf is the highest role that the rules give to somebody whom a provider vouched for, or nothing.
func roleOf(rules []api.AccessRule, provider string, profile claims.Bag) string {
	best := ""
	for _, r := range rules {
		if r.Provider == provider && slices.Contains(profile[r.Attribute], r.Value) && (best == "" || Allows(r.Role, best)) {
			best = r.Role
		}
	}
	return best
}

// mayLookAfter refuses people to whom no rule gives a role, where they want to come in to the gate itself.
func (g *Gate) mayLookAfter(s *signIn) error {
	if s.app.id != consoleID {
		return nil
	}
	role := roleOf(s.app.rules, s.provider.Slug, s.person.came)
	if role == "" {
		return explain.New("console.no-role", explain.Fact("person", s.person.shown)).Of(s.provider.Name)
	}
	s.rec.Decide(trace.Decision{About: "role", Result: role, By: "rules for the console"})
	return nil
}

// ConsoleProviders lists the providers through which people come in to the console, for its sign-in page.
func (g *Gate) ConsoleProviders(ctx context.Context) (*api.List[api.Reference], error) {
	app, err := g.consoleApplication(ctx)
	if err != nil {
		return nil, err
	}
	out := &api.List[api.Reference]{Items: []api.Reference{}}
	for _, slug := range app.Providers {
		if p, err := g.provider(ctx, slug); err == nil && p.Reach == access.Everyone {
			out.Items = append(out.Items, api.Reference{Slug: p.Slug, Name: p.Name, Kind: "provider", Reach: string(p.Reach)})
		}
	}
	return out, nil
}

// BeginConsole begins a sign-in to the console through a provider.
func (g *Gate) BeginConsole(ctx context.Context, b Browser, slug string) *Next {
	s := g.begin(b, "idp")
	app, err := g.consoleApplication(ctx)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	s.app = app
	s.state.Asked = &oidc.Request{ClientID: app.OIDC.ClientID, Scopes: []string{oidc.ScopeOpenID}}
	s.state.Console = true
	s.row.ApplicationID, s.row.RequestID = app.id, "console:"+s.id
	return g.route(ctx, s, slug)
}

// openConsole makes the console session behind a sign-in.
func (g *Gate) openConsole(tx *gorm.DB, s *signIn, grant *store.Grant, now time.Time) (string, error) {
	token := keys.NewSecret()
	row := store.ConsoleSession{TokenHash: keys.HashSecret(token), GrantID: grant.ID, CSRF: keys.NewSecret(), CreatedAt: now, LastUsed: now, ExpiresAt: grant.ExpiresAt}
	if err := tx.Create(&row).Error; err != nil {
		return "", err
	}
	return token, journal(tx, now, Actor{Name: s.person.shown + " (" + s.provider.Name + ")", From: s.row.Address}, "signed in", "administrator", s.person.id, s.person.shown, "", "")
}

// grantActor is whom a grant for the gate itself lets in. The rules are asked anew each time, so that whoever loses a role loses it at once.
func (g *Gate) grantActor(h *heldGrant, from string) (*Actor, error) {
	if h == nil || h.ApplicationID != consoleID || g.over(h) != "" {
		return nil, errUnauthorised
	}
	// What the provider itself said at this sign-in counts, and nothing that was entered at the gate or came from another provider.
	profile := h.body.Came
	role := roleOf(h.app.rules, h.provider.Slug, profile)
	if role == "" {
		return nil, problem(http.StatusForbidden, "no-role", "No role is left", "No rule gives you a role any more.", "Ask an owner.")
	}
	return &Actor{Name: shownName(profile, h.body.Shown) + " (" + h.provider.Name + ")", Role: role, From: from, Kind: "person"}, nil
}

// BearerActor finds whom a token belongs to: an API token, or one that `innergate login` got.
func (g *Gate) BearerActor(ctx context.Context, token, from string) (*Actor, error) {
	who, err := g.TokenActor(ctx, token, from)
	if err != errUnauthorised || token == "" {
		return who, err
	}
	t, err := g.tokenBy(ctx, token)
	if err != nil {
		return nil, err
	}
	if t == nil || t.kind != "access" || t.ApplicationID != consoleID || !g.Now().Before(t.ends) {
		return nil, errUnauthorised
	}
	return g.grantActor(t.heldGrant, from)
}

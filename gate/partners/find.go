package partners

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/alike"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/store"
)

// GroupRoles are the groups that are assigned to an application, with their roles there.
func (g *Room) GroupRoles(ctx context.Context, applicationID string) (map[string][]string, error) {
	var rows []struct{ Slug, Roles string }
	if err := g.Store.Read(ctx).Raw("SELECT (SELECT slug FROM groups WHERE groups.id = who_id) AS slug, roles FROM assignments WHERE "+
		"application_id = ? AND kind = 'group'", applicationID).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := make(map[string][]string, len(rows))
	for _, r := range rows {
		out[r.Slug] = RolesOf(r.Roles)
	}
	return out, nil
}

// Application is an application made ready for sign-ins.
type Application struct {
	config.Application
	ID       string
	Revision int
	Outbound *claims.Compiled
	Whole    claims.Mapping // with the rules of its rule sets in their places
	Signing  []*saml.Certificate
	others   []*saml.Certificate // those that are held for encryption alone
	Until    *time.Time          // the end of the metadata that is looked after
	secrets  []heldSecret
	approval keyring.Approval
	Rules    []api.AccessRule // of the gate itself
	Policy   *access.Compiled
	Paths    map[string]*access.Compiled // by rule set, for the paths of a guarded application
	// groupRoles are the groups that are assigned, with their roles.
	GroupRoles map[string][]string
	// What a sign-in has to read: the person's groups, and assignments.
	NeedsGroups, NeedsAssignments bool
	// AccountValues makes the values of accounts there, and AccountNames are the names that it sets; nil where none are kept.
	AccountValues *claims.Compiled
	AccountRules  claims.Mapping
	AccountNames  []string
}

// Approval stands for the application's values having been set by somebody of ours. What a rehearsal puts in their place
// has none.
func (a *Application) Approval() keyring.Approval { return a.approval }

// Trust is what the application's signatures are verified with.
func (a *Application) Trust() saml.Trust {
	return saml.Trust{Certificates: a.Signing, Others: a.others, AllowSHA1: a.SAML.AllowSHA1, EnforceDates: a.SAML.EnforceCertificateDates}
}

// Begins says whether every sign-in to the application has to begin there.
func (a *Application) Begins() bool {
	if a.SAML != nil {
		return a.SAML.SPInitiatedOnly
	}
	return a.OIDC != nil && a.OIDC.InitiateLogin == ""
}

// Provider is a provider made ready for sign-ins.
type Provider struct {
	config.Provider
	ID       string
	Revision int
	Inbound  *claims.Compiled
	Whole    claims.Mapping
	Signing  []*saml.Certificate
	others   []*saml.Certificate
	Until    *time.Time
	Sets     []string         // the names that its mapping can set
	Admitted *claims.Compiled // the defaults for people who are created
	Secret   string           // of ours there, in a rehearsal of a change that brings one
	// Outsiders is set where somebody who is none of ours chose the addresses.
	Outsiders bool
	approval  keyring.Approval
	sending   keyring.Approval
}

// Approval stands for the provider's values having been set by somebody of ours. What a rehearsal puts in their place
// has none.
func (p *Provider) Approval() keyring.Approval { return p.approval }

// Sending stands for the places being approved to which our signatures and secrets go.
func (p *Provider) Sending() keyring.Approval { return p.sending }

// Trust is what the provider's signatures are verified with.
func (p *Provider) Trust() saml.Trust {
	return saml.Trust{Certificates: p.Signing, Others: p.others, AllowSHA1: p.SAML.AllowSHA1, EnforceDates: p.SAML.EnforceCertificateDates}
}

// InTime refuses a partner whose metadata is over and was not renewed (SAML Metadata, section 2.3.1).
func (g *Room) InTime(name string, until *time.Time) error {
	if until == nil || g.Now().Before(*until) {
		return nil
	}
	return explain.New(explain.MetadataExpired, explain.Fact("valid until", until.UTC().Format(time.RFC3339))).Of(name)
}

// until is the end of a partner's metadata, where its address is looked after.
func (g *Room) until(ctx context.Context, id string, w *config.Watch) (*time.Time, error) {
	if w.Place() == "" {
		return nil, nil
	}
	row, err := store.One[store.PartnerWatch](g.Store.Read(ctx), "owner_id = ?", id)
	if err != nil {
		return nil, err
	}
	return row.ValidUntil, nil
}

// Application finds one by slug.
func (g *Room) Application(ctx context.Context, slug string) (*Application, error) {
	return g.FindApplication(ctx, slug, "slug = ?", slug)
}

// ApplicationByEntity finds one by its SAML entity ID.
func (g *Room) ApplicationByEntity(ctx context.Context, id string) (*Application, error) {
	return g.FindApplication(ctx, "entity:"+id, "kind = 'saml' AND entity_id = ?", id)
}

// ApplicationByID finds an application that is made ready.
func (g *Room) ApplicationByID(ctx context.Context, id string) (*Application, error) {
	if id == ConsoleID {
		return g.ConsoleApplication(ctx)
	}
	if id == PortalID {
		return g.PortalApplication(ctx)
	}
	if strings.HasPrefix(id, ProbeMark) {
		return g.Probe(ctx, id)
	}
	return g.FindApplication(ctx, "id:"+id, "id = ?", id)
}

// FindApplication finds an application by a column, and keeps it made ready under the key.
func (g *Room) FindApplication(ctx context.Context, key, where, value string) (*Application, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	if a, ok := c.Apps.Load(key); ok {
		return a.(*Application), nil
	}
	var row store.Application
	if err := g.Store.Read(ctx).Where(where, value).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, ground.NotFound("application", value)
		}
		return nil, store.Clear(err)
	}
	a, err := g.MakeApplication(ctx, &row.Object)
	if err != nil {
		return nil, err
	}
	a.approval = keyring.Approve(a.ID)
	c.Apps.Store(key, a)
	return a, nil
}

// MakeApplication makes a record ready for sign-ins.
func (g *Room) MakeApplication(ctx context.Context, row *store.Object) (*Application, error) {
	a := &Application{ID: row.ID, Revision: row.Revision}
	if err := json.Unmarshal([]byte(row.Body), &a.Application); err != nil {
		return nil, fmt.Errorf("the record of application %s can't be read: %w", row.Slug, err)
	}
	if err := g.ReadyApplication(ctx, a); err != nil {
		return nil, err
	}
	if a.OIDC != nil {
		rows, err := g.secretRows(ctx, a.ID)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			a.secrets = append(a.secrets, heldSecret{r.ID, r.Hash, r.ExpiresAt})
		}
	} else if a.SAML != nil {
		var err error
		a.Signing = config.Parsed(a.SAML.Certificates, "signing")
		a.others = config.ParsedOnly(a.SAML.Certificates, "encryption")
		if a.Until, err = g.until(ctx, a.ID, a.SAML.Metadata); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// Provider finds one by slug.
func (g *Room) Provider(ctx context.Context, slug string) (*Provider, error) {
	return g.findProvider(ctx, slug, "slug = ?", slug)
}

// SAMLProviderAt finds the SAML provider whose short name stands in an address of ours to which a message came. Where there is
// none, the other side has another address than it was given.
func (g *Room) SAMLProviderAt(ctx context.Context, slug string) (*Provider, error) {
	return g.providerAt(ctx, slug, "a SAML provider", func(p *Provider) bool { return p.SAML != nil })
}

// OpenIDProviderAt is SAMLProviderAt for OpenID providers.
func (g *Room) OpenIDProviderAt(ctx context.Context, slug string) (*Provider, error) {
	return g.providerAt(ctx, slug, "an OpenID provider", func(p *Provider) bool { return p.OIDC != nil })
}

func (g *Room) providerAt(ctx context.Context, slug, kind string, is func(*Provider) bool) (*Provider, error) {
	p, err := g.Provider(ctx, slug)
	if err == nil && is(p) {
		return p, nil
	}
	if err != nil && !ground.IsNotFound(err) {
		return nil, err
	}
	var names []string
	if err := g.Store.Read(ctx).Model(&store.Provider{}).Where("slug <> ?", slug).Limit(1000).Pluck("slug", &names).Error; err != nil {
		return nil, store.Clear(err)
	}
	evidence := []trace.Evidence{explain.Pair("name in the address", kind, words.Clip(slug, 100))}
	if near := alike.Nearest(slug, names); near != "" {
		evidence = append(evidence, explain.Fact("most like it", near))
	}
	return nil, explain.New(explain.AddressUnknown, evidence...)
}

// SpokenFor says whether another provider than this one may speak for a mail domain.
func (g *Room) SpokenFor(ctx context.Context, domain, except string) (bool, error) {
	var n int64
	err := g.Store.Read(ctx).Raw("SELECT count(*) FROM providers p, json_each(p.body, '$.matching.domains') d WHERE d.value = ? AND "+
		"p.id <> ?",
		domain, except).Scan(&n).Error
	return n > 0, store.Clear(err)
}

// ProviderByID finds a provider that is made ready.
func (g *Room) ProviderByID(ctx context.Context, id string) (*Provider, error) {
	return g.findProvider(ctx, "id:"+id, "id = ?", id)
}

func (g *Room) findProvider(ctx context.Context, key, where, value string) (*Provider, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	if p, ok := c.Providers.Load(key); ok {
		return p.(*Provider), nil
	}
	var row store.Provider
	if err := g.Store.Read(ctx).Where(where, value).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, ground.NotFound("provider", value)
		}
		return nil, store.Clear(err)
	}
	p, err := g.MakeProvider(ctx, &row.Object)
	if err != nil {
		return nil, err
	}
	p.approval = keyring.Approve(p.ID)
	p.sending = p.approval
	c.Providers.Store(key, p)
	return p, nil
}

// MakeProvider makes a record ready for sign-ins.
func (g *Room) MakeProvider(ctx context.Context, row *store.Object) (*Provider, error) {
	p := &Provider{ID: row.ID, Revision: row.Revision}
	if err := json.Unmarshal([]byte(row.Body), &p.Provider); err != nil {
		return nil, fmt.Errorf("the record of provider %s can't be read: %w", row.Slug, err)
	}
	if err := g.ReadyProvider(ctx, p); err != nil {
		return nil, err
	}
	if p.SAML != nil {
		var err error
		p.Signing = config.Parsed(p.SAML.Certificates, "signing")
		p.others = config.ParsedOnly(p.SAML.Certificates, "encryption")
		if p.Until, err = g.until(ctx, p.ID, p.SAML.Metadata); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// EntityColumn is an identifier as its column holds it; nil for none.
func EntityColumn(id string) *string {
	if id == "" {
		return nil
	}
	return &id
}

// UsedBy finds the applications that name a provider.
func UsedBy(db *gorm.DB, slug string) *gorm.DB {
	return db.Model(&store.Application{}).Where("applications.id IN (SELECT application_id FROM uses WHERE provider = ?)", slug)
}

// KnownProviders refuses configurations that name providers which are not there.
func KnownProviders(tx *gorm.DB, slugs []string) error {
	for _, slug := range slugs {
		var n int
		if err := store.RowIn(tx, "SELECT count(*) FROM providers WHERE slug = ?", slug).Scan(&n); err != nil {
			return err
		}
		if n == 0 {
			return ground.BadRequest(
				"provider-unknown", fmt.Sprintf("There is no provider with the short name %q.", slug),
				"Add the provider first, or choose one that is there.",
			)
		}
	}
	return nil
}

// Refusal is the failure of somebody whom the access rules don't let in.
func (a *Application) Refusal(d access.Decision, person string, received []string) *explain.Failure {
	fact := explain.Fact("person", person)
	switch d.Code {
	case "access.group-required":
		fact = explain.Pair("groups", strings.Join(a.Access.Requires, ", "), strings.Join(received, ", "))
	case "access.refused":
		fact = explain.Fact("rule", d.By)
	}
	return explain.New(explain.Code(d.Code), fact).Of(a.Name)
}

// Assignments are those of a person to an application, their own first.
func (g *Room) Assignments(ctx context.Context, app *Application, personID string, groups []string) ([]access.Assignment, error) {
	if !app.NeedsAssignments {
		return nil, nil
	}
	var out []access.Assignment
	if personID != "" {
		row, err := store.One[store.Assignment](g.Store.Read(ctx), "application_id = ? AND kind = 'person' AND who_id = ?", app.ID,
			personID)
		if err != nil {
			return nil, err
		}
		if row.WhoID != "" {
			out = append(out, access.Assignment{Roles: RolesOf(row.Roles)})
		}
	}
	for _, slug := range groups {
		if roles, ok := app.GroupRoles[slug]; ok {
			out = append(out, access.Assignment{By: slug, Roles: roles})
		}
	}
	return out, nil
}

// RolesOf reads roles as the store holds them.
func RolesOf(text string) []string {
	var out []string
	_ = json.Unmarshal([]byte(text), &out) // nothing stands for no roles
	return out
}

// SetUsers finds the applications and providers that use a rule set.
func SetUsers(db *gorm.DB, slug string) ([]api.Reference, error) {
	out := []api.Reference{}
	for _, kind := range []string{"application", "provider"} {
		var rows []store.Object
		query := db.Table(kind+"s").
			Where("EXISTS (SELECT 1 FROM json_tree(body) AS t WHERE t.key = 'use' AND t.type = 'text' AND t.value = ?)", slug)
		if err := query.Order("name").Limit(500).Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, r := range rows {
			out = append(out, api.Reference{Slug: r.Slug, Name: r.Name, Kind: kind, Reach: r.Reach})
		}
	}
	return out, nil
}

// Kept says whether an application's identifiers are random values that are kept.
func Kept(a *Application) bool { return a.Subject.Source == "pairwise" || a.Subject.Source == "public" }

// SubjectOwner is whom a random identifier belongs to: the application alone, those of one sector (OpenID Connect Core
// 1.0, section 8.1), or everybody.
func SubjectOwner(a *Application) string {
	switch {
	case a.OIDC == nil:
		return a.ID
	case a.Subject.Source == "public":
		return "public"
	case a.OIDC.Sector() != "":
		return "sector:" + a.OIDC.Sector()
	}
	return a.ID
}

// WholeProviders reads providers by their short names, with the rules of their rule sets in their places. Those that are gone are
// left out.
func (g *Room) WholeProviders(ctx context.Context, slugs []string) []config.Provider {
	var out []config.Provider
	for _, s := range slugs {
		p, err := g.Provider(ctx, s)
		if err != nil {
			continue
		}
		whole := p.Provider
		whole.Mapping = p.Whole
		out = append(out, whole)
	}
	return out
}

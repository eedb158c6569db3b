package gate

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
	"innergate/core/checkup"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/store"
)

// application is an application made ready for sign-ins.
type application struct {
	config.Application
	id       string
	revision int
	mapping  *claims.Compiled
	whole    claims.Mapping // with the rules of its rule sets in their places
	signing  []*saml.Certificate
	until    *time.Time // the end of the metadata that is looked after
	secrets  []heldSecret
	rules    []api.AccessRule // of the gate itself
	policy   *access.Compiled
	paths    map[string]*access.Compiled // by rule set, for the paths of a guarded application
	// groupRoles are the groups that are assigned, with their roles.
	groupRoles map[string][]string
	// What a sign-in has to read: the person's groups, and assignments.
	needsGroups, needsAssignments bool
}

// begins says whether every sign-in to the application has to begin there.
func (a *application) begins() bool {
	if a.SAML != nil {
		return a.SAML.SPInitiatedOnly
	}
	return a.OIDC != nil && a.OIDC.InitiateLogin == ""
}

type provider struct {
	config.Provider
	id       string
	revision int
	mapping  *claims.Compiled
	whole    claims.Mapping
	signing  []*saml.Certificate
	until    *time.Time
	sets     []string         // the names that its mapping can set
	admitted *claims.Compiled // the defaults for people who are created
	secret   string           // of ours there, in a rehearsal of a change that brings one
	withheld bool             // who we are is not told there, in a rehearsal of a change that the other side brings
}

// inTime refuses a partner whose metadata is over and was not renewed (SAML Metadata, section 2.3.1).
func (g *Gate) inTime(name string, until *time.Time) error {
	if until == nil || g.Now().Before(*until) {
		return nil
	}
	return explain.New("metadata.expired", explain.Fact("valid until", until.UTC().Format(time.RFC3339))).Of(name)
}

// until is the end of a partner's metadata, where its address is looked after.
func (g *Gate) until(ctx context.Context, id string, w *config.Watch) (*time.Time, error) {
	if w.Place() == "" {
		return nil, nil
	}
	var row store.PartnerWatch
	if err := g.Store.Read(ctx).Where("owner_id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	return row.ValidUntil, nil
}

// application finds one by slug.
func (g *Gate) application(ctx context.Context, slug string) (*application, error) {
	return g.findApplication(ctx, slug, "slug = ?", slug)
}

// applicationByEntity finds one by its SAML entity ID.
func (g *Gate) applicationByEntity(ctx context.Context, id string) (*application, error) {
	return g.findApplication(ctx, "entity:"+id, "kind = 'saml' AND entity_id = ?", id)
}

func (g *Gate) applicationByID(ctx context.Context, id string) (*application, error) {
	if id == consoleID {
		return g.consoleApplication(ctx)
	}
	if id == portalID {
		return g.portalApplication(ctx)
	}
	if strings.HasPrefix(id, probeMark) {
		return g.probe(ctx, id)
	}
	return g.findApplication(ctx, "id:"+id, "id = ?", id)
}

func (g *Gate) findApplication(ctx context.Context, key, where, value string) (*application, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return nil, err
	}
	if a, ok := c.apps.Load(key); ok {
		return a.(*application), nil
	}
	var row store.Application
	if err := g.Store.Read(ctx).Where(where, value).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("application", value)
		}
		return nil, store.Clear(err)
	}
	a, err := g.makeApplication(ctx, &row.Object)
	if err != nil {
		return nil, err
	}
	c.apps.Store(key, a)
	return a, nil
}

// makeApplication makes a record ready for sign-ins.
func (g *Gate) makeApplication(ctx context.Context, row *store.Object) (*application, error) {
	a := &application{id: row.ID, revision: row.Revision}
	if err := json.Unmarshal([]byte(row.Body), &a.Application); err != nil {
		return nil, fmt.Errorf("the record of application %s can't be read: %w", row.Slug, err)
	}
	if err := g.readyApplication(ctx, a); err != nil {
		return nil, err
	}
	if a.OIDC != nil {
		rows, err := g.secretRows(ctx, a.id)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			a.secrets = append(a.secrets, heldSecret{r.ID, r.Hash, r.ExpiresAt})
		}
	} else if a.SAML != nil {
		var err error
		a.signing = config.Parsed(a.SAML.Certificates, "signing")
		if a.until, err = g.until(ctx, a.id, a.SAML.Metadata); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// provider finds one by slug.
func (g *Gate) provider(ctx context.Context, slug string) (*provider, error) {
	return g.findProvider(ctx, slug, "slug = ?", slug)
}

func (g *Gate) providerByID(ctx context.Context, id string) (*provider, error) {
	return g.findProvider(ctx, "id:"+id, "id = ?", id)
}

func (g *Gate) findProvider(ctx context.Context, key, where, value string) (*provider, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return nil, err
	}
	if p, ok := c.providers.Load(key); ok {
		return p.(*provider), nil
	}
	var row store.Provider
	if err := g.Store.Read(ctx).Where(where, value).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("provider", value)
		}
		return nil, store.Clear(err)
	}
	p, err := g.makeProvider(ctx, &row.Object)
	if err != nil {
		return nil, err
	}
	c.providers.Store(key, p)
	return p, nil
}

// makeProvider makes a record ready for sign-ins.
func (g *Gate) makeProvider(ctx context.Context, row *store.Object) (*provider, error) {
	p := &provider{id: row.ID, revision: row.Revision}
	if err := json.Unmarshal([]byte(row.Body), &p.Provider); err != nil {
		return nil, fmt.Errorf("the record of provider %s can't be read: %w", row.Slug, err)
	}
	if err := g.readyProvider(ctx, p); err != nil {
		return nil, err
	}
	if p.SAML != nil {
		var err error
		p.signing = config.Parsed(p.SAML.Certificates, "signing")
		if p.until, err = g.until(ctx, p.id, p.SAML.Metadata); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func entityColumn(id string) *string {
	if id == "" {
		return nil
	}
	return &id
}

// usedBy finds the applications that name a provider.
func usedBy(db *gorm.DB, slug string) *gorm.DB {
	return db.Model(&store.Application{}).Where("EXISTS (SELECT 1 FROM json_each(applications.body, '$.providers') WHERE value = ?)", slug)
}

func details(list []config.Certificate) []api.CertificateDetail {
	out := []api.CertificateDetail{}
	for _, c := range list {
		if cert, err := c.Parse(); err == nil {
			out = append(out, api.CertificateDetail{Use: c.Use, Description: keys.Describe(cert)})
		}
	}
	return out
}

// Application shows one with its passage and findings.
func (g *Gate) Application(ctx context.Context, slug string) (*api.Application, error) {
	var row store.Application
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, missing(err, "application", slug)
	}
	v, err := g.applicationLine(row)
	if err != nil {
		return nil, err
	}
	var providers []config.Provider
	v.ProvidedBy = []api.Reference{}
	for _, s := range v.Providers {
		p, err := g.provider(ctx, s)
		if err != nil {
			continue
		}
		inspected := p.Provider
		inspected.Mapping = p.whole
		providers = append(providers, inspected)
		v.ProvidedBy = append(v.ProvidedBy, api.Reference{Slug: p.Slug, Name: p.Name, Kind: p.Kind, Reach: string(p.Reach), EntityID: p.Authority()})
	}
	inspected := v.Application
	if inspected.Mapping, err = g.wholeMapping(ctx, v.Mapping); err != nil {
		return nil, err
	}
	v.Stations, v.Findings = checkup.Application(&inspected, providers, g.IDPEntityID(), g.Now())
	if err := g.peopleFindings(ctx, v); err != nil {
		return nil, err
	}
	v.StartOurs = g.StartLocation(v.Slug)
	if v.OIDC != nil {
		if v.Secrets, err = g.secretViews(ctx, row.ID); err != nil {
			return nil, err
		}
		findings := checkup.OurSecrets(&v.Application, secretEnds(v.Secrets), g.Now())
		v.Findings, v.Stations = append(v.Findings, findings...), checkup.Settle(v.Stations, findings)
		return v, nil
	}
	if v.SAML == nil {
		return v, nil
	}
	watch, findings, err := g.watch(ctx, row.ID, checkup.ApplicationTrust, v.SAML.Metadata)
	if err != nil {
		return nil, err
	}
	v.Watch, v.Findings = watch, append(v.Findings, findings...)
	v.Stations = checkup.Settle(v.Stations, findings)
	v.Keys = details(v.SAML.Certificates)
	if v.StartURL == "" {
		v.ProposedURL = proposeStart(v.SAML)
	}
	return v, nil
}

// peopleFindings finds applications to which nobody is assigned.
func (g *Gate) peopleFindings(ctx context.Context, v *api.Application) error {
	if v.Access.To == access.Everybody {
		return nil
	}
	var one store.Assignment
	if err := g.Store.Read(ctx).Where("application_id = ?", v.ID).Limit(1).Find(&one).Error; err != nil {
		return store.Clear(err)
	}
	if one.WhoID == "" {
		findings := checkup.NobodyAssigned(&v.Application)
		v.Findings, v.Stations = append(v.Findings, findings...), checkup.Settle(v.Stations, findings)
	}
	return nil
}

// proposeStart guesses an application's start address from what is known of it.
func proposeStart(s *config.SAMLApplication) string {
	for _, e := range s.ACS {
		if root := origin(e.Location); root != "" {
			return root + "/"
		}
	}
	if root := origin(s.EntityID); root != "" {
		return root + "/"
	}
	return ""
}

func (g *Gate) applicationLine(row store.Application) (*api.Application, error) {
	c, err := decodeBody[config.Application](row.Body)
	if err != nil {
		return nil, err
	}
	v := &api.Application{ID: row.ID, Application: c, Revision: row.Revision, Created: row.CreatedAt, Updated: row.UpdatedAt, LastSignIn: row.LastSignIn, Missing: c.Missing()}
	if v.Missing == nil {
		v.Missing = []string{}
	}
	return v, nil
}

func (g *Gate) providerLine(row store.Provider) (*api.Provider, error) {
	c, err := decodeBody[config.Provider](row.Body)
	if err != nil {
		return nil, err
	}
	v := &api.Provider{ID: row.ID, Provider: c, Revision: row.Revision, Created: row.CreatedAt, Updated: row.UpdatedAt, LastSignIn: row.LastSignIn, Missing: c.Missing()}
	if v.Missing == nil {
		v.Missing = []string{}
	}
	return v, nil
}

// Provider shows one with its stations and findings.
func (g *Gate) Provider(ctx context.Context, slug string) (*api.Provider, error) {
	var row store.Provider
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, missing(err, "provider", slug)
	}
	v, err := g.providerLine(row)
	if err != nil {
		return nil, err
	}
	inspected := v.Provider
	if inspected.Mapping, err = g.wholeMapping(ctx, v.Mapping); err != nil {
		return nil, err
	}
	v.Stations, v.Findings = checkup.Provider(&inspected, g.SPEntityID(), g.Now())
	if err := g.besideProvider(ctx, v, row.ID); err != nil {
		return nil, err
	}
	v.Serves = []api.Reference{}
	var apps []store.Application
	if err := usedBy(g.Store.Read(ctx), slug).Order("name").Limit(50).Find(&apps).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, a := range apps {
		r := api.Reference{Slug: a.Slug, Name: a.Name, Kind: a.Kind, Reach: a.Reach}
		if a.EntityID != nil {
			r.EntityID = *a.EntityID
		}
		v.Serves = append(v.Serves, r)
	}
	return v, nil
}

// besideProvider adds what is kept beside a provider's configuration.
func (g *Gate) besideProvider(ctx context.Context, v *api.Provider, id string) error {
	var findings []checkup.Finding
	var err error
	if v.OIDC != nil {
		if v.Secrets, err = g.secretViews(ctx, id); err != nil {
			return err
		}
		findings = checkup.TheirSecrets(&v.Provider, secretEnds(v.Secrets), g.Now())
	} else if v.SAML != nil {
		if v.Watch, findings, err = g.watch(ctx, id, checkup.ProviderTrust, v.SAML.Metadata); err != nil {
			return err
		}
		v.Keys = details(v.SAML.Certificates)
	}
	v.Findings = append(v.Findings, findings...)
	v.Stations = checkup.Settle(v.Stations, findings)
	return nil
}

func secretEnds(list []api.Secret) []checkup.Secret {
	var out []checkup.Secret
	for _, s := range list {
		out = append(out, checkup.Secret{Next: s.State == KeyNext, Ends: s.Expires, Hint: s.Hint, Refused: s.Tried == "refused"})
	}
	return out
}

var objectColumns = map[string]string{"name": "name COLLATE NOCASE", "created": "created_at", "reach": "reach"}

// Applications lists a page. Filter narrows by reach and provider.
func (g *Gate) Applications(ctx context.Context, p store.Page, reach, provider string) (*api.List[api.Application], error) {
	db := g.Store.Read(ctx)
	if provider != "" {
		db = usedBy(db, provider)
	}
	var rows []store.Application
	if err := g.page(db, p, reach, &rows); err != nil {
		return nil, err
	}
	out := &api.List[api.Application]{Items: []api.Application{}}
	for i, row := range rows {
		if i == limitOf(p) {
			out.Next = store.AfterKey(sortValue(p.Sort, rows[i-1].Name, rows[i-1].Reach, rows[i-1].CreatedAt), rows[i-1].ID)
			break
		}
		v, err := g.applicationLine(row)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *v)
	}
	return out, nil
}

// Providers lists a page.
func (g *Gate) Providers(ctx context.Context, p store.Page, reach string) (*api.List[api.Provider], error) {
	var rows []store.Provider
	if err := g.page(g.Store.Read(ctx), p, reach, &rows); err != nil {
		return nil, err
	}
	out := &api.List[api.Provider]{Items: []api.Provider{}}
	for i, row := range rows {
		if i == limitOf(p) {
			out.Next = store.AfterKey(sortValue(p.Sort, rows[i-1].Name, rows[i-1].Reach, rows[i-1].CreatedAt), rows[i-1].ID)
			break
		}
		v, err := g.providerLine(row)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *v)
	}
	return out, nil
}

func limitOf(p store.Page) int {
	if p.Limit <= 0 || p.Limit > 200 {
		return 50
	}
	return p.Limit
}

func sortValue(sort, name, reach string, created time.Time) string {
	switch strings.TrimPrefix(sort, "-") {
	case "created":
		return created.UTC().Format("2006-01-02 15:04:05.999999999-07:00")
	case "reach":
		return reach
	}
	return name
}

func (g *Gate) page(db *gorm.DB, p store.Page, reach string, into any) error {
	if reach != "" {
		db = db.Where("reach = ?", reach)
	}
	db, err := p.Rows(db, objectColumns, "name", "name", "slug", "entity_id")
	if err != nil {
		return badRequest("bad-page", err.Error()+".", "")
	}
	return store.Clear(db.Find(into).Error)
}

package checkups

import (
	"context"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/takein"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

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
func (g *Room) Application(ctx context.Context, slug string) (*api.Application, error) {
	var row store.Application
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "application", slug)
	}
	v, err := g.applicationLine(row)
	if err != nil {
		return nil, err
	}
	providers := g.partners.WholeProviders(ctx, v.Providers)
	v.ProvidedBy = []api.Reference{}
	for i := range providers {
		p := &providers[i]
		v.ProvidedBy = append(
			v.ProvidedBy,
			api.Reference{Slug: p.Slug, Name: p.Name, Kind: p.Kind, Reach: string(p.Reach), EntityID: p.Authority()},
		)
	}
	inspected := v.Application
	if inspected.Mapping, err = g.partners.WholeMapping(ctx, v.Mapping); err != nil {
		return nil, err
	}
	v.Stations, v.Findings = checkup.Application(&inspected, providers, g.IDPEntityID(), g.Now())
	if err := g.peopleFindings(ctx, v); err != nil {
		return nil, err
	}
	habits, err := g.habits(ctx, "application", row.ID, row.UpdatedAt)
	if err != nil {
		return nil, err
	}
	if v.SAML != nil {
		unknown, err := g.keyring.Unknown(ctx, "application", row.ID)
		if err != nil {
			return nil, err
		}
		habits = append(habits, unknown...)
	}
	if g.Accounts != nil {
		found, err := g.Accounts(ctx, row.ID)
		if err != nil {
			return nil, err
		}
		habits = append(habits, found...)
	}
	v.Findings, v.Stations = append(v.Findings, habits...), checkup.Settle(v.Stations, habits)
	v.StartOurs = g.StartLocation(v.Slug)
	if v.OIDC != nil {
		if v.Secrets, err = g.partners.SecretViews(ctx, row.ID); err != nil {
			return nil, err
		}
		findings := checkup.OurSecrets(&v.Application, secretEnds(v.Secrets), g.Now())
		v.Findings, v.Stations = append(v.Findings, findings...), checkup.Settle(v.Stations, findings)
		return v, nil
	}
	if v.SAML == nil {
		return v, nil
	}
	watch, findings, err := g.watch.Watch(ctx, row.ID, checkup.ApplicationTrust, v.SAML.Metadata)
	if err != nil {
		return nil, err
	}
	v.Watch, v.Findings = watch, append(v.Findings, findings...)
	v.Stations = checkup.Settle(v.Stations, findings)
	v.Keys = details(v.SAML.Certificates)
	if v.StartURL == "" {
		v.ProposedURL = takein.ProposeStart(v.SAML)
	}
	return v, nil
}

// peopleFindings finds applications to which nobody is assigned.
func (g *Room) peopleFindings(ctx context.Context, v *api.Application) error {
	if v.Access.To == access.Everybody {
		return nil
	}
	one, err := store.One[store.Assignment](g.Store.Read(ctx), "application_id = ?", v.ID)
	if err != nil {
		return err
	}
	if one.WhoID == "" {
		findings := checkup.NobodyAssigned(&v.Application)
		v.Findings, v.Stations = append(v.Findings, findings...), checkup.Settle(v.Stations, findings)
	}
	return nil
}

func (g *Room) applicationLine(row store.Application) (*api.Application, error) {
	c, err := ground.DecodeBody[config.Application](row.Body)
	if err != nil {
		return nil, err
	}
	v := &api.Application{
		ID:          row.ID,
		Application: c,
		Revision:    row.Revision,
		Created:     row.CreatedAt,
		Updated:     row.UpdatedAt,
		LastSignIn:  row.LastSignIn,
		Missing:     c.Missing(),
	}
	if v.Missing == nil {
		v.Missing = []string{}
	}
	return v, nil
}

func (g *Room) providerLine(row store.Provider) (*api.Provider, error) {
	c, err := ground.DecodeBody[config.Provider](row.Body)
	if err != nil {
		return nil, err
	}
	v := &api.Provider{
		ID:         row.ID,
		Provider:   c,
		Revision:   row.Revision,
		Created:    row.CreatedAt,
		Updated:    row.UpdatedAt,
		LastSignIn: row.LastSignIn,
		Missing:    c.Missing(),
	}
	if v.Missing == nil {
		v.Missing = []string{}
	}
	return v, nil
}

// Provider shows one with its stations and findings.
func (g *Room) Provider(ctx context.Context, slug string) (*api.Provider, error) {
	var row store.Provider
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "provider", slug)
	}
	v, err := g.providerLine(row)
	if err != nil {
		return nil, err
	}
	inspected := v.Provider
	if inspected.Mapping, err = g.partners.WholeMapping(ctx, v.Mapping); err != nil {
		return nil, err
	}
	v.Stations, v.Findings = checkup.Provider(&inspected, g.SPEntityID(), g.Now())
	if err := g.besideProvider(ctx, v, row); err != nil {
		return nil, err
	}
	v.Serves = []api.Reference{}
	var apps []store.Application
	if err := partners.UsedBy(g.Store.Read(ctx), slug).Order("name").Limit(50).Find(&apps).Error; err != nil {
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
func (g *Room) besideProvider(ctx context.Context, v *api.Provider, row store.Provider) error {
	id := row.ID
	var findings []checkup.Finding
	habits, err := g.habits(ctx, "provider", id, row.UpdatedAt)
	if err != nil {
		return err
	}
	if v.SAML != nil {
		unknown, err := g.keyring.Unknown(ctx, "provider", id)
		if err != nil {
			return err
		}
		habits = append(habits, unknown...)
	}
	if v.OIDC != nil {
		if v.Secrets, err = g.partners.SecretViews(ctx, id); err != nil {
			return err
		}
		findings = checkup.TheirSecrets(&v.Provider, secretEnds(v.Secrets), g.Now())
	} else if v.LDAP != nil {
		v.Keys = details(v.LDAP.Certificates)
		if v.Secrets, err = g.partners.SecretViews(ctx, id); err != nil {
			return err
		}
	} else if v.Kerberos != nil {
		if v.Secrets, err = g.partners.KeytabViews(ctx, &partners.Provider{Provider: v.Provider, ID: id}); err != nil {
			return err
		}
		routes, err := g.partners.Routes(ctx)
		if err != nil {
			return err
		}
		findings = checkup.Realm(&v.Provider, len(v.Secrets), routes)
	} else if v.SAML != nil {
		if v.Watch, findings, err = g.watch.Watch(ctx, id, checkup.ProviderTrust, v.SAML.Metadata); err != nil {
			return err
		}
		v.Keys = details(v.SAML.Certificates)
	}
	findings = append(findings, habits...)
	v.Findings = append(v.Findings, findings...)
	v.Stations = checkup.Settle(v.Stations, findings)
	return nil
}

func secretEnds(list []api.Secret) []checkup.Secret {
	var out []checkup.Secret
	for _, s := range list {
		out = append(out, checkup.Secret{Next: s.State == keyring.KeyNext, Ends: s.Expires, Hint: s.Hint, Refused: s.Tried == "refused"})
	}
	return out
}

// Applications lists a page. Filter narrows by reach and provider.
func (g *Room) Applications(ctx context.Context, p store.Page, n ground.Narrow, provider string) (*api.List[api.Application], error) {
	db := g.Store.Read(ctx)
	if provider != "" {
		db = partners.UsedBy(db, provider)
	}
	var rows []store.Application
	if err := g.Page(db, p, n, &rows); err != nil {
		return nil, err
	}
	key := func(r *store.Application) string {
		return store.AfterKey(ground.SortValue(p.Sort, r.Name, r.Reach, r.Kind, r.CreatedAt), r.ID)
	}
	return ground.PageOf(p, rows, key, func(r *store.Application) (*api.Application, error) { return g.applicationLine(*r) })
}

// Providers lists a page.
func (g *Room) Providers(ctx context.Context, p store.Page, n ground.Narrow) (*api.List[api.Provider], error) {
	var rows []store.Provider
	if err := g.Page(g.Store.Read(ctx), p, n, &rows); err != nil {
		return nil, err
	}
	key := func(r *store.Provider) string {
		return store.AfterKey(ground.SortValue(p.Sort, r.Name, r.Reach, r.Kind, r.CreatedAt), r.ID)
	}
	return ground.PageOf(p, rows, key, func(r *store.Provider) (*api.Provider, error) { return g.providerLine(*r) })
}

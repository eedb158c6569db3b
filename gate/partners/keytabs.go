package partners

import (
	"context"
	"encoding/base64"
	"net/url"
	"strings"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/kerberos"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// Hosts are the names under which browsers ask for tickets of a realm to this gate.
func (g *Room) Hosts(p *Provider) []string {
	own, err := url.Parse(g.PublicURL)
	if err != nil {
		return p.Kerberos.Hosts
	}
	return p.Kerberos.At(own.Hostname())
}

// Keytab is the keys with which tickets of a realm are opened: those of the keytab that counts and of the next one, so that tickets of
// both are taken while one takes the place of the other.
func (g *Room) Keytab(ctx context.Context, p *Provider) (*kerberos.Keytab, error) {
	rows, err := g.secretRows(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	whole, now := &kerberos.Keytab{}, g.Now()
	for _, row := range rows {
		if row.ExpiresAt != nil && !row.ExpiresAt.After(now) {
			continue
		}
		one, err := g.openKeytab(row, g.Hosts(p))
		if err != nil {
			continue // the page says that it opens nothing
		}
		whole = whole.With(one)
	}
	if len(whole.Keys()) == 0 {
		return nil, explain.New(explain.KerberosNoKeytab).Of(p.Name)
	}
	return whole, nil
}

func (g *Room) openKeytab(row store.Secret, hosts []string) (*kerberos.Keytab, error) {
	text, err := g.OpenSecret(row)
	if err != nil {
		return nil, err
	}
	return readKeytab(text, hosts)
}

// readKeytab reads a keytab that was written as base64.
func readKeytab(text string, hosts []string) (*kerberos.Keytab, error) {
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		return nil, err
	}
	return kerberos.ReadKeytab(data, hosts)
}

// KeytabViews lists a realm's keytabs with their keys as people see them.
func (g *Room) KeytabViews(ctx context.Context, p *Provider) ([]api.Secret, error) {
	rows, err := g.secretRows(ctx, p.ID)
	out := []api.Secret{}
	for _, row := range rows {
		v := secretView(row)
		if tab, err := g.openKeytab(row, g.Hosts(p)); err == nil {
			v.Keytab = keysShown(tab)
		}
		out = append(out, v)
	}
	return out, err
}

// viewsOf are a partner's secrets as people see them.
func (g *Room) viewsOf(ctx context.Context, kind, slug, id string) ([]api.Secret, error) {
	if kind == "provider" {
		p, err := g.Provider(ctx, slug)
		if err != nil {
			return nil, err
		}
		if p.Kerberos != nil {
			return g.KeytabViews(ctx, p)
		}
	}
	return g.SecretViews(ctx, id)
}

func keysShown(tab *kerberos.Keytab) []api.KeytabKey {
	var out []api.KeytabKey
	for _, k := range tab.Keys() {
		out = append(out, api.KeytabKey{Service: k.Service, Realm: k.Realm, Version: k.Version, Encryption: k.Encryption, Made: k.Made,
			Unfit: k.Unfit})
	}
	return out
}

// keytabLooksWrong says why a keytab is not taken.
func (g *Room) keytabLooksWrong(p *Provider, text string) error {
	if text == "" {
		return ground.BadRequest("keytab-empty", "There is no keytab.", "Choose the file that ktadd or ktpass wrote.")
	}
	tab, err := readKeytab(text, g.Hosts(p))
	if err != nil {
		return ground.BadRequest("keytab-unfit", "This keytab is of no use: "+err.Error()+".",
			"Have it made as the exchange sheet says, and enter the file as it is, in base64.")
	}
	for _, k := range tab.Keys() {
		for _, realm := range p.Kerberos.Realms {
			if k.Realm == realm && k.Unfit == "" {
				return nil
			}
		}
	}
	return ground.BadRequest("keytab-realm", words.Capitalise("its keys are of none of the realms that are set: ")+tab.Summary()+".",
		"Enter the realm as the keytab writes it, in the same case, or have the keytab of the right realm made.")
}

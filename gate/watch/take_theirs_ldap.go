package watch

import (
	"bytes"
	"cmp"
	"context"
	"encoding/pem"
	"net/url"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/saml"
	"innergate/core/takein"
	"innergate/gate/fetch"
	"innergate/gate/ground"
)

// Directories asks a directory what it is about.
type Directories interface {
	// Contexts are the bases below which it has entries (RFC 4512, section 5.1).
	Contexts(ctx context.Context, p *config.LDAPProvider) ([]string, error)
}

// looksLDAP says whether a text is the address of a directory.
func looksLDAP(text []byte) bool {
	t := bytes.ToLower(bytes.TrimSpace(text))
	return (bytes.HasPrefix(t, []byte("ldap://")) || bytes.HasPrefix(t, []byte("ldaps://"))) && !bytes.ContainsAny(t, " \n")
}

// understandLDAP takes a directory's address (RFC 4516), or the certificate of its authority, into a provider. It asks the directory
// for its base where the address names none.
func (g *Room) understandLDAP(ctx context.Context, p config.Provider, text []byte) (*api.Understood, error) {
	before := difference.Flat(p)
	u := &api.Understood{Entities: []api.EntityChoice{}, Proposed: map[string]string{}, Problems: []saml.Problem{}}
	if p.LDAP == nil {
		p = config.Provider{Kind: config.KindLDAP, Slug: p.Slug, Name: p.Name, LDAP: &config.LDAPProvider{}}
	}
	note := func(code, message string) {
		u.Problems = append(u.Problems, saml.Problem{Code: code, Message: message})
	}
	if cert := takein.LoneCertificate(text); cert != nil {
		p.LDAP.Certificates = append(p.LDAP.Certificates, config.Certificate{PEM: string(pem.EncodeToMemory(
			&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw}))})
		note("ldap.certificate", "This is a certificate. It will be believed beside those that are held, in place of the system's.")
	} else if err := g.takeAddress(ctx, &p, strings.TrimSpace(string(text)), note); err != nil {
		return nil, err
	}
	if p.Name == "" && len(p.LDAP.Servers) > 0 {
		if s, err := config.ReadServer(p.LDAP.Servers[0]); err == nil {
			p.Name = s.Host
		}
	}
	if p.Slug == "" {
		p.Slug = config.Slug(p.Name)
	}
	if len(p.Mapping) == 0 {
		p.Mapping = claims.OfDirectory()
	}
	if err := p.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	u.Provider, u.Changes = &p, ground.Changes(before, difference.Flat(p))
	return u, nil
}

// takeAddress takes a directory's address, with the base that stands in it or that the directory names.
func (g *Room) takeAddress(ctx context.Context, p *config.Provider, text string, note func(code, message string)) error {
	address, err := url.Parse(text)
	if err != nil || !looksLDAP([]byte(text)) {
		return ground.BadRequest("not-ldap", "This is neither the address of a directory nor a certificate.",
			"Enter ldaps://HOST, or ldap://HOST where TLS is begun by StartTLS.")
	}
	base := strings.TrimPrefix(address.Path, "/")
	server := address.Scheme + "://" + address.Host
	if _, err := config.ReadServer(server); err != nil {
		return ground.BadRequest("not-ldap", err.Error()+".", "")
	}
	p.LDAP.Servers = append(p.LDAP.Servers, server)
	// Nobody who is none of ours has us ask addresses of his choice.
	if base == "" && p.LDAP.Base == "" && g.Directories != nil && !fetch.Outsider(ctx) {
		asked := *p
		asked.Slug, asked.Name = cmp.Or(p.Slug, "asked"), cmp.Or(p.Name, "asked") // it has no name yet
		if err := asked.Validate(); err != nil {
			return ground.Invalid(err)
		}
		contexts, err := g.Directories.Contexts(ctx, asked.LDAP)
		switch {
		case err != nil:
			note("ldap.not-asked", "The directory did not answer yet, so its base is not known: "+err.Error()+".")
		case len(contexts) == 1:
			base = contexts[0]
			note("ldap.base", "The directory says that it has entries below "+base+".")
		default:
			note("ldap.bases", "The directory has entries below several bases; choose one: "+strings.Join(contexts, "; ")+".")
		}
	}
	if base != "" {
		p.LDAP.Base = base
	}
	return nil
}

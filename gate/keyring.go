package gate

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/url"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/store"
)

// Purposes of our keys.
const (
	PurposeSigning    = "saml-signing"
	PurposeEncryption = "saml-encryption"
)

// ring holds our keys for a purpose, the active one first.
type ring struct {
	signers []crypto.Signer
	certs   []*x509.Certificate
}

const certificateLife = 5 * 365 * 24 * time.Hour

// ensureKeys makes the first signing and encryption key of an empty data folder.
func (g *Gate) ensureKeys(ctx context.Context) error {
	for _, purpose := range []string{PurposeSigning, PurposeEncryption} {
		var have int64
		if err := g.Store.Read(ctx).Model(&store.Key{}).Where("purpose = ?", purpose).Limit(1).Count(&have).Error; err != nil {
			return store.Clear(err)
		}
		if have > 0 {
			continue
		}
		if err := g.makeKey(ctx, purpose, keys.RSA2048); err != nil {
			return err
		}
	}
	// A wrong master key is noticed at the start, not at the first sign-in.
	_, err := g.ring(ctx, PurposeSigning)
	return err
}

func (g *Gate) makeKey(ctx context.Context, purpose string, kind keys.Kind) error {
	signer, err := keys.Generate(kind)
	if err != nil {
		return err
	}
	host := g.PublicURL
	if u, err := url.Parse(g.PublicURL); err == nil {
		host = u.Hostname()
	}
	der, err := keys.SelfSigned(signer, host+" "+purpose, g.Now(), certificateLife)
	if err != nil {
		return err
	}
	private, err := keys.MarshalPrivate(signer)
	if err != nil {
		return err
	}
	k := store.Key{ID: store.NewID(), Purpose: purpose, Kind: string(kind), State: "active", Certificate: der, CreatedAt: g.Now().UTC()}
	k.Sealed = g.Store.Sealer.Seal("key/"+k.ID, private)
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&k).Error; err != nil {
			return err
		}
		if err := journal(tx, g.Now(), System, "made", "key", k.ID, purpose, "", keys.Fingerprint(der)); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

func (g *Gate) ring(ctx context.Context, purpose string) (*ring, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return nil, err
	}
	if r, ok := c.keys.Load(purpose); ok {
		return r.(*ring), nil
	}
	var rows []store.Key
	if err := g.Store.Read(ctx).Where("purpose = ? AND state IN ('active', 'retiring')", purpose).Order("state, id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &ring{}
	for _, row := range rows {
		der, err := g.Store.Sealer.Open("key/"+row.ID, row.Sealed)
		if err != nil {
			return nil, err
		}
		signer, err := keys.ParsePrivate(der)
		if err != nil {
			return nil, err
		}
		cert, err := x509.ParseCertificate(row.Certificate)
		if err != nil {
			return nil, err
		}
		r.signers, r.certs = append(r.signers, signer), append(r.certs, cert)
	}
	if len(r.signers) == 0 {
		return nil, fmt.Errorf("there is no active key for %s", purpose)
	}
	c.keys.Store(purpose, r)
	return r, nil
}

// signer is our active signing key, with an algorithm where a partner demands one.
func (g *Gate) signer(ctx context.Context, algorithm string) (*xmlsig.Signer, error) {
	r, err := g.ring(ctx, PurposeSigning)
	if err != nil {
		return nil, err
	}
	s := &xmlsig.Signer{Key: r.signers[0], Certificate: r.certs[0].Raw}
	if a := xmlsig.Algorithm(algorithm); a != "" && a.Fits(s.Key.Public()) {
		s.Algorithm = a
	}
	return s, nil
}

// Keys lists our keys, without their private parts.
func (g *Gate) Keys(ctx context.Context) (*api.List[api.Key], error) {
	var rows []store.Key
	if err := g.Store.Read(ctx).Order("purpose DESC, id").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Key]{Items: []api.Key{}}
	for _, row := range rows {
		cert, err := x509.ParseCertificate(row.Certificate)
		if err != nil {
			return nil, err
		}
		k := api.Key{ID: row.ID, Purpose: row.Purpose, Kind: row.Kind, State: row.State, Created: row.CreatedAt, Description: keys.Describe(cert), PEM: string(keys.EncodeCertificate(cert.Raw))}
		out.Items = append(out.Items, k)
	}
	return out, nil
}

// OurMetadata is our metadata as the identity provider (empty provider) or as the service provider towards one provider.
func (g *Gate) OurMetadata(ctx context.Context, provider string, signed bool) ([]byte, error) {
	signing, err := g.ring(ctx, PurposeSigning)
	if err != nil {
		return nil, err
	}
	encryption, err := g.ring(ctx, PurposeEncryption)
	if err != nil {
		return nil, err
	}
	role := saml.Role{Kind: saml.RoleIDP, DisplayName: "Inner Gate"}
	for _, c := range signing.certs {
		role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "signing", Certificate: c})
	}
	entity := saml.Entity{EntityID: string(g.IDPEntityID())}
	if provider == "" {
		role.NameIDFormats = []string{saml.FormatPersistent, saml.FormatTransient, saml.FormatEmail, saml.FormatUnspecified}
		for _, b := range []string{saml.BindingRedirect, saml.BindingPost} {
			role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceSSO, Binding: b, Location: g.SSOLocation()})
		}
	} else {
		p, err := g.provider(ctx, provider)
		if err != nil {
			return nil, err
		}
		entity.EntityID = string(g.SPEntityID())
		role.Kind, role.AuthnRequestsSigned, role.WantAssertionsSigned = saml.RoleSP, !p.SAML.SendUnsigned, true
		for _, c := range encryption.certs {
			role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "encryption", Certificate: c})
		}
		if p.SAML.NameIDFormat != "" {
			role.NameIDFormats = []string{p.SAML.NameIDFormat}
		}
		zero := 0
		role.Endpoints = []saml.Endpoint{{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: g.ACSLocation(p.Slug), Index: &zero, Default: true}}
		for _, rule := range p.Mapping {
			if len(rule.From) > 0 && rule.From[0] != "NameID" {
				role.RequestedAttributes = append(role.RequestedAttributes, saml.RequestedAttribute{Name: rule.From[0], NameFormat: nameFormatOf(rule.From[0]), FriendlyName: rule.Set, Required: rule.Required})
			}
		}
	}
	entity.Roles = []saml.Role{role}
	var signer *xmlsig.Signer
	if signed {
		if signer, err = g.signer(ctx, ""); err != nil {
			return nil, err
		}
	}
	return saml.WriteMetadata(entity, 30*24*time.Hour, g.Now(), signer)
}

// nameFormatOf guesses an attribute's name format from the look of its name.
func nameFormatOf(name string) string {
	if u, err := url.Parse(name); err == nil && u.Scheme != "" {
		return saml.NameFormatURI
	}
	return saml.NameFormatBasic
}

// OurCertificate is our active signing certificate in DER.
func (g *Gate) OurCertificate(ctx context.Context) ([]byte, error) {
	r, err := g.ring(ctx, PurposeSigning)
	if err != nil {
		return nil, err
	}
	return r.certs[0].Raw, nil
}

func decodeBody[T any](body string) (T, error) {
	var v T
	err := json.Unmarshal([]byte(body), &v)
	return v, err
}

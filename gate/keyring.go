package gate

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
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
	PurposeTokenRSA   = "token-rsa"     // RS256 and PS256
	PurposeTokenEC    = "token-p256"    // ES256
	PurposeTokenEd    = "token-ed25519" // EdDSA
	PurposeClient     = "client"        // private_key_jwt at providers
)

// Purposes lists the purposes of keys.
var Purposes = []string{PurposeSigning, PurposeEncryption, PurposeTokenRSA, PurposeTokenEC, PurposeTokenEd, PurposeClient}

// States of our keys.
const (
	KeyNext     = "next"     // made; once published, others learn of it
	KeyActive   = "active"   // the one that signs, or that others should encrypt for
	KeyRetiring = "retiring" // still there for those who have not changed over
	KeyRetired  = "retired"  // kept for the record only
)

// ring holds our keys for a purpose towards one partner: the active one first, then those that still count.
type ring struct {
	ids     []string
	signers []crypto.Signer
	certs   []*x509.Certificate
	// published are the certificates that metadata holds.
	published []*x509.Certificate
	holders   []string // the IDs of the keys that are published and not active
	tokens    sync.Map // algorithm → *jose.Signer
}

const certificateLife = 5 * 365 * 24 * time.Hour

// ensureKeys makes the first signing and encryption key of an empty data folder.
func (g *Gate) ensureKeys(ctx context.Context) error {
	for _, purpose := range Purposes {
		var have int64
		if err := g.Store.Read(ctx).Model(&store.Key{}).Where("purpose = ? AND owner_id = '' OR purpose = ? AND owner_id IS NULL", purpose, purpose).Limit(1).Count(&have).Error; err != nil {
			return store.Clear(err)
		}
		if have > 0 {
			continue
		}
		k, err := g.newKey(api.NewKey{Purpose: purpose, Kind: string(kindsOf[purpose][0])})
		if err != nil {
			return err
		}
		now := g.Now().UTC()
		k.State, k.PublishedAt, k.SwitchedAt = KeyActive, &now, &now
		if err := g.storeKey(ctx, System, k, "made"); err != nil {
			return err
		}
	}
	// A wrong master key is noticed at the start, not at the first sign-in.
	_, err := g.ring(ctx, PurposeSigning, "")
	return err
}

func (g *Gate) host() string {
	if u, err := url.Parse(g.PublicURL); err == nil {
		return u.Hostname()
	}
	return g.PublicURL
}

// newKey makes a key with a certificate of its own.
func (g *Gate) newKey(in api.NewKey) (*store.Key, error) {
	signer, err := g.KeySource.Make(keys.Kind(in.Kind))
	if err != nil {
		return nil, badRequest("key-kind", capitalise(err.Error())+".", "")
	}
	life := certificateLife
	if in.Days > 0 {
		life = time.Duration(in.Days) * 24 * time.Hour
	}
	name := in.CommonName
	if name == "" {
		name = g.host() + " " + in.Purpose
	}
	der, err := keys.SelfSigned(signer, name, g.Now(), life)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return g.sealKey(in.Purpose, &keys.Bundle{Key: signer, Certificate: cert})
}

func (g *Gate) sealKey(purpose string, b *keys.Bundle) (*store.Key, error) {
	private, err := keys.MarshalPrivate(b.Key)
	if err != nil {
		return nil, err
	}
	k := &store.Key{ID: store.NewID(), Purpose: purpose, Kind: string(keys.KindOf(b.Key.Public())), State: KeyNext, Certificate: b.Certificate.Raw, Chain: keys.EncodeChain(b.Chain), CreatedAt: g.Now().UTC()}
	k.Sealed = g.Store.Sealer.Seal("key/"+k.ID, private)
	return k, nil
}

func (g *Gate) storeKey(ctx context.Context, who Actor, k *store.Key, action string) error {
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(k).Error; err != nil {
			return err
		}
		if err := journal(tx, g.Now(), who, action, "key", k.ID, k.Purpose, "", keys.Fingerprint(k.Certificate)); err != nil {
			return err
		}
		return store.Changed(tx)
	})
	if errors.Is(err, store.ErrDuplicate) {
		return problem(http.StatusConflict, "key-next", "There is a next key already", "For this purpose a next key was made already; two at once would leave nobody knowing which one comes.", "Go on with that one, or discard it first.")
	}
	return err
}

// ring reads our keys for a purpose: the partner's own where it has an active one, else the gate's.
func (g *Gate) ring(ctx context.Context, purpose, owner string) (*ring, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return nil, err
	}
	at := purpose + "/" + owner
	if r, ok := c.keys.Load(at); ok {
		return r.(*ring), nil
	}
	var rows []store.Key
	if err := g.Store.Read(ctx).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state <> ?", purpose, owner, KeyRetired).Order("id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &ring{}
	slices.SortStableFunc(rows, func(a, b store.Key) int { return strings.Compare(a.State, b.State) }) // active, next, retiring
	for _, row := range rows {
		if row.State == KeyNext && row.PublishedAt == nil {
			continue
		}
		if err := g.addToRing(r, row, purpose); err != nil {
			return nil, err
		}
	}
	if owner != "" && (len(rows) == 0 || rows[0].State != KeyActive) {
		// Towards this partner the gate's own key is active still; a published one of the partner's own is known beside it.
		shared, err := g.ring(ctx, purpose, "")
		if err != nil {
			return nil, err
		}
		r = &ring{
			ids: append(slices.Clone(shared.ids), r.ids...), signers: append(slices.Clone(shared.signers), r.signers...), certs: append(slices.Clone(shared.certs), r.certs...),
			published: append(slices.Clone(shared.published), r.published...), holders: append(slices.Clone(shared.holders), r.holders...),
		}
	}
	if len(r.signers) == 0 {
		return nil, fmt.Errorf("there is no active key for %s", purpose)
	}
	c.keys.Store(at, r)
	return r, nil
}

func (g *Gate) addToRing(r *ring, row store.Key, purpose string) error {
	der, err := g.Store.Sealer.Open("key/"+row.ID, row.Sealed)
	if err != nil {
		return err
	}
	signer, err := keys.ParsePrivate(der)
	if err != nil {
		return err
	}
	cert, err := x509.ParseCertificate(row.Certificate)
	if err != nil {
		return err
	}
	r.ids, r.signers, r.certs = append(r.ids, row.ID), append(r.signers, signer), append(r.certs, cert)
	// A retiring encryption key still decrypts, but nobody new shall encrypt for it.
	if purpose == PurposeEncryption && row.State == KeyRetiring {
		return nil
	}
	r.published = append(r.published, cert)
	if row.State == KeyNext {
		r.holders = append(r.holders, row.ID)
	}
	return nil
}

// signer is our active signing key towards a partner, with the algorithms that it demands where they fit.
func (g *Gate) signer(ctx context.Context, owner, algorithm, digest string) (*xmlsig.Signer, error) {
	r, err := g.ring(ctx, PurposeSigning, owner)
	if err != nil {
		return nil, err
	}
	g.usedCerts.Store(usedCertificate{r.ids[0], r.certs[0]}, g.Now().UTC())
	s := &xmlsig.Signer{Key: r.signers[0], Certificate: r.certs[0].Raw, Digest: xmlsig.Digest(digest)}
	if a := xmlsig.Algorithm(algorithm); a != "" && a.Fits(s.Key.Public()) {
		s.Algorithm = a
	}
	return s, nil
}

// Keys lists our keys, without their private parts.
func (g *Gate) Keys(ctx context.Context) (*api.List[api.Key], error) {
	var rows []store.Key
	if err := g.Store.Read(ctx).Order("purpose DESC, id DESC").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Key]{Items: []api.Key{}}
	for _, row := range rows {
		k, err := g.showKey(ctx, row)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *k)
	}
	return out, nil
}

func (g *Gate) showKey(ctx context.Context, row store.Key) (*api.Key, error) {
	cert, err := x509.ParseCertificate(row.Certificate)
	if err != nil {
		return nil, err
	}
	k := &api.Key{ID: row.ID, Purpose: row.Purpose, Kind: row.Kind, State: row.State, Created: row.CreatedAt, Published: row.PublishedAt, SwitchAt: row.SwitchAt, Switched: row.SwitchedAt, Retired: row.RetiredAt, LastUsed: row.LastUsed, Description: keys.Describe(cert), PEM: string(keys.EncodeCertificate(cert.Raw))}
	for _, c := range chainOf(row.Chain) {
		k.Chain = append(k.Chain, c.Subject.String())
	}
	if k.UsedBy, err = g.keyUsers(ctx, row); err != nil {
		return nil, err
	}
	if row.OwnerID != "" {
		if k.For, err = g.reference(ctx, row.OwnerKind, row.OwnerID); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// keyUsers counts the partners that meet a key: the one that it is for, or all that have none of their own.
func (g *Gate) keyUsers(ctx context.Context, row store.Key) (int, error) {
	switch {
	case row.State != KeyActive && row.State != KeyRetiring:
		return 0, nil
	case row.OwnerID != "":
		return 1, nil
	}
	n := 0
	if where, ok := tokenUsers[row.Purpose]; ok {
		var count int
		if err := g.Store.Read(ctx).Raw("SELECT count(*) FROM " + where).Scan(&count).Error; err != nil {
			return 0, store.Clear(err)
		}
		return count, nil
	}
	for _, side := range []string{"application", "provider"} {
		if side == "application" && row.Purpose == PurposeEncryption {
			continue
		}
		var count int
		err := g.Store.Read(ctx).Raw("SELECT count(*) FROM "+side+"s o WHERE o.kind = 'saml' AND NOT EXISTS (SELECT 1 FROM keys k WHERE k.owner_id = o.id AND k.purpose = ? AND k.state = ?)", row.Purpose, KeyActive).Scan(&count).Error
		if err != nil {
			return 0, store.Clear(err)
		}
		n += count
	}
	return n, nil
}

func chainOf(text string) []*x509.Certificate {
	var out []*x509.Certificate
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return out
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil {
			out = append(out, c)
		}
	}
}

// reference names an object by kind and ID; one that was deleted is named by its ID.
func (g *Gate) reference(ctx context.Context, kind, id string) (*api.Reference, error) {
	var row struct {
		Slug, Name, Kind, Reach string
		EntityID                *string
	}
	if err := g.Store.Read(ctx).Table(kind+"s").Where("id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &api.Reference{Slug: row.Slug, Name: row.Name, Kind: kind, Reach: row.Reach}
	if row.EntityID != nil {
		r.EntityID = *row.EntityID
	}
	if r.Slug == "" {
		r.Name = "deleted (" + id + ")"
	}
	return r, nil
}

// owner finds the object that "applications/slug" or "providers/slug" names.
func (g *Gate) owner(ctx context.Context, path string) (kind, id string, err error) {
	if path == "" {
		return "", "", nil
	}
	side, slug, _ := strings.Cut(path, "/")
	switch side {
	case "applications":
		id, err := g.objectNamed(ctx, "application", slug)
		return "application", id, err
	case "providers":
		id, err := g.objectNamed(ctx, "provider", slug)
		return "provider", id, err
	}
	return "", "", badRequest("bad-partner", fmt.Sprintf("%q names no partner.", path), "Write applications/ or providers/ and the short name.")
}

func (g *Gate) objectNamed(ctx context.Context, kind, slug string) (id string, err error) {
	if err := g.Store.Read(ctx).Table(kind+"s").Select("id").Where("slug = ?", slug).Limit(1).Scan(&id).Error; err != nil {
		return "", store.Clear(err)
	}
	if id == "" {
		return "", notFound(kind, slug)
	}
	return id, nil
}

// OurMetadata is our metadata for applications in general (both empty), as the identity provider towards one application, or as the service provider towards
// one provider. It also returns the IDs of keys that it holds beside the active one.
func (g *Gate) OurMetadata(ctx context.Context, side, slug string, signed bool) ([]byte, error) {
	entity, owner, _, err := g.ourEntity(ctx, side, slug)
	if err != nil {
		return nil, err
	}
	var signer *xmlsig.Signer
	if signed {
		if signer, err = g.signer(ctx, owner, "", ""); err != nil {
			return nil, err
		}
	}
	return saml.WriteMetadata(*entity, 30*24*time.Hour, g.Now(), signer)
}

// ourEntity lays out what we are towards a partner.
func (g *Gate) ourEntity(ctx context.Context, side, slug string) (*saml.Entity, string, *ring, error) {
	role := saml.Role{Kind: saml.RoleIDP, DisplayName: "Inner Gate"}
	entity := &saml.Entity{EntityID: string(g.IDPEntityID())}
	owner := ""
	zero := 0
	artifact := saml.Endpoint{Service: saml.ServiceArtifact, Binding: saml.BindingSOAP, Location: g.PublicURL + "/saml/idp/artifact", Index: &zero, Default: true}
	idp := func(base string) {
		role.NameIDFormats = []string{saml.FormatPersistent, saml.FormatTransient, saml.FormatEmail, saml.FormatUnspecified}
		role.Endpoints = append(role.Endpoints, artifact)
		for _, b := range []string{saml.BindingRedirect, saml.BindingPost} {
			role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceSSO, Binding: b, Location: base + "/sso"}, saml.Endpoint{Service: saml.ServiceSLO, Binding: b, Location: base + "/slo"})
		}
		role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceSLO, Binding: saml.BindingSOAP, Location: base + "/slo"})
	}
	switch side {
	case "":
		idp(g.PublicURL + "/saml/idp")
	case "application":
		a, err := g.application(ctx, slug)
		if err == nil && a.SAML == nil {
			err = noMetadata(a.Name)
		}
		if err != nil {
			return nil, "", nil, err
		}
		owner, entity.EntityID = a.id, string(g.idpEntity(a))
		idp(strings.TrimSuffix(g.ssoLocation(a), "/sso"))
		role.WantAuthnRequestsSigned = a.SAML.RequireSignedRequests
		entity.Roles = nil
	default:
		p, err := g.provider(ctx, slug)
		if err == nil && p.SAML == nil {
			err = noMetadata(p.Name)
		}
		if err != nil {
			return nil, "", nil, err
		}
		owner, entity.EntityID = p.id, string(g.spEntity(p))
		role.Kind, role.AuthnRequestsSigned, role.WantAssertionsSigned = saml.RoleSP, !p.SAML.SendUnsigned, true
		encryption, err := g.ring(ctx, PurposeEncryption, p.id)
		if err != nil {
			return nil, "", nil, err
		}
		for _, c := range encryption.published {
			role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "encryption", Certificate: c})
		}
		if p.SAML.NameIDFormat != "" {
			role.NameIDFormats = []string{p.SAML.NameIDFormat}
		}
		one := 1
		role.Endpoints = []saml.Endpoint{{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: g.ACSLocation(p.Slug), Index: &zero, Default: p.SAML.ResponseBinding != "HTTP-Artifact"}}
		if len(p.SAML.Artifact) > 0 {
			role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceACS, Binding: saml.BindingArtifact, Location: g.ACSLocation(p.Slug), Index: &one, Default: p.SAML.ResponseBinding == "HTTP-Artifact"})
		}
		for _, b := range []string{saml.BindingRedirect, saml.BindingPost, saml.BindingSOAP} {
			role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceSLO, Binding: b, Location: g.SLOLocation(p.Slug)})
		}
		for _, rule := range p.whole {
			if len(rule.From) > 0 && rule.From[0] != "NameID" {
				role.RequestedAttributes = append(role.RequestedAttributes, saml.RequestedAttribute{Name: rule.From[0], NameFormat: nameFormatOf(rule.From[0]), FriendlyName: rule.Set, Required: rule.Required})
			}
		}
	}
	signing, err := g.ring(ctx, PurposeSigning, owner)
	if err != nil {
		return nil, "", nil, err
	}
	for i := len(signing.published) - 1; i >= 0; i-- {
		role.Keys = append([]saml.KeyDescriptor{{Use: "signing", Certificate: signing.published[i]}}, role.Keys...)
	}
	entity.Roles = []saml.Role{role}
	return entity, owner, signing, nil
}

// idpEntity is our entity ID towards an application.
func (g *Gate) idpEntity(a *application) saml.EntityID {
	if a.SAML.OwnEntityID {
		return saml.EntityID(g.PublicURL + "/saml/idp/" + a.Slug)
	}
	return g.IDPEntityID()
}

// ssoLocation is our address for an application's requests.
func (g *Gate) ssoLocation(a *application) string {
	if a.SAML.OwnEntityID {
		return g.PublicURL + "/saml/idp/" + a.Slug + "/sso"
	}
	return g.SSOLocation()
}

// spEntity is our entity ID towards a provider.
func (g *Gate) spEntity(p *provider) saml.EntityID {
	if p.SAML.OwnEntityID {
		return saml.EntityID(g.PublicURL + "/saml/sp/" + p.Slug)
	}
	return g.SPEntityID()
}

// ourIDs are entity IDs that nobody else may have.
func (g *Gate) ourIDs() []string { return []string{string(g.IDPEntityID()), string(g.SPEntityID())} }

// nameFormatOf guesses an attribute's name format from the look of its name.
func nameFormatOf(name string) string {
	if u, err := url.Parse(name); err == nil && u.Scheme != "" {
		return saml.NameFormatURI
	}
	return saml.NameFormatBasic
}

func decodeBody[T any](body string) (T, error) {
	var v T
	err := json.Unmarshal([]byte(body), &v)
	return v, err
}

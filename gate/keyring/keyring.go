package keyring

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/words"
	"innergate/core/xmlsig"
	"innergate/gate/ground"
	"innergate/store"
)

// Purposes lists the purposes of keys.
var Purposes = []string{
	keys.PurposeSigning,
	keys.PurposeEncryption,
	keys.PurposeTokenRSA,
	keys.PurposeTokenEC,
	keys.PurposeTokenEd,
	keys.PurposeClient,
}

// States of our keys.
const (
	KeyNext     = "next"     // made; once published, others learn of it
	KeyActive   = "active"   // the one that signs, or that others should encrypt for
	KeyRetiring = "retiring" // still there for those who have not changed over
	KeyRetired  = "retired"  // kept for the record only
)

// Ring holds our keys for a purpose towards one partner: the active one first, then those that still count.
type Ring struct {
	IDs     []string
	Signers []crypto.Signer
	Certs   []*x509.Certificate
	// published are the certificates that metadata holds.
	Published []*x509.Certificate
	Holders   []string // the IDs of the keys that are published and not active
	tokens    sync.Map // algorithm → *jose.Signer
}

const certificateLife = 5 * 365 * 24 * time.Hour

// Ensure makes the first signing and encryption key of an empty data folder.
func (g *Room) Ensure(ctx context.Context) error {
	for _, purpose := range Purposes {
		var have int64
		if err := g.Store.Read(ctx).Model(&store.Key{}).Where("purpose = ? AND owner_id = '' OR purpose = ? AND owner_id IS NULL",
			purpose, purpose).Limit(1).Count(&have).Error; err != nil {
			return store.Clear(err)
		}
		if have > 0 {
			continue
		}
		k, err := g.newKey(api.NewKey{Purpose: purpose, Kind: string(keys.KindsFor[purpose][0])})
		if err != nil {
			return err
		}
		now := g.Now().UTC()
		k.State, k.PublishedAt, k.SwitchedAt = KeyActive, &now, &now
		if err := g.storeKey(ctx, ground.System, k, "made"); err != nil {
			return err
		}
	}
	// A wrong master key is noticed at the start, not at the first sign-in.
	_, err := g.Ring(ctx, keys.PurposeSigning, "")
	return err
}

// newKey makes a key with a certificate of its own.
func (g *Room) newKey(in api.NewKey) (*store.Key, error) {
	signer, err := g.KeySource.Make(keys.Kind(in.Kind))
	if err != nil {
		return nil, ground.BadRequest("key-kind", words.Capitalise(err.Error())+".", "")
	}
	life := certificateLife
	if in.Days > 0 {
		life = time.Duration(in.Days) * 24 * time.Hour
	}
	name := in.CommonName
	if name == "" {
		name = g.Host() + " " + in.Purpose
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

func (g *Room) sealKey(purpose string, b *keys.Bundle) (*store.Key, error) {
	private, err := keys.MarshalPrivate(b.Key)
	if err != nil {
		return nil, err
	}
	k := &store.Key{
		ID:          store.NewID(),
		Purpose:     purpose,
		Kind:        string(keys.KindOf(b.Key.Public())),
		State:       KeyNext,
		Certificate: b.Certificate.Raw,
		Chain:       keys.EncodeChain(b.Chain),
		CreatedAt:   g.Now().UTC(),
	}
	k.Sealed = g.Store.Sealer.Seal(store.PlaceKey, k.ID, private)
	return k, nil
}

func (g *Room) storeKey(ctx context.Context, who ground.Actor, k *store.Key, action string) error {
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(k).Error; err != nil {
			return err
		}
		if err := ground.Journal(tx, g.Now(), who, action, "key", k.ID, k.Purpose, "", keys.Fingerprint(k.Certificate)); err != nil {
			return err
		}
		return store.Changed(tx)
	})
	if errors.Is(err, store.ErrDuplicate) {
		return ground.Problem(
			http.StatusConflict, "key-next", "There is a next key already",
			"For this purpose a next key was made already; two at once would leave nobody knowing which one comes.",
			"Go on with that one, or discard it first.",
		)
	}
	return err
}

// Ring reads our keys for a purpose: the partner's own where it has an active one, else the gate's.
func (g *Room) Ring(ctx context.Context, purpose, owner string) (*Ring, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	at := purpose + "/" + owner
	if r, ok := c.Keys.Load(at); ok {
		return r.(*Ring), nil
	}
	var rows []store.Key
	if err := g.Store.Read(ctx).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state <> ?", purpose, owner,
		KeyRetired).Order("id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &Ring{}
	slices.SortStableFunc(rows, func(a, b store.Key) int { return strings.Compare(a.State, b.State) }) // active, next, retiring
	for _, row := range rows {
		if row.State == KeyNext && row.PublishedAt == nil {
			continue
		}
		if err := g.addToRing(r, row, purpose); err != nil {
			return nil, err
		}
	}
	own := len(rows) > 0 && rows[0].State == KeyActive
	if owner != "" && !own && purpose == keys.PurposeClient {
		return g.ownClientKey(ctx, owner)
	}
	if owner != "" && !own {
		// Towards this partner the gate's own key is active still; a published one of the partner's own is known beside
		// it.
		shared, err := g.Ring(ctx, purpose, "")
		if err != nil {
			return nil, err
		}
		r = &Ring{
			IDs: append(
				slices.Clone(shared.IDs),
				r.IDs...), Signers: append(slices.Clone(shared.Signers), r.Signers...),
			Certs:     append(slices.Clone(shared.Certs), r.Certs...),
			Published: append(slices.Clone(shared.Published), r.Published...), Holders: append(slices.Clone(shared.Holders), r.Holders...),
		}
	}
	if len(r.Signers) == 0 {
		return nil, fmt.Errorf("there is no active key for %s", purpose)
	}
	c.Keys.Store(at, r)
	return r, nil
}

// ownClientKey makes the key with which we prove who we are to one provider. Each has one of its own, so that what one of
// them gets of us proves nothing to another.
func (g *Room) ownClientKey(ctx context.Context, owner string) (*Ring, error) {
	k, err := g.newKey(api.NewKey{Purpose: keys.PurposeClient, Kind: string(keys.KindsFor[keys.PurposeClient][0])})
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	k.OwnerID, k.State, k.PublishedAt, k.SwitchedAt = owner, KeyActive, &now, &now
	var there *api.Problem
	if err := g.storeKey(ctx, ground.System, k, "made"); err != nil && !errors.As(err, &there) {
		return nil, err // where another request made it meanwhile, that one is taken
	}
	return g.Ring(ctx, keys.PurposeClient, owner)
}

func (g *Room) addToRing(r *Ring, row store.Key, purpose string) error {
	der, err := g.Store.Sealer.Open(store.PlaceKey, row.ID, row.Sealed)
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
	r.IDs, r.Signers, r.Certs = append(r.IDs, row.ID), append(r.Signers, signer), append(r.Certs, cert)
	// A retiring encryption key still decrypts, but nobody new shall encrypt for it.
	if purpose == keys.PurposeEncryption && row.State == KeyRetiring {
		return nil
	}
	r.Published = append(r.Published, cert)
	if row.State == KeyNext {
		r.Holders = append(r.Holders, row.ID)
	}
	return nil
}

// Signer is our active signing key towards a partner, with the algorithms that it demands where they fit.
func (g *Room) Signer(ctx context.Context, a Approval, algorithm, digest string) (*xmlsig.Signer, error) {
	if err := a.check(); err != nil {
		return nil, err
	}
	r, err := g.Ring(ctx, keys.PurposeSigning, a.owner)
	if err != nil {
		return nil, err
	}
	g.usedCerts.Store(usedCertificate{r.IDs[0], r.Certs[0]}, g.Now().UTC())
	return &xmlsig.Signer{
		Key: r.Signers[0], Certificate: r.Certs[0].Raw, Algorithm: r.Algorithm(algorithm), Digest: xmlsig.Digest(digest),
	}, nil
}

// Algorithm is with which algorithm the active key signs: the one that is set, by its URI, where it can; else its own.
func (r *Ring) Algorithm(set string) xmlsig.Algorithm {
	key := r.Signers[0].Public()
	if a := xmlsig.Algorithm(set); a != "" && a.Fits(key) {
		return a
	}
	return xmlsig.DefaultAlgorithm(key)
}

// Keys lists our keys, without their private parts.
func (g *Room) Keys(ctx context.Context) (*api.List[api.Key], error) {
	var rows []store.Key
	if err := g.Store.Read(ctx).Order("purpose DESC, id DESC").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Key]{Items: []api.Key{}}
	for _, row := range rows {
		k, err := g.ShowKey(ctx, row)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *k)
	}
	return out, nil
}

// ShowKey is a key as people see it, without its private part.
func (g *Room) ShowKey(ctx context.Context, row store.Key) (*api.Key, error) {
	cert, err := x509.ParseCertificate(row.Certificate)
	if err != nil {
		return nil, err
	}
	k := &api.Key{
		ID:          row.ID,
		Purpose:     row.Purpose,
		Kind:        row.Kind,
		State:       row.State,
		Created:     row.CreatedAt,
		Published:   row.PublishedAt,
		SwitchAt:    row.SwitchAt,
		Switched:    row.SwitchedAt,
		Retired:     row.RetiredAt,
		LastUsed:    row.LastUsed,
		Description: keys.Describe(cert),
		PEM:         string(keys.EncodeCertificate(cert.Raw)),
	}
	for _, c := range chainOf(row.Chain) {
		k.Chain = append(k.Chain, c.Subject.String())
	}
	if k.UsedBy, err = g.keyUsers(ctx, row); err != nil {
		return nil, err
	}
	if row.OwnerID != "" {
		if k.For, err = g.Reference(ctx, row.OwnerKind, row.OwnerID); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// keyUsers counts the partners that meet a key: the one that it is for, or all that have none of their own.
func (g *Room) keyUsers(ctx context.Context, row store.Key) (int, error) {
	switch {
	case row.State != KeyActive && row.State != KeyRetiring:
		return 0, nil
	case row.OwnerID != "":
		return 1, nil
	}
	n := 0
	if where, ok := TokenUsers[row.Purpose]; ok {
		var count int
		if err := g.Store.Read(ctx).Raw("SELECT count(*) FROM " + where).Scan(&count).Error; err != nil {
			return 0, store.Clear(err)
		}
		return count, nil
	}
	for _, side := range []string{"application", "provider"} {
		if side == "application" && row.Purpose == keys.PurposeEncryption {
			continue
		}
		var count int
		err := g.Store.Read(ctx).
			Raw("SELECT count(*) FROM "+side+
				"s o WHERE o.kind = 'saml' AND NOT EXISTS (SELECT 1 FROM keys k WHERE k.owner_id = o.id AND k.purpose = ? AND k.state "+
				"= ?)", row.Purpose, KeyActive).
			Scan(&count).
			Error
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

package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/store"
)

// kindsOf lists which kinds of keys serve a purpose, the usual one first.
var kindsOf = map[string][]keys.Kind{
	PurposeSigning:    {keys.RSA2048, keys.RSA3072, keys.RSA4096, keys.P256, keys.P384},
	PurposeEncryption: {keys.RSA2048, keys.RSA3072, keys.RSA4096},
	PurposeTokenRSA:   {keys.RSA2048, keys.RSA3072, keys.RSA4096},
	PurposeTokenEC:    {keys.P256},
	PurposeTokenEd:    {keys.Ed25519},
	PurposeClient:     {keys.P256, keys.RSA2048, keys.RSA3072, keys.Ed25519},
}

func checkPurpose(purpose, kind string) error {
	kinds, ok := kindsOf[purpose]
	if !ok {
		return badRequest("key-purpose", fmt.Sprintf("%q is no purpose of a key; %s are.", purpose, strings.Join(Purposes, ", ")), "")
	}
	if kind == "" || slices.Contains(kinds, keys.Kind(kind)) {
		return nil
	}
	var names []string
	for _, k := range kinds {
		names = append(names, string(k))
	}
	reason := "Others could not use it, or it does not fit the algorithm that is promised to them."
	if purpose == PurposeEncryption {
		reason = "An encryption key must be an RSA key: SAML partners wrap the content key for it by RSA-OAEP."
	}
	return badRequest("key-kind", reason, "Choose "+strings.Join(names, ", ")+".")
}

// MakeKey makes the next key for a purpose. Nobody learns of it until it is published.
func (g *Gate) MakeKey(ctx context.Context, who Actor, in api.NewKey) (*api.Key, error) {
	if kinds := kindsOf[in.Purpose]; in.Kind == "" && len(kinds) > 0 {
		in.Kind = string(kinds[0])
	}
	if err := checkPurpose(in.Purpose, in.Kind); err != nil {
		return nil, err
	}
	if in.Days < 0 || in.Days > 20*365 || len(in.CommonName) > 64 {
		return nil, badRequest("key-days", "A certificate is good for 1 to 7300 days, and its name has at most 64 characters.", "")
	}
	kind, id, err := g.keyOwner(ctx, in.Purpose, in.For)
	if err != nil {
		return nil, err
	}
	k, err := g.newKey(in)
	if err != nil {
		return nil, err
	}
	k.OwnerKind, k.OwnerID = kind, id
	if err := g.storeKey(ctx, who, k, "made"); err != nil {
		return nil, err
	}
	return g.showKey(ctx, *k)
}

// keyOwner finds the partner that a key shall be for alone. The keys for tokens are for everybody, since everybody fetches one key set; our proof is for providers.
func (g *Gate) keyOwner(ctx context.Context, purpose, path string) (kind, id string, err error) {
	_, token := tokenUsers[purpose]
	if path != "" && token && (purpose != PurposeClient || !strings.HasPrefix(path, "providers/")) {
		return "", "", badRequest("key-for-all", "A key for tokens can't be for one partner alone: everybody fetches the same key set.", "Make it for all partners.")
	}
	return g.owner(ctx, path)
}

// ImportKey takes a key that was made elsewhere as the next one.
func (g *Gate) ImportKey(ctx context.Context, who Actor, in api.ImportKey) (*api.Key, error) {
	b, err := keys.ParseBundle([]byte(in.Data), in.Password)
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "key-import", "The key can't be taken", capitalise(err.Error())+".", "Nothing was changed.")
	}
	if err := xmlsig.CheckKey(b.Key.Public()); err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "key-import", "The key can't be taken", capitalise(err.Error())+".", "Nothing was changed.")
	}
	if err := checkPurpose(in.Purpose, string(keys.KindOf(b.Key.Public()))); err != nil {
		return nil, err
	}
	kind, id, err := g.keyOwner(ctx, in.Purpose, in.For)
	if err != nil {
		return nil, err
	}
	k, err := g.sealKey(in.Purpose, b)
	if err != nil {
		return nil, err
	}
	k.OwnerKind, k.OwnerID = kind, id
	if err := g.storeKey(ctx, who, k, "imported"); err != nil {
		return nil, err
	}
	return g.showKey(ctx, *k)
}

func (g *Gate) keyRow(ctx context.Context, id string) (*store.Key, error) {
	var k store.Key
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&k).Error; err != nil {
		return nil, missing(err, "key", id)
	}
	return &k, nil
}

// KeyRequest makes a certificate signing request for a key that is not retired.
func (g *Gate) KeyRequest(ctx context.Context, id, commonName string) ([]byte, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	der, err := g.Store.Sealer.Open("key/"+k.ID, k.Sealed)
	if err != nil {
		return nil, err
	}
	signer, err := keys.ParsePrivate(der)
	if err != nil {
		return nil, err
	}
	if commonName == "" {
		commonName = g.host()
	}
	return keys.Request(signer, commonName)
}

// KeyCertificate gives a key's certificate: pem, der, or chain for all of them in PEM.
func (g *Gate) KeyCertificate(ctx context.Context, id, form string) ([]byte, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	switch form {
	case "", "pem":
		return keys.EncodeCertificate(k.Certificate), nil
	case "der":
		return k.Certificate, nil
	case "base64":
		return []byte(base64.StdEncoding.EncodeToString(k.Certificate) + "\n"), nil
	case "chain":
		return append(keys.EncodeCertificate(k.Certificate), k.Chain...), nil
	}
	return nil, badRequest("certificate-form", fmt.Sprintf("%q is no form of a certificate; pem, der, base64 and chain are.", form), "")
}

// CertifyKey gives a key that is not published yet the certificate that an authority made for it.
func (g *Gate) CertifyKey(ctx context.Context, who Actor, id, text string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyNext || k.PublishedAt != nil {
		return nil, conflict("key-published", "The certificate of a key that others know already stays as it is: they compare it with what they hold.", "Make the next key, and give that one the certificate.")
	}
	der, err := g.Store.Sealer.Open("key/"+k.ID, k.Sealed)
	if err != nil {
		return nil, err
	}
	signer, err := keys.ParsePrivate(der)
	if err != nil {
		return nil, err
	}
	leaf, chain, err := keys.ParseChain([]byte(text), signer.Public())
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "certificate-import", "The certificate can't be taken", capitalise(err.Error())+".", "Nothing was changed.")
	}
	before := keys.Fingerprint(k.Certificate)
	err = g.changeKey(ctx, who, k, "certified", before, keys.Fingerprint(leaf.Raw), map[string]any{"certificate": leaf.Raw, "chain": keys.EncodeChain(chain)}, "state = ? AND published_at IS NULL", KeyNext)
	if err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

func (g *Gate) shownKey(ctx context.Context, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	return g.showKey(ctx, *k)
}

func conflict(code, detail, remedy string) error {
	return problem(http.StatusConflict, code, "Not now", detail, remedy)
}

var errKeyMoved = conflict("changed-meanwhile", "Somebody else changed this key meanwhile; nothing was done.", "Load the page again.")

// changeKey writes one step of a key's life, if the key is still as it was.
func (g *Gate) changeKey(ctx context.Context, who Actor, k *store.Key, action, before, after string, values map[string]any, still string, args ...any) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.keyStep(tx, who, k, action, before, after, values, still, args...)
	})
}

func (g *Gate) keyStep(tx *gorm.DB, who Actor, k *store.Key, action, before, after string, values map[string]any, still string, args ...any) error {
	done := tx.Model(&store.Key{}).Where("id = ?", k.ID).Where(still, args...).Updates(values)
	if done.Error != nil {
		return done.Error
	}
	if done.RowsAffected == 0 {
		return errKeyMoved
	}
	if err := journal(tx, g.Now(), who, action, "key", k.ID, k.Purpose+" "+keys.Fingerprint(k.Certificate)[:11], before, after); err != nil {
		return err
	}
	return store.Changed(tx)
}

// PublishKey puts the next key into our metadata, beside the active one.
func (g *Gate) PublishKey(ctx context.Context, who Actor, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyNext || k.PublishedAt != nil {
		return nil, conflict("key-state", "Only a next key that is not published yet can be published; this one is "+stateInWords(k)+".", "")
	}
	if err := g.changeKey(ctx, who, k, "published", "", "", map[string]any{"published_at": g.Now().UTC()}, "state = ? AND published_at IS NULL", KeyNext); err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

func stateInWords(k *store.Key) string {
	switch {
	case k.State == KeyNext && k.PublishedAt == nil:
		return "made, and not published"
	case k.State == KeyNext && k.SwitchAt != nil:
		return "published, and will become active at " + k.SwitchAt.UTC().Format(time.RFC3339)
	case k.State == KeyNext:
		return "published"
	}
	return k.State
}

// SwitchKey makes the published next key the active one: at once, or at a time. The one before becomes retiring.
func (g *Gate) SwitchKey(ctx context.Context, who Actor, id string, at *time.Time) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyNext || k.PublishedAt == nil {
		return nil, conflict("key-state", "Only a published next key can become the active one; this one is "+stateInWords(k)+".", "Publish it first, so that partners can get it.")
	}
	if at != nil {
		when := at.UTC()
		if !when.After(g.Now()) || when.After(g.Now().Add(366*24*time.Hour)) {
			return nil, badRequest("switch-time", "The time for the switch must lie ahead, within a year.", "Leave it out to switch at once.")
		}
		err = g.changeKey(ctx, who, k, "scheduled", "", when.Format(time.RFC3339), map[string]any{"switch_at": when}, "state = ? AND published_at IS NOT NULL", KeyNext)
	} else {
		err = g.switchKey(ctx, who, k)
	}
	if err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

func (g *Gate) switchKey(ctx context.Context, who Actor, k *store.Key) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(&store.Key{}).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state = ?", k.Purpose, k.OwnerID, KeyActive).Updates(map[string]any{"state": KeyRetiring}).Error; err != nil {
			return err
		}
		return g.keyStep(tx, who, k, "switched to", "", "", map[string]any{"state": KeyActive, "switched_at": now, "switch_at": nil}, "state = ? AND published_at IS NOT NULL", KeyNext)
	})
}

// SwitchDue makes the switches whose time has come.
func (g *Gate) SwitchDue(ctx context.Context) error {
	var due []store.Key
	if err := g.Store.Read(ctx).Where("switch_at <= ? AND state = ?", g.Now().UTC(), KeyNext).Find(&due).Error; err != nil {
		return store.Clear(err)
	}
	for i := range due {
		if err := g.switchKey(ctx, System, &due[i]); err != nil && !errors.Is(err, errKeyMoved) {
			return err
		}
	}
	return nil
}

// RetireKey takes a retiring key out of use and out of our metadata. This is the step that can't be taken back.
func (g *Gate) RetireKey(ctx context.Context, who Actor, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyRetiring {
		return nil, conflict("key-state", "Only a retiring key can be retired; this one is "+stateInWords(k)+".", "")
	}
	if err := g.changeKey(ctx, who, k, "retired", "", "", map[string]any{"state": KeyRetired, "retired_at": g.Now().UTC()}, "state = ?", KeyRetiring); err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

// UndoKey takes back the last step of a key: a planned switch, a switch while the key before is still there, or a publication.
func (g *Gate) UndoKey(ctx context.Context, who Actor, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case k.State == KeyNext && k.SwitchAt != nil:
		err = g.changeKey(ctx, who, k, "unscheduled", "", "", map[string]any{"switch_at": nil}, "state = ? AND switch_at IS NOT NULL", KeyNext)
	case k.State == KeyNext && k.PublishedAt != nil:
		err = g.Store.Write(ctx, func(tx *gorm.DB) error {
			if err := tx.Where("key_id = ?", k.ID).Delete(&store.KeyHolder{}).Error; err != nil {
				return err
			}
			return g.keyStep(tx, who, k, "unpublished", "", "", map[string]any{"published_at": nil}, "state = ? AND switch_at IS NULL", KeyNext)
		})
	case k.State == KeyActive:
		err = g.switchBack(ctx, who, k)
	default:
		err = conflict("key-state", "There is no step of this key to take back; it is "+stateInWords(k)+".", "")
	}
	if err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

// switchBack makes the key before active again. A partner's own first key goes back to being the next one, and the gate's signs again.
func (g *Gate) switchBack(ctx context.Context, who Actor, k *store.Key) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var before store.Key
		if err := tx.Where("purpose = ? AND coalesce(owner_id, '') = ? AND state = ?", k.Purpose, k.OwnerID, KeyRetiring).Order("switched_at DESC").Limit(1).Find(&before).Error; err != nil {
			return err
		}
		if before.ID == "" && k.OwnerID == "" {
			return conflict("key-state", "There is no key to go back to: the one before is retired.", "Make a new key, and go forward with that one.")
		}
		var next int64
		if err := tx.Model(&store.Key{}).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state = ?", k.Purpose, k.OwnerID, KeyNext).Count(&next).Error; err != nil {
			return err
		}
		if next > 0 {
			return conflict("key-next", "A next key was made already, and this one would have to become the next one again.", "Discard that next key first.")
		}
		if err := g.keyStep(tx, who, k, "switched back from", "", "", map[string]any{"state": KeyNext, "switched_at": nil}, "state = ?", KeyActive); err != nil {
			return err
		}
		if before.ID == "" {
			return nil
		}
		return tx.Model(&store.Key{}).Where("id = ? AND state = ?", before.ID, KeyRetiring).Updates(map[string]any{"state": KeyActive}).Error
	})
}

// DiscardKey deletes a next key that is not published.
func (g *Gate) DiscardKey(ctx context.Context, who Actor, id string) error {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("id = ? AND state = ? AND published_at IS NULL", id, KeyNext).Delete(&store.Key{})
		if gone.Error != nil {
			return gone.Error
		}
		if gone.RowsAffected == 0 {
			return conflict("key-state", "Only a next key that nobody has learnt of can be discarded; this one is "+stateInWords(k)+".", "Take its publication back first.")
		}
		if err := journal(tx, g.Now(), who, "discarded", "key", k.ID, k.Purpose, keys.Fingerprint(k.Certificate), ""); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// ConfirmHolder notes that a partner has a key's certificate, as somebody says, or takes that back.
func (g *Gate) ConfirmHolder(ctx context.Context, who Actor, id, partner string, has bool) error {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return err
	}
	kind, owner, err := g.owner(ctx, partner)
	if err != nil {
		return err
	}
	if owner == "" || k.PublishedAt == nil {
		return badRequest("key-holder", "A partner can only have a certificate that was published.", "Publish the key first.")
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		action := "confirmed"
		if has {
			err = holder(tx, k.ID, kind, owner, "confirmed", who.Name, now)
		} else {
			action = "unconfirmed"
			err = tx.Where("key_id = ? AND owner_kind = ? AND owner_id = ?", k.ID, kind, owner).Delete(&store.KeyHolder{}).Error
		}
		if err != nil {
			return err
		}
		return journal(tx, now, who, action, "key", k.ID, k.Purpose, "", partner)
	})
}

func holder(tx *gorm.DB, key, kind, owner, how, by string, at time.Time) error {
	return tx.Exec("INSERT INTO key_holders (key_id, owner_kind, owner_id, how, by, at) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (key_id, owner_kind, owner_id) DO UPDATE SET how = excluded.how, by = excluded.by, at = excluded.at", key, kind, owner, how, by, at).Error
}

// Rollover tells how far the replacement of a key is. At most 200 partners are listed, those without the next certificate first.
func (g *Gate) Rollover(ctx context.Context, purpose, partner string) (*api.Rollover, error) {
	if err := checkPurpose(purpose, ""); err != nil {
		return nil, err
	}
	kind, owner, err := g.owner(ctx, partner)
	if err != nil {
		return nil, err
	}
	out := &api.Rollover{Purpose: purpose, Retiring: []api.Key{}, Partners: []api.KeyPartner{}}
	if owner != "" {
		if out.For, err = g.reference(ctx, kind, owner); err != nil {
			return nil, err
		}
	}
	var rows []store.Key
	if err := g.Store.Read(ctx).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state <> ?", purpose, owner, KeyRetired).Order("id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, row := range rows {
		k, err := g.showKey(ctx, row)
		if err != nil {
			return nil, err
		}
		switch row.State {
		case KeyActive:
			out.Active = k
		case KeyNext:
			out.Next = k
		default:
			out.Retiring = append(out.Retiring, *k)
		}
	}
	switch {
	case out.Next == nil && len(out.Retiring) > 0:
		out.Step = "keep"
	case out.Next == nil:
		out.Step = "make"
	case out.Next.Published == nil:
		out.Step = "publish"
	case out.Next.SwitchAt != nil:
		out.Step = "scheduled"
	default:
		out.Step = "wait"
	}
	tracked := out.Next
	if tracked == nil {
		tracked = out.Active
	}
	if tracked != nil && tracked.Published != nil {
		err = g.keyPartners(ctx, out, tracked.ID, purpose, kind, owner)
	}
	return out, err
}

// keyPartners lists who must have a key's certificate: for signing everybody, for encryption the providers; those with a key of their own excepted.
func (g *Gate) keyPartners(ctx context.Context, out *api.Rollover, key, purpose, kind, owner string) error {
	sides := []string{"application", "provider"}
	if _, token := tokenUsers[purpose]; token {
		return nil // everybody fetches one key set, so nobody knows who has which key
	}
	if purpose == PurposeEncryption {
		sides = []string{"provider"}
	}
	for _, side := range sides {
		if kind != "" && kind != side {
			continue
		}
		query := "FROM " + side + "s o LEFT JOIN key_holders h ON h.key_id = ? AND h.owner_kind = ? AND h.owner_id = o.id WHERE o.reach NOT IN ('closed', 'draft') AND o.kind = 'saml' AND o.entity_id IS NOT NULL"
		args := []any{key, side}
		if owner != "" {
			query, args = strings.Replace(query, "NOT IN ('closed', 'draft')", "<> 'closed'", 1)+" AND o.id = ?", append(args, owner)
		} else {
			query, args = query+" AND NOT EXISTS (SELECT 1 FROM keys k WHERE k.owner_id = o.id AND k.purpose = ? AND k.state = ?)", append(args, purpose, KeyActive)
		}
		var counts struct{ All, Have int }
		if err := g.Store.Read(ctx).Raw("SELECT count(*) AS \"all\", count(h.at) AS have "+query, args...).Scan(&counts).Error; err != nil {
			return store.Clear(err)
		}
		out.Count, out.Have = out.Count+counts.All, out.Have+counts.Have
		var rows []struct {
			Slug, Name, Reach, How, By string
			EntityID                   *string
			At, LastSignIn             *time.Time
		}
		if err := g.Store.Read(ctx).Raw("SELECT o.slug, o.name, o.reach, o.entity_id, o.last_sign_in, h.how, h.by, h.at "+query+" ORDER BY h.at IS NOT NULL, o.name LIMIT 200", args...).Scan(&rows).Error; err != nil {
			return store.Clear(err)
		}
		for _, r := range rows {
			out.Partners = append(out.Partners, api.KeyPartner{Reference: api.Reference{Slug: r.Slug, Name: r.Name, Kind: side, Reach: r.Reach}, Has: r.At != nil, How: r.How, By: r.By, At: r.At, LastSignIn: r.LastSignIn})
		}
	}
	slices.SortStableFunc(out.Partners, func(a, b api.KeyPartner) int {
		if a.Has == b.Has {
			return 0
		}
		if a.Has {
			return 1
		}
		return -1
	})
	return nil
}

// HandOutMetadata gives our metadata to whoever fetches it from a partner's own address, and remembers that this partner has what is in it. Of the same
// content only the first and the last time are kept, and strangers can add no more than the partner's own lines.
func (g *Gate) HandOutMetadata(ctx context.Context, side, slug string, signed, counts bool, from string) ([]byte, error) {
	entity, owner, signing, err := g.ourEntity(ctx, side, slug)
	if err != nil {
		return nil, err
	}
	doc, err := g.OurMetadata(ctx, side, slug, signed)
	if err != nil || owner == "" || !counts {
		return doc, err
	}
	holders := slices.Clone(signing.ids[:1])
	holders = append(holders, signing.holders...)
	if side == "provider" {
		encryption, err := g.ring(ctx, PurposeEncryption, owner)
		if err != nil {
			return nil, err
		}
		holders = append(append(holders, encryption.ids[0]), encryption.holders...)
	}
	facts, err := json.Marshal(handedOut(entity))
	if err != nil {
		return nil, err
	}
	return doc, g.noteHandOut(ctx, side, owner, "metadata", string(facts), from, holders)
}

package keyring

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/words"
	"innergate/core/xmlsig"
	"innergate/gate/ground"
	"innergate/store"
)

// CheckPurpose says what is wrong with a purpose and a kind of key.
func CheckPurpose(purpose, kind string) error {
	kinds, ok := keys.KindsFor[purpose]
	if !ok {
		return ground.BadRequest(
			"key-purpose", fmt.Sprintf("%q is no purpose of a key; %s are.", purpose, strings.Join(Purposes, ", ")), "",
		)
	}
	if kind == "" || slices.Contains(kinds, keys.Kind(kind)) {
		return nil
	}
	var names []string
	for _, k := range kinds {
		names = append(names, string(k))
	}
	reason := "Others could not use it, or it does not fit the algorithm that is promised to them."
	if purpose == keys.PurposeEncryption {
		reason = "An encryption key must be an RSA key: SAML partners wrap the content key for it by RSA-OAEP."
	}
	return ground.BadRequest("key-kind", reason, "Choose "+strings.Join(names, ", ")+".")
}

// MakeKey makes the next key for a purpose. Nobody learns of it until it is published.
func (g *Room) MakeKey(ctx context.Context, who ground.Actor, in api.NewKey) (*api.Key, error) {
	if kinds := keys.KindsFor[in.Purpose]; in.Kind == "" && len(kinds) > 0 {
		in.Kind = string(kinds[0])
	}
	if err := CheckPurpose(in.Purpose, in.Kind); err != nil {
		return nil, err
	}
	if in.Days < 0 || in.Days > 20*365 || len(in.CommonName) > 64 {
		return nil, ground.BadRequest("key-days", "A certificate is good for 1 to 7300 days, and its name has at most 64 characters.", "")
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
	return g.ShowKey(ctx, *k)
}

// keyOwner finds the partner that a key shall be for alone. The keys for tokens are for everybody, since everybody
// fetches one key set; our proof is for providers.
func (g *Room) keyOwner(ctx context.Context, purpose, path string) (kind, id string, err error) {
	_, token := TokenUsers[purpose]
	if path != "" && token && (purpose != keys.PurposeClient || !strings.HasPrefix(path, "providers/")) {
		return "", "", ground.BadRequest(
			"key-for-all", "A key for tokens can't be for one partner alone: everybody fetches the same key set.",
			"Make it for all partners.",
		)
	}
	return g.Owner(ctx, path)
}

// ImportKey takes a key that was made elsewhere as the next one.
func (g *Room) ImportKey(ctx context.Context, who ground.Actor, in api.ImportKey) (*api.Key, error) {
	b, err := keys.ParseBundle([]byte(in.Data), in.Password)
	if err != nil {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "key-import", "The key can't be taken", words.Capitalise(err.Error())+".",
			"Nothing was changed.",
		)
	}
	if err := xmlsig.CheckKey(b.Key.Public()); err != nil {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "key-import", "The key can't be taken", words.Capitalise(err.Error())+".",
			"Nothing was changed.",
		)
	}
	if err := CheckPurpose(in.Purpose, string(keys.KindOf(b.Key.Public()))); err != nil {
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
	return g.ShowKey(ctx, *k)
}

func (g *Room) keyRow(ctx context.Context, id string) (*store.Key, error) {
	var k store.Key
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&k).Error; err != nil {
		return nil, ground.Missing(err, "key", id)
	}
	return &k, nil
}

// KeyRequest makes a certificate signing request for a key that is not retired.
func (g *Room) KeyRequest(ctx context.Context, id, commonName string) ([]byte, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	der, err := g.Store.Sealer.Open(store.PlaceKey, k.ID, k.Sealed)
	if err != nil {
		return nil, err
	}
	signer, err := keys.ParsePrivate(der)
	if err != nil {
		return nil, err
	}
	if commonName == "" {
		commonName = g.Host()
	}
	return keys.Request(signer, commonName)
}

// KeyCertificate gives a key's certificate: pem, der, or chain for all of them in PEM.
func (g *Room) KeyCertificate(ctx context.Context, id, form string) ([]byte, error) {
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
	return nil, ground.BadRequest(
		"certificate-form", fmt.Sprintf("%q is no form of a certificate; pem, der, base64 and chain are.", form), "",
	)
}

// CertifyKey gives a key that is not published yet the certificate that an authority made for it.
func (g *Room) CertifyKey(ctx context.Context, who ground.Actor, id, text string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyNext || k.PublishedAt != nil {
		return nil, ground.Conflict(
			"key-published",
			"The certificate of a key that others know already stays as it is: they compare it with what they hold.",
			"Make the next key, and give that one the certificate.",
		)
	}
	der, err := g.Store.Sealer.Open(store.PlaceKey, k.ID, k.Sealed)
	if err != nil {
		return nil, err
	}
	signer, err := keys.ParsePrivate(der)
	if err != nil {
		return nil, err
	}
	leaf, chain, err := keys.ParseChain([]byte(text), signer.Public())
	if err != nil {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "certificate-import", "The certificate can't be taken",
			words.Capitalise(err.Error())+".", "Nothing was changed.",
		)
	}
	before := keys.Fingerprint(k.Certificate)
	err = g.changeKey(
		ctx,
		who,
		k,
		"certified",
		before,
		keys.Fingerprint(leaf.Raw),
		map[string]any{"certificate": leaf.Raw, "chain": keys.EncodeChain(chain)},
		"state = ? AND published_at IS NULL",
		KeyNext,
	)
	if err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

func (g *Room) shownKey(ctx context.Context, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	return g.ShowKey(ctx, *k)
}

var errKeyMoved = ground.Conflict(
	"changed-meanwhile", "Somebody else changed this key meanwhile; nothing was done.", "Load the page again.",
)

// changeKey writes one step of a key's life, if the key is still as it was.
func (g *Room) changeKey(
	ctx context.Context,
	who ground.Actor,
	k *store.Key,
	action, before, after string,
	values map[string]any,
	still string,
	args ...any,
) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.keyStep(tx, who, k, action, before, after, values, still, args...)
	})
}

func (g *Room) keyStep(
	tx *gorm.DB,
	who ground.Actor,
	k *store.Key,
	action, before, after string,
	values map[string]any,
	still string,
	args ...any,
) error {
	done := tx.Model(&store.Key{}).Where("id = ?", k.ID).Where(still, args...).Updates(values)
	if done.Error != nil {
		return done.Error
	}
	if done.RowsAffected == 0 {
		return errKeyMoved
	}
	if err := ground.Journal(tx, g.Now(), who, action, "key", k.ID, k.Purpose+" "+keys.Fingerprint(k.Certificate)[:11], before,
		after); err != nil {
		return err
	}
	return store.Changed(tx)
}

// PublishKey puts the next key into our metadata, beside the active one.
func (g *Room) PublishKey(ctx context.Context, who ground.Actor, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyNext || k.PublishedAt != nil {
		return nil, ground.Conflict(
			"key-state", "Only a next key that is not published yet can be published; this one is "+stateInWords(k)+".",
			"",
		)
	}
	if err := g.changeKey(ctx, who, k, "published", "", "", map[string]any{"published_at": g.Now().UTC()},
		"state = ? AND published_at IS NULL", KeyNext); err != nil {
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

// SwitchKey makes the published next key the active one: at once, or at a time. The one before becomes retiring. It stops where
// partners are not known to have the next certificate, and names them, unless it is told to go on.
func (g *Room) SwitchKey(ctx context.Context, who ground.Actor, id string, in api.SwitchKey) (*api.Key, error) {
	at := in.At
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyNext || k.PublishedAt == nil {
		return nil, ground.Conflict(
			"key-state", "Only a published next key can become the active one; this one is "+stateInWords(k)+".",
			"Publish it first, so that partners can get it.",
		)
	}
	if at != nil {
		when := at.UTC()
		if !when.After(g.Now()) || when.After(g.Now().Add(366*24*time.Hour)) {
			return nil, ground.BadRequest(
				"switch-time", "The time for the switch must lie ahead, within a year.",
				"Leave it out to switch at once.",
			)
		}
		err = g.changeKey(
			ctx,
			who,
			k,
			"scheduled",
			"",
			when.Format(time.RFC3339),
			map[string]any{"switch_at": when, "switch_anyway": in.Anyway},
			"state = ? AND published_at IS NOT NULL",
			KeyNext,
		)
	} else {
		if !in.Anyway {
			if err := g.everybodyHas(ctx, k); err != nil {
				return nil, err
			}
		}
		err = g.switchKey(ctx, who, k)
	}
	if err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

func (g *Room) switchKey(ctx context.Context, who ground.Actor, k *store.Key) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(&store.Key{}).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state = ?", k.Purpose, k.OwnerID,
			KeyActive).Updates(map[string]any{"state": KeyRetiring}).Error; err != nil {
			return err
		}
		return g.keyStep(
			tx,
			who,
			k,
			"switched to",
			"",
			"",
			map[string]any{"state": KeyActive, "switched_at": now, "switch_at": nil},
			"state = ? AND published_at IS NOT NULL",
			KeyNext,
		)
	})
}

// SwitchDue makes the switches whose time has come.
func (g *Room) SwitchDue(ctx context.Context) error {
	var due []store.Key
	if err := g.Store.Read(ctx).Where("switch_at <= ? AND state = ?", g.Now().UTC(), KeyNext).Find(&due).Error; err != nil {
		return store.Clear(err)
	}
	for i := range due {
		k := &due[i]
		if err := g.Attempt(ctx, "key/"+k.ID, "The planned switch of a key ("+k.Purpose+")", func() error {
			names, err := g.lacking(ctx, k)
			if err != nil || len(names) > 0 && !k.SwitchAnyway {
				return err // it waits, and each of those who lack it has a finding
			}
			if err = g.switchKey(ctx, ground.System, k); errors.Is(err, errKeyMoved) {
				err = nil // another process has switched
			}
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// RetireKey takes a retiring key out of use and out of our metadata. This is the step that can't be taken back.
func (g *Room) RetireKey(ctx context.Context, who ground.Actor, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if k.State != KeyRetiring {
		return nil, ground.Conflict("key-state", "Only a retiring key can be retired; this one is "+stateInWords(k)+".", "")
	}
	if err := g.changeKey(ctx, who, k, "retired", "", "", map[string]any{"state": KeyRetired, "retired_at": g.Now().UTC()}, "state = ?",
		KeyRetiring); err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

// UndoKey takes back the last step of a key: a planned switch, a switch while the key before is still there, or a
// publication.
func (g *Room) UndoKey(ctx context.Context, who ground.Actor, id string) (*api.Key, error) {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case k.State == KeyNext && k.SwitchAt != nil:
		err = g.changeKey(
			ctx,
			who,
			k,
			"unscheduled",
			"",
			"",
			map[string]any{"switch_at": nil},
			"state = ? AND switch_at IS NOT NULL",
			KeyNext,
		)
	case k.State == KeyNext && k.PublishedAt != nil:
		err = g.Store.Write(ctx, func(tx *gorm.DB) error {
			if err := tx.Where("key_id = ?", k.ID).Delete(&store.KeyHolder{}).Error; err != nil {
				return err
			}
			return g.keyStep(
				tx,
				who,
				k,
				"unpublished",
				"",
				"",
				map[string]any{"published_at": nil},
				"state = ? AND switch_at IS NULL",
				KeyNext,
			)
		})
	case k.State == KeyActive:
		err = g.switchBack(ctx, who, k)
	default:
		err = ground.Conflict("key-state", "There is no step of this key to take back; it is "+stateInWords(k)+".", "")
	}
	if err != nil {
		return nil, err
	}
	return g.shownKey(ctx, id)
}

// switchBack makes the key before active again. A partner's own first key goes back to being the next one, and the
// gate's signs again.
func (g *Room) switchBack(ctx context.Context, who ground.Actor, k *store.Key) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var before store.Key
		if err := tx.Where("purpose = ? AND coalesce(owner_id, '') = ? AND state = ?", k.Purpose, k.OwnerID,
			KeyRetiring).Order("switched_at DESC").Limit(1).Find(&before).Error; err != nil {
			return err
		}
		if before.ID == "" && k.OwnerID == "" {
			return ground.Conflict(
				"key-state", "There is no key to go back to: the one before is retired.",
				"Make a new key, and go forward with that one.",
			)
		}
		var next int64
		if err := tx.Model(&store.Key{}).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state = ?", k.Purpose, k.OwnerID,
			KeyNext).Count(&next).Error; err != nil {
			return err
		}
		if next > 0 {
			return ground.Conflict(
				"key-next", "A next key was made already, and this one would have to become the next one again.",
				"Discard that next key first.",
			)
		}
		if err := g.keyStep(tx, who, k, "switched back from", "", "", map[string]any{"state": KeyNext, "switched_at": nil}, "state = ?",
			KeyActive); err != nil {
			return err
		}
		if before.ID == "" {
			return nil
		}
		return tx.Model(&store.Key{}).
			Where("id = ? AND state = ?", before.ID, KeyRetiring).
			Updates(map[string]any{"state": KeyActive}).
			Error
	})
}

// DiscardKey deletes a next key that is not published.
func (g *Room) DiscardKey(ctx context.Context, who ground.Actor, id string) error {
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
			return ground.Conflict(
				"key-state",
				"Only a next key that nobody has learnt of can be discarded; this one is "+stateInWords(k)+".",
				"Take its publication back first.",
			)
		}
		if err := ground.Journal(tx, g.Now(), who, "discarded", "key", k.ID, k.Purpose, keys.Fingerprint(k.Certificate), ""); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// ConfirmHolder notes that a partner has a key's certificate, as somebody says, or takes that back.
func (g *Room) ConfirmHolder(ctx context.Context, who ground.Actor, id, partner string, has bool) error {
	k, err := g.keyRow(ctx, id)
	if err != nil {
		return err
	}
	kind, owner, err := g.Owner(ctx, partner)
	if err != nil {
		return err
	}
	if owner == "" || k.PublishedAt == nil {
		return ground.BadRequest("key-holder", "A partner can only have a certificate that was published.", "Publish the key first.")
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		action := "confirmed"
		if has {
			err = Holder(tx, k.ID, kind, owner, "confirmed", who.Name, now)
		} else {
			action = "unconfirmed"
			err = tx.Where("key_id = ? AND owner_kind = ? AND owner_id = ?", k.ID, kind, owner).Delete(&store.KeyHolder{}).Error
		}
		if err != nil {
			return err
		}
		return ground.Journal(tx, now, who, action, "key", k.ID, k.Purpose, "", partner)
	})
}

// Holder notes who holds which of our certificates.
func Holder(tx *gorm.DB, key, kind, owner, how, by string, at time.Time) error {
	return tx.Exec(
		"INSERT INTO key_holders (key_id, owner_kind, owner_id, how, by, at) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (key_id, "+
			"owner_kind, owner_id) DO UPDATE SET how = excluded.how, by = excluded.by, at = excluded.at",
		key,
		kind,
		owner,
		how,
		by,
		at,
	).Error
}

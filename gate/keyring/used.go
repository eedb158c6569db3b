package keyring

import (
	"context"
	"crypto/x509"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/gate/ground"
	"innergate/store"
)

// usedCertificate is a partner's certificate that verified something, or one of ours, owned by its key, that signed.
type usedCertificate struct {
	owner string
	cert  *x509.Certificate
}

// NoteUse notes that a partner's certificate verified something. It is written down in the background, so that no
// sign-in waits for it.
func (g *Room) NoteUse(owner string, cert *x509.Certificate) {
	if cert != nil {
		g.usedCerts.Store(usedCertificate{owner, cert}, g.Now().UTC())
	}
}

// WriteUsed writes down which certificates were used since the last time.
func (g *Room) WriteUsed(ctx context.Context) error {
	type use struct {
		usedCertificate
		at time.Time
	}
	var list []use
	g.usedCerts.Range(func(k, v any) bool {
		g.usedCerts.Delete(k)
		list = append(list, use{k.(usedCertificate), v.(time.Time)})
		return true
	})
	if len(list) == 0 {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, u := range list {
			// The owner of a certificate of ours is its key.
			if err := tx.Exec("UPDATE keys SET last_used = ? WHERE id = ?", u.at, u.owner).Error; err != nil {
				return err
			}
			if err := tx.Exec("UPDATE trusted_certificates SET last_used = ? WHERE owner_id = ? AND fingerprint = ? AND use <> "+
				"'encryption'", u.at, u.owner, keys.Fingerprint(u.cert.Raw)).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

var certificateColumns = map[string]string{"ends": "not_after"}

// Certificates lists the certificates of partners that are held, those that end first in front. Search finds
// fingerprints, subjects and names of partners.
func (g *Room) Certificates(ctx context.Context, p store.Page) (*api.List[api.TrustedCertificate], error) {
	db := g.Store.Read(ctx).
		Table("(SELECT t.*, t.owner_id || t.fingerprint || t.use AS id, coalesce(a.name, p.name) AS name, coalesce(a.slug, p.slug) AS " +
			"slug, coalesce(a.reach, p.reach) AS reach, EXISTS (SELECT 1 FROM trusted_certificates l WHERE " +
			"l.owner_kind = t.owner_kind AND " +
			"" +
			"" +
			"" +
			"l.owner_id = t.owner_id " +
			"AND l.not_after > t.not_after AND (l.use = t.use OR l.use = '' OR t.use = '')) AS superseded FROM trusted_certificates t " +
			"LEFT JOIN applications a ON a.id = t.owner_id LEFT JOIN providers p ON p.id = t.owner_id)")
	if p.Sort == "" {
		p.Sort = "ends"
	}
	db, err := p.Rows(db, certificateColumns, "ends", "fingerprint", "subject", "name")
	if err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []struct {
		store.TrustedCertificate
		ID, Name, Slug, Reach string
		Superseded            bool
	}
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.TrustedCertificate]{Items: []api.TrustedCertificate{}}
	for i, r := range rows {
		if i == ground.LimitOf(p) {
			out.Next = store.AfterKey(ground.SortValue("created", "", "", "", rows[i-1].NotAfter), rows[i-1].ID)
			break
		}
		out.Items = append(
			out.Items,
			api.TrustedCertificate{
				Owner:      api.Reference{Slug: r.Slug, Name: r.Name, Kind: r.OwnerKind, Reach: r.Reach},
				Side:       r.OwnerKind,
				Use:        r.Use,
				SHA256:     r.Fingerprint,
				Subject:    r.Subject,
				Key:        r.Kind,
				NotBefore:  r.NotBefore,
				NotAfter:   r.NotAfter,
				HeldSince:  r.HeldSince,
				Origin:     r.Origin,
				LastUsed:   r.LastUsed,
				Superseded: r.Superseded,
			},
		)
	}
	return out, nil
}

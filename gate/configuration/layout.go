package configuration

import (
	"context"
	"crypto/x509"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/takein"
	"innergate/gate/ground"
	"innergate/store"
)

// layOut brings what is kept beside an object for finding in line with it: its certificates, and the watch over its
// metadata address.
func (g *Room) layOut(tx *gorm.DB, now time.Time, who ground.Actor, s ground.Saved) error {
	var held []store.TrustedCertificate
	if s.Fresh {
		held = []store.TrustedCertificate{}
	} else if err := tx.Where("owner_kind = ? AND owner_id = ?", s.Kind, s.ID).Find(&held).Error; err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, c := range s.Certificates {
		cert, err := c.Parse()
		if err != nil {
			continue
		}
		row := trusted(cert, s.Kind, s.ID, c.Use, now, who.Name)
		if wanted[row.Fingerprint+row.Use] {
			continue
		}
		wanted[row.Fingerprint+row.Use] = true
		known := false
		for _, h := range held {
			known = known || h.Fingerprint == row.Fingerprint && h.Use == row.Use
		}
		if known {
			continue
		}
		if _, err := store.Exec(tx, "INSERT INTO trusted_certificates (owner_kind, owner_id, fingerprint, use, subject, kind, "+
			"not_before, not_after, held_since, origin) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", row.OwnerKind, row.OwnerID,
			row.Fingerprint, row.Use, row.Subject, row.Kind, row.NotBefore, row.NotAfter, row.HeldSince, row.Origin); err != nil {
			return err
		}
	}
	for _, h := range held {
		if !wanted[h.Fingerprint+h.Use] {
			if err := tx.Where("owner_kind = ? AND owner_id = ? AND fingerprint = ? AND use = ?", s.Kind, s.ID, h.Fingerprint,
				h.Use).Delete(&store.TrustedCertificate{}).Error; err != nil {
				return err
			}
		}
	}
	if s.Fresh && s.Watch.Place() == "" {
		return nil
	}
	if who.Kind != ground.System.Kind && !s.Fresh && s.Watch != nil {
		// Whatever was changed about it, the document is judged anew the next time, and not passed over as the same.
		if err := tx.Model(&store.PartnerWatch{}).Where("owner_id = ?", s.ID).Updates(map[string]any{"e_tag": "",
			"last_modified": ""}).Error; err != nil {
			return err
		}
	}
	if s.Fresh {
		_, err := store.Exec(
			tx,
			"INSERT INTO partner_watches (owner_id, owner_kind, url, due_at, e_tag, last_modified, failures, error, code) VALUES (?, "+
				"?, ?, ?, '', '', 0, '', '')",
			s.ID,
			s.Kind,
			s.Watch.Place(),
			now.UTC().Add(takein.Interval(s.Watch, nil)),
		)
		return err
	}
	return layOutWatch(tx, now, s.Kind, s.ID, s.Watch)
}

func trusted(cert *x509.Certificate, kind, id, use string, now time.Time, origin string) store.TrustedCertificate {
	d := keys.Describe(cert)
	return store.TrustedCertificate{
		OwnerKind:   kind,
		OwnerID:     id,
		Fingerprint: d.SHA256,
		Use:         use,
		Subject:     d.Subject,
		Kind:        d.Key,
		NotBefore:   d.NotBefore.UTC(),
		NotAfter:    d.NotAfter.UTC(),
		HeldSince:   now.UTC(),
		Origin:      origin,
	}
}

func layOutWatch(tx *gorm.DB, now time.Time, kind, id string, w *config.Watch) error {
	if w.Place() == "" {
		return tx.Where("owner_id = ?", id).Delete(&store.PartnerWatch{}).Error
	}
	var row store.PartnerWatch
	if err := tx.Where("owner_id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return err
	}
	if row.OwnerID == "" {
		return tx.Create(
			&store.PartnerWatch{OwnerID: id, OwnerKind: kind, URL: w.Place(), DueAt: now.UTC().Add(takein.Interval(w, nil))},
		).Error
	}
	if row.URL == w.Place() {
		return nil
	}
	// Another address: nothing that was known of the old one counts.
	return tx.Model(&store.PartnerWatch{}).
		Where("owner_id = ?", id).
		Updates(map[string]any{"url": w.Place(), "due_at": now.UTC(), "e_tag": "", "last_modified": "", "failures": 0,
			"failing_since": nil, "error": "", "code": ""}).
		Error
}

// forget removes what was kept beside an object that is deleted. What was handed out and the versions of its metadata
// stay with the journal.
func forget(tx *gorm.DB, id string) error {
	for _, model := range []any{&store.TrustedCertificate{}, &store.PartnerWatch{}, &store.Secret{}} {
		if err := tx.Where("owner_id = ?", id).Delete(model).Error; err != nil {
			return err
		}
	}
	return nil
}

// LayOutAll does once for every object what newer versions do with each change.
func (g *Room) LayOutAll(ctx context.Context) error {
	var done int64
	if err := g.Store.Read(ctx).Model(&store.Setting{}).Where("name = 'laid-out'").Count(&done).Error; err != nil || done > 0 {
		return store.Clear(err)
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		now := g.Now().UTC()
		after := ""
		for {
			var rows []store.Application
			if err := tx.Where("id > ?", after).Order("id").Limit(200).Find(&rows).Error; err != nil {
				return err
			}
			if len(rows) == 0 {
				break
			}
			for _, row := range rows {
				if a, err := ground.DecodeBody[config.Application](row.Body); err == nil && a.SAML != nil {
					if err := g.layOut(tx, now, ground.System,
						ground.Saved{Kind: "application", ID: row.ID, Certificates: a.SAML.Certificates,
							Watch: a.SAML.Metadata}); err != nil {
						return err
					}
				}
				after = row.ID
			}
		}
		var rows []store.Provider
		if err := tx.Find(&rows).Error; err != nil {
			return err
		}
		for _, row := range rows {
			if p, err := ground.DecodeBody[config.Provider](row.Body); err == nil && p.SAML != nil {
				if err := g.layOut(tx, now, ground.System,
					ground.Saved{Kind: "provider", ID: row.ID, Certificates: p.SAML.Certificates, Watch: p.SAML.Metadata}); err != nil {
					return err
				}
			}
		}
		return tx.Create(&store.Setting{Name: "laid-out", Value: now.Format(time.RFC3339)}).Error
	})
}

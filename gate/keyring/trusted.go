package keyring

import (
	"crypto/x509"
	"time"

	"gorm.io/gorm"

	"innergate/core/keys"
	"innergate/gate/ground"
	"innergate/store"
)

// LayOut brings the trusted certificates that are kept beside an object, for finding them, in line with it.
func LayOut(tx *gorm.DB, now time.Time, who ground.Actor, s ground.Saved) error {
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
	return nil
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

// Forget removes the trusted certificates of an object that is deleted.
func Forget(tx *gorm.DB, id string) error {
	return tx.Where("owner_id = ?", id).Delete(&store.TrustedCertificate{}).Error
}

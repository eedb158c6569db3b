package partners

import (
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/takein"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/store"
)

// Save writes an application's or a provider's row, and brings what is kept beside it for finding in line with it: its
// certificates, and the watch over its metadata address.
func Save(tx *gorm.DB, now time.Time, who ground.Actor, record any, s ground.Saved) error {
	write := tx.Save
	if s.Fresh {
		write = tx.Create
	}
	if err := write(record).Error; err != nil {
		return err
	}
	return LayOut(tx, now, who, s)
}

// Delete removes an application's or a provider's row with what was kept beside it. What was handed out and the versions
// of its metadata stay with the journal.
func Delete(tx *gorm.DB, now time.Time, record any, kind, id string) error {
	if err := tx.Delete(record).Error; err != nil {
		return err
	}
	if err := keyring.Forget(tx, id); err != nil {
		return err
	}
	if err := store.Leave(tx, kind, id, now); err != nil {
		return err
	}
	for _, model := range []any{&store.PartnerWatch{}, &store.Secret{}, &store.Seen{}} {
		if err := tx.Where("owner_id = ?", id).Delete(model).Error; err != nil {
			return err
		}
	}
	return nil
}

// NoteSignIn notes when somebody last signed in, to the half minute: that is exact enough, and spares most sign-ins two
// writes.
func NoteSignIn(tx *gorm.DB, applicationID, providerID string, now time.Time) error {
	const stale = " SET last_sign_in = ? WHERE id = ? AND (last_sign_in IS NULL OR last_sign_in < ?)"
	if _, err := store.Exec(tx, "UPDATE applications"+stale, now, applicationID, now.Add(-30*time.Second)); err != nil {
		return err
	}
	_, err := store.Exec(tx, "UPDATE providers"+stale, now, providerID, now.Add(-30*time.Second))
	return err
}

// LayOut brings what is kept beside an object in line with it.
func LayOut(tx *gorm.DB, now time.Time, who ground.Actor, s ground.Saved) error {
	if err := keyring.LayOut(tx, now, who, s); err != nil {
		return err
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

func layOutWatch(tx *gorm.DB, now time.Time, kind, id string, w *config.Watch) error {
	if w.Place() == "" {
		return tx.Where("owner_id = ?", id).Delete(&store.PartnerWatch{}).Error
	}
	row, err := store.One[store.PartnerWatch](tx, "owner_id = ?", id)
	if err != nil {
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

// NoteWatch notes how it stands with the metadata of a partner that is looked after.
func NoteWatch(tx *gorm.DB, ownerID string, state map[string]any) error {
	return tx.Model(&store.PartnerWatch{}).Where("owner_id = ?", ownerID).Updates(state).Error
}

// WatchSource has the partners that take their metadata from a source looked at at once.
func WatchSource(tx *gorm.DB, slug string, now time.Time) error {
	return tx.Model(&store.PartnerWatch{}).Where("url = ?", "source:"+slug).Updates(map[string]any{"due_at": now}).Error
}

// ForgetSecrets removes the secrets of an owner: all, or those in a state.
func ForgetSecrets(tx *gorm.DB, ownerID, state string) error {
	of := tx.Where("owner_id = ?", ownerID)
	if state != "" {
		of = of.Where("state = ?", state)
	}
	return of.Delete(&store.Secret{}).Error
}

// KnownIdentifier is the random identifier that somebody has at an application already, or nothing.
func KnownIdentifier(tx *gorm.DB, app *Application, holder string) (string, error) {
	if !Kept(app) || holder == "" {
		return "", nil
	}
	v, err := store.One[store.SubjectValue](tx, "person_id = ? AND application_id = ?", holder, SubjectOwner(app))
	return v.Value, err
}

// GiveIdentifier gives somebody a random identifier at an application. It is never given to another.
func GiveIdentifier(tx *gorm.DB, app *Application, holder, value string, now time.Time) error {
	return tx.Create(&store.SubjectValue{Value: value, PersonID: holder, ApplicationID: SubjectOwner(app), CreatedAt: now}).Error
}

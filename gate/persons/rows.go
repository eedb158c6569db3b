package persons

import (
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/gate/ground"
	"innergate/store"
)

// Refreshed writes what a sign-in changed of somebody known. Somebody may have changed the profile by hand since it was
// read (seen); then that stays, and the next sign-in brings the rest.
func Refreshed(tx *gorm.DB, p *store.Person, seen string) error {
	return tx.Exec("UPDATE people SET name = ?, name_key = ?, last_key = ?, email = ?, email_key = ?, username = ?, "+
		"username_key = ?, external_id = ?, external_key = ?, type = ?, profile = ?, sources = ?, updated_at = ? WHERE id = ? AND "+
		"profile = ?",
		p.Name, p.NameKey, p.LastKey, p.Email, p.EmailKey, p.Username, p.UsernameKey, p.ExternalID, p.ExternalKey, p.Type,
		p.Profile, p.Sources, p.UpdatedAt, p.ID, seen).Error
}

// Insert writes a new person.
func Insert(tx *gorm.DB, p *store.Person) error { return tx.Create(p).Error }

// UsedLink notes, to the half minute, that a link was used.
func UsedLink(tx *gorm.DB, providerID, subject string, now time.Time) error {
	return tx.Exec("UPDATE links SET last_used = ? WHERE provider_id = ? AND subject = ? AND last_used < ?",
		now, providerID, subject, now.Add(-30*time.Second)).Error
}

// pushedMark begins the links of accounts that a provider pushed. They stand beside the one by which the person signs in.
const pushedMark = "pushed\x1f"

// PushedLink is the subject of the link of an account that a provider pushed.
func PushedLink(id string) string { return pushedMark + id }

// kindOf is the condition for links of the same kind as a subject's: those of pushed accounts, or those by which people sign in.
func kindOf(subject string) string {
	if strings.HasPrefix(subject, pushedMark) {
		return " AND subject LIKE 'pushed' || char(31) || '%'"
	}
	return " AND subject NOT LIKE 'pushed' || char(31) || '%'"
}

// DropLink takes the link of a subject away.
func DropLink(tx *gorm.DB, providerID, subject string) error {
	return tx.Exec("DELETE FROM links WHERE provider_id = ? AND subject = ?", providerID, subject).Error
}

// LeaveGroupsOf takes somebody out of all groups into which a provider put them.
func LeaveGroupsOf(tx *gorm.DB, personID, by string) error {
	return tx.Exec("DELETE FROM memberships WHERE person_id = ? AND giver = ?", personID, by).Error
}

// LinkOnce links a person to a subject of a provider, unless the person has a link of that kind there, or the subject one to
// somebody. It says whether the link was made.
func LinkOnce(tx *gorm.DB, personID, providerID, subject, shown string, now time.Time) (made bool, err error) {
	done := tx.Exec("INSERT INTO links (id, person_id, provider_id, subject, shown, first_used, last_used) SELECT ?, ?, ?, ?, ?, ?, ? "+
		"WHERE NOT EXISTS (SELECT 1 FROM links WHERE person_id = ? AND provider_id = ?"+kindOf(subject)+") ON CONFLICT DO NOTHING",
		store.NewID(), personID, providerID, subject, shown, now, now, personID, providerID)
	return done.RowsAffected > 0, done.Error
}

// Reissued keeps whose people are whose where an issuer that a provider has accepted so far becomes its own one.
func Reissued(tx *gorm.DB, providerID, was, own string) error {
	var links []store.Link
	if err := tx.Where("provider_id = ?", providerID).Find(&links).Error; err != nil {
		return err
	}
	// Those that get a name first: only then are the keys without one free.
	for _, named := range []bool{true, false} {
		for i := range links {
			held := links[i].Subject
			now := bridge.Reissued(held, was, own)
			if now == held || (len(now) > len(held)) != named {
				continue
			}
			moved := tx.Exec("UPDATE OR IGNORE links SET subject = ? WHERE id = ?", now, links[i].ID)
			if moved.Error == nil && moved.RowsAffected == 0 { // another holds the key; this one must not pass for somebody else's
				moved = tx.Exec("DELETE FROM links WHERE id = ?", links[i].ID)
			}
			if moved.Error != nil {
				return moved.Error
			}
		}
	}
	return nil
}

// LinkedTo is the person to whom a subject of a provider is linked; empty for nobody.
func LinkedTo(tx *gorm.DB, providerID, subject string) (string, error) {
	var held store.Link
	err := tx.Where("provider_id = ? AND subject = ?", providerID, subject).Limit(1).Find(&held).Error
	return held.PersonID, err
}

// LeaveGroup takes somebody out of a group into which a provider put them.
func LeaveGroup(tx *gorm.DB, personID, slug, by string) error {
	return tx.Exec("DELETE FROM memberships WHERE person_id = ? AND giver = ? AND group_id = (SELECT id FROM groups WHERE slug = ?)",
		personID, by, slug).Error
}

// NoteAccount remembers by which identifier an application knows a person, once an hour at most.
func NoteAccount(tx *gorm.DB, applicationID, personID, subject string, now time.Time) error {
	_, err := store.Exec(tx,
		"INSERT INTO accounts (application_id, person_id, subject, first_at, last_at) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE "+
			"SET subject = excluded.subject, last_at = excluded.last_at WHERE subject <> excluded.subject OR last_at < ?",
		applicationID, personID, subject, now, now, now.Add(-time.Hour))
	return err
}

// KnownThereAs is who else an application knows by an identifier, as people see it: somebody's name, or nothing.
func KnownThereAs(tx *gorm.DB, applicationID, subject, except string) (string, error) {
	var row struct{ PersonID, Name string }
	err := tx.Raw("SELECT a.person_id, p.name FROM accounts a LEFT JOIN people p ON p.id = a.person_id WHERE a.application_id = ? AND "+
		"a.subject = ? COLLATE NOCASE AND a.person_id <> ? LIMIT 1", applicationID, subject, except).Scan(&row).Error
	if err == nil && row.PersonID != "" && row.Name == "" {
		row.Name = "somebody who was passed through"
	}
	return row.Name, err
}

// KeepConsent remembers what a person agreed to hand on to an application.
func KeepConsent(tx *gorm.DB, personID, applicationID, scope string, now time.Time) error {
	return tx.Exec("INSERT INTO consents (person_id, application_id, scope, at) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET "+
		"scope = excluded.scope, at = excluded.at", personID, applicationID, scope, now).Error
}

// AddCredential gives a person a credential.
func AddCredential(tx *gorm.DB, c *store.Credential) error { return tx.Create(c).Error }

// RemoveCredential takes one away.
func RemoveCredential(tx *gorm.DB, id string) error {
	return tx.Exec("DELETE FROM credentials WHERE id = ?", id).Error
}

// RemoveCredentials takes all of a kind away.
func RemoveCredentials(tx *gorm.DB, personID, kind string) error {
	return tx.Exec("DELETE FROM credentials WHERE person_id = ? AND kind = ?", personID, kind).Error
}

// UseRecovery uses a recovery code up; 0 rows mean that there is none such.
func UseRecovery(tx *gorm.DB, personID string, lookup []byte) (int64, error) {
	return store.Exec(tx, "DELETE FROM credentials WHERE person_id = ? AND kind = 'recovery' AND lookup = ?", personID, lookup)
}

// CountCode notes the time step of a code, which must be later than the last one; 0 rows mean that it is not.
func CountCode(tx *gorm.DB, id string, step int64, now time.Time) (int64, error) {
	return store.Exec(tx, "UPDATE credentials SET counter = ?, last_used = ? WHERE id = ? AND counter < ?", step, now, id, step)
}

// UsePasskey notes a passkey's new counter, which must be higher than the last one; synced passkeys have none. 0 rows
// mean that it is not.
func UsePasskey(tx *gorm.DB, id string, sealed []byte, counter uint32, now time.Time) (int64, error) {
	return store.Exec(tx,
		"UPDATE credentials SET sealed = ?, counter = ?, last_used = ? WHERE id = ? AND (counter < ? OR counter = 0 AND ? = 0)",
		sealed, counter, now, id, counter, counter)
}

// UsePassword notes that a password was used, and renews its hash.
func UsePassword(tx *gorm.DB, held *store.Credential, fresh string, now time.Time) error {
	return tx.Exec("UPDATE credentials SET secret = ?, last_used = ? WHERE id = ? AND secret = ?", fresh, now, held.ID, held.Secret).Error
}

// NewOneTimeLink keeps a one-time link; an older one of the person no longer counts.
func NewOneTimeLink(tx *gorm.DB, row *store.OneTimeLink) error {
	if err := tx.Exec("DELETE FROM one_time_links WHERE person_id = ?", row.PersonID).Error; err != nil {
		return err
	}
	return tx.Create(row).Error
}

// UseOneTimeLink uses a link up; 0 rows mean that it is over.
func UseOneTimeLink(tx *gorm.DB, hash []byte, now time.Time) (int64, error) {
	return store.Exec(tx, "DELETE FROM one_time_links WHERE token_hash = ? AND expires_at > ?", hash, now)
}

func tidyLinks(t *ground.Tidying) error {
	return t.Delete(ground.Over{Model: &store.OneTimeLink{}, Where: "expires_at < ?", Arg: t.Now})
}

// ForgetApplication takes away what people had at an application: who is assigned, what they agreed to, and as whom it
// knows them.
func ForgetApplication(tx *gorm.DB, applicationID string) error {
	for _, table := range []string{"assignments", "consents"} {
		if err := tx.Exec("DELETE FROM "+table+" WHERE application_id = ?", applicationID).Error; err != nil {
			return err
		}
	}
	return nil
}

// SetActive makes somebody active or inactive.
func SetActive(tx *gorm.DB, id string, active bool, now time.Time) error {
	return tx.Exec("UPDATE people SET active = ?, updated_at = ? WHERE id = ?", active, now, id).Error
}

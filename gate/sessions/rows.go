package sessions

import (
	"time"

	"gorm.io/gorm"

	"innergate/gate/issued"
	"innergate/store"
)

// Insert writes a new session with the hash of its token.
func Insert(tx *gorm.DB, row *store.Session, hash, sealed []byte) error {
	_, err := store.Exec(tx,
		"INSERT INTO sessions (id, token_hash, person_id, person, rehearsal_id, address, device, sealed, persistent, created_at, "+
			"last_used, expires_at, ended_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')",
		row.ID, hash, row.PersonID, row.Person, row.RehearsalID, row.Address, row.Device, sealed, row.Persistent,
		row.LastUsed, row.LastUsed, row.ExpiresAt)
	return err
}

// Renew gives a session a new token and new content; 0 rows mean that it has ended.
func Renew(tx *gorm.DB, row *store.Session, hash, sealed []byte) (int64, error) {
	return store.Exec(tx, "UPDATE sessions SET token_hash = ?, person = ?, sealed = ?, last_used = ?, expires_at = ? "+
		"WHERE id = ? AND ended_at IS NULL", hash, row.Person, sealed, row.LastUsed, row.ExpiresAt, row.ID)
}

// Touch notes that a session is in use; 0 rows mean that it has ended.
func Touch(tx *gorm.DB, id string, now time.Time) (int64, error) {
	return store.Exec(tx, "UPDATE sessions SET last_used = ? WHERE id = ? AND ended_at IS NULL", now, id)
}

// Told notes when the applications of a session were told of its end.
func Told(tx *gorm.DB, id string, now time.Time) error {
	_, err := store.Exec(tx, "UPDATE sessions SET told_at = ? WHERE id = ?", now, id)
	return err
}

// TakeTelling takes the telling of a session's end over, for a minute; 0 rows mean that somebody else tells.
func TakeTelling(tx *gorm.DB, id string, now time.Time) (int64, error) {
	return store.Exec(tx, "UPDATE sessions SET told_at = ? WHERE id = ? AND (told_at IS NULL OR told_at < ?)", now, id,
		now.Add(-time.Minute))
}

// NoteProof notes, for finding it again, what a provider vouched for in a session.
func NoteProof(tx *gorm.DB, p *store.SessionProof) error {
	_, err := store.Exec(tx, "INSERT INTO session_proofs (session_id, provider_id, subject, name_value, provider_session, "+
		"strength, at) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET subject = excluded.subject, name_value = "+
		"excluded.name_value, provider_session = excluded.provider_session, strength = excluded.strength, at = excluded.at",
		p.SessionID, p.ProviderID, p.Subject, p.NameValue, p.ProviderSession, p.Strength, p.At)
	return err
}

// NoteUse notes that a session went to an application, and returns the session's name there.
func NoteUse(tx *gorm.DB, u *store.SessionUse, now time.Time) (string, error) {
	var index []string
	err := tx.Raw("INSERT INTO session_uses (session_id, application_id, name_value, session_index, name_id, first_at, last_at, told) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?, '') ON CONFLICT (session_id, application_id) DO UPDATE SET name_value = excluded.name_value, "+
		"name_id = excluded.name_id, last_at = excluded.last_at RETURNING session_index",
		u.SessionID, u.ApplicationID, u.NameValue, u.Index, u.NameID, now, now).
		Scan(&index).
		Error
	if err != nil || len(index) != 1 {
		return "", err
	}
	return index[0], nil
}

// TouchUse notes that a session's application is in use.
func TouchUse(tx *gorm.DB, sessionID, applicationID string, now time.Time) error {
	_, err := store.Exec(tx, "UPDATE session_uses SET last_at = ? WHERE session_id = ? AND application_id = ?", now, sessionID,
		applicationID)
	return err
}

// ToldUse notes how an application was told of a session's end.
func ToldUse(tx *gorm.DB, sessionID, applicationID, how string) error {
	_, err := store.Exec(tx, "UPDATE session_uses SET told = ? WHERE session_id = ? AND application_id = ?", how, sessionID, applicationID)
	return err
}

// EndUse ends an application's part of a session; the session goes on.
func EndUse(tx *gorm.DB, sessionID, applicationID, why string, now time.Time) error {
	for _, stmt := range []string{
		"DELETE FROM session_uses WHERE session_id = ? AND application_id = ?",
		"DELETE FROM guard_sessions WHERE session_id = ? AND application_id = ?",
	} {
		if _, err := store.Exec(tx, stmt, sessionID, applicationID); err != nil {
			return err
		}
	}
	return issued.EndOfSession(tx, sessionID, applicationID, why, now)
}

// InsertVisit writes somebody's session at a guarded application's host.
func InsertVisit(tx *gorm.DB, row *store.GuardSession) error { return tx.Create(row).Error }

// EndVisit ends one.
func EndVisit(tx *gorm.DB, tokenHash []byte) error {
	return tx.Where("token_hash = ?", tokenHash).Delete(&store.GuardSession{}).Error
}

// Package issued keeps what was given to OpenID Connect applications as rows: grants (RFC 6749, section 1.3), tokens and
// device codes (RFC 8628). What they are exchanged for is in grants; whoever ends a session or a person ends them here.
package issued

import (
	"time"

	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/store"
)

// InsertGrant writes a new grant.
func InsertGrant(tx *gorm.DB, g *store.Grant) error {
	_, err := store.Exec(
		tx,
		"INSERT INTO grants (id, application_id, provider_id, provider_subject, provider_session, session_id, person_id, subject, "+
			"trace_id, sealed, code_hash, code_ends, offline, rehearsal, created_at, expires_at, ended_by) VALUES (?, ?, ?, ?, ?, ?, "+
			"?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')",
		g.ID, g.ApplicationID, g.ProviderID, g.ProviderSubject, g.ProviderSession, g.SessionID, g.PersonID, g.Subject,
		g.TraceID, g.Sealed, g.CodeHash, g.CodeEnds, g.Offline, g.Rehearsal, g.CreatedAt, g.ExpiresAt,
	)
	return err
}

// UseCode uses a grant's code up; 0 rows mean that somebody else did, or that the grant has ended.
func UseCode(tx *gorm.DB, grantID string, now time.Time) (int64, error) {
	return store.Exec(tx, "UPDATE grants SET code_used_at = ? WHERE id = ? AND code_used_at IS NULL AND ended_at IS NULL", now, grantID)
}

// EndGrant ends a grant and with it every token that came of it.
func EndGrant(tx *gorm.DB, id, why string, now time.Time) error {
	return end(tx, why, now, "id = ?", id)
}

// EndOfSession ends the grants of a session, besides those for access while the person is away; with an application's
// ID, only those of that application.
func EndOfSession(tx *gorm.DB, sessionID, applicationID, why string, now time.Time) error {
	if sessionID == "" {
		return nil
	}
	if applicationID == "" {
		return end(tx, why, now, ofSession+" AND NOT offline", sessionID)
	}
	return end(tx, why, now, ofSession+" AND +application_id = ? AND NOT offline", sessionID, applicationID)
}

// ofSession is how the index over the grants of sessions is asked: those without one are not in it.
const ofSession = "session_id = ? AND session_id <> ''"

// EndOfPerson ends the grants of a person; with a provider's ID, only those of sign-ins through that provider.
func EndOfPerson(tx *gorm.DB, personID, providerID, why string, now time.Time) error {
	if providerID == "" {
		return end(tx, why, now, "person_id = ?", personID)
	}
	return end(tx, why, now, "person_id = ? AND provider_id = ?", personID, providerID)
}

// EndOfApplication ends what was given for an application, device codes that wait for somebody among it.
func EndOfApplication(tx *gorm.DB, applicationID, why string, now time.Time) error {
	if err := end(tx, why, now, "application_id = ?", applicationID); err != nil {
		return err
	}
	return tx.Exec("DELETE FROM device_codes WHERE application_id = ?", applicationID).Error
}

func end(tx *gorm.DB, why string, now time.Time, where string, args ...any) error {
	_, err := store.Exec(tx, "UPDATE grants SET ended_at = ?, ended_by = ? WHERE "+where+" AND ended_at IS NULL",
		append([]any{now, why}, args...)...)
	return err
}

// InsertToken writes a new token.
func InsertToken(tx *gorm.DB, t *store.Token) error {
	_, err := store.Exec(tx, "INSERT INTO tokens (hash, grant_id, kind, scope, created_at, expires_at) VALUES (?, ?, ?, ?, ?, ?)",
		t.Hash, t.GrantID, t.Kind, t.Scope, t.CreatedAt, t.ExpiresAt)
	return err
}

// UseToken uses a refresh token up; 0 rows mean that somebody else did.
func UseToken(tx *gorm.DB, hash []byte, now time.Time) (int64, error) {
	return store.Exec(tx, "UPDATE tokens SET used_at = ? WHERE hash = ? AND used_at IS NULL", now, hash)
}

// DeleteToken takes a token back.
func DeleteToken(tx *gorm.DB, hash []byte) error {
	return tx.Where("hash = ?", hash).Delete(&store.Token{}).Error
}

// DeleteAccess takes the access tokens of a grant back.
func DeleteAccess(tx *gorm.DB, grantID string) error {
	return tx.Where("grant_id = ? AND kind = 'access'", grantID).Delete(&store.Token{}).Error
}

// InsertDevice writes a new device code.
func InsertDevice(tx *gorm.DB, row *store.DeviceCode) error { return tx.Create(row).Error }

// PolledDevice notes that a device asked, and how long it has to wait until it asks again.
func PolledDevice(tx *gorm.DB, hash []byte, interval int, now time.Time) error {
	return tx.Exec("UPDATE device_codes SET polled_at = ?, interval = ? WHERE hash = ?", now, interval, hash).Error
}

// GrantDevice gives a waiting device its grant; 0 rows mean that it waits no more.
func GrantDevice(tx *gorm.DB, hash []byte, grantID string, now time.Time) (int64, error) {
	return store.Exec(tx, "UPDATE device_codes SET state = 'granted', grant_id = ? WHERE hash = ? AND state = 'waiting' AND expires_at > ?",
		grantID, hash, now)
}

// DenyDevice tells a waiting device that the person does not want it.
func DenyDevice(tx *gorm.DB, hash []byte) error {
	return tx.Exec("UPDATE device_codes SET state = 'denied' WHERE hash = ? AND state = 'waiting'", hash).Error
}

// UseDevice uses a device code up; 0 rows mean that somebody else did.
func UseDevice(tx *gorm.DB, hash []byte) (int64, error) {
	gone := tx.Where("hash = ?", hash).Delete(&store.DeviceCode{})
	return gone.RowsAffected, gone.Error
}

// Tidy deletes tokens, grants and device codes that have been over for a while.
func Tidy(t *ground.Tidying) error {
	now := t.Now
	day := now.Add(-24 * time.Hour)
	return t.Delete(
		ground.Over{Model: &store.DeviceCode{}, Where: "expires_at < ?", Arg: now.Add(-time.Hour)},
		ground.Over{Model: &store.Token{}, Where: "expires_at < ?", Arg: day},
		ground.Over{Model: &store.Grant{}, Where: "expires_at < ?", Arg: day},
	)
}

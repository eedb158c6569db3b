package store

import (
	"time"

	"gorm.io/gorm"
)

// Leftover notes that an object was deleted, until the rows that belonged to it are gone as well. They go a part at a time:
// there may be hundreds of thousands of them.
type Leftover struct {
	Kind     string    `gorm:"primaryKey"`
	ObjectID string    `gorm:"primaryKey"`
	At       time.Time `gorm:"index"`
}

// Leave notes, in the transaction that deletes an object, that what belongs to it has to go.
func Leave(tx *gorm.DB, kind, id string, now time.Time) error {
	_, err := Exec(tx, "INSERT INTO leftovers (kind, object_id, at) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET at = excluded.at", kind,
		id, now)
	return err
}

// Belonging is a table in which rows belong to an object: those for which the condition holds with its ID.
type Belonging struct{ Table, Where string }

// tables are where the objects of each kind stand themselves.
var tables = map[string]string{"application": "applications", "provider": "providers", "person": "people", "group": "groups",
	"source": "sources"}

// belongs says what belongs to what: the one place that knows it. What hangs on such a row in turn stands before it. History,
// journal and traces are no belongings: they say what was, and have an end of their own.
var belongs = map[string][]Belonging{
	"application": append([]Belonging{
		{"tokens", "grant_id IN (SELECT id FROM grants WHERE application_id = ?)"}, {"grants", "application_id = ?"},
		{"session_uses", "application_id = ?"}, {"guard_sessions", "application_id = ?"}, {"guard_tickets", "application_id = ?"},
		{"accounts", "application_id = ?"}, {"assignments", "application_id = ?"}, {"consents", "application_id = ?"},
		{"subject_values", "application_id = ?"}, {"artifacts", "application_id = ?"}, {"pushed_requests", "application_id = ?"},
		{"device_codes", "application_id = ?"}, {"tile_marks", "application_id = ?"}, {"rehearsals", "application_id = ?"},
		{"sign_ins", "application_id = ?"}, {"move_applications", "application_id = ?"}, {"move_samples", "application_id = ?"},
		{"move_comparisons", "application_id = ?"}, {"move_trials", "application_id = ?"}, {"kept_accounts", "application_id = ?"},
		{"account_pumps", "application_id = ?"}, {"account_comparisons", "application_id = ?"},
		{"account_news", "application_id = ? AND application_id <> ''"}, {"secrets", "owner_kind = 'accounts' AND owner_id = ? || " +
			"'/accounts'"},
	}, ofPartner("application")...),
	"provider": append([]Belonging{
		{"tokens", "grant_id IN (SELECT id FROM grants WHERE provider_id = ?)"}, {"grants", "provider_id = ?"},
		{"links", "provider_id = ?"}, {"session_proofs", "provider_id = ?"}, {"memberships", "giver = ? AND giver <> 'hand'"},
		{"rehearsals", "provider_id = ?"}, {"sign_ins", "provider_id = ?"}, {"move_samples", "provider_id = ?"},
		{"readings", "provider_id = ?"}, {"reading_gones", "provider_id = ?"},
		{"pushed_members", "pushed_id IN (SELECT id FROM pushed_people WHERE provider_id = ?)"}, {"pushed_keys", "provider_id = ?"},
		{"pushed_people", "provider_id = ?"}, {"pushed_groups", "provider_id = ?"}, {"push_tokens", "provider_id = ?"},
	}, ofPartner("provider")...),
	"person": {
		{"tokens", "grant_id IN (SELECT id FROM grants WHERE person_id = ?)"}, {"grants", "person_id = ?"},
		{"session_proofs", "session_id IN (SELECT id FROM sessions WHERE person_id = ?)"},
		{"session_uses", "session_id IN (SELECT id FROM sessions WHERE person_id = ?)"},
		{"guard_sessions", "session_id IN (SELECT id FROM sessions WHERE person_id = ?)"}, {"sessions", "person_id = ?"},
		{"links", "person_id = ?"}, {"memberships", "person_id = ?"}, {"assignments", "kind = 'person' AND who_id = ?"},
		{"accounts", "person_id = ?"}, {"subject_values", "person_id = ?"}, {"credentials", "person_id = ?"},
		{"one_time_links", "person_id = ?"}, {"consents", "person_id = ?"}, {"tile_marks", "person_id = ?"}, {"move_samples", "who = ?"},
		{"move_comparisons", "who = ?"}, {"reading_gones", "person_id = ?"},
		{"pushed_members", "pushed_id IN (SELECT id FROM pushed_people WHERE person_id = ?)"},
		{"pushed_keys", "pushed_id IN (SELECT id FROM pushed_people WHERE person_id = ?)"}, {"pushed_people", "person_id = ?"},
	},
	"group":  {{"memberships", "group_id = ?"}, {"assignments", "kind = 'group' AND who_id = ?"}},
	"source": {{"source_entities", "source_id = ?"}},
}

// ofPartner is what belongs to applications and providers alike.
func ofPartner(kind string) []Belonging {
	owned := "owner_kind = '" + kind + "' AND owner_id = ?"
	return []Belonging{
		{"partner_documents", owned}, {"partner_watches", "owner_id = ?"}, {"hand_outs", owned}, {"key_holders", "owner_kind = '" + kind +
			"' AND owner_id = ?"}, {"keys", owned}, {"trusted_certificates", owned}, {"secrets", "owner_id = ?"}, {"seens", "owner_id = ?"},
		{"outside_users", "owner_id = ?"}, {"kept_findings", "kind = '" + kind + "' AND owner_id = ?"},
		{"reach_changes", "kind = '" + kind + "' AND object_id = ?"}, {"proposals", "object_id = ?"},
		{"handover_openings", "handover_id IN (SELECT id FROM handovers WHERE kind = '" + kind + "' AND object_id = ?)"},
		{"handovers", "kind = '" + kind + "' AND object_id = ?"},
	}
}

// sweptTogether is how many objects are swept in one transaction, where little is left of each.
const sweptTogether = 20

// SweepSome deletes at most a number of rows that belong to what was deleted before a time, and says whether it found any. What
// is there again, such as what was restored, keeps its rows.
func SweepSome(tx *gorm.DB, before time.Time, most int) (bool, error) {
	var rows []Leftover
	if err := tx.Where("at < ?", before).Order("at").Limit(sweptTogether).Find(&rows).Error; err != nil {
		return false, err
	}
	left := int64(most)
	for _, l := range rows {
		n, err := sweep(tx, l, left)
		if err != nil {
			return false, err
		}
		if left -= n; left <= 0 {
			break
		}
		if err := tx.Delete(&l).Error; err != nil {
			return false, err
		}
	}
	return len(rows) > 0, nil
}

// sweep deletes rows that belong to one object, and says how many.
func sweep(tx *gorm.DB, l Leftover, most int64) (int64, error) {
	var there int
	if err := RowIn(tx, "SELECT count(*) FROM "+tables[l.Kind]+" WHERE id = ?", l.ObjectID).Scan(&there); err != nil || there > 0 {
		return 0, err
	}
	var gone int64
	for _, b := range belongs[l.Kind] {
		if gone >= most {
			break
		}
		n, err := Exec(tx, "DELETE FROM "+b.Table+" WHERE rowid IN (SELECT rowid FROM "+b.Table+" WHERE "+b.Where+" LIMIT ?)", l.ObjectID,
			most-gone)
		if err != nil {
			return 0, err
		}
		gone += n
	}
	return gone, nil
}

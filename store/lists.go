package store

import (
	"context"

	"gorm.io/gorm"
)

// sizeStatements are the indexes in whose order the lists of large tables are read, and those in which they are searched.
var sizeStatements = []string{
	// People, by name and type.
	"CREATE INDEX people_by_name ON people (name_key, id)",
	"CREATE INDEX people_by_type ON people (type, name_key, id)",
	"CREATE INDEX people_of_type ON people (type, id)",
	"CREATE INDEX people_inactive ON people (name_key, id) WHERE NOT active",
	"CREATE INDEX people_inactive_type ON people (type, name_key, id) WHERE NOT active",
	"DROP INDEX IF EXISTS idx_people_name", "DROP INDEX IF EXISTS idx_people_email", "DROP INDEX IF EXISTS idx_people_name_key",
	"CREATE INDEX membership_of_group ON memberships (group_id, person_id)",
	"DROP INDEX IF EXISTS idx_memberships_group_id",
	"CREATE INDEX link_people ON links (provider_id, person_id)",
	// What belongs to applications and providers, for when they are deleted.
	"CREATE INDEX subject_value_of ON subject_values (application_id)",
	"CREATE INDEX consent_of ON consents (application_id)",
	"CREATE INDEX tile_mark_of ON tile_marks (application_id)",
	"CREATE INDEX membership_given ON memberships (giver) WHERE giver <> 'hand'",
	// Sessions, the newest first.
	"CREATE INDEX session_open ON sessions (id) WHERE ended_at IS NULL",
	"DROP INDEX IF EXISTS idx_sessions_ended_at",
	"CREATE INDEX session_idle ON sessions (last_used) WHERE ended_at IS NULL",
	"CREATE INDEX session_over ON sessions (expires_at) WHERE ended_at IS NULL",
	"CREATE INDEX grant_provider_session ON grants (provider_id, provider_session) WHERE provider_session <> ''",
	"CREATE INDEX session_ended ON sessions (ended_at) WHERE ended_at IS NOT NULL",
	"CREATE INDEX session_of_person ON sessions (person_id, id)",
	"DROP INDEX IF EXISTS idx_sessions_person_id",
	"CREATE INDEX session_by_name ON sessions (person COLLATE NOCASE)",
	"CREATE INDEX session_by_address ON sessions (address)",
	"CREATE INDEX session_use_of ON session_uses (application_id, session_id)",
	"CREATE INDEX session_proof_of ON session_proofs (provider_id, session_id)",
	"DROP INDEX IF EXISTS addition_by_code",
	"CREATE INDEX addition_of_code ON trace_additions (code, trace_id) WHERE code <> ''",
	"CREATE INDEX trace_known ON traces (id) WHERE NOT stranger",
	// History and journal.
	"CREATE INDEX revision_by_kind ON revisions (kind)",
	"CREATE INDEX journal_by_object ON journal_entries (object_id)",
	"CREATE INDEX document_waiting ON partner_documents (owner_kind, owner_id) WHERE verdict = 'waiting'",
	// Counts are read by the hour, all of them: the table itself is in that order.
	"CREATE TABLE counts (hour datetime, application_id text, provider_id text, outcome text, code text, count integer, " +
		"PRIMARY KEY (hour, application_id, provider_id, outcome, code)) WITHOUT ROWID",
	"INSERT INTO counts SELECT hour, application_id, provider_id, outcome, code, count FROM sign_in_counts",
	"DROP TABLE sign_in_counts", "ALTER TABLE counts RENAME TO sign_in_counts",
	"CREATE INDEX count_of_application ON sign_in_counts (application_id, hour)",
	// Entities of sources, by name.
	"CREATE INDEX source_entity_by_name ON source_entities (source_id, display_name COLLATE NOCASE, entity_id)",
	// What stands in lines of the history and the journal, whichever part of a word is looked for. Neither table loses rows.
	"CREATE VIRTUAL TABLE revision_text USING fts5(name, slug, author, remark, content='revisions', tokenize='trigram')",
	"CREATE TRIGGER revision_text_made AFTER INSERT ON revisions BEGIN INSERT INTO revision_text (rowid, name, slug, author, remark) " +
		"VALUES (NEW.rowid, NEW.name, NEW.slug, NEW.author, NEW.remark); END",
	"INSERT INTO revision_text (rowid, name, slug, author, remark) SELECT rowid, name, slug, author, remark FROM revisions",
	"CREATE VIRTUAL TABLE journal_text USING fts5(who, object, action, content='journal_entries', content_rowid='number', " +
		"tokenize='trigram')",
	"CREATE TRIGGER journal_text_made AFTER INSERT ON journal_entries BEGIN INSERT INTO journal_text (rowid, who, object, action) " +
		"VALUES (NEW.number, NEW.who, NEW.object, NEW.action); END",
	"INSERT INTO journal_text (rowid, who, object, action) SELECT number, who, object, action FROM journal_entries",
}

// Analyze has the database look at how many rows its tables have, and how its indexes divide them, where that has changed much
// since it looked last. By that it chooses between indexes. It looks at samples, and takes some milliseconds.
func (f *file) Analyze(ctx context.Context) error {
	if f.engine != nil { // it would be written to all nodes
		return nil
	}
	db := f.write.WithContext(ctx)
	if err := db.Exec("PRAGMA analysis_limit = 1000").Error; err != nil {
		return Clear(err)
	}
	return Clear(db.Exec("PRAGMA optimize = 0x10002").Error)
}

func migrateSize(tx *gorm.DB) error {
	for _, stmt := range sizeStatements {
		if err := tx.Exec(stmt).Error; err != nil {
			return err
		}
	}
	return tx.AutoMigrate(&OutsideUser{}, &Notice{}, &Leftover{}, &Load{}, &LoadStep{})
}

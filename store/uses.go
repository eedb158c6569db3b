package store

import "gorm.io/gorm"

// usesStatements keep which applications use which providers in a table of its own, which the database itself writes
// with each application: whoever asks reads an index, and not the configuration of every application.
var usesStatements = []string{
	"CREATE TABLE IF NOT EXISTS uses (provider TEXT NOT NULL, application_id TEXT NOT NULL, PRIMARY KEY (provider, application_id)) " +
		"WITHOUT ROWID",
	"CREATE INDEX IF NOT EXISTS uses_of_application ON uses (application_id)",
	"CREATE TRIGGER IF NOT EXISTS uses_made AFTER INSERT ON applications BEGIN " + takeUses + "END",
	"CREATE TRIGGER IF NOT EXISTS uses_changed AFTER UPDATE OF body ON applications WHEN json_extract(OLD.body, '$.providers') IS NOT " +
		"json_extract(NEW.body, '$.providers') BEGIN DELETE FROM uses WHERE application_id = OLD.id; " + takeUses + "END",
	"CREATE TRIGGER IF NOT EXISTS uses_gone AFTER DELETE ON applications BEGIN DELETE FROM uses WHERE application_id = OLD.id; END",
}

const takeUses = "INSERT OR IGNORE INTO uses (provider, application_id) SELECT value, NEW.id FROM json_each(NEW.body, '$.providers'); "

// migrateUses makes the table, and fills it from what is there.
func migrateUses(tx *gorm.DB) error {
	for _, stmt := range usesStatements {
		if err := tx.Exec(stmt).Error; err != nil {
			return err
		}
	}
	return tx.Exec("INSERT OR IGNORE INTO uses (provider, application_id) SELECT e.value, a.id FROM applications a, json_each(a.body, " +
		"'$.providers') e").Error
}

package store

import (
	"strings"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// migrations bring a database from each form that it ever had to the next one, in their order. One that was released is never
// changed.
var migrations = []*gormigrate.Migration{
	{ID: "2026-11-23-first", Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Application{}, &Provider{}, &PartnerDocument{}, &Key{}, &Person{}, &Link{}, &SubjectValue{},
			&SignIn{}, &UsedID{},
			&Rehearsal{}, &Trace{}, &Revision{}, &JournalEntry{}, &Administrator{}, &ConsoleSession{}, &APIToken{}, &Guess{},
			&Setting{}); err != nil {
			return err
		}
		if err := tx.Exec("CREATE INDEX sign_in_open ON sign_ins (address) WHERE finished_at IS NULL").Error; err != nil {
			return err
		}
		// The journal is append-only, for everybody who comes through SQL as well.
		for _, event := range []string{"UPDATE", "DELETE"} {
			if err := tx.Exec("CREATE TRIGGER journal_no_" + strings.ToLower(event) + " BEFORE " + event +
				" ON journal_entries BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END").Error; err != nil {
				return err
			}
		}
		return nil
	}},
	{ID: "2026-11-23-metadata", Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&PartnerDocument{}, &PartnerWatch{}, &Source{}, &SourceEntity{}, &Key{}, &KeyHolder{},
			&TrustedCertificate{}, &HandOut{}, &Artifact{}, &Template{}); err != nil {
			return err
		}
		// One active and one next key for each purpose and owner.
		for _, state := range []string{"active", "next"} {
			if err := tx.Exec("CREATE UNIQUE INDEX key_" + state + " ON keys (purpose, coalesce(owner_id, '')) WHERE state = '" +
				state + "'").Error; err != nil {
				return err
			}
		}
		const since = "UPDATE keys SET published_at = created_at, switched_at = created_at WHERE state = 'active'"
		if err := tx.Exec(since).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE partner_documents SET verdict = 'used'").Error
	}},
	{ID: "2026-11-23-openid", Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(
			&Secret{}, &Grant{}, &Token{}, &PushedRequest{}, &DeviceCode{}, &Consent{}, &TraceAddition{},
			&ConsoleSession{},
		)
	}},
	{ID: "2026-11-23-people", Migrate: migratePeople},
	{ID: "2026-11-23-subjects", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Trace{}) }},
	{ID: "2026-11-23-checkup", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&KeptFinding{}, &OutsideHost{}) }},
	{ID: "2026-11-23-traces", Migrate: migrateTraces},
	{ID: "2026-11-24-rehearsals", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Rehearsal{}) }},
	{ID: "2026-11-27-sessions", Migrate: migrateSessions},
	{ID: "2026-11-27-changes", Migrate: migrateChanges},
	{ID: "2026-11-29-strangers", Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&SignIn{}, &Trace{}); err != nil {
			return err
		}
		if err := tx.Exec("CREATE INDEX sign_in_network ON sign_ins (network, created_at) WHERE NOT vouched").Error; err != nil {
			return err
		}
		return tx.Exec("CREATE INDEX trace_stranger ON traces (id) WHERE stranger").Error
	}},
	{ID: "2026-11-29-actors", Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&JournalEntry{}, &APIToken{}, &Proposal{}, &Handover{}, &MoveWave{})
	}},
	{ID: "2026-11-29-accounts", Migrate: func(tx *gorm.DB) error {
		return tx.Exec("CREATE INDEX account_subject ON accounts (application_id, subject COLLATE NOCASE)").Error
	}},
	{ID: "2026-11-29-seen", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Seen{}) }},
	{ID: "2026-11-29-switches", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Key{}) }},
	{ID: "2026-11-29-additions", Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&TraceAddition{}); err != nil {
			return err
		}
		return tx.Exec("CREATE INDEX IF NOT EXISTS addition_by_code ON trace_additions (code) WHERE code <> ''").Error
	}},
	{ID: "2026-11-30-lists", Migrate: func(tx *gorm.DB) error {
		for _, stmt := range listIndexes {
			if err := tx.Exec(stmt).Error; err != nil {
				return err
			}
		}
		return nil
	}},
	{ID: "2026-11-30-uses", Migrate: migrateUses},
	{ID: "2026-11-30-size", Migrate: migrateSize},
	{ID: "2026-11-30-arrivals", Migrate: func(tx *gorm.DB) error { return tx.Exec("DROP TABLE IF EXISTS arrivals").Error }},
	{ID: stepApart, Migrate: dropTraces},
	{ID: "2026-11-30-nodes", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&NodeInvitation{}) }},
	{ID: "2026-11-30-members", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&NodeMember{}, &NodeWrite{}) }},
	{ID: "2026-11-30-readings", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Reading{}, &ReadingGone{}) }},
	{ID: "2026-11-30-kept-accounts", Migrate: migrateAccounts},
	{ID: "2026-11-30-pushed", Migrate: migratePushed},
}

// unshared are the migrations after which an older version of the program, at another node, could not go on. The others only add.
var unshared = map[string]bool{}

// NewestForm names the newest form of the database that this program knows.
func NewestForm() string { return migrations[len(migrations)-1].ID }

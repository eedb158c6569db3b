package store

import (
	"time"

	"github.com/oklog/ulid/v2"
	"gorm.io/gorm"
)

// TraceID leads from the ID of a message, or of a token, to the traces in which it stands.
type TraceID struct {
	Value   string `gorm:"primaryKey"`
	TraceID string `gorm:"primaryKey;index"`
}

// SignInCount counts sign-ins that have ended, by hour. Rehearsals are not counted.
type SignInCount struct {
	Hour          time.Time `gorm:"primaryKey"`
	ApplicationID string    `gorm:"primaryKey"`
	ProviderID    string    `gorm:"primaryKey"`
	Outcome       string    `gorm:"primaryKey"`
	Code          string    `gorm:"primaryKey"`
	Count         int64
}

// traceIndexes are for each way in which traces are looked for, the newest first.
var traceIndexes = []string{
	"CREATE INDEX IF NOT EXISTS trace_by_application ON traces (application_id, id)",
	"CREATE INDEX IF NOT EXISTS trace_by_provider ON traces (provider_id, id)",
	"CREATE INDEX IF NOT EXISTS trace_by_outcome ON traces (outcome, id)", "CREATE INDEX IF NOT EXISTS trace_by_code ON traces (code, id)",
	"CREATE INDEX IF NOT EXISTS trace_by_person ON traces (person_id, id)",
	"CREATE INDEX IF NOT EXISTS trace_by_name ON traces (person COLLATE NOCASE, id)",
	"CREATE INDEX IF NOT EXISTS trace_of_rehearsal ON traces (id) WHERE rehearsal_id <> ''",
	"DROP INDEX IF EXISTS idx_traces_application_id", "DROP INDEX IF EXISTS idx_traces_provider_id",
	"DROP INDEX IF EXISTS idx_traces_outcome", "DROP INDEX IF EXISTS idx_traces_code", "DROP INDEX IF EXISTS idx_traces_person_id",
}

func migrateTraces(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&TraceID{}, &SignInCount{}); err != nil {
		return err
	}
	for _, stmt := range traceIndexes {
		if err := tx.Exec(stmt).Error; err != nil {
			return err
		}
	}
	// What was counted by nobody is counted from the traces that are there.
	return tx.Exec(
		"INSERT INTO sign_in_counts (hour, application_id, provider_id, outcome, code, count) SELECT strftime('%Y-%m-%d " +
			"%H:00:00+00:00', started_at), application_id, provider_id, outcome, code, count(*) FROM traces WHERE outcome <> 'open' " +
			"AND rehearsal_id = '' GROUP BY 1, 2, 3, 4, 5",
	).Error
}

// FirstID is the lowest identifier that a record made at a time or later can have.
func FirstID(t time.Time) string {
	var id ulid.ULID
	if t.UnixMilli() <= 0 || id.SetTime(uint64(t.UnixMilli())) != nil {
		return ""
	}
	return id.String()
}

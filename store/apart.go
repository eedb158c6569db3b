package store

import (
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// stepApart is the step from which on traces are in a file of their own.
const stepApart = "2026-11-30-traces-apart"

// tracesMoved is how many traces are moved in one transaction; tests move fewer.
var tracesMoved = 2000

// dropTraces takes the tables of traces out of the records, once moveTraces has moved what was in them.
func dropTraces(tx *gorm.DB) error {
	for _, table := range []string{"trace_ids", "trace_additions", "traces", "sign_in_counts"} {
		if err := tx.Exec("DROP TABLE IF EXISTS " + table).Error; err != nil {
			return err
		}
	}
	return nil
}

// moveTraces moves the traces that stand among the records to their own file, in the order of their IDs. Each part is one
// transaction there, so that a start that was cut off is gone on with where it was.
func moveTraces(records *gorm.DB, traces *Traces, tell func(string)) error {
	if !records.Migrator().HasTable("traces") {
		return nil
	}
	var all int64
	if err := records.Raw("SELECT (SELECT count(*) FROM traces) + (SELECT count(*) FROM sign_in_counts)").Scan(&all).Error; err != nil {
		return err
	}
	if all == 0 {
		return nil
	}
	var path string
	if err := records.Raw("SELECT file FROM pragma_database_list WHERE name = 'main'").Scan(&path).Error; err != nil {
		return err
	}
	db := traces.write
	if err := db.Exec("ATTACH DATABASE ? AS old", path).Error; err != nil {
		return err
	}
	defer db.Exec("DETACH DATABASE old")
	if err := db.Exec("INSERT OR REPLACE INTO sign_in_counts SELECT hour, application_id, provider_id, outcome, code, count FROM " +
		"old.sign_in_counts").Error; err != nil {
		return err
	}
	return moveParts(db, tell)
}

// moveParts moves the traces part by part, each with what belongs to it.
func moveParts(db *gorm.DB, tell func(string)) error {
	columns, err := columnsOf(db, "traces")
	if err != nil {
		return err
	}
	var last string
	var all, moved int64
	if err := db.Raw("SELECT count(*) FROM old.traces").Scan(&all).Error; err != nil {
		return err
	}
	if err := db.Raw("SELECT count(*) FROM traces").Scan(&moved).Error; err != nil {
		return err
	}
	said := time.Now()
	for {
		var until string
		err := db.Transaction(func(tx *gorm.DB) error {
			if err := tx.Raw("SELECT coalesce(max(id), '') FROM traces").Scan(&last).Error; err != nil {
				return err
			}
			if err := tx.Raw("SELECT coalesce(max(id), '') FROM (SELECT id FROM old.traces WHERE id > ? ORDER BY id LIMIT ?)", last,
				tracesMoved).Scan(&until).Error; err != nil || until == "" {
				return err
			}
			return moveBetween(tx, columns, last, until)
		})
		if err != nil || until == "" {
			return err
		}
		if moved = min(moved+int64(tracesMoved), all); time.Since(said) > 2*time.Second || moved == all {
			said = time.Now()
			tell(fmt.Sprintf("Traces get a file of their own: %d of %d are moved.", moved, all))
		}
	}
}

// moveBetween moves the traces behind one ID up to another.
func moveBetween(tx *gorm.DB, columns, after, until string) error {
	for _, statement := range []string{
		"INSERT OR IGNORE INTO traces (" + columns + ") SELECT " + columns + " FROM old.traces WHERE id > ? AND id <= ?",
		"INSERT OR IGNORE INTO trace_ids (value, trace_id) SELECT value, trace_id FROM old.trace_ids WHERE trace_id > ? AND trace_id <= ?",
		"INSERT OR IGNORE INTO trace_additions (id, trace_id, code, entries, at) SELECT id, trace_id, code, entries, at FROM " +
			"old.trace_additions WHERE trace_id > ? AND trace_id <= ?",
	} {
		if err := tx.Exec(statement, after, until).Error; err != nil {
			return err
		}
	}
	return nil
}

// columnsOf lists the columns of a table, as a statement names them.
func columnsOf(db *gorm.DB, table string) (string, error) {
	var names []string
	if err := db.Raw("SELECT name FROM pragma_table_info(?)", table).Scan(&names).Error; err != nil {
		return "", Clear(err)
	}
	return "`" + strings.Join(names, "`, `") + "`", nil
}

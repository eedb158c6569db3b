package store

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"gorm.io/gorm"
)

// Aside runs f on a store of its own, in which the tables named in copied have a copy of what they hold, and those in
// empty nothing: what f writes to them is seen by f alone, and is gone when f returns. Everything else is read as it
// is, and must not be written. It is how the gate finds out what a change would do: no other call waits for it.
func (s *Store) Aside(ctx context.Context, copied, empty []string, f func(*Store) error) error {
	// Temporary tables hide those of the same name, and belong to one connection.
	var db *gorm.DB
	var err error
	if s.engine != nil {
		db, err = s.pool(1)
	} else {
		db, err = connect(filepath.Join(s.Folder, FileName)+"?_busy_timeout=1000&_txlock=deferred", 1, s.watcher)
	}
	if err != nil {
		return err
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	defer pool.Close()
	if err := db.Exec("PRAGMA temp_store = MEMORY").Error; err != nil {
		return Clear(err)
	}
	tx := db.WithContext(ctx).Begin()
	if tx.Error != nil {
		return Clear(tx.Error)
	}
	defer tx.Rollback()
	for i, table := range append(append([]string{}, copied...), empty...) {
		if err := shadow(tx, table, i < len(copied)); err != nil {
			return fmt.Errorf("the table %s can't be set aside: %w", table, Clear(err))
		}
	}
	aside := &Store{Sealer: s.Sealer, Folder: s.Folder, Traces: s.Traces}
	aside.write, aside.read, aside.watcher = tx, tx, s.watcher
	return f(aside)
}

// shadow makes a temporary table like another, with its indexes.
func shadow(tx *gorm.DB, table string, fill bool) error {
	var made []struct{ Type, Name, SQL string }
	if err := tx.Raw("SELECT type, name, sql FROM main.sqlite_master WHERE tbl_name = ? AND type IN ('table', 'index', 'trigger') AND sql "+
		"IS NOT NULL ORDER BY type DESC", table).Scan(&made).Error; err != nil {
		return err
	}
	var indexes []string
	for _, m := range made {
		if m.Type == "trigger" {
			if strings.HasSuffix(m.Name, "_text_made") {
				continue // nothing is searched here, and the index is everybody's
			}
			if strings.HasPrefix(m.Name, accountTrigger) {
				continue // of what is only looked at no account hears
			}
			// What the database does by itself for the table, it does here for the copy.
			indexes = append(indexes, strings.Replace(m.SQL, "CREATE TRIGGER", "CREATE TEMP TRIGGER", 1))
			continue
		}
		if m.Type == "table" {
			if err := tx.Exec(strings.Replace(m.SQL, "CREATE TABLE", "CREATE TEMP TABLE", 1)).Error; err != nil {
				return err
			}
			continue
		}
		at := strings.Index(m.SQL, " ON ")
		unique := ""
		if strings.HasPrefix(m.SQL, "CREATE UNIQUE") {
			unique = "UNIQUE "
		}
		indexes = append(indexes, "CREATE "+unique+"INDEX temp.`"+m.Name+"`"+m.SQL[at:])
	}
	if fill {
		if err := tx.Exec("INSERT INTO temp.`" + table + "` SELECT * FROM main.`" + table + "`").Error; err != nil {
			return err
		}
	}
	for _, stmt := range indexes {
		if err := tx.Exec(stmt).Error; err != nil {
			return err
		}
	}
	return nil
}

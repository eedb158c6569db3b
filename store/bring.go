package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// broughtTogether is how many rows one transaction brings.
const broughtTogether = 100

// BringAlong copies all records of another store, which has the same form and which nobody writes, into this one. What is there
// already is written over by the same, so that a copy that was cut off can be begun again.
func (s *Store) BringAlong(ctx context.Context, from *Store, tell func(string)) error {
	var tables []string
	if err := from.Read(ctx).Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE " +
		"'sqlite\\_%' ESCAPE '\\' AND name NOT " +
		"LIKE '%\\_text%' ESCAPE '\\' AND name <> 'migrations' ORDER BY name").Scan(&tables).Error; err != nil {
		return Clear(err)
	}
	for _, table := range tables {
		n, err := s.bringTable(ctx, from, table, tell)
		if err != nil {
			return fmt.Errorf("%s: %w", table, Clear(err))
		}
		if n > 0 {
			tell(fmt.Sprintf("Records are brought along: %d of %s.", n, table))
		}
	}
	return nil
}

func (s *Store) bringTable(ctx context.Context, from *Store, table string, tell func(string)) (int, error) {
	columns, err := columnsOf(from.Read(ctx), table)
	if err != nil {
		return 0, err
	}
	width := strings.Count(columns, ",") + 1
	places := strings.TrimSuffix(strings.Repeat("?, ", width), ", ")
	insert := "INSERT OR REPLACE INTO `" + table + "` (" + columns + ") VALUES (" + places + ")"
	// Tables without a number for each row are small, and counted through.
	query := "SELECT rowid, " + columns + " FROM `" + table + "` WHERE rowid > ? ORDER BY rowid LIMIT ?"
	var numbered bool
	if err := from.Read(ctx).Raw("SELECT NOT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?",
		table).Scan(&numbered).Error; err != nil {
		return 0, err
	}
	if !numbered {
		query = "SELECT ?1 + row_number() OVER (), * FROM (SELECT " + columns + " FROM `" + table + "` ORDER BY 1, 2 LIMIT ?2 OFFSET ?1)"
	}
	all, last, said := 0, int64(0), time.Now()
	for {
		rows, until, err := someRows(from.Read(ctx), query, width, last)
		if err != nil || len(rows) == 0 {
			return all, err
		}
		if err := s.Write(ctx, func(tx *gorm.DB) error {
			for _, row := range rows {
				if _, err := Exec(tx, insert, row...); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return all, err
		}
		all, last = all+len(rows), until
		if time.Since(said) > 2*time.Second {
			said = time.Now()
			tell(fmt.Sprintf("Records are brought along: %d of %s so far.", all, table))
		}
	}
}

// someRows are some rows behind a place, and where they end: the first column of the query.
func someRows(db *gorm.DB, query string, width int, after int64) ([][]any, int64, error) {
	rows, err := db.Statement.ConnPool.QueryContext(db.Statement.Context, query, after, broughtTogether)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	var out [][]any
	for rows.Next() {
		row, into := make([]any, width), make([]any, width+1)
		into[0] = &after
		for i := range row {
			into[i+1] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, 0, err
		}
		out = append(out, row)
	}
	return out, after, rows.Err()
}

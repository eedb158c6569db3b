package store

import (
	"context"
	"fmt"
	"strings"
	"unicode/utf8"

	"gorm.io/gorm"
)

// Way is one way to narrow a list of rows that have an id: by where the rows are found, or row by row. Both let the same rows
// in.
type Way struct {
	// IDs is a query for the IDs of the rows that are let in, Holds a condition on a row of the list.
	IDs, Holds string
	// Args are the values in either.
	Args []any
	// First, where there is no condition, is a query for the first of the IDs, taken where there are too many of them.
	First string
}

// few is how many rows may be found first and sorted then. Where more are let in, they are met often enough when the list is
// gone through in its order.
const few = 5000

// Narrow narrows a list of a table in the ways that cost less: where few rows are let in, these are found and sorted; where
// many are, the list is gone through in its order until a page is full. Cut says that of one way the first rows alone are let
// in, since there are too many.
func (f *file) Narrow(ctx context.Context, db *gorm.DB, table string, ways ...Way) (narrowed *gorm.DB, cut bool, err error) {
	var found []string
	var args []any
	for _, w := range ways {
		var n int
		counted := append(append([]any{}, w.Args...), few+1)
		if err := f.Row(ctx, "SELECT count(*) FROM (SELECT 1 FROM ("+w.IDs+") LIMIT ?)", counted...).Scan(&n); err != nil {
			return nil, false, Clear(err)
		}
		switch {
		case n <= few:
			found, args = append(found, "id IN ("+w.IDs+")"), append(args, w.Args...)
		case w.First != "":
			found, args, cut = append(found, "id IN ("+w.First+")"), append(args, w.Args...), true
		default:
			db = db.Where(w.Holds, w.Args...)
		}
	}
	if len(found) == 0 {
		return db, cut, nil
	}
	// The limit, which is none, keeps the database from going through the list in its order all the same.
	return db.Table("(/* few */ SELECT * FROM "+table+" WHERE "+strings.Join(found, " AND ")+" LIMIT -1) AS "+table, args...), cut, nil
}

// Containing narrows a table of lines that only grows to those in which a text stands, in one of the columns that an index of
// parts of words holds. Texts that are shorter than such a part are looked for in the newest lines alone.
func (f *file) Containing(ctx context.Context, db *gorm.DB, l Lines, text string) (*gorm.DB, error) {
	holds, likes := l.like(text)
	if utf8.RuneCountInString(text) < 3 {
		newest := fmt.Sprintf("%s > (SELECT max(%s) - 20000 FROM %s)", l.Number, l.Number, l.Table)
		return db.Where(newest+" AND "+holds, likes...), nil
	}
	phrase := `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
	matches := "SELECT rowid FROM " + l.Index + " WHERE " + l.Index + " MATCH ?"
	var n int
	if err := f.Row(ctx, "SELECT count(*) FROM ("+matches+" LIMIT ?)", phrase, few+1).Scan(&n); err != nil {
		return nil, Clear(err)
	}
	if n > few { // they are met often enough, the newest first
		return db.Where(holds, likes...), nil
	}
	return db.Where(l.Number+" IN ("+matches+")", phrase), nil
}

// Lines is a table of numbered lines, with the index of parts of words over some of its columns.
type Lines struct {
	Table, Number, Index string
	Columns              []string
}

func (l Lines) like(text string) (string, []any) {
	like := containing(text)
	var parts []string
	var args []any
	for _, c := range l.Columns {
		parts, args = append(parts, c+` LIKE ? ESCAPE '\'`), append(args, like)
	}
	return "(" + strings.Join(parts, " OR ") + ")", args
}

// JournalLines and HistoryLines are the journal, and all revisions.
var (
	JournalLines = Lines{"journal_entries", "number", "journal_text", []string{"who", "object", "action"}}
	HistoryLines = Lines{"revisions", "rowid", "revision_text", []string{"name", "slug", "author", "remark"}}
)

package store_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/store"
)

// TestBothWaysLetTheSameIn narrows eight thousand people to few and to many, alone and together, in two orders, page by page: the
// list is the same as that of the plain condition.
func TestBothWaysLetTheSameIn(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		for i := range 8000 {
			// Names come in another order than identifiers; one of two is in the large group, one of a hundred in the small one.
			if _, err := store.Exec(tx, "INSERT INTO people (id, name, name_key, active, type) VALUES (?, ?, ?, 1, 'staff')",
				fmt.Sprintf("p%05d", i), "x", fmt.Sprintf("n%05d", i*4999%8000)); err != nil {
				return err
			}
			for group, every := range map[string]int{"large": 1 + i%4/3, "small": 100} {
				if i%every == 0 {
					if _, err := store.Exec(tx, "INSERT INTO memberships (person_id, group_id, giver) VALUES (?, ?, 'hand')",
						fmt.Sprintf("p%05d", i), group); err != nil {
						return err
					}
				}
			}
		}
		return nil
	}))
	in := func(group string) store.Way {
		return store.Way{
			IDs:   "SELECT person_id FROM memberships WHERE group_id = ?",
			Holds: "EXISTS (SELECT 1 FROM memberships m WHERE m.person_id = people.id AND m.group_id = ?)",
			Args:  []any{group},
		}
	}
	for _, groups := range [][]string{{"large"}, {"small"}, {"large", "small"}, {"small", "large"}, {"nobody"}, {}} {
		for _, sort := range []string{"name", "-name", "created"} {
			plain := s.Read(ctx).Model(&store.Person{})
			var ways []store.Way
			for _, g := range groups {
				ways = append(ways, in(g))
				plain = plain.Where("id IN (SELECT person_id FROM memberships WHERE group_id = ?)", g)
			}
			columns := map[string]string{"name": "name_key", "created": "id"}
			want := []string{}
			order := map[string]string{"name": "name_key, id", "-name": "name_key DESC, id DESC", "created": "id"}[sort]
			require.NoError(t, plain.Order(order).Limit(450).Pluck("id", &want).Error)
			got, page := []string{}, store.Page{Limit: 150, Sort: sort}
			for range 3 {
				db, cut, err := s.Narrow(ctx, s.Read(ctx), "people", ways...)
				require.NoError(t, err)
				assert.False(t, cut)
				db, err = page.Rows(db, columns, "name")
				require.NoError(t, err)
				var rows []store.Person
				require.NoError(t, db.Find(&rows).Error)
				rows = rows[:min(len(rows), page.Limit)]
				for _, r := range rows {
					got = append(got, r.ID)
				}
				if len(rows) == 0 {
					break
				}
				last := rows[len(rows)-1]
				page.After = store.AfterKey(map[bool]string{true: last.ID, false: last.NameKey}[sort == "created"], last.ID)
			}
			assert.Equal(t, want, got, "%v %s", groups, sort)
		}
	}
}

// TestTooManyAreCut: where a way has no condition, the first of its rows are taken, and the list says so.
func TestTooManyAreCut(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO people (id, name, name_key, active) WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL " +
			"SELECT i + 1 FROM n WHERE " +
			"i < 6000) SELECT printf('p%05d', i), 'x', printf('a%05d', i), 1 FROM n").Error
	}))
	for prefix, want := range map[string]struct {
		n   int64
		cut bool
	}{"a0001": {10, false}, "a": {300, true}} {
		db, cut, err := s.Narrow(ctx, s.Read(ctx).Model(&store.Person{}), "people", store.Way{
			IDs:   "SELECT id FROM people WHERE name_key >= ? AND name_key < ?",
			First: "SELECT id FROM (SELECT id FROM people WHERE name_key >= ? AND name_key < ? ORDER BY name_key LIMIT 300)",
			Args:  []any{prefix, prefix + "~"},
		})
		require.NoError(t, err)
		var n int64
		require.NoError(t, db.Count(&n).Error)
		assert.Equal(t, want.n, n, prefix)
		assert.Equal(t, want.cut, cut, prefix)
	}
}

// TestPartsOfWordsAreFound looks for texts in lines: some that few have, and that many have, short ones, and signs that mean
// something elsewhere.
func TestPartsOfWordsAreFound(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO journal_entries (at, who, action, object) WITH RECURSIVE n(i) AS (SELECT 1 " +
			"UNION ALL SELECT i + 1 FROM n " +
			"WHERE i < 6000) SELECT '2026-11-30', CASE i WHEN 7 THEN '50% \"off\"' WHEN 8 THEN 'under_score' ELSE " +
			"'Fenna' END, 'changed', " +
			"'Berth ' || i FROM n").Error
	}))
	for text, want := range map[string]int64{"erth 599": 11, "fenna": 5998, "FENNA": 5998, "hanged": 6000,
		`50% "off"`: 1, "r_s": 1, "%": 1, "_": 1,
		"77": 114, "nothing": 0, `" OR "`: 0} {
		db, err := s.Containing(ctx, s.Read(ctx).Model(&store.JournalEntry{}), store.JournalLines, text)
		require.NoError(t, err)
		var n int64
		require.NoError(t, db.Count(&n).Error, text)
		assert.Equal(t, want, n, text)
	}
}

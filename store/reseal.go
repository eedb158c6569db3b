package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"gorm.io/gorm"
)

// sealedColumns are all places where sealed values are kept, with the name under which each is sealed.
var sealedColumns = []struct{ table, key, column, place string }{
	{
		"keys",
		"id",
		"sealed",
		"key/",
	}, {"sign_ins", "id", "state", "signin/"}, {"traces", "id", "entries", "trace/"}, {"artifacts", "handle", "sealed", "artifact/"},
	{
		"secrets",
		"id",
		"sealed",
		"secret/",
	}, {"grants", "id", "sealed", "grant/"}, {"pushed_requests", "handle", "sealed", "pushed/"},
	{"trace_additions", "id", "entries", "trace/"},
	{
		"sessions",
		"id",
		"sealed",
		"session/",
	}, {"sign_outs", "id", "sealed", "sign-out/"}, {"guard_tickets", "id", "sealed", "guard/"},
	{"guard_sessions", "id", "sealed", "guard/"},
	{"move_samples", "id", "sealed", "move/"}, {"move_comparisons", "id", "sealed", "move/"}, {"proposals", "id", "secret", "proposal/"},
}

// Reseal seals every secret anew with the current master key, some hundred rows at a time, and returns how many it
// changed. What was sealed with it already is left alone, so that a run which was cut short can be run again.
func (s *Store) Reseal(ctx context.Context) (int, error) {
	changed := 0
	for _, c := range sealedColumns {
		after := ""
		for {
			var rows []struct {
				K string
				V []byte
			}
			query := fmt.Sprintf(
				"SELECT %s AS k, %s AS v FROM %s WHERE %s > ? AND length(%s) > 0 ORDER BY %s LIMIT 200", c.key,
				c.column, c.table, c.key, c.column, c.key,
			)
			if err := s.Read(ctx).Raw(query, after).Scan(&rows).Error; err != nil {
				return changed, Clear(err)
			}
			if len(rows) == 0 {
				break
			}
			after = rows[len(rows)-1].K
			err := s.Write(ctx, func(tx *gorm.DB) error {
				for _, r := range rows {
					if s.Sealer.current(c.place+r.K, r.V) {
						continue
					}
					plain, err := s.Sealer.Open(c.place+r.K, r.V)
					if err != nil {
						return fmt.Errorf("%s %s: %w", c.table, r.K, err)
					}
					if err := tx.Exec(fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", c.table, c.column, c.key),
						s.Sealer.Seal(c.place+r.K, plain), r.K).Error; err != nil {
						return err
					}
					changed++
				}
				return nil
			})
			if err != nil {
				return changed, err
			}
		}
	}
	return changed, nil
}

// Hold takes the data folder for a process: shared, as every running service does, or for itself alone. It returns what
// gives it back.
func Hold(folder string, alone bool) (func(), error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s can't be made: %w", folder, err)
	}
	f, err := os.OpenFile(filepath.Join(folder, "in-use.lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s can't be written: %w", folder, err)
	}
	how := syscall.LOCK_SH
	if alone {
		how = syscall.LOCK_EX
	}
	if err := syscall.Flock(int(f.Fd()), how|syscall.LOCK_NB); err != nil {
		f.Close()
		if alone {
			return nil, fmt.Errorf("a service is running on the data folder %s; stop it first", folder)
		}
		return nil, fmt.Errorf("the data folder %s is being worked on by another command; wait until it has finished", folder)
	}
	return func() { f.Close() }, nil
}

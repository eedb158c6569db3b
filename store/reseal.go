package store

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"gorm.io/gorm"
)

// Reseal seals every secret anew with the current master key, some hundred rows at a time, and returns how many it
// changed. What was sealed with it already is left alone, so that a run which was cut short can be run again.
func (s *Store) Reseal(ctx context.Context) (int, error) {
	changed := 0
	for _, place := range places {
		for _, c := range place.columns {
			n, err := s.resealColumn(ctx, place, c)
			changed += n
			if err != nil {
				return changed, fmt.Errorf("%s: %w", c.table, err)
			}
		}
	}
	return changed, nil
}

type sealedRow struct {
	K string
	V []byte
}

func (s *Store) resealColumn(ctx context.Context, place *Place, c column) (int, error) {
	changed, after := 0, ""
	read, write := s.Read, s.Write
	if c.traces {
		read, write = s.Traces.Read, s.Traces.Write
	}
	for {
		var rows []sealedRow
		query := fmt.Sprintf("SELECT %s AS k, %s AS v FROM %s WHERE %s > ? AND length(%s) > 0 AND %s ORDER BY %s LIMIT 200",
			c.key, c.value, c.table, c.key, c.value, cmp.Or(c.where, "true"), c.key)
		if err := read(ctx).Raw(query, after).Scan(&rows).Error; err != nil {
			return changed, Clear(err)
		}
		if len(rows) == 0 {
			return changed, nil
		}
		after = rows[len(rows)-1].K
		err := write(ctx, func(tx *gorm.DB) error {
			for _, r := range rows {
				fresh, err := s.resealed(place, r, c.encoded)
				if err != nil {
					return fmt.Errorf("%s: %w", r.K, err)
				}
				if fresh == nil {
					continue
				}
				if err := tx.Exec(fmt.Sprintf("UPDATE %s SET %s WHERE %s = ?", c.table, cmp.Or(c.update, c.value+" = ?"), c.key), fresh,
					r.K).Error; err != nil {
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

// resealed is a row's value sealed anew, or nil where it is sealed with the current key already.
func (s *Store) resealed(place *Place, r sealedRow, encoded bool) (any, error) {
	sealed := r.V
	if encoded {
		var err error
		if sealed, err = base64.StdEncoding.DecodeString(string(r.V)); err != nil {
			return nil, err
		}
	}
	if s.Sealer.current(place, r.K, sealed) {
		return nil, nil
	}
	plain, err := s.Sealer.Open(place, r.K, sealed)
	if err != nil {
		return nil, err
	}
	fresh := s.Sealer.Seal(place, r.K, plain)
	if encoded {
		return base64.StdEncoding.EncodeToString(fresh), nil
	}
	return fresh, nil
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

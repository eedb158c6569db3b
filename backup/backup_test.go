package backup_test

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/backup"
	"innergate/store"
	"innergate/testbed"
)

// TestACopyIsOfOneMoment copies while somebody writes two values that are always alike, and much else.
func TestACopyIsOfOneMoment(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	l := testbed.NewLab(t)
	l.Furnish(t)
	write := func(n int) error {
		return l.Store.Write(ctx, func(tx *gorm.DB) error {
			for _, name := range []string{"one", "other"} {
				if err := tx.Exec("INSERT INTO settings (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = "+
					"excluded.value",
					name, strconv.Itoa(n)).Error; err != nil {
					return err
				}
			}
			return tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) SELECT hex(randomblob(200)), ?, '2030-01-01' FROM settings",
				n).Error
		})
	}
	require.NoError(t, write(0))
	stop, ended := make(chan struct{}), make(chan int)
	go func() {
		n := 1
		for ; ; n++ {
			select {
			case <-stop:
				ended <- n
				return
			default:
				if err := write(n); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	for i := range 5 {
		file := filepath.Join(t.TempDir(), "gate.db")
		steps := 0
		_, err := backup.Make(ctx, l.Folder, file, nil, func(done, all int) { steps++; assert.LessOrEqual(t, done, all) })
		require.NoError(t, err)
		assert.Positive(t, steps)
		seen, err := backup.Verify(ctx, file, nil)
		require.NoError(t, err)
		assert.EqualValues(t, 3, seen.Applications, i)
		folder := t.TempDir()
		_, err = backup.Restore(ctx, file, folder, nil)
		require.NoError(t, err)
		s, err := store.Open(folder, l.Store.Sealer)
		require.NoError(t, err)
		var values []string
		require.NoError(t, s.Read(ctx).Raw("SELECT value FROM settings WHERE name IN ('one', 'other')").Scan(&values).Error)
		s.Close()
		require.Len(t, values, 2)
		assert.Equal(t, values[0], values[1])
	}
	close(stop)
	assert.Greater(t, <-ended, 5, "the writer went on")
	files, err := os.ReadDir(l.Folder)
	require.NoError(t, err)
	for _, f := range files {
		assert.NotContains(t, f.Name(), "backup", "nothing is left over")
	}
}

// TestAnEncryptedCopyIsOpenedByItsKeyAlone.
func TestAnEncryptedCopyIsOpenedByItsKeyAlone(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	l := testbed.NewLab(t)
	l.Furnish(t)
	mine, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	to, err := backup.Recipients([]string{mine.Recipient().String()})
	require.NoError(t, err)
	_, err = backup.Recipients([]string{"ssh-rsa AAAA"})
	require.ErrorContains(t, err, "begins with age1")
	file := filepath.Join(t.TempDir(), "gate.db.age")
	_, err = backup.Make(ctx, l.Folder, file, to, func(int, int) {
		left, err := os.ReadDir(filepath.Dir(file))
		require.NoError(t, err)
		assert.Empty(t, left, "nothing lies in clear where the copy goes")
	})
	require.NoError(t, err)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "rota.example")
	assert.NotContains(t, string(raw), "SQLite format")
	_, err = backup.Verify(ctx, file, nil)
	require.ErrorContains(t, err, "--identity")
	_, err = backup.Verify(ctx, file, []age.Identity{other})
	require.ErrorContains(t, err, "can't be decrypted")
	seen, err := backup.Verify(ctx, file, []age.Identity{mine})
	require.NoError(t, err)
	assert.True(t, seen.Encrypted)
	assert.Equal(t, store.NewestForm(), seen.Form)
	assert.EqualValues(t, 3, seen.Applications)
	require.NoError(t, os.WriteFile(file, raw[:len(raw)-100], 0o600))
	_, err = backup.Restore(ctx, file, t.TempDir(), []age.Identity{mine})
	require.ErrorContains(t, err, "is not whole")
}

// TestNothingIsWrittenOver: a copy is not written over a file, nor brought back over a database; a damaged one is not brought back.
func TestNothingIsWrittenOver(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	l := testbed.NewLab(t)
	l.Furnish(t)
	file := filepath.Join(t.TempDir(), "gate.db")
	// What a copy that was cut off has left is taken away by a later one.
	left := filepath.Join(filepath.Dir(file), ".backup-123")
	require.NoError(t, os.WriteFile(left, nil, 0o600))
	require.NoError(t, os.Chtimes(left, time.Now().AddDate(0, 0, -2), time.Now().AddDate(0, 0, -2)))
	_, err := backup.Make(ctx, l.Folder, file, nil, nil)
	require.NoError(t, err)
	require.NoFileExists(t, left)
	_, err = backup.Make(ctx, l.Folder, file, nil, nil)
	require.ErrorContains(t, err, "is there already")
	_, err = backup.Make(ctx, t.TempDir(), file+"2", nil, nil)
	require.ErrorContains(t, err, "there is no database")
	held := t.TempDir()
	release, err := store.Hold(held, false) // as a running service does
	require.NoError(t, err)
	_, err = backup.Restore(ctx, file, held, nil)
	require.ErrorContains(t, err, "a service is running")
	release()
	_, err = backup.Restore(ctx, file, l.Folder, nil)
	require.ErrorContains(t, err, "nothing is written over")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	for i := len(raw) / 2; i < len(raw)/2+20000; i++ {
		raw[i] ^= 0x5a
	}
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	folder := t.TempDir()
	_, err = backup.Restore(ctx, file, folder, nil)
	require.ErrorContains(t, err, "is no good copy")
	require.NoFileExists(t, filepath.Join(folder, store.FileName))
	parts, err := filepath.Glob(filepath.Join(folder, ".backup-*"))
	require.NoError(t, err)
	assert.Empty(t, parts)
	require.NoError(t, os.WriteFile(file, []byte("not a database"), 0o600))
	_, err = backup.Verify(ctx, file, nil)
	require.ErrorContains(t, err, "is no good copy")
	gone, leave := context.WithCancel(ctx)
	leave()
	_, err = backup.Make(gone, l.Folder, file+"3", nil, nil)
	require.Error(t, err)
	require.NoFileExists(t, file+"3")
}

// TestCopiesByScheduleAreKeptForAWhile turns the clock over some days.
func TestCopiesByScheduleAreKeptForAWhile(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	l := testbed.NewLab(t)
	l.Furnish(t)
	folder := filepath.Join(t.TempDir(), "copies")
	s := &backup.Schedule{Data: l.Folder, Folder: folder, Every: 24 * time.Hour, Keep: 3, Log: l.Log,
		Now: func() time.Time { return l.Clock }}
	names := func() (out []string) {
		list, err := os.ReadDir(folder)
		require.NoError(t, err)
		for _, e := range list {
			out = append(out, e.Name())
		}
		return out
	}
	wait, err := s.Once(ctx)
	require.NoError(t, err)
	assert.Equal(t, 24*time.Hour, wait)
	assert.Equal(t, []string{"innergate-20261123T090000Z.db"}, names())
	l.Turn(9 * time.Hour)
	wait, err = s.Once(ctx)
	require.NoError(t, err)
	assert.Equal(t, 15*time.Hour, wait, "not yet")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "innergate-by-hand.db"), nil, 0o600))
	for range 4 {
		l.Turn(24 * time.Hour)
		_, err = s.Once(ctx)
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"innergate-20261125T180000Z.db", "innergate-20261126T180000Z.db", "innergate-20261127T180000Z.db",
		"innergate-by-hand.db"}, names(), "the newest three, and what is not its own")
	l.Turn(-72 * time.Hour)
	wait, err = s.Once(ctx)
	require.NoError(t, err)
	assert.Equal(t, 24*time.Hour, wait, "a clock that was set back makes no more of them")
}

package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// CopiesBefore is the folder, in the data folder, in which the records are kept as they were before each upgrade.
const CopiesBefore = "before-upgrade"

// upgrade brings the records to the newest form. Where they have an older one, they are copied first, and stay so until somebody
// drops the copy. What needs the file of traces besides, is done before its step.
func upgrade(folder string, db *gorm.DB, traces *Traces, tell func(string)) error {
	form, err := formOf(db, migrations)
	if err != nil {
		return err
	}
	if form != "" && form != NewestForm() {
		if err := copyBefore(folder, db, form, tell); err != nil {
			return err
		}
	}
	return migrate(db, migrations, func(step string) error {
		if step != stepApart {
			return nil
		}
		return moveTraces(db, traces, tell)
	})
}

// formOf is the newest step that a database has been through, or nothing where it is new.
func formOf(db *gorm.DB, list []*gormigrate.Migration) (string, error) {
	if !db.Migrator().HasTable(gormigrate.DefaultOptions.TableName) {
		return "", nil
	}
	var done []string
	if err := db.Table(gormigrate.DefaultOptions.TableName).Pluck(gormigrate.DefaultOptions.IDColumnName, &done).Error; err != nil {
		return "", Clear(err)
	}
	for _, m := range slices.Backward(list) {
		if slices.Contains(done, m.ID) {
			return m.ID, nil
		}
	}
	return "", nil
}

// copyBefore copies the database as it is, unless that was done when an upgrade from the same form was begun before.
func copyBefore(folder string, db *gorm.DB, form string, tell func(string)) error {
	at := filepath.Join(folder, CopiesBefore, form+".db")
	if _, err := os.Stat(at); err == nil {
		return nil
	}
	tell("The records are of an older form (" + form + "). They are copied first, to " + at + ".")
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return fmt.Errorf("the folder for the copy before the upgrade can't be made: %w", err)
	}
	part := at + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	made, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600) // an empty file is taken, with its rights
	if err != nil {
		return fmt.Errorf("the copy before the upgrade can't be made: %w", err)
	}
	defer made.Close()
	if err := db.Exec("VACUUM INTO ?", part).Error; err != nil {
		return fmt.Errorf("the records can't be copied before the upgrade, so nothing was begun: %w. Make room in "+
			"the data folder (as much "+
			"as the database takes) and start again", Clear(err))
	}
	if err := made.Sync(); err != nil {
		return err
	}
	return os.Rename(part, at)
}

// Copy is a copy of the records as they were before an upgrade.
type Copy struct {
	Path   string
	Octets int64
	Made   time.Time
}

// CopiesOf lists the copies that upgrades have left in a data folder.
func CopiesOf(folder string) ([]Copy, error) {
	files, err := os.ReadDir(filepath.Join(folder, CopiesBefore))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Copy
	for _, f := range files {
		info, err := f.Info()
		if err != nil {
			return nil, err
		}
		out = append(out, Copy{filepath.Join(folder, CopiesBefore, f.Name()), info.Size(), info.ModTime()})
	}
	return out, nil
}

// migrate brings a database through the steps that it lacks. Each is a transaction of its own: where one fails, those before it
// stay, and the next start goes on with it.
func migrate(db *gorm.DB, list []*gormigrate.Migration, before func(step string) error) error {
	options := *gormigrate.DefaultOptions
	options.UseTransaction, options.ValidateUnknownMigrations = true, true
	m := gormigrate.New(db, &options, list)
	for _, one := range list {
		err := before(one.ID)
		if err == nil {
			err = m.MigrateTo(one.ID)
		}
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return fmt.Errorf("the database was written by a newer Inner Gate than this one; run that version, or restore a backup")
		}
		if err != nil {
			return fmt.Errorf("the database can't be brought to its newest form: the step %s failed, and was taken back: %w. Nothing is "+
				"lost. Mend what it names (a full disk, rights to the data folder, a change that somebody made by hand) and start again: "+
				"it goes on with this step", one.ID, Clear(err))
		}
	}
	return nil
}

// settingShared names the migrations that other nodes, of an older version, may find among the records, and go on with.
const settingShared = "shared-migrations"

// migrateShared brings records to the newest form that several nodes keep together, while others of them may run an older version.
// A step after which those could not go on is refused, unless all are brought to this version together. Of the others it is
// written down that they only add, so that an older version that is started meanwhile knows it.
func migrateShared(db *gorm.DB, list []*gormigrate.Migration, unshared map[string]bool, together bool) error {
	form, err := formOf(db, list)
	if err != nil {
		return err
	}
	if form == "" {
		return migrate(db, list, func(string) error { return nil })
	}
	var done []string
	if err := db.Table(gormigrate.DefaultOptions.TableName).Pluck(gormigrate.DefaultOptions.IDColumnName, &done).Error; err != nil {
		return Clear(err)
	}
	shared, err := sharedMigrations(db)
	if err != nil {
		return err
	}
	var unknown []*gormigrate.Migration // those of a newer version
	for _, id := range done {
		if slices.ContainsFunc(list, func(m *gormigrate.Migration) bool { return m.ID == id }) {
			continue
		}
		if !slices.Contains(shared, id) {
			break // migrate refuses
		}
		unknown = append(unknown, &gormigrate.Migration{ID: id, Migrate: func(*gorm.DB) error { return nil }})
	}
	pending := 0
	for _, m := range list {
		if slices.Contains(done, m.ID) {
			continue
		}
		pending++
		if unshared[m.ID] && !together {
			return fmt.Errorf("this version changes the records (%s) so that the version before, which other nodes may run, could not go "+
				"on. Nothing was changed. Choose a time at which nobody signs in, stop the service on all nodes, and start this version "+
				"on all of them with --upgrade-together", m.ID)
		}
		if !unshared[m.ID] {
			shared = append(shared, m.ID)
		}
	}
	if pending > 0 {
		text, err := json.Marshal(shared)
		if err != nil {
			return err
		}
		const keep = "INSERT INTO settings (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value"
		if err := db.Transaction(func(tx *gorm.DB) error {
			_, err := Exec(tx, keep, settingShared, string(text))
			return err
		}); err != nil {
			return Clear(err)
		}
	}
	return migrate(db, append(slices.Clone(list), unknown...), func(string) error { return nil })
}

func sharedMigrations(db *gorm.DB) (list []string, err error) {
	row, err := One[Setting](db, "name = ?", settingShared)
	if err != nil || row.Name == "" {
		return nil, err
	}
	return list, json.Unmarshal([]byte(row.Value), &list)
}

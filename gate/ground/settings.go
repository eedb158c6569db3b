package ground

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/store"
)

// SettingNotices names the setting of who is told of findings.
const SettingNotices = "notices"

// KeptNotices is the setting of who is told of findings, as it is stored.
type KeptNotices struct {
	api.Notices
	Sealed []byte `json:"sealed,omitempty"`
}

// KeptNotices reads who is told of findings.
func (g *Ground) KeptNotices(ctx context.Context) (*KeptNotices, error) {
	return g.KeptNoticesIn(g.Store.Read(ctx))
}

// KeptNoticesIn is KeptNotices within a transaction.
func (g *Ground) KeptNoticesIn(db *gorm.DB) (*KeptNotices, error) {
	row, err := store.One[store.Setting](db, "name = ?", SettingNotices)
	if err != nil {
		return nil, err
	}
	k := &KeptNotices{}
	if row.Name == "" {
		return k, nil
	}
	return k, json.Unmarshal([]byte(row.Value), k)
}

// WriteSetting keeps one of the gate's settings, with a line in the journal.
func (g *Ground) WriteSetting(tx *gorm.DB, who Actor, name, words string, before, after any) error {
	return g.StoreSetting(tx, who, name, words, MustJSON(after), MustJSON(before), MustJSON(after))
}

// StoreSetting keeps a setting's value, and notes what can be shown of it before and after.
func (g *Ground) StoreSetting(tx *gorm.DB, who Actor, name, words, value, before, after string) error {
	if err := KeepSetting(tx, name, value); err != nil {
		return err
	}
	if before == after {
		return store.Changed(tx) // a secret alone
	}
	return Revise(
		tx,
		g.Now().UTC(),
		who,
		"changed",
		Saved{Kind: "setting", ID: "setting/" + name, Slug: name, Name: words, Body: after},
		0,
		before,
	)
}

// KeepSetting writes a setting's value and nothing else; an empty one takes it away.
func KeepSetting(tx *gorm.DB, name, value string) error {
	if value == "" {
		return tx.Exec("DELETE FROM settings WHERE name = ?", name).Error
	}
	return tx.Exec("INSERT INTO settings (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
		name, value).Error
}

// FirstSetting writes a setting's value where it has none, and nothing else.
func FirstSetting(tx *gorm.DB, name, value string) error {
	return tx.Exec("INSERT INTO settings (name, value) VALUES (?, ?) ON CONFLICT DO NOTHING", name, value).Error
}

// SealInSetting keeps a sealed secret beside the rest of a setting.
func SealInSetting(tx *gorm.DB, name, sealed string) error {
	return tx.Exec("UPDATE settings SET value = json_set(value, '$.sealed', ?) WHERE name = ?", sealed, name).Error
}

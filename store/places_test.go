package store_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/store"
)

// notSealed are the columns of octets that hold nothing secret in a form that could be opened.
var notSealed = []string{
	"arrivals.value", "batch_rows.document", "credentials.lookup", "guard_tickets.bind", "keys.certificate",
	"partner_documents.document", "proposals.document", "source_entities.document",
}

// TestEverySealedColumnHasAPlace goes through the columns of the database that hold octets: each is a hash, or known not to
// be sealed, or one that a new master key reseals.
func TestEverySealedColumnHasAPlace(t *testing.T) {
	s := open(t, t.TempDir())
	places := store.SealedColumns()
	slices.Sort(places)
	places = slices.Compact(places) // codes and passkeys lie in one column
	found := 0
	type column struct{ Table, Name, Type string }
	var columns, ofTraces []column
	const all = "SELECT m.name AS 'table', c.name, c.type FROM sqlite_master m, pragma_table_info(m.name) c WHERE m.type = 'table'"
	require.NoError(t, s.Read(context.Background()).Raw(all).Scan(&columns).Error)
	require.NoError(t, s.Traces.Read(context.Background()).Raw(all).Scan(&ofTraces).Error)
	for _, c := range append(columns, ofTraces...) {
		table, name := c.Table, c.Table+"."+c.Name
		if !strings.EqualFold(c.Type, "blob") || strings.Contains(table, "_fts") || strings.Contains(table,
			"_text_") || strings.HasSuffix(c.Name, "hash") {
			continue
		}
		if slices.Contains(places, name) {
			found++
			continue
		}
		assert.Contains(t, notSealed, name, "a column of octets that a new master key would forget")
	}
	assert.Equal(t, len(places)-1, found, "all but the settings, which hold JSON")
}

// TestANewMasterKeyReachesCredentialsAndSettings seals what lies in other forms than a column of its own.
func TestANewMasterKeyReachesCredentialsAndSettings(t *testing.T) {
	ctx := context.Background()
	first := store.NewMasterKey()
	old, err := store.NewSealer(first)
	require.NoError(t, err)
	s, err := store.Open(t.TempDir(), old)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	kinds := map[string]*store.Place{"totp": store.PlaceTOTP, "passkey": store.PlacePasskey}
	mail := `{"server":"mail.saltmere.example","sealed":"` +
		base64.StdEncoding.EncodeToString(old.Seal(store.PlaceSetting, "mail", []byte("of mail"))) + `"}`
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		for kind, place := range kinds {
			c := store.Credential{ID: "c-" + kind, PersonID: "p", Kind: kind, CreatedAt: time.Now(), Lookup: []byte(kind)}
			c.Sealed = old.Seal(place, c.ID, []byte("of "+kind))
			if err := tx.Create(&c).Error; err != nil {
				return err
			}
		}
		for name, value := range map[string]string{"mail": mail, "language": "en", "review": `{"second":true}`} {
			if err := tx.Create(&store.Setting{Name: name, Value: value}).Error; err != nil {
				return err
			}
		}
		return nil
	}))
	next := store.NewMasterKey()
	s.Sealer, err = store.NewSealer(next, first)
	require.NoError(t, err)
	n, err := s.Reseal(ctx)
	require.NoError(t, err)
	assert.Equal(t, 3, n)

	alone, err := store.NewSealer(next)
	require.NoError(t, err)
	for kind, place := range kinds {
		c, err := store.One[store.Credential](s.Read(ctx), "id = ?", "c-"+kind)
		require.NoError(t, err)
		plain, err := alone.Open(place, c.ID, c.Sealed)
		require.NoError(t, err, kind)
		assert.Equal(t, "of "+kind, string(plain))
	}
	row, err := store.One[store.Setting](s.Read(ctx), "name = ?", "mail")
	require.NoError(t, err)
	var kept struct {
		Server string
		Sealed []byte
	}
	require.NoError(t, json.Unmarshal([]byte(row.Value), &kept))
	assert.Equal(t, "mail.saltmere.example", kept.Server)
	plain, err := alone.Open(store.PlaceSetting, "mail", kept.Sealed)
	require.NoError(t, err)
	assert.Equal(t, "of mail", string(plain))
	n, err = s.Reseal(ctx)
	require.NoError(t, err)
	assert.Zero(t, n)
}

package persons_test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/gate/persons"
	"innergate/store"
	"innergate/testbed"
)

// TestALinkIsMadeOnce links a person to one subject of a provider, and a subject to one person, whoever comes first.
func TestALinkIsMadeOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	mira, zoe := l.Person(t, "mvoss", "Mira Voss"), l.Person(t, "zoberg", "Zoë Öberg")
	link := func(person, subject string) (made bool) {
		require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) (err error) {
			made, err = persons.LinkOnce(tx, person, "P", subject, subject, l.Clock)
			return err
		}))
		return made
	}
	assert.True(t, link(mira.ID, "one"))
	assert.False(t, link(mira.ID, "two"), "she has one there already")
	assert.False(t, link(zoe.ID, "one"), "it is somebody's already")
	assert.True(t, link(zoe.ID, "two"))
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		holder, err := persons.LinkedTo(tx, "P", "one")
		assert.Equal(t, mira.ID, holder)
		return err
	}))
}

// TestWhatAPersonHasGoesWithThem deletes somebody, and finds nothing of them but random identifiers.
func TestWhatAPersonHasGoesWithThem(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	_, err := l.Persons.SaveGroup(ctx, testbed.Owner, "", config.Group{Slug: "crew", Name: "Crew"})
	require.NoError(t, err)
	p := l.Person(t, "mvoss", "Mira Voss")
	require.NoError(t, l.Persons.Assign(ctx, testbed.Owner, "rota", api.Assignment{Kind: "person", Who: p.ID, Roles: []string{"purser"}}))
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		now := l.Clock
		if _, err := persons.LinkOnce(tx, p.ID, "P", "one", "one", now); err != nil {
			return err
		}
		if err := persons.JoinGroup(tx, p.ID, "crew", "P", now); err != nil {
			return err
		}
		if err := persons.NoteAccount(tx, "A", p.ID, "mvoss", now); err != nil {
			return err
		}
		if err := persons.KeepConsent(tx, p.ID, "A", "openid", now); err != nil {
			return err
		}
		if err := persons.AddCredential(tx,
			&store.Credential{ID: "C", PersonID: p.ID, Kind: "password", Secret: "x", CreatedAt: now}); err != nil {
			return err
		}
		link := &store.OneTimeLink{TokenHash: []byte("t"), PersonID: p.ID, What: "password", CreatedAt: now, ExpiresAt: now.Add(time.Hour)}
		return persons.NewOneTimeLink(tx, link)
	}))
	count := func(table, column string) (n int64) {
		require.NoError(t, l.Store.Read(ctx).Table(table).Where(column+" = ?", p.ID).Count(&n).Error)
		return n
	}
	held := map[string]string{"links": "person_id", "memberships": "person_id", "accounts": "person_id", "consents": "person_id",
		"credentials": "person_id", "one_time_links": "person_id", "assignments": "who_id", "people": "id"}
	for table, column := range held {
		assert.EqualValues(t, 1, count(table, column), table)
	}
	require.NoError(t, l.Persons.DeletePerson(ctx, testbed.Owner, p.ID))
	for table, column := range held {
		assert.Zero(t, count(table, column), table)
	}
}

// TestOnceOnly uses codes, links and counters up by one conditional write each.
func TestOnceOnly(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	p := l.Person(t, "mvoss", "Mira Voss")
	now := l.Clock
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, c := range []store.Credential{
			{ID: "T", Kind: "totp", Counter: 7}, {ID: "R", Kind: "recovery", Lookup: []byte("look")},
			{ID: "K", Kind: "passkey", Counter: 3},
		} {
			c.PersonID, c.CreatedAt = p.ID, now
			require.NoError(t, persons.AddCredential(tx, &c))
		}
		for _, c := range []struct {
			name  string
			use   func() (int64, error)
			times []int64
		}{
			{"code", func() (int64, error) { return persons.CountCode(tx, "T", 8, now) }, []int64{1, 0}},
			{"recovery code", func() (int64, error) { return persons.UseRecovery(tx, p.ID, []byte("look")) }, []int64{1, 0}},
			{"passkey", func() (int64, error) { return persons.UsePasskey(tx, "K", nil, 4, now) }, []int64{1, 0}},
		} {
			for i, want := range c.times {
				got, err := c.use()
				require.NoError(t, err)
				assert.Equal(t, want, got, "%s, use %d", c.name, i+1)
			}
		}
		link := &store.OneTimeLink{TokenHash: []byte("t"), PersonID: p.ID, CreatedAt: now, ExpiresAt: now.Add(time.Hour)}
		require.NoError(t, persons.NewOneTimeLink(tx, link))
		n, err := persons.UseOneTimeLink(tx, []byte("t"), now.Add(2*time.Hour))
		require.NoError(t, err)
		assert.Zero(t, n, "it is over")
		n, err = persons.UseOneTimeLink(tx, []byte("t"), now)
		assert.EqualValues(t, 1, n)
		return err
	}))
}

// TestExport writes everybody with every value, and nothing that a table program would run.
func TestExport(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Person(t, "mvoss", "Mira Voss")
	_, err := l.Persons.SavePerson(ctx, testbed.Owner, "",
		api.SavePerson{Profile: claims.Bag{"name": {"=cmd()"}, "preferred_username": {"x"}}})
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, l.Persons.ExportPeople(ctx, "csv", &b))
	assert.Contains(t, b.String(), "mvoss@saltmere.example")
	assert.NotContains(t, b.String(), ",=cmd()")
}

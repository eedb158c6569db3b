package server_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/demo"
	"innergate/store"
	"innergate/testbed"
)

// readFrom is a world whose directory is read.
func readFrom(t *testing.T, change func(*config.LDAPProvider)) (*demo.World, *testbed.Slapd) {
	t.Helper()
	return quayRegister(t, func(l *config.LDAPProvider) {
		l.Reading = &config.LDAPReading{Filter: "(objectClass=inetOrgPerson)"}
		if change != nil {
			change(l)
		}
	})
}

// ended waits until a reading is no longer at work.
func ended(t *testing.T, w *demo.World, r *api.Reading, err error) *api.Reading {
	t.Helper()
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		r, err = w.Client().Reading(t.Context(), "quay-register", r.ID)
		return err == nil && r.State != "looking" && r.State != "writing"
	}, testbed.Patience, 20*time.Millisecond)
	return r
}

func hire(s *testbed.Slapd, t *testing.T, from, to int) {
	var b strings.Builder
	for i := from; i < to; i++ {
		fmt.Fprintf(&b, "dn: uid=hand%03d,ou=people,%s\nobjectClass: inetOrgPerson\nuid: hand%03d\ncn: Hand %03d\nsn: %03d\n"+
			"mail: hand%03d@saltmere.example\n\n", i, testbed.SlapdBase, i, i, i, i)
	}
	s.Change(t, "ldapadd", b.String())
}

// TestPeopleAreReadFromADirectory looks before anything is written, writes, and finds the second time that all are as they were. Whoever
// was read signs in as the same person.
func TestPeopleAreReadFromADirectory(t *testing.T) {
	t.Parallel()
	w, s := readFrom(t, nil)
	c, ctx := w.Client(), t.Context()
	hire(s, t, 0, 40)
	_, err := c.NewReading(ctx, "quay-register", api.NewReading{Write: true})
	require.ErrorContains(t, err, "Look first", "nothing is written that nobody has looked at")
	before, err := c.People(ctx, client.Page{Search: "Hand 0"})
	require.NoError(t, err)
	assert.Empty(t, before.Items)
	begun, err := c.NewReading(ctx, "quay-register", api.NewReading{})
	looked := ended(t, w, begun, err)
	assert.Equal(t, "looked", looked.State, looked.Note)
	assert.GreaterOrEqual(t, looked.Made, 40)
	people, err := c.People(ctx, client.Page{Search: "Hand 0"})
	require.NoError(t, err)
	assert.Empty(t, people.Items, "nothing is written")
	begun, err = c.WriteReading(ctx, "quay-register", looked.ID)
	wrote := ended(t, w, begun, err)
	assert.Equal(t, "done", wrote.State, wrote.Note)
	assert.Equal(t, looked.Made, wrote.Made)
	assert.Equal(t, looked.Entries, wrote.Made+wrote.Updated+wrote.Same+wrote.Bad)
	people, err = c.People(ctx, client.Page{Search: "Hand 0", Limit: 100})
	require.NoError(t, err)
	assert.Len(t, people.Items, 40)

	b := enters(t, w, "wfell", testbed.SlapdPassword)
	assert.Equal(t, "wfell", b.Inner("nameid"), b.Text)
	list, err := c.People(ctx, client.Page{Search: "Wanda"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1, "the one who was read is the one who signs in")

	begun, err = c.NewReading(ctx, "quay-register", api.NewReading{Write: true})
	again := ended(t, w, begun, err)
	assert.Zero(t, again.Made+again.Gone, "%+v", again)
	assert.Equal(t, wrote.Made+wrote.Updated, again.Same+again.Updated)

	// What changed alone.
	s.Change(t, "ldapmodify", "dn: uid=hand007,ou=people,"+testbed.SlapdBase+"\nchangetype: modify\nreplace: cn\ncn: Harriet Hand\n")
	begun, err = c.NewReading(ctx, "quay-register", api.NewReading{Write: true, Changed: true})
	changed := ended(t, w, begun, err)
	assert.Equal(t, "done", changed.State, changed.Note)
	assert.Equal(t, 1, changed.Updated)
	list, err = c.People(ctx, client.Page{Search: "Harriet"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
}

// TestWhoIsGoneIsMadeInactive makes those inactive whom the directory no longer has, active again who is back, and stops and asks where
// too many are gone at once.
func TestWhoIsGoneIsMadeInactive(t *testing.T) {
	t.Parallel()
	w, s := readFrom(t, nil)
	c, ctx := w.Client(), t.Context()
	hire(s, t, 0, 30)
	begun, err := c.NewReading(ctx, "quay-register", api.NewReading{})
	looked := ended(t, w, begun, err)
	begun, err = c.WriteReading(ctx, "quay-register", looked.ID)
	require.Equal(t, "done", ended(t, w, begun, err).State)
	active := func(name string) bool {
		list, err := c.People(ctx, client.Page{Search: name})
		require.NoError(t, err)
		require.Len(t, list.Items, 1, name)
		return list.Items[0].Active
	}
	fire := func(from, to int) {
		var b strings.Builder
		for i := from; i < to; i++ {
			fmt.Fprintf(&b, "dn: uid=hand%03d,ou=people,%s\nchangetype: delete\n\n", i, testbed.SlapdBase)
		}
		s.Change(t, "ldapmodify", b.String())
	}
	fire(0, 2)
	begun, err = c.NewReading(ctx, "quay-register", api.NewReading{Write: true})
	got := ended(t, w, begun, err)
	assert.Equal(t, "done", got.State)
	assert.Equal(t, 2, got.Gone)
	assert.ElementsMatch(t, []string{"Hand 000", "Hand 001"}, got.GoneNames)
	assert.False(t, active("Hand 000"))
	assert.True(t, active("Hand 002"))

	fire(2, 20)
	begun, err = c.NewReading(ctx, "quay-register", api.NewReading{Write: true})
	got = ended(t, w, begun, err)
	assert.Equal(t, "asking", got.State)
	assert.Equal(t, 18, got.Gone)
	assert.True(t, active("Hand 010"), "nobody is made inactive before somebody agrees")
	begun, err = c.WriteReading(ctx, "quay-register", got.ID)
	got = ended(t, w, begun, err)
	assert.Equal(t, "done", got.State, got.Note)
	assert.False(t, active("Hand 010"))

	// By hand inactive stays inactive; who was gone and is back is active again, as the same entry.
	people, err := c.People(ctx, client.Page{Search: "Hand 025"})
	require.NoError(t, err)
	held, err := c.Person(ctx, people.Items[0].ID)
	require.NoError(t, err)
	off := false
	_, err = c.PutPerson(ctx, held.ID, api.SavePerson{Active: &off, Profile: held.Profile, Type: held.Type})
	require.NoError(t, err)
	begun, err = c.NewReading(ctx, "quay-register", api.NewReading{Write: true})
	got = ended(t, w, begun, err)
	assert.Equal(t, 1, got.Bad, "%+v", got.Problems)
	assert.Equal(t, "match.inactive", got.Problems[0].Code)
	assert.False(t, active("Hand 025"))

	filter := func(text string) *api.Reading {
		p, err := c.Provider(ctx, "quay-register")
		require.NoError(t, err)
		p.LDAP.Reading.Filter = text
		_, err = c.PutProvider(ctx, p.Provider, p.Revision)
		require.NoError(t, err)
		begun, err := c.NewReading(ctx, "quay-register", api.NewReading{Write: true})
		return ended(t, w, begun, err)
	}
	got = filter("(&(objectClass=inetOrgPerson)(!(uid=hand028)))")
	assert.Equal(t, 1, got.Gone)
	assert.False(t, active("Hand 028"))
	got = filter("(objectClass=inetOrgPerson)")
	assert.Equal(t, 1, got.Back, "%+v", got)
	assert.True(t, active("Hand 028"))

	// Who was gone, and was then made active and inactive again by hand, is not brought back by the directory.
	filter("(&(objectClass=inetOrgPerson)(!(uid=hand027)))")
	people, err = c.People(ctx, client.Page{Search: "Hand 027"})
	require.NoError(t, err)
	for _, on := range []bool{true, false} {
		held, err = c.Person(ctx, people.Items[0].ID)
		require.NoError(t, err)
		_, err = c.PutPerson(ctx, held.ID, api.SavePerson{Active: &on, Profile: held.Profile, Type: held.Type})
		require.NoError(t, err)
	}
	assert.Zero(t, filter("(objectClass=inetOrgPerson)").Back)
	assert.False(t, active("Hand 027"))

	// A filter that finds nobody puts nobody out, however few there are.
	got = filter("(uid=nobody-at-all)")
	assert.Equal(t, "asking", got.State)
	assert.True(t, active("Hand 028"))
}

// TestPeopleAreReadBySchedule reads the whole, and what changed, when it is due, and only where somebody has read by hand before.
func TestPeopleAreReadBySchedule(t *testing.T) {
	t.Parallel()
	w, _ := readFrom(t, func(l *config.LDAPProvider) { l.Reading.WholeHours, l.Reading.ChangedMinutes = 2, 5 })
	c, ctx := w.Client(), t.Context()
	newest := func() *api.Reading {
		require.NoError(t, w.Gate.Readings.Due(ctx))
		list, err := c.Readings(ctx, "quay-register")
		require.NoError(t, err)
		if len(list.Items) == 0 {
			return nil
		}
		return ended(t, w, &list.Items[0], nil)
	}
	assert.Nil(t, newest(), "nobody has looked yet")
	begun, err := c.NewReading(ctx, "quay-register", api.NewReading{})
	looked := ended(t, w, begun, err)
	begun, err = c.WriteReading(ctx, "quay-register", looked.ID)
	require.Equal(t, "done", ended(t, w, begun, err).State)
	assert.Equal(t, looked.ID, newest().ID, "nothing is due")
	ago := func(d time.Duration) {
		require.NoError(t, w.Gate.Store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Model(&store.Reading{}).Where("1 = 1").Update("updated_at", w.Gate.Now().UTC().Add(-d)).Error
		}))
	}
	ago(10 * time.Minute)
	got := newest()
	assert.True(t, got.Changed, "what changed is due")
	assert.Equal(t, "schedule", got.By)
	assert.Equal(t, "done", got.State, got.Note)
	ago(3 * time.Hour)
	got = newest()
	assert.False(t, got.Changed, "the whole is due")
	assert.Equal(t, "done", got.State, got.Note)
}

// TestNobodyIsDoubledByReading refuses an entry that is known by the same as another, and says which.
func TestNobodyIsDoubledByReading(t *testing.T) {
	t.Parallel()
	w, s := readFrom(t, nil)
	c, ctx := w.Client(), t.Context()
	p, err := c.Provider(ctx, "quay-register")
	require.NoError(t, err)
	p.Matching = &people.Matching{By: []people.Way{{By: people.Mail}}, Domains: []string{"saltmere.example"}, MailUnproven: true,
		Unscoped: true, Groups: []string{"*"}}
	_, err = c.PutProvider(ctx, p.Provider, p.Revision)
	require.NoError(t, err)
	s.Change(t, "ldapadd", "dn: uid=one,ou=people,"+testbed.SlapdBase+"\nobjectClass: inetOrgPerson\nuid: one\ncn: One\nsn: One\n"+
		"mail: same@saltmere.example\n\ndn: uid=two,ou=people,"+testbed.SlapdBase+
		"\nobjectClass: inetOrgPerson\nuid: two\ncn: Two\nsn: Two\nmail: same@saltmere.example\n")
	begun, err := c.NewReading(ctx, "quay-register", api.NewReading{})
	looked := ended(t, w, begun, err)
	assert.Equal(t, 1, looked.Bad, "%+v", looked.Problems)
	begun, err = c.WriteReading(ctx, "quay-register", looked.ID)
	wrote := ended(t, w, begun, err)
	assert.Equal(t, "done", wrote.State)
	require.Len(t, wrote.Problems, 1)
	assert.Contains(t, wrote.Problems[0].Entry, "uid=two")
	list, err := c.People(ctx, client.Page{Search: "same@saltmere.example"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
}

// TestReadingsAreStoppedAndGoneOnWith stops where the directory does not answer, and goes on when it does.
func TestReadingsAreStoppedAndGoneOnWith(t *testing.T) {
	t.Parallel()
	w, s := readFrom(t, func(l *config.LDAPProvider) { l.TimeoutSeconds = 1 })
	c, ctx := w.Client(), t.Context()
	s.Stop()
	begun, err := c.NewReading(ctx, "quay-register", api.NewReading{})
	got := ended(t, w, begun, err)
	assert.Equal(t, "stopped", got.State)
	assert.Contains(t, got.Note, "could be reached")
	s.Start(t)
	begun, err = c.WriteReading(ctx, "quay-register", got.ID)
	got = ended(t, w, begun, err)
	assert.Equal(t, "done", got.State, got.Note)
	require.NoError(t, c.CancelReading(ctx, "quay-register", got.ID), "what is done stays done")
	_, err = c.NewReading(ctx, "saltmere-staff", api.NewReading{})
	require.ErrorContains(t, err, "Nobody is read")
	_, err = c.Reading(ctx, "quay-register", "nothing")
	require.Error(t, err)
}

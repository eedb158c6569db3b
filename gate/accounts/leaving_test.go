package accounts_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// TestReactivatedThere has the application's administrator let somebody in again who is to have no account.
func TestReactivatedThere(t *testing.T) {
	t.Parallel()
	for _, how := range []string{config.DriftCorrect, config.DriftTell} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			l := keeping(t, func(a *config.Accounts) { a.Drift, a.GoneShare = how, 100 })
			l.compare()
			mira := l.person("mira", true)
			l.settle()
			l.unassign(mira)
			l.settle()
			require.Equal(t, false, l.there.Find("mira")["active"])
			l.there.Plant(map[string]any{"userName": "mira", "active": true})
			c := l.compare()
			assert.Equal(t, []int{1, 1}, []int{c.Remove, c.Drifted})
			l.settle()
			assert.Equal(t, how != config.DriftCorrect, l.there.Find("mira")["active"])
			if how == config.DriftTell {
				assert.Equal(t, "active", l.only("drifted").Drift[0].Path)
				assert.Equal(t, 0, l.act("correct"), "correcting is for those who are to have one")
			}
		})
	}
}

// TestLeftWhoIsLeft compares where accounts stay as they are for whoever leaves: there is nothing to be set right.
func TestLeftWhoIsLeft(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Unassigned = config.AccountLeave })
	l.compare()
	mira := l.person("mira", true)
	l.settle()
	l.unassign(mira)
	l.settle()
	left := l.only("foreign")
	assert.Contains(t, left.Reason, "It was left there: not assigned")
	assert.Zero(t, l.compare().Remove)
	assert.Equal(t, true, l.there.Find("mira")["active"])
	l.assign(mira)
	profile := profileOf("mira")
	profile["email"] = []string{"mira@new.example"}
	l.change(mira, profile, true)
	l.settle()
	assert.Equal(t, "mira@new.example", l.mailThere("mira"), "whoever comes back has the same account")
	assert.Equal(t, 1, l.there.Count())
}

// TestGoneAlready takes away accounts that somebody deleted at the application before.
func TestGoneAlready(t *testing.T) {
	t.Parallel()
	for _, how := range []string{config.AccountDeactivate, config.AccountDelete} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			l := keeping(t, func(a *config.Accounts) { a.Unassigned, a.GoneShare = how, 100 })
			l.compare()
			mira, ivo := l.person("mira", true), l.person("ivo", true)
			l.person("ada", true)
			l.settle()
			l.there.Drop("mira")
			l.unassign(mira)
			l.unassign(ivo)
			v := l.settle()
			assert.Equal(t, []int{3, 0}, []int{v.Counts["step"], v.Counts["failed"]})
			assert.Equal(t, map[string]bool{config.AccountDeactivate: true}[how], l.there.Find("ivo") != nil)
			l.assign(mira)
			l.settle()
			assert.Equal(t, true, l.there.Find("mira")["active"], "and comes back anew")
		})
	}
}

// TestMadeAnotherPersons has an account be given to somebody else at the application: it is not changed any more, and says why.
func TestMadeAnotherPersons(t *testing.T) {
	t.Parallel()
	l := keeping(t, nil)
	l.compare()
	mira := l.person("mira", true)
	l.settle()
	l.there.Plant(map[string]any{"userName": "mira", "externalId": "another person"})
	before := l.there.Find("mira")
	profile := profileOf("mira")
	profile["email"] = []string{"mira@new.example"}
	l.change(mira, profile, true)
	l.settle()
	assert.Equal(t, "scim.other-account", l.only("failed").Code)
	assert.Equal(t, before, l.there.Find("mira"))
}

// TestComparedBySchedule compares when the time has come, and not before.
func TestComparedBySchedule(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, func(a *config.Accounts) { a.CompareHours = 6 }), context.Background()
	require.NoError(t, l.Accounts.CompareDue(ctx))
	v, err := l.Accounts.Accounts(ctx, testbed.Owner, "cargo")
	require.NoError(t, err)
	assert.Nil(t, v.Comparison, "the first is somebody's to begin")
	first := l.compare()
	l.Clock = l.Clock.Add(5 * time.Hour)
	require.NoError(t, l.Accounts.CompareDue(ctx))
	v, err = l.Accounts.Accounts(ctx, testbed.Owner, "cargo")
	require.NoError(t, err)
	assert.Equal(t, first.ID, v.Comparison.ID)
	l.Clock = l.Clock.Add(2 * time.Hour)
	require.Eventually(t, func() bool { // the last one may be ending yet
		require.NoError(t, l.Accounts.CompareDue(ctx))
		v, err = l.Accounts.Accounts(ctx, testbed.Owner, "cargo")
		return err == nil && v.Comparison.ID != first.ID && v.Comparison.State == "done"
	}, testbed.Patience, 10*time.Millisecond)
}

// TestForgottenInTime forgets accounts that were taken away long ago, and what was said of them.
func TestForgottenInTime(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, func(a *config.Accounts) { a.Unassigned, a.GoneShare = config.AccountDelete, 100 }), context.Background()
	l.compare()
	mira := l.person("mira", true)
	l.person("ivo", true)
	l.settle()
	l.unassign(mira)
	l.settle()
	require.Len(t, l.list("step"), 2)
	tidy := func() {
		require.NoError(t, ground.InParts(ctx, l.Clock, l.Store.Write, l.Accounts.Tidy))
		require.NoError(t, ground.InParts(ctx, l.Clock, l.Store.Traces.Write, l.Accounts.TidyTalks))
	}
	tidy()
	require.Len(t, l.list("step"), 2)
	l.Clock = l.Clock.Add(31 * 24 * time.Hour)
	tidy()
	assert.Equal(t, "ivo Voss", l.only("step").Name, "the account that is gone for a month")
	one, err := l.Accounts.One(ctx, "cargo", l.only("step").ID)
	require.NoError(t, err)
	assert.NotEmpty(t, one.Talks)
	l.Clock = l.Clock.Add(60 * 24 * time.Hour)
	tidy()
	one, err = l.Accounts.One(ctx, "cargo", l.only("step").ID)
	require.NoError(t, err)
	assert.Empty(t, one.Talks)
	var n int64
	require.NoError(t, l.Store.Traces.Read(ctx).Model(&store.AccountTalk{}).Count(&n).Error)
	assert.Zero(t, n)
	standing, err := l.Accounts.Standing(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"step": 1}, standing)
}

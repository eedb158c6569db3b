package accounts_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/testbed"
)

// TestMistakesOfAnApplication has the application make each mistake while somebody is to get an account: it is explained, nothing is lost,
// and once it is over the account is there, once.
func TestMistakesOfAnApplication(t *testing.T) {
	t.Parallel()
	for _, one := range []struct{ mistake, whole, account string }{
		{"down", "scim.busy", ""},
		{"token", "scim.token-refused", ""},
		{"page", "", "scim.unreadable"},
		{"fails", "", "scim.failed"},
		{"other", "", "scim.other-account"},
		{"no-filter", "", "scim.filter-ignored"},
		{"twice", "scim.unreachable", ""},
	} {
		t.Run(one.mistake, func(t *testing.T) {
			t.Parallel()
			l := keeping(t, nil)
			l.there.Plant(map[string]any{"userName": "purser", "externalId": "somebody", "active": true})
			l.compare()
			l.person("mira", true)
			l.there.SetMistake(one.mistake)
			v := l.settle()
			if one.whole != "" {
				assert.Equal(t, one.whole, v.Code)
				assert.NotNil(t, v.PausedUntil)
				assert.NotEmpty(t, v.Remedy)
				assert.Equal(t, 1, v.Counts["due"], "what is to be sent waits")
			} else {
				got := l.only("failed")
				assert.Equal(t, one.account, got.Code)
				assert.NotEmpty(t, got.Reason)
			}
			l.there.SetMistake("")
			if one.account == "scim.other-account" { // nobody trusts it unasked after that
				l.act("retry")
			}
			if one.account == "scim.filter-ignored" {
				l.act("retry", l.only("failed").ID)
			}
			l.Clock = l.Clock.Add(time.Hour)
			v = l.settle()
			assert.Equal(t, 1, v.Counts["step"], "%+v", v)
			assert.Empty(t, v.Code)
			assert.Equal(t, []string{"purser", "mira"}, l.there.Names(), "one account was made, whatever was lost on the way")
			assert.Equal(t, "somebody", l.there.Find("purser")["externalId"], "another's account is left alone")
		})
	}
}

// TestNoPatch has an application that refuses PATCH after having said that it knows it: that is a failure with its own words; one that
// says so gets accounts back whole, with what is its own.
func TestNoPatch(t *testing.T) {
	t.Parallel()
	l := keeping(t, nil)
	l.compare()
	mira := l.person("mira", true)
	l.settle()
	l.there.SetMistake("no-patch")
	profile := profileOf("mira")
	profile["email"] = []string{"mira@new.example"}
	l.change(mira, profile, true)
	l.settle()
	assert.Equal(t, "scim.failed", l.only("failed").Code)
	assert.Contains(t, l.only("failed").Reason, "PATCH is not known here")
	assert.NotNil(t, l.only("failed").NextTry)
}

// TestValuesThatAreNotKept has an application that takes a value and does not keep it: it is told, and not sent again and again.
func TestValuesThatAreNotKept(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) {
		a.Mapping = append(config.AccountMapping(), claims.Rule{Set: "title", Value: "Purser"})
	})
	l.there.SetMistake("forgets")
	l.compare()
	mira := l.person("mira", true)
	l.settle()
	assert.Equal(t, []string{"title"}, l.only("step").Unkept)
	asked := l.there.Asked()
	c := l.compare()
	assert.Equal(t, 1, c.Same)
	assert.Equal(t, 0, c.Drifted)
	l.settle()
	assert.Less(t, l.there.Asked()-asked, 6, "the comparison alone asked")
	profile := profileOf("mira")
	profile["given_name"] = []string{"Mi"}
	l.there.SetMistake("")
	l.change(mira, profile, true)
	l.settle()
	assert.Equal(t, "Purser", l.there.Find("mira")["title"], "with something new it is sent once more")
	assert.Empty(t, l.only("step").Unkept)
}

// TestDrift has the application change accounts by itself, in each of the ways in which that is taken.
func TestDrift(t *testing.T) {
	t.Parallel()
	for _, how := range []string{config.DriftCorrect, config.DriftTell, config.DriftAccept} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			l := keeping(t, func(a *config.Accounts) { a.Drift = how })
			l.compare()
			mira := l.person("mira", true)
			l.settle()
			l.there.Plant(map[string]any{"userName": "mira", "displayName": "Mira of the Ledger"})
			c := l.compare()
			assert.Equal(t, 1, c.Drifted)
			v := l.settle()
			shown := func() any { return l.there.Find("mira")["displayName"] }
			switch how {
			case config.DriftCorrect:
				assert.Equal(t, "mira Voss", shown())
				assert.Equal(t, 0, v.Counts["drifted"])
			case config.DriftTell:
				assert.Equal(t, "Mira of the Ledger", shown())
				assert.Equal(t, []api.AccountDifference{{Path: "displayName", Ours: "mira Voss", Theirs: "Mira of the Ledger"}},
					l.only("drifted").Drift)
				assert.Equal(t, 1, l.act("correct", l.only("drifted").ID))
				l.settle()
				assert.Equal(t, "mira Voss", shown())
				l.there.Plant(map[string]any{"userName": "mira", "displayName": "Mira of the Ledger"})
				l.compare()
				assert.Equal(t, 1, l.act("accept", l.only("drifted").ID))
				assert.Equal(t, []string{"displayName"}, l.only("step").Accepted)
			}
			if how == config.DriftCorrect {
				return
			}
			profile := profileOf("mira")
			profile["email"] = []string{"mira@new.example"}
			l.change(mira, profile, true)
			l.settle()
			assert.Equal(t, "mira@new.example", l.mailThere("mira"))
			assert.Equal(t, "Mira of the Ledger", shown(), "what was accepted is the application's from now on")
		})
	}
}

// TestGoneThere has somebody delete an account at the application: it is found by comparing, and made anew.
func TestGoneThere(t *testing.T) {
	t.Parallel()
	l := keeping(t, nil)
	l.compare()
	l.person("mira", true)
	l.settle()
	l.there.Drop("mira")
	assert.Equal(t, 1, l.compare().Drifted)
	l.settle()
	assert.NotNil(t, l.there.Find("mira"))
	assert.Equal(t, 1, l.there.Count())
}

// TestFirstComparison looks who is there before anything is sent: by identifier, by name, by mail, and nobody's.
func TestFirstComparison(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, func(a *config.Accounts) { a.Approve = config.ApproveAll }), context.Background()
	mira, ivo, ada := l.person("mira", true), l.person("ivo", true), l.person("ada", true)
	ben, stranger := l.person("ben", true), l.person("fenna", false)
	l.there.Plant(map[string]any{"userName": "mira", "externalId": mira, "active": true, "displayName": "Old Name"})
	l.there.Plant(map[string]any{"userName": "IVO", "active": true})
	l.there.Plant(map[string]any{"userName": "a.voss", "active": true, "emails": []any{map[string]any{"value": "ada@saltmere.example"}}})
	l.there.Plant(map[string]any{"userName": "robot", "active": true})
	l.there.Plant(map[string]any{"userName": "fenna", "active": true})
	c := l.compare()
	assert.Equal(t, []int{5, 3, 1, 2}, []int{c.There, c.Change, c.Create, c.Foreign}, "%+v", c)
	by := map[string]api.Account{}
	for _, a := range l.list("") {
		by[a.Name] = a
	}
	assert.Equal(t, []string{"due", "approval", "approval", "approval", "foreign", "foreign"}, []string{by["mira Voss"].State,
		by["ivo Voss"].State, by["ada Voss"].State, by["ben Voss"].State, by["robot"].State, by["fenna"].State})
	assert.Equal(t, "IVO", by["ivo Voss"].RemoteName)
	assert.Equal(t, []string{"change", "create"}, []string{by["ada Voss"].Would, by["ben Voss"].Would})

	before := l.there.Find("IVO")
	l.settle()
	assert.Equal(t, "mira Voss", l.there.Find("mira")["displayName"], "whose identifier it has is known for sure")
	assert.Equal(t, before, l.there.Find("IVO"), "nothing is taken over unasked")
	assert.Nil(t, l.there.Find("ben"))
	assert.Equal(t, 1, l.act("approve", by["ivo Voss"].ID))
	l.settle()
	assert.Equal(t, ivo, l.there.Find("ivo")["externalId"])
	assert.Equal(t, 2, l.act("approve"))
	v := l.settle()
	assert.Equal(t, 4, v.Counts["step"])
	assert.Equal(t, ada, l.there.Find("ada")["externalId"])
	assert.Equal(t, ben, l.there.Find("ben")["externalId"])
	assert.Equal(t, 5+1, l.there.Count())

	_, err := l.Accounts.Act(ctx, testbed.Owner, "cargo", api.AccountAct{Do: "adopt", IDs: []string{by["fenna"].ID}, Person: stranger})
	assert.ErrorContains(t, err, "not assigned")
	l.assign(stranger)
	l.settle()
	assert.Equal(t, 1, l.act("leave", by["robot"].ID))
	_, err = l.Accounts.Act(ctx, testbed.Owner, "cargo", api.AccountAct{Do: "adopt", IDs: []string{by["fenna"].ID}, Person: stranger})
	require.NoError(t, err)
	v = l.settle()
	assert.Equal(t, stranger, l.there.Find("fenna")["externalId"])
	assert.Equal(t, map[string]int{"step": 5, "ignored": 1, "approval": 0, "due": 0, "failed": 0, "foreign": 0, "drifted": 0}, v.Counts)
	_, err = l.Accounts.Act(ctx, testbed.Owner, "cargo", api.AccountAct{Do: "adopt", IDs: []string{by["robot"].ID}, Person: mira})
	assert.ErrorContains(t, err, "has the account mira")
}

// TestTakenAccounts finds an account of the same name that came there since: it waits for somebody to say whose it is.
func TestTakenAccounts(t *testing.T) {
	t.Parallel()
	l := keeping(t, nil)
	l.compare()
	l.there.Plant(map[string]any{"userName": "mira", "active": true})
	mira := l.person("mira", true)
	l.settle()
	waits := l.only("approval")
	assert.Equal(t, "scim.taken", waits.Code)
	assert.Equal(t, 1, l.act("approve", waits.ID))
	l.settle()
	assert.Equal(t, mira, l.there.Find("mira")["externalId"])

	l.there.Plant(map[string]any{"userName": "ivo", "externalId": "another person", "active": true})
	l.person("ivo", true)
	l.settle()
	failed := l.only("failed")
	assert.Equal(t, "scim.taken", failed.Code)
	assert.Equal(t, "another person", l.there.Find("ivo")["externalId"])
	assert.Equal(t, 0, l.act("approve", failed.ID))
}

// TestUnapprovedAccountsStay unassigns people while accounts that were found for them wait for somebody to say whose they are.
func TestUnapprovedAccountsStay(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve, a.Unassigned = config.ApproveAll, config.AccountDelete })
	mira := l.person("mira", true)
	l.there.Plant(map[string]any{"userName": "mira", "active": true})
	l.compare()
	require.Equal(t, "change", l.only("approval").Would, "it was found, and would be taken as hers")
	before := l.there.Find("mira")
	l.unassign(mira)
	l.settle()
	assert.Equal(t, before, l.there.Find("mira"), "nobody agreed that it is hers: it is not taken away")
	assert.Empty(t, l.list("approval"))
	l.compare()
	assert.Equal(t, "mira", l.only("foreign").Name)

	ivo := l.person("ivo", true)
	l.settle()
	l.there.Plant(map[string]any{"userName": "ivo", "active": true})
	assert.Equal(t, 1, l.act("approve", l.only("approval").ID))
	l.settle()
	require.Equal(t, "scim.taken", l.only("approval").Code)
	before = l.there.Find("ivo")
	l.unassign(ivo)
	l.settle()
	assert.Equal(t, before, l.there.Find("ivo"), "an approval to make one is none to take one that came there meanwhile")
}

// TestApproveTheFirst lets the first be approved by hand, and makes the others unasked.
func TestApproveTheFirst(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve, a.ApproveFirst = config.ApproveFirst, 1 })
	l.compare()
	l.person("mira", true)
	v := l.settle()
	assert.Equal(t, 1, v.Counts["approval"])
	l.act("approve")
	l.settle()
	l.person("ivo", true)
	v = l.settle()
	assert.Equal(t, 2, v.Counts["step"])
}

// TestTooManyGone stops where one change would take away more than may be, names them, and goes on when somebody agrees.
func TestTooManyGone(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, func(a *config.Accounts) { a.Unassigned = config.AccountDelete }), context.Background()
	_, err := l.Persons.SaveGroup(ctx, testbed.Owner, "", config.Group{Slug: "crew", Name: "Crew"})
	require.NoError(t, err)
	groups := []string{"crew"}
	for i := range 20 {
		id := l.person(fmt.Sprintf("hand%02d", i), i < 8)
		if i >= 8 {
			_, err := l.Persons.SavePerson(ctx, testbed.Owner, id, api.SavePerson{Profile: profileOf(fmt.Sprintf("hand%02d", i)),
				Groups: &groups})
			require.NoError(t, err)
		}
	}
	require.NoError(t, l.Persons.Assign(ctx, testbed.Owner, "cargo", api.Assignment{Kind: "group", Who: "crew"}))
	l.compare()
	l.settle()
	require.Equal(t, 20, l.there.Count())
	require.NoError(t, l.Persons.Unassign(ctx, testbed.Owner, "cargo", "group", "crew"))
	newcomer := l.person("newcomer", true)
	v := l.settle()
	assert.Equal(t, 12, v.Asking)
	assert.Len(t, v.Names, 12)
	assert.Equal(t, 21, l.there.Count(), "nobody was taken away, and others are made meanwhile")
	assert.Equal(t, newcomer, l.there.Find("newcomer")["externalId"])
	_, err = l.Accounts.Agree(ctx, testbed.Owner, "cargo", api.AccountAgree{Count: 11})
	assert.ErrorContains(t, err, "12 accounts would be taken away by now")
	_, err = l.Accounts.Agree(ctx, testbed.Owner, "cargo", api.AccountAgree{Count: 12})
	require.NoError(t, err)
	v = l.settle()
	assert.Equal(t, 0, v.Asking)
	assert.Equal(t, 9, l.there.Count())
	// Of an assignment that was put right instead nothing is left to be asked.
	for _, a := range l.list("step")[:7] {
		if a.RemoteID != "" {
			l.unassign(a.Who)
		}
	}
	require.Positive(t, l.settle().Asking)
	for _, a := range l.list("due") {
		l.assign(a.Who)
	}
	assert.Equal(t, 0, l.settle().Asking)
	assert.Equal(t, 9, l.there.Count())
}

// TestGroupsGoAlong sends groups with those of their members who have an account.
func TestGroupsGoAlong(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, func(a *config.Accounts) { a.Groups = []string{"quay-*"} }), context.Background()
	for _, slug := range []string{"quay-crane", "office"} {
		_, err := l.Persons.SaveGroup(ctx, testbed.Owner, "", config.Group{Slug: slug, Name: "The " + slug})
		require.NoError(t, err)
	}
	join := func(name, id string, groups ...string) {
		_, err := l.Persons.SavePerson(ctx, testbed.Owner, id, api.SavePerson{Profile: profileOf(name), Groups: &groups})
		require.NoError(t, err)
	}
	mira, ivo := l.person("mira", true), l.person("ivo", false)
	join("mira", mira, "quay-crane")
	join("ivo", ivo, "quay-crane")
	l.compare()
	l.settle()
	members := func() []any {
		g := l.there.Find("The quay-crane")
		require.NotNil(t, g)
		list, _ := g["members"].([]any)
		var out []any
		for _, m := range list {
			out = append(out, m.(map[string]any)["value"])
		}
		return out
	}
	idOf := func(name string) any { return l.there.Find(name)["id"] }
	assert.Equal(t, []any{idOf("mira")}, members(), "whoever has no account there is no member there")
	assert.Nil(t, l.there.Find("The office"))
	l.assign(ivo)
	l.settle()
	assert.Equal(t, []any{idOf("mira"), idOf("ivo")}, members())
	join("mira", mira)
	l.settle()
	assert.Equal(t, []any{idOf("ivo")}, members())
	l.unassign(ivo)
	l.settle()
	assert.Empty(t, members(), "an account that is deactivated is no member")
	_, err := l.Persons.SaveGroup(ctx, testbed.Owner, "quay-crane", config.Group{Slug: "quay-crane", Name: "Crane drivers"})
	require.NoError(t, err)
	l.settle()
	assert.NotNil(t, l.there.Find("Crane drivers"))
}

// TestBadMappings explains values that can't be sent, and sends as soon as they can.
func TestBadMappings(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) {
		a.Mapping = append(config.AccountMapping(), claims.Rule{Set: "urn:example:cargo-ledger:2.0:User:deck", From: claims.Names{"deck"}})
	})
	require.NoError(t, l.Persons.SetPeopleSettings(context.Background(), testbed.Owner, settingsWith(t, l, "deck")))
	l.compare()
	profile := profileOf("mira")
	profile["deck"] = []string{"aft"}
	mira := l.person("mira", true)
	l.change(mira, profile, true)
	l.settle()
	failed := l.only("failed")
	assert.Equal(t, "scim.mapping", failed.Code)
	assert.Contains(t, failed.Reason, "deck is a number")
	profile["deck"] = []string{"7"}
	l.change(mira, profile, true)
	l.settle()
	assert.Equal(t, map[string]any{"deck": 7.0}, l.there.Find("mira")["urn:example:cargo-ledger:2.0:User"])
}

// settingsWith are what is known of people, with one more attribute.
func settingsWith(t *testing.T, l *ledger, name string) people.Settings {
	t.Helper()
	s, err := l.Persons.Settings(context.Background())
	require.NoError(t, err)
	s.Attributes = append(slices.Clone(s.Attributes), people.Attribute{Name: name, Type: "text"})
	return s
}

package accounts_test

import (
	"context"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/gate/accounts"
	"innergate/gate/fetch"
	"innergate/standin"
	"innergate/store"
	"innergate/testbed"
)

// ledger is a gate with an application whose accounts it keeps.
type ledger struct {
	*testbed.Lab
	t     testing.TB
	there *standin.Accounts
}

const token = "a-token-of-the-ledger"

// keeping makes one; set changes how the accounts are kept.
func keeping(t testing.TB, set func(*config.Accounts)) *ledger {
	t.Helper()
	l := &ledger{Lab: testbed.NewLab(t), t: t}
	l.Fetch = &fetch.Fetcher{AllowPrivate: true}
	server := httptest.NewServer(nil)
	t.Cleanup(server.Close)
	l.there = standin.NewAccounts(server.URL+"/scim/v2", token)
	server.Config.Handler = l.there
	how := &config.Accounts{Address: l.there.Base, On: true, Approve: config.ApproveNone}
	if set != nil {
		set(how)
	}
	_, err := l.Configuration.SaveApplication(t.Context(), testbed.Owner, "", config.Application{Slug: "cargo", Name: "Cargo Ledger",
		Kind: config.KindLink, StartURL: "https://cargo.example/", Access: access.Policy{To: access.Assigned}, Accounts: how}, 0)
	require.NoError(t, err)
	_, err = l.Partners.KeepAccountSecret(t.Context(), testbed.Owner, "cargo", api.TheirSecret{Value: token})
	require.NoError(t, err)
	return l
}

// person adds somebody, and assigns them where assigned is set.
func (l *ledger) person(name string, assigned bool) string {
	l.t.Helper()
	p, err := l.Persons.SavePerson(l.t.Context(), testbed.Owner, "", api.SavePerson{Profile: profileOf(name)})
	require.NoError(l.t, err)
	if assigned {
		l.assign(p.ID)
	}
	return p.ID
}

func profileOf(name string) claims.Bag {
	return claims.Bag{"preferred_username": {name}, "email": {name + "@saltmere.example"}, "given_name": {name},
		"family_name": {"Voss"}, "name": {name + " Voss"}}
}

// change changes somebody's profile.
func (l *ledger) change(id string, profile claims.Bag, active bool) {
	l.t.Helper()
	_, err := l.Persons.SavePerson(l.t.Context(), testbed.Owner, id, api.SavePerson{Profile: profile, Active: &active})
	require.NoError(l.t, err)
}

func (l *ledger) assign(id string) {
	l.t.Helper()
	require.NoError(l.t, l.Persons.Assign(l.t.Context(), testbed.Owner, "cargo", api.Assignment{Kind: "person", Who: id}))
}

func (l *ledger) unassign(id string) {
	l.t.Helper()
	require.NoError(l.t, l.Persons.Unassign(l.t.Context(), testbed.Owner, "cargo", "person", id))
}

// compare compares all accounts and waits for it.
func (l *ledger) compare() *api.AccountComparison {
	l.t.Helper()
	_, err := l.Accounts.Compare(l.t.Context(), testbed.Owner, "cargo")
	require.NoError(l.t, err)
	var v *api.Accounts
	require.Eventually(l.t, func() bool {
		v, err = l.Accounts.Accounts(l.t.Context(), testbed.Owner, "cargo")
		return err == nil && v.Comparison.State != "working"
	}, 20*time.Second, 10*time.Millisecond)
	require.Equal(l.t, "done", v.Comparison.State, v.Comparison.Note)
	return v.Comparison
}

// settle works everything out and sends what is due, once.
func (l *ledger) settle() *api.Accounts {
	l.t.Helper()
	for more := true; more; {
		var err error
		more, err = l.Accounts.WorkOut(l.t.Context())
		require.NoError(l.t, err)
	}
	app, err := l.Partners.Application(l.t.Context(), "cargo")
	require.NoError(l.t, err)
	require.NoError(l.t, l.Accounts.Pump(l.t.Context(), app.ID))
	v, err := l.Accounts.Accounts(l.t.Context(), testbed.Owner, "cargo")
	require.NoError(l.t, err)
	return v
}

// list are the accounts in a state.
func (l *ledger) list(state string) []api.Account {
	l.t.Helper()
	list, err := l.Accounts.List(l.t.Context(), "cargo", store.Page{}, accounts.Filter{State: state})
	require.NoError(l.t, err)
	return list.Items
}

// only is the one account in a state.
func (l *ledger) only(state string) api.Account {
	l.t.Helper()
	list := l.list(state)
	require.Len(l.t, list, 1)
	return list[0]
}

// act does something with accounts.
func (l *ledger) act(do string, ids ...string) int {
	l.t.Helper()
	n, err := l.Accounts.Act(l.t.Context(), testbed.Owner, "cargo", api.AccountAct{Do: do, IDs: ids})
	require.NoError(l.t, err)
	return n.Count
}

// mailThere is the mail address that an account has there.
func (l *ledger) mailThere(userName string) any {
	l.t.Helper()
	r := l.there.Find(userName)
	require.NotNil(l.t, r)
	return r["emails"].([]any)[0].(map[string]any)["value"]
}

// TestAccountsFollow walks an account from assignment to its end.
func TestAccountsFollow(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, nil), context.Background()
	mira := l.person("mira", true)
	l.person("ivo", false)
	v := l.settle()
	assert.Equal(t, "scim.not-compared", v.Code)
	assert.Equal(t, 0, l.there.Asked(), "before anybody compared, nothing is sent")
	c := l.compare()
	assert.Equal(t, 1, c.Create)
	v = l.settle()
	assert.Equal(t, 1, v.Counts["step"], v)
	made := l.there.Find("mira")
	require.NotNil(t, made)
	assert.Equal(t, mira, made["externalId"])
	assert.Equal(t, true, made["active"])
	assert.Equal(t, map[string]any{"givenName": "mira", "familyName": "Voss"}, made["name"])
	assert.Nil(t, l.there.Find("ivo"))

	asked := l.there.Asked()
	l.settle()
	assert.Equal(t, asked, l.there.Asked(), "what is in step is left alone")

	profile := profileOf("mira")
	profile["email"] = []string{"mira@new.example"}
	l.change(mira, profile, true)
	l.settle()
	assert.Equal(t, "mira@new.example", l.mailThere("mira"))

	l.unassign(mira)
	l.settle()
	assert.Equal(t, false, l.there.Find("mira")["active"])
	l.assign(mira)
	l.settle()
	assert.Equal(t, true, l.there.Find("mira")["active"])
	l.change(mira, profile, false)
	l.settle()
	assert.Equal(t, false, l.there.Find("mira")["active"])
	require.NoError(t, l.Persons.DeletePerson(ctx, testbed.Owner, mira))
	l.settle()

	one, err := l.Accounts.One(ctx, "cargo", l.only("step").ID)
	require.NoError(t, err)
	assert.Equal(t, "the person was deleted", one.Why)
	var what []string
	for _, talk := range one.Talks {
		what = append(what, talk.Result)
		for _, e := range talk.Entries {
			if e.Message != nil {
				assert.NotContains(t, e.Message.Raw, token)
			}
		}
	}
	assert.Equal(t, []string{"deactivated", "changed", "deactivated", "changed", "created"}, what)
}

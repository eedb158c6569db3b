package accounts_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/testbed"
)

// TestSetRightAndAcceptAreNoApproval has changes set right, and accepted, for all accounts while some wait for approval or are left
// alone: those stay as they are.
func TestSetRightAndAcceptAreNoApproval(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve, a.Drift = config.ApproveAll, config.DriftTell })
	for _, name := range []string{"mira", "ivo", "ada", "ben"} {
		l.person(name, true)
		l.there.Plant(map[string]any{"userName": name, "active": true})
	}
	l.compare()
	by := map[string]string{}
	for _, a := range l.list("approval") {
		by[a.RemoteName] = a.ID
	}
	require.Len(t, by, 4)
	assert.Equal(t, 2, l.act("approve", by["mira"], by["ivo"]))
	l.settle()
	for _, name := range []string{"mira", "ivo"} {
		r := l.there.Find(name)
		r["displayName"] = "Somebody Else"
		l.there.Drop(name)
		l.there.Plant(r)
	}
	l.compare()
	assert.Len(t, l.list("drifted"), 2)
	assert.Equal(t, 1, l.act("leave", by["ada"]))
	assert.Equal(t, 1, l.act("leave", by["ivo"]))

	before := []any{l.there.Find("ada"), l.there.Find("ben"), l.there.Find("ivo")}
	assert.Equal(t, 1, l.act("correct"), "mira alone")
	l.settle()
	assert.Equal(t, "mira Voss", l.there.Find("mira")["displayName"])
	assert.Equal(t, 0, l.act("accept"), "nobody's changes, of those that are kept")
	l.settle()
	assert.Equal(t, before, []any{l.there.Find("ada"), l.there.Find("ben"), l.there.Find("ivo")})
	assert.Equal(t, by["ben"], l.only("approval").ID)
	assert.Len(t, l.list("ignored"), 2)

	// Keeping in step again what nobody had approved asks once more.
	assert.Equal(t, 2, l.act("keep"))
	l.settle()
	assert.Equal(t, "mira Voss", l.there.Find("mira")["displayName"])
	assert.Equal(t, "ivo Voss", l.there.Find("ivo")["displayName"], "it was approved before it was left alone")
	assert.Len(t, l.list("approval"), 2)
	assert.Equal(t, before[0], l.there.Find("ada"))
}

// TestAnApprovalIsForWhatWasSeen approves an account to be made, finds one of that name, and compares: it still waits.
func TestAnApprovalIsForWhatWasSeen(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve = config.ApproveAll })
	l.compare()
	l.person("ivo", true)
	l.settle()
	l.there.Plant(map[string]any{"userName": "ivo", "active": true})
	assert.Equal(t, 1, l.act("approve", l.only("approval").ID))
	l.settle()
	require.Equal(t, "scim.taken", l.only("approval").Code)
	before := l.there.Find("ivo")
	l.compare()
	l.settle()
	assert.Equal(t, before, l.there.Find("ivo"), "an approval to make one is none to take one that came there meanwhile")
	assert.Equal(t, 1, l.act("approve", l.only("approval").ID))
	l.settle()
	assert.Equal(t, "ivo Voss", l.there.Find("ivo")["displayName"])
}

// TestLetGoIsNobodys unassigns somebody whose found account waits for approval: from then on it is listed as nobody's.
func TestLetGoIsNobodys(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve = config.ApproveAll })
	mira, ivo := l.person("mira", true), l.person("ivo", true)
	l.there.Plant(map[string]any{"userName": "mira", "active": true})
	l.compare()
	l.unassign(mira)
	l.unassign(ivo)
	l.settle()
	loose := l.only("foreign")
	assert.Equal(t, []string{"mira", "mira", "active", ""}, []string{loose.Name, loose.RemoteName, loose.There, loose.Who})
	assert.Empty(t, l.list("approval"), "and of the one who has none nothing is left")
	assert.Equal(t, 1, l.compare().Foreign)
	assert.Equal(t, loose.ID, l.only("foreign").ID, "it is the same one")
	l.assign(mira)
	l.settle()
	_, err := l.Accounts.Act(context.Background(), testbed.Owner, "cargo", api.AccountAct{Do: "adopt", IDs: []string{loose.ID},
		Person: mira})
	require.NoError(t, err)
	l.settle()
	assert.Equal(t, mira, l.there.Find("mira")["externalId"])
}

// TestActsMeanwhile does something with accounts in the moment between reading what changed and writing what it means: neither is lost.
func TestActsMeanwhile(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve = config.ApproveAll })
	l.compare()
	mira, ivo := l.person("mira", true), l.person("ivo", true)
	l.settle()
	by := map[string]string{}
	for _, a := range l.list("approval") {
		by[a.Who] = a.ID
	}
	l.unassign(mira)
	profile := profileOf("ivo")
	profile["name"] = []string{"Ivo Other"}
	l.change(ivo, profile, true)
	require.NoError(t, l.Accounts.WorkOutAmid(context.Background(), func() {
		assert.Equal(t, 1, l.act("approve", by[mira]))
		assert.Equal(t, 1, l.act("leave", by[ivo]))
	}))
	l.settle()
	assert.Empty(t, l.there.Names(), "neither is made: she was unassigned, and he is left alone")
	assert.Equal(t, by[ivo], l.only("ignored").ID)
	var news int64
	require.NoError(t, l.Store.Read(context.Background()).Table("account_news").Count(&news).Error)
	assert.Zero(t, news)
}

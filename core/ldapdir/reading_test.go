package ldapdir_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/ldapdir"
)

// TestChangedSince narrows a filter to what changed, and lets no value out of it.
func TestChangedSince(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "(objectClass=person)", ldapdir.ChangedSince("(objectClass=person)", "modifyTimestamp", ""))
	assert.Equal(t, `(&(objectClass=person)(modifyTimestamp>=20261130120000Z))`,
		ldapdir.ChangedSince("(objectClass=person)", "modifyTimestamp", "20261130120000Z"))
	assert.Equal(t, `(&(a=b)(whenChanged>=\29\28x=\2a))`, ldapdir.ChangedSince("(a=b)", "whenChanged", ")(x=*"))
}

// TestGroupsAreFoundInMemory finds groups of people by both ways in which directories keep them, as asking for each would.
func TestGroupsAreFoundInMemory(t *testing.T) {
	t.Parallel()
	x := ldapdir.NewGroupIndex(2, false)
	x.Add(ldapdir.Group{DN: "cn=crane,ou=g", Name: "crane"}, []string{"uid=ada,ou=p", "UID=Bo,OU=p"})
	x.Add(ldapdir.Group{DN: "cn=staff,ou=g", Name: "staff"}, []string{"CN=Crane, ou=g", "cn=all,ou=g"})
	x.Add(ldapdir.Group{DN: "cn=all,ou=g", Name: "all"}, []string{"cn=staff,ou=g"})
	x.Add(ldapdir.Group{DN: "cn=far,ou=g", Name: "far"}, []string{"cn=all,ou=g"})
	assert.Equal(t, []string{"all", "crane", "staff"}, x.Of("uid=ada,ou=p", nil), "two deep, and round once")
	assert.Equal(t, []string{"all", "crane", "staff"}, x.Of("uid=bo, ou=P", nil))
	assert.Empty(t, x.Of("uid=cy,ou=p", nil))

	x = ldapdir.NewGroupIndex(1, true)
	x.Add(ldapdir.Group{DN: "cn=crane,ou=g", Name: "Crane drivers"}, []string{"cn=staff,ou=g"})
	assert.Equal(t, []string{"Crane drivers", "staff"}, x.Of("uid=ada,ou=p", []string{"cn=crane,ou=g"}))
}

package ldapdir_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/ldapdir"
)

// TestFiltersTakeNamesForWhatTheyAre escapes what means something in a filter (RFC 4515, section 3).
func TestFiltersTakeNamesForWhatTheyAre(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		"wfell": "(uid=wfell)", "*": `(uid=\2a)`, "x)(uid=*": `(uid=x\29\28uid=\2a)`, `a\b`: `(uid=a\5cb)`, "a\x00b": `(uid=a\00b)`,
		"Zoë": `(uid=Zo\c3\ab)`,
	} {
		got, err := ldapdir.Filter("(uid={name})", name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", "(uid=*)", "uid={name}", "((uid={name})", "(uid={name}", "(&(uid={name})"} {
		_, err := ldapdir.Filter(bad, "x")
		assert.Error(t, err, bad)
	}
}

// TestPatternsTakeNamesForWhatTheyAre escapes what means something in a DN (RFC 4514, section 2.4).
func TestPatternsTakeNamesForWhatTheyAre(t *testing.T) {
	t.Parallel()
	const pattern = "uid={name},ou=people,dc=saltmere,dc=example"
	for _, name := range []string{"wfell", "x,ou=services", "x+cn=admin", `x\,ou=services`, "#x", " x ", "x;y", `"x"`, "x=y"} {
		dn, err := ldapdir.Named(pattern, name)
		require.NoError(t, err, name)
		parsed, err := ldapdir.ParseDN(dn)
		require.NoError(t, err)
		require.Len(t, parsed.RDNs, 4, "%s: %s", name, dn)
		require.Len(t, parsed.RDNs[0].Attributes, 1)
		assert.Equal(t, name, parsed.RDNs[0].Attributes[0].Value)
	}
	for _, bad := range []string{"", "uid=x", "{name}{name}", "uid={name},", "={name}"} {
		_, err := ldapdir.Named(bad, "x")
		assert.Error(t, err, bad)
	}
	assert.NotEqual(t, ldapdir.KeyOf("uid=a"), ldapdir.KeyOf("uid=b"))
	assert.Equal(t, ldapdir.KeyOf("UID=a, OU=People"), ldapdir.KeyOf("uid=A,ou=people"))
}

// TestWhatADirectorySaysOfAnAccount reads result codes, the policy's errors and the diagnostic message of a widespread directory.
func TestWhatADirectorySaysOfAnAccount(t *testing.T) {
	t.Parallel()
	const ad = "80090308: LdapErr: DSID-0C090446, comment: AcceptSecurityContext error, data %s, v4563"
	for _, c := range []struct {
		result, policy int
		message        string
		want           ldapdir.State
	}{
		{0, -1, "", ldapdir.Good},
		{49, -1, "", ldapdir.Wrong},
		{49, 0, "", ldapdir.Expired},
		{49, 1, "", ldapdir.Locked},
		{0, 2, "", ldapdir.MustChange},
		{49, -1, fmt.Sprintf(ad, "52e"), ldapdir.Wrong},
		{49, -1, fmt.Sprintf(ad, "525"), ldapdir.Wrong},
		{49, -1, fmt.Sprintf(ad, "532"), ldapdir.Expired},
		{49, -1, fmt.Sprintf(ad, "533"), ldapdir.Disabled},
		{49, -1, fmt.Sprintf(ad, "701"), ldapdir.Disabled},
		{49, -1, fmt.Sprintf(ad, "773"), ldapdir.MustChange},
		{49, -1, fmt.Sprintf(ad, "775"), ldapdir.Locked},
		{49, -1, fmt.Sprintf(ad, "530"), ldapdir.Refused},
		{53, -1, "account inactivated", ldapdir.Disabled},
		{53, -1, "not now", ldapdir.Refused},
		{8, -1, "stronger authentication required", ldapdir.Refused},
	} {
		assert.Equal(t, c.want, ldapdir.Judge(c.result, c.policy, c.message), "%+v", c)
	}
}

// TestEntriesBecomeValues reads identifiers as text, and never takes secrets along.
func TestEntriesBecomeValues(t *testing.T) {
	t.Parallel()
	guid := []byte{0x33, 0x22, 0x11, 0x00, 0x55, 0x44, 0x77, 0x66, 0x88, 0x99, 0xaa, 0xbb, 0xcc, 0xdd, 0xee, 0xff}
	e := &ldapdir.Entry{DN: "uid=a", Values: map[string][][]byte{
		"objectGUID": {guid}, "cn": {[]byte("Zoë")}, "userPassword": {[]byte("{SSHA}x")}, "userPassword;x-old": {[]byte("y")},
		"photo": {{0xff, 0xd8}},
	}}
	assert.Equal(t, "00112233-4455-6677-8899-aabbccddeeff", e.First("OBJECTguid"))
	assert.Equal(t, claims.Bag{"dn": {"uid=a"}, "objectGUID": {"00112233-4455-6677-8899-aabbccddeeff"}, "cn": {"Zoë"}, "photo": {"ffd8"},
		"groups": {"quay"}}, e.Bag([]string{"quay"}))
	assert.Equal(t, `(objectGUID=\33\22\11\00\55\44\77\66\88\99\aa\bb\cc\dd\ee\ff)`,
		ldapdir.Identified("objectGUID", "00112233-4455-6677-8899-aabbccddeeff"))
	assert.Equal(t, `(entryUUID=00112233-4455-6677-8899-aabbccddeeff)`,
		ldapdir.Identified("entryUUID", "00112233-4455-6677-8899-aabbccddeeff"))
	assert.Equal(t, `(employeeNumber=\2a\29)`, ldapdir.Identified("employeeNumber", "*)"))
	assert.Equal(t, []string{"entryUUID", "cn"}, ldapdir.Wanted("entryUUID", "cn")[:2])
}

// TestGroupsInGroups follows memberships to a depth, meets each group once, and ends where groups are in themselves.
func TestGroupsInGroups(t *testing.T) {
	t.Parallel()
	in := map[string][]ldapdir.Group{
		"cn=a": {{DN: "cn=b", Name: "b"}}, "cn=b": {{DN: "CN=A", Name: "a"}, {DN: "cn=c", Name: "c"}}, "cn=c": {{DN: "cn=d", Name: "d"}},
	}
	of := func(_ context.Context, dn string) ([]ldapdir.Group, error) { return in[ldapdir.KeyOf(dn)], nil }
	for depth, want := range [][]string{{"a"}, {"a", "b"}, {"a", "b", "c"}, {"a", "b", "c", "d"}, {"a", "b", "c", "d"}} {
		got, cut, err := ldapdir.Nested(t.Context(), []ldapdir.Group{{DN: "cn=a", Name: "a"}}, depth, of)
		require.NoError(t, err)
		assert.False(t, cut)
		assert.Equal(t, want, ldapdir.Names(got), depth)
	}
	n := 0
	_, cut, err := ldapdir.Nested(t.Context(), []ldapdir.Group{{DN: "cn=0"}}, 1<<20, func(context.Context,
		string) ([]ldapdir.Group, error) {
		n++
		return []ldapdir.Group{{DN: fmt.Sprint("cn=", n)}}, nil
	})
	require.NoError(t, err)
	assert.True(t, cut, "without end")
	_, _, err = ldapdir.Nested(t.Context(), []ldapdir.Group{{DN: "cn=0"}}, 1, func(context.Context, string) ([]ldapdir.Group, error) {
		return nil, errors.New("it does not answer")
	})
	assert.Error(t, err)
}

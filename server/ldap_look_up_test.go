package server_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/demo"
)

// nicknames has the staff's provider take a value from Harbour Office, where people are found by their user name.
func nicknames(t *testing.T, w *demo.World, how config.LDAPLookUp) {
	t.Helper()
	how.Filter = "(uid={urn:oid:0.9.2342.19200300.100.1.1})"
	require.NoError(t, sets(t, w, func(l *config.LDAPProvider) { l.LookUp, l.TimeoutSeconds = &how, 1 }))
	p, err := w.Client().Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	c := p.Provider
	c.Mapping = append(c.Mapping, claims.Rule{Set: "nickname", From: []string{"directory:harbour-office.CN"}})
	_, err = w.Client().PutProvider(t.Context(), c, p.Revision)
	require.NoError(t, err)
}

// nickname signs somebody in, and gives what the rule made, and what was decided about the directory.
func nickname(t *testing.T, w *demo.World, user string) (value, decided, outcome string) {
	t.Helper()
	require.NoError(t, w.Walker().SignIn(t.Context(), w.RotaURL+"/sign-in", user))
	x := newest(t, w)
	for _, e := range x.Entries {
		switch {
		case e.Value != nil && strings.Contains(e.Value.Rule, "nickname") && len(e.Value.Output) > 0:
			value = e.Value.Output[0]
		case e.Decision != nil && e.Decision.About == "directory harbour-office":
			decided = e.Decision.Result + ": " + e.Decision.By
		}
	}
	return value, decided, x.Outcome + x.Code
}

// TestValuesAreLookedUpInADirectory takes a value from a directory for people who came through another provider, keeps it for a while,
// and refuses or goes on where the directory does not answer.
func TestValuesAreLookedUpInADirectory(t *testing.T) {
	t.Parallel()
	w := world(t)
	w.Office.Hire("mvoss")
	nicknames(t, w, config.LDAPLookUp{KeepSeconds: 600})
	value, decided, outcome := nickname(t, w, "mvoss")
	assert.Equal(t, "Hand mvoss", value)
	assert.Contains(t, decided, "uid=mvoss,ou=people,dc=harbour,dc=example: filter (uid=mvoss)")
	assert.Equal(t, "signed-in", outcome)
	value, decided, _ = nickname(t, w, "zoberg")
	assert.Empty(t, value)
	assert.Contains(t, decided, "nobody")

	w.Office.SetMistake("silent")
	began := time.Now()
	value, decided, _ = nickname(t, w, "mvoss")
	assert.Equal(t, "Hand mvoss", value, "it is kept")
	assert.Contains(t, decided, "a short time ago")
	assert.Less(t, time.Since(began), time.Second)
	_, _, outcome = nickname(t, w, "jhale")
	assert.Equal(t, "refusedldap.unreachable", outcome)
	require.NoError(t, sets(t, w, func(l *config.LDAPProvider) { l.LookUp.Otherwise = "without" }))
	value, decided, outcome = nickname(t, w, "jhale")
	assert.Empty(t, value)
	assert.Contains(t, decided, "goes on without")
	assert.Equal(t, "signed-in", outcome)
}

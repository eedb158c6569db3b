package gate_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/gate"
	"innergate/gate/ground"
	"innergate/gate/rehearsal"
	"innergate/store"
	"innergate/testbed"
)

// second opens another gate on the same data folder, as a second process would.
func second(t testing.TB, l *testbed.Lab) *gate.Gate {
	t.Helper()
	master, err := store.MasterKeys("", l.Folder+"/master.key", false)
	require.NoError(t, err)
	sealer, err := store.NewSealer(master[0], master[1:]...)
	require.NoError(t, err)
	s, err := store.Open(l.Folder, sealer)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	g, err := gate.New(context.Background(), gate.Options{Store: s, PublicURL: l.PublicURL, Fetch: l.Fetch})
	require.NoError(t, err)
	return g
}

// TestTwoProcessesSeeTheSameTruth changes things in one gate and looks in the other, without waiting.
func TestTwoProcessesSeeTheSameTruth(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	other := second(t, l)
	_, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{Name: "Crew Rota"}, 0)
	require.NoError(t, err)
	_, err = l.Watch.TakeApplication(ctx, testbed.Owner, "crew-rota",
		api.TakeIn{Text: testbed.Metadata(t, "https://rota.saltmere.example", saml.RoleSP)})
	require.NoError(t, err)
	seen, err := other.Exchange.ApplicationSheet(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Contains(t, seen.Title, "Crew Rota")
	for i := range 5 {
		a, err := l.Checkups.Application(ctx, "crew-rota")
		require.NoError(t, err)
		c := a.Application
		c.Name = "Crew Rota " + string(rune('A'+i))
		_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, "crew-rota", c, a.Revision)
		require.NoError(t, err)
		sheet, err := other.Exchange.ApplicationSheet(ctx, "crew-rota")
		require.NoError(t, err)
		assert.Contains(t, sheet.Title, c.Name, "a cache must not hide a change")
	}
	mine, err := l.Exchange.OurMetadata(ctx, "", "", false)
	require.NoError(t, err)
	theirs, err := other.Exchange.OurMetadata(ctx, "", "", false)
	require.NoError(t, err)
	first, again := saml.ReadMetadata(mine, l.Clock), saml.ReadMetadata(theirs, l.Clock)
	assert.Equal(
		t, first.Entities[0].Roles[0].Keys[0].Certificate.Raw, again.Entities[0].Roles[0].Keys[0].Certificate.Raw,
		"one key, not one each",
	)
	token, err := l.Console.NewToken(ctx, testbed.Owner, api.NewToken{Name: "pipeline", Role: ground.RoleViewer})
	require.NoError(t, err)
	_, err = other.Console.TokenActor(ctx, token.Secret, "")
	require.NoError(t, err)
	require.NoError(t, other.Console.RevokeToken(ctx, testbed.Owner, token.ID))
	_, err = l.Console.TokenActor(ctx, token.Secret, "")
	assert.Equal(t, 401, testbed.Status(err))
	verdict, err := l.VerifyJournal(ctx, "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole, verdict.Broken)
}

func TestDecodeAnything(t *testing.T) {
	t.Parallel()
	const doc = `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1"/>`
	location, err := saml.EncodeRedirect("https://gate.saltmere.example/sso", saml.ParamRequest, []byte(doc), "week 47", nil)
	require.NoError(t, err)
	for name, text := range map[string]string{
		"XML":         doc,
		"base64":      saml.EncodePost([]byte(doc)),
		"whole URL":   location,
		"query":       location[len("https://gate.saltmere.example/sso?"):],
		"form body":   "SAMLRequest=" + saml.EncodePost([]byte(doc)) + "&RelayState=x",
		"with spaces": "\n " + doc + "\n",
	} {
		d, err := rehearsal.DecodeAnything(text)
		require.NoError(t, err, name)
		assert.Equal(t, "AuthnRequest", d.Message, name)
		assert.Contains(t, d.Text, `ID="_1"`, name)
		assert.Contains(t, d.Notes[len(d.Notes)-1], "Nothing here was verified")
	}
	d, err := rehearsal.DecodeAnything(location)
	require.NoError(t, err)
	assert.Equal(t, "week 47", d.RelayState)
	jwt, err := rehearsal.DecodeAnything("eyJhbGciOiJFUzI1NiIsImtpZCI6ImEifQ.eyJleHAiOjE3OTU0MjUyNjcsInN1YiI6Im12b3NzIn0.c2ln")
	require.NoError(t, err)
	assert.Equal(t, "ES256", jwt.Signed)
	assert.Contains(t, jwt.Text, "mvoss")
	assert.Equal(t, "2026-11-23T09:14:27Z", jwt.Parameters["exp"])
	for _, bad := range []string{"", "   ", "no message", "<a", "SAMLResponse=%%%", "a.b.c", "aGVsbG8gd29ybGQ="} {
		_, err := rehearsal.DecodeAnything(bad)
		assert.Error(t, err, bad)
	}
}

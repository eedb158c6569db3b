package gate_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/gate"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

func TestPublicURLIsChecked(t *testing.T) {
	t.Parallel()
	for _, bad := range []string{"", "gate.saltmere.example", "ftp://gate.saltmere.example", "https://gate.saltmere.example/path",
		"https://gate.saltmere.example?x=1", "https://"} {
		_, err := gate.New(context.Background(), gate.Options{PublicURL: bad})
		assert.ErrorContains(t, err, "must be an http or https address", bad)
	}
	l := testbed.NewLab(t)
	assert.Equal(t, "https://gate.saltmere.example", l.PublicURL)
	assert.Equal(t, "https://gate.saltmere.example/saml/sp/staff/acs", l.ACSLocation("staff"))
	assert.True(t, l.Secure())
}

// TestSecretsAreSealedOnDisk looks for secrets in every file of the data folder.
func TestSecretsAreSealedOnDisk(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	token, err := l.Console.NewToken(ctx, testbed.Owner, api.NewToken{Name: "pipeline", Role: ground.RoleViewer})
	require.NoError(t, err)
	_, err = l.Console.AddAdministrator(
		ctx,
		testbed.Owner,
		api.NewAdministrator{Name: "Mira", Role: ground.RoleEngineer, Password: "ebb and flood tide"},
	)
	require.NoError(t, err)
	session, _, err := l.Console.SignInAdministrator(ctx, "Mira", "ebb and flood tide", "192.0.2.7")
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(l.Folder, "innergate.db*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, secret := range []string{token.Secret, token.Secret[10:], "ebb and flood tide", session, "PRIVATE KEY"} {
			assert.NotContains(t, string(data), secret, filepath.Base(f))
		}
		// A PKCS #8 RSA key begins with this algorithm identifier and version.
		assert.NotContains(t, string(data), "\x02\x01\x00\x30\x0d\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x01")
	}
	list, err := l.Console.Tokens(ctx)
	require.NoError(t, err)
	assert.Empty(t, list.Items[0].Secret)
	lines, err := l.Journal(ctx, testbed.Owner, store.Page{Limit: 100}, "")
	require.NoError(t, err)
	for _, line := range lines.Items {
		assert.NotContains(t, line.Before+line.After, token.Secret)
		assert.NotContains(t, line.Before+line.After, "ebb and flood")
	}
}

func TestAnotherMasterKeyIsNoticedAtStart(t *testing.T) {
	t.Parallel()
	l := testbed.NewLab(t)
	sealer, err := store.NewSealer(make([]byte, 32))
	require.NoError(t, err)
	s, err := store.Open(l.Folder, sealer)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	_, err = gate.New(context.Background(), gate.Options{Store: s, PublicURL: "https://gate.saltmere.example"})
	assert.ErrorContains(t, err, "master key")
}

func TestTakeTheirs(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	both := testbed.Metadata(t, "https://both.saltmere.example", saml.RoleIDP, saml.RoleSP)
	u, _, err := l.Watch.UnderstandApplication(ctx, "", api.TakeIn{Text: both})
	require.NoError(t, err)
	assert.Contains(t, u.Remark, "both roles")
	assert.Equal(t, "https://both.saltmere.example/sp", u.App.SAML.ACS[0].Location)
	assert.Equal(t, config.Subject{Source: "pairwise", Format: saml.FormatPersistent}, u.App.Subject)
	assert.Equal(t, "https://both.saltmere.example/", u.Proposed["startUrl"])
	p, _, err := l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: both})
	require.NoError(t, err)
	assert.Equal(t, "https://both.saltmere.example/idp", p.Provider.SAML.SSO[0].Location)

	wrong, _, err := l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: testbed.Metadata(t, "https://app.saltmere.example", saml.RoleSP)})
	require.NoError(t, err)
	assert.Nil(t, wrong.Provider)
	assert.Equal(t, "metadata.wrong-role", wrong.Problems[len(wrong.Problems)-1].Code)

	group := `<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata">` + testbed.Metadata(t, "https://one.saltmere.example",
		saml.RoleSP)[39:] + testbed.Metadata(t, "https://two.saltmere.example", saml.RoleSP)[39:] + `</EntitiesDescriptor>`
	several, _, err := l.Watch.UnderstandApplication(ctx, "", api.TakeIn{Text: group})
	require.NoError(t, err)
	assert.Nil(t, several.App)
	assert.Len(t, several.Entities, 2)
	chosen, _, err := l.Watch.UnderstandApplication(ctx, "", api.TakeIn{Text: group, EntityID: "https://two.saltmere.example"})
	require.NoError(t, err)
	assert.Equal(t, "https://two.saltmere.example", chosen.App.SAML.EntityID)
	nobody, _, err := l.Watch.UnderstandApplication(ctx, "", api.TakeIn{Text: group, EntityID: "https://three.saltmere.example"})
	require.NoError(t, err)
	assert.Nil(t, nobody.App)

	_, _, err = l.Watch.UnderstandApplication(ctx, "", api.TakeIn{})
	assert.Equal(t, http.StatusBadRequest, testbed.Status(err))
}

// TestTakeTheirsFromAddress fetches a document, shows what would change, and stores nothing until told to.
func TestTakeTheirsFromAddress(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	served := testbed.Metadata(t, "https://rota.saltmere.example", saml.RoleSP)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(served)) }))
	t.Cleanup(s.Close)
	a, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{Name: "Crew Rota"}, 0)
	require.NoError(t, err)
	assert.Equal(t, "crew-rota", a.Slug)
	u, _, err := l.Watch.UnderstandApplication(ctx, "crew-rota", api.TakeIn{Text: " " + s.URL + "\n"})
	require.NoError(t, err, "an address that was pasted is fetched")
	require.NotEmpty(t, u.Changes)
	held, err := l.Checkups.Application(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Empty(t, held.SAML.EntityID)
	taken, err := l.Watch.TakeApplication(ctx, testbed.Owner, "crew-rota", api.TakeIn{URL: s.URL})
	require.NoError(t, err)
	assert.Equal(t, "Crew Rota", taken.Name, "the name stays ours")
	assert.Equal(t, 2, taken.Revision)
	again, _, err := l.Watch.UnderstandApplication(ctx, "crew-rota", api.TakeIn{URL: s.URL})
	require.NoError(t, err)
	assert.Empty(t, again.Changes)
	served = testbed.Metadata(t, "https://rota.saltmere.example", saml.RoleSP)
	rolled, _, err := l.Watch.UnderstandApplication(ctx, "crew-rota", api.TakeIn{URL: s.URL})
	require.NoError(t, err)
	require.Len(t, rolled.Changes, 1)
	assert.Equal(t, "certificate for signing", rolled.Changes[0].Field)
	assert.NotEqual(t, rolled.Changes[0].Before, rolled.Changes[0].After)
	served = "<html>please sign in</html>"
	_, err = l.Watch.TakeApplication(ctx, testbed.Owner, "crew-rota", api.TakeIn{URL: s.URL})
	assert.Equal(t, http.StatusUnprocessableEntity, testbed.Status(err))
	held, err = l.Checkups.Application(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, taken.Revision, held.Revision, "nothing of the former state is lost")
}

func TestTwoCantShareAnEntityID(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	doc := testbed.Metadata(t, "https://rota.saltmere.example", saml.RoleSP)
	for i, name := range []string{"Crew Rota", "Crew Rota Copy"} {
		a, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{Name: name}, 0)
		require.NoError(t, err)
		_, err = l.Watch.TakeApplication(ctx, testbed.Owner, a.Slug, api.TakeIn{Text: doc})
		if i == 0 {
			require.NoError(t, err)
			continue
		}
		assert.Equal(t, http.StatusConflict, testbed.Status(err))
		assert.ErrorContains(t, err, `"Crew Rota" has the entity ID`)
	}
}

func TestTwoEngineersAtOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	a, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{Name: "Crew Rota"}, 0)
	require.NoError(t, err)
	first, second := a.Application, a.Application
	first.Description = "of the first"
	second.Description = "of the second"
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, a.Slug, first, a.Revision)
	require.NoError(t, err)
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, a.Slug, second, a.Revision)
	assert.Equal(t, http.StatusConflict, testbed.Status(err))
	held, err := l.Checkups.Application(ctx, a.Slug)
	require.NoError(t, err)
	assert.Equal(t, "of the first", held.Description)
	first.Slug = "other"
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, a.Slug, first, 0)
	assert.ErrorContains(t, err, "short name can't change")
}

// TestExchangeSheetIsFinalFromTheStart hands out values before anything of the partner is known, and sees that no later
// step changes them.
func TestExchangeSheetIsFinalFromTheStart(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	_, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{Name: "Crew Rota"}, 0)
	require.NoError(t, err)
	_, err = l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{Name: "Staff"}, 0)
	require.NoError(t, err)
	before, err := l.Exchange.ApplicationSheet(ctx, "crew-rota")
	require.NoError(t, err)
	providerBefore, err := l.Exchange.ProviderSheet(ctx, "staff")
	require.NoError(t, err)
	_, err = l.Watch.TakeApplication(ctx, testbed.Owner, "crew-rota",
		api.TakeIn{Text: testbed.Metadata(t, "https://rota.saltmere.example", saml.RoleSP)})
	require.NoError(t, err)
	_, err = l.Watch.TakeProvider(ctx, testbed.Owner, "staff",
		api.TakeIn{Text: testbed.Metadata(t, "https://id.saltmere.example", saml.RoleIDP)})
	require.NoError(t, err)
	after, err := l.Exchange.ApplicationSheet(ctx, "crew-rota")
	require.NoError(t, err)
	for i, v := range before.Values {
		if v.Field != "format" && v.Kind != "note" { // the identifier follows what the application asks for, notes what is held
			assert.Equal(t, v, after.Values[i])
		}
	}
	providerAfter, err := l.Exchange.ProviderSheet(ctx, "staff")
	require.NoError(t, err)
	for _, v := range providerBefore.Values {
		if v.Kind != "note" {
			assert.Contains(t, providerAfter.Values, v)
		}
	}
	for _, v := range after.Values {
		assert.True(t, v.Hint != "" || v.Kind == "note", v.Name)
		assert.Contains(t, after.Markdown, v.Value)
	}
	doc, err := l.Exchange.OurMetadata(ctx, "provider", "staff", false)
	require.NoError(t, err)
	read := saml.ReadMetadata(doc, l.Clock)
	assert.Empty(t, read.Problems)
	assert.Equal(t, string(l.SPEntityID()), read.Entities[0].EntityID)
	assert.Equal(t, l.ACSLocation("staff"), read.Entities[0].Roles[0].Service(saml.ServiceACS)[0].Location)
}

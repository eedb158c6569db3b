package partners_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/store"
	"innergate/testbed"
)

// TestSectorIdentifier lets an application share subjects only where the list that it names holds its redirect URIs.
func TestSectorIdentifier(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	list := `["https://a.example/cb"]`
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, list) }))
	t.Cleanup(s.Close)
	l.Fetch.Transport = s.Client().Transport
	save := func(sector string) error {
		_, err := l.Configuration.SaveApplication(
			ctx,
			testbed.Owner,
			"",
			config.Application{
				Name: "Ledger " + fmt.Sprint(len(list)),
				Kind: "oidc",
				OIDC: &config.OIDCApplication{
					RedirectURIs:     []string{"https://a.example/cb", "https://b.example/cb"},
					SectorIdentifier: sector,
				},
			},
			0,
		)
		return err
	}
	assert.ErrorContains(t, save(strings.Replace(s.URL, "https://", "http://", 1)), "https address")
	assert.ErrorContains(t, save(s.URL), "does not hold the redirect URI https://b.example/cb")
	list = `{"not":"a list"}`
	assert.ErrorContains(t, save(s.URL), "not a JSON list")
	list = `["https://a.example/cb","https://b.example/cb"]`
	require.NoError(t, save(s.URL))
}

// TestKeySetsFromPrivateNetworks keeps partners from having the gate look around in its own network.
func TestKeySetsFromPrivateNetworks(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	asked := false
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { asked = true; fmt.Fprint(w, "{}") }))
	t.Cleanup(s.Close)
	l.Fetch.AllowPrivate = false
	_, _, err := l.Watch.UnderstandProvider(ctx, "", api.TakeIn{URL: s.URL + "/.well-known/openid-configuration"})
	assert.ErrorContains(t, err, "private network")
	_, err = l.Configuration.SaveProvider(
		ctx,
		testbed.Owner,
		"",
		config.Provider{
			Name: "Inside",
			Kind: "oidc",
			OIDC: &config.OIDCProvider{Issuer: s.URL, AuthorizationEndpoint: s.URL, TokenEndpoint: s.URL, KeysURL: s.URL, ClientID: "x"},
		},
		0,
	)
	require.NoError(t, err)
	secret, err := l.Partners.KeepSecret(ctx, testbed.Owner, "inside", api.TheirSecret{Value: "a-secret-of-theirs-that-is-long"})
	require.NoError(t, err)
	tried, err := l.Partners.TrySecret(ctx, testbed.Owner, "inside", secret.ID)
	require.NoError(t, err)
	assert.Equal(t, "unclear", tried.Result)
	assert.Contains(t, tried.Text, "private network")
	assert.False(t, asked)
	// What belongs to a provider goes with it.
	require.NoError(t, l.Configuration.DeleteProvider(ctx, testbed.Owner, "inside"))
	_, err = l.Partners.Secrets(ctx, "provider", "inside")
	assert.Error(t, err)
}

func TestTemplatesOfOpenID(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	ref, err := l.Sources.StartTemplate(
		ctx,
		testbed.Owner,
		"openid-web-client",
		api.StartTemplate{Name: "Ledger", Values: map[string]string{"origin": "https://ledger.example", "callback": "/cb"}},
	)
	require.NoError(t, err)
	sheet, err := l.Exchange.ApplicationSheet(ctx, ref.Slug)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(sheet.Steps, "\n"), "Enter https://gate.saltmere.example as the issuer")
	assert.Contains(t, strings.Join(sheet.Steps, "\n"), "https://ledger.example/cb, to the last character")
	ref, err = l.Sources.StartTemplate(ctx, testbed.Owner, "openid-tool", api.StartTemplate{Name: "Tool"})
	require.NoError(t, err)
	a, err := l.Checkups.Application(ctx, ref.Slug)
	require.NoError(t, err)
	assert.Equal(t, "none", a.OIDC.Authentication)
	kept, err := l.Sources.NewTemplate(ctx, testbed.Owner, api.NewTemplate{Name: "Tools of ours", From: "applications/" + a.Slug})
	require.NoError(t, err)
	assert.Empty(t, kept.Application.OIDC.ClientID, "a client ID is one application's own")
}

// TestMonthsOfRefreshing keeps the first and the last of what a client did with one sign-in, and not the thousands between.
func TestMonthsOfRefreshing(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	row := store.Trace{ID: store.NewID(), Reference: "MANY-TIMES", StartedAt: l.Now()}
	row.Entries = l.Store.Sealer.Seal(store.PlaceTrace, row.ID, []byte("[]"))
	require.NoError(t, l.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		for n := range 130 {
			at := l.Now().Add(time.Duration(n) * time.Hour)
			a := store.TraceAddition{ID: store.NewIDAt(at), TraceID: row.ID, At: at}
			a.Entries = l.Store.Sealer.Seal(store.PlaceTrace, a.ID, fmt.Appendf(nil, `[{"decision":{"about":"refresh","result":"%d"}}]`, n))
			if err := tx.Create(&a).Error; err != nil {
				return err
			}
		}
		other := store.TraceAddition{ID: store.NewID(), TraceID: "another", At: l.Now()}
		if err := tx.Create(&other).Error; err != nil {
			return err
		}
		return tx.Create(&row).Error
	}))
	shown := func() (out []string) {
		v, err := l.Traces.Trace(ctx, row.Reference, true)
		require.NoError(t, err)
		for _, e := range v.Entries {
			out = append(out, e.Decision.Result)
		}
		return out
	}
	held := func() (n int64) {
		require.NoError(t, l.Store.Traces.Read(ctx).Model(&store.TraceAddition{}).Count(&n).Error)
		return n
	}
	before := shown()
	require.Len(t, before, 50)
	assert.Equal(t, []string{"0", "9", "90", "129"}, []string{before[0], before[9], before[10], before[49]})
	assert.EqualValues(t, 131, held())
	require.NoError(t, l.Tidy(ctx))
	assert.EqualValues(t, 51, held(), "and nothing of another sign-in")
	assert.Equal(t, before, shown())
	require.NoError(t, l.Tidy(ctx))
	assert.EqualValues(t, 51, held(), "tidying again takes nothing more")
}

package testbed

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/demo"
)

// PierDesk makes a realm a provider of a world, pier-desk, with a keytab in base64: Crew Rota is reached by its tickets from this machine,
// and by Saltmere Staff for whoever has none.
func PierDesk(t testing.TB, w *demo.World, realm, keytab string) {
	t.Helper()
	ctx, c := t.Context(), w.Client()
	held, err := c.AddProvider(ctx, config.Provider{
		Slug: "pier-desk", Name: "Pier Desk", Kind: config.KindKerberos, Admission: "create", Mapping: claims.OfRealm(),
		Matching: &people.Matching{Unscoped: true}, Kerberos: &config.KerberosProvider{Realms: []string{realm}},
	})
	require.NoError(t, err)
	_, err = c.KeepSecret(ctx, "pier-desk", api.TheirSecret{Value: keytab})
	require.NoError(t, err)
	open := held.Provider
	open.Reach = "everyone"
	_, err = c.PutProvider(ctx, open, held.Revision)
	require.NoError(t, err)
	a, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	a.Providers = []string{"saltmere-staff", "pier-desk"}
	_, err = c.PutApplication(ctx, a.Application, a.Revision)
	require.NoError(t, err)
	PierNetwork(t, w, "127.0.0.0/8")
}

// PierNetwork has a route lead to tickets from a network alone.
func PierNetwork(t testing.TB, w *demo.World, network string) {
	t.Helper()
	_, err := w.Client().SetRoutes(t.Context(), access.Routes{Rules: []access.Route{{
		Name: "on the pier", If: access.RouteCondition{Networks: []string{network}}, To: []string{"pier-desk", "saltmere-staff"},
	}}})
	require.NoError(t, err)
}

package server_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/demo"
	"innergate/testbed"
)

func isTile(n *html.Node) bool {
	return n.Data == "b" && n.FirstChild != nil && n.Parent.Parent.Data == "a"
}

// tiles are the names on a person's page, in order.
func tiles(t testing.TB, w *demo.World, b *demo.Walker) []string {
	t.Helper()
	opens(t, b, w.URL+"/")
	require.Contains(t, b.Text, "Your applications")
	var out []string
	b.Find(func(n *html.Node) bool {
		if isTile(n) {
			out = append(out, n.FirstChild.Data)
		}
		return false
	})
	return out
}

func tileLink(b *demo.Walker, name string) string {
	n := b.Find(func(n *html.Node) bool { return isTile(n) && n.FirstChild.Data == name })
	if n == nil {
		return ""
	}
	return attribute(n.Parent.Parent, "href")
}

// toPortal signs somebody of Saltmere Staff in at the page of tiles.
func toPortal(t testing.TB, w *demo.World, user string) *demo.Walker {
	t.Helper()
	w.Staff.Forget()
	b := w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(t.Context(), w.URL+"/", user))
	require.Contains(t, b.Text, "Your applications", b.Text)
	return b
}

func TestTilesAreThoseOneMayUse(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	b, clerk := toPortal(t, w, "zoberg"), toPortal(t, w, "tkerr")
	assert.Equal(t, []string{"Berths", "Cargo Ledger", "Crew Rota", "Dockhand"}, tiles(t, w, b))
	assert.Equal(
		t,
		[]string{"Berths", "Cargo Ledger", "Crew Rota", "Dockhand", "Harbour master's desk"},
		tiles(t, w, clerk),
		"a tile of its own for the office, of the same application",
	)

	for name, want := range map[string]string{"Crew Rota": "zoberg", "Cargo Ledger": "Zoë Öberg", "Berths": "zoberg"} {
		opens(t, b, w.URL+"/")
		require.NotEmpty(t, tileLink(b, name), name)
		assert.Contains(t, opens(t, b, tileLink(b, name)), want, "%s: no second sign-in", name)
	}
	opens(t, clerk, w.URL+"/")
	opens(t, clerk, tileLink(clerk, "Harbour master's desk"))
	assert.Equal(t, "/harbour-master", clerk.Inner("path"), "a tile leads to its own place")

	// A plain link with a picture, one that is hidden, and one for another group.
	link := config.Application{
		Slug:     "tide-tables",
		Name:     "Tide Tables",
		Kind:     config.KindLink,
		Reach:    access.Everyone,
		StartURL: w.DeskURL + "/",
		Access:   access.Policy{To: access.Everybody},
		Tiles: []config.Tile{
			{
				Picture: "data:image/png;base64," +
					"iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==",
			},
			{Name: "Old tables", Hidden: true},
			{Name: "Bridge tables", Groups: []string{"bridge"}},
		},
	}
	_, err := c.AddApplication(ctx, link)
	require.NoError(t, err)
	assert.Equal(t, []string{"Berths", "Cargo Ledger", "Crew Rota", "Dockhand", "Tide Tables"}, tiles(t, w, b))
	assert.Contains(t, b.Text, `src="data:image/png;base64,`)
	opens(t, b, tileLink(b, "Tide Tables"))
	assert.Equal(t, w.DeskURL+"/", b.Address.String())
	for _, bad := range []string{"data:image/svg+xml;base64,PHN2Zy8+", "data:image/png;base64,PHNjcmlwdD4=",
		"https://pictures.example/a.png", "data:image/png;base64," + strings.Repeat("A", 60000)} {
		link.Slug, link.Tiles = "bad-picture", []config.Tile{{Picture: bad}}
		_, err := c.AddApplication(ctx, link)
		assert.Error(t, err, bad[:30])
	}
	_, err = c.ChangeReach(
		ctx,
		"applications",
		"crew-rota",
		api.ReachChange{Reach: access.InCircle, Circle: &access.Circle{Groups: []string{"office"}}},
	)
	require.NoError(t, err)
	assert.NotContains(t, tiles(t, w, b), "Crew Rota", "outside the circle")
	assert.NotContains(t, tiles(t, w, clerk), "Old tables")
	assert.Contains(t, tiles(t, w, clerk), "Crew Rota")
	_, err = c.ChangeReach(ctx, "applications", "cargo-ledger", api.ReachChange{Reach: access.Closed})
	require.NoError(t, err)
	assert.NotContains(t, tiles(t, w, clerk), "Cargo Ledger")
}

func TestFavouritesSearchAndOwnSessions(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	b, other := toPortal(t, w, "mvoss"), toPortal(t, w, "mvoss")
	require.NoError(t, b.Post(ctx, w.URL+"/tiles", url.Values{"application": {"dockhand"}, "tile": {"0"}, "on": {"1"}}))
	assert.Equal(t, "Dockhand", tiles(t, w, b)[0])
	assert.Equal(t, "Dockhand", tiles(t, w, other)[0], "in every browser")
	stranger := toPortal(t, w, "zoberg")
	assert.NotEqual(t, "Dockhand", tiles(t, w, stranger)[0], "and for nobody else")
	require.NoError(t, b.Post(ctx, w.URL+"/tiles", url.Values{"application": {"dockhand"}, "tile": {"0"}, "on": {"0"}}))
	assert.NotEqual(t, "Dockhand", tiles(t, w, b)[0])
	for _, form := range []url.Values{{"application": {"nothing"}, "tile": {"0"}, "on": {"1"}},
		{"application": {"dockhand"}, "tile": {"7"}, "on": {"1"}}, {"application": {"dockhand"}, "tile": {"x"}}} {
		require.NoError(t, b.Post(ctx, w.URL+"/tiles", form))
		assert.GreaterOrEqual(t, b.Status, 400, "%v", form)
	}
	assert.Contains(t, opens(t, b, w.URL+"/?q=LEDGER"), "Cargo Ledger")
	assert.NotContains(t, b.Text, "Crew Rota")
	assert.Contains(t, opens(t, b, w.URL+"/?q=%3Cscript%3E"), "Nothing here is called so.")
	assert.NotContains(t, b.Text, "<script>")

	assert.Contains(t, opens(t, b, w.URL+"/account"), "mira.voss@saltmere.example")
	assert.Contains(t, b.Text, "Saltmere Staff")
	assert.Equal(t, 1, strings.Count(b.Text, "this browser"))
	assert.Equal(t, 2, strings.Count(b.Text, "since "))
	for _, path := range []string{"/tiles", "/account/sessions"} {
		answer, _ := send(t, b.HTTP, "POST", w.URL+path, "", "", "Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site")
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, path)
	}
	own := b.Find(func(n *html.Node) bool { return n.Data == "button" && attribute(n, "name") == "end" })
	require.NotNil(t, own)
	require.NoError(t, stranger.Post(ctx, w.URL+"/account/sessions", url.Values{"end": {attribute(own, "value")}}))
	assert.Equal(t, 2, strings.Count(opens(t, b, w.URL+"/account"), "since "), "nobody ends the sessions of others")
	require.NoError(t, b.Post(ctx, w.URL+"/account/sessions", url.Values{"end": {"others"}}))
	assert.Contains(t, b.Text, "this browser")
	assert.Equal(t, 1, strings.Count(b.Text, "since "))
	assert.Contains(t, opens(t, other, w.URL+"/"), "Where do you have your account?", "the other browser is out")
	require.NoError(t, b.Post(ctx, w.URL+"/account/sessions", url.Values{"end": {attribute(own, "value")}}))
	assert.NotContains(t, opens(t, b, w.URL+"/"), "Your applications", "and now this one")
}

// TestOwnCredentials takes a second factor away as its owner, freshly signed in, and as nobody else.
func TestOwnCredentials(t *testing.T) {
	t.Parallel()
	now := time.Now()
	w := testbed.World(t, demo.Options{Now: func() time.Time { return now }})
	ctx := t.Context()
	b := w.Walker()
	opens(t, b, w.URL+"/account")
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"harbour-register"}}))
	require.NoError(t, b.Onward(ctx))
	secret, _, err := b.SignInHere(ctx, "runa.holt", w.AgencyPassword(), "", now)
	require.NoError(t, err)
	require.Contains(t, b.Text, "An app that makes codes", "they are on the page that they asked for")
	assert.Contains(t, b.Text, "10 are left")
	one := b.Find(func(n *html.Node) bool { return n.Data == "button" && attribute(n, "name") == "remove" })
	require.NotNil(t, one)
	form := url.Values{"remove": {attribute(one, "value")}}

	answer, _ := send(
		t, b.HTTP, "POST", w.URL+"/account/credentials", "", "", "Origin", "https://evil.example", "Sec-Fetch-Site",
		"cross-site",
	)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	stranger := toPortal(t, w, "mvoss")
	require.NoError(t, stranger.Post(ctx, w.URL+"/account/credentials", form))
	assert.Contains(t, stranger.Text, "Please sign in anew first")
	now = now.Add(11 * time.Minute)
	require.NoError(t, b.Post(ctx, w.URL+"/account/credentials", form))
	assert.Contains(t, b.Text, "within the last ten minutes", "not from an old session")
	assert.Contains(t, opens(t, b, w.URL+"/account"), "An app that makes codes")

	opens(t, b, w.URL+"/sign-out")
	require.NoError(t, b.Submit(ctx, nil))
	opens(t, b, w.URL+"/account")
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"harbour-register"}}))
	require.NoError(t, b.Onward(ctx))
	_, _, err = b.SignInHere(ctx, "runa.holt", w.AgencyPassword(), secret, now)
	require.NoError(t, err)
	require.Contains(t, b.Text, "An app that makes codes", b.Text)
	require.NoError(t, b.Post(ctx, w.URL+"/account/credentials", form))
	assert.NotContains(t, b.Text, "An app that makes codes")
	assert.Contains(t, b.Text, "Where do you have your account?", "they are signed out everywhere")
}

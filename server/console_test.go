package server_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/demo"
	"innergate/gate/ground"
)

// comesIn signs somebody of Saltmere Staff in to the console and tells the role that they have there, if any.
func comesIn(t testing.TB, w *demo.World, user string) string {
	t.Helper()
	ctx, b := t.Context(), w.Walker()
	w.Staff.Forget()
	require.NoError(t, b.Post(ctx, w.URL+"/console-sign-in/saltmere-staff", nil))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {user}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Get(ctx, w.URL+"/api/v1/administrators"))
	if b.Status == http.StatusOK {
		return ground.RoleOwner
	}
	require.NoError(t, b.Get(ctx, w.URL+"/api/v1/applications"))
	if b.Status == http.StatusOK {
		return "some"
	}
	return ""
}

// TestEngineersDontMakeThemselvesOwners changes by every path what a provider says to those who give out roles.
func TestEngineersDontMakeThemselvesOwners(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	rules := api.ConsoleAccess{Rules: []api.AccessRule{
		{Provider: "saltmere-staff", Attribute: "groups", Value: "gate-owners", Role: ground.RoleOwner},
		{Provider: "saltmere-staff", Attribute: "groups", Value: "ferry-office", Role: ground.RoleOwner},
	}}
	require.NoError(t, c.SetConsoleAccess(ctx, rules))
	e := client.New(w.URL, token(t, w, ground.RoleEngineer))
	require.ErrorContains(t, e.SetConsoleAccess(ctx, rules), "role")
	require.Equal(t, ground.RoleOwner, comesIn(t, w, "tkerr"), "before anything was changed")

	staff := func() config.Provider {
		p, err := c.Provider(ctx, "saltmere-staff")
		require.NoError(t, err)
		return p.Provider
	}
	as := staff()
	own := func(p config.Provider) config.Provider {
		p.Mapping = append(p.Mapping, claims.Rule{Set: "groups", Value: "gate-owners"})
		return p
	}
	confirm := func() {
		t.Helper()
		_, err := c.PutProvider(ctx, as, 0)
		require.NoError(t, err)
		require.NoError(t, c.SetConsoleAccess(ctx, rules))
		require.Equal(t, ground.RoleOwner, comesIn(t, w, "tkerr"))
	}
	nobody := func(how string) {
		t.Helper()
		assert.Empty(t, comesIn(t, w, "mvoss"), how)
		assert.Equal(t, "console.unconfirmed", newest(t, w).Code, how)
		a, err := c.ConsoleAccess(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"saltmere-staff"}, a.Unconfirmed, how)
		confirm()
	}

	_, err := e.PutProvider(ctx, own(staff()), 0)
	require.NoError(t, err)
	nobody("by saving")

	proposed := own(staff())
	p, err := e.Propose(ctx, api.NewProposal{Kind: "provider", Slug: "saltmere-staff", Provider: &proposed})
	require.NoError(t, err)
	_, err = e.ApplyProposal(ctx, p.ID, api.ApplyProposal{})
	require.NoError(t, err)
	nobody("by a proposal")

	// An owner's change of the same counts, since owners decide.
	_, err = c.PutProvider(ctx, own(staff()), 0)
	require.NoError(t, err)
	assert.Equal(t, ground.RoleOwner, comesIn(t, w, "mvoss"))
	confirm()

	// By a rule set that the provider uses.
	used := staff()
	used.Mapping = append(used.Mapping, claims.Rule{Use: "ferry-roles"})
	_, err = c.PutProvider(ctx, used, 0)
	require.NoError(t, err)
	set, err := c.RuleSet(ctx, "ferry-roles")
	require.NoError(t, err)
	held := set.RuleSet
	held.Mapping = append(held.Mapping, claims.Rule{Set: "groups", Value: "gate-owners"})
	_, err = e.PutRuleSet(ctx, "ferry-roles", held)
	require.NoError(t, err)
	nobody("by a rule set")

	// What only people see decides nothing.
	shown := staff()
	shown.Description = "Changed by an engineer."
	_, err = e.PutProvider(ctx, shown, 0)
	require.NoError(t, err)
	assert.Equal(t, ground.RoleOwner, comesIn(t, w, "tkerr"))

	// The gate's own directory, in which engineers set passwords and profiles, gives no roles.
	err = c.SetConsoleAccess(ctx, api.ConsoleAccess{Rules: []api.AccessRule{
		{Provider: "harbour-register", Attribute: "groups", Value: "x", Role: ground.RoleOwner},
	}})
	assert.ErrorContains(t, err, "own directory")
}

// TestASecretStaysWithItsHost has an engineer point the token endpoint elsewhere: the client secret does not go along.
func TestASecretStaysWithItsHost(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	e := client.New(w.URL, token(t, w, ground.RoleEngineer))
	list, err := e.Secrets(ctx, "providers", "northquay-stevedores")
	require.NoError(t, err)
	require.NotEmpty(t, list.Items)
	p, err := e.Provider(ctx, "northquay-stevedores")
	require.NoError(t, err)
	held, o := p.Provider, *p.OIDC
	o.TokenEndpoint = w.NorthquayURL + "/another"
	held.OIDC = &o
	_, err = e.PutProvider(ctx, held, 0)
	require.NoError(t, err)
	list, err = e.Secrets(ctx, "providers", "northquay-stevedores")
	require.NoError(t, err)
	require.NotEmpty(t, list.Items, "the same host")
	o.TokenEndpoint = "https://thief.example/token"
	_, err = e.PutProvider(ctx, held, 0)
	require.NoError(t, err)
	list, err = e.Secrets(ctx, "providers", "northquay-stevedores")
	require.NoError(t, err)
	assert.Empty(t, list.Items)
}

// TestTheSecondPersonIsAnotherPerson signs the same person in under another name, who proposes and approves; and has an
// administrator's own token approve what they proposed.
func TestTheSecondPersonIsAnotherPerson(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	require.NoError(t, c.SetConsoleAccess(ctx, api.ConsoleAccess{Rules: []api.AccessRule{
		{Provider: "saltmere-staff", Attribute: "groups", Value: "ferry-office", Role: ground.RoleEngineer},
	}}))
	_, err := c.SetReview(ctx, config.Review{Second: true})
	require.NoError(t, err)
	p := &party{t: t, w: w, clock: &clock{}, id: "innergate", method: "none", scope: "openid"}
	p.server = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.got = r.URL.Query()
	}))
	t.Cleanup(p.server.Close)
	as := func() *client.Client {
		w.Staff.Forget()
		q := p.asks(url.Values{"redirect_uri": {p.server.URL + "/callback"}})
		got, b := p.goes(q.Encode(), "tkerr")
		require.NotEmpty(t, got.Get("code"), b.Text)
		form := redeeming(p, got.Get("code"))
		form.Set("redirect_uri", p.server.URL+"/callback")
		return client.New(w.URL, p.call("/oidc/token", form).text("access_token"))
	}
	first := as()
	held, err := first.Application(ctx, "crew-rota")
	require.NoError(t, err)
	change := held.Application
	change.Description = "Changed."
	made, err := first.Propose(ctx, api.NewProposal{Kind: "application", Slug: "crew-rota", Application: &change})
	require.NoError(t, err)
	for i := range w.Staff.People {
		if w.Staff.People[i].ID != "tkerr" {
			continue
		}
		for j := range w.Staff.People[i].Attributes {
			if values := w.Staff.People[i].Attributes[j].Values; len(values) == 1 && values[0] == "Tamsin Kerr" {
				w.Staff.People[i].Attributes[j].Values = []string{"Somebody Else"}
			}
		}
	}
	second := as()
	me, err := second.Me(ctx)
	require.NoError(t, err)
	require.Contains(t, me.Name, "Somebody Else")
	_, err = second.ApproveProposal(ctx, made.ID)
	assert.ErrorContains(t, err, "You proposed this yourself")
	_, err = c.ApproveProposal(ctx, made.ID)
	assert.NoError(t, err)
}

// TestTokensEndWithTheirMaker removes and demotes administrators who have made tokens.
func TestTokensEndWithTheirMaker(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	g := w.Gate.Console
	id, err := g.AddAdministrator(ctx, ground.System,
		api.NewAdministrator{Name: "Runa", Role: ground.RoleOwner, Password: "a password long enough"})
	require.NoError(t, err)
	by := ground.Actor{ID: "administrator/" + id.ID, Name: "Runa", Role: ground.RoleOwner, Kind: "administrator"}
	works := func(secret string) bool {
		_, err := client.New(w.URL, secret).Me(ctx)
		return err == nil
	}
	make := func(role string) string {
		made, err := g.NewToken(ctx, by, api.NewToken{Name: role, Role: role, Days: 1})
		require.NoError(t, err)
		require.True(t, works(made.Secret))
		return made.Secret
	}
	owner, viewer := make(ground.RoleOwner), make(ground.RoleViewer)
	require.NoError(t, g.ChangeAdministrator(ctx, ground.System, id.ID, api.ChangeAdministrator{Role: ground.RoleEngineer}))
	assert.False(t, works(owner), "more than they may do themselves")
	assert.True(t, works(viewer))
	require.NoError(t, g.RemoveAdministrator(ctx, ground.System, id.ID))
	assert.False(t, works(viewer))
}

// TestWhatDecidesForOpenApplicationsNeedsTwo has one engineer alone change, where a second person is demanded, what no one
// thinks of as configuration.
func TestWhatDecidesForOpenApplicationsNeedsTwo(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	require.NoError(t, w.Walker().SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	_, _ = through(t, w, "lantern-pass", w.Lantern.People[0].ID)
	mira := known(t, w, "Mira")[0].ID
	reference := newest(t, w).Reference
	_, err := c.SetReview(ctx, config.Review{Second: true})
	require.NoError(t, err)
	e := client.New(w.URL, token(t, w, ground.RoleEngineer))
	set, err := e.RuleSet(ctx, "ferry-roles")
	require.NoError(t, err)
	rules := set.RuleSet
	rules.Mapping = append(rules.Mapping, claims.Rule{Set: "uid", Value: "jhale"})
	profile := claims.Bag{"name": {"Mira Voss"}, "preferred_username": {"jhale"}}
	groups := []string{"office"}
	for name, do := range map[string]func(*client.Client) error{
		"a rule set": func(as *client.Client) error { _, err := as.PutRuleSet(ctx, "ferry-roles", rules); return err },
		"a secret": func(as *client.Client) error {
			_, err := as.KeepSecret(ctx, "northquay-stevedores", api.TheirSecret{Value: "another-secret-of-theirs-for-the-gate"})
			return err
		},
		"a client's secret": func(as *client.Client) error {
			_, err := as.NewSecret(ctx, "cargo-ledger", api.NewSecret{})
			return err
		},
		"a link": func(as *client.Client) error { _, err := as.LinkPerson(ctx, mira, reference); return err },
		"a profile": func(as *client.Client) error {
			_, err := as.PutPerson(ctx, mira, api.SavePerson{Profile: profile})
			return err
		},
		"a group": func(as *client.Client) error {
			_, err := as.PutPerson(ctx, mira, api.SavePerson{Profile: claims.Bag{"name": {"Mira Voss"}}, Groups: &groups})
			return err
		},
	} {
		assert.ErrorContains(t, do(e), "can't be proposed", name)
		if err := do(c); err != nil {
			assert.NotContains(t, err.Error(), "can't be proposed", name)
		}
	}
}

// TestADeletedApplicationLeavesNothingBehind deletes an application that people use, and restores it.
func TestADeletedApplicationLeavesNothingBehind(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	w, ctx := p.w, t.Context()
	c := w.Client()
	first := p.tokens(nil)
	require.Equal(t, 200, first.status, first.raw)
	require.Equal(t, 200, p.userinfo(first.text("access_token")).status)
	require.NoError(t, c.Assign(ctx, "tide-archive", api.Assignment{Kind: "group", Who: "crew"}))
	berths, cookies := atBerths(t, w, "zoberg")
	require.NotNil(t, berths)
	for _, slug := range []string{"tide-archive", "berth-board"} {
		before, err := c.Application(ctx, slug)
		require.NoError(t, err)
		require.NoError(t, c.Delete(ctx, "applications", slug))
		_, err = c.AddApplication(ctx, before.Application)
		require.NoError(t, err)
	}
	assert.Equal(t, 401, p.userinfo(first.text("access_token")).status)
	list, err := c.Assignments(ctx, "tide-archive", client.Page{})
	require.NoError(t, err)
	assert.Empty(t, list.Items)
	status, body := raw(t, w, "GET / HTTP/1.1\nHost: HOST\nAccept: application/json\nCookie: "+cookies+"\nConnection: close\n\n")
	assert.Equal(t, http.StatusUnauthorized, status, body)
}

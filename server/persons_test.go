package server_test

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/demo"
	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/standin"
	"innergate/store"
	"innergate/testbed"
)

// signsIn walks to Crew Rota as somebody, and tells how it ended: a code of an explanation, or nothing where all went
// well. TestLinksMadeByHand links somebody to a sign-in that found nobody.
func TestLinksMadeByHand(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.Admission = "refuse" })
	refused := func(user string) string {
		_, code := signsIn(t, w, user)
		require.Equal(t, "match.stranger", code)
		list, err := c.Traces(ctx, client.Page{Limit: 1})
		require.NoError(t, err)
		return list.Items[0].Reference
	}
	first := refused("ivale")
	p, err := c.AddPerson(ctx, api.SavePerson{Profile: claims.Bag{"name": {"Iris of the Bow"}}})
	require.NoError(t, err)
	p, err = c.LinkPerson(ctx, p.ID, strings.ToLower(first))
	require.NoError(t, err)
	require.Len(t, p.Links, 1)
	_, code := signsIn(t, w, "ivale")
	assert.Empty(t, code, "the next sign-in finds the person")

	other, err := c.AddPerson(ctx, api.SavePerson{Profile: claims.Bag{"name": {"Another"}}})
	require.NoError(t, err)
	second := refused("zoberg")
	b := w.Walker()
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	list, err := c.Traces(ctx, client.Page{Limit: 1})
	require.NoError(t, err)
	for what, try := range map[string][3]string{
		"the same once more":                        {p.ID, first, "linked-already"},
		"a second identifier of one provider":       {p.ID, second, "linked-otherwise"},
		"an identifier that is somebody else's":     {other.ID, first, "linked-to-another"},
		"a sign-in in which nobody was vouched for": {other.ID, list.Items[0].Reference, "nothing-to-link"},
		"a number that is none":                     {other.ID, "NOT-THERE", "not-found"},
		"a person who is none":                      {"01ARZ3NDEKTSV4RRFFQ69G5FAV", first, "not-found"},
	} {
		_, err := c.LinkPerson(ctx, try[0], try[1])
		problem := &api.Problem{}
		require.ErrorAs(t, err, &problem, what)
		assert.Equal(t, try[2], problem.Code, what)
	}
	viewer, err := c.NewToken(ctx, api.NewToken{Name: "v", Role: "viewer", Days: 1})
	require.NoError(t, err)
	_, err = client.New(w.URL, viewer.Secret).LinkPerson(ctx, other.ID, second)
	assert.Error(t, err)
}

func signsIn(t testing.TB, w *demo.World, user string) (b *demo.Walker, code string) {
	t.Helper()
	b = w.Walker()
	_ = b.SignIn(context.Background(), w.RotaURL+"/sign-in", user)
	list, err := w.Gate.Traces.Traces(context.Background(), store.Page{Limit: 1}, traces.Filter{Application: "crew-rota"})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	if list.Items[0].Outcome == "signed-in" {
		return b, ""
	}
	return b, list.Items[0].Code
}

// set changes a provider's configuration.
func set(t testing.TB, w *demo.World, slug string, f func(*config.Provider)) {
	t.Helper()
	p, err := w.Client().Provider(t.Context(), slug)
	require.NoError(t, err)
	held := p.Provider
	f(&held)
	_, err = w.Client().PutProvider(t.Context(), held, 0)
	require.NoError(t, err)
}

func known(t testing.TB, w *demo.World, text string) []api.PersonLine {
	t.Helper()
	list, err := w.Client().People(t.Context(), client.Page{Search: text})
	require.NoError(t, err)
	return list.Items
}

func add(t testing.TB, w *demo.World, profile claims.Bag) *api.Person {
	t.Helper()
	p, err := w.Client().AddPerson(t.Context(), api.SavePerson{Profile: profile})
	require.NoError(t, err)
	return p
}

// throughNorthquay has Crew Rota sign people in with the partner's provider.
func throughNorthquay(t testing.TB, w *demo.World) {
	t.Helper()
	change(t, w, func(a *config.Application) { a.Providers = []string{"northquay-stevedores"} })
}

func claimsOf(w *demo.World, user string) map[string]any {
	i := slices.IndexFunc(w.Northquay.People, func(p standin.Person) bool { return p.ID == user })
	return w.Northquay.People[i].Claims
}

func TestWhoIsKnownIsFoundAndLinked(t *testing.T) {
	t.Parallel()
	w := world(t)
	held := add(t, w, claims.Bag{"name": {"Mira Voss"}, "preferred_username": {"mvoss"}, "phone_number": {"+44 1632 960001"}})
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	p, err := w.Client().Person(t.Context(), held.ID)
	require.NoError(t, err)
	require.Len(t, p.Links, 1, "the first sign-in links the person who was entered by hand")
	assert.Equal(t, "Saltmere Staff", p.Links[0].Provider)
	assert.Equal(t, []string{"mira.voss@saltmere.example"}, p.Profile["email"])
	assert.Equal(t, []string{"+44 1632 960001"}, p.Profile["phone_number"], "what the provider does not send stays")
	assert.Equal(t, "Saltmere Staff", p.Sources["email"])
	assert.Equal(t, "hand", p.Sources["phone_number"])
	assert.Equal(t, []string{"crew"}, []string{p.Groups[0].Slug})
	assert.Equal(t, "mvoss", p.Accounts[0].Subject)
	lines, err := w.Client().Journal(t.Context(), client.Page{})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(lines.Items), "linked")

	// The link counts from now on, whatever the name becomes.
	in := api.SavePerson{Profile: p.Profile}
	in.Profile["preferred_username"] = []string{"someone-else"}
	_, err = w.Client().PutPerson(t.Context(), p.ID, in)
	require.NoError(t, err)
	_, code = signsIn(t, w, "mvoss")
	assert.Empty(t, code)
	assert.Len(t, known(t, w, "Mira"), 1)
}

func TestMatchingNeverGuesses(t *testing.T) {
	t.Parallel()
	w := world(t)
	add(t, w, claims.Bag{"name": {"Jonas Hale"}, "preferred_username": {"JHale"}})
	_, code := signsIn(t, w, "jhale")
	assert.Equal(t, "match.differs", code, "another case is another name")
	add(t, w, claims.Bag{"name": {"Zoë One"}, "preferred_username": {"zoberg"}})
	add(t, w, claims.Bag{"name": {"Zoë Two"}, "preferred_username": {"zоberg"}}) // a Cyrillic о
	b, code := signsIn(t, w, "zoberg")
	assert.Equal(t, "match.several", code)
	assert.Contains(t, b.Text, "Two accounts here could be yours")
	assert.NotContains(t, b.Text, "Zoë One", "the page tells no values")

	inactive := add(t, w, claims.Bag{"name": {"Rowan Pike"}, "preferred_username": {"rpike"}})
	off := false
	_, err := w.Client().PutPerson(t.Context(), inactive.ID, api.SavePerson{Profile: inactive.Profile, Active: &off})
	require.NoError(t, err)
	_, code = signsIn(t, w, "rpike")
	assert.Equal(t, "match.inactive", code)

	// A person who is linked to one subject of a provider is not found by value for another one.
	_, code = signsIn(t, w, "mvoss")
	require.Empty(t, code)
	for i := range w.Staff.People {
		if w.Staff.People[i].ID == "nstrand" {
			w.Staff.People[i].Attributes[0].Values = []string{"mvoss"}
		}
	}
	_, code = signsIn(t, w, "nstrand")
	assert.Equal(t, "match.already-linked", code)
}

// TestAProviderSpeaksForItsOwnOnly has the partner's provider assert what is not its own to assert.
func TestAProviderSpeaksForItsOwnOnly(t *testing.T) {
	t.Parallel()
	w := world(t)
	throughNorthquay(t, w)
	mine := add(t, w, claims.Bag{"name": {"Ivo Tamm"}, "email": {"ivo.tamm@northquay.example"}})
	_, code := signsIn(t, w, "ivo.tamm")
	require.Empty(t, code)
	p, err := w.Client().Person(t.Context(), mine.ID)
	require.NoError(t, err)
	assert.Len(t, p.Links, 1, "a proven address within its domain is matched")

	add(t, w, claims.Bag{"name": {"Mira Voss"}, "email": {"mira.voss@saltmere.example"}})
	claimsOf(w, "lene.aas")["email"] = "mira.voss@saltmere.example"
	_, code = signsIn(t, w, "lene.aas")
	assert.Equal(t, "match.foreign-domain", code)

	add(t, w, claims.Bag{"name": {"Paul Okoro"}, "email": {"paul.okoro@northquay.example"}})
	claimsOf(w, "paul.okoro")["email_verified"] = false
	_, code = signsIn(t, w, "paul.okoro")
	assert.Equal(t, "match.mail-unverified", code)
	assert.Len(t, known(t, w, "paul.okoro"), 1, "nobody is doubled")

	// A user name that looks like an address proves no address.
	set(t, w, "northquay-stevedores", func(p *config.Provider) {
		p.Mapping[0] = claims.Rule{Set: "preferred_username", From: claims.Names{"email"}}
		p.Mapping = slices.DeleteFunc(p.Mapping, func(r claims.Rule) bool { return r.Set == "email" })
	})
	_, code = signsIn(t, w, "lene.aas")
	assert.Equal(t, "subject.empty", code, "she has no name that the provider may give, and is not Mira")
	assert.Len(t, known(t, w, "mira.voss@saltmere.example"), 1)
}

func TestGroupsComeAndGoWithTheirClaim(t *testing.T) {
	t.Parallel()
	w := world(t)
	_, code := signsIn(t, w, "tkerr") // a harbour master: office and quay
	require.Empty(t, code)
	id := known(t, w, "Tamsin")[0].ID
	slugs := func() (out []string) {
		p, err := w.Client().Person(t.Context(), id)
		require.NoError(t, err)
		for _, g := range p.Groups {
			out = append(out, g.Slug+" by "+strings.Join(g.By, "+"))
		}
		return out
	}
	assert.Equal(t, []string{"office by Saltmere Staff", "quay by Saltmere Staff"}, slugs())
	p, err := w.Client().Person(t.Context(), id)
	require.NoError(t, err)
	_, err = w.Client().PutPerson(t.Context(), id, api.SavePerson{Profile: p.Profile, Groups: &[]string{"bridge", "quay"}})
	require.NoError(t, err)
	for i := range w.Staff.People {
		if w.Staff.People[i].ID == "tkerr" {
			last := len(w.Staff.People[i].Attributes) - 1
			w.Staff.People[i].Attributes[last].Values = []string{"staff", "ferry-office"}
		}
	}
	_, code = signsIn(t, w, "tkerr")
	require.Empty(t, code)
	assert.Equal(
		t,
		[]string{"bridge by hand", "office by Saltmere Staff", "quay by hand"},
		slugs(),
		"what the provider no longer says is gone, what was given by hand stays",
	)
}

func TestProfilesKeepWhatTheRulesSay(t *testing.T) {
	t.Parallel()
	w := world(t)
	set(t, w, "saltmere-staff", func(p *config.Provider) {
		p.Keep = map[string]string{"name": people.LocalWins, "family_name": people.FirstStays}
	})
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	id := known(t, w, "Mira")[0].ID
	p, err := w.Client().Person(t.Context(), id)
	require.NoError(t, err)
	p.Profile["name"] = []string{"Mira the Purser"}
	_, err = w.Client().PutPerson(t.Context(), id, api.SavePerson{Profile: p.Profile})
	require.NoError(t, err)
	for i := range w.Staff.People {
		if w.Staff.People[i].ID == "mvoss" {
			w.Staff.People[i].Attributes[2].Values, w.Staff.People[i].Attributes[3].Values = []string{"Miranda"}, []string{"Vosswell"}
		}
	}
	_, code = signsIn(t, w, "mvoss")
	require.Empty(t, code)
	p, err = w.Client().Person(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, []string{"Mira the Purser"}, p.Profile["name"])
	assert.Equal(t, []string{"Voss"}, p.Profile["family_name"])
	assert.Equal(t, []string{"Miranda"}, p.Profile["given_name"])
}

func TestPassedThroughNobodyIsStored(t *testing.T) {
	t.Parallel()
	w := world(t)
	change(t, w, func(a *config.Application) {
		a.Subject = config.Subject{Source: "pairwise"}
		a.Mapping = append(
			a.Mapping,
			claims.Rule{Set: "kind", From: claims.Names{people.PersonType}, Steps: []claims.Step{{Word: "default", Arg: "unknown"}}},
		)
	})
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.Admission, p.Matching, p.Grants = "pass", nil, nil })
	b, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	first := b.Inner("nameid")
	b, code = signsIn(t, w, "mvoss")
	require.Empty(t, code)
	assert.Equal(t, first, b.Inner("nameid"), "the identifier is the same each time")
	b, _ = signsIn(t, w, "jhale")
	assert.NotEqual(t, first, b.Inner("nameid"))
	assert.Len(t, known(t, w, ""), 2, "nobody is stored beside the agency's two")
}

func TestAccessIsDecidedAtTheSignIn(t *testing.T) {
	t.Parallel()
	w := world(t)
	c, ctx := w.Client(), t.Context()
	policy := func(p access.Policy) {
		t.Helper()
		_, err := c.SetAccess(ctx, "crew-rota", p)
		require.NoError(t, err)
	}
	policy(access.Policy{To: access.Assigned})
	_, code := signsIn(t, w, "mvoss")
	assert.Equal(t, "access.not-assigned", code)
	assert.Empty(t, known(t, w, "Mira"), "who is refused is not created")
	require.NoError(t, c.Assign(ctx, "crew-rota", api.Assignment{Kind: "group", Who: "crew", Roles: []string{"rota-reader"}}))
	_, code = signsIn(t, w, "mvoss")
	assert.Empty(t, code, "a group that the provider gives at this very sign-in counts")
	id := known(t, w, "Mira")[0].ID
	require.NoError(t, c.Assign(ctx, "crew-rota", api.Assignment{Kind: "person", Who: id, Roles: []string{"rota-editor"}}))
	change(t, w, func(a *config.Application) {
		a.Mapping = append(
			a.Mapping,
			claims.Rule{Set: "assigned", From: claims.Names{people.AssignedRoles}},
			claims.Rule{Set: "member", From: claims.Names{people.Memberships}},
		)
	})
	b, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	assert.Contains(t, b.Text, "rota-editor")
	assert.Contains(t, b.Text, "rota-reader")

	policy(access.Policy{To: access.Everybody, Requires: []string{"ferry-bridge"}})
	_, code = signsIn(t, w, "mvoss")
	assert.Equal(t, "access.group-required", code)
	_, code = signsIn(t, w, "jhale")
	assert.Empty(t, code)
	policy(access.Policy{
		To:    access.Everybody,
		Rules: []access.Rule{{Name: "clerks", If: &access.Condition{Groups: []string{"office"}}, Then: access.Refuse}},
	})
	_, code = signsIn(t, w, "lquill")
	assert.Equal(t, "access.refused", code)
	policy(access.Policy{
		To:        access.Everybody,
		Otherwise: access.Refuse,
		Rules:     []access.Rule{{If: &access.Condition{Networks: []string{"10.0.0.0/8"}}, Then: access.Allow}},
	})
	_, code = signsIn(t, w, "mvoss")
	assert.Equal(t, "access.no-rule", code)

	answer, err := c.ExplainAccess(ctx, "crew-rota", api.AccessQuestion{Person: id})
	require.NoError(t, err)
	assert.Equal(t, access.Refuse, answer.Result)
	assert.Equal(t, []string{"rule 1: the address is outside 10.0.0.0/8"}, answer.Passed)
	answer, err = c.ExplainAccess(ctx, "crew-rota", api.AccessQuestion{Person: id, Network: "10.1.2.3"})
	require.NoError(t, err)
	assert.Equal(t, access.Allow, answer.Result, "the same rules answer what would be")

	_, err = c.SetAccess(
		ctx,
		"crew-rota",
		access.Policy{Rules: []access.Rule{{If: &access.Condition{Groups: []string{"nobody"}}, Then: access.Allow}}},
	)
	assert.ErrorContains(t, err, "no group with the short name")
	assert.ErrorContains(t, c.DeleteGroup(ctx, "crew"), "is named by")
}

func TestAStrongerSignInIsAskedOfTheProvider(t *testing.T) {
	t.Parallel()
	w := world(t)
	w.Northquay.SayContexts(true)
	throughNorthquay(t, w)
	_, err := w.Client().
		SetAccess(t.Context(), "crew-rota",
			access.Policy{To: access.Everybody, Rules: []access.Rule{{Name: "partners", Then: access.Stronger}}})
	require.NoError(t, err)
	_, code := signsIn(t, w, "ivo.tamm")
	assert.Equal(t, "access.stronger-impossible", code)
	set(t, w, "northquay-stevedores", func(p *config.Provider) { p.Stronger = "harbour-silver" })
	_, code = signsIn(t, w, "ivo.tamm")
	assert.Empty(t, code, "the provider is asked again, with what proves a second factor there")
	set(t, w, "northquay-stevedores", func(p *config.Provider) { p.Stronger = "harbour-gold" })
	_, code = signsIn(t, w, "ivo.tamm")
	assert.Equal(t, "oidc.context-unmet", code, "what is not proven is not believed")
}

// TestAnAssignerAssigns gives out a role for one application, which leads nowhere else.
func TestAnAssignerAssigns(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	id := known(t, w, "Mira")[0].ID
	made, err := w.Gate.Console.NewToken(
		ctx,
		ground.System,
		api.NewToken{Name: "crew office", Role: ground.RoleAssigner, Applications: []string{"crew-rota"}},
	)
	require.NoError(t, err)
	office := client.New(w.URL, made.Secret)
	require.NoError(t, office.Assign(ctx, "crew-rota", api.Assignment{Kind: "person", Who: id}))
	list, err := office.Assignments(ctx, "crew-rota", client.Page{})
	require.NoError(t, err)
	assert.Equal(t, "Mira Voss", list.Items[0].Name)
	require.NoError(t, office.Unassign(ctx, "crew-rota", "person", id))
	for what, err := range map[string]error{
		"another application": office.Assign(ctx, "cargo-ledger", api.Assignment{Kind: "person", Who: id}),
		"a person":            office.DeletePerson(ctx, id),
		"a group":             office.DeleteGroup(ctx, "crew"),
	} {
		var p *api.Problem
		require.ErrorAs(t, err, &p, what)
		assert.Equal(t, 403, p.Status, what)
	}
	_, err = office.Person(ctx, id)
	assert.ErrorContains(t, err, "role")
	_, err = w.Gate.Console.NewToken(ctx, ground.System, api.NewToken{Name: "x", Role: ground.RoleAssigner})
	assert.ErrorContains(t, err, "needs the applications")
}

func TestTwoFirstSignInsAtOnceMakeOnePerson(t *testing.T) {
	t.Parallel()
	w := world(t)
	held := add(t, w, claims.Bag{"name": {"Mira Voss"}, "preferred_username": {"mvoss"}})
	var wait sync.WaitGroup
	for range 6 {
		for _, user := range []string{"jhale", "mvoss"} {
			wait.Go(func() {
				b := w.Walker()
				if assert.NoError(t, b.SignIn(context.Background(), w.RotaURL+"/sign-in", user)) {
					assert.Equal(t, user, b.Inner("nameid"), "none of them is refused because of another")
				}
			})
		}
	}
	wait.Wait()
	assert.Len(t, known(t, w, "Jonas"), 1)
	p, err := w.Client().Person(t.Context(), held.ID)
	require.NoError(t, err)
	assert.Len(t, p.Links, 1)
}

func TestRuleSetsActOnAllTheirUsers(t *testing.T) {
	t.Parallel()
	w := world(t)
	c, ctx := w.Client(), t.Context()
	set, err := c.RuleSet(ctx, "ferry-roles")
	require.NoError(t, err)
	require.Len(t, set.UsedBy, 1)
	draft := set.RuleSet
	draft.Mapping = claims.Mapping{{Set: "roles", Value: "hand"}, {Set: "site", Value: "harbour"}}
	effects, err := c.PreviewRuleSet(ctx, "ferry-roles", draft)
	require.NoError(t, err)
	assert.Equal(t, []string{"makes roles another way", "sets site from now on"}, effects.Items[0].Changes)
	_, err = c.PutRuleSet(ctx, "ferry-roles", draft)
	require.NoError(t, err)
	b, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	assert.Contains(t, b.Text, "harbour")
	assert.ErrorContains(t, c.DeleteRuleSet(ctx, "ferry-roles"), "is used by Crew Rota")
	draft.Mapping = claims.Mapping{{Use: "other"}}
	_, err = c.PutRuleSet(ctx, "ferry-roles", draft)
	assert.ErrorContains(t, err, "can't use another one")
	app, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	held := app.Application
	held.Mapping = claims.Mapping{{Use: "nothing"}}
	_, err = c.PutApplication(ctx, held, 0)
	assert.ErrorContains(t, err, "no rule set with the short name")
}

// TestPreviewTellsWhatTheSignInDoes previews a real sign-in's trace and compares with what was sent.
func TestPreviewTellsWhatTheSignInDoes(t *testing.T) {
	t.Parallel()
	w := world(t)
	c, ctx := w.Client(), t.Context()
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	traces, err := w.Gate.Traces.Traces(ctx, store.Page{Limit: 1}, traces.Filter{})
	require.NoError(t, err)
	got, err := c.Preview(ctx, api.Preview{Application: "crew-rota", Trace: traces.Items[0].Reference})
	require.NoError(t, err)
	assert.Nil(t, got.Refused)
	assert.Equal(t, []string{"purser", "crew"}, sortedBack(got.Out.Attributes["roles"]))
	assert.Equal(t, "mvoss", got.Subject)
	assert.Contains(t, got.Sent, "<saml:Assertion")
	assert.NotContains(t, got.Sent, "Signature", "a preview can't be used as an assertion")
	assert.Empty(t, got.Differences)

	a, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	draft := a.Application
	draft.Mapping = draft.Mapping[:1]
	draft.Access = access.Policy{To: access.Assigned}
	got, err = c.Preview(ctx, api.Preview{Application: "crew-rota", Person: known(t, w, "Mira")[0].ID, DraftApplication: &draft})
	require.NoError(t, err)
	assert.Equal(t, access.Refuse, got.Access.Result)
	assert.Contains(t, fmt.Sprint(got.Differences), "displayName")
	stranger, err := c.Preview(ctx, api.Preview{Provider: "lantern-pass", Sample: `{"account":{"number":"70012"}}`})
	require.NoError(t, err)
	assert.Equal(t, []string{"70012@lantern.example"}, stranger.Profile["preferred_username"])
	assert.Len(t, known(t, w, ""), 3, "a preview makes nobody")
}

func sortedBack(list []string) []string {
	out := slices.Sorted(slices.Values(list))
	slices.Reverse(out)
	return out
}

func TestImportIsAllOrNothing(t *testing.T) {
	t.Parallel()
	w := world(t)
	c, ctx := w.Client(), t.Context()
	run := func(text string, by string) *api.Import {
		t.Helper()
		job, err := c.NewImport(ctx, api.NewImport{Form: "csv", By: by})
		require.NoError(t, err)
		half := len(text) / 2
		job, err = c.SendImport(ctx, job.ID, 0, []byte(text[:half]))
		require.NoError(t, err)
		_, err = c.SendImport(ctx, job.ID, int64(half+1), []byte(text[half+1:]))
		assert.ErrorContains(t, err, "octets are here")
		job, err = c.SendImport(ctx, job.ID, int64(half), []byte(text[half:]))
		require.NoError(t, err)
		_, err = c.WriteImport(ctx, job.ID)
		assert.ErrorContains(t, err, "have not been looked at")
		_, err = c.CheckImport(ctx, job.ID)
		require.NoError(t, err)
		require.Eventually(
			t,
			func() bool { job, err = c.Import(ctx, job.ID); return err == nil && job.State != "running" },
			testbed.Patience,
			10*time.Millisecond,
		)
		return job
	}
	var b strings.Builder
	b.WriteString("external_id,name,email,groups at the gate\n")
	for i := range 3000 {
		switch i {
		case 700:
			b.WriteString("7,Seven,no mail,crew\n")
		case 1500:
			b.WriteString("p1500,Nobody,,ghosts\n")
		case 2999:
			b.WriteString("p5,Again,,\n")
		default:
			fmt.Fprintf(&b, "p%d,Person %d,p%d@saltmere.example,crew|quay\n", i, i, i)
		}
	}
	job := run(b.String(), "")
	assert.Equal(t, 3, job.Bad)
	assert.Equal(
		t,
		[]api.ImportProblem{
			{Line: 702, Message: `"no mail" is no mail address.`},
			{Line: 1502, Message: `There is no group with the short name "ghosts".`},
			{Line: 3001, Message: `"p5" stands in line 7 already, or something that looks like it.`},
		},
		job.Problems,
	)
	_, err := c.WriteImport(ctx, job.ID)
	assert.ErrorContains(t, err, "3 lines are bad, so nothing was written")
	assert.Empty(t, known(t, w, "Person"))

	good := strings.NewReplacer("7,Seven,no mail,crew\n", "", "p1500,Nobody,,ghosts\n", "", "p5,Again,,\n", "").Replace(b.String())
	job = run(good, "")
	assert.Equal(t, 2997, job.Created)
	_, err = c.WriteImport(ctx, job.ID)
	require.NoError(t, err)
	require.Eventually(
		t,
		func() bool { job, err = c.Import(ctx, job.ID); return err == nil && job.State == "done" },
		testbed.Patience,
		10*time.Millisecond,
	)
	assert.Equal(t, 2997, job.Created)
	groups, err := c.Groups(ctx, client.Page{Search: "quay"})
	require.NoError(t, err)
	assert.Equal(t, 2997, groups.Items[0].People)
	again := run(good, "external_id")
	assert.Equal(t, 2997, again.Unchanged, "the same file changes nothing the second time")
	owner := client.New(w.URL, token(t, w, ground.RoleOwner))
	sheet, err := owner.ExportPeople(ctx, "csv")
	require.NoError(t, err)
	assert.Equal(t, 3000, strings.Count(string(sheet), "\n"))
	_, err = client.New(w.URL, token(t, w, ground.RoleEngineer)).ExportPeople(ctx, "csv")
	assert.ErrorContains(t, err, "role", "everybody's data in one file is for owners")
}

// TestUnassignedEndsTheTokens takes an assignment away: the next exchange of a refresh token is refused.
func TestUnassignedEndsTheTokens(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	ctx := t.Context()
	first := p.tokens(nil)
	require.Equal(t, 200, first.status, first.raw)
	refresh := func(token string) answer {
		return p.call("/oidc/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}})
	}
	p.set(func(a *config.Application) { a.Access, a.OIDC.Introspection = access.Policy{To: access.Assigned}, true })
	require.NoError(t, p.w.Client().Assign(ctx, "tide-archive", api.Assignment{Kind: "group", Who: "crew"}))
	second := refresh(first.text("refresh_token"))
	require.Equal(t, 200, second.status, "assigned through a group: "+second.raw)
	require.NoError(t, p.w.Client().Unassign(ctx, "tide-archive", "group", "crew"))
	bearer := second.text("access_token")
	assert.Equal(t, 401, p.userinfo(bearer).status, "its access token tells nothing any more, at once")
	assert.Contains(t, p.call("/oidc/introspect", url.Values{"token": {bearer}}).raw, `"active":false`)
	assert.Equal(t, "invalid_grant", refresh(second.text("refresh_token")).err())
}

// TestAGuestHasNoEmployeesAddress has a holder of an account that anybody can have enter an employee's mail address there,
// and a partner give its own people the company's user names and groups.
func TestAGuestHasNoEmployeesAddress(t *testing.T) {
	t.Parallel()
	w := world(t)
	_, employee := through(t, w, "saltmere-staff", "mvoss")
	require.Equal(t, "mira.voss@saltmere.example", employee.Inner("claim-email"))
	guest := w.Lantern.People[0]
	guest.ID, guest.Claims = "99999", maps.Clone(guest.Claims)
	guest.Claims["email"] = "mira.voss@saltmere.example"
	w.Lantern.People = append(w.Lantern.People, guest)
	tr, b := through(t, w, "lantern-pass", "99999")
	require.Equal(t, "signed-in", tr.Outcome, tr.Code)
	assert.Empty(t, b.Inner("claim-email"))
	dropped := false
	for _, e := range tr.Entries {
		c := e.Check
		dropped = dropped || c != nil && c.Name == "provider.speaks-for" && !c.OK && strings.Contains(c.Got, "mira.voss@saltmere.example")
	}
	assert.True(t, dropped, "the trace tells what was dropped")
	// An address of nobody's domain is the guest's own, as long as nobody else is known by it.
	_, b = through(t, w, "lantern-pass", w.Lantern.People[0].ID)
	own := b.Inner("claim-email")
	require.NotEmpty(t, own)
	guest.ID, guest.Claims = "99998", maps.Clone(guest.Claims)
	guest.Claims["email"] = own
	w.Lantern.People = append(w.Lantern.People, guest)
	_, b = through(t, w, "lantern-pass", "99998")
	assert.Empty(t, b.Inner("claim-email"))

	claimsOf(w, "ivo.tamm")["roles"] = []string{"quay-crane", "ferry-office"}
	_, b = through(t, w, "northquay-stevedores", "ivo.tamm")
	assert.Equal(t, "[quay-crane]", b.Inner("claim-groups"))
}

// TestOneNameIsOnePersonAtAnApplication has a partner's person be called as an employee is, at an application behind the
// gate that knows people by nothing but a name.
func TestOneNameIsOnePersonAtAnApplication(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	b, _ := atBerths(t, w, "jhale")
	require.Equal(t, "jhale", b.Inner("person"))
	w.Northquay.People = append(w.Northquay.People, standin.Person{ID: "jhale", Name: "Somebody Else", Claims: map[string]any{
		"given_name": "Somebody", "family_name": "Else", "email": "x@northquay.example", "email_verified": true,
	}})
	partner := func() *demo.Walker {
		b := w.Walker()
		b.Provider = "northquay-stevedores"
		_ = b.SignIn(ctx, w.BerthsURL+"/", "jhale")
		return b
	}
	assert.Equal(t, "jhale@northquay.example", partner().Inner("person"))
	// Where the provider may speak for any name, the second is refused.
	set(t, w, "northquay-stevedores", func(p *config.Provider) {
		p.Matching.Unscoped = true
		p.Mapping[0] = claims.Rule{Set: "preferred_username", From: claims.Names{"sub"}}
	})
	assert.Empty(t, partner().Inner("person"))
	assert.Equal(t, "subject.taken", newest(t, w).Code)
	set(t, w, "northquay-stevedores", func(p *config.Provider) {
		p.Mapping[0] = claims.Rule{Set: "preferred_username", From: claims.Names{"sub"}, Steps: []claims.Step{{Word: "upper"}}}
	})
	assert.Empty(t, partner().Inner("person"), "in other letters too")
}

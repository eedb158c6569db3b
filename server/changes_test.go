package server_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/trace"
	"innergate/gate/changes"
	"innergate/gate/ground"
	"innergate/server/management"
	"innergate/testbed"
)

// TestAProposedChangeIsRehearsed lets a change hold in its rehearsal, begun at the application and at the gate, and
// nowhere else.
func TestAProposedChangeIsRehearsed(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	held, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	change := held.Application
	change.Mapping = claims.Mapping{{Set: "uid", From: claims.Names{"email"}}}
	p, err := c.Propose(ctx, api.NewProposal{Kind: "application", Slug: "crew-rota", Application: &change})
	require.NoError(t, err)
	for _, flow := range []string{"sp", "idp"} {
		r, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: flow, Proposal: p.ID})
		require.NoError(t, err)
		b := w.Walker()
		require.NoError(t, b.Rehearse(ctx, r.Link, "mvoss"))
		assert.Contains(t, b.Text, "ends here", flow)
		tr := newest(t, w)
		assert.Equal(t, "stopped", tr.Outcome, flow)
		assert.Equal(t, []string{"mira.voss@saltmere.example"}, goes(tr, "uid"), "what would be sent is shown")
		assert.Empty(t, goes(tr, "displayName"), flow)
		for _, e := range tr.Entries {
			assert.False(t, e.Message != nil && e.Message.To == trace.Application, "nothing is sent to the application")
		}
	}
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Contains(t, b.Text, "displayName", "everybody else is as before")

	// The same for a provider: here its mapping leaves the name away that the application needs.
	staff, err := c.Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	other := staff.Provider
	other.Mapping = claims.Mapping{{Set: "preferred_username", From: claims.Names{"urn:oid:2.5.4.42"}}}
	q, err := c.Propose(ctx, api.NewProposal{Kind: "provider", Slug: "saltmere-staff", Provider: &other})
	require.NoError(t, err)
	r, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp", Proposal: q.ID})
	require.NoError(t, err)
	b = w.Walker()
	require.NoError(t, b.Rehearse(ctx, r.Link, "mvoss"))
	assert.Equal(t, "stopped", newest(t, w).Outcome)
	_, err = c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp", Proposal: q.ID, SignOut: true})
	assert.ErrorContains(t, err, "up to the gate only")
	_, err = c.NewRehearsal(ctx, api.NewRehearsal{Application: "cargo-ledger", Flow: "sp", Proposal: p.ID})
	assert.ErrorContains(t, err, "the rehearsal for another application")
	_, err = c.WithdrawProposal(ctx, p.ID, "no")
	require.NoError(t, err)
	_, err = c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp", Proposal: p.ID})
	assert.ErrorContains(t, err, "was withdrawn already")
}

// goes is what a trace says that the application would get under a name.
func goes(tr *api.Trace, name string) []string {
	for _, e := range tr.Entries {
		if v := e.Value; v != nil && v.Direction == "out" && v.Rule == name {
			return v.Output
		}
	}
	return nil
}

// TestNobodyIsSignedInByWhatNobodyApproved has one engineer propose that a provider says somebody else's name, where a
// second person is demanded, and rehearse it with an application that is in use.
func TestNobodyIsSignedInByWhatNobodyApproved(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	_, err := w.Client().SetReview(ctx, config.Review{Second: true})
	require.NoError(t, err)
	e := client.New(w.URL, token(t, w, "engineer"))
	p, err := e.Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	held := p.Provider
	held.Mapping = append(held.Mapping, claims.Rule{Set: "preferred_username", Value: "jhale"})
	_, err = e.PutProvider(ctx, held, 0)
	require.ErrorContains(t, err, "need two")
	proposed, err := e.Propose(ctx, api.NewProposal{Kind: "provider", Slug: "saltmere-staff", Provider: &held})
	require.NoError(t, err)
	for _, n := range []api.NewRehearsal{{Flow: "sp"}, {Flow: "sp", KeepPerson: true}, {Flow: "idp"}} {
		n.Application, n.Provider, n.Proposal = "crew-rota", "saltmere-staff", proposed.ID
		r, err := e.NewRehearsal(ctx, n)
		require.NoError(t, err)
		b := w.Walker()
		require.NoError(t, b.Rehearse(ctx, r.Link, "zoberg"))
		assert.Empty(t, b.Inner("nameid"))
		assert.Contains(t, b.Text, "ends here")
		assert.Equal(t, "stopped", newest(t, w).Outcome)
	}
	assert.Empty(t, known(t, w, "jhale"), "nobody is kept")
}

// TestRestoringActsOnTheNextSignIn: the bound is a second.
func TestRestoringActsOnTheNextSignIn(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	held, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	change := held.Application
	change.Subject = config.Subject{Source: "profile", From: "email"}
	_, err = c.PutApplication(ctx, change, held.Revision)
	require.NoError(t, err)
	sees := func() string {
		b := w.Walker()
		require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
		return b.Inner("nameid")
	}
	require.Equal(t, "mira.voss@saltmere.example", sees())
	began := time.Now()
	_, err = c.Restore(ctx, api.Restore{Kind: files.Application, Slug: "crew-rota", Number: 1})
	require.NoError(t, err)
	assert.Equal(t, "mvoss", sees())
	assert.Less(t, time.Since(began), 3*time.Second, "restoring and a whole sign-in after it")
}

// TestWhatChangedBetweenTwoSignIns names routes, assignments and secrets as well.
func TestWhatChangedBetweenTwoSignIns(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	require.NoError(t, w.Walker().SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	good := newest(t, w).Reference
	_, err := c.SetRoutes(
		ctx,
		access.Routes{
			Rules: []access.Route{
				{Name: "office", If: access.RouteCondition{MailDomains: []string{"saltmere.example"}}, To: []string{"saltmere-staff"}},
			},
		},
	)
	require.NoError(t, err)
	require.NoError(t, w.Gate.Persons.Assign(ctx, ground.System, "crew-rota", api.Assignment{Kind: "group", Who: "crew"}))
	require.NoError(t, w.Gate.Persons.Assign(ctx, ground.System, "cargo-ledger", api.Assignment{Kind: "group", Who: "crew"}))
	require.NoError(t, w.Walker().SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	got, err := c.CompareTraces(ctx, newest(t, w).Reference, good)
	require.NoError(t, err)
	var what []string
	for _, x := range got.Configuration {
		what = append(what, x.Object.Kind+" "+x.Object.Slug)
	}
	assert.Equal(t, []string{"setting routes", "assignment crew-rota/crew"}, what, "and not what is of another application")
}

// TestSchemaIsServed to editors, without an account.
func TestSchemaIsServed(t *testing.T) {
	t.Parallel()
	w := world(t)
	b := w.Walker()
	require.NoError(t, b.Get(t.Context(), w.URL+changes.SchemaPath))
	assert.Equal(t, http.StatusOK, b.Status)
	assert.Contains(t, b.Text, `"title": "Inner Gate configuration"`)
}

// TestBatchesAskForWhatIsMissing: a document with several entities wants a decision, and nothing is half made.
func TestBatchesAskForWhatIsMissing(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	b := w.Walker()
	require.NoError(t, b.Get(ctx, w.StaffURL+"/harbours/all.xml"))
	all := b.Text
	require.NoError(t, b.Get(ctx, w.DeskURL+"/metadata"))
	batch, err := c.NewBatch(
		ctx,
		api.NewBatch{
			Side:   "application",
			Files:  []files.Text{{Name: "all.xml", Text: all}, {Name: "desk.xml", Text: b.Text}, {Name: "twice.xml", Text: b.Text}},
			Common: api.BatchCommon{Providers: []string{"saltmere-staff"}},
		},
	)
	require.NoError(t, err)
	for deadline := time.Now().Add(testbed.Patience); batch.Looking && time.Now().Before(deadline); {
		batch, err = c.Batch(ctx, batch.ID)
		require.NoError(t, err)
	}
	require.Equal(t, "decision", batch.Rows[0].State, "%v", batch.Rows[0].Notes)
	assert.Contains(t, batch.Rows[0].Notes[0], "holds 12 entities that fit")
	batch, err = c.ChangeBatch(
		ctx,
		batch.ID,
		api.ChangeBatch{Rows: []api.BatchRowChange{{Number: 1, Values: &api.BatchValues{EntityID: batch.Rows[0].Notes[1]}}}},
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"ready", "ready", "decision"}, []string{batch.Rows[0].State, batch.Rows[1].State, batch.Rows[2].State})
	assert.Contains(t, batch.Rows[2].Notes[0], "the same as in desk.xml")
	batch, err = c.ChangeBatch(ctx, batch.ID, api.ChangeBatch{Rows: []api.BatchRowChange{{Number: 2, Skip: true}}})
	require.NoError(t, err)
	require.Equal(t, "ready", batch.Rows[2].State, "with the other left out, this one can be made")
	// Somebody takes one of the two identifiers meanwhile: nothing is made by halves.
	meanwhile, err := c.NewBatch(
		ctx,
		api.NewBatch{
			Side:   "application",
			Files:  []files.Text{{Name: "desk.xml", Text: b.Text}},
			Common: api.BatchCommon{Providers: []string{"saltmere-staff"}},
		},
	)
	require.NoError(t, err)
	for deadline := time.Now().Add(testbed.Patience); meanwhile.Looking && time.Now().Before(deadline); {
		meanwhile, err = c.Batch(ctx, meanwhile.ID)
		require.NoError(t, err)
	}
	meanwhile, err = c.MakeBatch(ctx, meanwhile.ID)
	require.NoError(t, err)
	_, err = c.MakeBatch(ctx, batch.ID)
	require.ErrorContains(t, err, "twice.xml")
	list, err := c.Applications(ctx, client.Page{})
	require.NoError(t, err)
	assert.Len(t, list.Items, 5, "all of it or nothing")
	require.NoError(t, c.Delete(ctx, "applications", meanwhile.Rows[0].Slug))
	batch, err = c.ChangeBatch(ctx, batch.ID, api.ChangeBatch{Rows: []api.BatchRowChange{{Number: 2}, {Number: 3, Skip: true}}})
	require.NoError(t, err)
	batch, err = c.MakeBatch(ctx, batch.ID)
	require.NoError(t, err)
	assert.Equal(t, 2, batch.Counts["made"])
	made, err := c.Application(ctx, batch.Rows[1].Slug)
	require.NoError(t, err)
	assert.Equal(t, access.Draft, made.Reach)
	versions, err := c.Documents(ctx, "applications", made.Slug)
	require.NoError(t, err)
	assert.Len(t, versions.Items, 1)
	for want, in := range map[string]api.NewBatch{"from one of them": {Side: "application"},
		"no side": {Side: "boat", List: "url\nhttps://a.example/\n"}, "There is nothing in it": {Side: "provider", List: "url\n"},
		"holds no service provider": {Side: "application", Source: "harbours", Search: "nothing like it"}} {
		_, err := c.NewBatch(ctx, in)
		assert.ErrorContains(t, err, want)
	}
	report, err := c.Report(ctx, "application", client.Page{Filters: map[string]string{"provider": "saltmere-staff"}, Sort: "-people"})
	require.NoError(t, err)
	assert.Equal(t, 6, report.Count)
	assert.Equal(t, 3, report.By["kind"]["saml"])
	_, err = c.Report(ctx, "boat", client.Page{})
	assert.Error(t, err)
}

// TestWhatIsTakenOutLeavesALine: whoever takes out people, secrets or the journal itself is in the journal.
func TestWhatIsTakenOutLeavesALine(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	_, err := c.ExportPeople(ctx, "csv")
	require.NoError(t, err)
	_, err = c.Files(ctx, false, true)
	require.NoError(t, err)
	_, err = c.Files(ctx, false, false)
	require.NoError(t, err)
	lines, from := 0, int64(0)
	for range 10 { // it comes in parts, and has an end
		part, err := c.ExportJournal(ctx, from)
		require.NoError(t, err)
		if len(part) == 0 {
			break
		}
		all := strings.Split(strings.TrimSpace(string(part)), "\n")
		var last struct{ Number int64 }
		require.NoError(t, json.Unmarshal([]byte(all[len(all)-1]), &last))
		lines, from = lines+len(all), last.Number+1
	}
	part, err := c.ExportJournal(ctx, from)
	require.NoError(t, err)
	assert.Empty(t, part)
	assert.Positive(t, lines)
	journal, err := c.Journal(ctx, client.Page{Limit: 10})
	require.NoError(t, err)
	var taken []string
	for _, e := range journal.Items {
		if e.Action == "exported" {
			taken = append(taken, e.Object)
		}
	}
	assert.Equal(t, []string{"the journal", "the configuration with its secrets, sealed", "all people, as csv"}, taken)
}

// TestSchemaListsWhatCanBeChosen holds the JSON Schema of files against the table from which the validators speak.
func TestSchemaListsWhatCanBeChosen(t *testing.T) {
	t.Parallel()
	var schema struct {
		Defs map[string]struct {
			Properties map[string]struct {
				Enum  []string
				Items struct{ Enum []string }
			}
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(management.Schema(), &schema))
	for key, values := range config.Allowed {
		in, field, _ := strings.Cut(key, ".")
		found := false
		for name, d := range schema.Defs {
			p, ok := d.Properties[field]
			if !ok || strings.TrimLeft(strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(name, "Config"), "Policy"), "Saml"), "") !=
				in && name != in {
				continue
			}
			found = found || slices.Equal(values, p.Enum) || slices.Equal(values, p.Items.Enum)
		}
		assert.True(t, found, "%s lists what it can be", key)
	}
	for _, a := range []config.Application{
		{Slug: "x", Name: "X", Kind: config.KindSAML, SAML: &config.SAMLApplication{Sign: "nothing"}},
		{Slug: "x", Name: "X", Kind: config.KindSAML, SAML: &config.SAMLApplication{}, Contexts: "sometimes"},
		{Slug: "x", Name: "X", Kind: config.KindSAML, SAML: &config.SAMLApplication{}, SignOut: "never"},
	} {
		assert.ErrorContains(t, a.Validate(), "can't be chosen")
	}
}

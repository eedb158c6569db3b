package server_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
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
	"innergate/core/people"
	"innergate/demo"
	"innergate/testbed"
)

// refused wants a problem with this code, and with words of its sentence.
func refused(t *testing.T, err error, code, words string) {
	t.Helper()
	problem := &api.Problem{}
	require.ErrorAs(t, err, &problem, "%s was expected", code)
	assert.Equal(t, code, problem.Code, problem.Detail)
	assert.Contains(t, problem.Error()+mustText(problem), words)
}

// TestAccountsAreCompared holds an application's own list of accounts against what it would get.
func TestAccountsAreCompared(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	add := func(name, mail, user string) {
		_, err := c.AddPerson(ctx, api.SavePerson{Profile: claims.Bag{"name": {name}, "email": {mail}, "preferred_username": {user}}})
		require.NoError(t, err)
	}
	add("Ada Lowe", "ada.lowe@saltmere.example", "alowe")
	add("Bo Ness", "bo.ness@saltmere.example", "bness")
	add("Cy Reed", "cy.reed@saltmere.example", "creed")
	add("Di Moor", "di.moor@saltmere.example", "dmoor")
	add("Ed Moor", "moor@saltmere.example", "emoor")
	add("Flo Moor", "moor@saltmere.example", "fmoor")
	mail := config.Subject{Source: "profile", From: "email"}
	check := func(list, column string) *api.AccountChecked {
		r, err := c.CheckAccounts(ctx, "crew-rota", api.AccountCheck{Subject: mail, Accounts: list, Column: column})
		require.NoError(t, err)
		return r
	}
	why := func(list []api.AccountLine, person string) string {
		for _, l := range list {
			if strings.Contains(l.Person, person) {
				return l.Why
			}
		}
		return "not in the list"
	}
	r := check(
		"ada.lowe@saltmere.example\nBo.Ness@saltmere.example\ncy.reed@old.example\n di.moor@saltmere.example\nmoor@saltmere.example\n"+
			"stranger@saltmere.example\nstranger@saltmere.example\n",
		"",
	)
	assert.Equal(t, 3, r.Matching, "Ada, and both who would get the same")
	assert.Contains(t, why(r.Differing, "Bo Ness"), "case")
	assert.Contains(t, why(r.Differing, "Cy Reed"), "domain")
	assert.Contains(t, why(r.Differing, "Di Moor"), "space")
	assert.Contains(t, why(r.Doubled, "Ed Moor"), "2 people would get it")
	assert.Equal(t, []string{"stranger@saltmere.example"}, r.Missing)
	assert.Equal(t, "stands more than once in the list", r.Doubled[0].Why)
	mail.MaxLength = 20
	short := check("x\n", "")
	assert.Contains(t, why(short.Unfit, "Ada Lowe"), "characters; 20 are the most")
	mail.MaxLength = 0
	assert.Equal(t, 7, r.Accounts)

	// As the application exports it: with a heading, with semicolons, with tabs; the column by name, in any case.
	for list, column := range map[string]string{
		"login,mail\nx,ada.lowe@saltmere.example\n": "Mail", "mail;login\r\nada.lowe@saltmere.example;x\r\n": "",
		"login\tmail\nx\tada.lowe@saltmere.example\n": "mail", "\ufeffmail,login\nada.lowe@saltmere.example,x\n,empty\n": "mail",
	} {
		r := check(list, column)
		assert.Equal(t, []int{1, 1}, []int{r.Accounts, r.Matching}, "%q", list)
		assert.Equal(t, "mail", strings.ToLower(r.Column))
	}
	_, err := c.CheckAccounts(ctx, "crew-rota", api.AccountCheck{Subject: mail, Accounts: "a,b\n1,2\n", Column: "mail"})
	refused(t, err, "column-unknown", "the columns are a, b")
	_, err = c.CheckAccounts(ctx, "crew-rota", api.AccountCheck{Subject: mail, Accounts: " \n"})
	refused(t, err, "nothing-given", "There are no accounts")
	_, err = c.CheckAccounts(ctx, "crew-rota", api.AccountCheck{Subject: mail, Accounts: "a,b\n\"1,2\n"})
	refused(t, err, "accounts-csv", "no CSV")
	_, err = c.CheckAccounts(ctx, "nothing", api.AccountCheck{Subject: mail, Accounts: "a"})
	assert.Error(t, err)
}

// TestAnotherSubjectRuleNamesWhoBecomesAnother tells who would be another user at the application, before the rule is
// saved.
func TestAnotherSubjectRuleNamesWhoBecomesAnother(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	for _, user := range []string{"mvoss", "ivale", "cdunn", "cdunne"} {
		_, code := signsIn(t, w, user)
		require.Empty(t, code)
	}
	app, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	same, err := c.PreviewSubject(ctx, "crew-rota", app.Subject)
	require.NoError(t, err)
	assert.Equal(t, []int{4, 4}, []int{same.Known, same.Same}, "the rule as it is changes nobody")
	r, err := c.PreviewSubject(ctx, "crew-rota", config.Subject{Source: "profile", From: "email"})
	require.NoError(t, err)
	assert.Len(t, r.Changed, 3)
	require.Len(t, r.Failing, 1, "who has no mail address could not sign in any more")
	assert.Contains(t, r.Failing[0].Person, "Iris")
	assert.Contains(t, r.Sentence, "another user")
	r, err = c.PreviewSubject(ctx, "crew-rota", config.Subject{Source: "profile", From: "preferred_username", Pattern: "[a-z]{5}"})
	require.NoError(t, err)
	assert.Len(t, r.Failing, 1, "cdunne has six letters")
	_, err = c.PreviewSubject(ctx, "crew-rota", config.Subject{Source: "profile", From: "email", Pattern: "("})
	assert.Error(t, err)
}

// TestSamplesInEveryForm reads what people paste: a trace's number, an assertion, a token, claims, a list.
func TestSamplesInEveryForm(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	reference := newestReference(t, w)
	full, err := c.Trace(ctx, reference)
	require.NoError(t, err)
	var assertion string
	for _, e := range full.Entries {
		if m := e.Message; m != nil && m.Name == "Response" && m.From == "provider" {
			assertion = m.Raw
		}
	}
	require.NotEmpty(t, assertion)
	token := "e30." + base64.RawURLEncoding.EncodeToString(
		[]byte(`{"email":"mira.voss@saltmere.example","groups":["staff","ferry-crew"]}`),
	) + ".c2ln"
	oid := "urn:oid:0.9.2342.19200300.100.1.3"
	for what, one := range map[string]struct{ sample, source, name string }{
		"a trace's number":           {strings.ToLower(reference), reference, oid},
		"a response":                 {assertion, "SAML Response", oid},
		"a response in base64":       {base64.StdEncoding.EncodeToString([]byte(assertion)), "SAML Response", oid},
		"a token":                    {token, "a token, not verified", "email"},
		"claims":                     {`{"email":"mira.voss@saltmere.example"}`, "claims in JSON", "email"},
		"claims below attributes":    {`{"attributes":{"mail":["mira.voss@saltmere.example"]}}`, "claims in JSON", "mail"},
		"a list of names":            {"mail\nsn\n", "a list of names", "mail"},
		"a list with values":         {"mail: mira.voss@saltmere.example\nsn = Voss\n", "a list of names", "mail"},
		"claims one below the other": {`{"address":{"locality":"Saltmere"}}`, "claims in JSON", "address.locality"},
	} {
		r, err := c.SuggestRules(ctx, api.Suggest{Direction: "in", Sample: one.sample})
		require.NoError(t, err, what)
		assert.Contains(t, r.Source, one.source, what)
		if one.name != "address.locality" {
			assert.Contains(t, r.Input, one.name, what)
		}
	}
	r, err := c.SuggestRules(ctx, api.Suggest{Direction: "in", Sample: assertion})
	require.NoError(t, err)
	sets := map[string]bool{}
	for _, s := range r.Items {
		sets[s.Rule.Set] = true
	}
	for _, name := range []string{"email", "given_name", "family_name", "preferred_username"} {
		assert.True(t, sets[name], "%s is proposed", name)
	}
	for sample, code := range map[string]string{"": "nothing-given", "<html></html>": "sample-xml", "{not json": "sample-json",
		"ABCD-EFGH": "not-found", strings.Repeat("x", 3<<20): "too-large", "   ": "nothing-given"} {
		_, err := c.SuggestRules(ctx, api.Suggest{Direction: "in", Sample: sample})
		problem := &api.Problem{}
		require.ErrorAs(t, err, &problem, "%.20q", sample)
		assert.Contains(t, []string{code, "internal", "body"}, problem.Code, "%.20q", sample)
	}

	tried, err := c.TryMapping(
		ctx,
		api.TryMapping{
			Mapping: claims.Mapping{
				{Set: "email", From: claims.Names{oid}, Required: true},
				{Set: "crew", Expr: `"staff" in values("urn:oid:1.3.6.1.4.1.5923.1.5.1.1")`},
			},
			Sample: reference,
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"mira.voss@saltmere.example"}, tried.Attributes["email"])
	assert.Equal(t, []string{"true"}, tried.Attributes["crew"])
}

func TestGroupsAndRuleSetsDontSlipAway(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	_, err := c.AddGroup(ctx, config.Group{Slug: "crew", Name: "Another"})
	refused(t, err, "slug-taken", "has the short name crew already")
	_, err = c.AddGroup(ctx, config.Group{Slug: "Not A Slug", Name: "X"})
	assert.Error(t, err)
	refused(t, c.DeleteGroup(ctx, "crew"), "in-use", "Saltmere Staff")
	refused(t, c.DeleteGroup(ctx, "ghosts"), "not-found", "ghosts")
	_, err = c.AddGroup(ctx, config.Group{Slug: "night", Name: "Night watch"})
	require.NoError(t, err)
	require.NoError(t, c.Assign(ctx, "crew-rota", api.Assignment{Kind: "group", Who: "night"}))
	refused(t, c.DeleteGroup(ctx, "night"), "in-use", "Crew Rota")
	require.NoError(t, c.Unassign(ctx, "crew-rota", "group", "night"))
	require.NoError(t, c.DeleteGroup(ctx, "night"))
	refused(t, c.Assign(ctx, "crew-rota", api.Assignment{Kind: "group", Who: "ghosts"}), "not-found", "ghosts")

	set, err := c.RuleSet(ctx, "ferry-roles")
	require.NoError(t, err)
	require.NotEmpty(t, set.UsedBy)
	refused(t, c.DeleteRuleSet(ctx, "ferry-roles"), "in-use", set.UsedBy[0].Name)
	_, err = c.AddRuleSet(ctx, config.RuleSet{Slug: "ferry-roles", Name: "Again", Kind: "mapping"})
	refused(t, err, "slug-taken", "Ferry roles")
	changed := set.RuleSet
	changed.Kind = "access"
	changed.Mapping = nil
	_, err = c.PutRuleSet(ctx, "ferry-roles", changed)
	assert.Error(t, err, "a mapping can't become a list for access")
	broken := set.RuleSet
	broken.Mapping = claims.Mapping{{Set: "roles", Expr: "this is no expression ("}}
	_, err = c.PutRuleSet(ctx, "ferry-roles", broken)
	assert.Error(t, err)
	other := set.RuleSet
	other.Mapping = claims.Mapping{{Set: "roles", From: claims.Names{"groups"}}}
	effects, err := c.PreviewRuleSet(ctx, "ferry-roles", other)
	require.NoError(t, err)
	require.NotEmpty(t, effects.Items)
	assert.NotEmpty(t, effects.Items[0].Changes, "it says what the change does to each of its users")
	_, err = c.AddRuleSet(
		ctx,
		config.RuleSet{
			Name:  "Ghosts only",
			Kind:  "access",
			Rules: []access.Rule{{If: &access.Condition{Groups: []string{"ghosts"}}, Then: access.Refuse}},
		},
	)
	assert.ErrorContains(t, err, "ghosts")
	all, err := c.RuleSets(ctx)
	require.NoError(t, err)
	assert.Len(t, all.Items, 1, "nothing of that was kept")
}

func TestProfilesAreCheckedByTheirTypes(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	held, err := c.PeopleSettings(ctx)
	require.NoError(t, err)
	s := held.Settings
	s.Types = append(s.Types, "guest-crew")
	s.Attributes = append(
		s.Attributes,
		people.Attribute{Name: "berth", Type: "number", Words: "berth"},
		people.Attribute{Name: "joined", Type: "date"},
		people.Attribute{Name: "swims", Type: "yes-no"},
		people.Attribute{Name: "badge", Session: true},
	)
	require.NoError(t, c.PutPeopleSettings(ctx, s))
	_, err = c.AddPerson(
		ctx,
		api.SavePerson{
			Type:    "guest-crew",
			Profile: claims.Bag{"name": {"Ada Lowe"}, "berth": {"4"}, "joined": {"2026-03-01"}, "swims": {"true"}},
		},
	)
	require.NoError(t, err)
	for words, profile := range map[string]claims.Bag{
		"is no number": {"name": {"X"}, "berth": {"four"}}, "is no date": {"name": {"X"}, "joined": {"yesterday"}},
		"mail address": {"name": {"X"}, "email": {"nobody"}}, "needs a name": {"berth": {"1"}},
		"neither true nor false": {"name": {"X"}, "swims": {"perhaps"}},
	} {
		_, err = c.AddPerson(ctx, api.SavePerson{Profile: profile})
		assert.ErrorContains(t, err, words)
	}
	_, err = c.AddPerson(ctx, api.SavePerson{Type: "ghost", Profile: claims.Bag{"name": {"X"}}})
	refused(t, err, "type-unknown", "ghost")
	s.Types = s.Types[:len(s.Types)-1]
	refused(t, c.PutPeopleSettings(ctx, s), "type-in-use", "Ada Lowe")
	bad := s
	bad.Attributes = append(bad.Attributes, people.Attribute{Name: "berth", Type: "colour"})
	assert.Error(t, c.PutPeopleSettings(ctx, bad))
}

// imported sends a file, and checks it, and writes it where it can be.
func imported(t *testing.T, w *demo.World, in api.NewImport, text string) *api.Import {
	t.Helper()
	ctx, c := context.Background(), w.Client()
	job, err := c.NewImport(ctx, in)
	require.NoError(t, err)
	_, err = c.SendImport(ctx, job.ID, 0, []byte(text))
	require.NoError(t, err)
	settle := func(act func(context.Context, string) (*api.Import, error)) {
		_, err := act(ctx, job.ID)
		require.NoError(t, err)
		require.Eventually(
			t,
			func() bool { job, err = c.Import(ctx, job.ID); return err == nil && job.State != "running" },
			testbed.Patience,
			5*time.Millisecond,
		)
	}
	if settle(c.CheckImport); job.Bad == 0 || in.SkipBad {
		settle(c.WriteImport)
	}
	return job
}

func TestImportsOfEveryKindOfLine(t *testing.T) {
	t.Parallel()
	w := world(t)
	const head = "external_id,name,email,login,groups at the gate,active,type\n"
	job := imported(
		t,
		w,
		api.NewImport{Form: "csv"},
		head+"a1,Ada Lowe,ada@saltmere.example,ada,crew|bridge,,\na2,Bo Ness,bo@saltmere.example,bo,,no,partner\n",
	)
	assert.Equal(t, []int{2, 0, 0, 0}, []int{job.Created, job.Updated, job.Unchanged, job.Bad})
	ada, err := w.Client().Person(t.Context(), known(t, w, "Ada")[0].ID)
	require.NoError(t, err)
	assert.Len(t, ada.Groups, 2)
	bo := known(t, w, "Bo")[0]
	assert.False(t, bo.Active)
	assert.Equal(t, "partner", bo.Type)

	// The same again changes nothing; a change, a group that is left, and a sign-in name that moves from one to another
	// are written.
	job = imported(
		t,
		w,
		api.NewImport{Form: "csv"},
		head+"a1,Ada Lowe,ada@saltmere.example,ada,crew|bridge,,\na2,Bo Ness,bo@saltmere.example,bo,,no,partner\n",
	)
	assert.Equal(t, []int{0, 0, 2, 0}, []int{job.Created, job.Updated, job.Unchanged, job.Bad})
	job = imported(
		t,
		w,
		api.NewImport{Form: "csv"},
		head+"a1,Ada Lowe,ada@saltmere.example,ada.lowe,crew,,\na2,Bo Ness,bo@saltmere.example,ada,crew,yes,partner\n",
	)
	assert.Equal(t, []int{0, 2, 0, 0}, []int{job.Created, job.Updated, job.Unchanged, job.Bad}, mustText(job.Problems))
	ada, err = w.Client().Person(t.Context(), ada.ID)
	require.NoError(t, err)
	assert.Equal(t, "ada.lowe", ada.Login)
	assert.Len(t, ada.Groups, 1)

	// Each bad line is named, and nothing of the file is written.
	job = imported(t, w, api.NewImport{Form: "csv"}, head+strings.Join([]string{
		"b1,Cy Reed,cy@saltmere.example,,,,", "b1,Cy Again,cy2@saltmere.example,,,,", "B1,Cy Like,cy3@saltmere.example,,,,",
		",No Key,x@saltmere.example,,,,", "b2,Di Moor,not a mail,,,,", "b3,Ed Moor,ed@saltmere.example,ADA,,,",
		"b4,Flo Moor,flo@saltmere.example,twice,,,", "b5,Gil Moor,gil@saltmere.example,twice,,,",
		"b6,Hal Moor,hal@saltmere.example,,ghosts,,", "b7,Ivo Moor,ivo@saltmere.example,,,perhaps,",
		"b8,Jo Moor,jo@saltmere.example,,,,ghost", "b9,Kit Moor,kit@saltmere.example,a/b,,,",
	}, "\n")+"\n")
	says := map[int]string{
		3:  "line 2 already",
		4:  "looks like it",
		5:  "has no external_id",
		6:  "mail",
		7:  "signs in as ada",
		9:  "ine 8 gives the sign-in name",
		10: "ghosts",
		11: "perhaps",
		12: "ghost",
		13: "sign-in name",
	}
	for _, p := range job.Problems {
		assert.Contains(t, p.Message, says[p.Line], "line %d", p.Line)
		delete(says, p.Line)
	}
	assert.Empty(t, says, "these lines should have been bad")
	assert.Equal(t, "checked", job.State)
	assert.Empty(t, known(t, w, "Cy"))
	assert.Empty(t, known(t, w, "Flo"))

	// JSON lines, known by mail address; the value of another case is refused rather than doubled.
	job = imported(
		t,
		w,
		api.NewImport{Form: "jsonl", By: "email"},
		`{"profile":{"email":["ada@saltmere.example"],"title":["Skipper"]}}`+"\n"+
			`{"profile":{"email":["new@saltmere.example"],"name":["Nia Penn"]}}`+"\n",
	)
	assert.Equal(t, []int{1, 1, 0, 0}, []int{job.Created, job.Updated, job.Unchanged, job.Bad}, mustText(job.Problems))
	job = imported(
		t,
		w,
		api.NewImport{Form: "jsonl", By: "email"},
		`{"profile":{"email":["Ada@saltmere.example"],"title":["Purser"]}}`+"\n"+"not json\n",
	)
	require.Len(t, job.Problems, 2)
	assert.Contains(t, job.Problems[0].Message, "differs from")
	assert.Equal(t, 2, job.Problems[1].Line)
	job = imported(t, w, api.NewImport{Form: "csv", By: "id"}, "id,title\n"+ada.ID+",Harbour master\n01ARZ3NDEKTSV4RRFFQ69G5FAV,Nobody\n")
	require.Len(t, job.Problems, 1)
	assert.Contains(t, job.Problems[0].Message, "no person with the ID")
}

func TestImportsAreSentInOrderAndCancelled(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	var b strings.Builder
	b.WriteString("external_id,name\n")
	for i := range 3000 {
		fmt.Fprintf(&b, "x%d,Crew Member %d\n", i, i)
	}
	text := []byte(b.String())
	job, err := c.NewImport(ctx, api.NewImport{Form: "csv"})
	require.NoError(t, err)
	_, err = c.SendImport(ctx, job.ID, 0, text[:1000])
	require.NoError(t, err)
	_, err = c.SendImport(ctx, job.ID, 2000, text[2000:3000])
	refused(t, err, "import-gap", "1000 octets are here")
	got, err := c.SendImport(ctx, job.ID, 500, text[500:1000])
	require.NoError(t, err, "a part that was sent before is no fault: the answer was lost")
	assert.Equal(t, int64(1000), got.Size)
	_, err = c.SendImport(ctx, job.ID, 1000, text[1000:])
	require.NoError(t, err)
	_, err = c.WriteImport(ctx, job.ID)
	refused(t, err, "import-unchecked", "Check the import first")
	_, err = c.CheckImport(ctx, job.ID)
	require.NoError(t, err)
	require.Eventually(
		t,
		func() bool { job, err = c.Import(ctx, job.ID); return err == nil && job.State == "checked" },
		testbed.Patience,
		5*time.Millisecond,
	)
	assert.Equal(t, 3000, job.Created)
	assert.Empty(t, known(t, w, "Crew"), "a check writes nobody")
	require.NoError(t, c.CancelImport(ctx, job.ID))
	_, err = c.SendImport(ctx, job.ID, 0, text)
	assert.Error(t, err)
	_, err = c.NewImport(ctx, api.NewImport{Form: "xlsx"})
	refused(t, err, "form", "csv and jsonl")
	_, err = c.Import(ctx, "01ARZ3NDEKTSV4RRFFQ69G5FAV")
	assert.Error(t, err)
	engineer, err := c.NewToken(ctx, api.NewToken{Name: "e", Role: "engineer", Days: 1})
	require.NoError(t, err)
	_, err = client.New(w.URL, engineer.Secret).ExportPeople(ctx, "csv")
	problem := &api.Problem{}
	require.ErrorAs(t, err, &problem, "the export is for owners")
	assert.Equal(t, http.StatusForbidden, problem.Status)
	file, err := c.ExportPeople(ctx, "csv")
	require.NoError(t, err)
	assert.Contains(t, string(file), "Runa Holt")
	assert.NotContains(t, string(file), "$argon2", "hashes of passwords are not exported")
}

// TestWhoGetsInAndWhy answers from the rules for one person and for all.
func TestWhoGetsInAndWhy(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	for _, user := range []string{"mvoss", "lquill"} {
		signsIn(t, w, user)
	}
	mira, lorna := known(t, w, "Mira")[0].ID, known(t, w, "Lorna")[0].ID
	_, err := c.SetAccess(ctx, "crew-rota", access.Policy{To: access.Assigned, Rules: []access.Rule{
		{Name: "never at night", If: &access.Condition{From: "22:00", Until: "05:00", Zone: "UTC"}, Then: access.Refuse},
		{Name: "only from aboard", If: &access.Condition{Networks: []string{"10.20.0.0/16"}}, Then: access.Allow},
	}, Otherwise: access.Refuse})
	require.NoError(t, err)
	require.NoError(t, c.Assign(ctx, "crew-rota", api.Assignment{Kind: "group", Who: "crew", Roles: []string{"rota-reader"}}))
	noon, night := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), time.Date(2026, 11, 23, 23, 30, 0, 0, time.UTC)
	for what, one := range map[string]struct {
		q      api.AccessQuestion
		result string
		why    string
	}{
		"aboard at noon":      {api.AccessQuestion{Person: mira, Network: "10.20.3.4", At: &noon}, "allow", "only from aboard"},
		"aboard at night":     {api.AccessQuestion{Person: mira, Network: "10.20.3.4", At: &night}, "refuse", "never at night"},
		"from home at noon":   {api.AccessQuestion{Person: mira, Network: "192.0.2.9", At: &noon}, "refuse", ""},
		"not assigned at all": {api.AccessQuestion{Person: lorna, Network: "10.20.3.4", At: &noon}, "refuse", "not assigned"},
	} {
		a, err := c.ExplainAccess(ctx, "crew-rota", one.q)
		require.NoError(t, err, what)
		assert.Equal(t, one.result, a.Result, what)
		assert.Contains(t, mustText(a), one.why, what)
	}
	list, err := c.WhoGetsIn(ctx, "crew-rota", client.Page{Limit: 50})
	require.NoError(t, err)
	assert.NotEmpty(t, list.Items)
	_, err = c.ExplainAccess(ctx, "crew-rota", api.AccessQuestion{Person: "01ARZ3NDEKTSV4RRFFQ69G5FAV"})
	assert.Error(t, err)
}

package changes_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/gate/changes"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// engineer changes the configuration, and nothing that is for owners.
var engineer = ground.Actor{ID: "person/mira", Name: "Mira", Role: ground.RoleEngineer}

const coast = `groups:
  - {slug: crew, name: Crew}
  - {slug: office, name: Office}
providers:
  - {slug: staff, name: Staff, kind: directory, reach: everyone}
applications:
  - {slug: tides, name: Tide Tables, kind: link, reach: everyone, startUrl: "https://tides.example/", providers: [staff], access: ` +
	`{to: assigned}}
  - {slug: buoys, name: Buoys, kind: link, startUrl: "https://buoys.example/"}
assignments:
  - {application: tides, group: crew}
`

func page(search string) store.Page { return store.Page{Search: search, Limit: 100} }

func texts(list ...string) []files.Text {
	var out []files.Text
	for i, t := range list {
		out = append(out, files.Text{Name: fmt.Sprintf("%d.yaml", i+1), Text: t})
	}
	return out
}

func TestFilesAreLoadedAgainAndAgain(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	load := func(in api.LoadConfig) *api.ConfigResult {
		t.Helper()
		r, err := l.Changes.LoadConfig(ctx, engineer, in)
		require.NoError(t, err)
		return r
	}
	r := load(api.LoadConfig{Files: texts(coast), Preview: true})
	assert.Len(t, r.Steps, 6)
	assert.Len(t, load(api.LoadConfig{Files: texts(coast)}).Steps, 6, "the preview changed nothing")
	again := load(api.LoadConfig{Files: texts(coast)})
	assert.Empty(t, again.Steps)
	assert.Equal(t, 6, again.Unchanged)

	// What was made by hand stays, whatever is absent; what files made goes where that is asked for.
	_, err := l.Configuration.SaveApplication(
		ctx,
		testbed.Owner,
		"",
		config.Application{Slug: "charts", Name: "Charts", Kind: "link", StartURL: "https://charts.example/"},
		0,
	)
	require.NoError(t, err)
	without := strings.Replace(coast, `  - {slug: buoys, name: Buoys, kind: link, startUrl: "https://buoys.example/"}`+"\n", "", 1)
	assert.Empty(t, load(api.LoadConfig{Files: texts(without)}).Steps)
	r = load(api.LoadConfig{Files: texts(without), RemoveAbsent: true, Preview: true})
	assert.Equal(t, []string{"application buoys"}, r.Named(files.Remove))
	r = load(api.LoadConfig{Files: texts(without), RemoveAbsent: true, Remark: "nobody looks at them"})
	assert.Equal(t, []string{"application buoys"}, r.Named(files.Remove))
	_, err = l.Checkups.Application(ctx, "charts")
	require.NoError(t, err)
	// Deleted by hand and made by hand again, it is no longer the files'.
	load(api.LoadConfig{Files: texts(coast)})
	require.NoError(t, l.Configuration.DeleteApplication(ctx, testbed.Owner, "buoys"))
	_, err = l.Configuration.SaveApplication(
		ctx,
		testbed.Owner,
		"",
		config.Application{Slug: "buoys", Name: "Buoys", Kind: "link", StartURL: "https://buoys.example/"},
		0,
	)
	require.NoError(t, err)
	assert.Empty(t, load(api.LoadConfig{Files: texts(without), RemoveAbsent: true}).Steps)
	list, err := l.Changes.History(ctx, page("buoys"), changes.HistoryFilter{Kind: files.Application, Slug: "buoys"})
	require.NoError(t, err)
	assert.Equal(t, "nobody looks at them", list.Items[len(list.Items)-2].Remark)
}

// TestALoadIsAllOrNothing has the last of many objects be one that can't be.
func TestALoadIsAllOrNothing(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	before, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, false)
	require.NoError(t, err)
	for want, bad := range map[string]string{
		"there is no group \"crw\", neither here nor in the files; did you mean \"crew\"?": strings.Replace(coast, "group: crew}",
			"group: crw}", 1),
		"there is no provider \"stuff\", neither here nor in the files; did you mean \"staff\"?": strings.Replace(coast, "[staff]",
			"[stuff]", 1),
		"1.yaml:6: Provider staff:": strings.Replace(coast, "reach: everyone}\napp", "reach: everyone, admit: {type: dragon}}\napp", 1),
	} {
		_, err := l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(bad)})
		require.Error(t, err, want)
		if !strings.HasPrefix(want, "1.yaml:6") {
			assert.ErrorContains(t, err, want)
		}
		now, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, false)
		require.NoError(t, err)
		assert.Equal(t, before, now)
	}
	// Cut off in the middle: what was sent is not whole, or the one who asks goes away.
	place, err := l.Changes.NewStaged(ctx, testbed.Owner)
	require.NoError(t, err)
	_, err = l.Changes.AddStaged(ctx, testbed.Owner, place.ID, 0, []byte(`{"files":[{"name":"a.yaml","text":"groups:\n  - {slug: crew`))
	require.NoError(t, err)
	_, err = l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Staged: place.ID})
	assert.ErrorContains(t, err, "What was sent is not whole")
	_, err = l.Changes.AddStaged(ctx, testbed.Owner, place.ID, 500, []byte("gap"))
	assert.ErrorContains(t, err, "The part begins at 500")
	_, err = l.Changes.AddStaged(ctx, testbed.Owner, "../../etc/passwd", 0, []byte("x"))
	assert.Equal(t, 404, testbed.Status(err))
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = l.Changes.LoadConfig(gone, testbed.Owner, api.LoadConfig{Files: texts(coast)})
	assert.Error(t, err)
	now, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, false)
	require.NoError(t, err)
	assert.Equal(t, before, now)
}

// TestFilesGiveNobodyMoreThanTheyMay: settings that are for owners stay theirs, in every way to change them.
func TestFilesGiveNobodyMoreThanTheyMay(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	_, err := l.Changes.LoadConfig(
		ctx,
		testbed.Owner,
		api.LoadConfig{
			Files: texts(
				coast,
				"sessions: {idleMinutes: 30, maxHours: 8}\nmail: {server: \"mail.saltmere.example:587\", from: gate@saltmere.example}\n",
			),
		},
	)
	require.NoError(t, err)
	for _, text := range []string{"console: {rules: [{provider: staff, attribute: groups, value: crew, role: owner}]}\n",
		"sessions: {idleMinutes: 40, maxHours: 8}\n", "review: {second: true}\n", "clientRegistration: {on: true}\n",
		"traces: {days: 3, count: 5000}\n", "mail: {server: \"evil.example:587\", from: gate@saltmere.example}\n"} {
		for _, preview := range []bool{true, false} {
			_, err := l.Changes.LoadConfig(ctx, engineer, api.LoadConfig{Files: texts(text), Preview: preview})
			assert.Equal(t, 403, testbed.Status(err), text)
		}
	}
	_, err = l.Changes.LoadConfig(
		ctx,
		engineer,
		api.LoadConfig{Files: texts("secrets: [{for: mail, env: M}]\n"), Values: map[string]string{"env:M": "hush"}},
	)
	assert.Equal(t, 403, testbed.Status(err))
	out, err := l.Changes.ExportConfig(ctx, engineer, false, false)
	require.NoError(t, err)
	assert.NotContains(t, out.Files[0].Text, "mail.saltmere.example", "and an engineer does not see them")
	_, err = l.Changes.ExportConfig(ctx, engineer, false, true)
	assert.Equal(t, 403, testbed.Status(err))
	_, err = l.Changes.Revision(ctx, engineer, files.Setting, "mail", 1, 0)
	assert.Equal(t, 403, testbed.Status(err))
	list, err := l.Changes.History(ctx, page(""), changes.HistoryFilter{})
	require.NoError(t, err)
	for _, r := range list.Items {
		assert.NotEqual(t, "mail", r.Slug)
	}
	_, err = l.Changes.Restore(ctx, engineer, api.Restore{Kind: files.Setting, Slug: "sessions", Number: 1})
	if err != nil {
		assert.Equal(t, 403, testbed.Status(err))
	}
}

func TestSecretsByReference(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	const ledger = "providers:\n  - {slug: quay, name: Quay, kind: oidc, oidc: {issuer: \"https://id.quay.example\", clientId: gate}}\n" +
		"applications:\n  - {slug: ledger, name: Ledger, kind: oidc, oidc: {clientId: ledger, redirectUris: " +
		"[\"https://ledger.example/answer\"], authentication: client_secret_basic}}\n" +
		"mail: {server: \"mail.saltmere.example:587\", from: gate@saltmere.example, username: gate}\n"
	from := ledger + "secrets:\n  - {for: providers/quay, env: QUAY_SECRET}\n  - {for: applications/ledger, file: ledger.txt}\n" +
		"  - {for: mail, env: MAIL}\n"
	_, err := l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(from), Values: map[string]string{"env:MAIL": "m"}})
	assert.ErrorContains(
		t, err,
		"1.yaml:7: secrets (providers/quay): the environment variable QUAY_SECRET is not set where the command runs",
	)
	assert.ErrorContains(t, err, "innergate config seal providers/quay")
	assert.ErrorContains(t, err, "the file ledger.txt was not handed over or is empty")
	values := map[string]string{
		"env:QUAY_SECRET":        "the quay's secret value",
		"file:1.yaml:ledger.txt": "a long secret of the ledger's own\n",
		"env:MAIL":               "mail secret",
	}
	r, err := l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(from), Values: values})
	require.NoError(t, err)
	assert.Contains(t, r.Named(files.Update), "secret providers/quay")
	r, err = l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(from), Values: values})
	require.NoError(t, err)
	assert.Empty(t, r.Steps, "the same secrets are the same")
	values["file:1.yaml:ledger.txt"] = "short"
	_, err = l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(from), Values: values})
	assert.ErrorContains(t, err, "at least 24 characters")

	// Sealed, they go out and come in again; nobody else can open them, and they fit nothing else.
	out, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, true)
	require.NoError(t, err)
	for _, clear := range []string{"quay's secret", "mail secret", "ledger's own"} {
		assert.NotContains(t, out.Files[0].Text, clear)
	}
	assert.Contains(t, out.Files[0].Text, "sealed: sealed-1.")
	r, err = l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: out.Files})
	require.NoError(t, err)
	assert.Empty(t, r.Steps)
	other := testbed.NewLab(t)
	_, err = other.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: out.Files})
	assert.ErrorContains(t, err, "was not sealed by this gate")
	sealed, err := l.Changes.SealSecret(ctx, testbed.Owner, api.SealSecret{For: "providers/quay", Value: "another"})
	require.NoError(t, err)
	_, err = l.Changes.LoadConfig(ctx, testbed.Owner,
		api.LoadConfig{Files: texts("secrets: [{for: mail, sealed: " + sealed.Sealed + "}]\n")})
	assert.ErrorContains(t, err, "was not sealed by this gate for mail")
	_, err = l.Changes.LoadConfig(
		ctx,
		testbed.Owner,
		api.LoadConfig{Files: texts("secrets: [{for: providers/quay, sealed: " + sealed.Sealed + "}]\n")},
	)
	require.NoError(t, err)
	held, err := l.Partners.Secrets(ctx, "provider", "quay")
	require.NoError(t, err)
	require.Len(t, held.Items, 1)
	lines, err := l.Journal(ctx, testbed.Owner, page(""), "")
	require.NoError(t, err)
	for _, e := range lines.Items {
		assert.NotContains(t, e.Before+e.After, "secret value")
	}
}

// TestHistoryAndWayBack brings back one object, one that was deleted, and everything.
func TestHistoryAndWayBack(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	clock := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	l.Gate.Now = func() time.Time { return clock }
	later := func() time.Time { clock = clock.Add(time.Minute); return clock }
	_, err := l.Changes.Restore(ctx, testbed.Owner, api.Restore{At: &clock})
	assert.ErrorContains(t, err, "Nothing is known of that time")
	_, err = l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(coast)})
	require.NoError(t, err)
	good := later()
	before, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, false)
	require.NoError(t, err)
	first, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)

	later()
	a := first.Application
	a.Name, a.Access.To = "High Water", access.Everybody
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, "tides", a, 0)
	require.NoError(t, err)
	require.NoError(t, l.Configuration.DeleteApplication(ctx, testbed.Owner, "buoys"))
	_, err = l.Persons.SaveGroup(ctx, testbed.Owner, "", config.Group{Slug: "quay", Name: "Quay"})
	require.NoError(t, err)
	_, err = l.Sessions.SetSessionLimits(ctx, testbed.Owner, config.Sessions{IdleMinutes: 10, MaxHours: 2})
	require.NoError(t, err)
	require.NoError(t, l.Persons.Unassign(ctx, testbed.Owner, "tides", "group", "crew"))

	view, err := l.Changes.Revision(ctx, testbed.Owner, files.Application, "tides", 1, 0)
	require.NoError(t, err)
	assert.Equal(t, 2, view.Against)
	assert.Equal(
		t,
		[]api.Change{
			{Field: "access.to", Before: "assigned", After: "everybody"},
			{Field: "name", Before: "Tide Tables", After: "High Water"},
		},
		view.Differences,
	)
	assert.Contains(t, view.Text, "slug: tides")

	// One that was deleted comes back as the same one, with whatever hangs on it.
	buoys, err := l.Changes.History(ctx, page(""), changes.HistoryFilter{Kind: files.Application, Slug: "buoys"})
	require.NoError(t, err)
	require.Len(t, buoys.Items, 2)
	assert.Equal(t, files.Remove, buoys.Items[0].Action)
	r, err := l.Changes.Restore(ctx, testbed.Owner, api.Restore{Kind: files.Application, Slug: "buoys", Number: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"application buoys"}, r.Named(files.Create))
	back, err := l.Checkups.Application(ctx, "buoys")
	require.NoError(t, err)
	assert.Equal(t, 3, back.Revision, "its history goes on")
	require.NoError(t, l.Configuration.DeleteApplication(ctx, testbed.Owner, "buoys"))

	// Everything, looked at first.
	r, err = l.Changes.Restore(ctx, testbed.Owner, api.Restore{At: &good, Preview: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"application buoys", "assignment tides/crew"}, r.Named(files.Create))
	assert.Equal(t, []string{"application tides", "setting sessions"}, r.Named(files.Update))
	assert.Equal(t, []string{"group quay"}, r.Named(files.Remove))
	still, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	assert.Equal(t, "High Water", still.Name)
	later()
	_, err = l.Changes.Restore(ctx, testbed.Owner, api.Restore{At: &good, Remark: "the storm is over"})
	require.NoError(t, err)
	now, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, false)
	require.NoError(t, err)
	assert.Equal(t, before, now)
	again, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID)
	_, err = l.Changes.Restore(ctx, testbed.Owner, api.Restore{Kind: files.Application, Slug: "tides", Number: 99})
	assert.Equal(t, 404, testbed.Status(err))
	future := clock.Add(time.Hour)
	_, err = l.Changes.Restore(ctx, testbed.Owner, api.Restore{At: &future})
	assert.ErrorContains(t, err, "still to come")
	verdict, err := l.VerifyJournal(ctx, "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole, verdict.Broken)
	cut, err := l.VerifyJournal(ctx, strings.Repeat("0", 64))
	require.NoError(t, err)
	assert.Contains(t, cut.Broken, "is not there any more")
}

// TestTwoEngineersChangeTheSame shows the second one both changes; proposals that fit together are laid on each other.
func TestTwoEngineersChangeTheSame(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	_, err := l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(coast)})
	require.NoError(t, err)
	held, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	theirs, mine := held.Application, held.Application
	theirs.Name, mine.Description = "High Water", "When the water is high."
	other := ground.Actor{ID: "person/vera", Name: "Vera", Role: ground.RoleEngineer}
	p, err := l.Changes.Propose(
		ctx,
		engineer,
		api.NewProposal{Kind: "application", Slug: "tides", Application: &mine, Remark: "a description"},
	)
	require.NoError(t, err)
	_, err = l.Configuration.SaveApplication(ctx, other, "tides", theirs, held.Revision)
	require.NoError(t, err)
	clash := held.Application
	clash.Name = "Low Water"
	_, err = l.Configuration.SaveApplication(ctx, engineer, "tides", clash, held.Revision)
	require.ErrorContains(t, err, "was changed by Vera since you opened it")
	problem := err.(*api.Problem)
	require.NotNil(t, problem.Meanwhile)
	assert.Equal(t, []api.Change{{Field: "name", Before: "Tide Tables", After: "High Water"}}, problem.Meanwhile.Theirs)
	assert.Equal(t, []api.Change{{Field: "name", Before: "Tide Tables", After: "Low Water"}}, problem.Meanwhile.Mine)
	assert.Equal(t, []string{"name"}, problem.Meanwhile.Both)

	p, err = l.Changes.Proposal(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, "Vera", p.Meanwhile.By)
	assert.Empty(t, p.Meanwhile.Both)
	second, err := l.Changes.Propose(ctx, engineer, api.NewProposal{Kind: "application", Slug: "tides", Application: &clash})
	require.NoError(t, err)
	_, err = l.Changes.ApplyProposal(ctx, engineer, p.ID, api.ApplyProposal{})
	require.NoError(t, err)
	now, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	assert.Equal(t, []string{"High Water", "When the water is high."}, []string{now.Name, now.Description}, "both changes hold")
	later := now.Application
	later.Name = "Slack Water"
	_, err = l.Configuration.SaveApplication(ctx, other, "tides", later, now.Revision)
	require.NoError(t, err)
	_, err = l.Changes.ApplyProposal(ctx, engineer, second.ID, api.ApplyProposal{})
	assert.ErrorContains(t, err, "in name as well")
	_, err = l.Changes.WithdrawProposal(ctx, engineer, second.ID, "theirs holds")
	require.NoError(t, err)
	_, err = l.Changes.Propose(ctx, engineer, api.NewProposal{Kind: "application", Slug: "tides", Application: &later})
	assert.ErrorContains(t, err, "nothing to propose")
	_, err = l.Changes.Propose(ctx, engineer, api.NewProposal{Kind: "provider", Slug: "tides", Application: &later})
	assert.Equal(t, 400, testbed.Status(err))
}

// TestASecondPersonLooks where the operator wants that, and a window is kept.
func TestASecondPersonLooks(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	clock := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	l.Gate.Now = func() time.Time { return clock }
	_, err := l.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: texts(coast)})
	require.NoError(t, err)
	_, err = l.Changes.SetReview(ctx, testbed.Owner, config.Review{Second: true})
	require.NoError(t, err)
	held, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	change := held.Application
	change.Description = "When the water is high."
	for name, do := range map[string]func() error{
		"saving": func() error {
			_, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "tides", change, 0)
			return err
		},
		"loading": func() error {
			_, err := l.Changes.LoadConfig(ctx, testbed.Owner,
				api.LoadConfig{Files: texts(strings.Replace(coast, "name: Tide Tables", "name: Tides", 1))})
			return err
		},
		"deleting": func() error { return l.Configuration.DeleteApplication(ctx, testbed.Owner, "tides") },
		"opening": func() error {
			return l.Configuration.SetReach(ctx, testbed.Owner, "application", "buoys", access.Everyone)
		},
	} {
		assert.ErrorContains(t, do(), "changes of what does need two", name)
	}
	draft, err := l.Checkups.Application(ctx, "buoys")
	require.NoError(t, err)
	draft.Application.Description = "Where they lie."
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, "buoys", draft.Application, 0)
	require.NoError(t, err, "a draft harms nobody")
	_, err = l.Configuration.ChangeReach(ctx, engineer, "application", "tides", api.ReachChange{Reach: access.Closed})
	require.NoError(t, err, "closing is always possible")
	require.NoError(t, l.Configuration.UndoReach(ctx, engineer, "application", "tides"))

	p, err := l.Changes.Propose(ctx, engineer, api.NewProposal{Kind: "application", Slug: "tides", Application: &change})
	require.NoError(t, err)
	assert.True(t, p.NeedsSecond)
	_, err = l.Changes.ApplyProposal(ctx, testbed.Owner, p.ID, api.ApplyProposal{})
	assert.ErrorContains(t, err, "Nobody has approved")
	_, err = l.Changes.ApproveProposal(ctx, engineer, p.ID)
	assert.Equal(t, 403, testbed.Status(err), "nobody approves their own")
	_, err = l.Changes.ApproveProposal(ctx, testbed.Owner, p.ID)
	require.NoError(t, err)
	// Changed after it was approved, it has to be approved anew.
	change.Description = "When the water is high, and when it is low."
	p, err = l.Changes.ChangeProposal(ctx, engineer, p.ID, api.NewProposal{Kind: "application", Slug: "tides", Application: &change})
	require.NoError(t, err)
	assert.Empty(t, p.ApprovedBy)
	_, err = l.Changes.ApproveProposal(ctx, testbed.Owner, p.ID)
	require.NoError(t, err)
	from, until := clock.Add(time.Hour), clock.Add(2*time.Hour)
	_, err = l.Changes.ApplyProposal(ctx, engineer, p.ID, api.ApplyProposal{From: &until, Until: &from})
	assert.ErrorContains(t, err, "ends before it begins")
	_, err = l.Changes.ApplyProposal(ctx, engineer, p.ID, api.ApplyProposal{From: &from, Until: &until})
	require.NoError(t, err)
	require.NoError(t, l.Changes.ApplyDue(ctx))
	now, err := l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	assert.Empty(t, now.Description, "its window has not come")
	clock = from
	require.NoError(t, l.Changes.ApplyDue(ctx))
	now, err = l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	assert.Equal(t, change.Description, now.Description)
	list, err := l.Changes.History(ctx, page(""), changes.HistoryFilter{Kind: files.Application, Slug: "tides"})
	require.NoError(t, err)
	assert.Contains(t, list.Items[0].Remark, "(approved by "+testbed.Owner.Name+")")

	// One whose window goes by is given up, and said so.
	change.Name = "Tides"
	p, err = l.Changes.Propose(ctx, engineer, api.NewProposal{Kind: "application", Slug: "tides", Application: &change})
	require.NoError(t, err)
	_, err = l.Changes.ApproveProposal(ctx, testbed.Owner, p.ID)
	require.NoError(t, err)
	from, until = clock.Add(time.Hour), clock.Add(2*time.Hour)
	_, err = l.Changes.ApplyProposal(ctx, engineer, p.ID, api.ApplyProposal{From: &from, Until: &until})
	require.NoError(t, err)
	clock = until.Add(time.Minute)
	require.NoError(t, l.Changes.ApplyDue(ctx))
	p, err = l.Changes.Proposal(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, changes.ProposalMissed, p.State)
	assert.Contains(t, p.Note, "window went by")

	// One that was planned while nobody had to approve it is not made once somebody has to.
	_, err = l.Changes.SetReview(ctx, testbed.Owner, config.Review{})
	require.NoError(t, err)
	p, err = l.Changes.Propose(ctx, engineer, api.NewProposal{Kind: "application", Slug: "tides", Application: &change})
	require.NoError(t, err)
	from, until = clock.Add(time.Hour), clock.Add(2*time.Hour)
	_, err = l.Changes.ApplyProposal(ctx, engineer, p.ID, api.ApplyProposal{From: &from, Until: &until})
	require.NoError(t, err)
	_, err = l.Changes.SetReview(ctx, testbed.Owner, config.Review{Second: true})
	require.NoError(t, err)
	clock = from
	require.NoError(t, l.Changes.ApplyDue(ctx))
	p, err = l.Changes.Proposal(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, changes.ProposalMissed, p.State)
	assert.Contains(t, p.Note, "Nobody has approved")
	now, err = l.Checkups.Application(ctx, "tides")
	require.NoError(t, err)
	assert.NotEqual(t, "Tides", now.Name)
}

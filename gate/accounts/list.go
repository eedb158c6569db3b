package accounts

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/scim"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// Filter narrows a list of accounts.
type Filter struct{ State, Kind string }

// states are the stored states behind each that people choose.
var states = map[string][]string{
	InStep: {InStep}, Approval: {Approval}, Due: {Due}, Failed: {Failed, Again}, Foreign: {Foreign}, Ignored: {Ignored},
}

// drifted is chosen beside the states: accounts that the application changed.
const drifted = "drifted"

// changedThere are accounts that were as they should be, and are no more. Of others the same column says what would be changed.
const changedThere = "drift <> '' AND sent <> ''"

var columns = map[string]string{"name": "name_key", "updated": "updated_at"}

// namesShown is how many names are shown of those who would be gone.
const namesShown = 50

// List lists a page of an application's accounts.
func (g *Room) List(ctx context.Context, slug string, p store.Page, f Filter) (*api.List[api.Account], error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	db := g.Store.Read(ctx).Where("application_id = ?", app.ID)
	switch {
	case f.State == drifted:
		db = db.Where(changedThere)
	case f.State != "" && states[f.State] == nil:
		return nil, ground.BadRequest("bad-state", "There is no state "+f.State+".",
			"Choose step, approval, due, failed, foreign, ignored or drifted.")
	case f.State != "":
		db = db.Where("state IN ?", states[f.State])
	}
	if f.Kind != "" {
		db = db.Where("kind = ?", f.Kind)
	}
	if search := strings.TrimSpace(p.Search); search != "" {
		key := people.SortKey(search)
		db = db.Where("(name_key >= ? AND name_key < ? OR remote_name LIKE ?)", key, key+"\U0010FFFF",
			strings.NewReplacer("%", "", "_", "").Replace(search)+"%")
	}
	p.Search = ""
	sorted := strings.TrimPrefix(p.Sort, "-")
	if db, err = p.Rows(db, columns, "name"); err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []store.KeptAccount
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	key := func(r *store.KeptAccount) string {
		if sorted == "updated" {
			return store.AfterKey(r.UpdatedAt.UTC().Format("2006-01-02 15:04:05.999999999-07:00"), r.ID)
		}
		return store.AfterKey(r.NameKey, r.ID)
	}
	return ground.PageOf(p, rows, key, func(r *store.KeptAccount) (*api.Account, error) { return g.view(ctx, r) })
}

// view is an account as people see it.
func (g *Room) view(ctx context.Context, r *store.KeptAccount) (*api.Account, error) {
	v := &api.Account{ID: r.ID, Kind: r.Kind, Who: r.WhoID, Name: r.Name, State: r.State, Would: r.Would, Wanted: r.Wanted,
		RemoteID: r.RemoteID, RemoteName: r.RemoteName, There: r.There, Code: r.Code, Reason: r.Reason, Tries: r.Tries,
		Unkept: unkept(r), Accepted: left(r), By: r.By, Updated: r.UpdatedAt}
	if r.State == Again {
		at := r.NextAt
		v.State, v.NextTry = Failed, &at
	}
	if r.Kind == OfForeign {
		v.Who = ""
	}
	if r.Drift != "" {
		if err := json.Unmarshal([]byte(r.Drift), &v.Drift); err != nil {
			return nil, err
		}
	}
	if r.Kind == OfGroup {
		group, err := store.One[store.Group](g.Store.Read(ctx), "id = ?", r.WhoID)
		if err != nil {
			return nil, err
		}
		v.Who = group.Slug
	}
	return v, nil
}

// row finds an account of an application.
func (g *Room) row(ctx context.Context, app *partners.Application, id string) (*store.KeptAccount, error) {
	row, err := store.One[store.KeptAccount](g.Store.Read(ctx), "id = ? AND application_id = ?", id, app.ID)
	if err == nil && row.ID == "" {
		return nil, ground.NotFound("account", id)
	}
	return &row, err
}

// talksShown is how many steps of an account's history are shown.
const talksShown = 30

// One shows an account with its whole history.
func (g *Room) One(ctx context.Context, slug, id string) (*api.AccountDetail, error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	row, err := g.row(ctx, app, id)
	if err != nil {
		return nil, err
	}
	v, err := g.view(ctx, row)
	if err != nil {
		return nil, err
	}
	out := &api.AccountDetail{Account: *v, Values: []api.AccountValue{}, Talks: []api.AccountTalk{}}
	if row.Kind == OfPerson {
		if err := g.explainPerson(ctx, app, row, out); err != nil {
			return nil, err
		}
	}
	if row.Kind == OfGroup {
		out.Why = "Groups named " + strings.Join(app.Accounts.Groups, ", ") + " go along."
		out.Values = append(out.Values, api.AccountValue{Path: "displayName", Value: row.Name})
	}
	code := row.Code
	if code == "" && row.Drift != "" && row.Sent != "" {
		code = string(explain.SCIMDrift)
	}
	if code != "" {
		e := explain.New(explain.Code(code)).Of(app.Name).Explain()
		out.Remedy, out.Side = e.Remedy, string(e.Side)
	}
	out.Talks, out.Silent, err = g.talks(ctx, app.ID, row.ID)
	return out, err
}

// explainPerson says why somebody has an account, or none, and what it should be.
func (g *Room) explainPerson(ctx context.Context, app *partners.Application, row *store.KeptAccount, out *api.AccountDetail) error {
	persons, err := g.people(ctx, []string{row.WhoID})
	if err != nil {
		return err
	}
	w := persons[row.WhoID]
	if _, out.Why = w.entitled(app); w == nil {
		return nil
	}
	able, err := g.able(ctx, app)
	if err != nil {
		return err
	}
	targets, err := able.targets(app, w)
	var f *explain.Failure
	if errors.As(err, &f) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, t := range targets {
		if t.Value != nil {
			out.Values = append(out.Values, api.AccountValue{Path: t.Path.String(), Value: scim.Shown(t.Value)})
		}
	}
	return nil
}

// talks are what went between the gate and the application about an account, the newest first, whichever node it was that sent; and
// the nodes that did not say what they sent.
func (g *Room) talks(ctx context.Context, applicationID, accountID string) (out []api.AccountTalk, silent []string, err error) {
	query := g.Store.Traces.Read(ctx).Model(&store.AccountTalk{}).Where("application_id = ? AND account_id = ?", applicationID, accountID).
		Order("id DESC").Limit(talksShown)
	newest := func(a, b store.AccountTalk) int { return cmp.Compare(b.ID, a.ID) }
	rows, silent, err := traces.GatherAll(ctx, g.traces, query, newest)
	if err != nil {
		return nil, nil, err
	}
	out = []api.AccountTalk{}
	for _, r := range rows[:min(len(rows), talksShown)] {
		data, err := g.Store.Sealer.Open(store.PlaceTalk, r.ID, r.Entries)
		if err != nil {
			return nil, nil, err
		}
		t := api.AccountTalk{ID: r.ID, At: r.At, What: r.What, Result: r.Result, Code: r.Code, Micros: r.Micros,
			Entries: []trace.Entry{}}
		if err := json.Unmarshal(data, &t.Entries); err != nil {
			return nil, nil, err
		}
		out = append(out, t)
	}
	return out, silent, nil
}

// Accounts shows how keeping an application's accounts stands as a whole. Names are left out for whoever may not see them.
func (g *Room) Accounts(ctx context.Context, who ground.Actor, slug string) (*api.Accounts, error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	pump, err := store.One[store.AccountPump](g.Store.Read(ctx), "application_id = ?", app.ID)
	if err != nil {
		return nil, err
	}
	v := &api.Accounts{On: app.Accounts.On, ComparedAt: pump.ComparedAt, Counts: map[string]int{}, Code: pump.Code, Reason: pump.Reason,
		Asking: pump.Asking}
	whole := app.Application
	how := *app.Accounts
	how.Mapping, whole.Accounts = app.AccountRules, &how
	v.Subject = checkup.SubjectDiffers(&whole)
	if pump.PausedUntil != nil && pump.PausedUntil.After(g.Now()) {
		v.PausedUntil = pump.PausedUntil
	}
	switch {
	case app.Accounts.On && pump.ComparedAt == nil:
		v.Code = string(explain.SCIMNotCompared)
	case v.Code == "" && v.Asking > 0:
		v.Code = string(explain.SCIMTooManyGone)
	}
	if v.Code != "" {
		e := explain.New(explain.Code(v.Code), explain.Fact("accounts", fmt.Sprint(v.Asking))).Of(app.Name).Explain()
		if v.Remedy = e.Remedy; v.Reason == "" {
			v.Reason = e.Cause
		}
	}
	if err := g.counts(ctx, app.ID, v); err != nil {
		return nil, err
	}
	if ground.Allows(who.Role, ground.RoleEngineer) && v.Asking > 0 {
		if err := g.Store.Read(ctx).Raw("SELECT name FROM kept_accounts WHERE application_id = ? AND kind = 'person' AND state IN ('due', "+
			"'again') AND NOT wanted AND NOT agreed ORDER BY name_key LIMIT ?", app.ID, namesShown).Scan(&v.Names).Error; err != nil {
			return nil, store.Clear(err)
		}
	}
	able, err := g.able(ctx, app)
	if err != nil {
		return nil, err
	}
	if v.Settable = able.users.Settable(); able.Asked {
		v.Can = able.view()
	}
	last, err := g.lastComparison(ctx, app.ID)
	if err != nil {
		return nil, err
	}
	if last.ID != "" {
		v.Comparison = comparisonView(&last)
	}
	v.Secrets, err = g.partners.SecretViews(ctx, partners.AccountOwner(app.ID))
	return v, err
}

// counts counts the accounts by how they stand.
func (g *Room) counts(ctx context.Context, applicationID string, v *api.Accounts) error {
	var rows []struct {
		State string
		N     int
	}
	if err := g.Store.Read(ctx).Raw("SELECT state, count(*) AS n FROM kept_accounts WHERE application_id = ? GROUP BY state",
		applicationID).Scan(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for name := range states {
		v.Counts[name] = 0
	}
	for _, r := range rows {
		if r.State == Again {
			r.State = Failed
		}
		v.Counts[r.State] += r.N
	}
	var changed, open int
	err := g.Store.Row(ctx, "SELECT (SELECT count(*) FROM kept_accounts WHERE application_id = ? AND "+changedThere+"), "+
		"(SELECT count(*) FROM (SELECT 1 FROM account_news LIMIT 1))", applicationID).Scan(&changed, &open)
	v.Counts[drifted], v.Open = changed, open > 0
	return store.Clear(err)
}

// Standing counts all accounts by how they stand, at all applications.
func (g *Room) Standing(ctx context.Context) (map[string]int64, error) {
	var rows []struct {
		State string
		N     int64
	}
	if err := g.Store.Read(ctx).Raw("SELECT state, count(*) AS n FROM kept_accounts GROUP BY state").Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := map[string]int64{}
	for _, r := range rows {
		if r.State == Again {
			r.State = Failed
		}
		out[r.State] += r.N
	}
	return out, nil
}

// view is what an application can do, as people see it.
func (a *abilities) view() *api.AccountAbilities {
	v := &api.AccountAbilities{At: a.At, Patch: a.Can.Patch, Filter: a.Can.Filter, Bulk: a.Can.Bulk, Sort: a.Can.Sort, ETag: a.Can.ETag,
		Cursor: a.Can.Cursor, MaxResults: a.Can.MaxResults, Schemas: append([]string{}, a.Joined...), Paths: []string{}}
	for _, s := range a.users.Extensions {
		for _, at := range s.Attributes {
			v.Paths = append(v.Paths, s.ID+":"+at.Name)
		}
	}
	return v
}

// Found is what has to be done about an application's accounts.
func (g *Room) Found(ctx context.Context, applicationID string) ([]checkup.Finding, error) {
	app, err := g.partners.ApplicationByID(ctx, applicationID)
	if ground.IsNotFound(err) || err == nil && app.Accounts == nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	pump, err := store.One[store.AccountPump](g.Store.Read(ctx), "application_id = ?", applicationID)
	if err != nil {
		return nil, err
	}
	v := &api.Accounts{Counts: map[string]int{}}
	if err := g.counts(ctx, applicationID, v); err != nil {
		return nil, err
	}
	s := checkup.AccountState{Name: app.Name, On: app.Accounts.On, Compared: pump.ComparedAt != nil, Asking: pump.Asking,
		Failed: v.Counts[Failed], Drift: v.Counts[drifted], Code: pump.Code, Reason: pump.Reason, Tries: pump.Tries}
	secrets, err := g.partners.SecretViews(ctx, partners.AccountOwner(applicationID))
	for _, one := range secrets {
		if one.State == active {
			s.Ends = one.Expires
		}
	}
	return checkup.AccountFindings(s, g.Now()), err
}

// reasonOf is an error for people.
func reasonOf(err error) string {
	var f *explain.Failure
	if errors.As(err, &f) {
		return f.Explain().Cause
	}
	return err.Error()
}

// Try asks an application's SCIM service what it can do and how many accounts it has, without changing anything there: with the
// secret that counts, or with the next one.
func (g *Room) Try(ctx context.Context, slug string, next bool) (*api.TriedAccounts, error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	state := active
	if next {
		state = keyring.KeyNext
	}
	out := &api.TriedAccounts{Remarks: []string{}, Entries: []trace.Entry{}}
	t, err := g.newTalk(ctx, app, state)
	var a *abilities
	if err == nil {
		a, out.Remarks, err = t.learn(ctx)
	}
	if err == nil {
		out.Users, err = t.count(ctx)
	}
	if t != nil {
		out.Entries = clipped(t.rec.Entries())
	}
	var f *explain.Failure
	if errors.As(err, &f) {
		e := f.Explain()
		out.Text, out.Code, out.Remedy = e.Cause, string(e.Code), e.Remedy
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	a.Asked = true
	if out.Remarks == nil {
		out.Remarks = []string{}
	}
	if err := g.keepAbilities(ctx, app, a); err != nil {
		return nil, err
	}
	able, err := g.able(ctx, app)
	if err != nil {
		return nil, err
	}
	out.OK, out.Can = true, able.view()
	out.Text = app.Name + " answers, and takes the token. Nothing was changed there."
	return out, nil
}

// count asks how many accounts there are.
func (t *talk) count(ctx context.Context) (int, error) {
	r, err := t.ask(ctx, "GET", scim.Users.Endpoint+"?count=1", nil, "")
	if err != nil {
		return 0, err
	}
	if r.status == 404 {
		return 0, explain.New(explain.SCIMNoService, explain.Fact("answer", "404 at "+t.app.Accounts.Address+"/Users")).Of(t.app.Name)
	}
	if r.status != 200 {
		return 0, t.refused(r)
	}
	page, refused := scim.ReadPage(r.body)
	if refused != nil {
		return 0, t.unreadable(refused.Detail)
	}
	return page.Total, nil
}

// Tidy forgets accounts that were taken away long ago.
func (g *Room) Tidy(t *ground.Tidying) error {
	return t.Delete(ground.Over{Model: &store.KeptAccount{}, Where: "NOT wanted AND remote_id = '' AND state = 'step' AND removed_at < ?",
		Arg: t.Now.Add(-forgetAfter)})
}

// TidyTalks forgets what was said long ago, in the file of traces.
func (g *Room) TidyTalks(t *ground.Tidying) error {
	return t.Delete(ground.Over{Model: &store.AccountTalk{}, Where: "at < ?", Arg: t.Now.Add(-talksKept)})
}

const (
	forgetAfter = 30 * 24 * time.Hour
	talksKept   = 90 * 24 * time.Hour
)

package accounts

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/core/scim"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// How a comparison stands.
const (
	Working = "working"
	Done    = "done"
	Stopped = "stopped"
)

const (
	pageSize        = 100
	comparisonsKept = 30
	// silent is how long a comparison at work says nothing at most; after that its process was stopped.
	silent = 5 * time.Minute
)

// Compare begins to compare all accounts of an application with what they should be. Nothing is changed there by it.
func (g *Room) Compare(ctx context.Context, who ground.Actor, slug string) (*api.AccountComparison, error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	row := &store.AccountComparison{ID: store.NewID(), ApplicationID: app.ID, State: Working, By: who.Name, StartedAt: now, UpdatedAt: now}
	work, stop := context.WithCancel(context.WithoutCancel(ctx))
	g.mu.Lock()
	_, busy := g.comparing[app.ID]
	if !busy {
		g.comparing[app.ID] = stop
	}
	g.mu.Unlock()
	if busy {
		stop()
		return nil, ground.Conflict("comparing", "The accounts of "+app.Name+" are being compared just now.", "Wait for it.")
	}
	if err := g.saveComparison(ctx, row); err != nil {
		g.compared(app.ID, stop)
		return nil, err
	}
	view := comparisonView(row)
	go func() {
		defer g.compared(app.ID, stop)
		c := &comparison{Room: g, app: app, row: row}
		if err := c.run(ground.OneLook(work)); err != nil {
			row.State, row.Note = Stopped, words.Capitalise(reasonOf(err))
		}
		row.UpdatedAt = g.Now().UTC()
		if err := g.saveComparison(context.WithoutCancel(work), row); err != nil {
			g.Log.ErrorContext(ctx, "how a comparison stands could not be written", "error", err)
		}
		g.nudge()
	}()
	return view, nil
}

func (g *Room) compared(applicationID string, stop func()) {
	stop()
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.comparing, applicationID)
}

// CompareDue begins the comparisons that are due by schedule. The first is somebody's to begin.
func (g *Room) CompareDue(ctx context.Context) error {
	apps, err := g.switched(ctx)
	if err != nil {
		return err
	}
	for _, app := range apps {
		if !app.Accounts.On {
			continue
		}
		pump, err := store.One[store.AccountPump](g.Store.Read(ctx), "application_id = ?", app.ID)
		if err != nil {
			return err
		}
		last, err := g.lastComparison(ctx, app.ID)
		if err != nil {
			return err
		}
		every := time.Duration(app.Accounts.CompareHours) * time.Hour
		if last.State == Stopped {
			every = min(every, time.Hour)
		}
		if pump.ComparedAt == nil || last.State == Working || g.Now().Sub(last.StartedAt) < every {
			continue
		}
		if _, err := g.Compare(ctx, ground.Actor{Name: "schedule", Role: ground.RoleOwner}, app.Slug); err != nil {
			g.Log.WarnContext(ctx, "accounts could not be compared by schedule", "application", app.Slug, "error", err)
		}
	}
	return nil
}

// lastComparison is the newest. One that says it is at work and is not may have ended since it was read: it is read once more; and if it
// still says so, the service was stopped meanwhile.
func (g *Room) lastComparison(ctx context.Context, applicationID string) (row store.AccountComparison, err error) {
	dead := false
	for range 2 {
		row = store.AccountComparison{}
		err = g.Store.Read(ctx).Where("application_id = ?", applicationID).Order("id DESC").Limit(1).Find(&row).Error
		if dead = g.dead(&row); err != nil || !dead {
			break
		}
	}
	if dead {
		row.State, row.Note = Stopped, "The service was stopped meanwhile. Compare again."
	}
	return row, store.Clear(err)
}

// dead says whether a comparison is no longer at work that says it is.
func (g *Room) dead(row *store.AccountComparison) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	_, here := g.comparing[row.ApplicationID]
	return row.State == Working && !here && (!g.Spread.Load() || g.Now().Sub(row.UpdatedAt) > silent)
}

func (g *Room) saveComparison(ctx context.Context, row *store.AccountComparison) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM account_comparisons WHERE application_id = ? AND id NOT IN (SELECT id FROM account_comparisons WHERE "+
			"application_id = ? ORDER BY id DESC LIMIT ?)", row.ApplicationID, row.ApplicationID, comparisonsKept).Error
	})
}

func comparisonView(r *store.AccountComparison) *api.AccountComparison {
	return &api.AccountComparison{ID: r.ID, State: r.State, By: r.By, There: r.There, Groups: r.Groups, Same: r.Same, Create: r.Create,
		Change: r.Change, Remove: r.Remove, Foreign: r.Foreign, Drifted: r.Drifted, Note: r.Note, Started: r.StartedAt,
		Touched: r.UpdatedAt}
}

// comparison is one at work.
type comparison struct {
	*Room
	app  *partners.Application
	able *abilities
	talk *talk
	row  *store.AccountComparison
}

func (c *comparison) run(ctx context.Context) error {
	t, err := c.newTalk(ctx, c.app, active)
	if err != nil {
		return err
	}
	learnt, _, err := t.learn(ctx)
	if err != nil {
		return err
	}
	learnt.Asked = true
	if err := c.keepAbilities(ctx, c.app, learnt); err != nil {
		return err
	}
	if c.able, err = c.Room.able(ctx, c.app); err != nil {
		return err
	}
	c.talk = t
	if err := c.workOutAll(ctx); err != nil { // what changed so far counts too
		return err
	}
	if err := c.pages(ctx, c.able.users, "", c.users); err != nil {
		return err
	}
	if len(c.app.Accounts.Groups) > 0 {
		if err := c.pages(ctx, scim.Groups, "&excludedAttributes=members", c.groups); err != nil {
			return err
		}
	}
	if err := c.missing(ctx); err != nil {
		return err
	}
	return c.finish(ctx)
}

// pages reads all resources of a kind, a page at a time: by cursor where the application has them (RFC 9865), else by number.
func (c *comparison) pages(ctx context.Context, k *scim.Kind, more string, each func(context.Context, []scim.Resource) error) error {
	size := pageSize
	if most := c.able.Can.MaxResults; most > 0 {
		size = min(size, most)
	}
	cursor, start := "", 1
	if c.able.Can.Cursor {
		cursor = "&cursor="
	}
	for {
		path := fmt.Sprintf("%s?count=%d%s", k.Endpoint, size, more)
		if c.able.Can.Cursor {
			path += cursor
		} else {
			path += fmt.Sprintf("&startIndex=%d", start)
		}
		c.talk.rec = nil // of thousands of accounts nothing is recorded
		r, err := c.talk.ask(ctx, http.MethodGet, path, nil, "")
		if err != nil {
			return err
		}
		if r.status != http.StatusOK {
			return c.talk.refused(r)
		}
		page, refused := scim.ReadPage(r.body)
		if refused != nil {
			return c.talk.unreadable(words.Clip(refused.Detail, 300))
		}
		var list []scim.Resource
		for _, one := range page.Items {
			whole, refused := k.Whole(one)
			if refused != nil || whole.ID() == "" {
				return c.talk.unreadable("a resource of the list can't be read")
			}
			list = append(list, whole)
		}
		if err := each(ctx, list); err != nil {
			return err
		}
		start += len(page.Items)
		if c.able.Can.Cursor {
			if page.Next == "" {
				return nil
			}
			cursor = "&cursor=" + url.QueryEscape(page.Next)
		} else if len(page.Items) == 0 || start > page.Total {
			return nil
		}
		if start > 2_000_000 {
			return c.talk.unreadable("the list has no end")
		}
	}
}

// users takes a page of accounts: whose each is, and whether it is as it should be.
func (c *comparison) users(ctx context.Context, page []scim.Resource) error {
	if len(page) == 0 {
		return nil
	}
	held, err := c.whose(ctx, page)
	if err != nil {
		return err
	}
	var ids []string
	for _, row := range held {
		if row != nil {
			ids = append(ids, row.WhoID)
		}
	}
	persons, err := c.people(ctx, ids)
	if err != nil {
		return err
	}
	var rows []*store.KeptAccount
	for i, there := range page {
		c.row.There++
		row := held[i]
		if row == nil {
			rows = append(rows, c.foreign(there))
			continue
		}
		c.judge(row, persons[row.WhoID], there)
		row.SeenIn = c.row.ID
		rows = append(rows, row)
	}
	c.row.UpdatedAt = c.Now().UTC()
	return c.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, r := range rows {
			if err := saveCompared(tx, r); err != nil {
				return err
			}
		}
		return tx.Save(c.row).Error
	})
}

// whose finds for each account there the one that is known here: by its identifier, by ours, or by its names.
func (c *comparison) whose(ctx context.Context, page []scim.Resource) ([]*store.KeptAccount, error) {
	var remote, external, names []string
	for _, r := range page {
		remote = append(remote, r.ID())
		if e := r.Text("externalId"); e != "" {
			external = append(external, e)
		}
		names = append(names, people.Key(r.Text("userName")))
		if m := mailOf(r); m != "" {
			names = append(names, people.Key(m))
		}
	}
	byRemote, byWho := map[string]*store.KeptAccount{}, map[string]*store.KeptAccount{}
	var rows []*store.KeptAccount
	if err := c.Store.Read(ctx).Where("application_id = ? AND kind = 'person' AND remote_id IN ?", c.app.ID,
		remote).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, r := range rows {
		byRemote[r.RemoteID] = r
	}
	own, err := c.keptRows(ctx, c.app.ID, OfPerson, external)
	if err != nil {
		return nil, err
	}
	for id, r := range own {
		byWho[id] = r
	}
	known, err := c.byNames(ctx, names)
	if err != nil {
		return nil, err
	}
	out, used := make([]*store.KeptAccount, len(page)), map[string]bool{}
	for i, r := range page {
		row := byRemote[r.ID()]
		if row == nil {
			if row = byWho[r.Text("externalId")]; row != nil && row.RemoteID != "" && row.RemoteID != r.ID() {
				row = nil // another account is known to be this person's
			}
		}
		if row == nil && r.Text("externalId") == "" {
			row = known.of(r)
		}
		if row == nil || used[row.ID] {
			continue
		}
		used[row.ID] = true
		out[i] = row
	}
	return out, nil
}

func mailOf(r scim.Resource) string {
	list, _ := r["emails"].([]any)
	for _, v := range list {
		o, _ := v.(map[string]any)
		if m, ok := o["value"].(string); ok {
			return m
		}
	}
	return ""
}

// named are accounts that are to be made, by the names that they would have; nil for a name that two would have.
type named map[string]*store.KeptAccount

// byNames finds people by user name or mail address whose accounts are not known yet.
func (c *comparison) byNames(ctx context.Context, names []string) (named, error) {
	out := named{}
	for len(names) > 0 {
		n := min(80, len(names))
		var rows []struct {
			store.KeptAccount
			UsernameKey, EmailKey string
		}
		if err := c.Store.Read(ctx).Raw("SELECT k.*, p.username_key, p.email_key FROM people p JOIN kept_accounts k ON "+
			"k.application_id = ? "+
			"AND k.kind = 'person' AND k.who_id = p.id WHERE (p.username_key IN ? OR p.email_key IN ?) AND k.wanted AND k.remote_id = ''",
			c.app.ID, names[:n], names[:n]).Scan(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for i := range rows {
			row := rows[i].KeptAccount
			for _, key := range []string{rows[i].UsernameKey, rows[i].EmailKey} {
				if held, twice := out[key]; twice && (held == nil || held.ID != row.ID) {
					out[key] = nil
				} else if key != "" && !twice {
					out[key] = &row
				}
			}
		}
		names = names[n:]
	}
	return out, nil
}

// of is whose an account could be by its user name or, failing that, its mail address.
func (n named) of(r scim.Resource) *store.KeptAccount {
	if row := n[people.Key(r.Text("userName"))]; row != nil {
		return row
	}
	return n[people.Key(mailOf(r))]
}

// foreign is an account there that is nobody's here.
func (c *comparison) foreign(r scim.Resource) *store.KeptAccount {
	c.row.Foreign++
	return &store.KeptAccount{ID: store.NewID(), ApplicationID: c.app.ID, Kind: OfForeign, WhoID: r.ID(), State: Foreign, NextAt: never,
		Name: nameOf(r), NameKey: people.SortKey(nameOf(r)), RemoteID: r.ID(), RemoteName: nameOf(r), Version: r.Version(),
		There: thereOf(r), SeenIn: c.row.ID, UpdatedAt: c.Now().UTC()}
}

// judge compares one account with what it should be.
func (c *comparison) judge(row *store.KeptAccount, w *who, there scim.Resource) {
	fresh := row.RemoteID == ""
	row.RemoteID, row.RemoteName, row.Version, row.There = there.ID(), nameOf(there), there.Version(), thereOf(there)
	row.Turn++
	row.UpdatedAt = c.Now().UTC()
	if row.State == Ignored || row.State == Foreign {
		return
	}
	if !row.Wanted {
		c.judgeUnwanted(row)
		return
	}
	targets, err := c.able.targets(c.app, w)
	if err != nil || w == nil {
		return // it fails when it is sent, and says why
	}
	list := scim.Differences(targets, there, append(left(row), unkept(row)...))
	sure := there.Text("externalId") == text(targets, "externalId")
	switch {
	case fresh && !sure && !row.Approved && !c.mayTake(row, targets, there):
		row.State, row.NextAt, row.Would = Approval, never, Change
		row.Reason = "There is an account " + nameOf(there) + " already; it would be taken as this person's."
		c.row.Change++
	case len(list) == 0:
		c.row.Same++
		row.Sent, row.Drift = short(targets), ""
		if row.State != Approval || sure || row.Approved {
			row.State, row.NextAt, row.Would, row.Code, row.Reason = InStep, never, "", "", ""
		}
	case fresh || row.State != InStep:
		c.row.Change++
		if row.Would = Change; row.State == Approval && (sure || row.Approved) {
			row.State, row.NextAt = Due, c.Now().UTC()
		}
		row.Drift = driftOf(list)
	default:
		c.drifted(row, list)
	}
}

// mayTake says whether an account that has the very user name of somebody is taken as theirs unasked.
func (c *comparison) mayTake(row *store.KeptAccount, targets []scim.Target, there scim.Resource) bool {
	return c.app.Accounts.Approve == config.ApproveNone && there.Text("externalId") == "" &&
		strings.EqualFold(there.Text("userName"), text(targets, "userName")) && row.State != Ignored
}

// judgeUnwanted looks at the account of somebody who is to have none.
func (c *comparison) judgeUnwanted(row *store.KeptAccount) {
	if row.There != "active" || row.State == Due || row.State == Again {
		if row.There == "active" {
			c.row.Remove++
		}
		return
	}
	if c.app.Accounts.Unassigned == config.AccountLeave {
		return
	}
	c.row.Remove++
	c.row.Drifted++
	row.Drift = ground.MustJSON([]api.AccountDifference{{Path: "active", Ours: "false", Theirs: "true"}})
	if c.app.Accounts.Drift == config.DriftCorrect {
		row.State, row.NextAt, row.Would, row.RemovedAt = Due, c.Now().UTC(), c.app.Accounts.Unassigned, nil
	}
}

// drifted is an account that was as it should be, and was changed there.
func (c *comparison) drifted(row *store.KeptAccount, list []scim.Difference) {
	c.row.Drifted++
	row.Drift = driftOf(list)
	switch c.app.Accounts.Drift {
	case config.DriftCorrect:
		c.row.Change++
		row.State, row.NextAt, row.Would = Due, c.Now().UTC(), Change
	case config.DriftAccept:
		row.Accepted, row.Drift = ground.MustJSON(accepted(row, list)), ""
	}
}

// accepted are the paths that are the application's from now on.
func accepted(row *store.KeptAccount, list []scim.Difference) []string {
	out := left(row)
	for _, d := range list {
		out = append(out, d.Path)
	}
	return out
}

func driftOf(list []scim.Difference) string {
	var out []api.AccountDifference
	for _, d := range list {
		out = append(out, api.AccountDifference{Path: d.Path, Ours: words.Clip(d.Ours, 500), Theirs: words.Clip(d.Theirs, 500)})
	}
	return ground.MustJSON(out)
}

// groups takes a page of groups: those that go along are known by our identifier or their name.
func (c *comparison) groups(ctx context.Context, page []scim.Resource) error {
	var rows []*store.KeptAccount
	for _, there := range page {
		c.row.Groups++
		var row store.KeptAccount
		external := there.Text("externalId") // one that somebody else gave a name of theirs is not known by its name
		if err := c.Store.Read(ctx).Where("application_id = ? AND kind = 'group' AND wanted AND "+
			"(remote_id = ? OR who_id = ? OR remote_id = '' AND name = ? AND ? = '')", c.app.ID, there.ID(), external,
			there.Text("displayName"), external).Limit(1).Find(&row).Error; err != nil {
			return store.Clear(err)
		}
		if row.ID == "" {
			continue
		}
		fresh := row.RemoteID == ""
		row.RemoteID, row.RemoteName, row.Version, row.There, row.SeenIn = there.ID(), nameOf(there), there.Version(), "active", c.row.ID
		row.Turn++
		sure := external == row.WhoID || row.Approved || c.app.Accounts.Approve == config.ApproveNone
		switch {
		case row.State == Ignored:
		case fresh && !sure:
			row.State, row.NextAt, row.Would = Approval, never, Change
			row.Reason = "There is a group of this name already; it would be taken as this one."
		case row.State == InStep || row.State == Approval && sure:
			row.State, row.NextAt, row.Would = Due, c.Now().UTC(), Change // its members are looked at when it is sent
		}
		rows = append(rows, &row)
	}
	return c.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, r := range rows {
			if err := saveCompared(tx, r); err != nil {
				return err
			}
		}
		return nil
	})
}

// missing looks for accounts that were there and are no more.
func (c *comparison) missing(ctx context.Context) error {
	return c.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM kept_accounts WHERE application_id = ? AND kind = 'foreign' AND seen_in <> ?", c.app.ID,
			c.row.ID).Error; err != nil {
			return err
		}
		now := c.Now().UTC()
		gone := ground.MustJSON([]api.AccountDifference{{Path: "id", Ours: "an account", Theirs: "none"}})
		// What was sent while the pages were read may be on none of them.
		const those = " WHERE application_id = ? AND kind = 'person' AND remote_id <> '' AND seen_in <> ? AND updated_at <= ?"
		n, err := store.Exec(tx, "UPDATE kept_accounts SET remote_id = '', there = '', version = '', turn = turn + 1, drift = ?, "+
			"would = 'create', state = 'due', next_at = ?"+those+" AND wanted AND state = 'step'", gone, now, c.app.ID, c.row.ID,
			c.row.StartedAt)
		if err != nil {
			return err
		}
		c.row.Drifted += int(n)
		return tx.Exec("UPDATE kept_accounts SET remote_id = '', there = '', version = '', sent = '', turn = turn + 1"+those, c.app.ID,
			c.row.ID, c.row.StartedAt).Error
	})
}

// finish counts what would be made, and notes that all were compared.
func (c *comparison) finish(ctx context.Context) error {
	err := c.Store.Row(ctx, "SELECT count(*) FROM kept_accounts WHERE application_id = ? AND kind = 'person' AND wanted AND "+
		"remote_id = '' AND state <> 'ignored'", c.app.ID).Scan(&c.row.Create)
	if err != nil {
		return store.Clear(err)
	}
	c.row.State = Done
	now := c.Now().UTC()
	return c.Store.Write(ctx, func(tx *gorm.DB) error {
		return savePump(tx, c.app.ID, map[string]any{"compared_at": now, "paused_until": nil, "tries": 0, "code": "", "reason": ""})
	})
}

// saveForeign writes an account of nobody, or what is known by now of one.
func saveForeign(tx *gorm.DB, r *store.KeptAccount) error {
	return tx.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "application_id"}, {Name: "kind"}, {Name: "who_id"}},
		DoUpdates: clause.AssignmentColumns([]string{"name", "name_key", "remote_name", "version", "there", "seen_in"}),
	}).Create(r).Error
}

// saveCompared writes what a comparison learnt of an account, unless it became another one since it was read.
func saveCompared(tx *gorm.DB, r *store.KeptAccount) error {
	if r.Kind == OfForeign {
		return saveForeign(tx, r)
	}
	if err := tx.Exec("UPDATE kept_accounts SET seen_in = ? WHERE id = ?", r.SeenIn, r.ID).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE kept_accounts SET state = ?, next_at = ?, would = ?, remote_id = ?, remote_name = ?, version = ?, there = ?, "+
		"sent = ?, accepted = ?, drift = ?, code = ?, reason = ?, removed_at = ?, turn = ?, updated_at = ? WHERE id = ? AND turn = ?",
		r.State, r.NextAt, r.Would, r.RemoteID, r.RemoteName, r.Version, r.There, r.Sent, r.Accepted, r.Drift, r.Code, r.Reason,
		r.RemovedAt, r.Turn, r.UpdatedAt, r.ID, r.Turn-1).Error
}

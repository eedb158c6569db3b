package accounts

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate/core/config"
	"innergate/core/people"
	"innergate/core/scim"
	"innergate/gate/partners"
	"innergate/store"
)

// keptRows are the accounts that are known of some people or groups at an application, by whose they are.
func (g *Room) keptRows(ctx context.Context, applicationID, kind string, ids []string) (map[string]*store.KeptAccount, error) {
	out := map[string]*store.KeptAccount{}
	for len(ids) > 0 {
		n := min(atOnce, len(ids))
		var rows []*store.KeptAccount
		if err := g.Store.Read(ctx).Where("application_id = ? AND kind = ? AND who_id IN ?", applicationID, kind, ids[:n]).
			Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, r := range rows {
			out[r.WhoID] = r
		}
		ids = ids[n:]
	}
	return out, nil
}

// stand works out how the accounts of some people stand at an application, now that something changed: those that become another way,
// and those of which nothing is left to know.
func (g *Room) stand(ctx context.Context, app *partners.Application, ids []string) (changed, gone []*store.KeptAccount, err error) {
	if len(ids) == 0 {
		return nil, nil, nil
	}
	held, err := g.keptRows(ctx, app.ID, OfPerson, ids)
	if err != nil {
		return nil, nil, err
	}
	persons, err := g.people(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	first, err := g.unapproved(ctx, app)
	if err != nil {
		return nil, nil, err
	}
	able, err := g.able(ctx, app)
	if err != nil {
		return nil, nil, err
	}
	s := &standing{app: app, now: g.Now().UTC(), first: first}
	for _, id := range ids {
		w := persons[id]
		yes, why := w.entitled(app)
		row := held[id]
		switch {
		case yes && row == nil:
			row = &store.KeptAccount{ID: store.NewID(), ApplicationID: app.ID, Kind: OfPerson, WhoID: id}
			s.wanted(row)
		case yes:
			if row.Wanted && row.State == InStep && row.Sent != "" && row.Sent == able.shortOf(app, w) {
				continue // what changed is nothing that is sent there
			}
			s.wanted(row)
		case row == nil:
			continue
		case s.nothingThere(row):
			gone = append(gone, row)
			continue
		default:
			if !s.unwanted(row, why, w != nil && !w.row.Active) {
				continue
			}
		}
		row.Name = w.shownAs(row.Name)
		row.NameKey = people.SortKey(row.Name)
		changed = append(changed, row)
	}
	return changed, gone, nil
}

// shortOf is what somebody's account should be, in short; empty where that can't be said.
func (a *abilities) shortOf(app *partners.Application, w *who) string {
	list, err := a.targets(app, w)
	if err != nil {
		return ""
	}
	return short(list)
}

// short is what an account should be as a few letters, to be compared.
func short(list []scim.Target) string {
	h := sha256.New()
	for _, t := range list {
		fmt.Fprintf(h, "%s\x1f%s\x1e", t.Path, scim.Shown(t.Value))
	}
	return base64.RawStdEncoding.EncodeToString(h.Sum(nil)[:12])
}

// unapproved says how many accounts may still be approved by hand before others are made unasked; -1 where all are.
func (g *Room) unapproved(ctx context.Context, app *partners.Application) (int, error) {
	switch app.Accounts.Approve {
	case config.ApproveNone:
		return 0, nil
	case config.ApproveFirst:
		var n int
		err := g.Store.Row(ctx, "SELECT count(*) FROM (SELECT 1 FROM kept_accounts WHERE application_id = ? AND approved LIMIT ?)", app.ID,
			app.Accounts.ApproveFirst).Scan(&n)
		return app.Accounts.ApproveFirst - n, store.Clear(err)
	}
	return -1, nil
}

// standing turns accounts into what they are after a change.
type standing struct {
	app   *partners.Application
	now   time.Time
	first int
}

// wanted has an account be there, as it should be.
func (s *standing) wanted(row *store.KeptAccount) {
	row.Wanted, row.RemovedAt, row.Agreed = true, nil, false
	if row.Would = Change; row.RemoteID == "" {
		row.Would = Create
	}
	row.UpdatedAt = s.now
	row.Turn++
	switch row.State {
	case Ignored, Approval:
		return
	}
	if s.first != 0 && !row.Approved && row.RemoteID == "" {
		row.State, row.NextAt = Approval, never
		return
	}
	s.due(row)
}

// due has something sent as soon as may be.
func (s *standing) due(row *store.KeptAccount) {
	row.State, row.NextAt, row.Tries, row.Code, row.Reason = Due, s.now, 0, "", ""
}

// nothingThere says whether an account that nobody is to have was never ours: what waits for approval may have been found there, but
// nobody has agreed yet that it is this person's, so nothing may be taken away.
func (s *standing) nothingThere(row *store.KeptAccount) bool {
	return row.State == Approval || row.State == Ignored && row.RemoteID == ""
}

// unwanted has an account be taken away, and says whether anything changes by that.
func (s *standing) unwanted(row *store.KeptAccount, why string, off bool) bool {
	how := s.app.Accounts.Unassigned
	if off && how != config.AccountDelete {
		how = config.AccountDeactivate // at once, whatever is set for those who are unassigned
	}
	if !row.Wanted && (row.State == Foreign || row.There != "active" && row.State == InStep) {
		return false
	}
	if !row.Wanted && row.Would == how && (row.State == Due || row.State == Again) {
		return false
	}
	row.Wanted, row.UpdatedAt = false, s.now
	row.Turn++
	if row.State == Ignored {
		return true
	}
	if how == config.AccountLeave {
		row.State, row.NextAt, row.Would, row.Code = Foreign, never, "", ""
		row.Reason = "It was left there: " + why + "."
		return true
	}
	row.Would = how
	s.due(row)
	row.Reason = why
	return true
}

// standGroups works out how groups stand at an application.
func (d *digest) standGroups(ctx context.Context, app *partners.Application) (changed, gone []*store.KeptAccount, err error) {
	var ids []string
	for id := range d.groups {
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return nil, nil, nil
	}
	held, err := d.keptRows(ctx, app.ID, OfGroup, ids)
	if err != nil {
		return nil, nil, err
	}
	groups := map[string]store.Group{}
	for rest := ids; len(rest) > 0; {
		n := min(atOnce, len(rest))
		var rows []store.Group
		if err := d.Store.Read(ctx).Where("id IN ?", rest[:n]).Find(&rows).Error; err != nil {
			return nil, nil, store.Clear(err)
		}
		for _, r := range rows {
			groups[r.ID] = r
		}
		rest = rest[n:]
	}
	first, err := d.unapproved(ctx, app)
	if err != nil {
		return nil, nil, err
	}
	s := &standing{app: app, now: d.Now().UTC(), first: first}
	for _, id := range ids {
		group, there := groups[id]
		row := held[id]
		switch {
		case there && app.Accounts.Pushes(group.Slug):
			if row == nil {
				row = &store.KeptAccount{ID: store.NewID(), ApplicationID: app.ID, Kind: OfGroup, WhoID: id}
			}
			s.wanted(row)
			row.Name, row.NameKey = group.Name, people.SortKey(group.Name)
		case row == nil:
			continue
		case s.nothingThere(row):
			gone = append(gone, row)
			continue
		case !s.unwanted(row, "the group no longer goes along", false):
			continue
		}
		changed = append(changed, row)
	}
	return changed, gone, nil
}

// saveStanding writes how an account stands, unless somebody did something with it since it was read. What was learnt meanwhile of the
// account there stays: only a sending, an adoption or a comparison writes that.
func saveStanding(tx *gorm.DB, row *store.KeptAccount) error {
	done := tx.Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "application_id"}, {Name: "kind"}, {Name: "who_id"}},
		Where:   clause.Where{Exprs: []clause.Expression{gorm.Expr("kept_accounts.turn = ?", row.Turn-1)}},
		DoUpdates: clause.Assignments(map[string]any{
			"state": row.State, "next_at": row.NextAt, "name": row.Name, "name_key": row.NameKey, "wanted": row.Wanted,
			"would":  gorm.Expr("CASE WHEN ? = 'create' AND kept_accounts.remote_id <> '' THEN 'change' ELSE ? END", row.Would, row.Would),
			"agreed": row.Agreed, "turn": row.Turn, "tries": row.Tries, "code": row.Code, "reason": row.Reason,
			"removed_at": row.RemovedAt, "updated_at": row.UpdatedAt,
		}),
	}).Create(row)
	if done.Error == nil && done.RowsAffected == 0 {
		return errMeanwhile
	}
	return done.Error
}

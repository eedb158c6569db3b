package accounts

import (
	"context"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// act is something that somebody does with accounts: those for which it makes sense, and what becomes of them.
type act struct {
	where string // of kept accounts
	set   string
	args  func(g *Room, who ground.Actor) []any
	words string // for the journal
	anew  bool   // it is worked out anew how they should stand
}

// acts are what can be done with many accounts at once.
var acts = map[string]act{
	"approve": {where: "state = 'approval'", set: "state = 'due', next_at = ?, approved = true, `by` = ?, tries = 0, code = '', " +
		"reason = ''", args: nowAndWho, words: "approved accounts"},
	"retry": {where: "state IN ('failed', 'again')", set: "state = 'due', next_at = ?, `by` = ?, tries = 0", args: nowAndWho,
		words: "tried accounts again"},
	"leave": {where: "state IN ('approval', 'due', 'again', 'failed', 'step', 'foreign')", set: "state = 'ignored', next_at = ?, `by` = ?",
		args: neverAndWho, words: "leaves accounts alone"},
	"keep": {where: "state = 'ignored' AND kind <> 'foreign'", set: "state = CASE WHEN " + unasked + " THEN 'approval' ELSE 'step' END, " +
		"sent = '', next_at = ?, `by` = ?", args: neverAndWho, words: "keeps accounts in step again", anew: true},
	"correct": {where: changedThere + " AND wanted AND " + takenCare, set: "state = 'due', next_at = ?, `by` = ?, would = 'change', " +
		"unkept = '', accepted = ''", args: nowAndWho, words: "sets accounts right"},
}

// takenCare is the condition for accounts that are kept: of others nothing is changed, or taken as agreed to, unless they are approved.
const takenCare = "state NOT IN ('approval', 'ignored', 'foreign')"

// unasked is the condition for accounts that were found for somebody, of which nobody has said yet that they are theirs.
const unasked = "NOT approved AND sent = '' AND remote_id <> ''"

func nowAndWho(g *Room, who ground.Actor) []any   { return []any{g.Now().UTC(), who.Name} }
func neverAndWho(_ *Room, who ground.Actor) []any { return []any{never, who.Name} }

// Act does something with accounts, and says with how many.
func (g *Room) Act(ctx context.Context, who ground.Actor, slug string, in api.AccountAct) (*api.AccountActed, error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	if len(in.IDs) > 1000 {
		return nil, ground.BadRequest("too-many", "1,000 accounts can be named at once.", "Name none to take all of them.")
	}
	switch in.Do {
	case "adopt":
		return g.adopt(ctx, who, app, in)
	case "accept":
		return g.accept(ctx, who, app, in)
	}
	a, ok := acts[in.Do]
	if !ok {
		return nil, ground.BadRequest("bad-act", fmt.Sprintf("%q can't be done with accounts.", in.Do),
			"Choose approve, retry, leave, keep, adopt, correct or accept.")
	}
	if in.Do == "leave" && len(in.IDs) == 0 {
		return nil, ground.BadRequest("whose", "Which accounts are to be left alone?", "Name them.")
	}
	count := 0
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		parts := [][]string{nil}
		if len(in.IDs) > 0 {
			parts = slices.Collect(slices.Chunk(in.IDs, atOnce))
		}
		for _, part := range parts {
			n, err := g.actOn(tx, who, app.ID, a, part)
			if err != nil {
				return err
			}
			count += n
		}
		return ground.Journal(tx, g.Now(), who, a.words, "application", app.ID, app.Name, "", fmt.Sprint(count))
	})
	g.nudge()
	return &api.AccountActed{Count: count}, err
}

// actOn does something with some accounts, or with all for which it makes sense.
func (g *Room) actOn(tx *gorm.DB, who ground.Actor, applicationID string, a act, ids []string) (int, error) {
	where, whose := " WHERE application_id = ? AND "+a.where, []any{applicationID}
	if ids != nil {
		where, whose = where+" AND id IN ?", append(whose, ids)
	}
	if a.anew {
		if err := tx.Exec("INSERT INTO account_news (kind, who_id, application_id, after) SELECT kind, who_id, application_id, '' FROM "+
			"kept_accounts"+where, whose...).Error; err != nil {
			return 0, err
		}
	}
	done := tx.Exec("UPDATE kept_accounts SET "+a.set+", turn = turn + 1, updated_at = ?"+where,
		append(append(a.args(g, who), g.Now().UTC()), whose...)...)
	return int(done.RowsAffected), done.Error
}

// adopt takes an account that is there as somebody's.
func (g *Room) adopt(ctx context.Context, who ground.Actor, app *partners.Application, in api.AccountAct) (*api.AccountActed, error) {
	if len(in.IDs) != 1 || in.Person == "" {
		return nil, ground.BadRequest("whose", "Which account is whose?", "Name one account that is there, and the person.")
	}
	there, err := g.row(ctx, app, in.IDs[0])
	if err != nil {
		return nil, err
	}
	if there.Kind != OfForeign {
		return nil, ground.Conflict("not-foreign", there.Name+" is not an account of nobody.", "Adopt an account that is none of ours.")
	}
	persons, err := g.people(ctx, []string{in.Person})
	if err != nil {
		return nil, err
	}
	w := persons[in.Person]
	if yes, why := w.entitled(app); !yes {
		return nil, ground.Conflict("not-entitled", "The person is to have no account there: "+why+".", "Assign the person first.")
	}
	now := g.Now().UTC()
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		held, err := store.One[store.KeptAccount](tx, "application_id = ? AND kind = 'person' AND who_id = ?", app.ID, in.Person)
		if err != nil {
			return err
		}
		if held.RemoteID != "" {
			return ground.Conflict("has-account", w.row.Name+" has the account "+held.RemoteName+" there already.",
				"Nobody has two accounts at one application.")
		}
		if err := tx.Exec("DELETE FROM kept_accounts WHERE id = ?", there.ID).Error; err != nil {
			return err
		}
		row := held
		if row.ID == "" {
			row = store.KeptAccount{ID: store.NewID(), ApplicationID: app.ID, Kind: OfPerson, WhoID: in.Person, Wanted: true}
		}
		row.Name, row.NameKey, row.Approved, row.By, row.UpdatedAt = w.row.Name, people.SortKey(w.row.Name), true, who.Name, now
		row.RemoteID, row.RemoteName, row.Version, row.There = there.RemoteID, there.RemoteName, there.Version, there.There
		row.State, row.Would, row.NextAt, row.Tries, row.Code, row.Reason = Due, Change, now, 0, "", ""
		row.Turn++
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "adopted the account", "application", app.ID, app.Name, there.RemoteName, w.row.Name)
	})
	g.nudge()
	return &api.AccountActed{Count: 1}, err
}

// accept leaves what the application changed: those values are its own from now on.
func (g *Room) accept(ctx context.Context, who ground.Actor, app *partners.Application, in api.AccountAct) (*api.AccountActed, error) {
	var rows []store.KeptAccount
	db := g.Store.Read(ctx).Where("application_id = ? AND kind = 'person' AND remote_id <> '' AND "+changedThere+" AND "+takenCare, app.ID)
	if len(in.IDs) > 0 {
		db = db.Where("id IN ?", in.IDs[:min(len(in.IDs), atOnce)])
	}
	if err := db.Limit(1000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		for i := range rows {
			v, err := g.view(ctx, &rows[i])
			if err != nil {
				return err
			}
			paths := v.Accepted
			for _, d := range v.Drift {
				paths = append(paths, d.Path)
			}
			if err := tx.Exec("UPDATE kept_accounts SET drift = '', accepted = ?, state = 'step', next_at = ?, would = '', "+
				"turn = turn + 1, `by` = ? WHERE id = ? AND turn = ?",
				ground.MustJSON(paths), never, who.Name, rows[i].ID, rows[i].Turn).Error; err != nil {
				return err
			}
		}
		return ground.Journal(tx, g.Now(), who, "accepted changes of accounts", "application", app.ID, app.Name, "", fmt.Sprint(len(rows)))
	})
	return &api.AccountActed{Count: len(rows)}, err
}

// Agree agrees that so many accounts are taken away as somebody has seen; where they are more by now, nothing happens.
func (g *Room) Agree(ctx context.Context, who ground.Actor, slug string, in api.AccountAgree) (*api.AccountActed, error) {
	app, err := g.app(ctx, slug)
	if err != nil {
		return nil, err
	}
	const those = " WHERE application_id = ? AND kind = 'person' AND state IN ('due', 'again') AND NOT wanted AND NOT agreed"
	var count int
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := store.RowIn(tx, "SELECT count(*) FROM kept_accounts"+those, app.ID).Scan(&count); err != nil {
			return err
		}
		if count != in.Count {
			return ground.Conflict("other-count", fmt.Sprintf("%d accounts would be taken away by now, and not %d.", count, in.Count),
				"Look at the names again.")
		}
		if err := tx.Exec("UPDATE kept_accounts SET agreed = true, `by` = ?"+those, who.Name, app.ID).Error; err != nil {
			return err
		}
		if err := savePump(tx, app.ID, map[string]any{"asking": 0}); err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "agreed to accounts being taken away", "application", app.ID, app.Name, "",
			fmt.Sprint(count))
	})
	g.nudge()
	return &api.AccountActed{Count: count}, err
}

package accounts

import (
	"context"
	"errors"
	"slices"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/people"
	"innergate/gate/partners"
	"innergate/store"
)

// The kinds of news.
const (
	newsPerson      = "person"
	newsMembers     = "members"
	newsGroup       = "group"
	newsApplication = "application"
	newsRules       = "rules"
)

// WorkOut takes some of what changed and writes down what it means for accounts, in one transaction with taking it off the list. It
// says whether there may be more.
func (g *Room) WorkOut(ctx context.Context) (bool, error) {
	d, err := g.read(ctx)
	if err != nil || d == nil {
		return false, err
	}
	return true, d.save(ctx)
}

// read reads some of what changed and works out what it means; nil for nothing.
func (g *Room) read(ctx context.Context) (*digest, error) {
	var news []store.AccountNews
	if err := g.Store.Read(ctx).Order("id").Limit(atOnce).Find(&news).Error; err != nil {
		return nil, store.Clear(err)
	}
	if len(news) == 0 {
		return nil, nil
	}
	apps, err := g.switched(ctx)
	if err != nil {
		return nil, err
	}
	d := &digest{Room: g, apps: apps, about: map[string][]string{}, groups: map[string]bool{}}
	for i := range news {
		// A large one has a turn of its own, so that no transaction grows beyond bounds.
		if large(news[i].Kind) {
			if i == 0 {
				err = d.large(ctx, &news[0])
			}
			break
		}
		d.take(&news[i])
	}
	if err != nil {
		return nil, err
	}
	return d, d.work(ctx)
}

func large(kind string) bool {
	return kind == newsMembers || kind == newsApplication || kind == newsRules
}

// digest is what some news come to.
type digest struct {
	*Room
	apps   []*partners.Application
	about  map[string][]string // people, by the application's ID; under "" for all applications
	groups map[string]bool
	done   []int64            // news that are worked out
	on     *store.AccountNews // one that is worked out in part
	more   []store.AccountNews
	stands []*store.KeptAccount // accounts that stand in another way
	gone   []*store.KeptAccount // those of which nothing is left to know
}

func (d *digest) take(n *store.AccountNews) {
	d.done = append(d.done, n.ID)
	if n.Kind == newsGroup {
		d.groups[n.WhoID] = true
		return
	}
	if !slices.Contains(d.about[n.ApplicationID], n.WhoID) {
		d.about[n.ApplicationID] = append(d.about[n.ApplicationID], n.WhoID)
	}
}

// large takes a part of what concerns many.
func (d *digest) large(ctx context.Context, n *store.AccountNews) error {
	if n.Kind == newsRules {
		d.done = append(d.done, n.ID)
		for _, app := range d.apps {
			d.more = append(d.more, store.AccountNews{Kind: newsApplication, WhoID: app.ID, ApplicationID: app.ID})
		}
		return nil
	}
	ids, err := d.concerned(ctx, n)
	if err != nil {
		return err
	}
	d.about[n.ApplicationID] = ids
	if n.Kind == newsApplication && n.After == "" {
		var groups []string
		if err := d.Store.Read(ctx).Raw("SELECT id FROM groups UNION SELECT who_id FROM kept_accounts WHERE application_id = ? AND "+
			"kind = 'group'", n.ApplicationID).Scan(&groups).Error; err != nil {
			return store.Clear(err)
		}
		for _, id := range groups {
			d.groups[id] = true
		}
	}
	if len(ids) < atOnce {
		d.done = append(d.done, n.ID)
		return nil
	}
	n.After = ids[len(ids)-1]
	d.on = n
	return nil
}

// concerned are the next people whom a large one concerns.
func (d *digest) concerned(ctx context.Context, n *store.AccountNews) ([]string, error) {
	var ids []string
	db := d.Store.Read(ctx)
	if n.Kind == newsMembers {
		err := db.Raw("SELECT DISTINCT person_id FROM memberships WHERE group_id = ? AND person_id > ? ORDER BY person_id LIMIT ?", n.WhoID,
			n.After, atOnce).Scan(&ids).Error
		return ids, store.Clear(err)
	}
	i := slices.IndexFunc(d.apps, func(a *partners.Application) bool { return a.ID == n.ApplicationID })
	if i < 0 {
		return nil, nil
	}
	app := d.apps[i]
	const kept = "EXISTS (SELECT 1 FROM kept_accounts k WHERE k.application_id = @app AND k.kind = 'person' AND k.who_id = p.id)"
	where := kept + " OR EXISTS (SELECT 1 FROM assignments a WHERE a.application_id = @app AND a.kind = 'person' AND a.who_id = p.id) OR " +
		"EXISTS (SELECT 1 FROM memberships m JOIN assignments a ON a.application_id = @app AND a.kind = 'group' AND a.who_id = " +
		"m.group_id " +
		"WHERE m.person_id = p.id)"
	if app.Accounts.Who != config.WhoAssigned {
		where = "1"
	}
	err := db.Raw("SELECT id FROM people p WHERE id > @after AND ("+where+") ORDER BY id LIMIT @limit",
		map[string]any{"app": app.ID, "after": n.After, "limit": atOnce}).Scan(&ids).Error
	return ids, store.Clear(err)
}

// work works out how accounts stand now.
func (d *digest) work(ctx context.Context) error {
	for _, app := range d.apps {
		about := d.about[""]
		for _, id := range d.about[app.ID] {
			if !slices.Contains(about, id) {
				about = append(slices.Clip(about), id)
			}
		}
		changed, gone, err := d.stand(ctx, app, about)
		if err != nil {
			return err
		}
		d.stands, d.gone = append(d.stands, changed...), append(d.gone, gone...)
		changed, gone, err = d.standGroups(ctx, app)
		if err != nil {
			return err
		}
		d.stands, d.gone = append(d.stands, changed...), append(d.gone, gone...)
	}
	return nil
}

// errMeanwhile says that an account became another one since it was read.
var errMeanwhile = errors.New("an account became another one meanwhile")

// save writes what the news mean, and takes them off the list. Where somebody did something with one of the accounts since they were
// read, nothing is written, and the news stay where they are.
func (d *digest) save(ctx context.Context) error {
	err := d.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, r := range d.stands {
			if err := saveStanding(tx, r); err != nil {
				return err
			}
		}
		for _, r := range d.gone {
			if err := d.letGo(tx, r); err != nil {
				return err
			}
		}
		for part := range slices.Chunk(d.done, atOnce) {
			if err := tx.Exec("DELETE FROM account_news WHERE id IN ?", part).Error; err != nil {
				return err
			}
		}
		if d.on != nil {
			if err := tx.Exec("UPDATE account_news SET after = ? WHERE id = ?", d.on.After, d.on.ID).Error; err != nil {
				return err
			}
		}
		for i := range d.more {
			if err := tx.Create(&d.more[i]).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, errMeanwhile) {
		return nil
	}
	return err
}

// letGo forgets an account that was never ours. One that is there is listed as nobody's.
func (d *digest) letGo(tx *gorm.DB, r *store.KeptAccount) error {
	n, err := store.Exec(tx, "DELETE FROM kept_accounts WHERE id = ? AND turn = ?", r.ID, r.Turn)
	if err == nil && n == 0 {
		err = errMeanwhile
	}
	if err != nil || r.Kind != OfPerson || r.RemoteID == "" {
		return err
	}
	return saveForeign(tx, &store.KeptAccount{ID: store.NewID(), ApplicationID: r.ApplicationID, Kind: OfForeign, WhoID: r.RemoteID,
		State: Foreign, NextAt: never, Name: r.RemoteName, NameKey: people.SortKey(r.RemoteName), RemoteID: r.RemoteID,
		RemoteName: r.RemoteName, Version: r.Version, There: r.There, SeenIn: r.SeenIn, UpdatedAt: d.Now().UTC()})
}

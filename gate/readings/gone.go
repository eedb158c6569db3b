package readings

import (
	"context"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/store"
)

// linked is somebody who is known from a directory.
type linked struct {
	PersonID, Name, Subject string
	Elsewhere               bool
}

// linksAtOnce is how many links are looked at in one question.
const linksAtOnce = 1000

// gone makes those inactive whom the directory no longer has, unless they come another way as well. Where they are more than the share
// that is set, and than somebody has agreed to, it stops and asks.
func (j *job) gone(ctx context.Context) error {
	var out []linked
	j.row.Known, j.row.Gone, j.row.Elsewhere = 0, 0, 0
	for after := ""; ; {
		var rows []linked
		err := j.Store.Read(ctx).Raw("SELECT l.person_id, p.name, l.subject, EXISTS (SELECT 1 FROM links o "+
			"WHERE o.person_id = l.person_id "+
			"AND o.provider_id <> l.provider_id) OR p.login IS NOT NULL AS elsewhere FROM links l JOIN people p "+
			"ON p.id = l.person_id WHERE l.provider_id = ? AND "+
			"p.active AND l.subject > ? ORDER BY l.subject LIMIT ?", j.p.ID, after, linksAtOnce).Scan(&rows).Error
		if err != nil {
			return store.Clear(err)
		}
		for _, r := range rows {
			j.row.Known++
			after = r.Subject
			switch {
			case j.seen[r.Subject]:
			case r.Elsewhere:
				j.row.Elsewhere++
			default:
				out = append(out, r)
			}
		}
		if len(rows) < linksAtOnce {
			break
		}
	}
	var names []string
	for _, one := range out {
		names = append(names, one.Name)
	}
	j.row.Gone, j.row.GoneNames = len(out), ground.MustJSON(shortened(names, mostNames))
	if !j.writes() {
		return nil
	}
	if share := j.p.LDAP.Reading.GoneShare; len(out) > j.row.Agreed && (j.nameless || people.TooManyGone(len(out), j.row.Known, share)) {
		j.row.State = Asking
		return nil
	}
	for len(out) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := min(atOnce, len(out))
		if err := j.Store.Write(ctx, func(tx *gorm.DB) error { return j.deactivate(tx, out[:n], j.Now().UTC()) }); err != nil {
			return err
		}
		out = out[n:]
	}
	return nil
}

// deactivate makes people inactive, ends what they have open, and remembers why.
func (j *job) deactivate(tx *gorm.DB, list []linked, now time.Time) error {
	for _, one := range list {
		if err := persons.SetActive(tx, one.PersonID, false, now); err != nil {
			return err
		}
		if err := persons.EndOf(tx, one.PersonID, j.p.Name+" no longer has the person", now); err != nil {
			return err
		}
		row := store.ReadingGone{PersonID: one.PersonID, ProviderID: j.p.ID, At: now}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		if err := ground.Journal(tx, now, j.who, "deactivated", "person", one.PersonID, one.Name, "", j.p.Name+
			" no longer has the person"); err != nil {
			return err
		}
	}
	return store.Changed(tx)
}

// mayBeBack is the person of a link who is inactive since this directory had no longer had them; empty where somebody made them inactive
// by hand, or changed anything of them since.
func (j *job) mayBeBack(ctx context.Context, subject string) (string, error) {
	var id string
	err := j.Store.Read(ctx).Raw("SELECT g.person_id FROM reading_gones g JOIN links l ON l.person_id = g.person_id AND l.provider_id = "+
		"g.provider_id JOIN people p ON p.id = g.person_id WHERE g.provider_id = ? AND l.subject = ? AND p.updated_at <= g.at",
		j.p.ID, subject).Scan(&id).Error
	return id, store.Clear(err)
}

// again is somebody who is there again, as they were. What changed meanwhile is taken at the next reading or sign-in.
func (j *job) again(ctx context.Context, who bridge.Identity, id string) (*persons.Arrived, error) {
	row, _, err := j.persons.PersonByID(ctx, id)
	if err != nil {
		return nil, err
	}
	return &persons.Arrived{Held: row, Name: row.Name, Kind: row.Type, Linked: true, Provider: j.p, Subject: who.Subject, Shown: who.Shown,
		By: "reading of " + j.p.Name}, nil
}

// activate makes somebody active who is there again.
func activate(tx *gorm.DB, id, provider string, now time.Time) error {
	if err := persons.SetActive(tx, id, true, now); err != nil {
		return err
	}
	if err := tx.Exec("DELETE FROM reading_gones WHERE person_id = ? AND provider_id = ?", id, provider).Error; err != nil {
		return err
	}
	return store.Changed(tx)
}

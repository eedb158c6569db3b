package persons

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/store"
)

// Standing is what the gate itself knows of a person: groups and type.
func (g *Room) Standing(ctx context.Context, personID string) (groups []string, kind string, err error) {
	if err := g.Store.Read(ctx).Raw("SELECT slug FROM groups WHERE id IN (SELECT group_id FROM memberships WHERE person_id = ?) ORDER "+
		"BY slug", personID).Scan(&groups).Error; err != nil {
		return nil, "", store.Clear(err)
	}
	err = g.Store.Read(ctx).Raw("SELECT type FROM people WHERE id = ?", personID).Scan(&kind).Error
	return groups, kind, store.Clear(err)
}

// PersonByID reads a person with their profile.
func (g *Room) PersonByID(ctx context.Context, id string) (*store.Person, claims.Bag, error) {
	var p store.Person
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&p).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil, ground.NotFound("person", id)
		}
		return nil, nil, store.Clear(err)
	}
	profile, err := ground.DecodeBody[claims.Bag](p.Profile)
	return &p, profile, err
}

// keyColumns are the columns by which people are found.
var keyColumns = map[string][2]string{
	people.ExternalID: {"external_key", "external_id"},
	people.Username:   {"username_key", "username"},
	people.Mail:       {"email_key", "email"},
}

// CandidatesFor finds the persons whom an incoming subject may mean.
func (g *Room) CandidatesFor(ctx context.Context, providerID, subject string, q people.Question) (
	[]people.Candidate, []*store.Person, error,
) {
	var rows []*store.Person
	if err := g.Store.Read(ctx).Where(keyColumns[q.Field][0]+" = ?", q.Key).Order("id").Limit(5).Find(&rows).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	var out []people.Candidate
	for _, r := range rows {
		c := people.Candidate{
			ID:    r.ID,
			Name:  r.Name,
			Value: map[string]string{people.ExternalID: r.ExternalID, people.Username: r.Username, people.Mail: r.Email}[q.Field],
		}
		var n int64
		if err := g.Store.Read(ctx).Model(&store.Link{}).Where("person_id = ? AND provider_id = ?"+kindOf(subject), r.ID,
			providerID).Limit(1).Count(&n).Error; err != nil {
			return nil, nil, store.Clear(err)
		}
		c.Linked = n > 0
		out = append(out, c)
	}
	return out, rows, nil
}

// JoinGroup puts a person into a group, if the group is there.
func JoinGroup(tx *gorm.DB, personID, slug, by string, now time.Time) error {
	return tx.Exec(
		"INSERT INTO memberships (person_id, group_id, giver, at) SELECT ?, id, ?, ? FROM groups WHERE slug = ? ON CONFLICT DO NOTHING",
		personID, by, now, slug,
	).Error
}

// SettingPeople names the setting of what is known of people.
const SettingPeople = "people"

// Settings are what holds for all people.
func (g *Room) Settings(ctx context.Context) (people.Settings, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return people.Settings{}, err
	}
	if s := c.People.Load(); s != nil {
		return *s, nil
	}
	row, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", SettingPeople)
	if err != nil {
		return people.Settings{}, err
	}
	s := people.DefaultSettings()
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), &s); err != nil {
			return s, fmt.Errorf("the settings for people can't be read: %w", err)
		}
	}
	c.People.Store(&s)
	return s, nil
}

// KnownFrom lists the providers that a person has signed in with, the newest first.
func (g *Room) KnownFrom(ctx context.Context, personID string) ([]string, error) {
	var out []string
	err := g.Store.Read(ctx).
		Raw("SELECT p.slug FROM links l JOIN providers p ON p.id = l.provider_id WHERE l.person_id = ? "+
			"ORDER BY l.last_used DESC LIMIT 50", personID).
		Scan(&out).
		Error
	return out, store.Clear(err)
}

// WhoOf is what circles are asked about.
func (g *Room) WhoOf(ctx context.Context, p *store.Person, profile claims.Bag) (access.Who, error) {
	groups, _, err := g.Standing(ctx, p.ID)
	return access.Who{Known: true, ID: p.ID, Username: p.Username, Mail: profile.First(people.Mail), Name: p.Name, Groups: groups}, err
}

package persons

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/store"
)

// PersonFilter narrows a list of people.
type PersonFilter struct {
	Type, Group, Provider string
	Active                string // yes or no
}

// PersonColumns are the columns by which people can be sorted.
var PersonColumns = map[string]string{"name": "name_key", "created": "id", "type": "type"}

// Searched is the way to people by how their name, last name, mail address, user name or external ID begins.
func Searched(text string) store.Way {
	const last = "\U0010FFFF"
	key, name := people.Key(text), people.SortKey(text)
	return store.Way{
		IDs: "SELECT id FROM people WHERE name_key >= ? AND name_key < ? UNION ALL SELECT id FROM people WHERE last_key >= ? AND " +
			"last_key < ? UNION ALL SELECT id FROM people WHERE email_key >= ? AND email_key < ? UNION ALL SELECT id FROM people WHERE " +
			"username_key >= ? AND username_key < ? UNION ALL SELECT id FROM people WHERE external_key = ? UNION ALL SELECT id FROM " +
			"people WHERE login = ?",
		First: "SELECT id FROM (SELECT id FROM people WHERE name_key >= ? AND name_key < ? ORDER BY name_key LIMIT 2000) UNION ALL " +
			"SELECT id FROM (SELECT id FROM people WHERE last_key >= ? AND last_key < ? ORDER BY last_key LIMIT 2000) UNION ALL " +
			"SELECT id FROM (SELECT id FROM people WHERE email_key >= ? AND email_key < ? ORDER BY email_key LIMIT 2000) UNION ALL " +
			"SELECT id FROM (SELECT id FROM people WHERE username_key >= ? AND username_key < ? ORDER BY username_key LIMIT 2000) " +
			"UNION ALL SELECT id FROM people WHERE external_key = ? UNION ALL SELECT id FROM people WHERE login = ?",
		Args: []any{name, name + last, name, name + last, key, key + last, key, key + last, key, key},
	}
}

// inGroup and knownFrom are the ways to the members of a group, and to those whom a provider knows.
func inGroup(slug string) store.Way {
	const group = "(SELECT id FROM groups WHERE slug = ?)"
	return store.Way{
		IDs:   "SELECT person_id FROM memberships WHERE group_id = " + group,
		Holds: "EXISTS (SELECT 1 FROM memberships m WHERE m.person_id = people.id AND m.group_id = " + group + ")",
		Args:  []any{slug},
	}
}

func knownFrom(slug string) store.Way {
	const provider = "(SELECT id FROM providers WHERE slug = ?)"
	return store.Way{
		IDs:   "SELECT person_id FROM links WHERE provider_id = " + provider,
		Holds: "EXISTS (SELECT 1 FROM links l WHERE l.person_id = people.id AND +l.provider_id = " + provider + ")",
		Args:  []any{slug},
	}
}

// inactive is the way to people who can't sign in.
var inactive = store.Way{IDs: "SELECT id FROM people WHERE NOT active", Holds: "NOT active"}

// narrowed is the list of people narrowed by a filter.
func (g *Room) narrowed(ctx context.Context, search string, f PersonFilter) (*gorm.DB, bool, error) {
	db := g.Store.Read(ctx)
	if f.Type != "" {
		db = db.Where("type = ?", f.Type)
	}
	var ways []store.Way
	if search = strings.TrimSpace(search); search != "" {
		ways = append(ways, Searched(search))
	}
	switch f.Active {
	case "yes":
		db = db.Where("active")
	case "no":
		ways = append(ways, inactive)
	}
	if f.Group != "" {
		ways = append(ways, inGroup(f.Group))
	}
	if f.Provider != "" {
		ways = append(ways, knownFrom(f.Provider))
	}
	return g.Store.Narrow(ctx, db, "people", ways...)
}

// People lists a page.
func (g *Room) People(ctx context.Context, p store.Page, f PersonFilter) (*api.List[api.PersonLine], error) {
	db, cut, err := g.narrowed(ctx, p.Search, f)
	if err != nil {
		return nil, err
	}
	p.Search = ""
	sortBy := p.Sort
	if db, err = p.Rows(db, PersonColumns, "name"); err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []store.Person
	if err := db.Omit("profile", "sources").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.PersonLine]{Items: []api.PersonLine{}, Cut: cut}
	for i, row := range rows {
		if i == ground.LimitOf(p) {
			out.Next = store.AfterKey(
				map[string]string{"": rows[i-1].NameKey, "name": rows[i-1].NameKey, "created": rows[i-1].ID,
					"type": rows[i-1].Type}[strings.TrimPrefix(sortBy, "-")],
				rows[i-1].ID,
			)
			break
		}
		out.Items = append(out.Items, PersonLine(&row))
	}
	return out, g.lastSeen(ctx, out.Items)
}

// lastSeen adds when people signed in last.
func (g *Room) lastSeen(ctx context.Context, list []api.PersonLine) error {
	var ids []string
	for _, p := range list {
		ids = append(ids, p.ID)
	}
	var links []store.Link
	if err := g.Store.Read(ctx).Where("person_id IN ?", ids).Find(&links).Error; err != nil {
		return store.Clear(err)
	}
	for i := range list {
		for _, l := range links {
			if l.PersonID == list[i].ID && (list[i].LastSeen == nil || l.LastUsed.After(*list[i].LastSeen)) {
				list[i].LastSeen = &l.LastUsed
			}
		}
	}
	return nil
}

// PersonLine is a person as a list shows them.
func PersonLine(p *store.Person) api.PersonLine {
	return api.PersonLine{ID: p.ID, Name: p.Name, Email: p.Email, Username: p.Username, Type: p.Type, Active: p.Active}
}

// Person shows one with groups, links, accounts and credentials.
func (g *Room) Person(ctx context.Context, id string) (*api.Person, error) {
	p, profile, err := g.PersonByID(ctx, id)
	if err != nil {
		return nil, err
	}
	v := &api.Person{
		PersonLine:  PersonLine(p),
		Profile:     profile,
		ExternalID:  p.ExternalID,
		Sources:     map[string]string{},
		Groups:      []api.PersonGroup{},
		Links:       []api.PersonLink{},
		Accounts:    []api.PersonAccount{},
		Credentials: []api.Credential{},
		Created:     p.CreatedAt,
		Updated:     p.UpdatedAt,
	}
	if v.Profile == nil {
		v.Profile = claims.Bag{}
	}
	if p.Login != nil {
		v.Login = *p.Login
	}
	sources, err := ground.DecodeBody[map[string]string](p.Sources)
	if err != nil {
		return nil, err
	}
	for name, source := range sources {
		v.Sources[name] = g.giverName(ctx, source)
	}
	db := g.Store.Read(ctx)
	var groups []struct{ Slug, Name, Giver string }
	if err := db.Raw("SELECT g.slug, g.name, m.giver FROM memberships m JOIN groups g ON g.id = m.group_id WHERE m.person_id = ? "+
		"ORDER BY g.name, m.giver LIMIT 2000", id).Scan(&groups).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, r := range groups {
		if n := len(v.Groups); n == 0 || v.Groups[n-1].Slug != r.Slug {
			v.Groups = append(v.Groups, api.PersonGroup{Slug: r.Slug, Name: r.Name})
		}
		last := &v.Groups[len(v.Groups)-1]
		last.By = append(last.By, g.giverName(ctx, r.Giver))
	}
	var links []store.Link
	if err := db.Where("person_id = ?", id).Order("last_used DESC").Limit(100).Find(&links).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, l := range links {
		link := api.PersonLink{
			ID:        l.ID,
			Provider:  "a provider that was deleted",
			Subject:   ShownSubject(&l),
			FirstUsed: l.FirstUsed,
			LastUsed:  l.LastUsed,
		}
		if p, err := g.partners.ProviderByID(ctx, l.ProviderID); err == nil {
			link.Provider, link.Slug = p.Name, p.Slug
		}
		if v.LastSeen == nil || l.LastUsed.After(*v.LastSeen) {
			v.LastSeen = &l.LastUsed
		}
		v.Links = append(v.Links, link)
	}
	var accounts []store.Account
	if err := db.Where("person_id = ?", id).Order("last_at DESC").Limit(200).Find(&accounts).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, a := range accounts {
		if app, err := g.partners.ApplicationByID(ctx, a.ApplicationID); err == nil {
			v.Accounts = append(
				v.Accounts,
				api.PersonAccount{Application: app.Name, Slug: app.Slug, Subject: a.Subject, FirstAt: a.FirstAt, LastAt: a.LastAt},
			)
		}
	}
	v.Credentials, err = g.CredentialViews(ctx, id)
	return v, err
}

// ShownSubject is a link's identifier for people.
func ShownSubject(l *store.Link) string {
	if l.Shown != "" {
		return l.Shown
	}
	return l.Subject[strings.LastIndexByte(l.Subject, '\x1f')+1:]
}

// giverName says where a value or a membership came from.
func (g *Room) giverName(ctx context.Context, giver string) string {
	if giver == people.ByHand || giver == "" {
		return people.ByHand
	}
	if p, err := g.partners.ProviderByID(ctx, giver); err == nil {
		return p.Name
	}
	return "a provider that was deleted"
}

// SavePerson adds a person (empty ID) or changes one. Values that change count as entered by hand.
func (g *Room) SavePerson(ctx context.Context, who ground.Actor, id string, in api.SavePerson) (*api.Person, error) {
	settings, err := g.Settings(ctx)
	if err != nil {
		return nil, err
	}
	if in.Type == "" && id == "" {
		in.Type = settings.Types[0]
	}
	if in.Type != "" && !slices.Contains(settings.Types, in.Type) {
		return nil, ground.BadRequest(
			"type-unknown", fmt.Sprintf("%q is no person type; %s are.", in.Type, strings.Join(settings.Types, ", ")),
			"Add the type under People, Settings.",
		)
	}
	for name, values := range in.Profile {
		if len(values) == 0 || len(values) == 1 && strings.TrimSpace(values[0]) == "" {
			delete(in.Profile, name)
		}
	}
	if err := settings.CheckProfile(in.Profile); err != nil {
		return nil, ground.BadRequest("profile", words.Capitalise(err.Error())+".", "")
	}
	now := g.Now().UTC()
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		row := store.Person{Active: true, Type: in.Type, CreatedAt: now}
		before, action := claims.Bag{}, "added"
		sources := map[string]string{}
		if id != "" {
			if err := tx.Where("id = ?", id).Take(&row).Error; err != nil {
				return ground.Missing(err, "person", id)
			}
			action = "changed"
			var err error
			if before, err = ground.DecodeBody[claims.Bag](row.Profile); err != nil {
				return err
			}
			if sources, err = ground.DecodeBody[map[string]string](row.Sources); err != nil {
				return err
			}
			if identifies(before, in.Profile) || in.Groups != nil {
				if err := ownersForPeople(tx, who, "By what applications and rules know somebody"); err != nil {
					return err
				}
			}
			if in.Type != "" {
				row.Type = in.Type
			}
		}
		wasActive := row.Active
		if in.Active != nil {
			row.Active = *in.Active
		}
		changed := people.ChangedByHand(before, in.Profile, sources)
		row.Name = people.ShownName(in.Profile, "")
		if row.Name == "" {
			return ground.BadRequest("name-missing", "The person needs a name, a mail address or a user name, to be told from others.", "")
		}
		row.Profile, row.Sources, row.UpdatedAt = ground.MustJSON(in.Profile), ground.MustJSON(sources), now
		row.SetKeys(in.Profile)
		if in.Login != nil {
			if err := g.setLogin(tx, &row, *in.Login); err != nil {
				return err
			}
		}
		if err := writePerson(tx, &row); err != nil {
			return err
		}
		if in.Groups != nil {
			more, err := setGroups(tx, row.ID, *in.Groups, now)
			if err != nil {
				return err
			}
			changed = append(changed, more...)
		}
		if wasActive && !row.Active {
			changed = append(changed, "deactivated")
			if err := EndOf(tx, row.ID, "the person was deactivated", now); err != nil {
				return err
			}
		} else if !wasActive && row.Active && id != "" {
			changed = append(changed, "activated")
		}
		id = row.ID
		return ground.Journal(tx, now, who, action, "person", row.ID, row.Name, "", strings.Join(changed, ", "))
	})
	if err != nil {
		return nil, err
	}
	return g.Person(ctx, id)
}

// writePerson creates or replaces a person's record.
func writePerson(tx *gorm.DB, row *store.Person) error {
	if row.ID == "" {
		row.ID = store.NewID()
		return tx.Create(row).Error
	}
	return tx.Save(row).Error
}

// EndOf ends what a person has open: sessions, and whatever applications were given.
func EndOf(tx *gorm.DB, personID, why string, now time.Time) error {
	if err := sessions.EndSessionsOf(tx, personID, why, now); err != nil {
		return err
	}
	return issued.EndOfPerson(tx, personID, "", why, now)
}

// setGroups makes the groups given by hand exactly these.
func setGroups(tx *gorm.DB, personID string, slugs []string, now time.Time) ([]string, error) {
	var held []string
	if err := tx.Raw("SELECT slug FROM groups WHERE id IN (SELECT group_id FROM memberships WHERE person_id = ? AND giver = ?)", personID,
		people.ByHand).Scan(&held).Error; err != nil {
		return nil, err
	}
	var changed []string
	for _, slug := range slugs {
		if slices.Contains(held, slug) {
			continue
		}
		made := tx.Exec(
			"INSERT INTO memberships (person_id, group_id, giver, at) SELECT ?, id, ?, ? FROM groups WHERE slug = ? ON CONFLICT DO NOTHING",
			personID, people.ByHand, now, slug,
		)
		if made.Error != nil {
			return nil, made.Error
		}
		if made.RowsAffected == 0 {
			return nil, ground.BadRequest(
				"group-unknown", fmt.Sprintf("There is no group with the short name %q.", slug), "Add the group first.",
			)
		}
		changed = append(changed, "joined "+slug)
	}
	for _, slug := range held {
		if slices.Contains(slugs, slug) {
			continue
		}
		if err := tx.Exec("DELETE FROM memberships WHERE person_id = ? AND giver = ? AND group_id = (SELECT id FROM groups WHERE slug "+
			"= ?)", personID, people.ByHand, slug).Error; err != nil {
			return nil, err
		}
		changed = append(changed, "left "+slug)
	}
	return changed, nil
}

// DeletePerson removes somebody with links, memberships, assignments and credentials. Random identifiers at
// applications stay taken, so that nobody else gets them.
func (g *Room) DeletePerson(ctx context.Context, who ground.Actor, id string) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var row store.Person
		if err := tx.Where("id = ?", id).Take(&row).Error; err != nil {
			return ground.Missing(err, "person", id)
		}
		if err := EndOf(tx, id, "the person was deleted", now); err != nil {
			return err
		}
		for _, stmt := range []string{"DELETE FROM links WHERE person_id = ?", "DELETE FROM memberships WHERE person_id = ?",
			"DELETE FROM assignments WHERE kind = 'person' AND who_id = ?", "DELETE FROM accounts WHERE person_id = ?",
			"DELETE FROM credentials WHERE person_id = ?", "DELETE FROM one_time_links WHERE person_id = ?",
			"DELETE FROM consents WHERE person_id = ?", "DELETE FROM people WHERE id = ?"} {
			if err := tx.Exec(stmt, id).Error; err != nil {
				return err
			}
		}
		if err := store.Leave(tx, "person", id, now); err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "deleted", "person", id, row.Name, "", "")
	})
}

// LinkPerson links a person to the subject of a sign-in that a provider vouched for: one that found nobody, or the
// wrong one.
func (g *Room) LinkPerson(ctx context.Context, who ground.Actor, personID, reference string) (*api.Person, error) {
	now := g.Now().UTC()
	t, err := g.Traces.Record(ctx, reference)
	if err != nil {
		return nil, err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := ownersForPeople(tx, who, "Whom a provider's subject means"); err != nil {
			return err
		}
		var p store.Person
		if err := tx.Where("id = ?", personID).Take(&p).Error; err != nil {
			return ground.Missing(err, "person", personID)
		}
		var provider store.Provider
		if t.Subject != "" {
			if err := tx.Where("id = ?", t.ProviderID).Limit(1).Find(&provider).Error; err != nil {
				return err
			}
		}
		if provider.ID == "" {
			return ground.Problem(
				http.StatusConflict, "nothing-to-link", "There is nothing to link",
				"No provider that is still here vouched for anybody in this sign-in, or the identifier does not last.",
				"Take the reference number of a sign-in that came back from the provider.",
			)
		}
		held, err := store.One[store.Link](tx, "provider_id = ? AND (subject = ? OR person_id = ?)", provider.ID, t.Subject, p.ID)
		if err != nil {
			return err
		}
		switch {
		case held.ID != "" && held.PersonID == p.ID && held.Subject == t.Subject:
			return ground.Problem(
				http.StatusConflict, "linked-already", "The link is there already",
				p.Name+" is linked to "+t.SubjectShown+" of "+provider.Name+".", "",
			)
		case held.ID != "" && held.PersonID == p.ID:
			return ground.Problem(
				http.StatusConflict, "linked-otherwise", "The person is linked to this provider already",
				p.Name+" is linked to "+ShownSubject(&held)+" of "+provider.Name+".",
				"Take that link away first. Nobody has two links to one provider.",
			)
		case held.ID != "":
			var other store.Person
			if err := tx.Where("id = ?", held.PersonID).Take(&other).Error; err != nil {
				return err
			}
			return ground.Problem(
				http.StatusConflict, "linked-to-another", "The identifier belongs to somebody else",
				t.SubjectShown+" of "+provider.Name+" is linked to "+other.Name+".",
				"If that is wrong, take the link away on that person's page first.",
			)
		}
		if err := tx.Create(&store.Link{ID: store.NewID(), PersonID: p.ID, ProviderID: provider.ID, Subject: t.Subject,
			Shown: t.SubjectShown, FirstUsed: now, LastUsed: now}).Error; err != nil {
			return err
		}
		return ground.Journal(
			tx, now, who, "linked", "person", p.ID, p.Name, "",
			t.SubjectShown+" of "+provider.Name+", as in the sign-in "+t.Reference,
		)
	})
	if err != nil {
		return nil, err
	}
	return g.Person(ctx, personID)
}

// Unlink takes a link away. The subject is then a stranger again.
func (g *Room) Unlink(ctx context.Context, who ground.Actor, personID, linkID string) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := ownersForPeople(tx, who, "Whom a provider's subject means"); err != nil {
			return err
		}
		var l store.Link
		if err := tx.Where("id = ? AND person_id = ?", linkID, personID).Take(&l).Error; err != nil {
			return ground.Missing(err, "link", linkID)
		}
		var p store.Person
		if err := tx.Where("id = ?", personID).Take(&p).Error; err != nil {
			return ground.Missing(err, "person", personID)
		}
		if err := tx.Exec("DELETE FROM links WHERE id = ?", l.ID).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM memberships WHERE person_id = ? AND giver = ?", personID, l.ProviderID).Error; err != nil {
			return err
		}
		if err := issued.EndOfPerson(tx, personID, l.ProviderID, "the link was taken away", now); err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "unlinked", "person", p.ID, p.Name, ShownSubject(&l), "")
	})
}

// PeopleSettings are the person types and attributes.
func (g *Room) PeopleSettings(ctx context.Context) (*api.Attributes, error) {
	s, err := g.Settings(ctx)
	return &api.Attributes{Names: claims.Attributes(), Families: claims.Families(), Settings: s}, err
}

// SetPeopleSettings replaces them.
func (g *Room) SetPeopleSettings(ctx context.Context, who ground.Actor, s people.Settings) error {
	if s.Attributes == nil {
		s.Attributes = []people.Attribute{}
	}
	if err := s.Check(); err != nil {
		return ground.BadRequest("people-settings", words.Capitalise(err.Error())+".", "")
	}
	before, err := g.Settings(ctx)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WritePeopleSettings(tx, who, before, s) })
}

// WritePeopleSettings writes in a transaction what is known of people.
func (g *Room) WritePeopleSettings(tx *gorm.DB, who ground.Actor, before, s people.Settings) error {
	for _, t := range before.Types {
		var one store.Person
		if slices.Contains(s.Types, t) {
			continue
		}
		if err := tx.Where("type = ?", t).Limit(1).Find(&one).Error; err != nil {
			return err
		}
		if one.ID != "" {
			return ground.Problem(
				http.StatusConflict, "type-in-use", "The person type is in use",
				fmt.Sprintf("%s and perhaps others are of the type %s.", one.Name, t),
				"Give these people another type first.",
			)
		}
	}
	if ground.MustJSON(before) == ground.MustJSON(s) {
		return nil
	}
	return g.WriteSetting(tx, who, SettingPeople, "person types and attributes", before, s)
}

// identifies says whether a change of a profile is one of what tells who somebody is.
func identifies(before, after claims.Bag) bool {
	for _, name := range []string{people.Mail, people.Username, people.ExternalID, people.GroupNames} {
		if !slices.Equal(before[name], after[name]) {
			return true
		}
	}
	return false
}

// ownersForPeople leaves what decides as whom somebody comes to applications to owners, where a second person is wanted.
func ownersForPeople(tx *gorm.DB, who ground.Actor, what string) error {
	open, err := partners.AnyOpen(tx)
	if err != nil {
		return err
	}
	return partners.OwnersWhereTwo(tx, who, what, open)
}

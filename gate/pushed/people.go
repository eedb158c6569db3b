package pushed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/scim"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
)

// User reads one account.
func (g *Room) User(ctx context.Context, s *Sender, id string) (scim.Resource, error) {
	row, err := g.person(ctx, s, id)
	if err != nil {
		return nil, err
	}
	return g.shown(ctx, s, row)
}

func (g *Room) person(ctx context.Context, s *Sender, id string) (*store.PushedPerson, error) {
	row, err := store.One[store.PushedPerson](g.Store.Read(ctx), "id = ? AND provider_id = ?", id, s.ID)
	if err == nil && row.ID == "" {
		return nil, notThere()
	}
	return &row, err
}

// version is a resource's version as an entity tag (RFC 7644, section 3.14).
func version(n int) string { return fmt.Sprintf(`W/"%d"`, n) }

// held is an account as it was pushed.
func held(row *store.PushedPerson) (scim.Resource, error) {
	return ground.DecodeBody[scim.Resource](row.Body)
}

// shown is an account as it is answered.
func (g *Room) shown(ctx context.Context, s *Sender, row *store.PushedPerson) (scim.Resource, error) {
	list, err := g.shownAll(ctx, s, []*store.PushedPerson{row})
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// shownAll are accounts as they are answered, with the groups that they are in.
func (g *Room) shownAll(ctx context.Context, s *Sender, rows []*store.PushedPerson) ([]scim.Resource, error) {
	ids := make([]string, 0, len(rows))
	for _, r := range rows {
		ids = append(ids, r.ID)
	}
	groups, err := g.groupsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []scim.Resource
	for _, row := range rows {
		r, err := held(row)
		if err != nil {
			return nil, err
		}
		schemas := []any{scim.UserSchema}
		if r[scim.EnterpriseSchema] != nil {
			schemas = append(schemas, scim.EnterpriseSchema)
		}
		r["schemas"], r["id"], r["active"] = schemas, row.ID, row.Active
		r["meta"] = meta("User", s.Base+"/Users/"+row.ID, row.CreatedAt, row.UpdatedAt, row.Version)
		if in := groups[row.ID]; len(in) > 0 {
			var list []any
			for _, one := range in {
				list = append(list, map[string]any{"value": one.ID, "display": one.Name, "type": "direct", "$ref": s.Base + "/Groups/" +
					one.ID})
			}
			r["groups"] = list
		}
		out = append(out, r)
	}
	return out, nil
}

func meta(kind, location string, created, changed time.Time, n int) map[string]any {
	return map[string]any{"resourceType": kind, "location": location, "created": created.UTC().Format(time.RFC3339Nano),
		"lastModified": changed.UTC().Format(time.RFC3339Nano), "version": version(n)}
}

// whole reads a resource that comes as a whole, remarks on what is unusual in it, and refuses one that lacks what it needs.
func (g *Room) whole(ctx context.Context, s *Sender, kind *scim.Kind, in scim.Resource) (scim.Resource, error) {
	taken, remarks, refused := kind.Take(in)
	if refused != nil {
		return nil, refused
	}
	g.remark(ctx, s, remarks)
	if missing := kind.Missing(taken); missing != "" {
		return nil, bad(http.StatusBadRequest, scim.InvalidValue, "%s is needed.", missing)
	}
	return taken, nil
}

// MakeUser takes a new account (RFC 7644, section 3.3).
func (g *Room) MakeUser(ctx context.Context, s *Sender, in scim.Resource) (scim.Resource, error) {
	taken, err := g.whole(ctx, s, scim.Users, in)
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	row := &store.PushedPerson{ID: store.NewID(), ProviderID: s.ID, Active: true, CreatedAt: now}
	if err := g.settle(ctx, s, row, taken); err != nil {
		return nil, refusal(err)
	}
	return g.shown(ctx, s, row)
}

// userKey is a userName as it is told from others: whatever its case.
func userKey(r scim.Resource) string { return people.Key(r.Text("userName")) }

// PutUser takes an account's values in place of those that it had (RFC 7644, section 3.5.1).
func (g *Room) PutUser(ctx context.Context, s *Sender, id, match string, in scim.Resource) (scim.Resource, error) {
	row, err := g.matched(ctx, s, id, match)
	if err != nil {
		return nil, err
	}
	taken, err := g.whole(ctx, s, scim.Users, in)
	if err != nil {
		return nil, err
	}
	if err := g.settle(ctx, s, row, taken); err != nil {
		return nil, refusal(err)
	}
	return g.shown(ctx, s, row)
}

// PatchUser changes an account (RFC 7644, section 3.5.2).
func (g *Room) PatchUser(ctx context.Context, s *Sender, id, match string, in scim.Resource) (scim.Resource, error) {
	row, err := g.matched(ctx, s, id, match)
	if err != nil {
		return nil, err
	}
	ops, remarks, refused := scim.Users.Patch(in)
	if refused != nil {
		return nil, refused
	}
	before, err := held(row)
	if err != nil {
		return nil, err
	}
	before["active"] = row.Active
	after, more, refused := scim.Users.Apply(before, ops)
	if refused != nil {
		return nil, refused
	}
	g.remark(ctx, s, append(remarks, more...))
	if err := g.settle(ctx, s, row, after); err != nil {
		return nil, refusal(err)
	}
	return g.shown(ctx, s, row)
}

// matched reads an account that is to be changed, if it is as whoever asks has seen it (RFC 7644, section 3.14).
func (g *Room) matched(ctx context.Context, s *Sender, id, match string) (*store.PushedPerson, error) {
	row, err := g.person(ctx, s, id)
	if err != nil {
		return nil, err
	}
	return row, fits(match, row.Version)
}

func fits(match string, n int) error {
	if match != "" && match != "*" && strings.TrimPrefix(match, "W/") != strings.TrimPrefix(version(n), "W/") {
		return bad(http.StatusPreconditionFailed, "", "The resource was changed meanwhile: its version is %s.", version(n))
	}
	return nil
}

// settle works out whom an account means, and writes it with what that changes, in one transaction. Who becomes inactive has nothing
// open any more.
func (g *Room) settle(ctx context.Context, s *Sender, row *store.PushedPerson, r scim.Resource) error {
	active := true
	if v, ok := r["active"].(bool); ok {
		active = v
	}
	wasActive := row.Active || row.Version == 0
	delete(r, "active")
	delete(r, "password") // nobody here has a use for it
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	before := *row
	row.Body, row.UserKey, row.Active = string(body), userKey(r), active
	row.Subject = subjectOf(s, r)
	if row.UserKey == "" {
		return bad(http.StatusBadRequest, scim.InvalidValue, "userName is needed.")
	}
	if row.Version > 0 && before.Body == row.Body && before.Active == row.Active {
		return nil // the same once more
	}
	if active && !wasActive {
		if err := g.back(ctx, s, row); err != nil {
			return err
		}
	}
	var arrived *persons.Arrived
	if active {
		if arrived, err = g.means(ctx, s, row, r); err != nil {
			return err
		}
	}
	now := g.Now().UTC()
	row.Version, row.UpdatedAt, row.Stale, row.Problem = row.Version+1, now, false, ""
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if arrived != nil {
			if row.PersonID, err = arrived.Settle(tx, now); err != nil {
				return err
			}
		}
		if !active && wasActive {
			if err := g.end(tx, s, row, now); err != nil {
				return err
			}
		}
		if err := unchanged(tx, &before); err != nil {
			return err
		}
		same, err := store.One[store.PushedPerson](tx, "provider_id = ? AND user_key = ? AND id <> ?", s.ID, row.UserKey, row.ID)
		if err != nil {
			return err
		}
		if same.ID != "" {
			return bad(http.StatusConflict, scim.Uniqueness, "There is an account with this userName already: %s.", same.ID)
		}
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return keep(tx, row, r)
	})
}

// unchanged refuses to write over what another request wrote since it was read.
func unchanged(tx *gorm.DB, before *store.PushedPerson) error {
	now, err := store.One[store.PushedPerson](tx.Select("version"), "id = ?", before.ID)
	if err == nil && now.Version != before.Version {
		return bad(http.StatusPreconditionFailed, "", "The resource was changed by another request just now. Read it again.")
	}
	return err
}

// subjectOf is by which identifier the person comes at sign-in.
func subjectOf(s *Sender, r scim.Resource) string {
	p, err := scim.Users.Path(s.Pushed.Subject)
	if err != nil {
		return ""
	}
	for _, v := range p.Values(r) {
		return scim.Shown(v)
	}
	return ""
}

// means finds whom an account means, as a sign-in through this provider would.
func (g *Room) means(ctx context.Context, s *Sender, row *store.PushedPerson, r scim.Resource) (*persons.Arrived, error) {
	attributes := scim.Users.Attributes(r)
	attributes["sub"] = []string{row.Subject}
	groups, err := g.groupsOf(ctx, []string{row.ID})
	if err != nil {
		return nil, err
	}
	for _, one := range groups[row.ID] {
		attributes["groups"] = append(attributes["groups"], one.Name)
	}
	if err := g.linkKnown(ctx, s, row); err != nil {
		return nil, err
	}
	admitting := *s.Provider
	admitting.Admission = "create"
	who := bridge.Identity{Subject: persons.PushedLink(row.ID), Shown: r.Text("userName"), Attributes: attributes}
	run := &signin.SignIn{Rec: trace.NewRecorder(g.Now(), g.Now), App: &partners.Application{}, Provider: &admitting}
	if err := g.signin.Match(ctx, run, who); err != nil {
		return nil, err
	}
	return run.Arrived(who, "pushed by "+s.Name), nil
}

// linkKnown links an account to whoever signed in through this provider with the identifier that it names.
func (g *Room) linkKnown(ctx context.Context, s *Sender, row *store.PushedPerson) error {
	if row.PersonID != "" || row.Subject == "" {
		return nil
	}
	id, err := g.persons.KnownAs(ctx, s.ID, row.Subject)
	if err != nil || id == "" {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		_, err := persons.LinkOnce(tx, id, s.ID, persons.PushedLink(row.ID), row.Subject, g.Now().UTC())
		return err
	})
}

// back makes a person active again who was made inactive since the provider said so, and is left alone by everybody else since.
func (g *Room) back(ctx context.Context, s *Sender, row *store.PushedPerson) error {
	if row.PersonID == "" || row.GoneAt == nil {
		return nil
	}
	p, _, err := g.persons.PersonByID(ctx, row.PersonID)
	if ground.IsNotFound(err) {
		row.PersonID = ""
		return nil
	}
	if err != nil || p.Active {
		return err
	}
	if p.UpdatedAt.After(*row.GoneAt) {
		return explain.New(explain.MatchInactive, explain.Fact("person", p.Name)).Of(s.Name)
	}
	now := g.Now().UTC()
	row.GoneAt = nil
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := persons.SetActive(tx, row.PersonID, true, now); err != nil {
			return err
		}
		if err := ground.Journal(tx, now, ground.Actor{Name: s.Name}, "activated", "person", row.PersonID, p.Name, "",
			"pushed as active again"); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// end ends what somebody has open, and makes them inactive, unless they come another way as well: then what this provider vouched for
// ends, and the groups that it gave.
func (g *Room) end(tx *gorm.DB, s *Sender, row *store.PushedPerson, now time.Time) error {
	if row.PersonID == "" {
		return nil
	}
	why := s.Name + " says that the person is inactive"
	p, err := store.One[store.Person](tx, "id = ?", row.PersonID)
	if err != nil || p.ID == "" {
		return err
	}
	var elsewhere bool
	if err := store.RowIn(tx, "SELECT EXISTS (SELECT 1 FROM links WHERE person_id = ? AND provider_id <> ?)", p.ID, s.ID).
		Scan(&elsewhere); err != nil {
		return err
	}
	if elsewhere || p.Login != nil {
		if err := persons.LeaveGroupsOf(tx, p.ID, s.ID); err != nil {
			return err
		}
		if err := sessions.EndVouched(tx, p.ID, s.ID, why, now); err != nil {
			return err
		}
		if err := issued.EndOfPerson(tx, p.ID, s.ID, why, now); err != nil {
			return err
		}
		return ground.Journal(tx, now, ground.Actor{Name: s.Name}, "may no longer come from", "person", p.ID, p.Name, "", why)
	}
	if !p.Active {
		return nil
	}
	row.GoneAt = &now
	if err := persons.SetActive(tx, p.ID, false, now); err != nil {
		return err
	}
	if err := persons.EndOf(tx, p.ID, why, now); err != nil {
		return err
	}
	if err := ground.Journal(tx, now, ground.Actor{Name: s.Name}, "deactivated", "person", p.ID, p.Name, "", why); err != nil {
		return err
	}
	return store.Changed(tx)
}

// DropUser takes an account away (RFC 7644, section 3.6). The person stays, and is inactive.
func (g *Room) DropUser(ctx context.Context, s *Sender, id, match string) error {
	row, err := g.matched(ctx, s, id, match)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if row.Active {
			if err := g.end(tx, s, row, now); err != nil {
				return err
			}
		}
		if err := persons.DropLink(tx, s.ID, persons.PushedLink(row.ID)); err != nil {
			return err
		}
		for _, stmt := range []string{"DELETE FROM pushed_members WHERE pushed_id = ?", "DELETE FROM pushed_keys WHERE pushed_id = ?",
			"DELETE FROM pushed_people WHERE id = ?"} {
			if err := tx.Exec(stmt, row.ID).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Due works out people whose groups changed, those that a request left for later.
func (g *Room) Due(ctx context.Context) error {
	var rows []*store.PushedPerson
	if err := g.Store.Read(ctx).Where("stale").Limit(200).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for _, row := range rows {
		p, err := g.partners.ProviderByID(ctx, row.ProviderID)
		if ground.IsNotFound(err) {
			continue
		}
		if err != nil {
			return err
		}
		if err := g.again(ctx, &Sender{Provider: p, Base: g.Base(p)}, row); err != nil {
			return err
		}
	}
	return nil
}

// again works out anew what a person's groups make of them.
func (g *Room) again(ctx context.Context, s *Sender, row *store.PushedPerson) error {
	r, err := held(row)
	if err != nil {
		return err
	}
	var arrived *persons.Arrived
	problem := ""
	if row.Active && s.Pushed != nil {
		var f *explain.Failure
		if arrived, err = g.means(ctx, s, row, r); errors.As(err, &f) {
			arrived, problem = nil, words.Clip(f.Explain().Cause, 500)
		} else if err != nil {
			return err
		}
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if arrived != nil {
			if _, err := arrived.Settle(tx, now); err != nil {
				return err
			}
		}
		return tx.Exec("UPDATE pushed_people SET stale = false, problem = ? WHERE id = ? AND version = ?", problem, row.ID,
			row.Version).Error
	})
}

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
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// MayAssign refuses whoever may not assign people to an application: engineers may everywhere, an assigner only where
// it is named.
func MayAssign(who ground.Actor, slug string) error {
	if ground.Allows(who.Role, ground.RoleEngineer) || who.Role == ground.RoleAssigner && slices.Contains(who.Applications, slug) {
		return nil
	}
	if who.Role == ground.RoleAssigner {
		return ground.Problem(
			http.StatusForbidden, "role", "Not allowed",
			fmt.Sprintf("You may assign people to %s, and to nothing else.", words.OrNone(strings.Join(who.Applications, ", "))),
			"Ask an owner.",
		)
	}
	return ground.Problem(
		http.StatusForbidden, "role", "Not allowed",
		"Assigning people needs the role engineer, or assigner for this application.", "Ask an owner.",
	)
}

// Assignments lists who is assigned to an application. Search finds by name.
func (g *Room) Assignments(ctx context.Context, slug string, p store.Page) (*api.List[api.Assignment], error) {
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	after, err := store.ReadKey(p.After)
	if err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []struct {
		store.Assignment
		Name, Hint, Slug string
	}
	const list = `SELECT a.*, g.name, '' AS hint, g.slug FROM assignments a JOIN groups g ON g.id = a.who_id WHERE a.kind = 'group'
		AND a.application_id = @app
		UNION ALL SELECT a.*, p.name, p.email AS hint, p.id AS slug FROM assignments a JOIN people p ON p.id = a.who_id WHERE a.kind =
			'person' AND a.application_id = @app`
	if err := g.Store.Read(ctx).Raw("SELECT * FROM ("+list+
		") WHERE (kind, who_id) > (@kind, @who) AND (@search = '' OR name LIKE @like) ORDER BY kind, who_id LIMIT @limit",
		map[string]any{"app": app.ID, "kind": after[0], "who": after[1], "search": p.Search,
			"like":  "%" + strings.NewReplacer("%", "", "_", "").Replace(p.Search) + "%",
			"limit": ground.LimitOf(p) + 1}).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Assignment]{Items: []api.Assignment{}}
	for i, r := range rows {
		if i == ground.LimitOf(p) {
			out.Next = store.AfterKey(rows[i-1].Kind, rows[i-1].WhoID)
			break
		}
		a := api.Assignment{Kind: r.Kind, Who: r.Slug, Name: r.Name, Hint: r.Hint, Roles: partners.RolesOf(r.Roles), By: r.By, At: r.At}
		if a.Roles == nil {
			a.Roles = []string{}
		}
		out.Items = append(out.Items, a)
	}
	return out, nil
}

// Assign lets a person or group use an application, or changes the roles that go with it.
func (g *Room) Assign(ctx context.Context, who ground.Actor, slug string, in api.Assignment) error {
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return err
	}
	if len(in.Roles) > 100 || slices.ContainsFunc(in.Roles, func(r string) bool { return strings.TrimSpace(r) == "" || len(r) > 200 }) {
		return ground.BadRequest("roles", "Up to 100 roles can go with an assignment, each of 1 to 200 characters.", "")
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		id, name, err := Assignee(tx, in)
		if err != nil {
			return err
		}
		roles := ground.MustJSON(in.Roles)
		if in.Roles == nil {
			roles = "[]"
		}
		return g.WriteAssignment(tx, who, app.ID, app.Name, in, id, name, roles, now)
	})
}

// WriteAssignment assigns a person or a group to an application in a transaction.
func (g *Room) WriteAssignment(
	tx *gorm.DB,
	who ground.Actor,
	appID, appName string,
	in api.Assignment,
	id, name, roles string,
	now time.Time,
) error {
	if err := tx.Exec("INSERT INTO assignments (application_id, kind, who_id, roles, `by`, at) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT "+
		"DO UPDATE SET roles = excluded.roles", appID, in.Kind, id, roles, who.Name, now).Error; err != nil {
		return err
	}
	if in.Kind == "group" {
		o, err := groupAssignment(tx, appID, id, roles)
		if err != nil {
			return err
		}
		return ground.Revise(tx, now, who, "assigned", o, 0, "")
	}
	return ground.Journal(tx, now, who, "assigned", "application", appID, appName, "", in.Kind+" "+name+" "+roles)
}

// groupAssignment is a group's assignment as an object of the configuration.
func groupAssignment(tx *gorm.DB, appID, groupID, roles string) (ground.Saved, error) {
	var app store.Application
	if err := tx.Select("slug", "name").Where("id = ?", appID).Limit(1).Find(&app).Error; err != nil {
		return ground.Saved{}, err
	}
	group, err := store.One[store.Group](tx, "id = ?", groupID)
	if err != nil {
		return ground.Saved{}, err
	}
	return ground.Saved{
		Kind: files.Assignment,
		ID:   appID + "/" + groupID,
		Slug: app.Slug + "/" + group.Slug,
		Name: group.Name + " to " + app.Name,
		Body: ground.MustJSON(config.GroupAssignment{Application: app.Slug, Group: group.Slug, Roles: partners.RolesOf(roles)}),
	}, nil
}

// Assignee finds the person or group of an assignment.
func Assignee(tx *gorm.DB, in api.Assignment) (id, name string, err error) {
	switch in.Kind {
	case "group":
		var row store.Group
		if err := tx.Where("slug = ?", in.Who).Take(&row).Error; err != nil {
			return "", "", ground.Missing(err, "group", in.Who)
		}
		return row.ID, row.Name, nil
	case "person":
		var row store.Person
		if err := tx.Where("id = ?", in.Who).Take(&row).Error; err != nil {
			return "", "", ground.Missing(err, "person", in.Who)
		}
		return row.ID, row.Name, nil
	}
	return "", "", ground.BadRequest("kind", fmt.Sprintf("%q can't be assigned; a person or a group can.", in.Kind), "")
}

// Unassign takes an assignment away.
func (g *Room) Unassign(ctx context.Context, who ground.Actor, slug, kind, whom string) error {
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		id, name, err := Assignee(tx, api.Assignment{Kind: kind, Who: whom})
		if err != nil {
			return err
		}
		return g.RemoveAssignment(tx, who, app.ID, app.Name, kind, id, name, now)
	})
}

// RemoveAssignment takes an assignment back in a transaction.
func (g *Room) RemoveAssignment(tx *gorm.DB, who ground.Actor, appID, appName, kind, id, name string, now time.Time) error {
	held, err := store.One[store.Assignment](tx, "application_id = ? AND kind = ? AND who_id = ?", appID, kind, id)
	if err != nil {
		return err
	}
	if held.WhoID == "" {
		return ground.NotFound("assignment", name)
	}
	if err := tx.Exec("DELETE FROM assignments WHERE application_id = ? AND kind = ? AND who_id = ?", appID, kind, id).Error; err != nil {
		return err
	}
	if kind == "group" {
		o, err := groupAssignment(tx, appID, id, held.Roles)
		if err != nil {
			return err
		}
		return g.Unmake(tx, who, o)
	}
	return ground.Journal(tx, now, who, "unassigned", "application", appID, appName, kind+" "+name, "")
}

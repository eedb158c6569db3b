package gate

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
	"innergate/store"
)

// MayAssign refuses whoever may not assign people to an application: engineers may everywhere, an assigner only where it is named.
func MayAssign(who Actor, slug string) error {
	if Allows(who.Role, RoleEngineer) || who.Role == RoleAssigner && slices.Contains(who.Applications, slug) {
		return nil
	}
	if who.Role == RoleAssigner {
		return problem(http.StatusForbidden, "role", "Not allowed", fmt.Sprintf("You may assign people to %s, and to nothing else.", orNone(strings.Join(who.Applications, ", "))), "Ask an owner.")
	}
	return problem(http.StatusForbidden, "role", "Not allowed", "Assigning people needs the role engineer, or assigner for this application.", "Ask an owner.")
}

// Assignments lists who is assigned to an application. Search finds by name.
func (g *Gate) Assignments(ctx context.Context, slug string, p store.Page) (*api.List[api.Assignment], error) {
	app, err := g.application(ctx, slug)
	if err != nil {
		return nil, err
	}
	after, err := store.ReadKey(p.After)
	if err != nil {
		return nil, badRequest("bad-page", err.Error()+".", "")
	}
	var rows []struct {
		store.Assignment
		Name, Hint, Slug string
	}
	const list = `SELECT a.*, g.name, '' AS hint, g.slug FROM assignments a JOIN groups g ON g.id = a.who_id WHERE a.kind = 'group' AND a.application_id = @app
		UNION ALL SELECT a.*, p.name, p.email AS hint, p.id AS slug FROM assignments a JOIN people p ON p.id = a.who_id WHERE a.kind = 'person' AND a.application_id = @app`
	if err := g.Store.Read(ctx).Raw("SELECT * FROM ("+list+") WHERE (kind, who_id) > (@kind, @who) AND (@search = '' OR name LIKE @like) ORDER BY kind, who_id LIMIT @limit",
		map[string]any{"app": app.id, "kind": after[0], "who": after[1], "search": p.Search, "like": "%" + strings.NewReplacer("%", "", "_", "").Replace(p.Search) + "%", "limit": limitOf(p) + 1}).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Assignment]{Items: []api.Assignment{}}
	for i, r := range rows {
		if i == limitOf(p) {
			out.Next = store.AfterKey(rows[i-1].Kind, rows[i-1].WhoID)
			break
		}
		a := api.Assignment{Kind: r.Kind, Who: r.Slug, Name: r.Name, Hint: r.Hint, Roles: rolesOf(r.Roles), By: r.By, At: r.At}
		if a.Roles == nil {
			a.Roles = []string{}
		}
		out.Items = append(out.Items, a)
	}
	return out, nil
}

// Assign lets a person or group use an application, or changes the roles that go with it.
func (g *Gate) Assign(ctx context.Context, who Actor, slug string, in api.Assignment) error {
	app, err := g.application(ctx, slug)
	if err != nil {
		return err
	}
	if len(in.Roles) > 100 || slices.ContainsFunc(in.Roles, func(r string) bool { return strings.TrimSpace(r) == "" || len(r) > 200 }) {
		return badRequest("roles", "Up to 100 roles can go with an assignment, each of 1 to 200 characters.", "")
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		id, name, err := assignee(tx, in)
		if err != nil {
			return err
		}
		roles := mustJSON(in.Roles)
		if in.Roles == nil {
			roles = "[]"
		}
		return g.writeAssignment(tx, who, app.id, app.Name, in, id, name, roles, now)
	})
}

func (g *Gate) writeAssignment(tx *gorm.DB, who Actor, appID, appName string, in api.Assignment, id, name, roles string, now time.Time) error {
	if err := tx.Exec("INSERT INTO assignments (application_id, kind, who_id, roles, `by`, at) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET roles = excluded.roles", appID, in.Kind, id, roles, who.Name, now).Error; err != nil {
		return err
	}
	if in.Kind == "group" {
		o, err := groupAssignment(tx, appID, id, roles)
		if err != nil {
			return err
		}
		return revise(tx, now, who, "assigned", o, 0, "")
	}
	return journal(tx, now, who, "assigned", "application", appID, appName, "", in.Kind+" "+name+" "+roles)
}

// groupAssignment is a group's assignment as an object of the configuration.
func groupAssignment(tx *gorm.DB, appID, groupID, roles string) (saved, error) {
	var app store.Application
	if err := tx.Select("slug", "name").Where("id = ?", appID).Limit(1).Find(&app).Error; err != nil {
		return saved{}, err
	}
	var group store.Group
	if err := tx.Where("id = ?", groupID).Limit(1).Find(&group).Error; err != nil {
		return saved{}, err
	}
	return saved{kind: files.Assignment, id: appID + "/" + groupID, slug: app.Slug + "/" + group.Slug, name: group.Name + " to " + app.Name, body: mustJSON(config.GroupAssignment{Application: app.Slug, Group: group.Slug, Roles: rolesOf(roles)})}, nil
}

func assignee(tx *gorm.DB, in api.Assignment) (id, name string, err error) {
	switch in.Kind {
	case "group":
		var row store.Group
		if err := tx.Where("slug = ?", in.Who).Take(&row).Error; err != nil {
			return "", "", missing(err, "group", in.Who)
		}
		return row.ID, row.Name, nil
	case "person":
		var row store.Person
		if err := tx.Where("id = ?", in.Who).Take(&row).Error; err != nil {
			return "", "", missing(err, "person", in.Who)
		}
		return row.ID, row.Name, nil
	}
	return "", "", badRequest("kind", fmt.Sprintf("%q can't be assigned; a person or a group can.", in.Kind), "")
}

// Unassign takes an assignment away.
func (g *Gate) Unassign(ctx context.Context, who Actor, slug, kind, whom string) error {
	app, err := g.application(ctx, slug)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		id, name, err := assignee(tx, api.Assignment{Kind: kind, Who: whom})
		if err != nil {
			return err
		}
		return g.removeAssignment(tx, who, app.id, app.Name, kind, id, name, now)
	})
}

func (g *Gate) removeAssignment(tx *gorm.DB, who Actor, appID, appName, kind, id, name string, now time.Time) error {
	var held store.Assignment
	if err := tx.Where("application_id = ? AND kind = ? AND who_id = ?", appID, kind, id).Limit(1).Find(&held).Error; err != nil {
		return err
	}
	if held.WhoID == "" {
		return notFound("assignment", name)
	}
	if err := tx.Exec("DELETE FROM assignments WHERE application_id = ? AND kind = ? AND who_id = ?", appID, kind, id).Error; err != nil {
		return err
	}
	if kind == "group" {
		o, err := groupAssignment(tx, appID, id, held.Roles)
		if err != nil {
			return err
		}
		return g.unmake(tx, who, o)
	}
	return journal(tx, now, who, "unassigned", "application", appID, appName, kind+" "+name, "")
}

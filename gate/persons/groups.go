package persons

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/store"
)

// countedTo is how many members of a group are counted: what stands there says that there are many.
const countedTo = 20_000

var groupColumns = map[string]string{"name": "name COLLATE NOCASE", "created": "id"}

// Groups lists a page.
func (g *Room) Groups(ctx context.Context, p store.Page) (*api.List[api.Group], error) {
	db, err := p.Rows(g.Store.Read(ctx), groupColumns, "name", "name", "slug")
	if err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []store.Group
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	key := func(r *store.Group) string {
		if strings.TrimPrefix(p.Sort, "-") == "created" {
			return store.AfterKey(r.ID, r.ID)
		}
		return store.AfterKey(r.Name, r.ID)
	}
	return ground.PageOf(p, rows, key, func(r *store.Group) (*api.Group, error) { return g.groupView(ctx, r) })
}

func (g *Room) groupView(ctx context.Context, row *store.Group) (*api.Group, error) {
	v := &api.Group{Group: config.Group{Slug: row.Slug, Name: row.Name, Description: row.Description}, Created: row.CreatedAt}
	err := g.Store.Row(ctx, "SELECT count(*) FROM (SELECT DISTINCT person_id FROM memberships WHERE group_id = ? LIMIT ?)", row.ID,
		countedTo).Scan(&v.People)
	v.More = v.People == countedTo
	return v, store.Clear(err)
}

// Group shows one.
func (g *Room) Group(ctx context.Context, slug string) (*api.Group, error) {
	var row store.Group
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "group", slug)
	}
	return g.groupView(ctx, &row)
}

// SaveGroup creates a group (empty slug) or changes its name and description.
func (g *Room) SaveGroup(ctx context.Context, who ground.Actor, slug string, in config.Group) (*api.Group, error) {
	if in.Slug == "" {
		if in.Slug = slug; slug == "" {
			in.Slug = config.Slug(in.Name)
		}
	}
	if err := in.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteGroup(tx, who, slug, in) }); err != nil {
		return nil, err
	}
	return g.Group(ctx, in.Slug)
}

// WriteGroup writes a group in a transaction: new where slug is empty.
func (g *Room) WriteGroup(tx *gorm.DB, who ground.Actor, slug string, in config.Group) error {
	now := g.Now().UTC()
	row := store.Group{CreatedAt: now}
	action, before := "created", ""
	if slug != "" {
		if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
			return ground.Missing(err, "group", slug)
		}
		if in.Slug != slug {
			return ground.BadRequest(
				"slug-fixed", "The short name can't change: rules name the group by it.",
				"Make a new group with the other short name.",
			)
		}
		held := config.Group{Slug: row.Slug, Name: row.Name, Description: row.Description}
		if held == in {
			return nil
		}
		action, before = "changed", ground.MustJSON(held)
	} else {
		other, err := store.One[store.Group](tx, "slug = ?", in.Slug)
		if err != nil {
			return err
		}
		if other.ID != "" {
			return ground.Problem(http.StatusConflict, "slug-taken", "The short name is taken",
				fmt.Sprintf("The group %q has the short name %s already.", other.Name, in.Slug), "Choose another short name.")
		}
	}
	row.Slug, row.Name, row.Description, row.UpdatedAt = in.Slug, in.Name, in.Description, now
	write := tx.Save
	if row.ID == "" {
		row.ID = who.NewID("group", in.Slug)
		write = tx.Create
	}
	if err := write(&row).Error; err != nil {
		return err
	}
	return ground.Revise(
		tx,
		now,
		who,
		action,
		ground.Saved{Kind: "group", ID: row.ID, Slug: row.Slug, Name: row.Name, Body: ground.MustJSON(in)},
		0,
		before,
	)
}

// DeleteGroup removes a group that no rule, grant or assignment names.
func (g *Room) DeleteGroup(ctx context.Context, who ground.Actor, slug string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.RemoveGroup(tx, who, slug) })
}

// RemoveGroup deletes a group in a transaction; one that rules name is refused.
func (g *Room) RemoveGroup(tx *gorm.DB, who ground.Actor, slug string) error {
	var row store.Group
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return ground.Missing(err, "group", slug)
	}
	users, err := groupUsers(tx, row)
	if err != nil {
		return err
	}
	if len(users) > 0 {
		return ground.Problem(
			http.StatusConflict, "in-use", "The group is in use",
			fmt.Sprintf("%s is named by %s.", row.Name, strings.Join(users, ", ")), "Take it out there first.",
		)
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	// Its members are taken out later, some at a time: a group that is not there counts for nobody.
	if err := store.Leave(tx, "group", row.ID, g.Now().UTC()); err != nil {
		return err
	}
	return g.Unmake(
		tx,
		who,
		ground.Saved{
			Kind: "group",
			ID:   row.ID,
			Slug: slug,
			Name: row.Name,
			Body: ground.MustJSON(config.Group{Slug: row.Slug, Name: row.Name, Description: row.Description}),
		},
	)
}

// groupUsers names the applications, providers and rule sets that name a group.
func groupUsers(tx *gorm.DB, row store.Group) ([]string, error) {
	var users []string
	const named = "EXISTS (SELECT 1 FROM json_tree(body, ?) AS t WHERE t.value = ? AND t.type = 'text' AND t.path LIKE '%.groups')"
	for _, q := range []struct{ table, path string }{{"applications", "$.access"}, {"providers", "$"}, {"rule_sets", "$"}} {
		var names []string
		// The text of the body names the group first of all: to look for that alone is quick.
		if err := tx.Raw("SELECT name FROM "+q.table+" WHERE instr(body, ?) > 0 AND "+named+" LIMIT 3", `"`+row.Slug+`"`, q.path,
			row.Slug).Scan(&names).Error; err != nil {
			return nil, err
		}
		users = append(users, names...)
	}
	var assigned []string
	if err := tx.Raw("SELECT name FROM applications WHERE id IN (SELECT application_id FROM assignments WHERE kind = 'group' AND "+
		"who_id = ?) LIMIT 3", row.ID).Scan(&assigned).Error; err != nil {
		return nil, err
	}
	return append(users, assigned...), nil
}

// KnownGroups refuses configurations that name groups which are not there.
func KnownGroups(tx *gorm.DB, slugs []string) error {
	for _, slug := range slugs {
		var n int64
		if err := tx.Model(&store.Group{}).Where("slug = ?", slug).Count(&n).Error; err != nil {
			return err
		}
		if n == 0 {
			return ground.BadRequest(
				"group-unknown", fmt.Sprintf("There is no group with the short name %q.", slug),
				"Add the group first, or choose one that is there.",
			)
		}
	}
	return nil
}

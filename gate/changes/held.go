package changes

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// held is the whole configuration as it is kept, by kind and short name.
type held map[string]map[string]files.Object

func (h held) add(o files.Object) {
	if h[o.Kind] == nil {
		h[o.Kind] = map[string]files.Object{}
	}
	h[o.Kind][o.Slug] = o
}

// list is every object, in the order in which they can be made, by short name.
func (h held) list() []files.Object {
	var out []files.Object
	for _, kind := range files.Kinds {
		var some []files.Object
		for _, o := range h[kind] {
			some = append(some, o)
		}
		slices.SortFunc(some, func(a, b files.Object) int { return strings.Compare(a.Slug, b.Slug) })
		out = append(out, some...)
	}
	return out
}

// settingSpec is what the gate knows of one of its settings.
type settingSpec struct {
	name, words string
	owner       bool   // only an owner may see and change it
	usual       string // its body until something else is set; empty where it is off until then
}

var settingSpecs = []settingSpec{
	{files.SettingPeople, "person types and attributes", false, ground.MustJSON(people.DefaultSettings())},
	{files.SettingRoutes, "routes", false, ground.MustJSON(access.Routes{Rules: []access.Route{}, Field: access.FieldNeeded})},
	{files.SettingSessions, "limits of sessions", true, ground.MustJSON(config.UsualSessions)},
	{files.SettingConsole, "who may come in to the console", true, ground.MustJSON(config.Console{Rules: []config.ConsoleRule{}})},
	{files.SettingMail, "how mail is sent", true, ""},
	{files.SettingNotices, "whom new findings are told", true, ""},
	{files.SettingTraces, "how long traces are kept", true, ""},
	{files.SettingClients, "client registration", true, ground.MustJSON(config.Registration{})},
	{files.SettingPages, "how pages for people look", true, ground.MustJSON(config.Pages{})},
	{files.SettingReview, "which changes need a second person", true, ground.MustJSON(config.Review{})},
}

func specOf(name string) settingSpec {
	for _, s := range settingSpecs {
		if s.name == name {
			return s
		}
	}
	return settingSpec{name: name, words: name, owner: true}
}

// shownSetting is what can be shown of a setting's value: its body, without secrets and states.
func shownSetting(name, value string) (string, error) {
	reshape := func(v any) (string, error) {
		if err := json.Unmarshal([]byte(value), v); err != nil {
			return "", fmt.Errorf("the setting %s can't be read: %w", name, err)
		}
		return ground.MustJSON(v), nil
	}
	switch name {
	case files.SettingClients:
		return ground.MustJSON(config.Registration{On: value == "on"}), nil
	case files.SettingMail:
		return reshape(&config.Mail{})
	case files.SettingNotices:
		return reshape(&config.Notices{})
	case files.SettingRoutes:
		r := access.Routes{Rules: []access.Route{}}
		return reshape(&r)
	case files.SettingConsole:
		return reshape(&config.Console{Rules: []config.ConsoleRule{}})
	case files.SettingPeople:
		return reshape(&people.Settings{})
	}
	return value, nil
}

// objectQueries read the objects of each kind that have a table of their own.
var objectQueries = []struct{ kind, query string }{
	{files.Group, "SELECT id AS object_id, slug, name, description AS body FROM groups"},
	{files.RuleSet, "SELECT id AS object_id, slug, name, body FROM rule_sets"},
	{files.Source, "SELECT id AS object_id, slug, name, body FROM sources"},
	{files.Template, "SELECT id AS object_id, slug, name, body FROM templates"},
	{files.Provider, "SELECT id AS object_id, slug, name, body FROM providers"},
	{files.Application, "SELECT id AS object_id, slug, name, body FROM applications"},
}

// heldOne reads one object as heldObjects would; one that is not there has no body.
func (g *Room) heldOne(tx *gorm.DB, kind, slug string) (files.Object, error) {
	out := files.Object{Kind: kind, Slug: slug}
	switch kind {
	case files.Setting:
		spec := specOf(slug)
		out.Name, out.Body, out.ID = spec.words, spec.usual, "setting/"+slug
		row, err := store.One[store.Setting](tx, "name = ?", slug)
		if err == nil && row.Value != "" {
			out.Body, err = shownSetting(slug, row.Value)
		}
		return out, err
	case files.Assignment:
		app, group, _ := strings.Cut(slug, "/")
		var roles []string
		if err := tx.Raw("SELECT roles FROM assignments WHERE kind = 'group' AND application_id = (SELECT id FROM applications WHERE slug "+
			"= "+
			"?) AND who_id = (SELECT id FROM groups WHERE slug = ?)", app, group).Scan(&roles).Error; err != nil || len(roles) == 0 {
			return out, err
		}
		out.Body = ground.MustJSON(config.GroupAssignment{Application: app, Group: group, Roles: partners.RolesOf(roles[0])})
		return out, nil
	}
	for _, q := range objectQueries {
		if q.kind != kind {
			continue
		}
		var rows []struct{ ObjectID, Slug, Name, Body string }
		if err := tx.Raw(q.query+" WHERE slug = ?", slug).Scan(&rows).Error; err != nil || len(rows) == 0 {
			return out, err
		}
		out.Name, out.Body, out.ID = rows[0].Name, rows[0].Body, rows[0].ObjectID
		if kind == files.Group {
			out.Body = ground.MustJSON(config.Group{Slug: slug, Name: out.Name, Description: out.Body})
		}
	}
	return out, nil
}

// heldObjects reads the whole configuration. Settings that were never set are there with what holds until then.
func (g *Room) heldObjects(db *gorm.DB) (held, error) {
	h := held{}
	for _, q := range objectQueries {
		var rows []struct{ ObjectID, Slug, Name, Body string }
		if err := db.Raw(q.query).Scan(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, r := range rows {
			if q.kind == files.Group {
				r.Body = ground.MustJSON(config.Group{Slug: r.Slug, Name: r.Name, Description: r.Body})
			}
			h.add(files.Object{Kind: q.kind, Slug: r.Slug, Name: r.Name, Body: r.Body, ID: r.ObjectID})
		}
	}
	var assigned []struct{ AppID, GroupID, App, Group, AppName, GroupName, Roles string }
	if err := db.Raw("SELECT p.id AS app_id, g.id AS group_id, p.slug AS app, g.slug AS `group`, p.name AS app_name, g.name AS " +
		"group_name, a.roles FROM assignments a JOIN applications p ON p.id = a.application_id JOIN groups g ON g.id = a.who_id WHERE " +
		"a.kind = 'group'").Scan(&assigned).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, a := range assigned {
		h.add(files.Object{
			Kind: files.Assignment,
			Slug: a.App + "/" + a.Group,
			Name: a.GroupName + " to " + a.AppName,
			ID:   a.AppID + "/" + a.GroupID,
			Body: ground.MustJSON(config.GroupAssignment{Application: a.App, Group: a.Group, Roles: partners.RolesOf(a.Roles)}),
		})
	}
	var settings []store.Setting
	if err := db.Find(&settings).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, spec := range settingSpecs {
		o := files.Object{Kind: files.Setting, Slug: spec.name, Name: spec.words, Body: spec.usual, ID: "setting/" + spec.name}
		for _, s := range settings {
			if s.Name == spec.name && s.Value != "" {
				body, err := shownSetting(s.Name, s.Value)
				if err != nil {
					return nil, err
				}
				o.Body = body
			}
		}
		if o.Body != "" {
			h.add(o)
		}
	}
	return h, nil
}

// exported is what of the configuration goes out to somebody: what they may see, and what is not as it is anyway.
func (g *Room) exported(ctx context.Context, who ground.Actor) ([]files.Object, error) {
	db, done := g.Store.Long(ctx)
	defer done()
	h, err := g.heldObjects(db)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(h.list(), func(o files.Object) bool {
		if o.Kind != files.Setting {
			return false
		}
		spec := specOf(o.Slug)
		return o.Body == spec.usual || spec.owner && !ground.Allows(who.Role, ground.RoleOwner)
	}), nil
}

// ExportConfig writes the whole configuration as one file, or as a folder of files, that LoadConfig reads. Settings
// that only an owner may see are left out for others; secrets are left out, or, where that is asked for, sealed for
// this gate alone.
func (g *Room) ExportConfig(ctx context.Context, who ground.Actor, folder, sealed bool) (*api.ConfigFiles, error) {
	out := &api.ConfigFiles{}
	if !folder {
		var b strings.Builder
		each, err := g.Exporting(ctx, who, sealed)
		if err != nil {
			return nil, err
		}
		err = each(func(text string) error {
			b.WriteString(text)
			return nil
		})
		out.Files = []files.Text{{Name: WholeFile, Text: b.String()}}
		return out, err
	}
	objects, secrets, err := g.outgoing(ctx, who, sealed)
	if err != nil {
		return nil, err
	}
	out.Files, err = files.WriteFolder(objects, secrets, g.remarks()...)
	return out, err
}

// WholeFile is the name of a file that holds the whole configuration.
const WholeFile = "gate.yaml"

// Exporting is ExportConfig as one file that may be too long to be held: what it returns hands it on part by part.
func (g *Room) Exporting(ctx context.Context, who ground.Actor, sealed bool) (func(f func(text string) error) error, error) {
	objects, secrets, err := g.outgoing(ctx, who, sealed)
	if err != nil {
		return nil, err
	}
	return func(f func(text string) error) error { return files.Each(objects, secrets, f, g.remarks()...) }, nil
}

func (g *Room) outgoing(ctx context.Context, who ground.Actor, sealed bool) (objects []files.Object, secrets []files.Secret, err error) {
	if objects, err = g.exported(ctx, who); err == nil && sealed {
		secrets, err = g.sealedSecrets(ctx, who)
	}
	return objects, secrets, err
}

func (g *Room) remarks() []string {
	return []string{
		"yaml-language-server: $schema=" + g.PublicURL + SchemaPath,
		"Inner Gate configuration. `innergate config preview` tells what loading it would do, `innergate config load` does it.",
	}
}

// SchemaPath is where the service gives the JSON Schema of configuration files.
const SchemaPath = "/config.schema.json"

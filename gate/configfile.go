package gate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/store"
)

// file is the form of a configuration file.
type file struct {
	People       *people.Settings     `json:"people,omitempty"`
	Groups       []config.Group       `json:"groups,omitempty"`
	RuleSets     []config.RuleSet     `json:"ruleSets,omitempty"`
	Sources      []config.Source      `json:"sources,omitempty"`
	Templates    []config.Template    `json:"templates,omitempty"`
	Providers    []config.Provider    `json:"providers,omitempty"`
	Applications []config.Application `json:"applications,omitempty"`
	Assignments  []groupAssignment    `json:"assignments,omitempty"`
	Routes       *access.Routes       `json:"routes,omitempty"`
	Sessions     *config.Sessions     `json:"sessions,omitempty"`
}

// groupAssignment lets a group use an application. Assignments of people are no part of a configuration: people are not.
type groupAssignment struct {
	Application string   `json:"application"`
	Group       string   `json:"group"`
	Roles       []string `json:"roles,omitempty"`
}

// readFile reads YAML strictly: a key that is not known is an error that names its line.
func readFile(text string) (*file, error) {
	doc, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		return nil, badRequest("yaml", "The file is not YAML: "+yaml.FormatError(err, false, false), "")
	}
	if bytes.Equal(bytes.TrimSpace(doc), []byte("null")) {
		return nil, badRequest("yaml", "There is nothing in the file.", "A file holds lists named groups, ruleSets, sources, templates, providers, applications and assignments, and the settings routes, sessions and people.")
	}
	dec := json.NewDecoder(bytes.NewReader(doc))
	dec.DisallowUnknownFields()
	var f file
	if err := dec.Decode(&f); err != nil {
		return nil, badRequest("config-form", fileReason(text, err), "Compare with what `innergate config export` writes.")
	}
	return &f, nil
}

var unknownField = regexp.MustCompile(`unknown field "([^"]+)"`)

// fileReason says what is wrong with a file and in which line.
func fileReason(text string, err error) string {
	var wrong *json.UnmarshalTypeError
	if m := unknownField.FindStringSubmatch(err.Error()); m != nil {
		return fmt.Sprintf("The key %q%s is not known.", m[1], lineOf(text, m[1]))
	}
	if errors.As(err, &wrong) {
		name := wrong.Field[strings.LastIndexByte(wrong.Field, '.')+1:]
		return fmt.Sprintf("The key %q%s should hold a %s, not a %s.", name, lineOf(text, name), kindInWords(wrong.Type.Kind().String()), wrong.Value)
	}
	return "The file has another form than a configuration: " + strings.TrimPrefix(err.Error(), "json: ") + "."
}

func kindInWords(kind string) string {
	switch kind {
	case "slice":
		return "list"
	case "struct", "ptr", "map":
		return "group of keys"
	case "bool":
		return "true or false"
	case "string":
		return "text"
	}
	return "number"
}

func lineOf(text, key string) string {
	for i, l := range strings.Split(text, "\n") {
		if strings.HasPrefix(strings.TrimLeft(l, " -\t"), key+":") {
			return fmt.Sprintf(" in line %d", i+1)
		}
	}
	return ""
}

// LoadConfig creates and updates what the file describes, all or nothing. Loading twice changes nothing the second time. What the file does not mention stays.
func (g *Gate) LoadConfig(ctx context.Context, who Actor, in api.ConfigFile) (*api.ConfigResult, error) {
	f, err := readFile(in.YAML)
	if err != nil {
		return nil, err
	}
	var problems config.Problems
	seen := map[string]bool{}
	note := func(kind string, i int, slug string, err error) {
		at := fmt.Sprintf("%s[%d] (%s)", kind, i, slug)
		if seen[kind+slug] {
			problems = append(problems, config.Problem{Field: at, Message: "the short name stands twice in the file"})
		}
		seen[kind+slug] = true
		var own config.Problems
		if errors.As(err, &own) {
			for _, p := range own {
				problems = append(problems, config.Problem{Field: at + "." + p.Field, Message: p.Message})
			}
		}
	}
	if f.People != nil {
		if f.People.Attributes == nil {
			f.People.Attributes = []people.Attribute{}
		}
		if err := f.People.Check(); err != nil {
			problems = append(problems, config.Problem{Field: "people", Message: err.Error()})
		}
	}
	for i := range f.Groups {
		note("groups", i, f.Groups[i].Slug, f.Groups[i].Validate())
	}
	for i := range f.RuleSets {
		note("ruleSets", i, f.RuleSets[i].Slug, f.RuleSets[i].Validate())
	}
	for i := range f.Sources {
		note("sources", i, f.Sources[i].Slug, f.Sources[i].Validate())
	}
	for i := range f.Templates {
		note("templates", i, f.Templates[i].Slug, f.Templates[i].Validate())
	}
	for i := range f.Providers {
		note("providers", i, f.Providers[i].Slug, f.Providers[i].Validate())
	}
	for i := range f.Applications {
		note("applications", i, f.Applications[i].Slug, f.Applications[i].Validate())
	}
	if f.Routes != nil {
		if err := f.Routes.Check(); err != nil {
			problems = append(problems, config.Problem{Field: "routes", Message: err.Error()})
		}
	}
	if f.Sessions != nil {
		note("sessions", 0, "sessions", f.Sessions.Validate())
	}
	if len(problems) > 0 {
		return nil, invalid(problems)
	}
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return nil, err
	}
	result := &api.ConfigResult{Created: []string{}, Updated: []string{}, Unchanged: []string{}}
	errPreview := errors.New("only looked at")
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.loadFile(tx, who, f, settings, result); err != nil {
			return err
		}
		if in.Preview {
			return errPreview
		}
		return nil
	})
	if errors.Is(err, errPreview) {
		err = nil
	}
	return result, err
}

func (g *Gate) loadFile(tx *gorm.DB, who Actor, f *file, settings people.Settings, result *api.ConfigResult) error {
	now := g.Now().UTC()
	sort := func(kind, slug, held, body string, found bool) string {
		name := kind + " " + slug
		switch {
		case !found:
			result.Created = append(result.Created, name)
			return ""
		case held == body:
			result.Unchanged = append(result.Unchanged, name)
		default:
			result.Updated = append(result.Updated, name)
		}
		return slug
	}
	if f.People != nil {
		sort("settings", "people", mustJSON(settings), mustJSON(*f.People), true)
		if err := g.writePeopleSettings(tx, who, settings, *f.People); err != nil {
			return err
		}
	}
	for _, one := range f.Groups {
		var row store.Group
		if err := tx.Where("slug = ?", one.Slug).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		held := config.Group{Slug: row.Slug, Name: row.Name, Description: row.Description}
		if err := g.writeGroup(tx, who, sort("group", one.Slug, mustJSON(held), mustJSON(one), row.ID != ""), one); err != nil {
			return err
		}
	}
	for _, r := range f.RuleSets {
		var row store.RuleSet
		if err := tx.Where("slug = ?", r.Slug).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		if err := g.writeRuleSet(tx, who, sort("rule set", r.Slug, row.Body, mustJSON(r), row.ID != ""), r, 0); err != nil {
			return err
		}
	}
	for _, s := range f.Sources {
		var row store.Source
		if err := tx.Where("slug = ?", s.Slug).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		if err := g.writeSource(tx, who, sort("source", s.Slug, row.Body, mustJSON(s), row.ID != ""), s); err != nil {
			return err
		}
	}
	for _, t := range f.Templates {
		var row store.Template
		if err := tx.Where("slug = ?", t.Slug).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		if err := g.writeTemplate(tx, who, sort("template", t.Slug, row.Body, mustJSON(t), row.ID != ""), t); err != nil {
			return err
		}
	}
	for _, p := range f.Providers {
		var row store.Provider
		if err := tx.Where("slug = ?", p.Slug).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		if err := g.writeProvider(tx, now, who, sort("provider", p.Slug, row.Body, mustJSON(p), row.ID != ""), p, 0); err != nil {
			return err
		}
	}
	for _, a := range f.Applications {
		for _, slug := range a.Providers {
			var n int64
			if err := tx.Model(&store.Provider{}).Where("slug = ?", slug).Count(&n).Error; err != nil {
				return err
			}
			if n == 0 {
				return problem(http.StatusUnprocessableEntity, "provider-unknown", "A provider is missing", fmt.Sprintf("The application %s names the provider %q, which is neither here nor in the file.", a.Slug, slug), "Add the provider to the file, or correct its short name.")
			}
		}
		var row store.Application
		if err := tx.Where("slug = ?", a.Slug).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		if err := g.writeApplication(tx, now, who, sort("application", a.Slug, row.Body, mustJSON(a), row.ID != ""), a, 0); err != nil {
			return err
		}
	}
	if err := g.loadSettings(tx, who, f, sort); err != nil {
		return err
	}
	return g.loadAssignments(tx, who, f.Assignments, result, now)
}

// loadSettings takes the routes and the limits of sessions out of a file.
func (g *Gate) loadSettings(tx *gorm.DB, who Actor, f *file, sort func(kind, slug, held, body string, found bool) string) error {
	ctx := tx.Statement.Context
	if f.Routes != nil {
		before, err := g.Routes(ctx)
		if err != nil {
			return err
		}
		if f.Routes.Rules == nil {
			f.Routes.Rules = []access.Route{}
		}
		if sort("settings", "routes", mustJSON(before), mustJSON(f.Routes), true); mustJSON(before) != mustJSON(f.Routes) {
			if err := g.writeRoutes(tx, who, before, *f.Routes); err != nil {
				return err
			}
		}
	}
	if f.Sessions != nil {
		before, err := g.sessionLimits(ctx)
		if err != nil {
			return err
		}
		if sort("settings", "sessions", mustJSON(before), mustJSON(f.Sessions), true); before != *f.Sessions {
			return g.writeSetting(tx, who, settingSessions, "limits of sessions", before, f.Sessions)
		}
	}
	return nil
}

func (g *Gate) loadAssignments(tx *gorm.DB, who Actor, list []groupAssignment, result *api.ConfigResult, now time.Time) error {
	for _, a := range list {
		var app store.Application
		if err := tx.Where("slug = ?", a.Application).Take(&app).Error; err != nil {
			return missing(err, "application", a.Application)
		}
		id, name, err := assignee(tx, api.Assignment{Kind: "group", Who: a.Group})
		if err != nil {
			return err
		}
		roles := mustJSON(orEmptyList(a.Roles))
		var held store.Assignment
		if err := tx.Where("application_id = ? AND kind = 'group' AND who_id = ?", app.ID, id).Limit(1).Find(&held).Error; err != nil {
			return err
		}
		what := "assignment of " + a.Group + " to " + a.Application
		switch {
		case held.WhoID == "":
			result.Created = append(result.Created, what)
		case held.Roles == roles:
			result.Unchanged = append(result.Unchanged, what)
			continue
		default:
			result.Updated = append(result.Updated, what)
		}
		if err := g.writeAssignment(tx, who, app.ID, app.Name, api.Assignment{Kind: "group"}, id, name, roles, now); err != nil {
			return err
		}
	}
	return nil
}

// exportPeopleConfig adds what is set for people, groups and rule sets to a file.
func (g *Gate) exportPeopleConfig(ctx context.Context, f *file) error {
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return err
	}
	if mustJSON(settings) != mustJSON(people.DefaultSettings()) {
		f.People = &settings
	}
	db := g.Store.Read(ctx)
	var groups []store.Group
	if err := db.Order("slug").Find(&groups).Error; err != nil {
		return store.Clear(err)
	}
	for _, row := range groups {
		f.Groups = append(f.Groups, config.Group{Slug: row.Slug, Name: row.Name, Description: row.Description})
	}
	var sets []store.RuleSet
	if err := db.Order("slug").Find(&sets).Error; err != nil {
		return store.Clear(err)
	}
	for _, row := range sets {
		r, err := decodeBody[config.RuleSet](row.Body)
		if err != nil {
			return err
		}
		f.RuleSets = append(f.RuleSets, r)
	}
	var assigned []struct{ Application, Group, Roles string }
	if err := db.Raw("SELECT p.slug AS application, g.slug AS `group`, a.roles FROM assignments a JOIN applications p ON p.id = a.application_id JOIN groups g ON g.id = a.who_id WHERE a.kind = 'group' ORDER BY p.slug, g.slug").Scan(&assigned).Error; err != nil {
		return store.Clear(err)
	}
	for _, a := range assigned {
		f.Assignments = append(f.Assignments, groupAssignment{a.Application, a.Group, rolesOf(a.Roles)})
	}
	return nil
}

// ExportConfig writes the whole configuration as a file that LoadConfig reads.
func (g *Gate) ExportConfig(ctx context.Context) (string, error) {
	var f file
	if err := g.exportPeopleConfig(ctx, &f); err != nil {
		return "", err
	}
	routes, err := g.Routes(ctx)
	if err != nil {
		return "", err
	}
	if len(routes.Rules) > 0 || routes.NoButtons || routes.Field != access.FieldNeeded {
		f.Routes = routes
	}
	if limits, err := g.sessionLimits(ctx); err != nil {
		return "", err
	} else if limits != config.UsualSessions {
		f.Sessions = &limits
	}
	var sources []store.Source
	if err := g.Store.Read(ctx).Order("slug").Find(&sources).Error; err != nil {
		return "", store.Clear(err)
	}
	for _, row := range sources {
		s, err := decodeBody[config.Source](row.Body)
		if err != nil {
			return "", err
		}
		f.Sources = append(f.Sources, s)
	}
	templates, err := g.Templates(ctx)
	if err != nil {
		return "", err
	}
	for _, t := range templates.Items {
		if !t.Shipped {
			f.Templates = append(f.Templates, t)
		}
	}
	var providers []store.Provider
	if err := g.Store.Read(ctx).Order("slug").Find(&providers).Error; err != nil {
		return "", store.Clear(err)
	}
	for _, row := range providers {
		p, err := decodeBody[config.Provider](row.Body)
		if err != nil {
			return "", err
		}
		f.Providers = append(f.Providers, p)
	}
	var apps []store.Application
	if err := g.Store.Read(ctx).Order("slug").Find(&apps).Error; err != nil {
		return "", store.Clear(err)
	}
	for _, row := range apps {
		a, err := decodeBody[config.Application](row.Body)
		if err != nil {
			return "", err
		}
		f.Applications = append(f.Applications, a)
	}
	doc, err := json.Marshal(f)
	if err != nil {
		return "", err
	}
	var ordered yaml.MapSlice
	if err := yaml.UnmarshalWithOptions(doc, &ordered, yaml.UseOrderedMap()); err != nil {
		return "", err
	}
	out, err := yaml.MarshalWithOptions(terse(ordered), yaml.UseLiteralStyleIfMultiline(true), yaml.IndentSequence(true))
	if err != nil {
		return "", err
	}
	return "# Inner Gate configuration: `innergate config load FILE` creates and updates what stands here.\n" + string(out), nil
}

// terse leaves out what is the default anyway: nothing, false, and an endpoint's service, which its list tells.
func terse(v any) any {
	switch v := v.(type) {
	case yaml.MapSlice:
		out := yaml.MapSlice{}
		for _, item := range v {
			item.Value = terse(item.Value)
			if item.Value == nil || item.Value == false || item.Value == "" || item.Key == "service" {
				continue
			}
			out = append(out, item)
		}
		return out
	case []any:
		for i := range v {
			v[i] = terse(v[i])
		}
	}
	return v
}

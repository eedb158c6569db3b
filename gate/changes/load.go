package changes

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/alike"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/configuration"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/store"
)

// plan is what a change of the configuration would do, before it is done.
type plan struct {
	steps     []files.Step
	unchanged int
	secrets   []readySecret
	fromFiles bool              // objects that are made come from files, and may be removed by later ones
	ids       map[string]string // by kind and short name: the identifiers of what is brought back
}

// LoadConfig creates and updates what the files describe, all or nothing. Loading twice changes nothing the second
// time. What the files do not mention stays, unless files once made it and it is asked to remove what is absent.
func (g *Room) LoadConfig(ctx context.Context, who ground.Actor, in api.LoadConfig) (*api.ConfigResult, error) {
	if err := g.staged(&in); err != nil {
		return nil, err
	}
	set := files.Read(in.Files)
	in.Files = nil // a large file's text is not held while it is loaded
	if len(set.Problems) > 0 {
		return nil, ground.Invalid(set.Problems)
	}
	who.Remark = words.FirstOf(in.Remark, who.Remark)
	out, err := g.change(ctx, who, in.Preview, func(at *Room, tx *gorm.DB) (*plan, error) { return at.planFiles(ctx, tx, who, set, in) })
	if err == nil && !in.Preview && in.Staged != "" {
		_ = os.Remove(g.stagedFile(in.Staged))
	}
	return out, err
}

// change makes a plan and carries it out, or only tells what it would do: then it is carried out aside, where nobody sees it.
// Planning waits for nobody and nobody for it. A small plan is one transaction; a large one is written in parts.
func (g *Room) change(
	ctx context.Context,
	who ground.Actor,
	preview bool,
	make func(at *Room, tx *gorm.DB) (*plan, error),
) (*api.ConfigResult, error) {
	p, generation, err := g.planned(ctx, make)
	if err != nil {
		return nil, err
	}
	if preview {
		return g.aside(ctx, func(aside *Room) (*api.ConfigResult, error) {
			who.IDs = p.ids
			if err := aside.Store.Write(ctx, func(tx *gorm.DB) error { return aside.carryOut(ctx, tx, who, p) }); err != nil {
				return nil, err
			}
			return g.result(ctx, aside, p)
		})
	}
	if len(p.steps) > together {
		if err := g.inParts(ctx, who, p); err != nil {
			return nil, err
		}
		return g.result(ctx, nil, p)
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		now, err := store.GenerationIn(tx)
		if err != nil {
			return err
		}
		if now != generation { // something was changed since
			if p, err = make(g, tx); err != nil {
				return err
			}
		}
		who.IDs = p.ids
		return g.carryOut(ctx, tx, who, p)
	}); err != nil {
		return nil, err
	}
	return g.result(ctx, nil, p)
}

// planned makes a plan outside of any transaction, and tells of which generation of the configuration it is.
func (g *Room) planned(ctx context.Context, make func(at *Room, tx *gorm.DB) (*plan, error)) (*plan, string, error) {
	generation, err := g.Store.Generation(ctx)
	if err != nil {
		return nil, "", err
	}
	db, done := g.Store.Long(ctx)
	defer done()
	p, err := make(g, db)
	return p, generation, err
}

func (g *Room) planFiles(ctx context.Context, tx *gorm.DB, who ground.Actor, set *files.Set, in api.LoadConfig) (*plan, error) {
	h, err := g.heldObjects(tx)
	if err != nil {
		return nil, err
	}
	if problems := h.unknownNames(set); len(problems) > 0 {
		return nil, ground.Invalid(problems)
	}
	made := map[string]bool{}
	if in.RemoveAbsent {
		var rows []store.FromFile
		if err := tx.Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			made[r.Kind+" "+r.Slug] = true
		}
	}
	p := &plan{fromFiles: true}
	p.steps, p.unchanged = files.Compare(h, set.Objects, func(o files.Object) bool { return made[o.Key()] })
	p.secrets, err = g.readySecrets(ctx, tx, who, set, in.Values)
	return p, err
}

// unknownNames finds what objects in files name that is neither there nor in the files, with the nearest name that is.
func (h held) unknownNames(set *files.Set) config.Problems {
	var problems config.Problems
	known := map[string][]string{}
	for _, kind := range []string{files.Provider, files.Group, files.RuleSet, files.Application} {
		for slug := range h[kind] {
			known[kind] = append(known[kind], slug)
		}
	}
	for _, o := range set.Objects {
		known[o.Kind] = append(known[o.Kind], o.Slug)
	}
	sets := map[string]map[string]bool{}
	for kind, list := range known {
		sets[kind] = make(map[string]bool, len(list))
		for _, slug := range list {
			sets[kind][slug] = true
		}
	}
	for _, o := range set.Objects {
		for _, n := range namedBy(&o) {
			if sets[n.kind][n.slug] {
				continue
			}
			message := fmt.Sprintf("there is no %s %q, neither here nor in the files", n.kind, n.slug)
			if near := alike.Nearest(n.slug, known[n.kind]); near != "" {
				message += fmt.Sprintf("; did you mean %q?", near)
			}
			problems = append(problems, config.Problem{File: o.At.File, Line: o.At.Line, Field: o.Key() + "." + n.field, Message: message})
		}
	}
	return problems
}

type named struct{ kind, slug, field string }

// namedBy lists what applications, assignments and rules for the console name. What others name is looked at when they
// are written.
func namedBy(o *files.Object) []named {
	var out []named
	switch o.Kind {
	case files.Application:
		if a, err := files.Value[config.Application](o); err == nil {
			for _, slug := range a.Providers {
				out = append(out, named{files.Provider, slug, "providers"})
			}
			for _, slug := range configuration.GroupsOf(a.Access.Rules) {
				out = append(out, named{files.Group, slug, "access.rules"})
			}
			for _, slug := range a.Mapping.Uses() {
				out = append(out, named{files.RuleSet, slug, "mapping"})
			}
		}
	case files.Provider:
		if p, err := files.Value[config.Provider](o); err == nil {
			for _, slug := range p.Mapping.Uses() {
				out = append(out, named{files.RuleSet, slug, "mapping"})
			}
			for _, one := range p.Grants {
				for _, slug := range one.Groups {
					out = append(out, named{files.Group, slug, "grants"})
				}
			}
		}
	case files.Assignment:
		if a, err := files.Value[config.GroupAssignment](o); err == nil {
			out = append(out, named{files.Application, a.Application, "application"}, named{files.Group, a.Group, "group"})
		}
	}
	return out
}

// mayAll refuses steps that are for owners to everybody else.
func mayAll(who ground.Actor, steps []files.Step) error {
	for i := range steps {
		s := &steps[i]
		if s.Kind == files.Setting && specOf(s.Slug).owner && !ground.Allows(who.Role, ground.RoleOwner) {
			return ground.Problem(
				http.StatusForbidden,
				"role",
				"Not allowed",
				fmt.Sprintf(
					"Changing %s (%s) needs the role owner; yours is %s. Nothing was changed.", specOf(s.Slug).words,
					s.Slug, who.Role,
				),
				"Take it out of the file, or ask an owner.",
			)
		}
	}
	return nil
}

// carryOut takes all steps of a plan, in one transaction.
func (g *Room) carryOut(ctx context.Context, tx *gorm.DB, who ground.Actor, p *plan) error {
	if err := mayAll(who, p.steps); err != nil {
		return err
	}
	for i := range p.steps {
		s := &p.steps[i]
		if err := g.carry(tx, who, s); err != nil {
			return located(err, s)
		}
		if s.Action == files.Create && p.fromFiles {
			if err := ground.NoteFromFile(tx, s.Kind, s.Slug, g.Now().UTC()); err != nil {
				return err
			}
		}
		// A setting is always there; one that a file changed may be taken back by a later one.
		if s.Kind == files.Setting && s.Action == files.Update && p.fromFiles && s.Before == specOf(s.Slug).usual {
			if err := ground.NoteFromFile(tx, s.Kind, s.Slug, g.Now().UTC()); err != nil {
				return err
			}
		}
	}
	for i := range p.secrets {
		if err := g.keepReady(tx, who, &p.secrets[i]); err != nil {
			return err
		}
	}
	return nil
}

// located says where in the files the object stands that could not be written.
func located(err error, s *files.Step) error {
	var p *api.Problem
	if !errors.As(err, &p) {
		return fmt.Errorf("%s: %w", s.Key(), err)
	}
	c := *p
	c.Detail = words.Capitalise(s.Kind) + " " + s.Slug + ": " + c.Detail
	if s.At != (files.Place{}) {
		c.Detail = s.At.String() + ": " + c.Detail
	}
	return &c
}

// carry takes one step.
func (g *Room) carry(tx *gorm.DB, who ground.Actor, s *files.Step) error {
	if s.Action == files.Remove {
		return g.carryAway(tx, who, s)
	}
	slug, now := "", g.Now().UTC()
	if s.Action == files.Update {
		slug = s.Slug
	}
	switch s.Kind {
	case files.Group:
		return written(&s.Object, func(v config.Group) error { return g.persons.WriteGroup(tx, who, slug, v) })
	case files.RuleSet:
		return written(&s.Object, func(v config.RuleSet) error { return g.configuration.WriteRuleSet(tx, who, slug, v, 0) })
	case files.Source:
		return written(&s.Object, func(v config.Source) error { return g.sources.WriteSource(tx, who, slug, v) })
	case files.Template:
		return written(&s.Object, func(v config.Template) error { return g.sources.WriteTemplate(tx, who, slug, v) })
	case files.Provider:
		return written(&s.Object, func(v config.Provider) error { return g.configuration.WriteProvider(tx, now, who, slug, v, 0) })
	case files.Application:
		return written(&s.Object, func(v config.Application) error { return g.configuration.WriteApplication(tx, now, who, slug, v, 0) })
	case files.Assignment:
		return written(&s.Object, func(v config.GroupAssignment) error {
			appID, appName, groupID, groupName, err := assigned(tx, v)
			if err != nil {
				return err
			}
			return g.persons.WriteAssignment(
				tx,
				who,
				appID,
				appName,
				api.Assignment{Kind: "group"},
				groupID,
				groupName,
				ground.MustJSON(words.List(v.Roles)),
				now,
			)
		})
	case files.Setting:
		return g.carrySetting(tx, who, s)
	}
	return fmt.Errorf("%q is no kind of object", s.Kind)
}

func written[T any](o *files.Object, write func(T) error) error {
	v, err := files.Value[T](o)
	if err != nil {
		return err
	}
	return write(v)
}

func assigned(tx *gorm.DB, v config.GroupAssignment) (appID, appName, groupID, groupName string, err error) {
	var app store.Application
	if err := tx.Where("slug = ?", v.Application).Take(&app).Error; err != nil {
		return "", "", "", "", ground.Missing(err, "application", v.Application)
	}
	groupID, groupName, err = persons.Assignee(tx, api.Assignment{Kind: "group", Who: v.Group})
	return app.ID, app.Name, groupID, groupName, err
}

func (g *Room) carryAway(tx *gorm.DB, who ground.Actor, s *files.Step) error {
	switch s.Kind {
	case files.Group:
		return g.persons.RemoveGroup(tx, who, s.Slug)
	case files.RuleSet:
		return g.configuration.RemoveRuleSet(tx, who, s.Slug)
	case files.Source:
		return g.sources.RemoveSource(tx, who, s.Slug)
	case files.Template:
		return g.sources.RemoveTemplate(tx, who, s.Slug)
	case files.Provider:
		return g.configuration.RemoveProvider(tx, who, s.Slug)
	case files.Application:
		return g.configuration.RemoveApplication(tx, who, s.Slug)
	case files.Assignment:
		return written(&s.Object, func(v config.GroupAssignment) error {
			appID, appName, groupID, groupName, err := assigned(tx, v)
			if ground.IsNotFound(err) {
				return nil // it went with its application
			}
			if err != nil {
				return err
			}
			return g.persons.RemoveAssignment(tx, who, appID, appName, "group", groupID, groupName, g.Now().UTC())
		})
	case files.Setting:
		if err := ground.ForgetFromFile(tx, s.Kind, s.Slug); err != nil {
			return err
		}
		back := files.Step{Action: files.Update, Object: s.Object, Before: s.Before}
		back.Body = specOf(s.Slug).usual
		return g.carrySetting(tx, who, &back)
	}
	return fmt.Errorf("%q is no kind of object", s.Kind)
}

// carrySetting writes a setting; an empty body puts it back to what it was before anybody set it.
func (g *Room) carrySetting(tx *gorm.DB, who ground.Actor, s *files.Step) error {
	spec := specOf(s.Slug)
	if s.Body == "" {
		return g.StoreSetting(tx, who, s.Slug, spec.words, "", s.Before, "")
	}
	switch s.Slug {
	case files.SettingPeople:
		before, err := ground.DecodeBody[people.Settings](s.Before)
		if err != nil {
			return err
		}
		return written(&s.Object, func(v people.Settings) error { return g.persons.WritePeopleSettings(tx, who, before, v) })
	case files.SettingRoutes:
		before, err := ground.DecodeBody[access.Routes](s.Before)
		if err != nil {
			return err
		}
		return written(&s.Object, func(v access.Routes) error { return g.configuration.WriteRoutes(tx, who, &before, v) })
	case files.SettingConsole:
		before, err := ground.DecodeBody[api.ConsoleAccess](s.Before)
		if err != nil {
			return err
		}
		return written(&s.Object, func(v api.ConsoleAccess) error { return g.console.WriteConsoleAccess(tx, who, before, v) })
	case files.SettingClients:
		before, err := ground.DecodeBody[config.Registration](words.FirstOf(s.Before, "{}"))
		if err != nil {
			return err
		}
		return written(&s.Object, func(v config.Registration) error { return g.grants.WriteRegistration(tx, who, before.On, v.On) })
	case files.SettingMail, files.SettingNotices:
		// What is kept beside the setting stays.
		row, err := store.One[store.Setting](tx, "name = ?", s.Slug)
		if err != nil {
			return err
		}
		value := s.Body
		if row.Value != "" && sameServer(row.Value, s.Body) {
			if err := tx.Raw("SELECT json_patch(?, json_object('sealed', json_extract(?, '$.sealed')))", s.Body,
				row.Value).Scan(&value).Error; err != nil {
				return err
			}
		}
		return g.StoreSetting(tx, who, s.Slug, spec.words, value, s.Before, s.Body)
	}
	return g.StoreSetting(tx, who, s.Slug, spec.words, s.Body, s.Before, s.Body)
}

// result tells what a plan does; with what people would notice, where it was carried out aside.
func (g *Room) result(ctx context.Context, aside *Room, p *plan) (*api.ConfigResult, error) {
	out := &api.ConfigResult{Steps: []api.ConfigStep{}, Unchanged: p.unchanged, Effects: []api.PeopleEffect{}}
	for _, s := range p.steps {
		step := api.ConfigStep{
			Action:  s.Action,
			Kind:    s.Kind,
			Slug:    s.Slug,
			Name:    s.Name,
			File:    s.At.File,
			Line:    s.At.Line,
			Changes: []api.Change{},
		}
		switch s.Action {
		case files.Update:
			step.Changes = ground.BodyChanges(s.Before, s.Body)
		case files.Create:
			if len(p.steps) <= stepsInFull {
				step.Changes = ground.BodyChanges("", s.Body)
			}
		}
		out.Steps = append(out.Steps, step)
	}
	for _, s := range p.secrets {
		if s.changed {
			out.Steps = append(
				out.Steps,
				api.ConfigStep{
					Action:  files.Update,
					Kind:    "secret",
					Slug:    s.ref.For,
					Name:    "the secret of " + s.ref.For,
					File:    s.ref.At.File,
					Line:    s.ref.At.Line,
					Changes: []api.Change{},
				},
			)
		} else {
			out.Unchanged++
		}
	}
	if aside == nil {
		return out, nil
	}
	var err error
	out.Effects, err = g.effects(ctx, aside, p.steps)
	for _, e := range out.Effects {
		out.Words = append(out.Words, e.InWords()...)
	}
	return out, err
}

// stepsInFull is up to how many steps those that make something tell everything about it.
const stepsInFull = 200

// aside runs f on a gate of its own, in which the configuration can be changed without anybody noticing.
func (g *Room) aside(ctx context.Context, f func(*Room) (*api.ConfigResult, error)) (*api.ConfigResult, error) {
	var out *api.ConfigResult
	err := g.Store.Aside(
		ctx,
		[]string{
			"applications",
			"uses",
			"providers",
			"groups",
			"rule_sets",
			"sources",
			"templates",
			"settings",
			"assignments",
			"trusted_certificates",
			"partner_watches",
			"secrets",
			"from_files",
			"administrators",
			"api_tokens",
		},
		// What goes with an object that is deleted is not looked at: these are empty, so that nothing is written that others use.
		[]string{"revisions", "journal_entries", "leftovers", "grants", "device_codes", "consents", "guard_sessions", "guard_tickets",
			"seens"},
		func(s *store.Store) error {
			aside, err := g.Shadow(s)
			if err != nil {
				return err
			}
			out, err = f(aside)
			return err
		},
	)
	return out, err
}

// sameServer says whether a secret that is kept beside a setting still goes to where it was given for.
func sameServer(held, fresh string) bool {
	type place struct{ Server, Encryption, Webhook string }
	a, err := ground.DecodeBody[place](held)
	if err != nil {
		return false
	}
	b, err := ground.DecodeBody[place](fresh)
	const usual = "starttls"
	a.Encryption, b.Encryption = words.FirstOf(a.Encryption, usual), words.FirstOf(b.Encryption, usual)
	return err == nil && a == b
}
